package wicketway

import (
	"cmp"
	"fmt"
	"net/http"
	"reflect"
	"strings"

	"github.com/wicketway/wicketway/facts"
)

// Redirect is an output that sends the caller to another address (RFC 9110, 15.4).
type Redirect struct {
	// Status is 303, which is the default and has callers read the address by GET, or 307 or
	// 308, which have them repeat the request there, for this time or from now on.
	Status int
	// Path is an escaped path of the same host, with its query: /locks/bell?days=3.
	Path string
	// Elsewhere lets Path be an address on another host: https://canal.example/. Without it such
	// an address is a failure, so that no caller can have others sent away.
	Elsewhere bool
}

// Answer sends the redirect.
func (r Redirect) Answer(w http.ResponseWriter, _ *http.Request) error {
	if !r.Elsewhere && !isOwnPath(r.Path) {
		return fmt.Errorf("redirect to %q: it is not a path of this host, such as /locks/bell; Elsewhere allows others",
			r.Path)
	}
	return sendAway(w, r.Status, r.Path)
}

// Answers says what is sent.
func (Redirect) Answers() []facts.Answer {
	var all []facts.Answer
	for _, status := range []int{http.StatusSeeOther, http.StatusTemporaryRedirect, http.StatusPermanentRedirect} {
		all = append(all, facts.Answer{Status: status, Fields: []string{"Location"}})
	}
	return all
}

// RedirectBy is a [Redirect] to a route, which [LocatedBy] names: its path is made of At, that
// route's input, when the answer is sent.
type RedirectBy[In any] struct {
	// Status is as in Redirect.
	Status int
	At     In
	// Location is the address, where it is not to be made of At: package wicketwaytest sets it
	// to what was sent.
	Location string
}

// Answer sends the redirect.
func (r RedirectBy[In]) Answer(w http.ResponseWriter, request *http.Request) error {
	s := stateOf(request.Context())
	if s == nil {
		return fmt.Errorf("redirect: the context is not that of an API's request")
	}
	if r.Location != "" {
		return Redirect{Status: r.Status, Path: r.Location}.Answer(w, request)
	}
	path, err := s.location(&r.At)
	if err != nil {
		return err
	}
	return sendAway(w, r.Status, path)
}

// Answers says what is sent.
func (RedirectBy[In]) Answers() []facts.Answer { return Redirect{}.Answers() }

func (RedirectBy[In]) replied() outputTypes { return outputTypes{at: reflect.TypeFor[In]()} }

func sendAway(w http.ResponseWriter, status int, to string) error {
	switch status = cmp.Or(status, http.StatusSeeOther); status {
	case http.StatusSeeOther, http.StatusTemporaryRedirect, http.StatusPermanentRedirect:
	default:
		return fmt.Errorf("redirect to %q: the status %d is not one of 303, 307 and 308", to, status)
	}
	w.Header().Set("Location", to)
	w.WriteHeader(status)
	return nil
}

// isOwnPath reports whether browsers take a text for a path of the same host: they read a
// backslash like a slash, and pass over tabs and line breaks.
func isOwnPath(path string) bool {
	return strings.HasPrefix(path, "/") && !strings.HasPrefix(path, "//") && !strings.HasPrefix(path, `/\`) &&
		!strings.ContainsFunc(path, func(c rune) bool { return c <= ' ' || c == 0x7f })
}
