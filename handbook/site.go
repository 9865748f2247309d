package handbook

import (
	"cmp"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/requests"
	"github.com/wicketway/wicketway/problem"
)

// deepest is how far schemas are followed.
const deepest = 6

// A site is the handbook of one contract.
type site struct {
	Title, Version, Name, Description string
	Areas                             []area
	Problems                          []*trouble
	Entry                             []string // how to say who calls
	Others                            []string // names of the other versions

	doc        *contract.Document
	operations map[string]*operation
	address    string
}

// An area is a group of operations.
type area struct {
	Name, Description string
	Operations        []*operation
}

// An operation as it is read.
type operation struct {
	ID, Page, Method, Path, Summary, Description string
	Who                                          string
	Deprecated                                   bool
	Ends                                         string
	Inputs                                       []value
	Media                                        string
	Body                                         []value
	BodyExample                                  string
	Answers                                      []answer
	Problems                                     []*trouble
	Line                                         string
	Since                                        string   // the version before
	Changes                                      []change // since then; of one that was there
	IsNew                                        bool
	scopes                                       [][]string // of each way to be known
	words                                        string     // all that it can be found by
}

// A change of an operation.
type change struct{ Class, Reason string }

// since notes for each operation what differs from the version before.
func (s *site) since(before, now Version) {
	old := before.Document
	if before.Prefix != "" && now.Prefix != "" {
		old = old.Moved(before.Prefix, now.Prefix)
	}
	was := map[string]bool{}
	for path, item := range old.Paths.All() {
		for method := range item.Operations() {
			was[method+" "+path] = true
		}
	}
	changes := map[string][]change{}
	for _, c := range contract.Compare(old, now.Document) {
		changes[c.Operation] = append(changes[c.Operation], change{string(c.Class), c.Reason})
	}
	for _, o := range s.operations {
		o.Since = before.Name
		if line := o.Method + " " + o.Path; was[line] {
			o.Changes = changes[line]
		} else {
			o.IsNew = true
		}
	}
}

// visible is the handbook without what a caller with some scopes may not call.
func (s *site) visible(scopes []string) *site {
	may := func(o *operation) bool {
		return len(o.scopes) == 0 || slices.ContainsFunc(o.scopes, func(way []string) bool {
			return !slices.ContainsFunc(way, func(scope string) bool { return !slices.Contains(scopes, scope) })
		})
	}
	less := *s
	less.Areas, less.operations = nil, map[string]*operation{}
	for _, a := range s.Areas {
		if a.Operations = slices.DeleteFunc(slices.Clone(a.Operations), func(o *operation) bool { return !may(o) }); len(a.Operations) > 0 {
			less.Areas = append(less.Areas, a)
		}
	}
	for page, o := range s.operations {
		if may(o) {
			less.operations[page] = o
		}
	}
	return &less
}

// A value is a parameter, a member or a header field.
type value struct {
	Where, Name, Type, Rules, Note string
	Required                       bool
	Depth                          int
}

// An answer is a success.
type answer struct {
	Status      int
	Text, Media string
	Type        string
	Fields      []value
	Members     []value
	Example     string
}

// A trouble is a kind of problem.
type trouble struct {
	Status               int
	Code, Title, Meaning string
	Example              string
	By                   []*operation
}

