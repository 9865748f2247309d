package wicketway

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/internal/sent"
	"github.com/wicketway/wicketway/problem"
)

// debugInfo is the member debug of a problem in development.
type debugInfo struct {
	Route  string   `json:"route,omitzero"` // where it was declared
	Near   []string `json:"near,omitempty"` // routes that may have been meant
	Caller string   `json:"caller,omitzero"`
	Causes []Cause  `json:"causes,omitempty"`
	Stack  []string `json:"stack,omitempty"`
}

// A Cause is one of the errors that a failure is made of.
type Cause struct {
	Type    string `json:"type"`
	Message string `json:"message"`
}

// debug says all about a problem: where the route was declared, the chain of its causes
// with their Go types, the stack where there is one, the frames of the user's own code
// first, and the routes that are near where nothing was found.
func (s *state) debug(p *problem.Problem) jsontext.Value {
	info := debugInfo{Causes: causes(p.Unwrap())}
	secrets := s.secrets()
	for i := range info.Causes {
		info.Causes[i].Message = secrets.Blank(info.Causes[i].Message)
	}
	if t := s.target; !t.isFallback() {
		info.Route = t.line() + " at " + t.at.String()
	}
	if near, ok := errors.AsType[*nearError](p.Unwrap()); ok {
		info.Near, info.Causes = near.routes, nil
	}
	info.Caller = Caller(s).Subject
	info.Stack = slices.Concat(Frames(p))
	text, _ := json.Marshal(info, jsontext.AllowInvalidUTF8(true)) // messages can be anything
	return text
}

// watch keeps what arrives as it does, for the log in development.
func (s *state) watch() {
	q := &sent.Request{Of: &s.request}
	if in := s.target.input; in != nil {
		q.Reads = func(field string) bool { return in.Takes("header", field) }
	}
	if s.body != nil && s.request.Header.Get("Expect") == "" {
		q.Rest = s.body.Peek
	}
	Keep(s, q)
}

// watched is a request whose body is watched.
func (s *state) watched(r *http.Request) *http.Request {
	q, ok := Kept[*sent.Request](s)
	if !ok || r.Body == nil || r.Body == http.NoBody {
		return r
	}
	watched := *r
	watched.Body = q.Watch(r.Body)
	return &watched
}

// hasSecretPath reports whether the path of the request can have a secret in it.
func (s *state) hasSecretPath() bool {
	t := s.target
	if len(t.names) == 0 {
		return false
	}
	if t.input != nil && t.input.Secret == secret.Certain {
		return true
	}
	for _, name := range t.names {
		if secret.Known.Has(name) {
			return true
		}
	}
	return false
}

// secrets are the values that the request had under the names of secrets, which no text about it shows.
func (s *state) secrets() *secret.Values {
	var in secret.Input
	for n := s.kept.Load(); n != nil; n = n.next { // keepInput has seen to the states around
		if found, ok := n.value.(*kept[secret.Input]); ok {
			in = found.value
			break
		}
	}
	var path []string
	if !s.target.isFallback() {
		for i, name := range s.target.names {
			if secret.Known.Has(name) {
				path = append(path, s.match.Value(i))
			}
		}
	}
	return secret.Of(in.Value, &s.request, path...)
}

// stackIn is the innermost stack that an error has kept.
func stackIn(err error) (stack []byte) {
	for err != nil {
		at, ok := errors.AsType[interface {
			error
			Stack() []byte
		}](err)
		if !ok {
			return stack
		}
		if own := at.Stack(); len(own) > 0 {
			stack = own
		}
		err = errors.Unwrap(at)
	}
	return stack
}

// causes lists an error and what it wraps, joined errors one after the other.
func causes(err error) []Cause {
	if err == nil {
		return nil
	}
	list := []Cause{{fmt.Sprintf("%T", err), err.Error()}}
	switch e := err.(type) {
	case interface{ Unwrap() error }:
		list = append(list, causes(e.Unwrap())...)
	case interface{ Unwrap() []error }:
		for _, one := range e.Unwrap() {
			list = append(list, causes(one)...)
		}
	}
	return list
}

// frames gives those of the user's own code, and the others.
func frames(stack []byte) (own, others []string) {
	lines := bytes.Split(bytes.TrimSpace(stack), []byte("\n"))
	for i := 0; i+1 < len(lines); i += 2 {
		function, place := string(lines[i]), strings.TrimSpace(string(lines[i+1]))
		place, _, _ = strings.Cut(place, " +0x")
		if at := strings.LastIndexByte(function, '('); at > 0 && strings.HasSuffix(function, ")") {
			function = function[:at] // without the arguments
		}
		frame := function + " " + place
		if isForeign(function) || isOurs(place) {
			others = append(others, frame)
		} else {
			own = append(own, frame)
		}
	}
	return own, others
}

func isForeign(function string) bool {
	path, _, _ := strings.Cut(function, ".")
	if slash := strings.LastIndexByte(function, '/'); slash >= 0 {
		dot := strings.IndexByte(function[slash:], '.')
		path = function[:slash+max(dot, 0)]
	}
	first, _, _ := strings.Cut(path, "/")
	standard := path != "main" && !strings.Contains(first, ".")
	return standard
}

// sourceFolder is where the sources of this module were compiled.
var sourceFolder = sync.OnceValue(func() string {
	_, file, _, _ := runtime.Caller(0)
	return strings.TrimSuffix(file, "debug.go")
})

// isOurs reports whether a place is in a package of this module that users link, wherever a
// compiler has put the function into another.
func isOurs(place string) bool {
	file, ours := strings.CutPrefix(place, sourceFolder())
	if !ours || strings.Contains(file, "_test.go:") {
		return false
	}
	folder, _, below := strings.Cut(file, "/")
	return !below || slices.Contains([]string{"chain", "format", "internal", "observe"}, folder)
}
