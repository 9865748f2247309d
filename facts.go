package wicketway

import (
	"cmp"
	"maps"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/shape"
)

// makeFacts gives the facts of a route. Its schemas refer to the definitions of docs; without docs there
// are none, which is so for checks.
func (r *resolved) makeFacts(docs *check.Documents) facts.Route {
	t := r.terms()
	f := facts.Route{
		Version:     t.version,
		Chosen:      t.versions.info(),
		Method:      r.method,
		Path:        r.path,
		Name:        r.name,
		Summary:     t.summary,
		Template:    t.template,
		Description: t.description,
		Tags:        t.tags,
		Slashes:     t.slashes.String(),
		Files:       r.part.what == filesPart,
		Handler:     isHandler(r),
		Formats:     r.formatsInfo(),
		Chain:       chainInfo(t.active()),
		Attached:    r.attachedInfo(),
		At:          r.at.Facts(),
		Asked:       -1,
	}
	if r.part.function != nil {
		f.Function = strings.TrimSuffix(r.part.function.Name(), "-fm")
	}
	if l := r.lineage; l != nil {
		f.Inherited = &facts.Inheritance{From: l.from, Override: l.own, At: l.at.Facts()}
	}
	f.Unlisted = t.unlisted
	if docs != nil {
		f.Examples = r.exampleFacts()
	}
	f.Own, f.Adapted, f.Problems = r.part.own, r.adapted != nil, t.problemsAs.info(docs)
	f.Languages = t.languages.tagged()
	f.Withdrawn, f.Retirement = r.part.withdrawn, t.retirement.info()
	if r.ties != nil {
		f.Except = r.ties.except
	}
	if r.ties != nil && r.ties.successor != nil {
		f.Retirement.Links = append(f.Retirement.Links, linkTo(r.ties.successor.String(), "successor-version"))
	}
	if r.guarded() {
		s := t.guard.Scheme()
		f.Guard = guardInfo(s, t.guardAt.Facts())
		f.Guard.Name = t.guardName
		f.Guard.After = len(t.activeIn(t.chain[:t.after]))
		if r.method == anyMethod {
			f.Open = t.open
		}
		f.Scopes, f.AnyScope, f.Rules = t.scopes, t.anyScope, len(t.rules)
	}
	f.Inputs, f.Bodies = r.asDescribed().inputFacts(docs)
	if r.input != nil {
		f.OwnRules = r.input.HasOwnRules() || r.adapted != nil && r.adapted.in != nil // whose functions may refuse a value
		for _, d := range r.input.Deprecated() {
			f.Deprecated = append(f.Deprecated, facts.Deprecated{In: d.Source, Name: d.Name, Since: d.Since})
		}
	}
	f.Answers = r.asDescribed().answerInfo(docs)
	if h := t.house; sendsText(r) && h != nil && (h.make == nil || r.part.out.kind != streamOutput) {
		f.Envelope = t.house.place()
	}
	for _, one := range r.raises() {
		f.Raises = append(f.Raises, facts.Problem{
			Status: one.kind.Status(),
			Code:   one.kind.Code(),
			Title:  one.kind.Title(),
			By:     one.by,
		})
	}
	slices.SortStableFunc(f.Raises, func(x, y facts.Problem) int {
		return cmp.Or(cmp.Compare(x.Status, y.Status), cmp.Compare(x.Code, y.Code))
	})
	f.Raises = slices.Compact(f.Raises) // several can be told as one
	return f
}

// asDescribed is the route with what it says of itself: a handler by Describes.
func (r *resolved) asDescribed() *resolved {
	if r.says != nil {
		return r.says
	}
	return r
}

// inputFacts are what a route reads.
func (r *resolved) inputFacts(docs *check.Documents) (inputs []facts.Input, bodies []facts.Body) {
	in := r.input
	if in == nil {
		for _, name := range r.names { // a handler reads them, or can
			inputs = append(inputs, facts.Input{In: "path", Name: name, Type: "string", Required: true,
				Schema: jsontext.Value(`{"type":"string"}`)})
		}
		return inputs, nil
	}
	if r.ties != nil && r.ties.conditional != nil {
		inputs = append(inputs, r.ties.conditional.inputs()...)
	}
	for _, i := range in.Inputs() {
		inputs = append(inputs, facts.Input{
			In:       i.Source,
			Name:     i.Name,
			Type:     i.Type,
			Required: i.Required,
			Rule:     i.Rule,
			Note:     i.Note,
			Schema:   i.Schema,
		})
	}
	media, of, required := in.Body()
	for _, m := range media {
		body := facts.Body{Media: m, Required: required, Stream: in.StreamsBody()}
		if docs != nil && of != nil {
			body.Schema = docs.Schema(of, check.Direction{Unknown: in.Unknown()})
		} else if docs != nil {
			body.Schema = in.FormSchema()
		}
		bodies = append(bodies, body)
	}
	return inputs, bodies
}

