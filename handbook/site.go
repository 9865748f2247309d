package handbook

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/requests"
	"github.com/wicketway/wicketway/facts"
)

// A site is the handbook of one contract.
type site struct {
	Title, Version, Name, Description string
	Key                               string // the name of the version in addresses
	Areas                             []area
	Problems                          []*trouble
	Entry                             []string     // how to say who calls
	Before, After                     *site        // of the versions before and after
	Gone                              []*operation // of the version before
	SignIn                            *operation   // that gives a token

	doc        *contract.Document
	values     *contract.Values
	troubled   map[string]*trouble // by status and code
	operations map[string]*operation
	schemes    map[string]scheme
}

// An area is a group of operations.
type area struct {
	Name, Description string
	Operations        []*operation
}

// may reports whether callers with some scopes may call it.
func (o *operation) may(scopes []string) bool {
	return len(o.scopes) == 0 || slices.ContainsFunc(o.scopes, func(way []string) bool {
		return !slices.ContainsFunc(way, func(scope string) bool { return !slices.Contains(scopes, scope) })
	})
}

// visible is the handbook without what a caller with some scopes may not call.
func (s *site) visible(scopes []string) *site {
	only := func(all []*operation) []*operation {
		return slices.DeleteFunc(slices.Clone(all), func(o *operation) bool { return !o.may(scopes) })
	}
	less := *s
	less.Areas, less.Problems, less.operations, less.Gone = nil, nil, map[string]*operation{}, only(s.Gone)
	for _, a := range s.Areas {
		if a.Operations = only(a.Operations); len(a.Operations) > 0 {
			less.Areas = append(less.Areas, a)
		}
	}
	for page, o := range s.operations {
		if o.may(scopes) {
			less.operations[page] = o
		}
	}
	for _, t := range s.Problems {
		one := *t
		if one.By = only(t.By); len(one.By) > 0 || t.By == nil {
			less.Problems = append(less.Problems, &one)
		}
	}
	return &less
}

// A listed operation is what scripts find pages by.
type listed struct {
	Method  string `json:"method"`
	Path    string `json:"path"`
	Page    string `json:"page"`
	Summary string `json:"summary"`
}

// list gives all operations.
func (s *site) list() (all []listed) {
	for _, a := range s.Areas {
		for _, o := range a.Operations {
			all = append(all, listed{o.Method, o.Path, o.Page, o.Summary})
		}
	}
	return all
}

// Dates are when the version was deprecated and when it ends, where all its operations say the same; "" where not.
func (s *site) Dates() (dates struct{ Deprecation, End string }) {
	for i, o := range s.list() {
		of := s.operations[o.Page]
		if i == 0 {
			dates.Deprecation, dates.End = of.Deprecation, of.End
		}
		if dates.Deprecation != of.Deprecation {
			dates.Deprecation = ""
		}
		if dates.End != of.End {
			dates.End = ""
		}
	}
	return dates
}

// folder is where the pages of the version are, from the first page on.
func (s *site) folder() string { return s.Key + "/" }

// newSite makes the handbook of a contract.
func newSite(d *contract.Document, name, key string) *site {
	s := &site{Title: d.Info.Title, Version: d.Info.Version, Name: name, Key: key, Description: strings.TrimSpace(d.Info.Description), doc: d,
		values: d.Values(), troubled: map[string]*trouble{}, operations: map[string]*operation{}, schemes: map[string]scheme{}}
	maker := requests.Of(d)
	s.entry()
	pages := map[string]int{"problems": 1, "index": 1, "since": 1, "operations.json": 1} // how many have asked for a name
	for path, item := range d.Paths.All() {
		item = contract.Referred(d, item)
		for method, o := range item.Operations() {
			one := s.operation(method, item.Template(path), item, o)
			for base := one.Page; pages[one.Page] > 0; {
				pages[base]++
				one.Page = base + "-" + strconv.Itoa(pages[base])
			}
			pages[one.Page]++
			if r, err := maker.Good(method, path); err == nil {
				one.good = r
				s.trial(one, item, o, r)
				all, _ := maker.Wrong(method, path) // where the good one can be made, so can they
				one.Trial.wrongs(all)
			}
			if s.SignIn == nil && maker.GivesToken(method, path) {
				s.SignIn = one
			}
			s.operations[one.Page] = one
			s.add(o, one)
		}
	}
	s.sortProblems()
	for _, o := range s.operations {
		if o.Trial != nil && s.SignIn != nil {
			o.Trial.SignIn = s.SignIn.Page
		}
	}
	return s
}

func (s *site) sortProblems() {
	slices.SortFunc(s.Problems, func(a, b *trouble) int { return cmp.Or(cmp.Compare(a.Status, b.Status), cmp.Compare(a.Code, b.Code)) })
}

// everywhere adds the kinds that every request can meet, which no operation has to declare.
func (s *site) everywhere(kinds []facts.Kind) {
	for _, k := range kinds {
		if k.Routes == nil && s.troubled[strconv.Itoa(k.Status)+" "+k.Code] == nil {
			s.Problems = append(s.Problems, &trouble{Status: k.Status, Code: k.Code, Title: k.Title, Meaning: k.Meaning, Example: setOut(k.Example)})
		}
	}
	s.sortProblems()
}

// pageOf is the name of an operation as a part of a path.
func pageOf(id string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '.' || r == '-' || r == '_' {
			return r
		}
		return '-'
	}, id), "-.")
}

// add puts an operation into its area: its first tag.
func (s *site) add(o *contract.Operation, one *operation) {
	name := "others"
	if len(o.Tags) > 0 {
		name = o.Tags[0]
	}
	i := slices.IndexFunc(s.Areas, func(a area) bool { return a.Name == name })
	if i < 0 {
		i = len(s.Areas)
		s.Areas = append(s.Areas, area{Name: name})
		for _, t := range s.doc.Tags {
			if t.Name == name {
				s.Areas[i].Description = t.Description
			}
		}
	}
	s.Areas[i].Operations = append(s.Areas[i].Operations, one)
}

// entry says how callers say who they are.
func (s *site) entry() {
	if s.doc.Components == nil {
		return
	}
	for name, one := range s.doc.Components.SecuritySchemes.All() {
		one = contract.Referred(s.doc, one)
		s.schemes[name] = scheme{one.Type, strings.ToLower(one.Scheme), one.In, one.Name}
		text := name + ": "
		switch {
		case one.Type == "http" && strings.EqualFold(one.Scheme, "bearer"):
			text += "a token in the field Authorization: Bearer TOKEN (RFC 6750)"
		case one.Type == "http":
			text += "the scheme " + one.Scheme + " in the field Authorization"
		case one.Type == "apiKey":
			text += "a key in the " + one.In + " " + one.Name
		default:
			text += one.Type
		}
		s.Entry = append(s.Entry, text)
	}
}

// What a search takes, so that its cost does not grow with the query: bytes and words.
const longestQuery, mostWords = 200, 10

// find gives the operations that have all words.
func (s *site) find(query string) (found []*operation) {
	words := strings.Fields(strings.ToLower(query))
	words = words[:min(len(words), mostWords)]
	for _, a := range s.Areas {
		for _, o := range a.Operations {
			if !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(o.words, w) }) {
				found = append(found, o)
			}
		}
	}
	return found
}
