// Package failure turns whatever goes wrong into a problem.
package failure

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"runtime/debug"

	"github.com/wicketway/wicketway/problem"
)

// OwnBase is where an API serves the descriptions of its problems itself.
const OwnBase = "/problems/"

// ForgetContent takes back the header fields that describe a content that will not be sent.
func ForgetContent(h http.Header) {
	for _, about := range []string{"Content-Length", "Content-Encoding", "Content-Disposition", "Content-Range",
		"Etag", "Last-Modified", "Cache-Control"} {
		delete(h, about)
	}
}

// A Panic is the error that a panic becomes.
type Panic struct {
	value any
	stack []byte
}

// Caught makes an error of what recover has given. It is called by the function that has recovered.
func Caught(value any) *Panic { return &Panic{value, stack()} }

func (e *Panic) Error() string { return fmt.Sprintf("panic: %v", e.value) }

// Stack is where it happened, as debug.Stack writes it.
func (e *Panic) Stack() []byte { return e.stack }

func (e *Panic) Unwrap() error {
	err, _ := e.value.(error)
	return err
}

// mostWrapped bounds how many errors an error may be made of.
const mostWrapped = 1000

// Sound gives an error as it is, where its methods can be called. One of which a method panics, such as a nil pointer of the
// user's type, or that is made of itself, is replaced by an error that says so: who answers and who logs calls them.
func Sound(err error) (sound error) {
	if p, is := err.(*problem.Problem); is && p != nil && p.Unwrap() == nil {
		return err
	}
	defer func() {
		if v := recover(); v != nil {
			sound = Caught(fmt.Sprintf("reading a %T that was given as an error: %v", err, v))
		}
	}()
	left := mostWrapped
	var read func(error)
	read = func(err error) {
		if left--; left < 0 {
			panic(fmt.Sprintf("it is made of more than %d errors", mostWrapped))
		}
		if err == nil {
			return
		}
		_ = err.Error()
		switch e := err.(type) {
		case interface{ Unwrap() error }:
			read(e.Unwrap())
		case interface{ Unwrap() []error }:
			for _, one := range e.Unwrap() {
				read(one)
			}
		}
	}
	read(err)
	errors.Is(err, errNone) // asks their methods Is
	return err
}

var errNone = errors.New("none")

// stack is that of the goroutine from the function that panicked on; above it is how the panic was caught.
func stack() []byte {
	stack := debug.Stack()
	if at := bytes.LastIndex(stack, []byte("\npanic(")); at >= 0 {
		if parts := bytes.SplitN(stack[at+1:], []byte("\n"), 3); len(parts) == 3 {
			return parts[2]
		}
	}
	return stack
}

// Problem gives the problem for an error, by the first of known that knows it if it is not one already. A
// panic is never shown, even if it held a problem: nobody meant it for the caller.
func Problem(err error, known []func(error) error) (p *problem.Problem) {
	defer func() {
		if v := recover(); v != nil {
			p = problem.Hidden(errors.Join(Caught(v), fmt.Errorf("while translating: %w", err)))
		}
	}()
	if e, ok := errors.AsType[*Panic](err); ok {
		return problem.Hidden(e)
	}
	if p := problem.In(err); p != nil {
		return proper(p, err)
	}
	if large, ok := errors.AsType[*http.MaxBytesError](err); ok { // from a body that the route reads itself
		return TooLarge(large.Limit, err)
	}
	for _, translate := range known {
		found := translate(err)
		if found == nil {
			continue
		}
		p := *proper(problem.From(found), err) // a copy: it may be shared
		if cause := p.Unwrap(); cause == nil || cause == found {
			p.Because(err)
		}
		return &p
	}
	return problem.From(err)
}

// TooLarge is the problem of a body that has more bytes than its limit.
func TooLarge(limit int64, cause error) *problem.Problem {
	return problem.BodyTooLarge.Newf("The body is larger than %d bytes.", limit).With("limit", limit).Because(cause)
}

// proper replaces a problem of a kind that no answer can have.
func proper(p *problem.Problem, err error) *problem.Problem {
	if status := p.Kind().Status(); status < 400 || status > 599 {
		return problem.Hidden(fmt.Errorf("the kind %q has the status %d, which is not an error (400 to 599): %w",
			p.Kind().Code(), status, err))
	}
	return p
}
