package contract

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/sets"
)

// A Class says what a change means for clients that were written before it.
type Class string

// Classes of changes.
const (
	// Breaking is a change for which a request or an answer is known that was fine and no longer is.
	Breaking Class = "breaking"
	// Look is a change of which neither is proved.
	Look Class = "look"
	// Safe is a change that is proved to break no client.
	Safe Class = "safe"
)

// Directions of changes: of what clients send, and of what they read.
const (
	sent = "sent"
	read = "read"
)

// A Change is a difference between two contracts.
type Change struct {
	Class     Class  `json:"class"`
	Operation string `json:"operation,omitzero"` // METHOD PATH, as in the new contract; "" for the whole
	Pointer   string `json:"pointer"`            // into the new contract; into the old one for what is gone
	Direction string `json:"direction,omitzero"` // sent, of what clients send, or read, of what they read
	Reason    string `json:"reason"`             // a sentence
	// Witness shows a break: a value at the place of the pointer, or the part of a request or an answer that is meant, as
	// an object.
	Witness jsontext.Value `json:"witness,omitzero"`
}

// String gives the change as a line.
func (c Change) String() string {
	text := fmt.Sprintf("%s: %s", c.Class, c.Reason)
	if c.Operation != "" {
		text = fmt.Sprintf("%s: %s: %s", c.Class, c.Operation, c.Reason)
	}
	if c.Witness != nil {
		text += " For example: " + string(c.Witness)
	}
	return text
}

// Compare lists what has changed from one contract to another, in the order of the new one; then what is gone. Texts,
// examples, names of components, the order of members, and schemas that accept the same values by other words are no
// changes.
//
// For what clients send a change is safe if all that was accepted still is; for what they read, if all that is answered
// could have been answered before. What is unknown of a schema (a pattern that differs, overlapping alternatives of
// oneOf, not, if, $dynamicRef, unevaluatedProperties) is to be looked at.
func Compare(before, after *Document) []Change {
	c := &comparing{
		before:   before,
		after:    after,
		same:     map[string]bool{},
		told:     map[string]bool{},
		replaced: map[[2]string][]replacing{},
	}
	for i, direction := range []sets.Direction{sets.Sent, sets.Read} {
		c.schemas[i][0] = sets.New(before.followed(), nil, direction)
		c.schemas[i][1] = sets.New(after.followed(), c.schemas[i][0], direction)
		c.by[i] = sets.Compare(c.schemas[i][0])
	}
	c.dynamic = sync.OnceValue(func() bool { return sameDynamic(before, after) })
	c.document()
	return c.changes
}

// comparing is a comparison that goes on.
type comparing struct {
	before, after *Document
	schemas       [2][2]*sets.Schemas // by direction, of the old document and of the new one
	by            [2]*sets.Comparison
	same          map[string]bool // components that are the same in both, by their references
	dynamic       func() bool     // schemas that are chosen dynamically are the same
	operation     string
	changes       []Change
	replaced      map[[2]string][]replacing // answers of an operation with another media type, by that and the old ones
	told          map[string]bool           // of what several operations share, what has been said of one
}

func (c *comparing) say(class Class, pointer, direction string, witness any, format string, args ...any) {
	change := Change{
		Class:     class,
		Operation: c.operation,
		Pointer:   pointer,
		Direction: direction,
		Reason:    fmt.Sprintf(format, args...) + ".",
	}
	switch w := witness.(type) {
	case nil:
	case jsontext.Value:
		change.Witness = w
	default:
		var o jsonObject
		o.say("w", w)
		change.Witness, _ = o.schema().Get("w")
	}
	c.changes = append(c.changes, change)
}

// shape is a path template without the names of its parameters, so that other names are no change.
func shape(path string) string { return parameter.ReplaceAllString(path, "{}") }

