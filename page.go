package wicketway

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"iter"
	"net/http"
	"reflect"
	"strconv"

	"github.com/go-json-experiment/json"
	"github.com/wicketway/wicketway/internal/bind"
)

// A Page is a part of a list, and the way to its neighbours. The answer has them
// as members and as Link fields (RFC 8288) with the relations next and prev, where a query parameter of the
// input is a [Cursor], unless a field would be longer than 4 KiB.
type Page[T any] struct {
	Items []T `json:"items"`
	// Next and Previous are cursors; "" where nothing follows or precedes.
	Next     string `json:"next,omitzero"`
	Previous string `json:"previous,omitzero"`
}

// pageItems is the place of a page's Items among its fields.
const pageItems = 0

func (p Page[T]) links() (all []pageLink) {
	for _, to := range []pageLink{{"next", p.Next}, {"prev", p.Previous}} {
		if to.value != "" {
			all = append(all, to)
		}
	}
	return all
}

func (Page[T]) parameter() reflect.Type { return cursorType }

// A NumberedPage is a part of a list that is counted, for pages that are asked for by their number: a query parameter of
// the input is a [PageNumber]. The answer has Link fields (RFC 8288) with the relations first, prev, next and last.
type NumberedPage[T any] struct {
	Items []T `json:"items"`
	// Number is that of the page, from 1, and Size how many items a page has.
	Number int `json:"page"`
	Size   int `json:"size"`
	// Total is how many items there are on all pages.
	Total int `json:"total"`
	// First, Previous, Next and Last are the numbers of other pages, for callers that do not read Link fields; 0 where
	// there is none, or nobody has called Complete.
	First    int `json:"first,omitzero"`
	Previous int `json:"previous,omitzero"`
	Next     int `json:"next,omitzero"`
	Last     int `json:"last,omitzero"`
}

// Complete is the page with First, Previous, Next and Last, which are made of the Number, the Size and the Total.
func (p NumberedPage[T]) Complete() NumberedPage[T] {
	p.First, p.Previous, p.Next, p.Last = 1, 0, 0, 1
	if p.Size > 0 && p.Total > 0 {
		p.Last = (p.Total-1)/p.Size + 1
	}
	if p.Number > 1 {
		p.Previous = min(p.Number-1, p.Last)
	}
	if p.Number < p.Last {
		p.Next = p.Number + 1
	}
	return p
}

func (p NumberedPage[T]) links() (all []pageLink) {
	p = p.Complete()
	for _, to := range []struct {
		relation string
		number   int
	}{{"first", p.First}, {"prev", p.Previous}, {"next", p.Next}, {"last", p.Last}} {
		if to.number > 0 {
			all = append(all, pageLink{to.relation, strconv.Itoa(to.number)})
		}
	}
	return all
}

func (NumberedPage[T]) parameter() reflect.Type { return pageNumberType }

// A pageLink is the way to another page: the value of the parameter that names it.
type pageLink struct{ relation, value string }

// A pager is a page of any type.
type pager interface {
	links() []pageLink
	// parameter is what the type of the query parameter implements that names a page.
	parameter() reflect.Type
}

// A PageNumber is a query parameter that names a page: from 1, and 1 where it is not sent.
type PageNumber int

func (PageNumber) isPageNumber() {}

var pageNumberType = reflect.TypeFor[interface{ isPageNumber() }]()

// A PageSize is a query parameter that says how many items a page has: [PageSizes] says how many it has where the
// parameter is not sent, and at most, unless a rule of the field does.
type PageSize int

func (PageSize) isPageSize() {}

var pageSizeType = reflect.TypeFor[interface{ isPageSize() }]()

// PageSizes are those of the pages of a group. A field that is not set leaves what an outer group says, in the end 20
// and 100.
type PageSizes struct {
	// Usual is the size of a page where a request asks for none.
	Usual int
	// Most is the largest size that can be asked for.
	Most int
}

