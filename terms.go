package wicketway

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"reflect"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-json-experiment/json/jsontext"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/failure"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/internal/shape"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/negotiate"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// terms are what holds at one point of the description: what all settings around it add up
// to. Routes without settings of their own share those of their group.
type terms struct {
	chain       []*chained // the chain, outermost first
	left        []*chained // those of it that are left out
	guard       exchange.Authenticator
	guardSaid   *guarding
	guardAt     here.Place
	guardName   string   // its scheme's, or one that tells it from other guards of that name
	after       int      // how many of the chain come before the guard
	open        []string // the methods for which the guard is not asked
	public      bool
	scopes      []string
	anyScope    [][]string // of each list one
	rules       []allowRule
	fails       []*problem.Kind
	attached    []any      // by Attach, nearest first
	inherited   bool       // they are of a list that another version has
	answers     int        // the status of a success; 0: 200, or 204 for None
	describes   *described // what a handler reads and answers
	gives       []gift
	located     location
	summary     string
	template    string
	description string
	tags        []string
	name        string
	*groupTerms
}

// groupTerms are what mostly holds for whole groups. The lists share one until a setting
// changes it: an API has many routes, and few of these.
type groupTerms struct {
	limits      Limits
	seats       []*seats // one for each limit
	version     string
	versions    *versionSet // in which it is
	edition     int32       // of the version, in the table; 0: its path has it
	versionBy   versionBy
	withdrawn   withdrawals
	raisedAs    []raisedAs
	problemsAs  *problemShape
	slashes     Slash
	uniform     bool
	unknown     bool // members are allowed
	readOnly    bool // members are passed over
	listing     bool
	house       *house // nil: values are sent as they are
	conditional bool
	omitNull    bool
	unlisted    bool   // by Unlisted
	jsonOnly    bool   // problems are JSON whatever is accepted
	media       string // what JSON is called
	pageSizes   PageSizes
	offered     []format.Format
	chosenBy    FormatChoice
	formats     *answer.Choice // made of these two
	development bool
	log         *slog.Logger
	base        string
	translate   []func(error) error // nearest first
	nearest     int                 // how many of them the list that is being read has added
	ending      Retirement          // what all settings around it say
	related     []string            // the links of Related
	retirement  *retirement
	causes      *ShowCauses
	languages   *languages
	pagesBy     []format.Format
	pages       *answer.Choice // made of pagesBy
}

func (t *terms) ownGroupTerms() {
	own := *t.groupTerms
	own.nearest = 0
	t.groupTerms = &own
}

// active are the middleware that a request passes.
func (t *terms) active() []*chained { return t.activeIn(t.chain) }

// activeIn are those of a part of the chain.
func (t *terms) activeIn(all []*chained) []*chained {
	if t.left == nil {
		return all
	}
	return slices.DeleteFunc(slices.Clone(all), func(l *chained) bool { return slices.Contains(t.left, l) })
}

// guards reports whether the guard is asked for a method.
func (t *terms) guards(method string) bool {
	if t.guard == nil {
		return false
	}
	if method == http.MethodHead && slices.Contains(t.open, http.MethodGet) {
		return false
	}
	return !slices.Contains(t.open, method)
}

// openToAll takes the guard away, and what it would be asked for.
func (t *terms) openToAll() {
	t.guard, t.public, t.open, t.scopes, t.anyScope, t.rules = nil, true, nil, nil, nil, nil
}

// readByAll are the types of attached values that every API reads: where its documentation and its trails are, and what is
// about it.
var readByAll = []reflect.Type{reflect.TypeFor[facts.ServiceDoc](), reflect.TypeFor[facts.Trails](), reflect.TypeFor[facts.About]()}

// reads reports whether somebody on the way to the route, or the API itself, reads attached values of a type.
func (t *terms) reads(of reflect.Type) bool {
	if slices.Contains(readByAll, of) {
		return true
	}
	if t.guard != nil && slices.Contains(t.guard.Scheme().Reads, of) {
		return true
	}
	return slices.ContainsFunc(t.active(), func(l *chained) bool { return slices.Contains(l.Reads, of) })
}

