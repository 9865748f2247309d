package wicketway

import (
	"bytes"
	"cmp"
	"net/http"
	"slices"
	"strings"
	"sync"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/problem"
)

// ProblemInfo tells of a kind of problem that an API can raise.
type ProblemInfo struct {
	Status  int    `json:"status"`
	Code    string `json:"code"`
	Title   string `json:"title"`
	Type    string `json:"type"` // the URI that stands in a problem
	Meaning string `json:"meaning,omitzero"`
	// Routes can raise it, each as method and path; none where every request can.
	Routes []string `json:"routes,omitempty"`
}

// ownBase is where an API serves the descriptions of its problems itself.
const ownBase = "/problems/"

// ProblemBase says what stands before a kind's code in the type of its problems
// (RFC 9457, 3.1.1): the URI of a page about them, with its last slash. Without
// it that is /problems/, which the API serves itself; an API that another handler
// puts under a prefix needs to say so.
func ProblemBase(uri string) Setting {
	at := here(0)
	return setting{at, "ProblemBase", true, func(b *builder, t *terms) {
		if !strings.HasSuffix(uri, "/") && !strings.HasSuffix(uri, "#") {
			b.mistake(at, "ProblemBase: %q ends neither in a slash nor in #, so no code can follow", uri)
		}
		t.base = uri
	}}
}

func (t *target) problemBase() string { return cmp.Or(t.base, ownBase) }

// everywhere are the kinds that any request can meet.
var everywhere = []*problem.Kind{problem.BadRequest, problem.NotFound, problem.MethodNotAllowed, problem.CallerLeft, problem.NotImplemented,
	problem.Internal, problem.Timeout}

// Raised are the kinds that occurred though no route names them, so that their type
// leads somewhere all the same.
type raised struct {
	mu    sync.Mutex
	kinds map[string]*problem.Kind // by code
}

// mostRaised bounds the kinds that are remembered: a program could make them anew for
// every request.
const mostRaised = 256

// raise remembers a kind that was not declared.
func (a *API) raise(k *problem.Kind) {
	if a.codes[k.Code()] != nil {
		return
	}
	a.raised.mu.Lock()
	defer a.raised.mu.Unlock()
	if a.raised.kinds == nil {
		a.raised.kinds = map[string]*problem.Kind{}
	}
	if len(a.raised.kinds) < mostRaised {
		a.raised.kinds[k.Code()] = k
	}
}

// problemInfo finds what is known of a code.
func (a *API) problemInfo(code string) (ProblemInfo, bool) {
	if p, ok := a.catalogue()[code]; ok {
		return p, true
	}
	k := a.codes[code]
	a.raised.mu.Lock()
	defer a.raised.mu.Unlock()
	if k = cmp.Or(k, a.raised.kinds[code]); k == nil {
		return ProblemInfo{}, false
	}
	return ProblemInfo{k.Status(), k.Code(), k.Title(), a.fallbacks[0].problemBase() + k.Code(), k.Meaning(), nil}, true
}

func (a *API) makeCatalogue() map[string]ProblemInfo {
	all := map[string]ProblemInfo{}
	for _, p := range a.Problems() {
		all[p.Code] = p
	}
	return all
}

// Problems is the catalogue of all kinds of problem that the API can raise, by
// status and code: those that routes name in Fails, those of guards, inputs and
// limits, and those that every request can meet.
func (a *API) Problems() []ProblemInfo {
	found := map[*problem.Kind]*ProblemInfo{}
	add := func(k *problem.Kind, t *target) {
		p := found[k]
		if p == nil {
			p = &ProblemInfo{k.Status(), k.Code(), k.Title(), t.problemBase() + k.Code(), k.Meaning(), nil}
			found[k] = p
		}
		if line := strings.TrimSpace(t.method + " " + t.path); !t.fallback && !slices.Contains(p.Routes, line) {
			p.Routes = append(p.Routes, line)
		}
	}
	for _, k := range everywhere {
		add(k, a.fallbacks[0])
	}
	for _, t := range a.fallbacks {
		if n, ok := t.end.(*nowhere); ok && len(n.versions) > 0 {
			add(problem.VersionUnknown, t)
		}
	}
	for _, t := range a.targets {
		for _, k := range t.kinds() {
			if !slices.Contains(everywhere, k) {
				add(k, t)
			}
		}
	}
	list := make([]ProblemInfo, 0, len(found))
	for _, p := range found {
		slices.Sort(p.Routes)
		list = append(list, *p)
	}
	slices.SortFunc(list, func(x, y ProblemInfo) int {
		return cmp.Or(cmp.Compare(x.Status, y.Status), cmp.Compare(x.Code, y.Code))
	})
	return list
}

// kinds are what a route can raise beside what every request can.
func (t *target) kinds() []*problem.Kind {
	kinds := slices.Clone(t.fails)
	if t.guard != nil {
		if g, ok := t.guard.(interface{ Kinds() []*problem.Kind }); ok {
			kinds = append(kinds, g.Kinds()...)
		}
		if len(t.scopes) > 0 {
			kinds = append(kinds, ErrScopeMissing)
		}
	}
	if t.limits.AtOnce > 0 {
		kinds = append(kinds, problem.Overloaded)
	}
	if end, ok := t.end.(interface{ inputKinds() []*problem.Kind }); ok {
		kinds = append(kinds, end.inputKinds()...)
	}
	return kinds
}

func (t *typed[In, Out]) inputKinds() (kinds []*problem.Kind) {
	in := t.input
	if len(in.fields) > 0 || in.body != nil || in.form != nil {
		kinds = append(kinds, problem.Unreadable, problem.Invalid)
	}
	if in.body != nil || in.form != nil {
		kinds = append(kinds, problem.BodyTimeout, problem.BodyTooLarge, problem.UnsupportedMedia)
	}
	if t.output.conditional {
		kinds = append(kinds, ErrPreconditionFailed)
	}
	return kinds
}

// undeclared reports whether a route raised a kind that neither its Fails nor a
// family in it names.
func (t *target) undeclared(err error) bool {
	p := problem.In(err)
	if p == nil {
		return false
	}
	return !slices.ContainsFunc(t.fails, func(k *problem.Kind) bool { return p.Is(k) })
}

// describeProblem answers a request for the description of a kind, and reports
// whether the path asks for one.
func (n *nowhere) describeProblem(w http.ResponseWriter, r *http.Request, s *state) (bool, error) {
	code, ok := strings.CutPrefix(r.URL.Path, ownBase)
	if !ok || s.target.problemBase() != ownBase || r.Method != http.MethodGet && r.Method != http.MethodHead {
		return false, nil
	}
	info, known := n.api.problemInfo(code)
	if !known {
		return false, nil
	}
	h := w.Header()
	varyByAccept(h)
	if prefersHTML(r.Header["Accept"]) {
		var page bytes.Buffer
		writeKind(&page, info)
		h["Content-Type"] = []string{"text/html; charset=utf-8"}
		_, err := w.Write(page.Bytes())
		return true, err
	}
	text, err := json.Marshal(info, indented)
	if err != nil {
		return true, err
	}
	h["Content-Type"] = contentTypeJSON
	_, err = w.Write(append(text, '\n'))
	return true, err
}