// ruleOf are rules that fields of a type have, unless their tags say otherwise.
func (s PageSizes) ruleOf(t reflect.Type) []string {
	switch {
	case t == reflect.TypeFor[PageNumber]():
		return []string{"minimum=1", "default=1"}
	case t == reflect.TypeFor[PageSize]():
		return []string{"minimum=1", fmt.Sprint("maximum=", s.Most), fmt.Sprint("default=", s.Usual)}
	}
	return nil
}

// A Cursor is a place in a list, as a query parameter: the key of the item that
// the page comes after. To callers it is a text without meaning. The zero Cursor
// is the start of the list. A text that is no cursor is refused like any other
// input that cannot be read; one that was made up is a place like another, so the
// key must not open values that the caller may not see.
type Cursor[K any] struct {
	Key K
	set bool
}

// CursorAt is the cursor for a key.
func CursorAt[K any](key K) Cursor[K] { return Cursor[K]{key, true} }

// IsStart reports whether no cursor was given.
func (c Cursor[K]) IsStart() bool { return !c.set }

// String is the text for callers; "" for the start.
func (c Cursor[K]) String() string {
	text, _ := c.MarshalText() // an error leaves the caller without a cursor, which ends the list
	return string(text)
}

// MarshalText writes the cursor in base64url (RFC 4648, 5).
func (c Cursor[K]) MarshalText() ([]byte, error) {
	if !c.set {
		return nil, nil
	}
	key, err := json.Marshal(c.Key)
	if err != nil {
		return nil, fmt.Errorf("cursor: %w", err)
	}
	return base64.RawURLEncoding.AppendEncode(nil, key), nil
}

// UnmarshalText reads the text of MarshalText.
func (c *Cursor[K]) UnmarshalText(text []byte) error {
	key, err := base64.RawURLEncoding.Strict().AppendDecode(nil, text)
	if err != nil {
		return fmt.Errorf("cursor: %w", err)
	}
	if bytes.ContainsAny(text, "\r\n") { // package base64 passes over them
		return errors.New("cursor: it has line breaks")
	}
	*c = Cursor[K]{set: true}
	return json.Unmarshal(key, &c.Key, json.RejectUnknownMembers(true))
}

func (Cursor[K]) isCursor() {}

var cursorType = reflect.TypeFor[interface{ isCursor() }]()

// longestLink bounds a Link field, in bytes. A longer one is left out: the answer has
// the cursors in its members, and no server takes such a line back.
const longestLink = 4 << 10

// withLinks adds the Link fields of a page to the header fields of a reply. They are
// relative to the request, and keep its other parameters.
func withLinks(own http.Header, r *http.Request, parameter string, p pager) http.Header {
	links := p.links()
	if len(r.URL.RawQuery) > longestLink || len(links) == 0 || parameter == "" {
		return own
	}
	if own = own.Clone(); own == nil { // the route's own is not ours to change
		own = http.Header{}
	}
	for _, to := range links {
		query := r.URL.Query()
		query.Set(parameter, to.value)
		if link := "<?" + query.Encode() + `>; rel="` + to.relation + `"`; len(link) <= longestLink {
			own.Add("Link", link)
		}
	}
	return own
}

