package check

import (
	"reflect"
	"strings"

	"github.com/wicketway/wicketway/schema"
)

// isOptional reports whether a type is a schema.Optional; its fields are the value and
// the state.
func isOptional(t reflect.Type) bool {
	return t.Kind() == reflect.Struct && t.PkgPath() == optionalPath && strings.HasPrefix(t.Name(), "Optional[")
}

var optionalPath = reflect.TypeFor[schema.Optional[int]]().PkgPath()

// reach follows pointers and Optionals to the value that rules speak about;
// false where there is none.
func (t *Type) reach(v reflect.Value) (reflect.Value, bool) {
	for {
		switch t.shape {
		case pointer:
			if v.IsNil() {
				return v, false
			}
			v = v.Elem()
		case either:
			if schema.State(v.Field(1).Uint()) != schema.Given {
				return v, false
			}
			v = v.Field(0)
		default:
			return v, true
		}
		t = t.elem
	}
}
