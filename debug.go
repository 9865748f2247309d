package wicketway

import (
	"errors"
	"net/http"
	"slices"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/internal/sent"
	"github.com/wicketway/wicketway/problem"
)

// debugInfo is the member debug of a problem in development.
type debugInfo struct {
	Route  string           `json:"route,omitzero"` // where it was declared
	Near   []string         `json:"near,omitempty"` // routes that may have been meant
	Caller string           `json:"caller,omitzero"`
	Causes []exchange.Cause `json:"causes,omitempty"`
	Stack  []string         `json:"stack,omitempty"`
}

// debug says all about a problem: where the route was declared, the chain of its causes
// with their Go types, the stack where there is one, the frames of the user's own code
// first, and the routes that are near where nothing was found.
func (s *state) debug(p *problem.Problem) jsontext.Value {
	info := debugInfo{Causes: exchange.Causes(p.Unwrap())}
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
	info.Stack = slices.Concat(exchange.Frames(p))
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
	exchange.Keep(s, q)
}

// watched is a request whose body is watched.
func (s *state) watched(r *http.Request) *http.Request {
	q, ok := exchange.Kept[*sent.Request](s)
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
	in, _ := exchange.KeptIn[secret.Input](&s.State) // keepInput has seen to the states around
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
