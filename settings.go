package wicketway

import (
	"context"
	"fmt"
	"log/slog"
	"mime"
	"net/http"
	"reflect"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/failure"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/problem"
)

// Chain adds middleware, outermost first. Outer groups' chains come before inner
// ones. Each middleware is applied once where the setting stands, not once a
// route, so that its state is shared by all below.
func Chain(middleware ...Middleware) Setting {
	return setting{at: here.Here(0), name: "Chain", slot: slotChain, apply: func(b reporter, at here.Place, t *terms) {
		if len(middleware) == 0 {
			b.mistake(at, "Chain: none is given: leave it out, or name some")
		}
		for i, m := range middleware {
			if m.Wrap == nil {
				b.mistake(at, "Chain: middleware %d has no function: use Wrap, or a package's own", i+1)
			}
			checkMiddleware(b, at, m)
			if i := slices.IndexFunc(t.active(), func(l *chained) bool { return l.Name == m.Name }); i >= 0 && !m.Repeats {
				if t.inherited { // the inheriting version has its own
					continue
				}
				b.mistake(at, "Chain: %s is in the chain already, at %s: requests would pass it twice", m.Name, t.active()[i].at)
			}
			t.chain = append(t.chain, &chained{Middleware: m, at: at, depth: len(t.chain)})
		}
	}}
}

// checkMiddleware reports what is wrong with a middleware by itself.
func checkMiddleware(b reporter, at here.Place, m Middleware) {
	if m.Name == "" {
		b.mistake(at, "Chain: a middleware has no name: listings and Without need one")
	}
	for _, k := range m.Raises {
		b.kind(at, "Chain: "+m.Name, k)
	}
	for _, field := range m.Sets {
		if !bind.IsToken(field.Name) {
			b.mistake(at, "%s: it says that it sets %q, which is not a field name (RFC 9110, 5.1)", m.Name, field.Name)
		}
	}
	for _, t := range m.Reads {
		if t == nil {
			b.mistake(at, "%s: it says that it reads a nil type: use reflect.TypeFor", m.Name)
		}
	}
	if m.Check != nil {
		for _, err := range check.Unjoin(m.Check()) {
			b.mistake(at, "%s: %v", m.Name, err)
		}
	}
}

// Without leaves middleware of outer chains out, by name.
func Without(names ...string) Setting {
	return setting{
		at:   here.Here(0),
		name: "Without",
		slot: slotWithout,
		mode: early,
		apply: func(b reporter, at here.Place, t *terms) {
			if len(names) == 0 {
				b.mistake(at, "Without: none is given: leave it out, or name some")
			}
			for i, name := range names {
				if slices.Contains(names[:i], name) {
					b.mistake(at, "Without: %s is named twice: once is enough", name)
					continue
				}
				found := slices.IndexFunc(t.active(), func(l *chained) bool { return l.Name == name })
				if found < 0 {
					b.mistake(at, "Without: no %s is in the chain here; there are %s", name, chainNames(t.active()))
					continue
				}
				t.left = append(t.left[:len(t.left):len(t.left)], t.active()[found])
			}
		},
	}
}

func chainNames(of []*chained) string {
	var names []string
	for _, l := range of {
		names = append(names, l.Name)
	}
	if names == nil {
		return "none"
	}
	return strings.Join(names, ", ")
}

// Guard says who decides about the caller. It is asked after the chain of the
// list in which it stands, so that refused requests are logged too. Under it
// every route needs a caller, except those that are [Public].
//
// Below the prefix of a group or a mount under a guard, and at the prefix itself, no request is served
// by a mount, files or {+rest} of a shorter prefix that does not ask for the same guard and scopes: what
// the routes there do not take is not found.
func Guard(by exchange.Authenticator) Setting {
	return setting{
		at:   here.Here(0),
		name: "Guard",
		slot: slotAccess,
		mode: replaces,
		apply: func(b reporter, at here.Place, t *terms) {
			t.guardAt, t.public, t.open, t.after = at, false, nil, -1
			if t.guard = by; isNil(by) {
				b.mistake(at, "Guard: the guard is nil; Public() opens a route")
				t.guard = noGuard{}
				return
			}
			askWrong(b, at, "Guard", by)
			for _, k := range by.Scheme().Raises {
				b.kind(at, "Guard", k)
			}
		},
		acts:  (*resolved).guarded,
		lacks: "every route here is public, so it is never asked",
	}
}

// noGuard takes the place of one that is nil, so that what needs a guard is no mistake of its own.
type noGuard struct{ exchange.Authenticator }

