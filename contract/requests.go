package contract

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"mime"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/wicketway/wicketway/internal/sets"
)

// A sentValue is a parameter of an operation, and where it is.
type sentValue struct {
	*Parameter
	at string
}

// sentValues are the parameters of an operation and of its path, by in and name; those in the path by their place, and
// header fields whatever the case of their names. Fields that OpenAPI says elsewhere are not parameters (4.8.12.2).
func (c *comparing) sentValues(d *Document, o *compared) (all Map[sentValue]) {
	names := parameterNames(o.path)
	item := o.at[:strings.LastIndexByte(o.at, '/')]
	for i, p := range slices.Concat(o.item.Parameters, o.Parameters) {
		at := fmt.Sprint(o.at, "/parameters/", i-len(o.item.Parameters))
		if i < len(o.item.Parameters) {
			at = fmt.Sprint(item, "/parameters/", i)
		}
		if p.Ref != "" {
			to, err := Resolve[Parameter](d, p.Ref)
			if err != nil {
				continue
			}
			p, at = to, strings.TrimPrefix(p.Ref, "#")
		}
		key := p.In + " " + p.Name
		switch p.In {
		case "path":
			key = fmt.Sprint("path ", slices.Index(names, p.Name))
		case "header":
			if slices.ContainsFunc(said, func(name string) bool { return strings.EqualFold(name, p.Name) }) {
				continue
			}
			key = strings.ToLower(key)
		}
		all.Set(key, sentValue{p, at})
	}
	return all
}

// parameterNames are those of a template, in their order.
func parameterNames(path string) (names []string) {
	for _, one := range parameter.FindAllString(path, -1) {
		names = append(names, strings.Trim(one, "{+}"))
	}
	return names
}

func (c *comparing) parameters(before, after *compared) {
	old, is := c.sentValues(c.before, before), c.sentValues(c.after, after)
	for key, p := range is.All() {
		was, has := old.Get(key)
		if has {
			c.parameter(was, p)
			continue
		}
		if p.Required {
			c.say(
				Breaking,
				p.at,
				sent,
				map[string]any{p.In: map[string]any{}},
				"The %s parameter %s is new, and required",
				p.In,
				p.Name,
			)
		} else {
			c.say(Safe, p.at, sent, nil, "The %s parameter %s is new, and optional", p.In, p.Name)
		}
	}
	for key, p := range old.All() {
		if _, has := is.Get(key); !has {
			c.say(
				Look,
				p.at,
				sent,
				nil,
				"The %s parameter %s is gone: requests that have it may mean something else, or be refused",
				p.In,
				p.Name,
			)
		}
	}
}

func (c *comparing) parameter(before, after sentValue) {
	about := after.In + " parameter " + after.Name
	if before.Required != after.Required && after.In != "path" {
		if after.Required {
			c.say(
				Breaking,
				after.at+"/required",
				sent,
				map[string]any{after.In: map[string]any{}},
				"The %s is required",
				about,
			)
		} else {
			c.say(Safe, after.at+"/required", sent, nil, "The %s is no longer required", about)
		}
	}
	if !before.Deprecated && after.Deprecated {
		c.say(Safe, after.at+"/deprecated", sent, nil, "The %s is deprecated", about)
	}
	if before.AllowReserved != after.AllowReserved || before.AllowEmptyValue && !after.AllowEmptyValue {
		c.say(Look, after.at, sent, nil, "The %s is written in another way (allowReserved, allowEmptyValue)", about)
	}
	from, media := valueOf(before.Schema, before.Content)
	to, now := valueOf(after.Schema, after.Content)
	if media != now {
		c.say(
			Look,
			after.at,
			sent,
			nil,
			"The %s was written as %s and is written as %s",
			about,
			cmp.Or(media, "text"),
			cmp.Or(now, "text"),
		)
		return
	}
	if media == "" {
		c.style(before, after, to, about)
	}
	c.schema("the "+about, sent, from, to, before.at+"/schema", after.at+"/schema")
}

// valueOf is the schema of a parameter or a header field, and its media type where it has one.
func valueOf(s Schema, content Map[MediaType]) (Schema, string) {
	for media, c := range content.All() {
		return c.Schema, media
	}
	return s, ""
}

