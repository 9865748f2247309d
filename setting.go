package wicketway

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/problem"
)

// A kindOf is the kind of the settings that are given a T: a row of the table of all settings.
type kindOf[T any] struct {
	name string
	mode mode
	// about is the matter that a setting of this kind is about, where another kind has the same one.
	about settingKind
	// wrong reports mistakes in a setting by itself.
	wrong func(in *reading, said T)
	// field is where the terms hold what was said, unless something is wrong with it. Unset is what they hold
	// where nothing was: Undo puts that there.
	field func(*terms) *T
	unset T
	// apply changes what else of the terms depends on it.
	apply    func(in *reading, said T)
	undoable bool // though there is no field
	// where are the routes on which a setting has an effect, and of these picks chooses by what was said; nil: all.
	// None says what is missing where no route is left: %v is what was said.
	where func(*resolved) bool
	picks func(r *resolved, said T) bool
	none  string
	// parts are what a setting names; those of a kind by field are its fields, with what is special about some.
	parts  func(said T) []piece
	fields map[string]fieldKind
	// fits reports mistakes about a route, and check does so with its facts.
	fits  func(r *resolved, said T) error
	check func(said T, of facts.Route) error
	// inherit is what of it inherited routes take along; false: nothing. Nil: they take all.
	inherit func(said T) (T, bool)
}

// A fieldKind is what is special about a field of a setting that holds field by field.
type fieldKind struct {
	where func(*resolved) bool // on which routes it has an effect; nil: on every one
	none  string               // says what is missing where there is none
	adds  bool                 // inner settings do not overrule it
}

// say makes a setting, for the exported function that it is called by.
func (k *kindOf[T]) say(said T) setting { return k.sayAt(here.Here(1), said) }

func (k *kindOf[T]) sayAt(at here.Place, said T) setting {
	s := setting{at: at, name: k.name, kind: k, slot: k, said: said}
	if k.about != nil {
		s.slot = k.about
	}
	return s
}

func (k *kindOf[T]) modes() mode { return k.mode }

func (k *kindOf[T]) canUndo() bool {
	return k.undoable || k.field != nil && k.mode&onlyRoute == 0
}

func (k *kindOf[T]) read(in *reading) {
	said, _ := in.of.said.(T) // a nil interface is none
	value := k.unset
	if !in.of.undo {
		value = said
		if k.mode&byField != 0 && len(fieldsOf(said)) == 0 {
			in.wrong("no field is set: leave it out, or set one")
		}
		if k.wrong != nil {
			k.wrong(in, said)
		}
	}
	if k.field != nil && !in.of.failed {
		k.take(in.terms, said, value)
	}
	if k.apply != nil {
		k.apply(in, said)
	}
}

// take puts a value into the field of the terms; by field only what was said.
func (k *kindOf[T]) take(t *terms, said, value T) {
	if k.mode&byField == 0 {
		*k.field(t) = value
		return
	}
	to, from := reflect.ValueOf(k.field(t)).Elem(), reflect.ValueOf(value)
	for _, i := range fieldsOf(said) {
		to.Field(i).Set(from.Field(i))
	}
}

// fieldsOf are the fields of a struct that are said something in: those that are not zero.
func fieldsOf(said any) (set []int) {
	v := reflect.ValueOf(said)
	for i := range v.NumField() {
		if !v.Field(i).IsZero() {
			set = append(set, i)
		}
	}
	return set
}

func (k *kindOf[T]) acts(s *setting, r *resolved) bool {
	if k.where != nil && !k.where(r) {
		return false
	}
	said, _ := s.said.(T)
	return k.picks == nil || k.picks(r, said)
}

func (k *kindOf[T]) lacks(s *setting) string {
	if strings.Contains(k.none, "%v") {
		return fmt.Sprintf(k.none, s.said)
	}
	return k.none
}

func (k *kindOf[T]) pieces(s *setting) (all []piece) {
	said, _ := s.said.(T)
	switch {
	case s.undo:
		return nil
	case k.parts != nil:
		return k.parts(said)
	case k.mode&byField == 0:
		return nil
	}
	for _, i := range fieldsOf(said) {
		name := reflect.TypeFor[T]().Field(i).Name
		of, special := k.fields[name]
		if !special || of.none == "" {
			of.none = "inner settings overrule it for every route"
		}
		all = append(all, piece{name, func(at *list, r *resolved) bool {
			for nearer := r.list; nearer != at && !of.adds; nearer = nearer.outer {
				if slices.ContainsFunc(nearer.settings, func(o setting) bool {
					return o.slot == s.slot && slices.Contains(fieldsOf(o.said), i)
				}) {
					return false
				}
			}
			return of.where == nil || of.where(r)
		}, of.none})
	}
	return all
}