func (noGuard) Scheme() exchange.Scheme { return exchange.Scheme{} }

// Public opens what a guard around it closes: for all methods, or for those that are
// given. Under Guard(...) and Public("GET") reading is open, with HEAD, and all else is
// not.
func Public(methods ...string) Setting {
	if len(methods) > 0 {
		return publicMethods(here.Here(0), methods)
	}
	return setting{
		at:   here.Here(0),
		name: "Public",
		slot: slotAccess,
		mode: replaces,
		apply: func(_ reporter, _ here.Place, t *terms) {
			t.guard, t.public, t.open, t.scopes, t.anyScope, t.rules = nil, true, nil, nil, nil, nil
		},
		acts: func(r *resolved) bool {
			for l := r.list; l != nil; l = l.outer {
				if l.terms.guard != nil {
					return true
				}
			}
			return false
		},
		lacks: "no guard is around it, so everyone may call anyway",
	}
}

func publicMethods(at here.Place, methods []string) Setting {
	var pieces []piece
	for _, m := range methods {
		pieces = append(pieces, piece{m, func(_ *list, r *resolved) bool {
			return r.terms().guard != nil && (r.method == m || r.method == anyMethod || m == http.MethodGet && r.method == http.MethodHead)
		}, "no route here has the method and a guard"})
	}
	return setting{
		at:   at,
		name: "Public",
		slot: slotPublicMethods,
		apply: func(b reporter, at here.Place, t *terms) {
			for _, m := range methods {
				if strings.ToUpper(m) != m || m == "" {
					b.mistake(at, "Public: %q is not a method, such as GET", m)
				}
			}
			twice(b, at, "Public", methods)
			t.open = append(t.open, methods...)
		},
		pieces: pieces,
	}
}

// Scopes are what the caller must have been granted: all of them, with those of
// outer groups.
func Scopes(needed ...string) Setting {
	return setting{
		at:   here.Here(0),
		name: "Scopes",
		slot: slotScopes,
		apply: func(b reporter, at here.Place, t *terms) {
			checkScopes(b, at, "Scopes", needed)
			t.scopes = append(t.scopes, needed...)
		},
		acts:  (*resolved).guarded,
		lacks: "no guard holds here, so there is no caller to have scopes: add Guard, or leave Scopes out",
	}
}

// some reports a list that is empty, or has something twice.
func some[T comparable](b reporter, at here.Place, setting string, list []T) {
	if len(list) == 0 {
		b.mistake(at, "%s: none is given: leave it out, or name some", setting)
	}
	twice(b, at, setting, list)
}

func twice[T comparable](b reporter, at here.Place, setting string, list []T) {
	for i, one := range list {
		if slices.Contains(list[:i], one) {
			b.mistake(at, "%s: %v is named twice: once is enough", setting, one)
		}
	}
}

func checkScopes(b reporter, at here.Place, setting string, scopes []string) {
	some(b, at, setting, scopes)
	for _, scope := range scopes {
		if scope == "" || strings.ContainsFunc(scope,
			func(c rune) bool { return c <= ' ' || c > '~' || c == '"' || c == '\\' }) {
			b.mistake(at, "%s: %q is not a scope: scopes are words without spaces, quotes and backslashes (RFC 6749, 3.3); write %s(\"a\", \"b\") for two", setting, scope, setting)
		}
	}
}

// AnyScope is what the caller must have been granted one of, beside what [Scopes] and other
// AnyScopes ask for.
func AnyScope(oneOf ...string) Setting {
	return setting{
		at:   here.Here(0),
		name: "AnyScope",
		slot: slotAnyScope,
		apply: func(b reporter, at here.Place, t *terms) {
			checkScopes(b, at, "AnyScope", oneOf)
			t.anyScope = append(t.anyScope[:len(t.anyScope):len(t.anyScope)], oneOf)
		},
		acts: func(r *resolved) bool {
			return r.guarded() && !slices.ContainsFunc(oneOf, func(s string) bool { return slices.Contains(r.terms().scopes, s) })
		},
		lacks: "no guard holds here, so there is no caller to have scopes, or Scopes asks for one of them anyway",
	}
}

