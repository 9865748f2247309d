package wicketway

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"reflect"

	"github.com/go-json-experiment/json"
)

// A Page is a part of a list, and the way to its neighbours. The answer has them
// as members and as Link fields (RFC 8288) with the relations next and prev, unless
// a field would be longer than 4 KiB.
type Page[T any] struct {
	Items []T `json:"items"`
	// Next and Previous are cursors; "" where nothing follows or precedes.
	Next     string `json:"next,omitzero"`
	Previous string `json:"previous,omitzero"`
}

// pageItems is the place of a Page's Items among its fields.
const pageItems = 0

func (p Page[T]) neighbours() (next, previous string) { return p.Next, p.Previous }

// A pager is a Page of any type.
type pager interface {
	neighbours() (next, previous string)
}

// A Cursor is a place in a list, as a query parameter: the key of the item that
// the page comes after. To callers it is a text without meaning. The zero Cursor
// is the start of the list. A text that is no cursor is refused like any other
// input that cannot be read; one that was made up is a place like another, so the
// key must not open what the caller may not see.
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

// UnmarshalText reads what MarshalText has written.
func (c *Cursor[K]) UnmarshalText(text []byte) error {
	key, err := base64.RawURLEncoding.AppendDecode(nil, text)
	if err != nil {
		return fmt.Errorf("cursor: %w", err)
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
	next, previous := p.neighbours()
	if len(r.URL.RawQuery) > longestLink || next == "" && previous == "" {
		return own
	}
	if own = own.Clone(); own == nil { // the route's own is not ours to change
		own = http.Header{}
	}
	for _, to := range [2]struct{ relation, cursor string }{{"next", next}, {"prev", previous}} {
		if to.cursor == "" {
			continue
		}
		query := r.URL.Query()
		query.Set(parameter, to.cursor)
		if link := "<?" + query.Encode() + `>; rel="` + to.relation + `"`; len(link) <= longestLink {
			own.Add("Link", link)
		}
	}
	return own
}
