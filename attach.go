package wicketway

import (
	"errors"
	"reflect"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/here"
)

// Attach puts a value at a route or a group, for middleware that reads it with [Attached]:
// that is how a middleware learns about one route. Of several values of a type the
// nearest holds. It is a mistake where no middleware in the chain, and no guard, says that
// it reads the type (see [Middleware.Reads]).
//
// Where the value has a method Check() error, Build asks it what is wrong with it by itself; where it has
// a method CheckRoute(facts.Route) error, Build asks it about each route
// for which it holds, and reports what it says. One with a method Methods() []string is about
// routes with these methods alone, and about what is mounted.
func Attach[T any](value T) Setting {
	t := reflect.TypeFor[T]()
	about, lacks := func(string) bool { return true }, ""
	if m, ok := any(value).(interface{ Methods() []string }); ok {
		methods := m.Methods()
		about = func(method string) bool { return method == anyMethod || slices.Contains(methods, method) }
		lacks = ", or no route here has a method that it is about (" + strings.Join(methods, ", ") + ")"
	}
	var asks func(facts.Route) error
	if c, ok := any(value).(interface{ CheckRoute(facts.Route) error }); ok {
		asks = func(f facts.Route) error {
			if !about(f.Method) {
				return nil
			}
			return c.CheckRoute(f)
		}
	}
	at, name := here.By()
	if name == "" {
		name = "Attach of " + t.String()
	}
	return setting{
		at:    at,
		name:  name,
		slot:  t,
		mode:  replaces,
		value: value,
		apply: func(b reporter, at here.Place, terms *terms) {
			for _, err := range check.Unjoin(wrongAttached(t)) {
				b.mistake(at, "%s: %v", name, err)
			}
			detach[T](terms)
			terms.attached = append(terms.attached, exchange.AsAttached(value))
			askWrong(b, at, name, value)
			if isNil(value) {
				b.mistake(at, "Attach: the %s is nil; Undo(Attach(...)) takes away what an outer group has", t)
			}
		},
		undone: detach[T],
		acts:   func(r *resolved) bool { return r.terms().reads(t) && about(r.method) },
		lacks:  "no middleware in the chain and no guard here reads a " + t.String() + ": add the one that does" + lacks,
		check:  asks,
	}
}

// wrongAttached says which methods of a value are never asked.
func wrongAttached(t reflect.Type) error {
	if t.Kind() == reflect.Interface {
		return nil
	}
	if t.Kind() != reflect.Pointer {
		t = reflect.PointerTo(t)
	}
	asks, has := t.MethodByName("CheckRoute")
	methods, about := t.MethodByName("Methods")
	return errors.Join(check.OtherSignature(asks, has, reflect.TypeFor[func(facts.Route) error]()),
		check.OtherSignature(methods, about, reflect.TypeFor[func() []string]()))
}

func detach[T any](t *terms) {
	t.attached = slices.DeleteFunc(slices.Clone(t.attached), exchange.IsAttached[T])
}

// reads reports whether somebody on the way to the route reads attached values of a type.
func (t *terms) reads(of reflect.Type) bool {
	if t.guard != nil && slices.Contains(t.guard.Scheme().Reads, of) {
		return true
	}
	return slices.ContainsFunc(t.active(), func(l *chained) bool { return slices.Contains(l.Reads, of) })
}
