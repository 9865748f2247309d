package wicketway

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/advice"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/internal/lost"
	"github.com/wicketway/wicketway/problem"
)

// first reports whether a text is new.
func (a *advised) first(text string) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.said[text] || len(a.said) >= mostAdvised {
		return false
	}
	if a.said == nil {
		a.said = map[string]bool{}
	}
	a.said[text] = true
	return true
}

// mostAdvised bounds what is remembered of it: texts can have what a handler made up in them.
const mostAdvised = 1000

// advise tells the programmer, in development, what would be right in a route. It changes nothing about the
// answer. Each text is logged once.
func (s *state) advise(format string, args ...any) {
	t := s.target.terms()
	if !t.development {
		return
	}
	text := fmt.Sprintf(format, args...)
	if f := advice.Of(s); f != nil {
		f(text)
	}
	if s.api.advised.first(text) {
		t.logger().WarnContext(s, text, "advice", true)
	}
}

// who is the target of a request, with its place.
func (s *state) who() string {
	t := s.target
	if t.isFallback() {
		return fmt.Sprintf("the group at %q (%s)", t.path, t.at)
	}
	return fmt.Sprintf("%s (%s)", t.line(), t.at)
}

// adviseUngiven says which answer a route gives that neither its output type nor Gives shows.
func (s *state) adviseUngiven(to reply) {
	t := s.target
	if !t.part.out.open && to.status == 0 {
		return
	}
	of := noneType
	if to.value != nil {
		v := reflect.ValueOf(to.value).Elem()
		if v.Kind() == reflect.Interface && !v.IsNil() {
			v = v.Elem()
		} else if v.Kind() == reflect.Interface {
			return // null
		}
		of = v.Type()
	}
	status := to.status
	if t.output != nil && !t.part.out.open {
		if status == t.output.Status || of == t.part.out.own && status == 0 {
			return
		}
	}
	if answer.HasNoContent(status) {
		of = noneType
	}
	if status == 0 {
		status = http.StatusOK
		if of == noneType {
			status = http.StatusNoContent
		}
	}
	base := of
	if base.Kind() == reflect.Pointer {
		base = base.Elem()
	}
	for _, g := range t.terms().gives {
		if g.status == status && (g.of == of || g.of == base || g.of == reflect.PointerTo(of)) {
			return
		}
	}
	s.advise("%s answered %d with a %s, which it does not declare: add Gives[%s](%d) at %s", s.who(), status, of, of, status,
		t.at)
}

// adviseUndeclared says which kind a route has raised without a word about it in the description.
func (s *state) adviseUndeclared(p *problem.Problem) {
	k := p.Kind()
	if !s.target.declares(k) {
		s.advise(
			"%s raised the kind %q (%d), which it does not declare: add Fails(%s) at %s, or Raises to the middleware that raised it",
			s.who(),
			k.Code(),
			k.Status(),
			s.api.advised.nameOf(k, s.target.at),
			s.target.at,
		)
	}
	if wrong := p.CheckMembers(); wrong != nil {
		s.advise("%s: %v", s.who(), wrong)
	}
}

// adviseBroken says what in an output breaks the rules of its type.
func (s *state) adviseBroken(faults string) {
	s.advise("%s: the output breaks the rules of its type: %s", s.who(), faults)
}

// adviseForgotten names the middleware at which a request ended though it neither answered nor went on.
func (s *state) adviseForgotten() {
	if s.out.HeaderSent() || s.out.Hijacked() || s.Failure() != nil {
		return
	}
	for _, step := range s.target.steps.list[s.target.steps.from[s.reached.Load()]:] {
		if step.Kind == exchange.StepMiddleware {
			s.advise(
				"%s: the middleware %s neither answered nor called the next handler, so the caller got an empty 200: call next.ServeHTTP(w, r), or answer",
				s.who(),
				step.Name,
			)
			return
		}
	}
}

