package wicketway

import (
	"bytes"
	"cmp"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/problem"
)

func (a *API) infoOf(k *problem.Kind, base string) facts.Kind {
	example, _ := k.Example().Append(nil, problem.Rendering{Base: base,
		Instance: "urn:uuid:018f3a52-6f0c-7b1e-9d55-2a3c4e5f6071"})
	var family []string
	for above := k.Family(); above != nil; above = above.Family() {
		family = append(family, above.Code())
	}
	return facts.Kind{
		Family:  family,
		Fields:  facts.FieldNames(facts.Fields(k.Fields()...)),
		Schema:  kindSchema(k, base, a.titles(k)),
		Status:  k.Status(),
		Code:    k.Code(),
		Title:   k.Title(),
		Type:    base + k.Code(),
		Meaning: k.Meaning(),
		Example: example,
	}
}

// titles are those of a kind in all languages of the API, the original first.
func (a *API) titles(k *problem.Kind) []string {
	all := []string{k.Title()}
	var last *languages // most neighbours have the same
	for i := range a.targets {
		l := a.targets[i].terms().languages
		if l == nil || l == last {
			continue
		}
		last = l
		for _, tag := range l.tags[1:] {
			if title, known := l.texts[tag].Title(k); known && !slices.Contains(all, title) {
				all = append(all, title)
			}
		}
	}
	return all
}

// Problems is the catalogue of all kinds of problem that the API can raise, by
// status and code: those that routes name in Fails, those of guards, middleware, inputs and
// limits, and those that every request can meet.
func (a *API) Problems() []facts.Kind {
	list := slices.Collect(maps.Values(a.catalogue()))
	slices.SortFunc(list, func(x, y facts.Kind) int {
		return cmp.Or(cmp.Compare(x.Status, y.Status), cmp.Compare(x.Code, y.Code))
	})
	return list
}

func (a *API) makeCatalogue() map[string]facts.Kind {
	all := map[string]facts.Kind{}
	root := a.fallbacks[0].terms().base
	for _, k := range everywhere {
		all[k.Code()] = a.infoOf(k, root)
	}
	for i := range a.fallbacks {
		t := &a.fallbacks[i]
		if k := t.end.(*nowhere).versions.raises(); k != nil {
			all[k.Code()] = a.infoOf(k, t.terms().base)
		}
	}
	general := len(all)
	of := make(map[*problem.Kind]*facts.Kind, general)
	for i := range a.targets {
		t := &a.targets[i]
		for _, r := range t.raises() {
			if _, general := all[r.kind.Code()]; general {
				continue
			}
			info := of[r.kind]
			if info == nil {
				made := a.infoOf(r.kind, t.terms().base)
				info = &made
				of[r.kind] = info
			}
			if n := len(info.Routes); n == 0 || info.Routes[n-1] != t.line() {
				info.Routes = append(info.Routes, t.line())
			}
		}
	}
	for k, info := range of {
		slices.Sort(info.Routes)
		all[k.Code()] = *info
	}
	return all
}

// problemInfo finds what is known of a code.
func (a *API) problemInfo(code string) (facts.Kind, bool) {
	if p, ok := a.catalogue()[code]; ok {
		return p, true
	}
	k := a.codes[code]
	a.raised.mu.Lock()
	defer a.raised.mu.Unlock()
	if k = cmp.Or(k, a.raised.kinds[code]); k == nil {
		return facts.Kind{}, false
	}
	return a.infoOf(k, a.fallbacks[0].terms().base), true
}

// describeProblem answers a request for the description of a kind.
func (a *API) describeProblem(w http.ResponseWriter, r *http.Request, code string) error {
	info, known := a.problemInfo(code)
	if !known {
		return problem.NotFound.Newf("No kind of problem has the code %q.", clip.Text(code, 100))
	}
	if _, fixed := a.catalogue()[code]; fixed && a.doc.problems != "" && answer.PrefersPage(r) {
		writer.AddVary(w.Header(), "Accept")
		w.Header().Set("Location", a.doc.problems+url.PathEscape(code))
		w.WriteHeader(http.StatusSeeOther)
		return nil
	}
	return answer.JSONOrPage(w, r, info, func(page *bytes.Buffer) {
		answer.WriteKind(page, answer.Kind{
			Status:  info.Status,
			Code:    info.Code,
			Title:   info.Title,
			Meaning: info.Meaning,
			Routes:  info.Routes,
			Example: info.Example,
		})
	})
}

// Kinds are the kinds of problem that the API can raise, as they were declared: with them
// [problem.Read] finds the kind of a problem that the API has sent.
func (a *API) Kinds() []*problem.Kind {
	return slices.SortedFunc(maps.Values(a.codes), func(x, y *problem.Kind) int {
		return cmp.Compare(x.Code(), y.Code())
	})
}

// problemPages is the endpoint that describes kinds of problem.
type problemPages struct{ api *API }

func (p problemPages) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	return s.take(
		exchange.Step{Kind: exchange.StepCall}, func() error { return p.api.describeProblem(w, r, s.match.Value(0)) },
	)
}

// catalogPath is where the contracts of all versions are listed (RFC 9727, 2).
const catalogPath = "/.well-known/api-catalog"