// addTypes takes the types of a route into the definitions.
func (r *resolved) addTypes(docs *check.Documents) {
	r = r.asDescribed()
	if r.input != nil {
		_, of, _ := r.input.Body()
		docs.Add(of, check.Direction{Unknown: r.input.Unknown()})
	}
	if r.output != nil {
		docs.Add(r.output.Schema, r.output.Direction())
	}
	for _, p := range r.given {
		if p != nil && p.Schema != nil {
			docs.Add(p.Schema, p.Direction())
		}
	}
	if s := r.terms().problemsAs; s != nil {
		docs.Add(s.schema, check.Direction{Sent: true})
	}
}

// oldNames are names for the types of older versions, which were made of others.
func (r *resolved) oldNames(names map[reflect.Type]string) {
	if r.adapted == nil {
		return
	}
	for _, a := range []*shape.Adapter{r.adapted.in, r.adapted.out} {
		if a == nil {
			continue
		}
		for _, one := range a.Structs() {
			if name := check.ReadableName(one.New); name != "" && one.Old.Name() == "" {
				names[one.Old] = name
			}
		}
	}
}

func guardInfo(s exchange.Scheme, at facts.Place) *facts.Guard {
	g := &facts.Guard{
		Name:    s.Name,
		Type:    s.Type,
		Scheme:  s.Scheme,
		Format:  s.Format,
		In:      s.In,
		Field:   s.Field,
		Address: s.Address,
		Flows:   s.Flows,
		Note:    s.Note,
		SignIn:  s.SignIn,
		At:      at,
	}
	for _, one := range s.Any {
		g.Any = append(g.Any, *guardInfo(one, at))
	}
	return g
}

func chainInfo(of []*chained) []facts.Middleware {
	var chain []facts.Middleware
	for _, l := range of {
		chain = append(chain, facts.Middleware{
			Name:        l.Name,
			Does:        l.Does,
			Sets:        facts.FieldNames(l.Sets),
			HidesFlush:  l.HidesFlush,
			FindsClient: l.FindsClient,
			At:          l.at.Facts(),
		})
	}
	return chain
}

// attachedInfo lists the values that hold for a route, nearest first.
func (r *resolved) attachedInfo() (all []facts.Attached) {
	for l := r.list; l != nil; l = l.outer {
		for i := range l.settings {
			s := &l.settings[i]
			said, is := s.said.(attachment)
			if !is || s.undo || overruled(s, l, r) {
				continue
			}
			info := facts.Attached{Type: said.of.String(), At: s.at.Facts()}
			if text, err := json.Marshal(said.value); err == nil {
				info.Value = text
			}
			all = append(all, info)
		}
	}
	return all
}

// settingInfo lists the settings that hold for a route, nearest first.
func (r *resolved) settingInfo() (all []facts.Setting) {
	for l := r.list; l != nil; l = l.outer {
		for i := range l.settings {
			s := &l.settings[i]
			if overruled(s, l, r) || !s.acts(r) {
				continue
			}
			of := facts.Setting{
				Name:      s.name,
				At:        s.at.Facts(),
				List:      l.kind.String(),
				ListAt:    l.at.Facts(),
				Inherited: l.inherited,
			}
			switch {
			case l.ofRoute:
				of.List = "route"
			case l.kind == versionGroup:
				of.Under = l.version
			case l.kind == atGroup:
				of.Under = cmp.Or(l.prefix, "/")
			}
			all = append(all, of)
		}
	}
	return all
}

// formatsInfo describes the choice between formats.
func (r *resolved) formatsInfo() *facts.Formats {
	if r.output == nil || r.output.Choice == nil {
		return nil
	}
	c := r.output.Choice
	f := &facts.Formats{Suffixes: c.Suffixes()}
	for _, o := range c.Offers {
		f.Offers = append(f.Offers, facts.Format{Name: o.Name, Media: o.Media})
	}
	if c.Suffix {
		f.By = append(f.By, facts.Way(format.BySuffix()))
	}
	if c.Field != "" {
		f.By = append(f.By, facts.Way(format.ByField(c.Field)))
	}
	if c.Query != "" {
		f.By = append(f.By, facts.Way(format.ByQuery(c.Query)))
	}
	if c.Accept {
		f.By = append(f.By, facts.Way(format.ByAccept()))
	}
	return f
}