// style compares in what form lists and objects are written; of single values it makes no difference but for label and
// matrix.
func (c *comparing) style(before, after sentValue, s Schema, about string) {
	styleOf := func(p *Parameter) (string, bool) {
		style := cmp.Or(p.Style, map[string]string{"query": "form", "cookie": "form"}[p.In], "simple")
		explode := style == "form"
		if p.Explode != nil {
			explode = *p.Explode
		}
		return style, explode
	}
	was, wasExploded := styleOf(before.Parameter)
	is, isExploded := styleOf(after.Parameter)
	if was == is && wasExploded == isExploded {
		return
	}
	of := c.set(0, 1, s)
	kinds := of.Kinds()
	composed := slices.Contains(kinds, "array") || slices.Contains(kinds, "object")
	if !composed && was != "label" && was != "matrix" && is != "label" && is != "matrix" {
		return
	}
	var witness any
	class := Look
	if v, has := of.Sample(); has && len(kinds) == 1 {
		class, witness = Breaking, sets.Text(v)
	}
	c.say(
		class,
		after.at+"/style",
		sent,
		witness,
		"The %s is written in another style (%s, explode %t; it was %s, explode %t)",
		about,
		is,
		isExploded,
		was,
		wasExploded,
	)
}

func (c *comparing) body(d *Document, o *compared) (*RequestBody, string) {
	b, at := o.RequestBody, o.at+"/requestBody"
	if b != nil && b.Ref != "" {
		to, err := Resolve[RequestBody](d, b.Ref)
		if err != nil {
			return nil, at
		}
		return to, strings.TrimPrefix(b.Ref, "#")
	}
	return b, at
}

func (c *comparing) bodies(was, is *compared) {
	before, from := c.body(c.before, was)
	after, to := c.body(c.after, is)
	switch {
	case before == nil && after == nil:
		return
	case before == nil && after.Required:
		c.say(Breaking, to, sent, map[string]any{"body": nil}, "The request needs a body, and had none")
		return
	case before == nil:
		c.say(Safe, to, sent, nil, "The request can have a body")
		return
	case after == nil:
		c.say(
			Look,
			from,
			sent,
			nil,
			"The request has no body any more: what callers send in it has no effect, or is refused",
		)
		return
	case !before.Required && after.Required:
		c.say(Breaking, to+"/required", sent, map[string]any{"body": nil}, "The body is required")
	case before.Required && !after.Required:
		c.say(Safe, to+"/required", sent, nil, "The body is no longer required")
	}
	matched := map[string]bool{}
	for media, m := range before.Content.All() {
		key, now, found := matching(&after.Content, media)
		if !found {
			c.say(
				Breaking,
				from+pointerTo("content", media),
				sent,
				map[string]any{"header": map[string]string{"Content-Type": media}},
				"The media type %s of the body is gone",
				media,
			)
			continue
		}
		matched[key] = true
		c.contents("the body ("+media+")", sent, m, now, from+pointerTo("content", media), to+pointerTo("content", key))
	}
	for media := range after.Content.All() {
		if !matched[media] {
			c.say(Safe, to+pointerTo("content", media), sent, nil, "The body can be of the media type %s", media)
		}
	}
}

// matching is the content of a media type: under its own name, however it is written, or under that of a range.
func matching(content *Map[MediaType], media string) (key string, m MediaType, found bool) {
	if m, has := content.Get(media); has {
		return media, m, true
	}
	best := -1
	for other, one := range content.All() {
		if how := covers(other, media); how > best {
			best, key, m, found = how, other, one, true
		}
	}
	return key, m, found
}

// covers says how nearly a media type or a range has another one: 2 for the same, 1 and 0 for ranges, -1 for not at all.
func covers(one, media string) int {
	a, params, err := mime.ParseMediaType(one)
	b, others, err2 := mime.ParseMediaType(media)
	switch {
	case err != nil || err2 != nil:
		return -1
	case a == b && maps.Equal(params, others):
		return 2
	case strings.HasSuffix(a, "/*") && strings.HasPrefix(b, strings.TrimSuffix(a, "*")):
		return 1
	case a == "*/*":
		return 0
	}
	return -1
}

// contents compares a body in one media type.
func (c *comparing) contents(about, direction string, before, after MediaType, from, to string) {
	c.schema(about, direction, textOf(before), textOf(after), from+"/schema", to+"/schema")
	c.schema("an item of "+about, direction, itemOf(before), itemOf(after), from+"/itemSchema", to+"/itemSchema")
	if encodingText(before) != encodingText(after) {
		c.say(Look, to+"/encoding", direction, nil, "%s is encoded in another way", upper(about))
	}
}

// textOf is the schema of a body. That of a stream as a whole, where it has one of items, says no more than that it is a
// text.
func textOf(m MediaType) Schema {
	if item := itemOf(m); !item.IsZero() && m.Schema.String("type") == "string" {
		return Schema{}
	}
	return m.Schema
}

// itemOf is the schema of an item of a stream.
func itemOf(m MediaType) Schema {
	if item, has := m.More.Get(ItemKey); has && m.Item.IsZero() {
		return SchemaOf(item)
	}
	return m.Item
}

func encodingText(m MediaType) string {
	text, err := json.Marshal(writable{&MediaType{Encoding: m.Encoding}})
	if err != nil || m.Encoding.Len() == 0 {
		return ""
	}
	return string(bytes.TrimSpace(text))
}