// Allow lets a rule decide, once the input has been read and checked, whether the caller may do
// what it asks for. Where the rule says false the route is not called, and the kind is raised: one
// of status 403, or of 404 where callers are not to know what is there. All rules must hold. The
// input is that of the route.
//
//	wicketway.Allow(ErrNoSuchPassage, func(ctx context.Context, caller wicketway.Identity, in onePassage) (bool, error) {
//		return desk.owns(ctx, caller.Subject, in.Passage)
//	})
func Allow[In any](kind *problem.Kind, rule func(ctx context.Context, caller Identity, in In) (bool, error)) Setting {
	in := reflect.TypeFor[In]()
	return setting{
		at:   here.Here(0),
		name: "Allow",
		slot: slotAllow,
		apply: func(b reporter, at here.Place, t *terms) {
			b.kind(at, "Allow", kind)
			if kind.Check() == nil && kind.Status() >= 500 {
				b.mistake(at, "Allow: the kind %q has the status %d, which blames the server: use one of status 403, or 404", kind.Code(), kind.Status())
			}
			if rule == nil {
				b.mistake(at, "Allow: the rule is nil")
				return
			}
			t.rules = append(t.rules[:len(t.rules):len(t.rules)], allowRule{kind, func(ctx context.Context, caller Identity, in any) (bool, error) {
				return rule(ctx, caller, *in.(*In))
			}})
		},
		acts:  func(r *resolved) bool { return r.guarded() && isTyped(r) },
		lacks: "no route here has a function and a guard, so there is no input and no caller to decide about",
		suits: func(r *resolved) error {
			if r.part.in != in && isTyped(r) {
				return fmt.Errorf("the rule decides about %s, but the input of the route is %s", in, r.part.in)
			}
			return nil
		},
	}
}

// An allowRule is what Allow has said.
type allowRule struct {
	kind *problem.Kind
	ask  func(ctx context.Context, caller Identity, in any) (bool, error) // in is a pointer
}

// Fails names the kinds of problem that a route can raise itself.
func Fails(kinds ...*problem.Kind) Setting {
	return setting{at: here.Here(0), name: "Fails", slot: slotFails, apply: func(b reporter, at here.Place, t *terms) {
		if len(kinds) == 0 {
			b.mistake(at, "Fails: none is given: leave it out, or name some")
		}
		for i, k := range kinds {
			if k != nil && slices.Contains(kinds[:i], k) {
				b.mistake(at, "Fails: the kind %q is named twice: once is enough", k.Code())
			}
		}
		for _, k := range kinds {
			b.kind(at, "Fails", k)
		}
		t.fails = append(t.fails, kinds...)
	}}
}

// Answers is the status of a success, 200 to 299.
func Answers(status int) Setting {
	return setting{
		at:   here.Here(0),
		name: "Answers",
		slot: slotAnswers,
		mode: replaces,
		apply: func(b reporter, at here.Place, t *terms) {
			if t.answers = status; status < http.StatusOK || status > 299 {
				b.mistake(at, "Answers: %d is not the status of a success (200 to 299)", status)
				t.answers = 0
			}
		},
		undone: func(t *terms) { t.answers = 0 },
		acts:   func(r *resolved) bool { return isTyped(r) && r.part.out.kind != ownOutput && r.part.out.at == nil },
		lacks:  "no route here has a function whose output leaves the status open; a plain handler writes its own",
	}
}

// Summary says in a line what a route is for.
func Summary(text string) Setting {
	return setting{
		at:   here.Here(0),
		name: "Summary",
		slot: slotSummary,
		mode: replaces | onlyRoute,
		apply: func(b reporter, at here.Place, t *terms) {
			if t.summary = text; strings.TrimSpace(text) == "" || strings.ContainsAny(text, "\r\n") {
				b.mistake(at, "Summary: %q is not a line of text: say what the route is for, or leave it out", text)
			}
		},
	}
}

// Name names a route, for links to it. Without it the name is that of the route's
// function with its package's: passages.find.
func Name(name string) Setting {
	return setting{
		at:   here.Here(0),
		name: "Name",
		slot: slotName,
		mode: replaces | onlyRoute,
		apply: func(b reporter, at here.Place, t *terms) {
			if t.name = name; name == "" || strings.ContainsFunc(name, func(c rune) bool { return c <= ' ' || c == '/' || c == 0x7f }) {
				b.mistake(at, "Name: %q is not a name: names have neither spaces nor slashes, such as passages.find", name)
			}
		},
	}
}

// IgnoreReadOnly passes over the members of a JSON body that only the server sets
// (rule:"readOnly"), so that callers can send back what they got; they are refused
// otherwise.
func IgnoreReadOnly() Setting {
	return flag(here.Here(0), "IgnoreReadOnly", slotReadOnly, func(t *terms, on bool) { t.readOnly = on }).
		where(readsJSON, noJSONBody)
}

