// Package usage counts calls by caller, version and route, and the deprecated parameters and members that they send.
package usage

import (
	"cmp"
	"net/http"
	"slices"
	"sync"
	"time"

	"github.com/wicketway/wicketway/exchange"
)

// A Row says how often a caller has called a route.
type Row struct {
	Caller  string // "" where nobody was known
	Issuer  string // who vouches for the caller
	Version string
	Method  string
	Route   string // the template
	// Sent is a parameter or a member that is deprecated and was sent with so many of the calls, such as query notify or
	// body /remark; "" in the row of all calls.
	Sent  string
	Count int64
	First time.Time
	Last  time.Time
}

// A Table counts. It is bounded: once it is full new callers are counted in rows without a caller,
// one for each route. It is safe for concurrent use, and the zero Table is empty and ready.
type Table struct {
	// Most is how many rows there are at most, in addition to those without a caller; 10,000 where it
	// is 0.
	Most int

	mu     sync.Mutex
	rows   map[key]*Row
	others int // requests of callers who found no room
}

type key struct{ issuer, caller, version, method, route, sent string }

// Count counts the requests that find a route and are answered with less than 500.
func (t *Table) Count() exchange.Middleware {
	return exchange.Middleware{
		Name: "usage",
		Does: "counts requests by caller, version and route",
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w, answer := exchange.WriterOf(w)
				next.ServeHTTP(w, r)
				x := exchange.Of(r.Context())
				method, route := x.Method(), x.Template()
				if route == "" || answer.Status() >= 500 {
					return
				}
				if method == "" { // of mounted handlers; callers could make up others
					method = "*"
				}
				caller := x.Caller()
				k, now := key{caller.Issuer, caller.Subject, x.Version(), method, route, ""}, time.Now()
				t.add(k, now)
				sent, _ := exchange.Kept[exchange.Deprecated](r.Context())
				for _, k.sent = range sent {
					t.add(k, now)
				}
			})
		},
	}
}

func (t *Table) add(k key, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.rows == nil {
		t.rows = map[key]*Row{}
	}
	row := t.rows[k]
	if row == nil {
		if k.caller != "" && len(t.rows) >= cmp.Or(t.Most, 10_000) {
			t.others++
			k.issuer, k.caller = "", ""
		}
		if row = t.rows[k]; row == nil {
			row = &Row{Caller: k.caller, Issuer: k.issuer, Version: k.version, Method: k.method, Route: k.route, Sent: k.sent, First: now}
			t.rows[k] = row
		}
	}
	row.Count++
	row.Last = now
}

// Rows returns the counts, by version, route, method, caller, issuer and input.
func (t *Table) Rows() []Row {
	t.mu.Lock()
	all := make([]Row, 0, len(t.rows))
	for _, r := range t.rows {
		all = append(all, *r)
	}
	t.mu.Unlock()
	slices.SortFunc(all, func(a, b Row) int {
		return cmp.Or(
			cmp.Compare(a.Version, b.Version), cmp.Compare(a.Route, b.Route), cmp.Compare(a.Method, b.Method),
			cmp.Compare(a.Caller, b.Caller), cmp.Compare(a.Issuer, b.Issuer), cmp.Compare(a.Sent, b.Sent),
		)
	})
	return all
}

// Others is how many requests were counted without their caller, since the table was full.
func (t *Table) Others() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.others
}