// asksFor reports whether all is asked of callers that other terms ask of them.
func (t *terms) asksFor(other *terms) bool {
	in := func(list []string) func(string) bool {
		return func(s string) bool { return !slices.Contains(list, s) }
	}
	return isSame(t.guard, other.guard) &&
		!slices.ContainsFunc(t.open, in(other.open)) && !slices.ContainsFunc(other.scopes, in(t.scopes)) &&
		!slices.ContainsFunc(other.anyScope, func(oneOf []string) bool {
			return !slices.ContainsFunc(t.anyScope, func(own []string) bool { return slices.Equal(own, oneOf) })
		})
}

// A guarding is what one Guard says. Two may have guards of which cannot be seen whether they are the same.
type guarding struct{ by exchange.Authenticator }

// isSame reports whether two guards are one. Where that cannot be seen they are not.
func isSame(a, b exchange.Authenticator) bool {
	return a != nil && reflect.TypeOf(a) == reflect.TypeOf(b) && reflect.ValueOf(a).Comparable() && a == b
}

func (t *terms) logger() *slog.Logger {
	if t.log != nil {
		return t.log
	}
	for _, l := range t.active() {
		if l.Log != nil {
			return l.Log(t.development)
		}
	}
	return slog.Default()
}

// mediaParameter is what the media types of answers carry.
func (t *terms) mediaParameter() string {
	if t.versions.sharesPaths() && t.versions.by.scheme.kind == byMedia {
		return ";version=" + t.version
	}
	return ""
}

// asking writes into the header of a request that it means a version.
func (t *terms) asking(h http.Header) {
	switch field := t.versions.variesBy(); field {
	case "":
	case "Accept":
		h.Set("Accept", "application/json"+t.mediaParameter())
		if h.Get("Content-Type") == "application/json" {
			h.Set("Content-Type", "application/json"+t.mediaParameter())
		}
	default:
		h.Set(field, t.version)
	}
}

// A Middleware is between the server and the routes; see [exchange.Middleware].
type Middleware = exchange.Middleware

// Wrap makes a middleware of any func(http.Handler) http.Handler.
func Wrap(name string, wrap func(http.Handler) http.Handler) Middleware {
	return exchange.Wrap(name, wrap)
}

// A chained middleware is one in its place in a chain.
type chained struct {
	Middleware
	at      here.Place
	depth   int          // how many of the chain come before it
	handler http.Handler // made when the description is compiled
}

// An Identity is the caller of a request; see [exchange.Identity].
type Identity = exchange.Identity

// Limits bound requests. A zero field leaves the value of
// an outer group says, in the end the default.
type Limits struct {
	// Body is the size in bytes of a body that a route's input reads, as it comes in
	// and as it is unpacked; 1 MiB by default. Plain and mounted handlers see to
	// theirs themselves.
	Body int64
	// Item is the size in bytes of one item of a body that is read as a [Stream]; 64 KiB by default. Body is the size of
	// all.
	Item int64
	// Rate is how many bytes a second of a body must arrive at least, on average, after
	// the first ten seconds, and how many of each write of an answer the caller must take
	// after ten seconds, beyond the 4 KiB that the server keeps; 1 KiB by default, and it
	// holds for handlers too. A body that is slower gets 408; to a caller who does not
	// read writing fails, so that they hold no seat.
	Rate int64
	// Time is how long a route may take; unlimited by default. From when the request
	// came in it bounds the reading of the body (408) and the serving: then the context
	// ends and the caller gets 503. Writing the answer may take as long once more; of
	// an answer that is flushed each piece may, however long it is waited for. A
	// function that ignores its context cannot be stopped: its answer comes late, if
	// at all.
	Time time.Duration
	// AtOnce is how many requests may be served at a time by all routes under
	// this setting, in addition to what outer groups say; unlimited by default. So many more as
	// Queue says wait for their turn, in about the order in which they came, for as long as Wait; by default
	// none do. All others get 503 at once, with Retry-After. Queue and Wait go together with AtOnce.
	AtOnce int
	Queue  int
	Wait   time.Duration
	// Faults is how many faults of an input are listed; 100 by default. A problem has
	// at most 64 KiB whatever is said here.
	Faults int
}

// Seats are for the requests that may be served at a time by the routes under one Limits.
type seats struct {
	taken   chan struct{} // as many as are taken
	waiting atomic.Int64
	queue   int64
	wait    time.Duration
}