func (c *comparing) document() {
	old := map[string]string{} // paths by their shapes
	for path := range c.before.Paths.All() {
		old[shape(path)] = path
	}
	seen := map[string]bool{}
	for path, item := range c.after.Paths.All() {
		seen[shape(path)] = true
		was, has := old[shape(path)]
		if !has {
			for method := range c.item(c.after, item).Operations() {
				c.operation = method + " " + path
				c.say(Safe, pointerTo("paths", path, strings.ToLower(method)), "", nil, "The operation is new")
			}
			continue
		}
		before, _ := c.before.Paths.Get(was)
		c.paths(was, path, c.item(c.before, before), c.item(c.after, item))
	}
	for path, item := range c.before.Paths.All() {
		if !seen[shape(path)] {
			for method, o := range c.item(c.before, item).Operations() {
				c.gone(method, path, o)
			}
		}
	}
	c.operation = ""
	c.servers("", c.before.Servers, c.after.Servers)
	c.webhooks()
}

// item is a path item, with what it refers to.
func (c *comparing) item(d *Document, item *PathItem) *PathItem {
	if item != nil && item.Ref != "" {
		if to, err := Resolve[PathItem](d, item.Ref); err == nil {
			return to
		}
	}
	if item == nil {
		return new(PathItem)
	}
	return item
}

func pointerTo(names ...string) string {
	var b strings.Builder
	for _, name := range names {
		b.WriteString("/" + escaper.Replace(name))
	}
	return b.String()
}

// gone reports an operation that is no longer there.
func (c *comparing) gone(method, path string, o *Operation) {
	c.operation = method + " " + path
	text := "The operation is gone"
	for to, item := range c.after.Paths.All() {
		for other, moved := range c.item(c.after, item).Operations() {
			if o.ID != "" && moved.ID == o.ID && other == method {
				text += ": it is at " + to
			}
		}
	}
	c.say(
		Breaking,
		pointerTo("paths", path, strings.ToLower(method)),
		sent,
		map[string]string{"method": method, "path": path},
		"%s",
		text,
	)
}

// paths compares two path items.
func (c *comparing) paths(was, is string, before, after *PathItem) {
	old := map[string]*Operation{}
	for method, o := range before.Operations() {
		old[method] = o
	}
	for method, o := range after.Operations() {
		c.operation = method + " " + is
		at := pointerTo("paths", is, strings.ToLower(method))
		b := old[method]
		if delete(old, method); b == nil {
			c.say(Safe, at, "", nil, "The operation is new")
			continue
		}
		from := pointerTo("paths", was, strings.ToLower(method))
		c.operations(&compared{b, before, was, from}, &compared{o, after, is, at})
	}
	for method, o := range before.Operations() {
		if old[method] != nil {
			c.gone(method, was, o)
		}
	}
}

// A compared operation, with where it is.
type compared struct {
	*Operation
	item *PathItem
	path string
	at   string // the pointer to it
}

func (c *comparing) operations(before, after *compared) {
	if before.ID != after.ID && before.ID != "" {
		c.say(
			Look,
			after.at+"/operationId",
			"",
			nil,
			"The operation was called %s and is called %s: clients that are made from the contract call it by that name",
			before.ID,
			cmp.Or(after.ID, "nothing"),
		)
	}
	if before.Deprecated != after.Deprecated {
		text := "The operation is no longer deprecated"
		if after.Deprecated {
			text = "The operation is deprecated"
		}
		c.say(Safe, after.at+"/deprecated", "", nil, "%s", text)
	}
	c.parameters(before, after)
	c.bodies(before, after)
	c.responses(before, after)
	c.security(before, after)
	c.servers(
		after.at,
		slices.Concat(before.item.Servers, before.Servers),
		slices.Concat(after.item.Servers, after.Servers),
	)
	if a, b := callbacksText(before.Operation), callbacksText(after.Operation); a != b {
		c.say(Look, after.at+"/callbacks", "", nil, "The callbacks changed, which are not compared")
	}
}

// callbacksText is what is written of callbacks.
func callbacksText(o *Operation) string {
	if o.Callbacks.Len() == 0 {
		return ""
	}
	only := &Operation{Callbacks: o.Callbacks}
	return string(only.text())
}

// webhooks are requests that the server sends; they are not compared.
func (c *comparing) webhooks() {
	only := func(d *Document) string {
		return string((&Document{Webhooks: d.Webhooks}).Text())
	}
	if (c.before.Webhooks.Len() > 0 || c.after.Webhooks.Len() > 0) && only(c.before) != only(c.after) {
		c.say(Look, "/webhooks", "", nil, "The webhooks changed, which are not compared")
	}
}

