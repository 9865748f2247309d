package check

import (
	stdbytes "bytes"

	"github.com/go-json-experiment/json/jsontext"
)

// An identity is the same for equal JSON values (JSON Schema core, 4.2.2).
type identity struct {
	kind jsontext.Kind
	text string
}

func identify(raw jsontext.Value) identity {
	kind := raw.Kind()
	switch {
	case kind == jsontext.KindString:
		return identity{kind, string(nameIn(raw))}
	case kind == jsontext.KindNumber && stdbytes.IndexAny(raw, ".eE") < 0 && string(raw) != "-0":
		return identity{kind, string(raw)}
	}
	own := raw.Clone()
	own.Canonicalize(jsontext.CanonicalizeRawInts(false)) // of valid JSON
	return identity{kind, string(own)}
}