// take waits for a seat, if there is room to wait; free gives it back.
func (s *seats) take(ctx context.Context) error {
	select {
	case s.taken <- struct{}{}:
		return nil
	default:
	}
	if s.waiting.Add(1) > s.queue {
		s.waiting.Add(-1)
		return s.refuse()
	}
	defer s.waiting.Add(-1)
	timer := time.NewTimer(s.wait)
	defer timer.Stop()
	select {
	case s.taken <- struct{}{}:
		return nil
	case <-timer.C:
		return s.refuse()
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (s *seats) free() { <-s.taken }

func (s *seats) refuse() error {
	text := fmt.Sprintf("%d requests are being served already.", cap(s.taken))
	if s.queue > 0 {
		text = fmt.Sprintf("%d requests are being served, and up to %d wait.", cap(s.taken), s.queue)
	}
	return problem.Overloaded.New(text).RetryAfter(max(s.wait, time.Second))
}

// defaultLimits are what holds where nothing is said.
var defaultLimits = Limits{Body: 1 << 20, Item: 64 << 10, Faults: check.MostFaults}

// defaultPageSizes are what holds where nothing is said.
var defaultPageSizes = PageSizes{Usual: 20, Most: 100}

// A Slash says what becomes of a request whose path fits a route except for a slash
// at its end. Its values are those of table.Slash.
type Slash uint8

const (
	// SlashRedirect sends the caller to the route's own path (308). It is the default.
	SlashRedirect Slash = iota
	// SlashStrict takes the path for another one, where nothing is.
	SlashStrict
	// SlashSame serves the request as if its path were the route's.
	SlashSame
)

// String gives the policy's name: redirect, strict or same.
func (s Slash) String() string { return table.Slash(s).String() }

// ownBase is where an API serves the descriptions of its problems itself.
const ownBase = failure.OwnBase

// An allowRule is what Allow has said.
type allowRule struct {
	kind *problem.Kind
	in   reflect.Type                                                     // the input of the routes that it is about
	ask  func(ctx context.Context, caller Identity, in any) (bool, error) // in is a pointer
}

// Languages are those that problems are told in.
type languages struct {
	tags  []string // the first is that of the originals
	texts map[string]*problem.Texts
}

func newLanguages(original string, others []problem.Texts) *languages {
	l := &languages{tags: []string{original}, texts: map[string]*problem.Texts{}}
	for _, t := range others {
		l.tags = append(l.tags, t.Language)
		l.texts[t.Language] = &t
	}
	return l
}

func (l *languages) tagged() []string {
	if l == nil {
		return nil
	}
	return l.tags
}

// choose gives the texts for a caller; nil for the originals.
func (l *languages) choose(accept []string) *problem.Texts {
	if l == nil || accept == nil {
		return nil
	}
	return l.texts[negotiate.Language(accept, l.tags...)]
}

// announce says in the header which language a problem is told in.
func (l *languages) announce(h http.Header, texts *problem.Texts, p *problem.Problem) {
	if l == nil {
		return
	}
	writer.AddVary(h, "Accept-Language")
	switch {
	case texts == nil:
		h.Set("Content-Language", l.tags[0])
	case texts.Complete(p):
		h.Set("Content-Language", texts.Language)
	default:
		h.Set("Content-Language", texts.Language+", "+l.tags[0])
	}
}

// isLanguageTag reports whether a tag has the form of one: letters, and then pieces of letters and digits.
func isLanguageTag(tag string) bool {
	for i, piece := range strings.Split(tag, "-") {
		if piece == "" || len(piece) > 8 || strings.Trim(piece, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789") != "" ||
			i == 0 && (len(piece) < 2 || strings.ContainsAny(piece, "0123456789")) {
			return false
		}
	}
	return true
}

// ShowCauses adds, for one request that asks for it, the causes of a problem and the places where they arose
// to the problem, as the member debug: in production too, for callers that a function allows. Such an answer
// says Cache-Control: no-store. Secrets that the request had are blanked. In development all problems have the
// member, whether they are asked for it or not.
type ShowCauses struct {
	// Field is the header field, or Query the parameter, by which a request asks, whatever its value is.
	Field, Query string
	// To decides whether a caller may see them. It is asked once the guard of the route has let the caller in; where no
	// guard is asked the caller is the zero Identity. It must be safe for concurrent use.
	To func(ctx context.Context, caller Identity) bool
}

// A location says whose path the answers of a route lead to, as LocatedBy does.
type location struct {
	by    *runtime.Func // the function of that route
	value *closure      // and the value of it
	in    reflect.Type  // its input
}

// String gives the input.
func (l location) String() string { return l.in.String() }

// FormatChoice says how callers choose between the [Formats] of a group. A field that is not set leaves what an outer
// group says.
//
//	wicketway.FormatChoice{By: []format.Way{format.BySuffix(), format.ByAccept()}}
type FormatChoice struct {
	// By are the ways; nil: Accept. A suffix counts before a header field, that before a query parameter, and that before
	// Accept.
	By []format.Way
	// OrFirst sends the first format to callers that choose one that is not offered, rather than 406.
	OrFirst bool
}

// A gift is an answer that Gives declares.
type gift struct {
	at     here.Place
	status int
	of     reflect.Type
	out    outputType
}

// String gives the type.
func (g gift) String() string { return g.of.String() }

// described are the types that Describes names.
type described struct {
	in  reflect.Type
	out outputType
}

type raisedAs struct{ now, old *problem.Kind }

// A house is the shape in which a group sends the values of its routes: an object with one member, or that of a
// function.
type house struct {
	member  string
	of      reflect.Type
	make    func(format.Success) any
	places  [][]string // for the value: one, or it is a mistake
	pointer string     // to that place
	at      here.Place
	missing bool        // the function is nil
	schema  *check.Type // once it was checked
}

// place is the JSON Pointer (RFC 6901) to a value's place; "" where values are sent as they are.
func (h *house) place() string {
	if h == nil {
		return ""
	}
	return h.pointer
}

// around is the schema of a value where it is sent.
func (h *house) around(value jsontext.Value) jsontext.Value {
	switch {
	case h == nil:
		return value
	case h.make != nil:
		return h.schema.Around(check.Direction{Sent: true}, payloadType, value)
	}
	return schemaText(
		map[string]any{"type": "object", "properties": map[string]any{h.member: value}, "required": []string{h.member}},
	)
}

var payloadType = reflect.TypeFor[format.Payload]()

// A problemShape is how a group sends its problems.
type problemShape struct {
	offer *answer.Offer
	of    reflect.Type
	at    here.Place

	missing bool        // the function is nil
	schema  *check.Type // once it was checked
}

func (s *problemShape) info(docs *check.Documents) *facts.ProblemShape {
	if s == nil {
		return nil
	}
	if docs != nil {
		return &facts.ProblemShape{Media: s.offer.Media, Type: shape.TypeName(s.of),
			Schema: docs.Schema(s.schema, check.Direction{Sent: true})}
	}
	return &facts.ProblemShape{Media: s.offer.Media, Type: shape.TypeName(s.of)}
}

// asRaised is the kind that problems of one are answered as.
func (t *groupTerms) asRaised(k *problem.Kind) *problem.Kind {
	found, depth := k, -1
	for _, r := range t.raisedAs {
		if d := distance(k, r.now); d >= 0 && (depth < 0 || d < depth) {
			found, depth = r.old, d
		}
	}
	return found
}

// told is a problem as callers see it.
func (t *groupTerms) told(p *problem.Problem) *problem.Problem {
	if of := t.asRaised(p.Kind()); of != p.Kind() {
		return p.Instead(of).WithItems(p.Items()...)
	}
	return p
}

// distance is how far a kind is below another one of its family; -1: it does not.
func distance(k, above *problem.Kind) int {
	for d := 0; k != nil; k, d = k.Family(), d+1 {
		if k == above {
			return d
		}
	}
	return -1
}

// Ties bind a route to others, by their numbers.
type ties struct {
	locates     int // what makes its locations; -1: nothing
	reads       int // the GET of the state that it changes or makes; -1: none is known
	conditional *conditional
	tagged      bool // its answers carry the tag of the new state
	except      []facts.Prefix
	// successor is the path of the route that replaces it, where its Retirement names a function.
	successor *route.Template
}

// A conditional route takes conditions.
type conditional struct {
	field    []int // of the input
	required bool
}

// inputs are the header fields that conditions come from.
func (c *conditional) inputs() (all []facts.Input) {
	for _, name := range []string{"If-Match", "If-None-Match", "If-Unmodified-Since"} {
		all = append(all, facts.Input{In: "header", Name: name, Type: "string", Note: "RFC 9110, 13.1"})
	}
	return all
}

// raises are the kinds of problem of requests whose conditions are missing.
func (c *conditional) raises() []*problem.Kind {
	if c.required {
		return []*problem.Kind{problem.PreconditionRequired}
	}
	return nil
}