func (c *comparing) servers(at string, before, after []Server) {
	urls := func(all []Server) (urls []string) {
		for _, s := range all {
			urls = append(urls, s.URL)
		}
		return urls
	}
	old, is := urls(before), urls(after)
	for _, url := range old {
		if !slices.Contains(is, url) {
			c.say(Look, at+"/servers", sent, nil, "The server %s is no longer listed", url)
		}
	}
	for i, url := range is {
		if !slices.Contains(old, url) && old != nil {
			c.say(Safe, fmt.Sprint(at, "/servers/", i), "", nil, "The server %s is new", url)
		}
	}
}

// classOf is the class for what is known of a change.
func classOf(safe sets.Verdict) Class {
	return [...]Class{sets.No: Breaking, sets.Maybe: Look, sets.Yes: Safe}[safe]
}

// schema compares two schemas. What several operations share is told once, of the first.
func (c *comparing) schema(about, direction string, before, after Schema, from, to string) {
	if c.isSame(before, after) {
		return
	}
	i := 0
	if direction == read {
		i = 1
	}
	for _, d := range c.by[i].Differences(c.set(i, 0, before), c.set(i, 1, after), from, to) {
		key := direction + d.Pointer + d.Text
		if c.told[key] && !strings.HasPrefix(d.Pointer, to) {
			continue
		}
		c.told[key] = true
		reason := about + ": " + d.Text
		if d.Safe == sets.Maybe {
			reason += "; whether it breaks a client is not decided by the schemas"
		}
		var witness any
		if d.Witness != nil {
			witness = d.Witness
		}
		c.say(classOf(d.Safe), d.Pointer, direction, witness, "%s", upper(reason))
	}
}

// set is a schema of the old document (0) or of the new one (1), in a direction; where there is none it accepts all.
func (c *comparing) set(direction, document int, s Schema) *sets.Set {
	if s.IsZero() {
		s = SchemaOf(jsontext.Value("true"))
	}
	return c.schemas[direction][document].Of(s.text)
}

func upper(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// isSame reports whether two schemas are written alike, and all that they refer to.
func (c *comparing) isSame(before, after Schema) bool {
	if !bytes.Equal(before.text, after.text) {
		return false
	}
	if bytes.Contains(before.text, []byte(`"$dynamicRef"`)) && !c.dynamic() {
		return false
	}
	for ref := range references(before.text) {
		if !c.isSameComponent(ref) {
			return false
		}
	}
	return true
}

func (c *comparing) isSameComponent(ref string) bool {
	if is, known := c.same[ref]; known {
		return is
	}
	a, has := c.before.followed()(ref)
	b, isThere := c.after.followed()(ref)
	if !has || !isThere {
		return has == isThere // what is written alike, and leads nowhere, has not changed
	}
	c.same[ref] = true // while it is looked at: it may refer to itself
	is := c.isSame(SchemaOf(a), SchemaOf(b))
	if c.same[ref] = is; !is {
		clear(c.same) // what was found same may rest on it
		c.same[ref] = false
	}
	return is
}

// references gives the values of $ref in a schema.
func references(text jsontext.Value) func(yield func(string) bool) {
	return func(yield func(string) bool) {
		rest := []byte(text)
		for {
			i := bytes.Index(rest, []byte(`"$ref"`))
			if i < 0 {
				return
			}
			rest = bytes.TrimLeft(rest[i+len(`"$ref"`):], " \t\r\n:")
			if len(rest) == 0 || rest[0] != '"' {
				continue
			}
			end := bytes.IndexByte(rest[1:], '"')
			if end < 0 || !yield(string(rest[1:1+end])) {
				return
			}
		}
	}
}

// sameDynamic reports whether all schemas with a $dynamicAnchor are written alike.
func sameDynamic(before, after *Document) bool {
	all := func(d *Document) (texts []string) {
		Each(d, func(_ string, s *Schema) {
			if bytes.Contains(s.text, []byte(`"$dynamicAnchor"`)) {
				texts = append(texts, string(s.text))
			}
		})
		return texts
	}
	return slices.Equal(all(before), all(after))
}
