package wicketway

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/internal/segment"
	"github.com/wicketway/wicketway/internal/sent"
	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// A next is the handler behind a middleware: it goes on with the steps of whichever route the
// request is for. One middleware serves many routes, so only the request knows what
// comes next. Its value is the number of the middleware that does.
type next int

func (k next) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s := stateOf(r.Context())
	if s == nil {
		Fail(w, r, errLostContext)
		return
	}
	s.goOn(int(k), w, r)
}

// goOn goes through the steps of a request, beginning at the k-th middleware. It returns
// when the request has been answered, whatever happens on the way.
func (s *state) goOn(k int, w http.ResponseWriter, r *http.Request) {
	defer s.catch(w, r)
	if s.developing {
		s.reached.Store(int32(k))
	}
	s.run(s.target.steps.from[k], w, r)
}

// run goes through the steps from the i-th on.
func (s *state) run(i int, w http.ResponseWriter, r *http.Request) {
	t := s.target
	for ; i < len(t.steps.list); i++ {
		switch step := &t.steps.list[i]; step.Kind {
		case exchange.StepMiddleware:
			s.take(step.Step, func() error { step.middleware.ServeHTTP(w, r); return nil })
			return
		case exchange.StepGuard:
			if t.method == anyMethod && !t.terms().guards(s.request.Method) {
				continue // what Public opens of a handler for all methods
			}
			if err := s.take(step.Step, func() error { return t.terms().admit(w, r, s, step.Name) }); err != nil {
				if !s.leadsToSignIn(w, r, err) {
					Fail(w, r, err)
				}
				return
			}
		case exchange.StepSeats:
			s.runSeated(i, w, r)
			return
		}
	}
	if ends := t.terms().retirement; ends != noRetirement && !t.isFallback() && !t.part.own {
		if err := ends.over(); err != nil {
			Fail(w, r, err)
			return
		}
	}
	var err error
	if s.developing {
		err = s.serveInDevelopment(w, r)
	} else {
		err = t.end.serve(w, r, s)
	}
	if err != nil {
		if t.isFallback() {
			s.bare.Store(true)
		}
		Fail(w, r, err)
	}
}

// serveInDevelopment is the endpoint of a request, with what development adds.
func (s *state) serveInDevelopment(w http.ResponseWriter, r *http.Request) error {
	r = s.watched(r)
	if err := s.raiseOnPurpose(r); err != nil {
		return err
	}
	defer s.adviseNotMissed()
	return s.target.end.serve(w, r, s)
}

// watch keeps what arrives as it does, for the log in development.
func (s *state) watch() {
	q := &sent.Request{Of: &s.request, Secret: secret.CredentialsIn(nil)}
	if !s.target.isFallback() {
		q.Secret = secret.CredentialsIn(s.target.part.in)
	}
	if in := s.target.input; in != nil {
		q.Reads = func(field string) bool { return in.Takes("header", field) }
	}
	if s.body != nil && s.request.Header.Get("Expect") == "" {
		q.Rest = s.body.Peek
	}
	exchange.Keep(s, q)
}

// watched is a request whose body is watched.
func (s *state) watched(r *http.Request) *http.Request {
	q, ok := exchange.Kept[*sent.Request](s)
	if !ok || r.Body == nil || r.Body == http.NoBody {
		return r
	}
	watched := *r
	watched.Body = q.Watch(r.Body)
	return &watched
}

// runSeated goes on as long as there is a seat.
func (s *state) runSeated(i int, w http.ResponseWriter, r *http.Request) {
	step := &s.target.steps.list[i]
	if err := s.take(step.Step, func() error { return step.seats.take(r.Context()) }); err != nil {
		Fail(w, r, err)
		return
	}
	defer step.seats.free()
	s.run(i+1, w, r)
}

