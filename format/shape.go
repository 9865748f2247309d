package format

import (
	"errors"

	"github.com/go-json-experiment/json/jsontext"
)

// A Success is the answer of a route, as a shape for successes gets it (wicketway.ValueShape).
type Success struct {
	Value   Payload // belongs into the shape, once
	Route   string  // the name of the route
	Summary string  // of the route
	Status  int
	Message string // of the Reply
}

// A Payload is the place of a route's value in a shape for successes. The zero Payload is empty, and cannot be written.
type Payload struct{ text jsontext.Value }

// NewPayload makes a Payload of the JSON text of a value, for tests.
func NewPayload(text []byte) Payload { return Payload{text} }

// MarshalJSONTo writes the value.
func (p Payload) MarshalJSONTo(to *jsontext.Encoder) error {
	if p.text == nil {
		return errors.New("format: an empty Payload: put that of the Success into the shape")
	}
	return to.WriteValue(p.text)
}
