package check

import (
	"cmp"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/schema"
)

// A Parameter is a value that comes as text: in a path, a query, a header or a
// cookie. It is immutable and safe to share.
type Parameter struct {
	typ      *Type
	rules    rules
	items    rules
	required bool
	words    []string
	since    string // of one that is deprecated
	fallback reflect.Value
	rule     string // as it was written
	note     string
	missing  string // what is told where it is required and absent
	unread   string // and where it cannot be read; "": the usual sentence
	example  reflect.Value
}

// Judges reports whether the type has a Check of its own.
func (p *Parameter) Judges() bool { return p.typ.judges }

// Parameter compiles a field of type t with its struct tag. A list takes
// repeated values. The error joins all that is wrong.
func (s *Set) Parameter(t reflect.Type, tag reflect.StructTag) (*Parameter, error) {
	typ, err := s.Type(t)
	if err := errors.Join(CheckTag(tag), err); err != nil {
		return nil, err
	}
	typ = typ.asText()
	single := typ.base()
	if typ.shape == list {
		single = typ.elem.base()
	}
	switch single.shape {
	case anything, list, mapping, object, oneOf:
		return nil, fmt.Errorf(
			"the type %s cannot be read from a text: use a basic type, time.Time, a type with UnmarshalText, or a list of these",
			t,
		)
	}
	r, err := parseRules(tag, typ.base())
	if err != nil {
		return nil, err
	}
	p := &Parameter{typ: typ, rules: r.checks, items: r.items, required: r.required, words: r.words, since: r.since, missing: cmp.Or(r.missing, isMissing), unread: r.unread, rule: tag.Get("rule"),
		note: tag.Get("note")}
	if p.example, err = r.example(tag, typ.base()); err != nil {
		return nil, err
	}
	if r.fallback.IsValid() {
		p.fallback = reflect.New(t).Elem()
		set(p.fallback, r.fallback)
	}
	return p, nil
}

// Deprecated reports whether the parameter is deprecated, and since when; "" where that is not said.
func (p *Parameter) Deprecated() (is bool, since string) {
	return slices.Contains(p.words, "deprecated"), p.since
}

// asText is the type as a parameter has it: by its text methods, even where its JSON is made by methods that it may only
// have from a struct that is embedded in it, such as a time.Time.
func (t *Type) asText() *Type {
	switch {
	case t.shape == anything && implements(t.goType, textInterfaces):
		own := *t
		own.shape, own.null, own.open = encoded, false, false
		return &own
	case t.elem != nil && t.shape != mapping && !t.recursive:
		if elem := t.elem.asText(); elem != t.elem {
			own := *t
			own.elem = elem
			return &own
		}
	}
	return t
}

// Required makes the parameter required, as those of a path are.
func (p *Parameter) Required() error {
	if p.fallback.IsValid() {
		return errors.New("rule default: a required value needs none")
	}
	p.required = true
	return nil
}

// Absent fills v for a parameter that was not sent.
func (p *Parameter) Absent(v reflect.Value) []schema.Fault {
	if p.required {
		return []schema.Fault{{Rule: "required", Detail: p.missing}}
	}
	if p.fallback.IsValid() {
		renew(v, p.fallback)
	}
	return nil
}

// Read reads and checks the text that was sent once into v, of the type that p
// was compiled from.
func (p *Parameter) Read(text string, v reflect.Value) []schema.Fault {
	if p.typ.shape == list {
		return p.ReadAll([]string{text}, v, 1)
	}
	if detail := p.typ.parseText(text, v); detail != "" {
		return []schema.Fault{p.typ.unreadable(cmp.Or(p.unread, detail))}
	}
	if len(p.rules) == 0 && !p.typ.judges {
		return nil
	}
	if inner, there := p.typ.reach(v); there {
		if !p.rules.hold(inner) {
			return p.rules.faults(inner, "")
		}
		if p.typ.judges {
			own := report{faults: bounded(0)}
			p.typ.judge(v, &own)
			return own.found
		}
	}
	return nil
}