// AllowUnknown ignores members of a JSON body that the input does not have; they
// are refused otherwise.
func AllowUnknown() Setting {
	return flag(here.Here(0), "AllowUnknown", slotUnknown, func(t *terms, on bool) { t.unknown = on }).
		where(readsJSON, noJSONBody)
}

const noJSONBody = "no route here reads a JSON body"

// flag makes a setting that is on or off; off is what Undo makes of it.
func flag(at here.Place, name string, about slot, set func(t *terms, on bool)) setting {
	return setting{
		at:     at,
		name:   name,
		slot:   about,
		mode:   replaces | ofGroups,
		apply:  func(_ reporter, _ here.Place, t *terms) { set(t, true) },
		undone: func(t *terms) { set(t, false) },
	}
}

// where limits a setting to the routes on which it has an effect, and says what is missing
// where there is none.
func (s setting) where(acts func(*resolved) bool, lacks string) setting {
	s.acts, s.lacks = acts, lacks
	return s
}

// Limits are the bounds of what a request may ask for. A zero field leaves what
// an outer group says, in the end the default.
type Limits struct {
	// Body is the size in bytes of a body that a route's input reads, as it comes in
	// and as it is unpacked; 1 MiB by default. Plain and mounted handlers see to
	// theirs themselves.
	Body int64
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
	// AtOnce is how many requests may be served at a time by all that stands where
	// this setting does, beside what outer groups say; unlimited by default. One more
	// gets 503 at once, with Retry-After.
	AtOnce int
	// Faults is how many faults of an input are listed; 100 by default. A problem has
	// at most 64 KiB whatever is said here.
	Faults int
}

// defaultLimits are what holds where nothing is said.
var defaultLimits = Limits{Body: 1 << 20, Faults: check.MostFaults}

func (l Limits) part() here.Place { return here.Place{} }

func (l Limits) setting() setting {
	return setting{
		name:   "Limits",
		slot:   slotLimits,
		mode:   replaces | ofGroups,
		limits: &l,
		apply: func(b reporter, at here.Place, t *terms) {
			if l == (Limits{}) {
				b.mistake(at, "Limits: no field is set: leave it out, or set one")
			}
			if l.Body < 0 || l.Rate < 0 || l.Time < 0 || l.AtOnce < 0 || l.Faults < 0 {
				b.mistake(at, "Limits: %+v: a limit must be positive; Undo(Limits{...}) lifts one", l)
				return
			}
			l.set(&t.limits, l)
			if l.AtOnce > 0 {
				t.seats = append(slices.Clip(t.seats), make(chan struct{}, l.AtOnce))
			}
		},
		undone: func(t *terms) {
			l.set(&t.limits, defaultLimits)
			if l.AtOnce != 0 {
				t.seats = nil
			}
		},
		pieces: l.pieces(),
	}
}

// pieces are the fields that are set, each a setting of its own.
func (l Limits) pieces() (all []piece) {
	add := func(name string, value func(Limits) bool, acts func(*resolved) bool, lacks string) {
		if value(l) {
			all = append(all, piece{name, func(at *list, r *resolved) bool {
				for nearer := r.list; nearer != at; nearer = nearer.outer {
					if slices.ContainsFunc(nearer.settings, func(s setting) bool { return s.limits != nil && value(*s.limits) }) && name != "AtOnce" {
						return false
					}
				}
				return acts == nil || acts(r)
			}, lacks})
		}
	}
	const overruled = "inner settings overrule it for every route"
	add("Body", func(l Limits) bool { return l.Body != 0 }, (*resolved).reads, "no route here reads a body, or inner settings overrule it; a plain handler sees to its own body")
	add("Rate", func(l Limits) bool { return l.Rate != 0 }, nil, overruled)
	add("Time", func(l Limits) bool { return l.Time != 0 }, nil, overruled)
	add("AtOnce", func(l Limits) bool { return l.AtOnce != 0 }, nil, overruled)
	add("Faults", func(l Limits) bool { return l.Faults != 0 }, func(r *resolved) bool { return r.input != nil && r.input.Reads() }, "no route here reads an input, or inner settings overrule it")
	return all
}

// set takes over from what l names.
func (l Limits) set(to *Limits, from Limits) {
	if l.Body != 0 {
		to.Body = from.Body
	}
	if l.Rate != 0 {
		to.Rate = from.Rate
	}
	if l.Time != 0 {
		to.Time = from.Time
	}
	if l.AtOnce != 0 {
		to.AtOnce = from.AtOnce
	}
	if l.Faults != 0 {
		to.Faults = from.Faults
	}
}

