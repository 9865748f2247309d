package wicketway

import (
	"fmt"
	"net/http"
	"reflect"
	"strings"
	"sync"

	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// Info names an API.
type Info struct {
	Title   string
	Version string // of the description, such as 2.4.0; not one of the versions served
}

// Build compiles a description. It returns an error that lists every mistake in
// it (see [Mistakes]), each with file and line; the API is nil then. It can be
// called again with the same parts, and concurrently.
func Build(info Info, parts ...Part) (*API, error) {
	at := here(0)
	b := newBuilder(at, parts)
	if info.Title == "" {
		b.mistake(at, "Info: the API needs a Title")
	}
	if info.Version == "" {
		b.mistake(at, "Info: the API needs a Version, such as 1.0.0")
	}
	b.read(group{at: at, parts: parts}, route.Template{}, nil)
	if len(b.routes) == 0 && len(b.mistakes) == 0 {
		b.mistake(at, "the API has no routes")
	}
	a := &API{info: info, codes: b.codes}
	b.describeProblems(a)
	for _, r := range b.routes {
		b.plan(r, false)
	}
	b.enter()
	b.name()
	b.checkSettings()
	b.checkFacts()
	b.compile(a)
	if len(b.mistakes) > 0 {
		return nil, b.mistakes.sorted()
	}
	return a, nil
}

// A builder reads parts into routes that are plain data, checks them as a whole, and then
// compiles them. It collects what is wrong with them on the way.
type builder struct {
	at        place
	routes    []*resolved
	templates []route.Template // of the routes
	lists     []*list
	chained   []*chained
	fallbacks []target
	table     table.Builder
	schemas   check.Set
	inputs    map[inputKey]*bind.Plan
	outputs   map[outputKey]*answer.Plan
	codes     map[string]*problem.Kind
	files     files
	mistakes  Mistakes
	wrong     map[place]bool // where there is one
}

func newBuilder(at place, parts []Part) *builder {
	b := &builder{
		at:      at,
		codes:   map[string]*problem.Kind{},
		inputs:  map[inputKey]*bind.Plan{},
		outputs: map[outputKey]*answer.Plan{},
		files:   filesOf(at, parts),
		wrong:   map[place]bool{},
	}
	for _, k := range append(problem.BuiltIn(), ErrScopeMissing, ErrPreconditionFailed) {
		b.codes[k.Code()] = k
	}
	return b
}

// describeProblems adds the route that describes kinds of problem, unless their types lead
// elsewhere.
func (b *builder) describeProblems(a *API) {
	root := b.lists[0]
	if root.terms.base != ownBase {
		return
	}
	l := &list{outer: root, at: root.at, terms: root.terms}
	l.terms.guard, l.terms.public, l.terms.scopes, l.terms.version = nil, true, nil, ""
	l.terms.summary = "A kind of problem"
	b.route(&routePart{
		at:    root.at,
		what:  handlerPart,
		line:  "GET " + ownBase + "{code}",
		own:   true,
		serve: func(*target) endpoint { return problemPages{a} },
	}, route.Template{}, l)
}

// plan compiles how a route's input is read and its output is sent.
func (b *builder) plan(r *resolved, unparsed bool) {
	t, p := r.terms(), r.part
	mistake := func(format string, args ...any) {
		b.mistake(r.at, "%s: %s", strings.TrimSpace(r.line()), fmt.Sprintf(format, args...))
	}
	if p.missing != "" {
		mistake("the %s is nil", p.missing)
	}
	if p.what != typedPart {
		return
	}
	var lenient check.Leniency
	if t.unknown {
		lenient |= check.UnknownMembers
	}
	if t.readOnly {
		lenient |= check.ReadOnlyMembers
	}
	in := inputKey{p.in, strings.Join(r.names, ","), r.method, t.limits.Body, t.limits.Faults, t.unknown, t.readOnly}
	if r.input = b.inputs[in]; r.input == nil {
		before := len(b.mistakes)
		r.input = bind.Compile(p.in, bind.Config{
			Method:     r.method,
			Parameters: r.names,
			Unparsed:   unparsed,
			Limit:      t.limits.Body,
			Faults:     t.limits.Faults,
			Lenient:    lenient,
			None:       noneType,
			Files:      fileType,
			Schemas:    &b.schemas,
			Mistake:    mistake,
		})
		if len(b.mistakes) == before { // else every route says what is wrong with it
			b.inputs[in] = r.input
		}
	}
	out := outputKey{p.out.value, t.answers, t.envelope, t.conditional, t.development}
	if r.output = b.outputs[out]; r.output == nil {
		before := len(b.mistakes)
		r.output = answer.Compile(p.out.value, answer.Config{
			Status:      t.answers,
			Envelope:    t.envelope,
			Conditional: t.conditional,
			Development: t.development,
			Schemas:     &b.schemas,
			Mistake:     mistake,
		})
		if len(b.mistakes) == before {
			b.outputs[out] = r.output
		}
	}
	if p.out.page && r.input.QueryField(cursorType) == "" {
		mistake("the output is a page, but no query field of the input is a wicketway.Cursor")
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
	of                       reflect.Type
	status                   int
	envelope                 string
	conditional, development bool
}

// enter puts the routes into the table, which finds those that clash.
func (b *builder) enter() {
	for i, r := range b.routes {
		_, clashes := b.table.Add(table.Route{
			Method:   r.method,
			Template: b.templates[i],
			Slash:    table.Slash(r.terms().slashes),
			Files:    r.part.what == filesPart,
		})
		for _, c := range clashes {
			other := b.routes[c.Earlier]
			if r.part.own {
				r, other = other, r
			}
			b.mistake(r.at, "%s: matches the same paths as %s at %s%s", r.line(), other.line(), other.at, other.purpose())
		}
	}
}

// purpose says what a route of our own is for.
func (r *resolved) purpose() string {
	if r.part.own {
		return ", which describes the kinds of problem; ProblemBase takes it away"
	}
	return ""
}

// compile makes what serves: it is the only part of Build that calls what users gave.
func (b *builder) compile(a *API) {
	for _, l := range b.chained {
		if l.handler = l.Wrap(next(l.depth + 1)); isNil(l.handler) {
			b.mistake(l.at, "Chain: the middleware %s gave no handler: return one that calls next", l.Name)
		}
	}
	if len(b.mistakes) > 0 {
		return
	}
	made := map[*list][2]*steps{} // with the guard, and without it
	stepsOf := func(l *list, guarded bool) *steps {
		both := made[l]
		at := 0
		if guarded {
			at = 1
		}
		if both[at] == nil {
			both[at] = l.terms.makeSteps(guarded)
			made[l] = both
		}
		return both[at]
	}
	a.targets, a.named = make([]target, len(b.routes)), map[string]*target{}
	for i, r := range b.routes {
		t := &a.targets[i]
		*t = target{resolved: *r, steps: stepsOf(r.list, r.guarded())}
		t.end = r.part.serve(t)
		if t.name != "" {
			a.named[t.key()] = t
		}
	}
	a.fallbacks = b.fallbacks
	for i := range a.fallbacks {
		a.fallbacks[i].steps = stepsOf(a.fallbacks[i].list, false)
	}
	a.table = b.table.Table()
	a.facts = sync.OnceValue(a.makeFacts)
	a.catalogue = sync.OnceValue(a.makeCatalogue)
}

// name gives the routes their names: those that were declared, or else their functions'.
// Two routes of one function have none, unless they are given one.
func (b *builder) name() {
	given := map[string]*resolved{}
	functions := map[string][]*resolved{}
	for _, r := range b.routes {
		t := r.terms()
		if t.name == "" {
			if f := functionName(r.part.function); f != "" {
				functions[t.version+"/"+f] = append(functions[t.version+"/"+f], r)
			}
			continue
		}
		r.name = t.name
		if other := given[r.key()]; other != nil {
			b.mistake(r.at, "Name: %q is the name of %s at %s already", r.name, other.line(), other.at)
		}
		given[r.key()] = r
	}
	for key, of := range functions {
		if len(of) == 1 && given[key] == nil {
			of[0].name = functionName(of[0].part.function)
		}
	}
}

var noneType = reflect.TypeFor[None]()

// fileType is the Go type that files of forms are read into.
var fileType = bind.FileType{
	Type: reflect.TypeFor[File](),
	Make: func(f bind.Received) reflect.Value { return reflect.ValueOf(File{f.Name, f.Type, f.Size, f.Content}) },
}

// problemPages is the endpoint that describes kinds of problem.
type problemPages struct{ api *API }

func (p problemPages) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	return s.take(Step{Kind: StepCall}, func() error { return p.api.describeProblem(w, r, s.match.Value(0)) })
}
