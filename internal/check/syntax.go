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
