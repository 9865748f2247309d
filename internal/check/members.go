package check

import (
	"slices"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/peek"
)

// A Member is a member of a JSON object, or of one inside it.
type Member struct {
	Pointer  string // RFC 6901
	Type     string
	Required bool
	Rule     string // as it was written
	Note     string
}

// Members lists what an object of the type has, with what objects inside it have;
// nil where the type is no object.
func (t *Type) Members() []Member {
	return t.listMembers("", map[*Type]bool{})
}

func (t *Type) listMembers(pointer string, seen map[*Type]bool) (all []Member) {
	t = t.base()
	if t.shape != object && t.shape != oneOf || seen[t] {
		return nil
	}
	seen[t] = true
	defer delete(seen, t)
	for text := range t.eachText() {
		all = append(all, text.listMembers(pointer, seen)...)
	}
	for _, f := range t.fields {
		at := pointer + "/" + f.name
		all = append(all, Member{at, f.typ.Name(), f.required, f.rule, f.note})
		all = append(all, f.typ.listMembers(at, seen)...)
	}
	return all
}

// IsList reports whether values are lists, whose items are known.
func (t *Type) IsList() bool { return t.base().shape == list }

// WriteOnly gives the pointer of a member, at or below the type, that only callers
// may send; "" where there is none.
func (t *Type) WriteOnly() string { return t.writeOnly("", map[*Type]bool{}) }

func (t *Type) writeOnly(pointer string, seen map[*Type]bool) string {
	t = t.base()
	if seen[t] {
		return ""
	}
	seen[t] = true
	if t.elem != nil {
		return t.elem.writeOnly(pointer, seen)
	}
	for of := range t.eachCase() {
		if found := of.writeOnly(pointer, seen); found != "" {
			return found
		}
	}
	for _, f := range t.fields {
		if slices.Contains(f.words, "writeOnly") {
			return pointer + "/" + f.name
		}
		if found := f.typ.writeOnly(pointer+"/"+f.name, seen); found != "" {
			return found
		}
	}
	return ""
}

// Name names the type as JSON Schema does, with its items or its format:
// "array of integer", "string (date-time)".
func (t *Type) Name() string {
	name := ""
	for range 4 { // types can contain themselves
		switch t = t.base(); t.shape {
		case list:
			name, t = name+"array of ", t.elem
			continue
		case mapping:
			name, t = name+"object of ", t.elem
			continue
		case moment:
			return name + "string (date-time)"
		case bytes:
			return name + "string (base64)"
		case anything:
			return name + "anything"
		}
		return name + t.name()
	}
	return name + "..."
}

// ForServers gives a value in JSON as callers may send it: without the members that only the
// server sets.
func (t *Type) ForServers(data jsontext.Value) (jsontext.Value, error) {
	if t = t.base(); !t.readOnly || data.Kind() == jsontext.KindNull {
		return data, nil
	}
	if t.shape == oneOf {
		name, _ := peek.Member(data, t.cases.set.Member)
		if of := t.cases.texts[string(name)]; of != nil {
			return of.ForServers(data)
		}
		return data, nil
	}
	if t.shape == list {
		var items []jsontext.Value
		if err := json.Unmarshal(data, &items); err != nil {
			return nil, err
		}
		for i := range items {
			var err error
			if items[i], err = t.elem.ForServers(items[i]); err != nil {
				return nil, err
			}
		}
		return json.Marshal(items)
	}
	var members map[string]jsontext.Value
	if err := json.Unmarshal(data, &members); err != nil {
		return nil, err
	}
	for name, value := range members {
		of := t.elem
		if f := t.byName[name]; f != nil {
			if of = f.typ; f.readOnly {
				delete(members, name)
				continue
			}
		}
		if of == nil {
			continue // of an embedded map
		}
		var err error
		if members[name], err = of.ForServers(value); err != nil {
			return nil, err
		}
	}
	return json.Marshal(members, json.Deterministic(true))
}
