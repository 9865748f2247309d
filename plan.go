package wicketway

import (
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/shape"
	"github.com/wicketway/wicketway/problem"
)

// plan compiles how a route's input is read and its output is sent.
func (b *builder) plan(r *resolved, unparsed bool) {
	if r.part.missing != "" {
		b.wrongWith(r)("the %s is nil", r.part.missing)
	}
	if r.part.handler != nil {
		for _, err := range wrongWith(r.part.handler) {
			b.mistake(r.at, "%s: %v", strings.TrimSpace(r.line()), err)
		}
	}
	if r.part.readable != nil && r.part.missing == "" {
		if err := r.part.readable(); err != nil {
			b.wrongWith(r)("the folder of its files cannot be read: %v", err)
		}
	}
	if r.part.what != typedPart {
		b.planDescribed(r, unparsed)
		return
	}
	b.adapt(r)
	b.planInput(r, unparsed)
	b.planOutput(r)
	if p, is := reflect.Zero(r.part.out.pageType()).Interface().(pager); is && r.pages() &&
		p.parameter() == pageNumberType && r.input.QueryField(pageNumberType) == "" {
		b.wrongWith(r)("the output is a numbered page, but no query field of the input is a wicketway.PageNumber")
	}
}

func (b *builder) planInput(r *resolved, unparsed bool) {
	t := r.terms()
	key := inputKey{
		r.wireIn(),
		strings.Join(r.names, ","),
		r.method,
		t.limits.Body,
		t.limits.Item,
		t.limits.Faults,
		t.unknown,
		t.readOnly,
		t.pageSizes,
	}
	if r.input = b.inputs[key]; r.input == nil {
		before := len(b.mistakes)
		r.input = bind.Compile(r.wireIn(), b.binding(r, r.names, unparsed))
		if len(b.mistakes) == before { // else every route reports mistakes in it
			b.inputs[key] = r.input
		}
	}
	if r.adapted != nil && r.adapted.in != nil {
		b.planOwn(r)
	}
}

func (b *builder) planOutput(r *resolved) {
	t := r.terms()
	adapts, plain := r.adapts()
	key := outputKey{
		r.wireOut(),
		adapts,
		plain,
		r.part.out.kind,
		r.status(),
		t.media,
		t.mediaParameter(),
		r.variant(),
		t.house,
		t.formats,
		t.conditional,
		t.omitNull,
		t.development,
	}
	b.planGiven(r)
	if r.output = b.outputs[key]; r.output != nil {
		return
	}
	before := len(b.mistakes)
	for _, err := range check.Unjoin(wrongMethods(r.part.out)) {
		b.wrongWith(r)("output %v", err)
	}
	r.output = answer.Compile(r.wireOut(), answer.Config{
		Adapt:       r.toOld(),
		Status:      r.status(),
		Choice:      r.choice(),
		Media:       t.media,
		Parameter:   t.mediaParameter(),
		Variant:     r.variant(),
		House:       t.house.plan(),
		Conditional: t.conditional,
		OmitNull:    t.omitNull,
		Development: t.development,
		Schemas:     &b.schemas,
		Encoders:    &b.encoders,
		Mistake:     b.wrongWith(r),
	})
	if len(b.mistakes) == before {
		b.outputs[key] = r.output
	}
}

// planGiven plans the answers that Gives declares, and streams in outputs of interface types.
func (b *builder) planGiven(r *resolved) {
	t := r.terms()
	config := answer.Config{House: t.house.plan(), OmitNull: t.omitNull, Development: t.development, Media: t.media,
		Parameter: t.mediaParameter(), Schemas: &b.schemas, Encoders: &b.encoders, Mistake: b.wrongWith(r)}
	if r.part.out.open {
		streams := config
		streams.Choice = answer.StreamChoice
		r.openStream = answer.Compile(reflect.TypeFor[any](), streams)
	}
	for _, g := range t.gives {
		config.Status = g.status
		config.Mistake = func(format string, args ...any) {
			b.broken[r] = true
			b.mistake(g.at, "Gives: %s", fmt.Sprintf(format, args...))
		}
		if g.out.kind == ownOutput || g.out.kind == streamOutput {
			r.given = append(r.given, nil)
			continue
		}
		r.given = append(r.given, answer.Compile(g.out.value, config))
	}
}

// planDescribed plans what Describes says of a handler as if a function were served.
func (b *builder) planDescribed(r *resolved, unparsed bool) {
	of := r.terms().describes
	if of == nil {
		if r.terms().gives != nil {
			b.planGiven(r)
		}
		return
	}
	part := *r.part
	part.in, part.out = of.in, of.out
	says := *r
	says.part = &part
	b.planInput(&says, unparsed)
	b.planOutput(&says)
	r.says = &says
}

// wrongMethods are those of an output that nobody would ever ask, since they have another signature than
// the one that is looked for.
func wrongMethods(out outputType) error {
	if out.value == nil || out.value.Kind() == reflect.Interface {
		return nil
	}
	t, text := out.value, reflect.TypeFor[func() string]()
	if t.Kind() != reflect.Pointer {
		t = reflect.PointerTo(t)
	}
	if out.kind == streamOutput {
		name, named := t.MethodByName("EventName")
		id, identified := t.MethodByName("EventID")
		return errors.Join(check.OtherSignature(name, named, text), check.OtherSignature(id, identified, text))
	}
	tag, tagged := t.MethodByName("ETag")
	modified, dated := t.MethodByName("LastModified")
	return errors.Join(
		check.OtherSignature(tag, tagged, text),
		check.OtherSignature(modified, dated, reflect.TypeFor[func() time.Time]()),
	)
}