// leadsToSignIn sends a person without credentials to the page where they sign in, if the guard has one and the request
// could be repeated from there.
func (s *state) leadsToSignIn(w http.ResponseWriter, r *http.Request, err error) bool {
	asked := redirectTo(r, route.Escaped(r.URL))
	if p := problem.In(err); p == nil || p.Kind().Status() != http.StatusUnauthorized || r.Method != http.MethodGet ||
		!segment.IsOwnPath(asked) || !answer.PrefersPage(r) {
		return false
	}
	page := signInOf(s.target.terms().guard.Scheme())
	if page == "" || page == r.URL.Path {
		return false
	}
	h := w.Header()
	writer.AddVary(h, "Accept")
	h.Set("Cache-Control", "no-store")
	h.Set("Location", page+"?"+url.Values{"back": {asked}}.Encode())
	w.WriteHeader(http.StatusSeeOther)
	return true
}

// signInOf is the page of a guard, or of the first of several that has one.
func signInOf(s exchange.Scheme) string {
	for _, one := range append([]exchange.Scheme{s}, s.Any...) {
		if one.SignIn != "" {
			return one.SignIn
		}
	}
	return ""
}

// admit asks the guard about a request.
func (t *terms) admit(w http.ResponseWriter, r *http.Request, s *state, guard string) error {
	var caller *Identity
	var err error
	if g, ok := t.guard.(exchange.HeaderAuthenticator); ok {
		caller, err = g.AuthenticateTo(w.Header(), r)
	} else {
		caller, err = t.guard.Authenticate(r)
	}
	if err != nil {
		return err
	}
	if caller == nil {
		return fmt.Errorf("the guard %s gave neither a caller nor an error", guard)
	}
	own := *caller // what handlers do with it stays with the request
	own.Scopes = slices.Clone(caller.Scopes)
	if own.Issuer == "" {
		own.Issuer = guard
	}
	s.Known(&own)
	for _, scope := range t.scopes {
		if !slices.Contains(caller.Scopes, scope) {
			return t.lacks(caller, t.scopes, "the scope ", "the scopes ")
		}
	}
	for _, oneOf := range t.anyScope {
		if !slices.ContainsFunc(oneOf, func(scope string) bool { return slices.Contains(caller.Scopes, scope) }) {
			return t.lacks(caller, oneOf, "the scope ", "one of the scopes ")
		}
	}
	return nil
}

// lacks is the refusal of a known caller (RFC 6750, 3.1).
func (t *terms) lacks(caller *Identity, needed []string, one, several string) error {
	return problem.ScopeMissing.Newf("This needs %s; the caller has %s.", scopeList(needed, one, several),
		scopeList(caller.Scopes, "the scope ", "the scopes ")).
		With("scopes", needed).
		WithHeader("WWW-Authenticate", t.guard.Challenge(needed))
}

func scopeList(scopes []string, one, several string) string {
	switch len(scopes) {
	case 0:
		return "no scope"
	case 1:
		return one + scopes[0]
	}
	return several + strings.Join(scopes, ", ")
}

// allow asks the rules about what a caller wants to do; in is a pointer to the input.
func (t *terms) allow(r *http.Request, in any, s *state) error {
	for _, rule := range t.rules {
		ok, err := rule.ask(r.Context(), *s.State.Caller(), in)
		if err != nil {
			return err
		}
		if !ok {
			return rule.kind.New("")
		}
	}
	return nil
}

// makeSteps orders what a request passes before its route. Where the guard is not asked the
// same terms have other steps.
func (t *terms) makeSteps(guarded bool) *steps {
	s := new(steps)
	for _, l := range t.active() {
		s.sets = append(s.sets, facts.FieldNames(l.Sets)...)
		if l.Observes != nil {
			s.observers = append(s.observers, l.Observes)
		}
	}
	for k := range len(t.chain) + 1 {
		s.from = append(s.from, len(s.list))
		if guarded && k == t.after {
			s.list = append(s.list, step{Step: exchange.Step{Kind: exchange.StepGuard, Name: t.guardName}})
		}
		if k < len(t.chain) && !slices.Contains(t.left, t.chain[k]) {
			s.list = append(
				s.list,
				step{Step: exchange.Step{Kind: exchange.StepMiddleware, Name: t.chain[k].Name}, middleware: t.chain[k].handler},
			)
		}
	}
	for _, all := range t.seats {
		s.list = append(s.list, step{Step: exchange.Step{Kind: exchange.StepSeats}, seats: all})
	}
	return s
}