// publish finds the contracts that are served, and leads to them from where callers begin: GET of the prefix of all, and of
// those of versions.
func (a *API) publish() {
	a.published, a.doc, a.trails = a.findPublished(), a.findDoc(), a.findTrails()
	if a.published == nil && a.doc.path == "" {
		return
	}
	a.links = map[string]string{}
	add := func(version, path, relation string) {
		if a.links[version] != "" {
			a.links[version] += ", "
		}
		a.links[version] += linkTo(path, relation)
	}
	for _, p := range a.published {
		if add("", p.path, "service-desc"); p.version != "" {
			add(p.version, p.path, "service-desc")
		}
	}
	if a.doc.path != "" {
		versions := map[string]bool{"": true}
		for i := range a.targets {
			versions[a.targets[i].terms().version] = true
		}
		for v := range versions {
			add(v, a.doc.path, "service-doc")
		}
	}
	prefixes := map[string]bool{"/": true}
	for _, p := range a.published {
		prefixes[strings.TrimSuffix(p.of, "/")] = true
	}
	for i := range a.fallbacks {
		if t := &a.fallbacks[i]; t.end.(*nowhere).versions != nil {
			prefixes[t.path] = true
		}
	}
	for i := range a.targets {
		if t := &a.targets[i]; t.method == http.MethodGet && !t.part.own && prefixes[t.path] {
			t.end = &leading{t.end, a.links[t.terms().version]}
		}
	}
}

// findDoc finds the first route that has facts.ServiceDoc attached.
func (a *API) findDoc() (doc serviceDoc) {
	for i := range a.targets {
		t := &a.targets[i]
		held, has := exchange.AttachedIn[facts.ServiceDoc](t.list.terms.attached)
		if !has || t.method != http.MethodGet || strings.Contains(t.path, "{") {
			continue
		}
		doc.path = t.path
		below := strings.TrimSuffix(t.path, "/") + "/"
		if held.Problems != "" && !t.guarded() {
			doc.problems = below + held.Problems
		}
		if held.Trails != "" {
			doc.trails = below + held.Trails
		}
		return doc
	}
	return doc
}

// findTrails finds the first route that has facts.Trails attached.
func (a *API) findTrails() string {
	for i := range a.targets {
		t := &a.targets[i]
		_, has := exchange.AttachedIn[facts.Trails](t.list.terms.attached)
		if has && t.method == http.MethodGet && !strings.Contains(t.path, "{") {
			return t.path
		}
	}
	return ""
}

// leading is the endpoint of a route that leads to the contracts as well.
type leading struct {
	endpoint
	links string
}

func (l *leading) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	s.out.Before(func(_ int, h http.Header) { writer.AddLinks(h, l.links) })
	return l.endpoint.serve(w, r, s)
}

// leads reports whether a route leads to the contracts.
func (a *API) leads(t *target) bool {
	_, is := t.end.(*leading)
	return is
}

// findPublished gives the contracts that are served, in the order of their versions.
func (a *API) findPublished() (all []published) {
	at := ""
	versions := []published{}
	for i := range a.targets {
		t := &a.targets[i]
		if t.publishes() {
			at = strings.TrimSuffix(t.path, "{version}")
		}
		v := t.terms().version
		if v == "" || hasVersion(versions, v) {
			continue
		}
		one := published{version: v, name: v, of: "/"}
		if set := t.terms().versions.info(); set != nil {
			one.of = strings.TrimSuffix(set.Under, "/") + "/"
			if set.Field == "" {
				one.of += v
			}
		}
		versions = append(versions, one)
	}
	if at == "" {
		return nil
	}
	if len(versions) == 0 {
		versions = []published{{name: a.info.Version, of: "/"}}
	}
	for _, one := range versions {
		one.path = at + one.name
		all = append(all, one)
	}
	return all
}

func hasVersion(all []published, version string) bool {
	for _, one := range all {
		if one.version == version {
			return true
		}
	}
	return false
}

// catalog is the endpoint that lists the contracts.
type catalog struct{ api *API }

func (c catalog) serve(w http.ResponseWriter, r *http.Request, s *state) error {
	return s.take(exchange.Step{Kind: exchange.StepCall}, func() error {
		from := exchange.ClientOf(r)
		host := from.Scheme + "://" + from.Host
		text, err := json.Marshal(c.api.linkset(host), jsontext.WithIndent("  "))
		if err != nil {
			return err
		}
		h := w.Header()
		h.Set("Content-Type", `application/linkset+json; profile="https://www.rfc-editor.org/info/rfc9727"`)
		h.Set("Link", linkTo(host+catalogPath, "api-catalog"))
		_, err = w.Write(append(bytes.TrimSpace(text), '\n'))
		return err
	})
}

// linkset is the catalog (RFC 9264, 4.2).
func (a *API) linkset(host string) any {
	type target struct {
		Href string `json:"href"`
		Type string `json:"type"`
	}
	type context struct {
		Anchor      string   `json:"anchor"`
		ServiceDesc []target `json:"service-desc,omitempty"`
		ServiceDoc  []target `json:"service-doc,omitempty"`
		Status      []target `json:"status,omitempty"`
		Trails      []target `json:"https://github.com/wicketway/wicketway/observe/trail,omitempty"`
	}
	set := struct {
		Linkset []context `json:"linkset"`
	}{[]context{}}
	add := func(one context) {
		if a.info.Status != "" {
			one.Status = []target{{host + a.info.Status, "application/json"}}
		}
		if a.doc.path != "" {
			one.ServiceDoc = []target{{host + a.doc.path, "text/html"}}
		}
		if a.trails != "" {
			one.Trails = []target{{host + a.trails, "application/json"}}
		}
		set.Linkset = append(set.Linkset, one)
	}
	for _, p := range a.published {
		add(context{Anchor: host + p.of, ServiceDesc: []target{{host + p.path, "application/json"}}})
	}
	if a.published == nil {
		add(context{Anchor: host + "/"})
	}
	return set
}
