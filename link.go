package wicketway

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/route"
)

// Link builds the path, with the query, of the route with a name. The input is
// the route's input, or a pointer to one: its path fields fill the template, its
// query fields the query, except those that are zero. A map[string]string does
// as well, for plain handlers. Where several versions have a route of the name,
// it is written with its version: v2/passages.find.
func (a *API) Link(name string, input any) (string, error) {
	t, err := a.routeNamed(name)
	if err != nil {
		return "", err
	}
	return t.link(a, input)
}

func (a *API) routeNamed(name string) (*target, error) {
	if t := a.named[name]; t != nil { // with its version
		return t, nil
	}
	var found []string
	for key := range a.named {
		if _, own, _ := strings.Cut(key, "/"); own == name {
			found = append(found, key)
		}
	}
	switch len(found) {
	case 0:
		return nil, fmt.Errorf("link: no route is named %q", name)
	case 1:
		return a.named[found[0]], nil
	}
	slices.Sort(found)
	return nil, fmt.Errorf("link: several versions have a route named %q: write one of %s", name,
		strings.Join(found, ", "))
}

// Link is [exchange.Exchange.Link].
func (s *state) Link(name string, input any) (string, error) {
	if t := s.api.named[s.target.terms().version+"/"+name]; t != nil {
		return t.link(s.api, input)
	}
	return s.api.Link(name, input)
}

func (t *target) link(a *API, input any) (string, error) {
	values, query, err := t.linkValues(input)
	path := ""
	if err == nil {
		path, err = t.expand(a, values, query)
	}
	if err != nil {
		return "", fmt.Errorf("link: %s: %w", t.name, err)
	}
	return path, nil
}

// expand writes the path of the route, with a query, and sees to it that it leads there.
func (t *target) expand(a *API, values map[string]string, query url.Values) (string, error) {
	template, err := t.template()
	if err != nil {
		return "", err
	}
	path, err := template.Expand(func(name string) string { return values[name] })
	if err == nil {
		err = t.leadsHere(a, path)
	}
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	return path, err
}

// successor is the path of the route that replaces the one of a request; "" where none is known.
func (s *state) successor() string {
	to := s.target.ties.successor
	path, err := to.Expand(func(name string) string { return s.match.Value(slices.Index(s.target.names, name)) })
	if err != nil { // a value that the successor's path cannot have
		return ""
	}
	return path
}

// template is that of the path. It takes more memory than all else that is kept of a route, so it is
// kept of those alone that links have led to.
func (t *target) template() (route.Template, error) {
	if made := t.parsed.Load(); made != nil {
		return *made, nil
	}
	made, err := route.Parse(t.path)
	if err == nil {
		t.parsed.Store(&made)
	}
	return made, err
}

// leadsHere says where a path leads if not to its own route: another one may be more
// specific.
func (t *target) leadsHere(a *API, path string) error {
	var m table.Match
	if a.table.Of(t.terms().edition).FindEscaped(cmp.Or(t.method, http.MethodGet), path, &m) && &a.targets[m.Route] != t {
		to := &a.targets[m.Route]
		return fmt.Errorf("the path %s leads to %s at %s, which is more specific", path, to.line(), to.at)
	}
	return nil
}

// linkValues takes an input apart.
func (t *target) linkValues(input any) (path map[string]string, query url.Values, err error) {
	if values, ok := input.(map[string]string); ok {
		for name := range values {
			if !slices.Contains(t.names, name) {
				return nil, nil, fmt.Errorf("the template %s has no parameter {%s}", t.path, name)
			}
		}
		return values, nil, nil
	}
	if t.part.what != typedPart {
		return nil, nil, fmt.Errorf("a plain handler has no input type: give a map[string]string")
	}
	if input, err = t.inputOf(input); err != nil {
		return nil, nil, err
	}
	return t.input.Values(input)
}

// NewRequest makes the request that calls a route, for tests and for programs that call
// themselves. The route is the one that the function serves, of several the one that is neither
// [Adapted] nor inherited, or has a name as in [API.Link]; the input is that of the function. The
// request's host is localhost, and its Pattern is the template of the route; where versions share
// their paths it names that of the route. Credentials are the caller's to add.
func (a *API) NewRequest(ctx context.Context, of any, input any) (*http.Request, error) {
	t, err := a.routeOf(of)
	if err != nil {
		return nil, err
	}
	if t.part.what != typedPart {
		return nil, fmt.Errorf("request: %s is served by a plain handler, which has no input type", t.line())
	}
	input, err = t.inputOf(input)
	if err != nil {
		return nil, fmt.Errorf("request: %s: %w", t.line(), err)
	}
	written, err := t.input.Write(input)
	if err != nil {
		return nil, fmt.Errorf("request: %s: %w", t.line(), err)
	}
	path, err := t.expand(a, written.Path, written.Query)
	if err != nil {
		return nil, fmt.Errorf("request: %s: %w", t.line(), err)
	}
	var body io.Reader
	if written.Body != nil {
		body = bytes.NewReader(written.Body)
	}
	r, err := http.NewRequestWithContext(ctx, cmp.Or(t.method, http.MethodGet), "http://localhost"+path, body)
	if err != nil {
		return nil, err
	}
	r.Header, r.Pattern, r.RequestURI = written.Header, t.path, path
	t.terms().asking(r.Header)
	return r, nil
}

// unless are those without something, or all where all have it.
func unless(all []*target, has func(*target) bool) []*target {
	if without := slices.DeleteFunc(slices.Clone(all), has); len(without) > 0 {
		return without
	}
	return all
}

// routeOf finds the one route that a function serves, or that has a name.
func (a *API) routeOf(of any) (*target, error) {
	if name, ok := of.(string); ok {
		return a.routeNamed(name)
	}
	v := reflect.ValueOf(of)
	if v.Kind() != reflect.Func || v.IsNil() {
		return nil, fmt.Errorf("request: %T is neither a route's function nor its name", of)
	}
	function := functionOf(of)
	var served []int
	for i := range a.targets {
		if a.targets[i].part.function == function {
			served = append(served, i)
		}
	}
	var found []*target
	for _, i := range closureOf(of).exactly(served, func(i int) *closure { return a.targets[i].part.value }) {
		found = append(found, &a.targets[i])
	}
	found = unless(found, func(t *target) bool { return t.adapted != nil })
	found = unless(found, func(t *target) bool { return t.lineage != nil && !t.lineage.own })
	switch len(found) {
	case 0:
		return nil, fmt.Errorf("request: no route is served by %s", function.Name())
	case 1:
		return found[0], nil
	}
	lines := make([]string, len(found))
	for i, t := range found {
		lines[i] = t.line()
	}
	return nil, fmt.Errorf("request: %s serves several routes (%s): name the one that is meant", function.Name(),
		strings.Join(lines, ", "))
}
