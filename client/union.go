package client

import (
	"fmt"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// MemberOf is the text of a member of a JSON object, for types that generated code tells apart by it; "" where it has none.
func MemberOf(text []byte, name string) string {
	var members map[string]jsontext.Value
	var value string
	if json.Unmarshal(text, &members) != nil || json.Unmarshal(members[name], &value) != nil {
		return ""
	}
	return value
}

// ReadInto reads a value of one type into an interface, for generated code.
func ReadInto[T any, I any](text []byte, to *I) error {
	var v T
	if err := json.Unmarshal(text, &v); err != nil {
		return err
	}
	*to = any(v).(I)
	return nil
}

// UnknownType is the error of generated code for a value whose type no case names.
func UnknownType(text []byte, member string) error {
	return fmt.Errorf("the member %s is %q, which names no known type", member, MemberOf(text, member))
}
