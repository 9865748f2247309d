package wicketway

import (
	"log/slog"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
)

// terms are what holds at one point of the description: what all settings
// around it add up to. A copy goes down into each group and route.
type terms struct {
	links      []*link // the chain, outermost first
	guard      Authenticator
	guardPlace place
	guardAt    int32 // how many links come before the guard
	guarded    bool
	public     bool
	scopes     []string
	fails      []*problem.Kind
	answers    int // the status of a success; 0: 200, or 204 for None
	summary    string
	name       string
	*manner
}

// A manner is what mostly holds for whole groups. The routes of a list share one,
// until a setting changes it: an API has many routes, and few manners.
type manner struct {
	limits      Limits
	seats       []chan struct{} // one for each limit; each holds as many as may be served at a time
	version     string
	slashes     Slash
	uniform     bool
	lenient     schema.Leniency
	listing     bool
	envelope    string
	conditional bool
	development bool
	log         *slog.Logger
	base        string
	conditions  *declared           // the Conditional setting that holds
	translate   []func(error) error // nearest first
	nearest     int                 // how many of them the list that is being read has added
}

// below is a copy to which inner settings can add without touching t. The manner
// is a copy only if one of them can change it.
func (t terms) below(settings []setting) terms {
	t.links = slices.Clip(t.links)
	t.scopes = slices.Clip(t.scopes)
	t.fails = slices.Clip(t.fails)
	if slices.ContainsFunc(settings, func(s setting) bool { return !slices.Contains(leavesManner, s.name) }) {
		t.ownManner()
	}
	return t
}

// leavesManner are the settings that speak of no manner.
var leavesManner = []string{"Chain", "Guard", "Public", "Scopes", "Fails", "Answers", "Summary", "Name"}

func (t *terms) ownManner() {
	own := *t.manner
	own.nearest = 0
	t.manner = &own
}

// Chain adds middleware, outermost first. Outer groups' chains come before inner
// ones. Each middleware is applied once where the setting stands, not once a
// route, so that its state is shared by all below.
func Chain(middleware ...Middleware) Setting {
	at := here(0)
	return setting{at, "Chain", false, func(b *builder, t *terms) {
		for i, m := range middleware {
			if m.Wrap == nil {
				b.mistake(at, "Chain: middleware %d has no function: use Wrap, or a package's own", i+1)
				continue
			}
			l := newLink(m, at, len(t.links))
			if isNil(l.handler) {
				b.mistake(at, "Chain: the middleware %s gave no handler: return one that calls next", m.Name)
				continue
			}
			t.links = append(t.links, l)
		}
	}}
}

// Guard says who decides about the caller. It is asked after the chain of the
// list in which it stands, so that refused requests are logged too. Under it
// every route needs a caller, but for what is [Public].
func Guard(by Authenticator) Setting {
	at := here(0)
	return setting{at, "Guard", true, func(b *builder, t *terms) {
		if isNil(by) {
			b.mistake(at, "Guard: the guard is nil; Public() opens a route")
			by = nil
		} else if c, ok := by.(interface{ Check() error }); ok {
			for _, err := range unjoin(c.Check()) {
				if err != nil {
					b.mistake(at, "Guard: %v", err)
				}
			}
		}
		if g, ok := by.(interface{ Kinds() []*problem.Kind }); ok {
			for _, k := range g.Kinds() {
				b.kind(at, "Guard", k)
			}
		}
		t.guard, t.guardPlace, t.guarded, t.public, t.guardAt = by, at, true, false, -1
	}}
}

// Public opens what a guard around it closes.
func Public() Setting {
	return replacing("Public", func(t *terms) { t.guard, t.guarded, t.public, t.scopes = nil, false, true, nil })
}

// Scopes are what the caller must have been granted: all of them, with those of
// outer groups.
func Scopes(needed ...string) Setting {
	at := here(0)
	return setting{at, "Scopes", false, func(b *builder, t *terms) {
		if len(needed) == 0 {
			b.mistake(at, "Scopes: none is given: leave it out, or name some")
		}
		for _, scope := range needed {
			if scope == "" || strings.ContainsFunc(scope, func(c rune) bool { return c <= ' ' || c > '~' || c == '"' || c == '\\' }) {
				b.mistake(at, "Scopes: %q is no scope: one is a word without spaces, quotes and backslashes (RFC 6749, 3.3); write Scopes(\"a\", \"b\") for two", scope)
			}
		}
		t.scopes = append(t.scopes, needed...)
	}}
}

