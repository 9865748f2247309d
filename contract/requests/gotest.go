package requests

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"
)

// Test is a test in Go that sends the request to an API without a socket, and holds what must come back: the status of the
// request and the code of its problem, for a good one any success that the contract has. It calls package wicketwaytest, and
// takes the API for the variable api. What it is about is said in its name, and what is wrong in a comment. Tokens are those of
// the environment, by their names.
func (r Request) Test(about string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "func Test%s(t *testing.T) {\n", exported(about))
	if r.Wrong != "" {
		fmt.Fprintf(&b, "\t// %s\n", strings.Join(strings.FieldsFunc(r.Wrong, unicode.IsControl), " "))
	}
	body := "nil"
	if r.Body != nil {
		body = "strings.NewReader(" + goText(string(r.Body)) + ")"
	}
	fmt.Fprintf(&b, "\tr := httptest.NewRequest(%s, %s, %s)\n", goText(r.Method), goText(r.Target), body)
	for _, f := range r.Header {
		fmt.Fprintf(&b, "\tr.Header.Add(%s, %s)\n", goText(f.Name), withVariables(f.Value))
	}
	fmt.Fprintf(&b, "\twicketwaytest.Answers(t, api, r, %d, %s)\n}\n", r.Status, goText(r.Code))
	return b.String()
}

// exported is a text as a part of an exported name: passages.book 422 is PassagesBook422.
func exported(text string) string {
	var b strings.Builder
	up := true
	for _, r := range text {
		if r > unicode.MaxASCII || !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			up = true
			continue
		}
		if up {
			r = unicode.ToUpper(r)
		}
		up = false
		b.WriteRune(r)
	}
	return b.String()
}

// withVariables is a text as Go in which a token is read from the environment.
func withVariables(value string) string {
	for _, token := range []string{TokenWithoutScopes, OtherToken, Token} {
		if before, after, has := strings.Cut(value, token); has {
			parts := []string{`os.Getenv("` + token[1:] + `")`}
			if before != "" {
				parts = append([]string{goText(before)}, parts...)
			}
			if after != "" {
				parts = append(parts, goText(after))
			}
			return strings.Join(parts, "+")
		}
	}
	return goText(value)
}

// goText is a Go string, raw where that is easier to read.
func goText(text string) string {
	if strings.ContainsAny(text, `"\`) && strconv.CanBackquote(text) {
		return "`" + text + "`"
	}
	return strconv.Quote(text)
}
