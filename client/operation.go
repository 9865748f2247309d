package client

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"reflect"
	"strings"
	"sync"

	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/secret"
)

// None is the input or the output of an operation that has none.
type None struct{}

// An Operation is what a call is sent to. It is described once, mostly as a package variable, and safe for concurrent use.
type Operation[In, Out any] struct {
	Name, Method, Path string
	// Media is the media type of a body, where it is not application/json; "": as the input says.
	Media string
	// Accept are the media types that are asked for; "": JSON.
	Accept string
	// Public says that no credentials are sent.
	Public bool

	once sync.Once
	plan *plan
	err  error
}

// Describe describes an operation, with a path template such as /passages/{passage}. What is wrong with its types the first
// call says.
func Describe[In, Out any](name, method, path string) *Operation[In, Out] {
	return &Operation[In, Out]{Name: name, Method: method, Path: path}
}

// With gives an operation that differs in the media type of its body, and in what is asked for; "" leaves either.
func (o *Operation[In, Out]) With(media, accept string) *Operation[In, Out] {
	return &Operation[In, Out]{Name: o.Name, Method: o.Method, Path: o.Path, Media: media, Accept: accept, Public: o.Public}
}

// Open gives an operation to which no credentials are sent.
func (o *Operation[In, Out]) Open() *Operation[In, Out] {
	return &Operation[In, Out]{Name: o.Name, Method: o.Method, Path: o.Path, Media: o.Media, Accept: o.Accept, Public: true}
}

// A plan says how requests for an operation are made.
type plan struct {
	texts  []string // around the parameters of the path
	length int      // of all of them
	rest   bool     // the last parameter has slashes
	bind   *bind.Plan
	out    *check.Type // of values; nil where answers are not held against rules
	files  []struct {
		Name  string
		Index []int
	}
}

// compiled is the plan of an operation.
func (o *Operation[In, Out]) compiled() (*plan, error) {
	o.once.Do(func() {
		var mistakes []error
		p := &plan{}
		names, err := p.split(o.Path)
		if err != nil {
			mistakes = append(mistakes, err)
		}
		p.bind = bind.Compile(reflect.TypeFor[In](), bind.Config{
			Method: o.Method, Parameters: names, Faults: 100, Item: 1 << 20, Schemas: &check.Set{}, Secrets: secret.Types{},
			None: reflect.TypeFor[None](), Files: bind.FileType{Type: reflect.TypeFor[File]()},
			Streams: bind.Streams{Item: itemOf},
			Vary:    func(http.Header, ...string) {},
			Mistake: func(format string, args ...any) { mistakes = append(mistakes, fmt.Errorf(format, args...)) },
		})
		p.files = p.bind.Files()
		if value := valueType(reflect.TypeFor[Out]()); value != nil {
			if p.out, err = new(check.Set).Type(value); err != nil {
				mistakes = append(mistakes, err)
			}
		}
		if o.plan = p; mistakes != nil {
			o.err = fmt.Errorf("client: the operation %s: %w", o.Name, errors.Join(mistakes...))
		}
	})
	return o.plan, o.err
}

// itemOf is the type of the items of an iterator; nil for other types.
func itemOf(t reflect.Type) reflect.Type {
	if t.Kind() != reflect.Func || t.NumIn() != 1 || t.NumOut() != 0 {
		return nil
	}
	if yield := t.In(0); yield.Kind() == reflect.Func && yield.NumIn() == 2 && yield.In(1) == reflect.TypeFor[error]() &&
		yield.NumOut() == 1 && yield.Out(0).Kind() == reflect.Bool {
		return yield.In(0)
	}
	return nil
}

// split splits a path template at its parameters.
func (p *plan) split(path string) (names []string, err error) {
	for rest := path; ; {
		text, after, has := strings.Cut(rest, "{")
		p.texts, p.length = append(p.texts, text), p.length+len(text)
		if !has {
			return names, nil
		}
		name, more, closed := strings.Cut(after, "}")
		if !closed {
			return names, fmt.Errorf("the path %s has a brace that is not closed", path)
		}
		if name, p.rest = strings.CutPrefix(name, "+"); p.rest && more != "" {
			return names, fmt.Errorf("the path %s goes on after {+%s}", path, name)
		}
		names, rest = append(names, name), more
	}
}

// target is the path with its values, and the query.
func (p *plan) target(base string, o *bind.Outgoing) string {
	var b strings.Builder
	b.Grow(len(base) + p.length + 16*len(o.Path))
	b.WriteString(base)
	for i, text := range p.texts {
		b.WriteString(text)
		if i >= len(o.Path) {
			break
		}
		if value := o.Path[i]; p.rest && i == len(o.Path)-1 {
			for j, segment := range strings.Split(value, "/") {
				if j > 0 {
					b.WriteByte('/')
				}
				b.WriteString(escaped(segment))
			}
		} else {
			b.WriteString(escaped(value))
		}
	}
	if len(o.Query) > 0 {
		b.WriteByte('?')
		b.WriteString(o.Query.Encode())
	}
	return b.String()
}

// escaped is a value in a segment of a path. One that is dots alone would be another path (RFC 3986, 5.2.4).
func escaped(value string) string {
	if value == "." || value == ".." {
		return strings.ReplaceAll(value, ".", "%2E")
	}
	return url.PathEscape(value)
}

// Request makes the request of a call, with its credentials, without sending it. Its faults are those of the call.
func (o *Operation[In, Out]) Request(ctx context.Context, c *Client, in In) (*http.Request, error) {
	s, err := o.sending(c, in)
	if err != nil {
		return nil, err
	}
	return s.request(ctx, false)
}