// A Slash says what becomes of a request whose path fits a route but for a slash
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

// Slashes says what a slash at the end of a path means for the routes of a group.
func Slashes(policy Slash) Setting {
	return setting{
		at:   here.Here(0),
		name: "Slashes",
		slot: slotSlashes,
		mode: replaces | ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			if t.slashes = policy; policy > SlashSame {
				b.mistake(at, "Slashes: %d is not a policy: write SlashRedirect, SlashStrict or SlashSame", uint8(policy))
				t.slashes = SlashRedirect
			}
		},
		undone: func(t *terms) { t.slashes = SlashRedirect },
	}
}

// Uniform turns the plain error answers (400 to 599) of the handlers in a group
// into problems. Their header fields are kept; what is JSON already is left
// alone. What the handler wrote goes to the log.
func Uniform() Setting {
	return flag(here.Here(0), "Uniform", slotUniform, func(t *terms, on bool) { t.uniform = on }).
		where(isHandler,
			"this list has no plain or mounted handler; answers of functions and Files are uniform anyway")
}

// Listing lets [Files] list the folders that have no index.html, as JSON. Names that
// are no UTF-8 are left out, as no path leads to them (see [io/fs.ValidPath]).
func Listing() Setting {
	return flag(here.Here(0), "Listing", slotListing, func(t *terms, on bool) { t.listing = on }).
		where(isFiles,
			"this list has no Files")
}

// Envelope puts every success of a group under one member of an object. Problems
// stay as they are.
func Envelope(member string) Setting {
	return setting{
		at:   here.Here(0),
		name: "Envelope",
		slot: slotEnvelope,
		mode: replaces | ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			if t.envelope = member; member == "" || !utf8.ValidString(member) {
				b.mistake(at, "Envelope: %q is not a member name; Undo takes one off", member)
			}
		},
		undone: func(t *terms) { t.envelope = "" },
		acts:   sendsText,
		lacks:  "no route here sends a value as JSON",
	}
}

// Conditional answers conditional requests (RFC 9110, 13) for the routes of a group. A GET gets
// an ETag, made of what the output's method ETag() string returns or else of its bytes, and a
// Last-Modified where the output has a method LastModified() time.Time. The tag covers the
// format and the envelope too. The conditions of a GET are answered with 304 and 412.
//
// A route that changes something takes them as a field of its input of type [Conditions], and
// holds them against what is there; without such a field Conditional on it is a mistake.
func Conditional() Setting {
	return flag(here.Here(0), "Conditional", slotConditional, func(t *terms, on bool) { t.conditional = on }).
		where(func(r *resolved) bool {
			kind := r.part.out.kind
			return isTyped(r) && (kind == valueOutput || kind == ownOutput || !r.isReading())
		}, "no route here answers with a value, or takes conditions")
}

// OmitNull leaves out of the JSON of a group what is null in its objects. Items of lists stay.
func OmitNull() Setting {
	return flag(here.Here(0), "OmitNull", slotOmitNull, func(t *terms, on bool) { t.omitNull = on }).
		where(sendsText, "no route here sends a value as JSON")
}

// ProblemsInJSON sends the problems of a group as JSON, whatever callers accept or choose.
func ProblemsInJSON() Setting {
	return flag(here.Here(0), "ProblemsInJSON", slotPlainProblems, func(t *terms, on bool) { t.jsonOnly = on })
}

// Media is the media type that the JSON of a group is sent as, such as
// application/vnd.canal.lock+json; of a [Content] it is the type for listings.
func Media(mediaType string) Setting {
	return setting{
		at:   here.Here(0),
		name: "Media",
		slot: slotMedia,
		mode: replaces | ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			t.media = mediaType
			if media, _, err := mime.ParseMediaType(mediaType); err != nil || !strings.Contains(media, "/") {
				b.mistake(at, "Media: %q is not a media type, such as application/vnd.canal.lock+json", mediaType)
			}
		},
		undone: func(t *terms) { t.media = "" },
		acts: func(r *resolved) bool {
			return r.output != nil && (r.part.out.kind == valueOutput || r.part.out.info != nil)
		},
		lacks: "no route here sends a value as JSON, or content",
	}
}