// Stream is an output whose items are sent as they come: as a JSON array, as
// application/x-ndjson or as text/event-stream, as the caller accepts:
//
//	func (d desk) levels(ctx context.Context, in oneLock) (wicketway.Stream[Level], error) {
//		return func(yield func(Level, error) bool) {
//			for level := range d.gauge(ctx, in.Lock) {
//				if !yield(level, nil) {
//					return
//				}
//			}
//		}, nil
//	}
//
// It is called once, when the header is about to be sent, which waits for the first item: an
// error before that is a problem like any other. A later one ends the stream so that nobody
// takes a partial answer for a complete one: as an event named problem, or by cutting the connection. What it
// yields must not be used by others at the same time. Items are sent together, within 50 ms or
// 16 KiB. Where the caller has left yield returns false and the context ends; exchange.Exchange.Draining tells
// when the server is about to stop. A listener to events gets a comment every 15 seconds in
// which nothing comes.
//
// As an event an item may have a name and an id, by the methods EventName() string and
// EventID() string; a caller who lost the connection sends the last id again in the field
// Last-Event-ID (from:"header Last-Event-ID").
//
// In an input a Stream is a body that is read item by item, whatever its size: a JSON array, or application/x-ndjson.
//
//	type importPassages struct {
//		Passages wicketway.Stream[NewPassage] `from:"body" rule:"maxItems=5000"`
//	}
//
//	for passage, err := range in.Passages {
//
// One item at a time is in memory. An item with faults comes as their problem, whose pointers begin with its number,
// as in /17/crew, and the next is read after it: a function that takes no faulty item returns the error, one that reports
// on each keeps it. Where the rest cannot be read, as where an array is malformed or [Limits] end it, the problem is the
// last that comes. It is ranged over once, before the function returns or, where its output is a Stream, inside that.
//
// A ready iter.Seq2[T, error] is converted: wicketway.Stream[Level](levels). As an output it is sent alike,
// but ranged over by reflection, which costs more for each item.
type Stream[T any] iter.Seq2[T, error]

// each goes through the stream. The items are given by a pointer to one place, so that no interface holds
// a copy of each.
func (s Stream[T]) each(take func(item any, err error) bool) {
	item := new(T)
	s(func(v T, err error) bool {
		*item = v
		return take(item, err)
	})
}

// bodyStream is what a [Stream] can do as a body.
type bodyStream interface {
	item() reflect.Type
	fill(items *bind.Items)
}

// streamBody gives the type of the items of a stream that a body can be; nil for other types.
func streamBody(t reflect.Type) reflect.Type {
	if s, ok := reflect.New(t).Interface().(bodyStream); ok {
		return s.item()
	}
	return nil
}

func fillStream(stream reflect.Value, items *bind.Items) {
	stream.Addr().Interface().(bodyStream).fill(items)
}

func (*Stream[T]) item() reflect.Type { return reflect.TypeFor[T]() }

func (s *Stream[T]) fill(items *bind.Items) {
	*s = func(yield func(T, error) bool) {
		var none T
		if err := items.Begin(); err != nil {
			yield(none, err)
			return
		}
		place := new(T)
		for {
			*place = none
			more, err := items.Next(place)
			if err != nil {
				*place = none
			} else if !more {
				return
			}
			if !yield(*place, err) || !more {
				return
			}
		}
	}
}

// streamed gives the type of a stream's items; nil where t is no stream.
func streamed(t reflect.Type) reflect.Type {
	if t.Kind() != reflect.Func || t.NumIn() != 1 || t.NumOut() != 0 || t.In(0).Kind() != reflect.Func {
		return nil
	}
	yield := t.In(0)
	if yield.NumIn() != 2 || yield.In(1) != errorType || yield.NumOut() != 1 || yield.Out(0).Kind() != reflect.Bool {
		return nil
	}
	return yield.In(0)
}

var errorType = reflect.TypeFor[error]()

// eachOf goes through a stream, given by a pointer: as [Stream] does, or by reflection.
func eachOf(stream any, take func(item any, err error) bool) {
	if s, ok := stream.(interface {
		each(func(item any, err error) bool)
	}); ok {
		s.each(take)
		return
	}
	s := reflect.ValueOf(stream).Elem()
	yield := s.Type().In(0)
	place := reflect.New(yield.In(0))
	item, held := place.Interface(), place.Elem()
	more := [2][]reflect.Value{
		{reflect.ValueOf(false).Convert(yield.Out(0))},
		{reflect.ValueOf(true).Convert(yield.Out(0))},
	}
	s.Call([]reflect.Value{reflect.MakeFunc(yield, func(args []reflect.Value) []reflect.Value {
		held.Set(args[0])
		var err error
		if !args[1].IsNil() {
			err = args[1].Interface().(error)
		}
		if take(item, err) {
			return more[1]
		}
		return more[0]
	})})
}
