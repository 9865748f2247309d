package check

import (
	stdbytes "bytes"
	"errors"
	"fmt"
	"reflect"
	"slices"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/schema"
)

// A Sequence is a list whose items come one after the other and are checked each for itself.
type Sequence struct {
	Item *Type
	List *Type
	rule string
	size rules
}

// Sequence compiles a sequence of items of a type, with the struct tag of the field that takes it: its rules can be
// minItems and maxItems. The error joins all that is wrong.
func (s *Set) Sequence(item reflect.Type, tag reflect.StructTag) (*Sequence, error) {
	list, err := s.Type(reflect.SliceOf(item))
	if err := errors.Join(CheckTag(tag), err); err != nil {
		return nil, err
	}
	parsed, err := parseRules(tag, list)
	if err != nil {
		return nil, err
	}
	for _, r := range slices.Concat(parsed.checks, parsed.items) {
		if r.keyword != "minItems" && r.keyword != "maxItems" {
			return nil, fmt.Errorf("rule %s: is not asked of items that come one after the other: minItems and maxItems are, "+
				"and what rules the item's own type has", r.keyword)
		}
	}
	if parsed.words != nil || parsed.required || parsed.notNull || parsed.fallback.IsValid() {
		return nil, fmt.Errorf("rule %s: says nothing about a stream, which can be empty; minItems=1 refuses that", tag.Get("rule"))
	}
	return &Sequence{Item: list.elem, List: list, rule: tag.Get("rule"), size: parsed.checks}, nil
}

// A First reads the value that a text begins with, where it has no fault, in one go with finding its end.
type First struct {
	buffer stdbytes.Buffer
	d      jsontext.Decoder
}

// Decode reads like [Type.Decode] and gives the length of the value; 0 where the text does not have all of it, where
// anything is wrong, or where the type asks for more than one go. Then Decode is to be called with its text.
func (f *First) Decode(t *Type, data []byte, into any, how Reading) int {
	if t.open || t.readOnly {
		return 0
	}
	f.buffer = *stdbytes.NewBuffer(data)
	f.d.Reset(&f.buffer, how.Lenient.options())
	ok := json.UnmarshalDecode(&f.d, into) == nil
	text := data[:f.d.InputOffset()]
	holds := ok && len(text) < len(data) && t.holds(text, into) // else a number may go on
	if holds && t.judges {
		own := report{faults: bounded(how.Most)}
		t.judge(reflect.ValueOf(into).Elem(), &own)
		holds = own.found == nil
	}
	if !holds {
		reflect.ValueOf(into).Elem().SetZero()
		return 0
	}
	return len(text)
}

// Rule is that of the field, as it was written.
func (q *Sequence) Rule() string { return q.rule }

// TooFew gives the fault of a sequence that ends after so many items, and TooMany that of one that goes on beyond
// them; no rule where there is none.
func (q *Sequence) TooFew(items int) schema.Fault { return q.ofSize("minItems", items) }

// TooMany is described at [Sequence.TooFew].
func (q *Sequence) TooMany(items int) schema.Fault { return q.ofSize("maxItems", items) }

func (q *Sequence) ofSize(keyword string, items int) schema.Fault {
	for _, r := range q.size {
		if limit := r.want.(int); r.keyword == keyword && (items < limit) == (keyword == "minItems") && items != limit {
			return schema.Fault{Rule: r.keyword, Want: r.want, Detail: r.detail}
		}
	}
	return schema.Fault{}
}
