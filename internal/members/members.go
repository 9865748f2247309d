// Package members says what the members of a struct are to JSON: their names, the way to them, and what
// leaves them out. Whatever reads, checks, writes, adapts or hides members asks it, so that all mean the
// same ones.
package members

import (
	"cmp"
	"reflect"
	"slices"
	"strings"
)

// A Field is what one field of a struct says of itself.
type Field struct {
	Name     string // of the member; for an embedded struct without one that of its type
	Named    bool   // the tag gives the name
	Ignored  bool   // JSON leaves it out
	Embedded bool   // it has its members in its place
	// OmitZero and OmitEmpty leave the member out, Quoted writes a number inside a string.
	OmitZero, OmitEmpty, Quoted bool
	Unknown                     []string // other options
	// Malformed says that the JSON package refuses the tag: its name has quotes or a backslash, or it ends
	// in a comma.
	Malformed bool
}

// Read reads the tag of a field.
func Read(sf reflect.StructField) Field {
	tag := sf.Tag.Get("json")
	f := Field{Name: sf.Name, Ignored: tag == "-" || !sf.IsExported() && !sf.Anonymous}
	name, options, _ := strings.Cut(tag, ",")
	if name != "" {
		f.Name, f.Named = name, true
	}
	f.Malformed = !f.Ignored && (strings.ContainsAny(name, "\\'\"`") || strings.HasSuffix(tag, ","))
	f.Embedded = sf.Anonymous && !f.Named
	for option := range strings.SplitSeq(options, ",") {
		switch option {
		case "":
		case "omitzero":
			f.OmitZero = true
		case "omitempty":
			f.OmitEmpty = true
		case "string":
			f.Quoted = true
		case "embed":
			f.Embedded = true
		default:
			f.Unknown = append(f.Unknown, option)
		}
	}
	return f
}

// A Member is a member of the object that a struct is in JSON.
type Member struct {
	Field
	Of         reflect.StructField // the field itself
	Index      []int               // the way to it, as reflect.Value.FieldByIndex has it
	ViaPointer bool                // an embedded pointer is on the way, which may be nil
}

// Of lists the members of a struct in the order in which they are written, and those that are none since
// several fields of one struct, or of one depth, have the name. A shallower field hides deeper ones, and of
// one depth one that has the name by its tag those of other structs that have it by themselves. What is
// embedded and no struct is left out.
func Of(t reflect.Type) (all, clashing []Member) {
	found, clashing := visit(t)
	slices.SortStableFunc(found, func(x, y Member) int {
		return cmp.Or(cmp.Compare(x.Name, y.Name), cmp.Compare(len(x.Index), len(y.Index)), cmp.Compare(named(x), named(y)))
	})
	for len(found) > 0 {
		n := 1
		for n < len(found) && found[n].Name == found[0].Name {
			n++
		}
		if n == 1 || len(found[0].Index) != len(found[1].Index) || found[0].Named != found[1].Named {
			all = append(all, found[0])
		} else {
			clashing = append(clashing, found[1])
		}
		found = found[n:]
	}
	slices.SortFunc(all, func(x, y Member) int { return slices.Compare(x.Index, y.Index) })
	return all, clashing
}

func named(m Member) int {
	if m.Named {
		return 0
	}
	return 1
}

// visit goes over a struct and those that are embedded in it, the shallower ones first, each type once.
func visit(t reflect.Type) (found, clashing []Member) {
	type place struct {
		of         reflect.Type
		index      []int
		viaPointer bool
		goesOn     bool // to what is embedded
	}
	todo := []place{{of: t, goesOn: true}}
	seen := map[reflect.Type]bool{t: true}
	for len(todo) > 0 {
		at := todo[0]
		todo = todo[1:]
		own := map[string]bool{}
		for i := range at.of.NumField() {
			sf := at.of.Field(i)
			f := Read(sf)
			index := append(slices.Clip(at.index), i)
			switch {
			case f.Ignored:
			case !f.Embedded:
				m := Member{Field: f, Of: sf, Index: index, ViaPointer: at.viaPointer}
				if own[f.Name] {
					clashing = append(clashing, m)
					continue
				}
				own[f.Name], found = true, append(found, m)
			default:
				inner, viaPointer := sf.Type, at.viaPointer
				if inner.Kind() == reflect.Pointer {
					inner, viaPointer = inner.Elem(), true
				}
				if inner.Kind() == reflect.Struct && at.goesOn {
					todo = append(todo, place{inner, index, viaPointer, !seen[inner]})
					seen[inner] = true
				}
			}
		}
	}
	return found, clashing
}