func (k *kindOf[T]) suits(s *setting, r *resolved) error {
	if k.fits == nil || s.undo {
		return nil
	}
	said, _ := s.said.(T)
	return k.fits(r, said)
}

func (k *kindOf[T]) asks(s *setting) func(facts.Route) error {
	if k.check == nil || s.undo {
		return nil
	}
	said, _ := s.said.(T)
	return func(of facts.Route) error { return k.check(said, of) }
}

func (k *kindOf[T]) travels(s setting) (setting, bool) {
	if k.inherit == nil {
		return s, true
	}
	said, any := k.inherit(s.said.(T))
	s.said = said
	return s, any
}

func (k *kindOf[T]) besides(s setting, others []setting) (setting, bool) {
	left := reflect.New(reflect.TypeFor[T]()).Elem()
	left.Set(reflect.ValueOf(s.said))
	for _, o := range others {
		if o.slot == s.slot {
			for _, i := range fieldsOf(o.said) {
				left.Field(i).SetZero()
			}
		}
	}
	s.said = left.Interface()
	return s, !left.IsZero()
}

// ownCopy is a copy of a setting's value for one Build, which completes it: another one may have the same parts.
func ownCopy[T any](said *T) *T {
	if said == nil {
		return nil
	}
	own := *said
	return &own
}

// wrong reports mistakes in a setting.
func (in *reading) wrong(format string, args ...any) {
	in.of.failed = true
	in.to.mistake(in.of.at, literal(in.of.name)+": "+format, args...)
}

// literal is a text as it is written in a format.
func literal(text string) string { return strings.ReplaceAll(text, "%", "%%") }

// kindOfProblem takes a kind of problem in that a setting names.
func (in *reading) kindOfProblem(k *problem.Kind) {
	if !in.to.kind(in.of.at, in.of.name, k) {
		in.of.failed = true
	}
}

// askWrong reports what a value that was given says is wrong with it by itself.
func (in *reading) askWrong(value any) {
	for _, err := range wrongWith(value) {
		in.wrong("%v", err)
	}
}

// some reports a list that is empty, or has something twice.
func some[T comparable](in *reading, list []T) {
	if len(list) == 0 {
		in.wrong("none is given: leave it out, or name some")
	}
	twice(in, list)
}

func twice[T comparable](in *reading, list []T) {
	for i, one := range list {
		if slices.Contains(list[:i], one) {
			in.wrong("%v is named twice: once is enough", one)
		}
	}
}

// Undo takes a setting back that a group further out has: the effect is
// as without any of its kind, so of Envelope("data") only that it is an Envelope counts. Of
// [Limits] and [Retirement] each field that is not zero is lifted to its default. A [Guard] is undone by
// [Public], and settings that add up (Chain, Scopes, Fails, Translate) cannot be undone.
func Undo(s Setting) Setting {
	if isNil(s) {
		return undoKind.say("the setting is nil")
	}
	of := s.setting()
	if of.undo || !of.kind.canUndo() {
		return undoKind.say(of.name + " cannot be undone: use Public for a Guard; what adds up stays")
	}
	of.at, of.name, of.undo = here.Here(0), "Undo of "+of.name, true
	return of
}

// undoKind is of those that undo nothing: each says why.
var undoKind = &kindOf[string]{name: "Undo", wrong: func(in *reading, why string) { in.wrong("%s", why) }}

// hasMeaning reports whether a field says something else than a version: what the connection, the
// content, the caller or intermediaries are about. Some of it is secret, and a problem would repeat it.
func hasMeaning(field string) bool {
	for _, start := range []string{"Accept", "Access-Control-", "Content-", "If-", "Proxy-", "Sec-", "X-Forwarded-"} {
		if strings.HasPrefix(field, start) {
			return true
		}
	}
	return slices.Contains(fieldsWithMeaning, field)
}

var fieldsWithMeaning = []string{"Authorization", "Cookie", "Set-Cookie", "Range", "Origin", "Referer", "User-Agent",
	"Host", "Expect", "Date", "Forwarded", "From", "Via", "Cache-Control", "Pragma", "Connection", "Keep-Alive", "Te",
	"Trailer", "Transfer-Encoding", "Upgrade", "Prefer", "Priority", "Link", "Traceparent", "Tracestate", "Baggage",
	"Last-Event-Id", "X-Request-Id", "X-Api-Key", "Idempotency-Key"}
