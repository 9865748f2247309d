package problem

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"reflect"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/places"
)

// MediaType is the media type of a problem in JSON (RFC 9457, 6.1).
const MediaType = "application/problem+json"

// A Problem is one occurrence of a kind: an error that can be sent to callers.
// Its methods change it and return it, so that they can be chained where it is
// raised; after that it must not be changed, and is safe to share.
type Problem struct {
	kind    *Kind
	detail  string
	members []member
	private []slog.Attr
	items   []Item
	header  http.Header
	cause   error
	at      [1]uintptr // where it was made
	stack   []uintptr  // of the place where a 5xx was made
}

type member struct {
	name  string
	value any
}

// An Item is one of several faults of an input.
type Item struct {
	// In is where the fault is: path, query, header, cookie, form, file, body.
	In string `json:"in"`
	// Name is the parameter's name, where In is not the body.
	Name string `json:"name,omitzero"`
	// Pointer is the place in the body (RFC 6901), where "" is the body itself, or the
	// item of a list that a parameter is: "/2" for the third.
	Pointer *string `json:"pointer,omitzero"`
	// Rule is the keyword that was broken.
	Rule string `json:"rule"`
	// Want is the bound of the rule, as it was declared: 40, or the pattern.
	Want any `json:"want,omitzero"`
	// Detail says it in a sentence, without naming the place.
	Detail string `json:"detail"`
}

// New makes an occurrence. The detail describes this occurrence to the caller (RFC 9457,
// 3.1.4). For a kind of status 500 and above the stack is noted for the log, except 501 and 503, which
// callers can bring about at will; of others the place, once an API in development was built.
func (k *Kind) New(detail string) *Problem { return k.occur(detail) }

// Newf is New with a detail that is formatted as fmt.Sprintf does.
func (k *Kind) Newf(format string, args ...any) *Problem {
	return k.occur(fmt.Sprintf(format, args...))
}

func (k *Kind) occur(detail string) *Problem {
	p := &Problem{kind: k, detail: detail}
	if places.AreKept() {
		runtime.Callers(3, p.at[:])
	}
	if k.status >= 500 && k.status != http.StatusNotImplemented && k.status != http.StatusServiceUnavailable {
		var pcs [32]uintptr
		p.stack = slices.Clone(pcs[:runtime.Callers(3, pcs[:])])
	}
	return p
}

// With adds a member that the caller sees (RFC 9457, 3.2), or replaces the one of
// that name. Standard members cannot be replaced, and a value that JSON cannot
// carry cannot be sent: such a member is left out, and the log is told.
func (p *Problem) With(name string, value any) *Problem {
	p.members = slices.DeleteFunc(p.members, func(m member) bool { return m.name == name })
	p.members = append(p.members, member{name, value})
	return p
}

// Private adds an attribute for the log alone.
func (p *Problem) Private(name string, value any) *Problem {
	p.private = append(p.private, slog.Any(name, value))
	return p
}

