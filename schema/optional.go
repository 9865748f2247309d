package schema

import (
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// A State says whether a member was sent.
type State uint8

const (
	// Absent: the member was not there.
	Absent State = iota
	// Null: it was null.
	Null
	// Given: it had a value.
	Given
)

// Optional tells absent, null and a value apart, as a merge patch needs (RFC
// 7396). The zero Optional is absent; with omitzero it is not written.
type Optional[T any] struct {
	Value T // zero unless State is Given
	State State
}

// Some is an Optional with a value.
func Some[T any](v T) Optional[T] { return Optional[T]{v, Given} }

// Apply changes *to as a merge patch does: a value replaces it, null makes it
// zero, absence leaves it.
func (o Optional[T]) Apply(to *T) {
	if o.State != Absent {
		*to = o.Value
	}
}

// UnmarshalJSONFrom reads a value or null.
func (o *Optional[T]) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	*o = Optional[T]{State: Given}
	if d.PeekKind() == jsontext.KindNull {
		o.State = Null
		return d.SkipValue()
	}
	return json.UnmarshalDecode(d, &o.Value)
}

// MarshalJSONTo writes the value, or null where there is none.
func (o Optional[T]) MarshalJSONTo(e *jsontext.Encoder) error {
	if o.State != Given {
		return e.WriteToken(jsontext.Null)
	}
	return json.MarshalEncode(e, o.Value)
}
