package wicketway

import (
	"cmp"
	"fmt"
	"os"
	"reflect"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// A Description tells what an API serves. It is what the command-line tool reads.
type Description struct {
	Title   string `json:"title"`
	Version string `json:"version"`
	// Routes are sorted by version, path and method.
	Routes []RouteInfo `json:"routes"`
	// Groups are the path prefixes, with what requests that find no route there pass.
	Groups []GroupInfo `json:"groups"`
	// Problems are all kinds that the API can raise.
	Problems []ProblemInfo `json:"problems"`
}

// RouteInfo tells of one route.
type RouteInfo struct {
	Version string     `json:"version,omitzero"`
	Method  string     `json:"method"` // "" for what is mounted: every method
	Path    string     `json:"path"`   // the template
	Name    string     `json:"name,omitzero"`
	Summary string     `json:"summary,omitzero"`
	Guard   string     `json:"guard,omitzero"` // "" where everyone may call
	GuardAt *Place     `json:"guardAt,omitzero"`
	Scopes  []string   `json:"scopes,omitempty"`
	Slashes string     `json:"slashes"` // redirect, strict, same
	Chain   []LinkInfo `json:"chain,omitempty"`
	// Asked is how many links of the chain come before the guard.
	Asked   int         `json:"asked,omitzero"`
	Reads   []InputInfo `json:"reads,omitempty"`
	Answers Answer      `json:"answers,omitzero"`
	Fails   []Failing   `json:"fails,omitempty"`
	At      Place       `json:"at"`
}

// GroupInfo tells of a group with a path prefix, or of the whole API.
type GroupInfo struct {
	Path  string     `json:"path"`
	Chain []LinkInfo `json:"chain,omitempty"`
	At    Place      `json:"at"`
}

// LinkInfo is one middleware of a chain.
type LinkInfo struct {
	Name string `json:"name"`
	At   Place  `json:"at"`
}

// InputInfo is one thing that a route reads.
type InputInfo struct {
	In       string `json:"in"`   // path, query, header, body
	Name     string `json:"name"` // of a member of the body, as a JSON Pointer
	Type     string `json:"type"`
	Required bool   `json:"required,omitzero"`
	Rule     string `json:"rule,omitzero"`
	Note     string `json:"note,omitzero"`
}

// An Answer is what a route sends where all goes well.
type Answer struct {
	Status int    `json:"status,omitzero"` // 0 for a plain handler, which decides itself
	Type   string `json:"type,omitzero"`
}

// A Failing is a kind of problem that a route raises itself.
type Failing struct {
	Status int    `json:"status"`
	Code   string `json:"code"`
	Title  string `json:"title"`
}

// A Place is where something was declared.
type Place struct {
	File string `json:"file"`
	Line int    `json:"line"`
}

func (p place) info() Place {
	file, line := p.frame()
	return Place{file, line}
}

// Routes tells of every route: what it is called, who may call it, which chain
// its requests pass, and where it was declared.
func (a *API) Routes() []RouteInfo {
	routes := make([]RouteInfo, len(a.targets))
	for i, t := range a.targets {
		routes[i] = t.info()
	}
	slices.SortFunc(routes, func(x, y RouteInfo) int {
		return cmp.Or(cmp.Compare(x.Version, y.Version), cmp.Compare(x.Path, y.Path), cmp.Compare(x.Method, y.Method))
	})
	return routes
}

// Describe tells what the API serves.
func (a *API) Describe() Description {
	d := Description{Title: a.info.Title, Version: a.info.Version, Routes: a.Routes(), Problems: a.Problems()}
	for i, t := range a.fallbacks {
		if i == 0 || t != a.fallbacks[i-1] {
			d.Groups = append(d.Groups, GroupInfo{cmp.Or(t.path, "/"), chainInfo(t.links), t.at.info()})
		}
	}
	return d
}

func chainInfo(links []*link) []LinkInfo {
	var chain []LinkInfo
	for _, l := range links {
		chain = append(chain, LinkInfo{l.name, l.at.info()})
	}
	return chain
}

func (t *target) info() RouteInfo {
	r := RouteInfo{Version: t.version, Method: t.method, Path: t.path, Name: t.name, Summary: t.summary,
		Scopes: t.scopes, Slashes: t.slashes.String(), Chain: chainInfo(t.links), At: t.at.info()}
	if t.guard != nil {
		at := t.guardPlace.info()
		r.Guard, r.GuardAt, r.Asked = t.guard.String(), &at, int(t.guardAt)
	}
	for _, k := range t.fails {
		r.Fails = append(r.Fails, Failing{k.Status(), k.Code(), k.Title()})
	}
	if end, ok := t.end.(interface{ describe(*RouteInfo) }); ok {
		end.describe(&r)
	}
	return r
}

func (t *typed[In, Out]) describe(r *RouteInfo) {
	for _, f := range t.input.fields {
		kind, rule, note, required := f.schema.Describe()
		r.Reads = append(r.Reads, InputInfo{f.source, f.name, kind, required, rule, note})
	}
	if form := t.input.form; form != nil {
		for _, f := range form.files {
			r.Reads = append(r.Reads, InputInfo{In: "file", Name: f.name, Type: strings.Join(f.types, " or "), Required: f.required})
		}
	}
	if b := t.input.body; b != nil && b.schema == nil {
		r.Reads = append(r.Reads, InputInfo{In: "body", Type: "anything"})
	} else if b != nil {
		members := b.schema.Members()
		if members == nil {
			r.Reads = append(r.Reads, InputInfo{In: "body", Type: b.schema.Name(), Required: !b.optional})
		}
		for _, m := range members {
			r.Reads = append(r.Reads, InputInfo{"body", m.Pointer, m.Type, m.Required, m.Rule, m.Note})
		}
	}
	r.Answers.Status = t.output.status
	if out := reflect.TypeFor[Out](); !t.output.empty {
		if t.output.reply && out.Kind() == reflect.Pointer {
			out = out.Elem()
		}
		if t.output.reply {
			out = reflect.Zero(out).Interface().(replier).value()
		}
		r.Answers.Type = out.String()
	}
}

// describeFile is the environment variable that asks for a description.
const describeFile = "WICKETWAY_DESCRIBE"

// describing writes the description where WICKETWAY_DESCRIBE asks for it, and
// reports whether it does.
func (a *API) describing() (bool, error) {
	name := os.Getenv(describeFile)
	if name == "" {
		return false, nil
	}
	text, err := json.Marshal(a.Describe(), jsontext.WithIndent("\t"))
	if err == nil {
		err = os.WriteFile(name, text, 0o600)
	}
	if err != nil {
		return true, fmt.Errorf("%s: %w", describeFile, err)
	}
	return true, nil
}
