package wicketway

import (
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/shape"
	"github.com/wicketway/wicketway/internal/writer"
)

// plan compiles how a route's input is read and its output is sent.
func (b *builder) plan(r *resolved, unparsed bool) {
	if r.part.missing != "" {
		b.wrongWith(r)("the %s is nil", r.part.missing)
	}
	if r.part.handler != nil {
		askWrong(b, r.at, strings.TrimSpace(r.line()), r.part.handler)
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
	if r.pages() && r.input.QueryField(cursorType) == "" {
		b.wrongWith(r)("the output is a page, but no query field of the input is a wicketway.Cursor")
	}
}

// planDescribed plans what Describes says of a handler as if a function were served.
func (b *builder) planDescribed(r *resolved, unparsed bool) {
	of := r.terms().describes
	if of == nil {
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
	return errors.Join(check.OtherSignature(tag, tagged, text), check.OtherSignature(modified, dated, reflect.TypeFor[func() time.Time]()))
}

// wrongWith reports mistakes about a route.
func (b *builder) wrongWith(r *resolved) func(format string, args ...any) {
	return func(format string, args ...any) {
		text := fmt.Sprintf(format, args...)
		if r.adapted != nil {
			text = r.adapted.named(text)
		}
		b.broken[r] = true
		r.list.breaks()
		b.mistake(r.at, "%s: %s", strings.TrimSpace(r.line()), text)
	}
}

func (b *builder) planInput(r *resolved, unparsed bool) {
	t := r.terms()
	key := inputKey{r.wireIn(), strings.Join(r.names, ","), r.method, t.limits.Body, t.limits.Faults, t.unknown, t.readOnly}
	if r.input = b.inputs[key]; r.input == nil {
		before := len(b.mistakes)
		r.input = bind.Compile(r.wireIn(), b.binding(r, r.names, unparsed))
		if len(b.mistakes) == before { // else every route says what is wrong with it
			b.inputs[key] = r.input
		}
	}
	if r.adapted != nil && r.adapted.in != nil {
		b.planOwn(r)
	}
}

// binding says how an input of a route is read that has parameters in its path.
func (b *builder) binding(r *resolved, parameters []string, unparsed bool) bind.Config {
	t := r.terms()
	var lenient check.Leniency
	if t.unknown {
		lenient |= check.UnknownMembers
	}
	if t.readOnly {
		lenient |= check.ReadOnlyMembers
	}
	return bind.Config{
		Method:     r.method,
		Parameters: parameters,
		Unparsed:   unparsed,
		Limit:      t.limits.Body,
		Faults:     t.limits.Faults,
		Lenient:    lenient,
		None:       noneType,
		Conditions: conditionalFieldType,
		Files:      fileType,
		Vary:       writer.AddVary,
		Schemas:    &b.schemas,
		Secrets:    b.secrets,
		Mistake:    b.wrongWith(r),
	}
}

func (b *builder) planOutput(r *resolved) {
	t := r.terms()
	adapts, plain := r.adapts()
	key := outputKey{r.wireOut(), adapts, plain, r.part.out.kind, r.status(), t.envelope, t.media, t.mediaParameter(), r.variant(), t.formats,
		t.conditional, t.omitNull, t.development}
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
		Envelope:    t.envelope,
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

// A plan is made once for all routes that read the same in the same way, or send it.
type inputKey struct {
	of                reflect.Type
	parameters        string
	method            string
	limit             int64
	faults            int
	unknown, readOnly bool
}

type outputKey struct {
	of                                  reflect.Type
	adapts                              *shape.Adapter
	plain                               bool
	kind                                outputKind
	status                              int
	envelope, media, parameter, variant string
	formats                             *answer.Choice
	conditional, omitNull, development  bool
}

// status is that of a success, where it is not the usual one.
func (r *resolved) status() int {
	if r.part.out.reply && r.part.out.at != nil {
		return http.StatusCreated
	}
	return r.terms().answers
}

// choice is the one between the formats of the output; nil where there is only JSON.
func (r *resolved) choice() *answer.Choice {
	switch r.part.out.kind {
	case streamOutput:
		return answer.StreamChoice
	case valueOutput:
		return r.terms().formats
	}
	return nil
}

// suffixes are the names of formats that its path may end in.
func (r *resolved) suffixes() []string {
	if r.part.what != typedPart {
		return nil
	}
	return r.choice().Suffixes()
}
