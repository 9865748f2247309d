package problem

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// MediaType is the media type of a problem in JSON (RFC 9457, 6.1).
const MediaType = "application/problem+json"

// A Problem is one occurrence of a kind: an error that knows how to be told.
// Its methods change it and return it, so that they can be chained where it is
// raised; after that it must not be changed, and is safe to share.
type Problem struct {
	kind    *Kind
	detail  string
	members []member
	items   []Item
	header  http.Header
	cause   error
}

type member struct {
	name  string
	value any
}

// An Item is one of several faults of an input.
type Item struct {
	// In is where the fault is: path, query, header, cookie, body.
	In string `json:"in"`
	// Name is the parameter's name, where In is not the body.
	Name string `json:"name,omitzero"`
	// Pointer is the place in the body (RFC 6901); "" is the body itself.
	Pointer *string `json:"pointer,omitzero"`
	// Rule is the keyword that was broken.
	Rule string `json:"rule"`
	// Want is what the rule asks for, as it was declared: 40, or the pattern.
	Want any `json:"want,omitzero"`
	// Detail says it in a sentence, without naming the place.
	Detail string `json:"detail"`
}

// New makes an occurrence. The detail, formatted as fmt.Sprintf does, tells the
// caller about this occurrence (RFC 9457, 3.1.4).
func (k *Kind) New(format string, args ...any) *Problem {
	p := &Problem{kind: k, detail: format}
	if len(args) > 0 {
		p.detail = fmt.Sprintf(format, args...)
	}
	return p
}

// With adds a member that the caller sees (RFC 9457, 3.2). The standard members
// cannot be replaced: such a name is left out. A value that JSON cannot carry is
// left out as well, and reported by [Problem.Lost].
func (p *Problem) With(name string, value any) *Problem {
	p.members = append(p.members, member{name, value})
	return p
}

// WithItems adds the faults of an input, as the member errors.
func (p *Problem) WithItems(items ...Item) *Problem {
	p.items = append(p.items, items...)
	return p
}

// WithHeader adds a header field to the answer.
func (p *Problem) WithHeader(name, value string) *Problem {
	if p.header == nil {
		p.header = http.Header{}
	}
	p.header.Add(name, value)
	return p
}

// Because sets the cause: what the log tells and the caller never sees.
func (p *Problem) Because(cause error) *Problem {
	p.cause = cause
	return p
}

// Kind is what occurred.
func (p *Problem) Kind() *Kind { return p.kind }

// Detail is what was told about this occurrence.
func (p *Problem) Detail() string { return p.detail }

// Items are the faults of an input. The caller must not change the slice.
func (p *Problem) Items() []Item { return p.items }

// Header holds the fields that the answer carries. The caller must not change it.
func (p *Problem) Header() http.Header { return p.header }

// Error is for logs: the code, the detail and the cause.
func (p *Problem) Error() string {
	text := p.kind.code
	if p.detail != "" {
		text += ": " + p.detail
	}
	for _, item := range p.items {
		text += "; " + item.place() + " " + item.Detail
	}
	if p.cause != nil {
		text += ": " + p.cause.Error()
	}
	return text
}

func (i Item) place() string {
	if i.Pointer != nil {
		return i.In + " " + strconv.Quote(*i.Pointer)
	}
	return i.In + " " + i.Name
}

// Is reports whether target is the problem's kind or a kind of its family.
func (p *Problem) Is(target error) bool { return p.kind.Is(target) }

// Unwrap gives the cause.
func (p *Problem) Unwrap() error { return p.cause }

// From finds the problem in err: a Problem, or a Kind returned as it is. An
// error that holds neither becomes an occurrence of Internal, with err as its
// cause.
func From(err error) *Problem {
	if p, ok := errors.AsType[*Problem](err); ok {
		if error(p) == err {
			return p
		}
		told := *p
		told.cause = err
		return &told
	}
	if k, ok := errors.AsType[*Kind](err); ok {
		p := &Problem{kind: k}
		if error(k) != err {
			p.cause = err
		}
		return p
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return Timeout.New("The server ran out of the time it had for this request.").Because(err)
	}
	return Internal.New("The failure has been recorded.").Because(err)
}

// Append writes the problem as JSON (RFC 9457, 3) behind b. The instance names
// this occurrence; it is left out where empty.
func (p *Problem) Append(b []byte, instance string) []byte {
	b = append(b, `{"type":"about:blank","title":`...)
	b = appendString(b, p.kind.title)
	b = append(b, `,"status":`...)
	b = strconv.AppendInt(b, int64(p.kind.status), 10)
	if p.detail != "" {
		b = append(b, `,"detail":`...)
		b = appendString(b, p.detail)
	}
	if instance != "" {
		b = append(b, `,"instance":`...)
		b = appendString(b, instance)
	}
	b = append(b, `,"code":`...)
	b = appendString(b, p.kind.code)
	for _, m := range p.members {
		if text, err := m.encode(); err == nil {
			b = append(b, ',')
			b = appendString(b, m.name)
			b = append(b, ':')
			b = append(b, text...)
		}
	}
	if len(p.items) > 0 {
		if text, err := json.Marshal(p.items); err == nil {
			b = append(b, `,"errors":`...)
			b = append(b, text...)
		}
	}
	return append(b, '}')
}

// Lost says which members the caller does not see, and why; nil where none.
func (p *Problem) Lost() error {
	var lost []error
	for _, m := range p.members {
		if _, err := m.encode(); err != nil {
			lost = append(lost, fmt.Errorf("member %q of problem %s is left out: %w", m.name, p.kind.code, err))
		}
	}
	return errors.Join(lost...)
}

func (m member) encode() ([]byte, error) {
	switch m.name {
	case "type", "title", "status", "detail", "instance", "code", "errors", "debug":
		return nil, errors.New("the name belongs to a standard member")
	}
	return json.Marshal(m.value)
}

func appendString(b []byte, s string) []byte {
	quoted, _ := jsontext.AppendQuote(b, s) // invalid UTF-8 is replaced, and reported by an error that is of no use here
	return quoted
}