// Fails names the kinds of problem that a route can raise itself.
func Fails(kinds ...*problem.Kind) Setting {
	at := here(0)
	return adding("Fails", func(b *builder, t *terms) {
		for _, k := range kinds {
			b.kind(at, "Fails", k)
		}
		t.fails = append(t.fails, kinds...)
	})
}

// Answers is the status of a success, 200 to 299.
func Answers(status int) Setting {
	return replacing("Answers", func(t *terms) { t.answers = status })
}

// Summary says in a line what a route is for.
func Summary(text string) Setting {
	return replacing("Summary", func(t *terms) { t.summary = text })
}

// IgnoreReadOnly passes over the members of a JSON body that only the server sets
// (rule:"readOnly"), so that callers can send back what they got; they are refused
// otherwise.
func IgnoreReadOnly() Setting {
	return replacing("IgnoreReadOnly", func(t *terms) { t.lenient |= schema.ReadOnlyMembers })
}

// AllowUnknown ignores members of a JSON body that the input does not have; they
// are refused otherwise.
func AllowUnknown() Setting {
	return replacing("AllowUnknown", func(t *terms) { t.lenient |= schema.UnknownMembers })
}

// Name names a route, for links to it. Without it the name is that of the route's
// function with its package's: passages.find.
func Name(name string) Setting {
	return replacing("Name", func(t *terms) { t.name = name })
}

// Limits are the bounds of what a request may ask for. A zero field leaves what
// an outer group says, in the end the default.
type Limits struct {
	// Body is the size in bytes of a body that a route's input reads, as it comes in
	// and as it is unpacked; 1 MiB by default. Plain and mounted handlers see to
	// theirs themselves.
	Body int64
	// Rate is how many bytes a second of a body must arrive at least, on average, after
	// the first ten seconds; 1 KiB by default, and it holds for handlers too. A body
	// that is slower gets 408.
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

func (l Limits) part() place { return place{} }

func (l Limits) setting() setting {
	return setting{name: "Limits", replaces: true, apply: func(b *builder, t *terms) {
		if l.Body < 0 || l.Rate < 0 || l.Time < 0 || l.AtOnce < 0 || l.Faults < 0 {
			b.mistake(b.at, "Limits: %+v: a limit must be positive", l)
			return
		}
		if l.Time > 0 {
			t.limits.Time = l.Time
		}
		if l.AtOnce > 0 {
			t.limits.AtOnce, t.seats = l.AtOnce, append(slices.Clip(t.seats), make(chan struct{}, l.AtOnce))
		}
		if l.Rate > 0 {
			t.limits.Rate = l.Rate
		}
		if l.Faults > 0 {
			t.limits.Faults = l.Faults
		}
		if l.Body > 0 {
			t.limits.Body = l.Body
		}
	}}
}

// Envelope puts every success of a group under one member of an object. Problems
// stay as they are.
func Envelope(member string) Setting {
	at := here(0)
	return setting{at, "Envelope", true, func(b *builder, t *terms) {
		quoted, err := jsontext.AppendQuote(nil, member)
		if err != nil || member == "" {
			b.mistake(at, "Envelope: %q is no name for a member", member)
		}
		t.envelope = "{" + string(quoted) + ":"
	}}
}

// Development is for the programmer's machine: answers are indented, and an
// output that breaks the rules of its own type is a 500 whose log names the field.
// Production is the default. WICKETWAY_MODE=development in the environment does
// the same for a whole API.
func Development() Setting {
	return replacing("Development", func(t *terms) { t.development = true })
}

// Log is where the API tells what is its own: that it listens, and failures that
// nobody else logs (see [Failure]). Without it that is slog's default.
func Log(logger *slog.Logger) Setting {
	return replacing("Log", func(t *terms) { t.log = logger })
}

func (t *terms) logger() *slog.Logger {
	if t.log == nil {
		return slog.Default()
	}
	return t.log
}

// modeVariable is the environment variable that chooses between production and
// development.
const modeVariable = "WICKETWAY_MODE"

// initialTerms are what holds before any setting.
func (b *builder) initialTerms() terms {
	t := terms{manner: &manner{limits: Limits{Body: 1 << 20}}}
	switch mode := os.Getenv(modeVariable); mode {
	case "", "production":
	case "development":
		t.development = true
	default:
		b.mistake(b.at, "%s is %q: it must be production or development", modeVariable, mode)
	}
	return t
}

// validAnswer says whether a route can answer a success so.
func validAnswer(status int) bool { return status == 0 || status >= http.StatusOK && status < 300 }