// adapt finds the adapters of a route.
func (b *builder) adapt(r *resolved) {
	from := r.part.adapts
	if from == nil {
		return
	}
	r.adapted = &adapted{plain: from.out.AsList}
	if from.in.IsSame() && from.out.IsSame() {
		b.wrongWith(r)("Adapted adapts nothing, since both its input and its output are Same: write Route")
	}
	wrong := func(what string, a shape.Declared, err error) {
		b.mistake(r.at, "%s: the adapter of its %s, at %s: %v", r.line(), what, b.where(a.At), err)
	}
	var err error
	if r.adapted.in, err = adaptInput(from.in, r.part.in); err != nil {
		wrong("input", from.in, err)
	}
	if r.adapted.out, err = adaptOutput(from.out, &r.part.out); err != nil {
		wrong("output", from.out, err)
	}
}

// planOwn plans how the function's own input is made and held against its rules.
func (b *builder) planOwn(r *resolved) {
	a := r.adapted
	how := b.binding(r, nil, true) // the parameters of the path are the old input's matter
	a.own, a.fresh = bind.Compile(r.part.in, how), map[reflect.Type]*check.Type{}
	for _, of := range a.in.Structs() {
		if !of.HasSources() { // the plan has the defaults of parameters
			a.fresh[of.New], _ = b.schemas.Type(of.New) // and reports mistakes in it
		}
	}
	b.checkMissing(r)
	b.checkFixed(r)
}

// checkFixed holds the values of members that an old input lacks against the rules that they have.
func (b *builder) checkFixed(r *resolved) {
	for _, f := range r.adapted.in.Fixed() {
		for _, fault := range b.schemas.Judge(f.Field, f.Value) {
			b.wrongWith(r)(
				"the adapter of its input, at %s: Constant(%q): the value %s", b.where(r.part.adapts.in.At), shape.Text(f.Path),
				fault.Detail,
			)
		}
	}
}

// checkMissing reports what the function's input must have and an old one says nothing of.
func (b *builder) checkMissing(r *resolved) {
	for _, path := range r.adapted.in.Missing() {
		item := itemAt(r.adapted.in, path, problem.Item{})
		name := item.Name
		if item.Pointer != nil {
			name = *item.Pointer
		}
		if r.adapted.own.Needs(item.In, name) {
			b.mistake(
				r.at,
				"%s: the adapter of its input, at %s, drops %s, which the function needs: use Constant, or give it a default",
				r.line(), b.where(r.part.adapts.in.At), shape.Text(path),
			)
		}
	}
}

// checkShapes reports routes that read the present shape at a path whose GET sends an old one.
func (b *builder) checkShapes() {
	old := map[string]*resolved{}
	for _, r := range b.routes {
		if r.method == http.MethodGet && r.adapted != nil && r.adapted.out != nil {
			old[r.path+"\x00"+r.terms().version] = r
		}
	}
	if len(old) == 0 {
		return
	}
	for _, r := range b.routes {
		get := old[r.path+"\x00"+r.terms().version]
		if get == nil || r.method != http.MethodPut && r.method != http.MethodPatch || r.input == nil ||
			!r.input.ReadsJSON() ||
			r.adapted != nil && r.adapted.in != nil {
			continue
		}
		if r.adapted != nil || r.input.BodyType() == get.part.out.value || b.servesElsewhere(r) {
			b.wrongWith(r)(
				"reads what %s, at %s, does not send: that is an old shape, and this the present one; use Adapted with the same",
				get.line(), b.where(get.at),
			)
		}
	}
}

// servesElsewhere reports whether a route's function serves another version in the present shape.
func (b *builder) servesElsewhere(r *resolved) bool {
	return r.part.function != nil && slices.ContainsFunc(b.routes, func(other *resolved) bool {
		return other != r && other.part.function == r.part.function && other.terms().version != r.terms().version &&
			other.adapted == nil
	})
}

// checkHouses compiles the shapes of successes.
func (b *builder) checkHouses() {
	seen := map[*house]bool{}
	for _, l := range b.lists {
		h := l.terms.house
		if h == nil || h.make == nil || seen[h] {
			continue
		}
		seen[h] = true
		var err error
		if h.schema, err = b.schemas.Type(h.of); err != nil {
			for _, e := range check.Unjoin(err) {
				b.mistake(h.at, "ValueShape: %v", e)
			}
		}
	}
}

// plan is the shape as values are sent in it.
func (h *house) plan() *answer.House {
	if h == nil {
		return nil
	}
	return &answer.House{Member: h.member, Of: h.of, Make: h.make}
}

// checkProblemShapes finds what JSON cannot carry of them.
func (b *builder) checkProblemShapes() {
	seen := map[*problemShape]bool{}
	for _, l := range b.lists {
		s := l.terms.problemsAs
		if s == nil || seen[s] {
			continue
		}
		seen[s] = true
		var err error
		if s.schema, err = b.schemas.Type(s.of); err != nil {
			for _, e := range check.Unjoin(err) {
				b.mistake(s.at, "ProblemShape: %v", e)
			}
		}
	}
}
