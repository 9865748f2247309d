package shape

import (
	"errors"
	"fmt"
	"reflect"
	"strings"

	"github.com/wicketway/wicketway/internal/here"
)

// A Declared adapter is one as a description says it.
type Declared struct {
	At     here.Place
	Made   *Adapter // nil: the type stays the same, or is wrong
	AsList bool     // a page is sent as the array of its items
	Wrong  []error
}

// IsSame reports whether nothing was different.
func (d Declared) IsSame() bool { return d.Made == nil && d.Wrong == nil && !d.AsList }

// Lift is the adapter for a type that holds what this one is for.
func (d Declared) Lift(t reflect.Type) (*Adapter, error) {
	switch {
	case d.Wrong != nil:
		return nil, errors.Join(d.Wrong...)
	case d.Made == nil:
		return Same(t), nil
	}
	if lifted := Lift(d.Made, t); lifted != nil {
		return lifted, nil
	}
	return nil, fmt.Errorf("the adapter is for %s, which is not in %s", TypeName(d.Made.New), TypeName(t))
}

// ErrOneWay says that the adapter lacks the way that is needed.
var ErrOneWay = errors.New("the adapter has no function for this way")

// Filled is the type of the first field of structs that others fill than whoever reads or sends them: an
// adapter passes them over.
type Filled struct{}

func isFilled(t reflect.Type) bool {
	return t.Kind() == reflect.Struct && t.NumField() > 0 && t.Field(0).Type == reflect.TypeFor[Filled]()
}

// TypeName is the name of a type in Go, with packages by the last part of their paths.
func TypeName(t reflect.Type) string {
	var b strings.Builder
	name := t.String()
	for name != "" {
		end := strings.IndexAny(name, "[],*(){} ")
		if end < 0 {
			end = len(name)
		}
		b.WriteString(name[strings.LastIndexByte(name[:end], '/')+1 : end])
		if end < len(name) {
			b.WriteByte(name[end])
			end++
		}
		name = name[end:]
	}
	return b.String()
}