// WithItems adds the faults of an input, as the member errors. A slice that is given is
// kept, so it must not be changed any more.
func (p *Problem) WithItems(items ...Item) *Problem {
	if p.items == nil {
		p.items = slices.Clip(items)
		return p
	}
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

// RetryAfter says when to try again, in whole seconds (RFC 9110,
// 10.2.3).
func (p *Problem) RetryAfter(d time.Duration) *Problem {
	return p.WithHeader("Retry-After", strconv.FormatInt(int64((d+time.Second-1)/time.Second), 10))
}

// Place is where the problem was made: the function, a space, and file:line; "" where that is not known.
func (p *Problem) Place() string {
	if p.at[0] == 0 {
		return ""
	}
	frame, _ := runtime.CallersFrames(p.at[:]).Next()
	return fmt.Sprintf("%s %s:%d", frame.Function, frame.File, frame.Line)
}

// Because sets the cause, for the log; callers never see it.
func (p *Problem) Because(cause error) *Problem {
	p.cause = cause
	return p
}

// Instead is the same occurrence as one of another kind, without its items. The problem itself stays
// as it is.
func (p *Problem) Instead(of *Kind) *Problem {
	other := *p
	other.kind, other.items = of, nil
	other.members, other.private, other.header = slices.Clone(p.members), slices.Clone(p.private), p.header.Clone()
	return &other
}

// CheckMembers says which members differ from what the kind declares with Carries: one that
// it does not name, or a value of another Go type. A kind that declares none takes any.
func (p *Problem) CheckMembers() error {
	declared := p.kind.Members()
	if len(declared) == 0 {
		return nil
	}
	var errs []error
	for _, m := range p.members {
		i := slices.IndexFunc(declared, func(d Member) bool { return d.Name == m.name })
		switch {
		case i < 0:
			errs = append(errs, fmt.Errorf("the kind %s does not carry the member %q", p.kind.code, m.name))
		case reflect.TypeOf(declared[i].Example) != reflect.TypeOf(m.value):
			errs = append(errs, fmt.Errorf("the member %q of the kind %s is %T, and was declared as %T",
				m.name, p.kind.code, m.value, declared[i].Example))
		}
	}
	return errors.Join(errs...)
}

// Kind returns the kind of the problem.
func (p *Problem) Kind() *Kind { return p.kind }

// Detail describes this occurrence.
func (p *Problem) Detail() string { return p.detail }

// Items are the faults of an input. The caller must not change the slice.
func (p *Problem) Items() []Item { return p.items }

// Header holds the fields that the answer carries. The caller must not change it.
func (p *Problem) Header() http.Header { return p.header }

// LogAttrs returns the attributes of Private.
func (p *Problem) LogAttrs() []slog.Attr { return p.private }

// Stack is where a problem of status 500 and above was made, innermost first.
func (p *Problem) Stack() []byte {
	if len(p.stack) == 0 {
		return nil
	}
	var b []byte
	frames := runtime.CallersFrames(p.stack)
	for more := true; more; {
		var f runtime.Frame
		f, more = frames.Next()
		b = fmt.Appendf(b, "%s\n\t%s:%d\n", f.Function, f.File, f.Line)
	}
	return b
}

// Member gives the value of a member that was added by With, or read back.
func (p *Problem) Member(name string) (any, bool) {
	for _, m := range p.members {
		if m.name == name {
			return m.value, true
		}
	}
	return nil, false
}

// Members gives the values of the members that were added by With, or read back, by name.
func (p *Problem) Members() map[string]any {
	all := make(map[string]any, len(p.members))
	for _, m := range p.members {
		all[m.name] = m.value
	}
	return all
}

// longestError bounds the text of a problem as an error, in bytes: it is for logs.
const longestError = 8 << 10

// Error is for logs: the code, the detail, the faults and the cause. A text of more
// than 8 KiB is cut, and ends in an ellipsis.
func (p *Problem) Error() string {
	var b strings.Builder
	b.Grow(32 + len(p.detail) + 64*min(len(p.items), 8))
	b.WriteString(p.kind.code)
	if p.detail != "" {
		b.WriteString(": " + clip.Text(p.detail, longestDetail))
	}
	for _, item := range p.items {
		if b.Len() > longestError/2 {
			b.WriteString("; …")
			break
		}
		b.WriteString("; ")
		item.place(&b)
		b.WriteByte(' ')
		b.WriteString(clip.Text(item.Detail, longestDetail))
	}
	if p.cause != nil {
		b.WriteString(": " + p.cause.Error())
	}
	return clip.Text(b.String(), longestError)
}

// place writes where an item is, for logs.
func (i *Item) place(b *strings.Builder) {
	b.WriteString(i.In)
	if i.Name != "" {
		b.WriteByte(' ')
		b.WriteString(clip.Text(i.Name, longestName))
	}
	if i.Pointer != nil {
		b.WriteByte(' ')
		b.WriteString(strconv.Quote(clip.Text(*i.Pointer, longestName)))
	}
}

// Is reports whether target is the problem's kind or a kind of its family. A nil problem
// is none.
func (p *Problem) Is(target error) bool { return p != nil && p.kind.Is(target) }

// Unwrap gives the cause.
func (p *Problem) Unwrap() error {
	if p == nil {
		return nil
	}
	return p.cause
}

// In finds the problem that an error holds: a Problem, or a Kind returned as it
// is; nil where it holds neither.
func In(err error) *Problem {
	if p, ok := errors.AsType[*Problem](err); ok {
		return p
	}
	if k, ok := errors.AsType[*Kind](err); ok {
		return &Problem{kind: k, cause: err}
	}
	return nil
}

// From is In, and for an error that holds none an occurrence of Timeout, if a
// deadline passed, or else of Internal, with err as its cause.
func From(err error) *Problem {
	if p := In(err); p != nil {
		return p
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return &Problem{kind: Timeout, detail: "The request took longer than the server allows.", cause: err}
	}
	return Hidden(err)
}

// Hidden is an occurrence of Internal for an error, which it keeps as its cause
// without looking for a problem in it.
func Hidden(err error) *Problem {
	return &Problem{kind: Internal, detail: "The failure has been recorded.", cause: err}
}

// Rendering has the parts of a rendered problem that depend on the request.
type Rendering struct {
	// Texts are in the caller's language; nil leaves the problem as it is.
	Texts *Texts
	// Base is what the kind's code is put behind to make the type (RFC 9457, 3.1.1).
	Base string
	// Instance names the occurrence; "" leaves it out.
	Instance string
	// Debug is a member for the programmer, as JSON; nil leaves it out.
	Debug jsontext.Value
}

// MaxSize is how large a problem in JSON can become, in bytes. Members that do not fit are
// cut where a reader sees it: texts end in an ellipsis, and the member more is true
// where faults are left out.
const MaxSize = 64 << 10

// How long single texts of a problem can be, in bytes.
const (
	longestDetail = 2 << 10
	longestName   = 512
)

// Append writes the problem as JSON (RFC 9457, 3) behind b. Its error says which
// members were left out; the problem is whole all the same.
func (p *Problem) Append(b []byte, t Rendering) ([]byte, error) {
	end := len(b) + MaxSize - len(`,"more":true}`)
	b = appendMember(append(b, '{'), "type", t.Base+p.kind.code)
	return p.appendRest(append(b, ','), end, t)
}

// MarshalJSONTo writes the problem as a part of an output: the outcome of one item of many, say. It has the members that
// it has as an answer, except for its type and instance, and never its cause. Members that JSON cannot carry are left
// out.
func (p *Problem) MarshalJSONTo(to *jsontext.Encoder) error {
	if p.kind == nil {
		return errors.New("problem: a Problem without a kind: make it by New of one")
	}
	text, _ := p.appendRest([]byte{'{'}, MaxSize, Rendering{})
	return to.WriteValue(text)
}

// JSONSchema is the schema of a problem in an output.
func (*Problem) JSONSchema() jsontext.Value {
	return jsontext.Value(`{"type":"object","required":["title","status","code"],"properties":{"title":{"type":"string"},` +
		`"status":{"type":"integer"},"detail":{"type":"string"},"code":{"type":"string"},"errors":{"type":"array"}}}`)
}

// appendRest writes what follows the type.
func (p *Problem) appendRest(b []byte, end int, t Rendering) ([]byte, error) {
	var lost error
	title, _ := t.Texts.Title(p.kind)
	b = appendMember(b, "title", title)
	b = append(b, `,"status":`...)
	b = strconv.AppendInt(b, int64(p.kind.status), 10)
	if detail, _ := t.Texts.Detail(p); detail != "" {
		b = appendMember(append(b, ','), "detail", clip.Text(detail, longestDetail))
	}
	if t.Instance != "" {
		b = appendMember(append(b, ','), "instance", clip.Text(t.Instance, longestName))
	}
	b = appendMember(append(b, ','), "code", p.kind.code)
	for _, m := range p.members {
		text, err := m.encode()
		if err == nil && len(b)+len(text)+6*len(m.name) > end {
			err = fmt.Errorf("it has %d bytes; a problem has at most %d", len(text), MaxSize)
		}
		if err != nil {
			lost = errors.Join(lost, fmt.Errorf("member %q of problem %s is left out: %w",
				clip.Text(m.name, longestName), p.kind.code, err))
			continue
		}
		b = appendString(append(b, ','), m.name)
		b = append(append(b, ':'), text...)
	}
	b = p.appendItems(b, end, t.Texts)
	if t.Debug != nil {
		if len(b)+len(t.Debug)+len(`,"debug":`) > end {
			lost = errors.Join(lost, errors.New("the member debug is left out: it is too large"))
		} else {
			b = append(append(b, `,"debug":`...), t.Debug...)
		}
	}
	return append(b, '}'), lost
}

// appendItems writes the faults, as many as find room up to end.
func (p *Problem) appendItems(b []byte, end int, texts *Texts) []byte {
	if len(p.items) == 0 {
		return b
	}
	start := len(b)
	b = append(b, `,"errors":[`...)
	for i := range p.items {
		before := len(b)
		if i > 0 {
			b = append(b, ',')
		}
		item := &p.items[i]
		if texts != nil {
			told, _ := texts.Item(*item)
			item = &told
		}
		if b = item.append(b); len(b) >= end {
			if b = b[:before]; i == 0 {
				b = b[:start]
			} else {
				b = append(b, ']')
			}
			if _, told := p.Member("more"); !told {
				b = append(b, `,"more":true`...)
			}
			return b
		}
	}
	return append(b, ']')
}

// append writes an item. What a rule asks for comes from a struct tag, so it can
// be written.
func (i *Item) append(b []byte) []byte {
	b = appendMember(append(b, '{'), "in", i.In)
	if i.Name != "" {
		b = appendMember(append(b, ','), "name", clip.Text(i.Name, longestName))
	}
	if i.Pointer != nil {
		b = appendMember(append(b, ','), "pointer", clip.Text(*i.Pointer, longestName+len("…")))
	}
	b = appendMember(append(b, ','), "rule", i.Rule)
	switch want := i.Want.(type) {
	case nil:
	case int:
		b = strconv.AppendInt(append(b, `,"want":`...), int64(want), 10)
	case int64:
		b = strconv.AppendInt(append(b, `,"want":`...), want, 10)
	case string:
		b = appendMember(append(b, ','), "want", clip.Text(want, longestDetail))
	case jsontext.Value:
		b = append(append(b, `,"want":`...), want...)
	default:
		if text, err := json.Marshal(want); err == nil {
			b = append(append(b, `,"want":`...), text...)
		}
	}
	b = appendMember(append(b, ','), "detail", clip.Text(i.Detail, longestDetail))
	return append(b, '}')
}

func (m member) encode() ([]byte, error) {
	switch m.name {
	case "type", "title", "status", "detail", "instance", "code", "errors", "debug":
		return nil, errors.New("the name belongs to a standard member")
	}
	return json.Marshal(m.value, json.Deterministic(true))
}

// appendMember writes a member whose name needs no escapes.
func appendMember(b []byte, name, value string) []byte {
	b = append(append(append(b, '"'), name...), `":`...)
	return appendString(b, value)
}

func appendString(b []byte, s string) []byte {
	quoted, _ := jsontext.AppendQuote(b,
		s) // invalid UTF-8 is replaced, and reported by an error that is of no use here
	return quoted
}
