package check

import "slices"

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
	if t.shape != object || seen[t] {
		return nil
	}
	seen[t] = true
	defer delete(seen, t)
	for _, f := range t.fields {
		at := pointer + "/" + f.name
		all = append(all, Member{at, f.typ.Name(), f.required, f.rule, f.note})
		all = append(all, f.typ.listMembers(at, seen)...)
	}
	return all
}

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