// ReadAll reads and checks texts that were sent under one name. A parameter
// that is not a list takes one. The pointer of a fault names the item: "/2" for the
// third. At most as many faults are looked for as most says, and one more, so that it
// is seen that there are more.
func (p *Parameter) ReadAll(texts []string, v reflect.Value, most int) []schema.Fault {
	if p.typ.shape != list {
		if len(texts) > 1 {
			return []schema.Fault{{Rule: "unique", Detail: "is given more than once", Unreadable: true}}
		}
		return p.Read(texts[0], v)
	}
	found := bounded(most + 1)
	all := reflect.MakeSlice(reflect.SliceOf(p.typ.elem.goType), len(texts), len(texts))
	for i := 0; i < len(texts) && !found.more; i++ {
		p.item(i, texts[i], all.Index(i), &found)
	}
	if found.found != nil {
		return found.found
	}
	if v.Kind() == reflect.Array {
		if v.Len() != len(texts) {
			return []schema.Fault{{Rule: "maxItems", Want: v.Len(),
				Detail: fmt.Sprintf("must be given %d times", v.Len())}}
		}
		reflect.Copy(v, all)
	} else {
		v.Set(all.Convert(v.Type()))
	}
	if broken := p.rules.faults(v, ""); broken != nil || !p.typ.judges {
		return broken
	}
	own := report{faults: found}
	p.typ.judge(v, &own)
	return own.found
}

func (p *Parameter) item(i int, text string, v reflect.Value, found *faults) {
	at := path{{index: i, item: true}}.pointer()
	elem := p.typ.elem
	if detail := elem.parseText(text, v); detail != "" {
		f := elem.unreadable(cmp.Or(p.unread, detail))
		f.Pointer = at
		found.add(f)
		return
	}
	if inner, there := elem.reach(v); there {
		for _, f := range p.items.faults(inner, at) {
			found.add(f)
		}
	}
}

func (t *Type) unreadable(detail string) schema.Fault {
	return schema.Fault{Rule: t.unreadRule(), Want: t.name(), Detail: detail, Unreadable: true}
}

// Texts writes a value as the texts that Read and ReadAll would read it from;
// none for a nil pointer.
func (p *Parameter) Texts(v reflect.Value) ([]string, error) {
	if p.typ.shape != list {
		return p.typ.texts(v)
	}
	var all []string
	for i := range v.Len() {
		one, err := p.typ.elem.texts(v.Index(i))
		if err != nil {
			return nil, err
		}
		all = append(all, one...)
	}
	return all, nil
}

// Document writes the parameter as a JSON Schema (draft 2020-12), as the values are once they are read.
func (p *Parameter) Document() jsontext.Value {
	of := field{
		typ: p.typ, rules: p.rules, items: p.items, note: p.note, fallback: p.fallback, example: p.example,
	}
	return write(NewDocuments("", nil).member(&of, Direction{}))
}

// Describe gives the type, the rules as they were written, the note, and whether
// the parameter must be there.
func (p *Parameter) Describe() (kind, rule, note string, required bool) {
	return p.typ.Name(), p.rule, p.note, p.required
}

// Judge holds a value against the rules of a field that it is for. What is wrong with the rules Type says.
func (s *Set) Judge(field reflect.StructField, value reflect.Value) []schema.Fault {
	one := reflect.StructOf([]reflect.StructField{{
		Name: "Value",
		Type: field.Type,
		Tag:  reflect.StructTag(`json:"value" rule:` + strconv.Quote(field.Tag.Get("rule"))),
	}})
	t, err := s.Type(one)
	if err != nil {
		return nil
	}
	held := reflect.New(one)
	held.Elem().Field(0).Set(value)
	text, err := json.Marshal(held.Interface())
	if err != nil {
		return []schema.Fault{{Detail: err.Error()}}
	}
	found, _ := t.Decode(text, reflect.New(one).Interface(), Reading{Lenient: ReadOnlyMembers})
	return found
}