// LocatedBy names the route, by its function, whose path the answers of this one lead to: the
// output is a [Created] or a [RedirectBy] with the input of that function. Of several versions
// the route in the same one is meant.
func LocatedBy[In, Out any](function func(context.Context, In) (Out, error)) Setting {
	in := reflect.TypeFor[In]()
	return setting{
		at:   here.Here(0),
		name: "LocatedBy",
		slot: slotLocated,
		mode: replaces | onlyRoute,
		apply: func(b reporter, at here.Place, t *terms) {
			if t.located = functionOf(function); t.located == nil {
				b.mistake(at, "LocatedBy: the function is nil")
			}
		},
		acts:  func(r *resolved) bool { return r.part.out.at == in },
		lacks: "the output is not a Created or RedirectBy with the input " + in.String(),
	}
}

// Describes says what a plain handler reads and answers, by types as [Route] takes them, for listings and
// contracts: the handler reads, checks and answers by itself, and nothing is held against the types.
//
//	wicketway.Handle("PUT /plans/{plan}", plans, wicketway.Describes[storePlan, wicketway.None]())
func Describes[In, Out any]() Setting {
	of := &described{in: reflect.TypeFor[In](), out: outputOf(reflect.TypeFor[Out]())}
	return setting{
		at:    here.Here(0),
		name:  "Describes",
		slot:  slotDescribes,
		mode:  replaces | onlyRoute,
		apply: func(_ reporter, _ here.Place, t *terms) { t.describes = of },
		acts:  isHandler,
		lacks: "no plain or mounted handler is here; the types of a function say what it reads and answers",
	}
}

// described are the types that Describes names.
type described struct {
	in  reflect.Type
	out outputType
}

// Development is for the programmer's machine. What is answered stays the same; more is shown: JSON is
// indented, a problem has a member debug with its causes, or with the routes that are near where nothing was
// found, and the log says once what would be right in a route: which kind of problem it raises without
// declaring it, what in an output breaks the rules of its type, which conditions were not held, and which
// middleware neither answers nor goes on. Production is the default. WICKETWAY_DEVELOPMENT=1 in the
// environment does the same for a whole API.
func Development() Setting {
	return flag(here.Here(0), "Development", slotDevelopment, func(t *terms, on bool) { t.development = on })
}

// Log is where the API writes what is its own: that it listens, and failures that
// nobody else logs (see [MarkLogged]). Without it that is where a middleware logs requests (see
// [Middleware.Log]), or else slog's default.
func Log(logger *slog.Logger) Setting {
	return setting{
		at:   here.Here(0),
		name: "Log",
		slot: slotLog,
		mode: replaces | ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			if t.log = logger; logger == nil {
				b.mistake(at, "Log: the logger is nil: leave it out for slog's default")
			}
		},
		undone: func(t *terms) { t.log = nil },
	}
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

// ownBase is where an API serves the descriptions of its problems itself.
const ownBase = failure.OwnBase

// ProblemBase says what stands before a kind's code in the type of its problems
// (RFC 9457, 3.1.1): the URI of a page about them, with its last slash. Without
// it that is /problems/, which the API serves itself; an API that another handler
// puts under a prefix needs to say so.
func ProblemBase(uri string) Setting {
	return setting{
		at:   here.Here(0),
		name: "ProblemBase",
		slot: slotProblemBase,
		mode: replaces | ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			if !strings.HasSuffix(uri, "/") && !strings.HasSuffix(uri, "#") {
				b.mistake(at, "ProblemBase: %q ends neither in a slash nor in #, so no code can follow", uri)
			}
			t.base = uri
		},
		undone: func(t *terms) { t.base = ownBase },
	}
}

// Translate turns foreign errors into problems: a missing row into a 404, a
// conflict of the storage into a 409. Each function is asked about an error that
// is no problem yet, those of the nearest group first and within one list in the
// order written; nil means that it does not know the error. What it returns keeps
// the foreign error as its cause, unless it has one.
func Translate(known ...func(error) error) Setting {
	return setting{
		at:   here.Here(0),
		name: "Translate",
		slot: slotTranslate,
		mode: ofGroups,
		apply: func(b reporter, at here.Place, t *terms) {
			if len(known) == 0 {
				b.mistake(at, "Translate: none is given: leave it out, or name some")
			}
			for i, f := range known {
				if f == nil {
					b.mistake(at, "Translate: function %d is nil", i+1)
				}
			}
			t.translate = append(append(t.translate[:t.nearest:t.nearest], known...), t.translate[t.nearest:]...)
			t.nearest += len(known)
		},
	}
}
