package handbook

import (
	"cmp"
	"slices"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
)

// What a page shows of schemas, so that it costs no more than a page: they can refer to one another in ever more ways.
const (
	deepest   = 6
	mostNodes = 400
)

// Kinds of nodes, which decide how a value is written down in a form.
const (
	anyKind    = "any" // as JSON
	objectKind = "object"
	mapKind    = "map" // an object whose names the caller chooses
	listKind   = "list"
	choiceKind = "choice"
	textKind   = "text"
	numberKind = "number"
	truthKind  = "truth"
	fileKind   = "file"
)

// A node is a place in what is sent or read: a parameter, a body, a member, an item. Of it come the tables of a page and
// the fields of a form.
type node struct {
	Kind     string           `json:"kind"`
	Name     string           `json:"name,omitzero"`
	Type     string           `json:"type"` // in words
	Rules    string           `json:"rules,omitzero"`
	Note     string           `json:"note,omitzero"`
	Required bool             `json:"required,omitzero"`
	Null     bool             `json:"null,omitzero"`     // null has a place in it
	Format   string           `json:"format,omitzero"`   // of a text
	Whole    bool             `json:"whole,omitzero"`    // of a number
	Options  []jsontext.Value `json:"options,omitempty"` // all that it can be
	Members  []node           `json:"members,omitempty"`
	Item     *node            `json:"item,omitzero"` // of lists and maps
	Choices  []node           `json:"choices,omitempty"`
}

// A walk makes the nodes of a schema.
type walk struct {
	*site
	left int // how many it may still make
	from []string
}

func (s *site) walk() *walk { return &walk{site: s, left: mostNodes} }

// node makes that of a schema, and of all below it.
func (w *walk) node(name string, of contract.Schema) node {
	n := w.outline(name, of)
	ref := of.Reference()
	if w.left--; w.left < 0 || len(w.from) > deepest || ref != "" && slices.Contains(w.from, ref) {
		return n
	}
	w.from = append(w.from, ref)
	defer func() { w.from = w.from[:len(w.from)-1] }()
	w.fill(&n, w.doc.Follow(of))
	return n
}

// outline is a node without what is below it.
func (w *walk) outline(name string, of contract.Schema) node {
	held := w.doc.Follow(of)
	n := node{Kind: anyKind, Name: name, Type: w.typeWords(of, 0), Rules: ruleWords(held), Format: held.String("format"),
		Note: cmp.Or(of.String("description"), held.String("description"))}
	return n
}

// fill finds out of which kind a node is, and what is below it.
func (w *walk) fill(n *node, of contract.Schema) {
	types := of.Types()
	n.Null = slices.Contains(types, "null")
	types = slices.DeleteFunc(slices.Clone(types), func(t string) bool { return t == "null" })
	if list, has := of.Get("enum"); has && json.Unmarshal(list, &n.Options) != nil {
		n.Options = nil
	}
	if value, has := of.Get("const"); has {
		n.Options = []jsontext.Value{value}
	}
	n.Options = slices.DeleteFunc(n.Options, func(v jsontext.Value) bool {
		n.Null = n.Null || v.Kind() == jsontext.KindNull
		return v.Kind() == jsontext.KindNull
	})
	if w.chosen(n, of) {
		return
	}
	members := w.members(of)
	switch {
	case members != nil:
		n.Kind, n.Members = objectKind, members
	case len(types) != 1:
	case types[0] == "string":
		if n.Kind = textKind; n.Format == "binary" || of.String("contentMediaType") == "application/octet-stream" {
			n.Kind = fileKind
		}
	case types[0] == "integer", types[0] == "number":
		n.Kind, n.Whole = numberKind, types[0] == "integer"
	case types[0] == "boolean":
		n.Kind = truthKind
	case types[0] == "array":
		if items := of.One("items"); !items.IsZero() {
			item := w.node("", items)
			n.Kind, n.Item = listKind, &item
		}
	case types[0] == "object":
		if more := of.One("additionalProperties"); !more.IsZero() && string(more.Text()) != "false" {
			item := w.node("", more)
			n.Kind, n.Item = mapKind, &item
		}
	}
}

// chosen fills in a node that is one of several things. One of them or null is that one.
func (w *walk) chosen(n *node, of contract.Schema) bool {
	all := of.List("oneOf")
	if all == nil {
		all = of.List("anyOf")
	}
	if all == nil || len(w.members(of)) > 0 {
		return false
	}
	rest := slices.DeleteFunc(slices.Clone(all), func(s contract.Schema) bool { return slices.Equal(w.doc.Follow(s).Types(), []string{"null"}) })
	null := n.Null || len(rest) < len(all)
	switch len(rest) {
	case 0:
		return false
	case 1:
		one := w.node(n.Name, rest[0])
		one.Note, one.Type = cmp.Or(n.Note, one.Note), n.Type
		*n = one
	default:
		n.Kind = choiceKind
		for _, one := range rest {
			n.Choices = append(n.Choices, w.node("", one))
		}
	}
	n.Null = n.Null || null
	return true
}

// members are those of an object, of all its parts.
func (w *walk) members(of contract.Schema) (all []node) {
	for _, part := range of.List("allOf") {
		if ref := part.Reference(); w.left <= 0 || ref != "" && slices.Contains(w.from, ref) || len(w.from) > deepest {
			continue
		}
		w.from = append(w.from, part.Reference())
		all = append(all, w.members(w.doc.Follow(part))...)
		w.from = w.from[:len(w.from)-1]
	}
	var required []string
	list, _ := of.Get("required")
	json.Unmarshal(list, &required)
	properties := of.Schemas("properties")
	for name, one := range properties.All() {
		if w.left <= 0 {
			break
		}
		member := w.node(name, one)
		member.Required = slices.Contains(required, name)
		all = append(all, member)
	}
	return all
}

// files finds those of a form: parts that have no schema are bytes (OpenAPI 3.1.1, 4.8.15.1.1).
func (n *node) files() {
	for i := range n.Members {
		of := &n.Members[i]
		if of.Kind == listKind {
			of.Type = "list of files"
			of = of.Item
		}
		if of.Kind == anyKind {
			of.Kind, of.Type = fileKind, "a file"
		} else if of != &n.Members[i] {
			n.Members[i].Type = "list of " + of.Type
		}
	}
}

// rows are what a table has of what is below a node.
func (n *node) rows(depth int) (all []value) {
	for i := range n.Members {
		all = append(all, n.Members[i].row(depth)...)
	}
	for i := range n.Choices {
		if below := n.Choices[i].rows(depth + 1); below != nil {
			all = append(append(all, value{Name: "either " + n.Choices[i].Type, Note: n.Choices[i].Note, Depth: depth}), below...)
		}
	}
	if n.Item != nil && n.Kind == listKind {
		all = append(all, n.Item.rows(depth)...)
	} else if n.Item != nil {
		item := *n.Item
		item.Name = "any name"
		all = append(all, item.row(depth)...)
	}
	return all
}

func (n *node) row(depth int) []value {
	return append([]value{{Name: n.Name, Type: n.Type, Rules: n.Rules, Note: n.Note, Required: n.Required, Depth: min(depth, deepest)}}, n.rows(depth+1)...)
}
