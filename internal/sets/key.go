package sets

import (
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// key is a text that two schemas share only where they are the same: with what they refer to, without annotations.
func (d *Schemas) key(schema jsontext.Value) string {
	k := keying{of: d}
	k.value(schema, aSchema)
	if k.b.Len() > mostKey {
		*d.made++
		return "large " + strconv.Itoa(*d.made)
	}
	return k.b.String()
}

// mostKey bounds the text that a schema is compared by.
const mostKey = 1 << 14

type keying struct {
	of    *Schemas
	b     strings.Builder
	above []string // references that are being written
}

func (k *keying) value(text jsontext.Value, as role) {
	if k.b.Len() > mostKey {
		return
	}
	switch text.Kind() {
	case jsontext.KindBeginObject:
		var has map[string]jsontext.Value
		json.Unmarshal(text, &has)
		names := make([]string, 0, len(has))
		for name := range has {
			names = append(names, name)
		}
		slices.Sort(names)
		k.b.WriteByte('{')
		for _, name := range names {
			switch {
			case as == aSchema && (slices.Contains(annotations, name) || strings.HasPrefix(name, "x-")):
			case as == aSchema && name == "$ref":
				k.reference(textOf(has[name]))
			default:
				k.b.WriteString(strconv.Quote(name))
				k.b.WriteByte(':')
				k.value(has[name], as.of(name))
				k.b.WriteByte(',')
			}
		}
		k.b.WriteByte('}')
	case jsontext.KindBeginArray:
		var all []jsontext.Value
		json.Unmarshal(text, &all)
		k.b.WriteByte('[')
		for _, one := range all {
			k.value(one, as)
			k.b.WriteByte(',')
		}
		k.b.WriteByte(']')
	case jsontext.KindNumber:
		if n := numberOf(text); n.rat != nil {
			k.b.WriteString(n.rat.RatString())
			return
		}
		fallthrough
	default:
		v, _ := ValueOf(text)
		k.b.Write(Text(v))
	}
}

// A role is what a text is in a schema.
type role uint8

const (
	data role = iota
	aSchema
	named // an object of schemas
)

// of is the role of a member.
func (r role) of(name string) role {
	switch {
	case r == named:
		return aSchema
	case r == data || slices.Contains([]string{"enum", "const", "default", "required", "type", "dependentRequired"}, name):
		return data
	case slices.Contains([]string{"properties", "patternProperties", "dependentSchemas"}, name):
		return named
	}
	return aSchema
}

func (k *keying) reference(ref string) {
	if i := slices.Index(k.above, ref); i >= 0 {
		k.b.WriteString("^" + strconv.Itoa(len(k.above)-i))
		return
	}
	schema, has := k.of.lookup(ref)
	if !has {
		*k.of.made++
		k.b.WriteString("?" + ref + strconv.Itoa(*k.of.made)) // it may lead elsewhere in the other document
		return
	}
	k.above = append(k.above, ref)
	k.value(schema, aSchema)
	k.above = k.above[:len(k.above)-1]
}