// newSite makes the handbook of a contract. The address is where lines for a shell are sent.
func newSite(d *contract.Document, name, address string) *site {
	s := &site{Title: d.Info.Title, Version: d.Info.Version, Name: name, Description: strings.TrimSpace(d.Info.Description), doc: d,
		operations: map[string]*operation{}, address: address}
	maker := requests.Of(d)
	pages := map[string]bool{"problems": true, "index": true}
	for path, item := range d.Paths.All() {
		if to, err := contract.Resolve[contract.PathItem](d, item.Ref); item.Ref != "" && err == nil {
			item = to
		}
		for method, o := range item.Operations() {
			one := s.operation(method, path, item, o)
			for n := 2; pages[one.Page]; n++ {
				one.Page = pageOf(one.ID) + "-" + strconv.Itoa(n)
			}
			pages[one.Page] = true
			if r, err := maker.Good(method, path); err == nil {
				one.Line = r.Line(address)
			}
			s.operations[one.Page] = one
			s.add(o, one)
		}
	}
	slices.SortFunc(s.Problems, func(a, b *trouble) int { return cmp.Or(cmp.Compare(a.Status, b.Status), cmp.Compare(a.Code, b.Code)) })
	s.entry()
	return s
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

func (s *site) operation(method, path string, item *contract.PathItem, o *contract.Operation) *operation {
	one := &operation{ID: o.ID, Method: method, Path: path, Summary: o.Summary, Description: strings.TrimSpace(o.Description), Deprecated: o.Deprecated}
	if one.ID == "" {
		one.ID = method + " " + path
	}
	one.Page = cmp.Or(pageOf(one.ID), "operation")
	if one.Summary == "" {
		one.Summary = one.ID
	}
	if end := o.Sunset(); !end.IsZero() {
		one.Ends = end.Format("2 January 2006")
	}
	one.Who, one.scopes = s.who(o)
	for _, p := range slices.Concat(item.Parameters, o.Parameters) {
		if to, err := contract.Resolve[contract.Parameter](s.doc, p.Ref); p.Ref != "" && err == nil {
			p = to
		}
		one.Inputs = append(one.Inputs, value{Where: p.In, Name: p.Name, Type: s.typeWords(p.Schema, 0), Rules: ruleWords(s.doc.Follow(p.Schema)), Note: p.Description, Required: p.Required})
	}
	s.body(one, o)
	s.answers(one, o)
	words := []string{one.ID, method, path, one.Summary, one.Description}
	for _, v := range slices.Concat(one.Inputs, one.Body) {
		words = append(words, v.Name)
	}
	for _, p := range one.Problems {
		words = append(words, p.Code)
	}
	one.words = strings.ToLower(strings.Join(words, " "))
	return one
}

// who says who may call.
func (s *site) who(o *contract.Operation) (text string, scopesOf [][]string) {
	required := s.doc.Security
	if o.Security != nil {
		required = *o.Security
	}
	if len(required) == 0 {
		return "everyone", nil
	}
	var ways []string
	for _, one := range required {
		if one.Len() == 0 {
			return "everyone", nil
		}
		var together []string
		for name, scopes := range one.All() {
			together = append(together, scopes...)
			way := "callers with " + name
			if len(scopes) > 0 {
				way += " and the scope " + strings.Join(scopes, ", ")
			}
			ways = append(ways, way)
		}
		scopesOf = append(scopesOf, together)
	}
	return strings.Join(ways, ", or "), scopesOf
}

// members lists those of an object, and below them those of objects and lists in it.
func (s *site) members(of contract.Schema, depth int, seen []string) (all []value) {
	if ref := of.Reference(); ref != "" {
		if slices.Contains(seen, ref) {
			return nil
		}
		seen = append(slices.Clone(seen), ref)
	}
	of = s.doc.Follow(of)
	if depth > deepest {
		return nil
	}
	for _, part := range of.List("allOf") {
		all = append(all, s.members(part, depth, seen)...)
	}
	if items := of.One("items"); depth == 0 && slices.Contains(of.Types(), "array") {
		return s.members(items, depth, seen)
	}
	var required []string
	list, _ := of.Get("required")
	json.Unmarshal(list, &required)
	properties := of.Schemas("properties")
	for name, one := range properties.All() {
		held := s.doc.Follow(one)
		all = append(all, value{Name: name, Type: s.typeWords(one, 0), Rules: ruleWords(held), Note: cmp.Or(one.String("description"), held.String("description")),
			Required: slices.Contains(required, name), Depth: depth})
		inner := one
		if items := held.One("items"); slices.Contains(held.Types(), "array") {
			inner = items
		}
		all = append(all, s.members(inner, depth+1, seen)...)
	}
	return all
}

func (s *site) body(one *operation, o *contract.Operation) {
	b := o.RequestBody
	if b == nil {
		return
	}
	if to, err := contract.Resolve[contract.RequestBody](s.doc, b.Ref); b.Ref != "" && err == nil {
		b = to
	}
	for media, m := range b.Content.All() {
		if one.Media != "" {
			one.Media += ", " + media
			continue
		}
		one.Media = media
		one.Body = s.members(itemIn(m), 0, nil)
		one.BodyExample = s.example(m)
	}
}

// itemIn is the schema of a body, or of the items of a stream.
func itemIn(m contract.MediaType) contract.Schema {
	if own, has := m.More.Get(contract.ItemKey); has {
		return contract.SchemaOf(own)
	}
	if !m.Item.IsZero() {
		return m.Item
	}
	return m.Schema
}

// example is the first one, set out to be read.
func (s *site) example(m contract.MediaType) string {
	shown := m.Example
	for _, e := range m.Examples.All() {
		if to, err := contract.Resolve[contract.Example](s.doc, e.Ref); e.Ref != "" && err == nil {
			e = to
		}
		if shown == nil {
			shown = e.Value
		}
	}
	return setOut(shown)
}

func setOut(value jsontext.Value) string {
	if value = value.Clone(); value == nil || value.Indent(jsontext.WithIndent("  ")) != nil {
		return ""
	}
	return string(value)
}

func (s *site) answers(one *operation, o *contract.Operation) {
	for key, r := range o.Responses.All() {
		if to, err := contract.Resolve[contract.Response](s.doc, r.Ref); r.Ref != "" && err == nil {
			r = to
		}
		status, err := strconv.Atoi(key)
		if err != nil {
			continue // a class, or all others
		}
		if m, has := r.Content.Get(problem.MediaType); status >= 400 && has {
			s.troubles(one, status, r, m)
			continue
		}
		a := answer{Status: status, Text: cmp.Or(r.Description, http.StatusText(status))}
		for name, f := range r.Headers.All() {
			if to, err := contract.Resolve[contract.Header](s.doc, f.Ref); f.Ref != "" && err == nil {
				f = to
			}
			a.Fields = append(a.Fields, value{Name: name, Type: s.typeWords(f.Schema, 0), Note: f.Description})
		}
		for media, m := range r.Content.All() {
			if a.Media != "" {
				a.Media += ", " + media
				continue
			}
			a.Media, a.Members, a.Example = media, s.members(itemIn(m), 0, nil), s.example(m)
			if !m.Schema.IsZero() {
				a.Type = s.typeWords(m.Schema, 0)
			}
		}
		one.Answers = append(one.Answers, a)
	}
}

// troubles adds the kinds of problem of an answer.
func (s *site) troubles(one *operation, status int, r *contract.Response, m contract.MediaType) {
	alternatives := m.Schema.List("oneOf")
	if alternatives == nil {
		alternatives = []contract.Schema{m.Schema}
	}
	values := s.doc.Values()
	for _, of := range alternatives {
		code := values.Constant(of, "code")
		if code == "" {
			continue
		}
		i := slices.IndexFunc(s.Problems, func(t *trouble) bool { return t.Code == code && t.Status == status })
		if i < 0 {
			t := &trouble{Status: status, Code: code, Title: values.Constant(of, "title"), Meaning: s.doc.Follow(of).String("description")}
			for name, e := range m.Examples.All() {
				if to, err := contract.Resolve[contract.Example](s.doc, e.Ref); e.Ref != "" && err == nil {
					e = to
				}
				if strings.Contains(string(e.Value), strconv.Quote(code)) || name == code {
					t.Example = setOut(e.Value)
					if t.Title == "" {
						t.Title = e.Summary
					}
				}
			}
			t.Title = cmp.Or(t.Title, r.Description, code)
			i = len(s.Problems)
			s.Problems = append(s.Problems, t)
		}
		s.Problems[i].By = append(s.Problems[i].By, one)
		one.Problems = append(one.Problems, s.Problems[i])
	}
}

// entry says how callers say who they are.
func (s *site) entry() {
	if s.doc.Components == nil {
		return
	}
	for name, one := range s.doc.Components.SecuritySchemes.All() {
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

// find gives the operations that have all words.
func (s *site) find(query string) (found []*operation) {
	words := strings.Fields(strings.ToLower(query))
	for _, a := range s.Areas {
		for _, o := range a.Operations {
			if !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(o.words, w) }) {
				found = append(found, o)
			}
		}
	}
	return found
}