// answerInfo are the answers that the output type shows, and those that Gives declares.
func (r *resolved) answerInfo(docs *check.Documents) []facts.Answer {
	all := r.shownAnswers(docs)
	for i, g := range r.terms().gives {
		switch p := r.given[i]; {
		case p == nil && g.out.info != nil:
			for _, one := range g.out.info()[:1] {
				one.Status = g.status
				all = append(all, one)
			}
		case p == nil: // a stream
			all = append(all, facts.Answer{Status: g.status, Type: shape.TypeName(g.out.value), Of: g.out.value, Stream: true,
				List: true})
		case p.Type == nil:
			all = append(all, facts.Answer{Status: g.status})
		default:
			one := facts.Answer{Status: g.status, Media: p.Media, Type: shape.TypeName(p.Type), Of: p.Type,
				List: p.Schema != nil && p.Schema.IsList()}
			if docs != nil && p.Schema != nil {
				one.Schema = r.terms().house.around(docs.Schema(p.Schema, p.Direction()))
			}
			all = append(all, one)
		}
	}
	return all
}

func (r *resolved) shownAnswers(docs *check.Documents) (all []facts.Answer) {
	switch {
	case r.part.what == filesPart:
		return r.fileAnswers()
	case r.output == nil: // a handler decides itself
		return nil
	case r.part.out.info != nil:
		all = r.part.out.info()
		if status := r.terms().answers; status != 0 && status != http.StatusOK { // then there are no parts of it
			all = all[:1]
			all[0].Status = status
		}
		for i := range all {
			if media := r.terms().media; media != "" && all[i].Media != "" {
				all[i].Media = media
			}
			all[i].Fields = append(all[i].Fields, r.answerFields()...)
			all[i].Open = r.part.out.reply
		}
		return all
	}
	a := facts.Answer{Status: r.output.Status, Fields: r.answerFields(), Open: r.part.out.reply || r.part.out.open}
	if r.output.Type == nil {
		return []facts.Answer{a}
	}
	a.Type, a.Of, a.Media = shape.TypeName(r.output.Type), r.output.Type, r.output.Media
	if by, _ := r.adapts(); by != nil && by.IsDerived() {
		a.Type = "old " + shape.TypeName(by.New) // it has no name of its own
	}
	var one jsontext.Value // the schema of the value, or of an item
	if r.output.Schema != nil {
		a.List = r.pages() || r.output.Schema.IsList()
		if docs != nil {
			one = docs.Schema(r.output.Schema, r.output.Direction())
		}
	}
	if r.part.out.kind == streamOutput {
		for i, o := range r.output.Choice.Offers {
			item := a
			item.Media, item.Schema, item.List = o.Media, one, true
			if item.Stream = i != int(answer.StreamArray); !item.Stream && one != nil {
				item.Schema = schemaText(map[string]any{"type": "array", "items": one})
				if h := r.terms().house; h != nil && h.make == nil {
					item.Schema = h.around(item.Schema)
				}
			}
			all = append(all, item)
		}
		return all
	}
	if one != nil {
		a.Schema = r.terms().house.around(one)
	}
	all = append(all, a)
	if c := r.output.Choice; c != nil {
		all = nil
		for _, o := range c.Offers {
			one := a
			if o.Write != nil {
				one.Media, one.Schema = o.Media, nil
			}
			all = append(all, one)
		}
	}
	if r.output.Conditional && r.method == http.MethodGet {
		all = append(all, facts.Answer{Status: http.StatusNotModified, Fields: slices.Clone(a.Fields)})
	}
	return all
}

// fileAnswers are those of files, and of the listings of folders where there are some.
func (r *resolved) fileAnswers() []facts.Answer {
	all := contentAnswers()
	if !r.terms().listing {
		return all
	}
	one := facts.Answer{Status: http.StatusOK, Media: "application/json", Type: "[]wicketway.listed", List: true}
	if t, err := new(check.Set).Type(reflect.TypeFor[[]listed]()); err == nil {
		one.Schema = t.Inline(check.Direction{Sent: true})
	}
	return append(all, one)
}

// A listed is an entry of a folder.
type listed struct {
	Name     string    `json:"name"`
	Folder   bool      `json:"folder,omitzero"`
	Size     int64     `json:"size,omitzero"`
	Modified time.Time `json:"modified,omitzero"`
}

// answerFields are the header fields of a success.
func (r *resolved) answerFields() (fields []string) {
	if r.pages() {
		fields = append(fields, "Link")
	}
	if r.part.out.at != nil {
		fields = append(fields, "Location")
	}
	if r.output.Conditional && r.method == http.MethodGet || r.ties != nil && r.ties.tagged {
		fields = append(fields, "Etag")
	}
	byField := r.output.Choice != nil && r.output.Choice.Field != ""
	if r.terms().versions.variesBy() != "" || len(r.input.Varies()) > 0 || byField {
		fields = append(fields, "Vary")
	}
	if ends := r.terms().retirement; ends != noRetirement {
		h := http.Header{}
		ends.announce(http.StatusOK, h)
		if r.ties != nil && r.ties.successor != nil {
			h.Set("Link", "")
		}
		fields = append(fields, slices.Sorted(maps.Keys(h))...)
		slices.Sort(fields)
		fields = slices.Compact(fields)
	}
	return fields
}
