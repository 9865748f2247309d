package check

import (
	stdbytes "bytes"
	"errors"
	"io"
	"strconv"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/schema"
)

// errUnknown stands for a text that nobody has tried to decode.
var errUnknown = errors.New("not decoded")

// findEnd finds out how far the text is JSON, and gives the error where that is not to
// its end. Decoding knows it, unless it stopped for another reason before.
func (r *reporter) findEnd(err error) *jsontext.SyntacticError {
	broken, known := errors.AsType[*jsontext.SyntacticError](err)
	if !known || errors.Is(err, jsontext.ErrDuplicateName) {
		if jsontext.Value(r.data).IsValid(jsontext.AllowDuplicateNames(true)) {
			return nil
		}
		d := jsontext.NewDecoder(stdbytes.NewBuffer(r.data), jsontext.AllowDuplicateNames(true))
		if err = d.SkipValue(); err == nil {
			_, err = d.ReadToken()
		}
		if broken, known = errors.AsType[*jsontext.SyntacticError](err); !known {
			broken = &jsontext.SyntacticError{ByteOffset: d.InputOffset(), Err: err}
		}
	}
	r.end = min(int(broken.ByteOffset), len(r.data))
	r.data = append(r.data[:r.end:r.end], `""]`...) // so that every token has an end, if beyond this one
	return broken
}

func syntaxFault(data []byte, e *jsontext.SyntacticError) schema.Fault {
	return schema.Fault{Pointer: clip.Text(string(e.JSONPointer), longestPointer), Rule: "syntax",
		Detail: syntaxDetail(data, e), Unreadable: true}
}

// syntaxDetail says what is no JSON, and where.
func syntaxDetail(data []byte, e *jsontext.SyntacticError) string {
	if len(stdbytes.TrimSpace(data)) == 0 {
		return "is empty; a JSON value was expected"
	}
	if errors.Is(e.Err, io.ErrUnexpectedEOF) {
		return "is incomplete JSON"
	}
	upTo := data[:min(int(e.ByteOffset), len(data))]
	line := 1 + stdbytes.Count(upTo, []byte("\n"))
	column := len(upTo) - stdbytes.LastIndexByte(upTo, '\n')
	reason := "a mistake"
	if e.Err != nil {
		reason = clip.Text(e.Err.Error(), longestMessage)
	}
	return "is not valid JSON at line " + strconv.Itoa(line) + ", column " + strconv.Itoa(column) + ": " + reason
}
