package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"reflect"
	"slices"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/schema"
)

// An Answer is a value with what else came with it. As the output of an operation it stands for the value.
type Answer[T any] struct {
	Value  T
	Status int
	Header http.Header
}

// Tag is the entity tag of the value (RFC 9110, 8.8.3), for If-Match; "" where it has none.
func (a Answer[T]) Tag() string { return a.Header.Get("ETag") }

// Location is where a created thing is, as the answer says; "" where it does not.
func (a Answer[T]) Location() string { return a.Header.Get("Location") }

func (a *Answer[T]) fill(resp *http.Response) any {
	a.Status, a.Header = resp.StatusCode, resp.Header
	return &a.Value
}

func (*Answer[T]) of() reflect.Type { return reflect.TypeFor[T]() }

// filled is an output with more than a value.
type filled interface {
	fill(*http.Response) any
	of() reflect.Type
}

// valueType is the type of the value that an output is or has; nil where there is none.
func valueType(t reflect.Type) reflect.Type {
	if f, is := reflect.New(t).Interface().(filled); is {
		t = f.of()
	}
	if t == reflect.TypeFor[None]() || t == reflect.TypeFor[*Content]() {
		return nil
	}
	return t
}

// Broken is the error of an answer that breaks the rules of its type ([Settings.Checked]).
type Broken struct {
	Operation string
	Faults    []schema.Fault // each with its pointer into the body
}

func (b *Broken) Error() string {
	f := b.Faults[0]
	text := fmt.Sprintf("the answer of %s breaks its contract: %s %s", b.Operation, f.Pointer, f.Detail)
	if n := len(b.Faults) - 1; n > 0 {
		text += fmt.Sprintf(", and %d more", n)
	}
	return text
}

// Call sends an input, and gives the output. Its error is a *problem.Problem where the input breaks a rule, which nothing was
// sent for, and where the other side answered with one; a [Foreign], [Broken] or other error else.
func Call[In, Out any](ctx context.Context, c *Client, o *Operation[In, Out], in In) (out Out, err error) {
	s, err := o.sending(c, in)
	if err != nil {
		return out, err
	}
	resp, err := s.send(ctx)
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	return out, s.read(resp, &out)
}

// errTooLarge says that an answer is larger than what is read.
var errTooLarge = errors.New("the answer is larger than what is read (client.Settings.Most)")

// read reads an output.
func (s *sending) read(resp *http.Response, out any) error {
	if f, is := out.(filled); is {
		out = f.fill(resp)
	}
	if _, none := out.(*None); none || resp.StatusCode == http.StatusNoContent || resp.StatusCode == http.StatusNotModified || s.method == http.MethodHead {
		return drain(resp)
	}
	text, err := s.whole(resp)
	if err != nil {
		return s.named(err)
	}
	if s.client.settings.Checked && s.plan.out != nil {
		faults := slices.DeleteFunc(s.plan.out.Check(text), func(f schema.Fault) bool { return f.Rule == "additionalProperties" }) // newer ones
		if len(faults) > 0 {
			return &Broken{s.name, faults}
		}
	}
	if err := json.Unmarshal(text, out); err != nil {
		return s.named(fmt.Errorf("the answer cannot be read: %w", err))
	}
	return nil
}

// drain reads what little is left, so that the connection can be used again.
func drain(resp *http.Response) error {
	io.CopyN(io.Discard, resp.Body, 4<<10)
	return nil
}

// whole reads a body as a whole, if it is not too large.
func (s *sending) whole(resp *http.Response) ([]byte, error) {
	most := s.client.settings.Most
	if resp.ContentLength > most {
		return nil, errTooLarge
	}
	if resp.ContentLength >= 0 {
		text := make([]byte, resp.ContentLength)
		_, err := io.ReadFull(resp.Body, text)
		return text, err
	}
	text, err := io.ReadAll(io.LimitReader(resp.Body, most+1))
	if err == nil && int64(len(text)) > most {
		err = errTooLarge
	}
	return text, err
}
