package exchange

import (
	"context"
	"iter"
	"slices"
)

// Keep keeps a value for a request, by its type: all that have the request's context find it with
// [Kept] from then on, middleware further out and observers too. In an API the context that comes
// back is the one that was given; outside of one it is another, which has the value.
func Keep[T any](ctx context.Context, value T) context.Context {
	s := StateOf(ctx)
	if s == nil {
		return context.WithValue(ctx, keptKey[T]{}, value)
	}
	KeepIn(s, value)
	return ctx
}

// KeepIn is [Keep] for a request whose state is known.
func KeepIn[T any](s *State, value T) {
	own := &struct {
		keptNode
		held kept[T]
	}{held: kept[T]{value}}
	own.value = &own.held
	n := &own.keptNode
	for {
		n.next = s.kept.Load()
		if s.kept.CompareAndSwap(n.next, n) {
			return
		}
	}
}

// Kept gives the value of a type that was kept last; false where none was.
func Kept[T any](ctx context.Context) (value T, ok bool) {
	for s := StateOf(ctx); s != nil; s = s.outer() {
		if value, ok = KeptIn[T](s); ok {
			return value, true
		}
	}
	value, ok = ctx.Value(keptKey[T]{}).(T)
	return value, ok
}

// KeptIn is [Kept] for the request of one API, without those around it.
func KeptIn[T any](s *State) (value T, ok bool) {
	for n := s.kept.Load(); n != nil; n = n.next {
		if found, same := n.value.(*kept[T]); same {
			return found.value, true
		}
	}
	return value, false
}

// AllKept gives every value of a type that was kept in an API, the first first.
func AllKept[T any](ctx context.Context) iter.Seq[T] {
	return func(yield func(T) bool) {
		var all []T
		for s := StateOf(ctx); s != nil; s = s.outer() {
			for n := s.kept.Load(); n != nil; n = n.next {
				if found, same := n.value.(*kept[T]); same {
					all = append(all, found.value)
				}
			}
		}
		for _, v := range slices.Backward(all) {
			if !yield(v) {
				return
			}
		}
	}
}

type keptKey[T any] struct{}

// A kept value has the type that it was kept as, which may be an interface.
type kept[T any] struct{ value T }

// Attached gives the value of a type that wicketway.Attach has put at the route of a request, or at a
// group around it; false where none is attached, and outside of an API. In an API that is mounted in
// another one its own values come first.
func Attached[T any](ctx context.Context) (value T, ok bool) {
	for s := StateOf(ctx); s != nil; s = s.outer() {
		if value, ok = AttachedIn[T](s.server.Attached()); ok {
			return value, true
		}
	}
	return value, false
}

// AttachedIn finds the first value that is attached as a type in a list such as [Server.Attached].
func AttachedIn[T any](all []any) (value T, ok bool) {
	for _, a := range all {
		if found, same := a.(attachment[T]); same {
			return found.value, true
		}
	}
	return value, false
}

// AsAttached gives a value the form in which [Server.Attached] lists it, with the type that it is attached
// as, which may be an interface.
func AsAttached[T any](value T) any { return attachment[T]{value} }

// IsAttached reports whether AsAttached made a value of type T.
func IsAttached[T any](a any) bool {
	_, is := a.(attachment[T])
	return is
}

type attachment[T any] struct{ value T }
