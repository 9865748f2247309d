package wicketway

import (
	"cmp"
	"fmt"
	"maps"
	"os"
	"reflect"
	"slices"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/check"
)

// Info returns the title and the version of the API.
func (a *API) Info() Info { return a.info }

// Routes gives the facts of every route, by version, path and method.
func (a *API) Routes() []facts.Route { return slices.Clone(a.facts().routes) }

// Describe returns the description of the API as plain data.
func (a *API) Describe() facts.API {
	d := facts.API{
		Title:       a.info.Title,
		Version:     a.info.Version,
		Description: a.info.Description,
		Servers:     a.info.Servers,
		Tags:        a.info.Tags,
		Scopes:      a.info.Scopes,
		Routes:      a.Routes(),
		Problems:    a.Problems(),
		Defs:        a.facts().defs,
	}
	d.Fields = a.fields(d)
	for _, r := range d.Routes {
		if g := r.Guard; g != nil &&
			!slices.ContainsFunc(d.Guards, func(other facts.Guard) bool { return other.Name == g.Name }) {
			one := *g
			one.After = 0
			d.Guards = append(d.Guards, one)
		}
	}
	for i := range a.fallbacks {
		t := &a.fallbacks[i]
		d.Groups = append(d.Groups, facts.Group{
			Path:    cmp.Or(t.path, "/"),
			Version: t.terms().version,
			Chosen:  cmp.Or(t.end.(*nowhere).versions, t.terms().versions).info(),
			Chain:   chainInfo(t.terms().active()),
			At:      t.at.Facts(),
		})
	}
	return d
}

// fields are the header fields that a description names; those of middleware as it describes them.
func (a *API) fields(d facts.API) []facts.Field {
	known := map[string]facts.Field{}
	for i := range a.targets {
		for _, l := range a.targets[i].terms().active() {
			for _, f := range l.Sets {
				known[f.Name] = f
			}
		}
	}
	add := func(names []string) {
		for _, f := range facts.Fields(names...) {
			if _, has := known[f.Name]; !has {
				known[f.Name] = f
			}
		}
	}
	for _, r := range d.Routes {
		for _, answer := range r.Answers {
			add(answer.Fields)
		}
		if r.Languages != nil {
			add([]string{"Content-Language"})
		}
	}
	for _, k := range d.Problems {
		add(k.Fields)
	}
	return slices.SortedFunc(maps.Values(known), func(x, y facts.Field) int { return cmp.Compare(x.Name, y.Name) })
}

func (a *API) makeFacts() allFacts {
	names := map[reflect.Type]string{}
	versions := map[string]*check.Documents{}
	for i := range a.targets {
		a.targets[i].oldNames(names)
	}
	maps.Copy(names, a.info.Names)
	for i := range a.targets {
		t := &a.targets[i]
		if versions[t.terms().version] == nil {
			versions[t.terms().version] = check.NewDocuments("#/$defs/", names)
		}
		t.addTypes(versions[t.terms().version])
	}
	defs := map[string]jsontext.Value{}
	for version, docs := range versions {
		prefix := version
		if version != "" {
			prefix += "."
		}
		docs.Name(prefix)
		maps.Copy(defs, docs.Definitions())
	}
	all := make([]facts.Route, len(a.targets))
	for i := range a.targets {
		t := &a.targets[i]
		all[i] = t.makeFacts(versions[t.terms().version])
		all[i].Settings = t.settingInfo()
		if a.leads(t) {
			for k := range all[i].Answers {
				all[i].Answers[k].Fields = append(slices.Clip(all[i].Answers[k].Fields), "Link")
			}
		}
		if t.ties != nil && t.ties.locates >= 0 {
			to := &a.targets[t.ties.locates]
			for k := range all[i].Answers {
				if slices.Contains(all[i].Answers[k].Fields, "Location") {
					all[i].Answers[k].Locates = to.line()
				}
			}
		}
	}
	slices.SortFunc(all, func(x, y facts.Route) int {
		return cmp.Or(cmp.Compare(x.Version, y.Version), cmp.Compare(x.Path, y.Path), cmp.Compare(x.Method, y.Method))
	})
	return allFacts{all, defs}
}

// Described is for programs that have an http.Server of their own. It is called once, after Build:
//
//	if done, err := api.Described(); done {
//		return err
//	}
//
// Where WICKETWAY_DESCRIBE=FILE is in the environment, as the command-line tool has it, it writes
// the description into that file, and the program should end. [API.Serve] and its siblings do the
// same.
func (a *API) Described() (done bool, err error) { return a.describing() }

// describeFile is the environment variable that asks for a description.
const describeFile = "WICKETWAY_DESCRIBE"

// builtMark is added to the name of the file that a description is asked into: Build leaves a file
// of that name, so that the tool knows whether to keep waiting.
const builtMark = ".built"

// noteBuilt tells the tool that there is an API.
func noteBuilt() {
	if name := os.Getenv(describeFile); name != "" {
		os.WriteFile(name+builtMark, nil, 0o600) // without it the tool waits for longer
	}
}

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

// API is the one that serves the request: pages about it ask exchange.State.Server for that.
func (s *state) API() *API { return s.api }

// Trails is the path at which the API lists what happened to the last requests; "" where it keeps that of none.
func (s *state) Trails() string { return s.api.trails }