// nameOf is the variable that a kind was declared as, where the sources of the program are at hand: the module
// of the route that raised it is searched for the code, once for each kind. Else it says the code.
func (a *advised) nameOf(k *problem.Kind, at here.Place) string {
	a.mu.Lock()
	defer a.mu.Unlock()
	if name, known := a.names[k]; known {
		return name
	}
	file, _ := at.Frame()
	name := cmp.Or(variableIn(filepath.Dir(file), k.Code()), fmt.Sprintf("the kind %q", k.Code()))
	if a.names == nil {
		a.names = map[*problem.Kind]string{}
	}
	if len(a.names) < mostAdvised {
		a.names[k] = name
	}
	return name
}

// mostSearched bounds how many files are searched for a declaration.
const mostSearched = 2000

// variableIn finds the declaration of a kind with a code in the module of a folder: the variable, with its
// package where that is another folder's.
func variableIn(folder, code string) (name string) {
	declaration := regexp.MustCompile(
		`(?m)^\s*(?:var\s+)?(\w+)[^\n=]*=[^\n]*\bDefine\([^\n]*"` + regexp.QuoteMeta(code) + `"`,
	)
	root := folder
	for {
		if _, err := os.Stat(filepath.Join(root, "go.mod")); err == nil {
			break
		}
		above := filepath.Dir(root)
		if above == root {
			return ""
		}
		root = above
	}
	left := mostSearched
	filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Ext(path) != ".go" {
			return nil // what cannot be read is not searched
		}
		if left--; left < 0 {
			return filepath.SkipAll
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return nil
		}
		found := declaration.FindSubmatch(text)
		if found == nil {
			return nil
		}
		name = string(found[1])
		if of := packageClause.FindSubmatch(text); of != nil && filepath.Dir(path) != folder {
			name = string(of[1]) + "." + name
		}
		return filepath.SkipAll
	})
	return name
}

var packageClause = regexp.MustCompile(`(?m)^package (\w+)`)

// adviseNotMissed says that what a request has lost on purpose was asked by nobody.
func (s *state) adviseNotMissed() {
	if t, is := exchange.Kept[*lost.Thing](s); is && !t.Asked() {
		s.advise("%s: it asked no database that is opened with observe/statements, so losing it had no effect", s.who())
	}
}

// raiseField is the header field by which a request has something raised on purpose, in development alone.
const raiseField = "Wicketway-Raise"

// longestSlow bounds how long an answer waits on purpose.
const longestSlow = time.Minute

// raiseOnPurpose gives the problem that a request asks for, panics, waits or loses something, in the place of the function or
// before it: the code of a kind that the route raises, panic, slow=DURATION, or lost=database.
func (s *state) raiseOnPurpose(r *http.Request) error {
	what := r.Header.Get(raiseField)
	if what == "" || s.target.isFallback() {
		return nil
	}
	if what == "panic" {
		panic("raised on purpose by the field " + raiseField)
	}
	if text, is := strings.CutPrefix(what, "slow="); is {
		if wait, err := time.ParseDuration(text); err == nil && wait >= 0 && wait <= longestSlow {
			select {
			case <-time.After(wait):
				return nil
			case <-r.Context().Done():
				return context.Cause(r.Context())
			}
		}
	}
	known := []string{"panic", "slow=3s"}
	for _, name := range lost.Names {
		if what == "lost="+name {
			lost.Lose(s, name)
			return nil
		}
		known = append(known, "lost="+name)
	}
	for _, raised := range s.target.raises() {
		if raised.kind.Code() == what {
			return raised.kind.Example().Because(errors.New("raised on purpose by the field " + raiseField))
		}
		known = append(known, raised.kind.Code())
	}
	slices.Sort(known)
	return problem.BadRequest.Newf("The field %s is %q; in development this route takes %s, and up to %v for slow.", raiseField, clip.Text(what, 100),
		strings.Join(slices.Compact(known), ", "), longestSlow)
}
