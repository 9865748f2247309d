package adapt

import (
	"fmt"
	"reflect"

	"github.com/wicketway/wicketway/internal/shape"
)

// A Member describes one member of a struct in an older version; see [Struct].
type Member struct{ of shape.Member }

// WithTag adds to the struct tag of a member that was different: rule:"minimum=1" note:"In feet".
func (m Member) WithTag(tag string) Member {
	m.of.Tag = tag
	return m
}

// Rename says that a member had another name.
func Rename(now, old string) Member {
	return Member{shape.Member{Call: fmt.Sprintf("Rename(%q, %q)", now, old), New: now, Old: old}}
}

// Drop says that a member was not there. Of an old input it has its default, or else is zero.
func Drop(now string) Member {
	return Member{shape.Member{Call: fmt.Sprintf("Drop(%q)", now), New: now}}
}

// Constant says that a member was not there, and which value it has for an old input.
func Constant(now string, value any) Member {
	return Member{shape.Member{Call: fmt.Sprintf("Constant(%q)", now), New: now, Fixed: reflect.ValueOf(value)}}
}

// Compute says that a member had another value, under the same name or another, with a function for each
// way as in [Func]. Now may lead further in, with slashes: chamber/length.
func Compute[New, Old any](now, old string, toOld func(New) Old, toNew func(Old) (New, error)) Member {
	return Member{
		shape.Member{Call: fmt.Sprintf("Compute(%q, %q)", now, old), New: now, Old: old, By: functions(toOld, toNew)},
	}
}

// Extra says that there was a member which is made of the whole value. Into takes that of an old input
// over into the present value, and may be nil.
func Extra[New, Old any](old string, of func(New) Old, into func(*New, Old)) Member {
	by := functions(of, func(Old) (n New, err error) { return n, nil })
	by.ToNew = func(old, now reflect.Value, _ *shape.Faults) {
		if into != nil {
			into(shape.At[New](now), *shape.At[Old](old))
		}
	}
	return Member{shape.Member{Call: fmt.Sprintf("Extra(%q)", old), Old: old, By: by, Of: true}}
}

// In says which members were different further in: in an object, or in each of a list.
func In(now string, members ...Member) Member {
	return Member{shape.Member{Call: fmt.Sprintf("In(%q)", now), New: now, Old: now, Within: of(members)}}
}

func of(members []Member) []shape.Member {
	all := make([]shape.Member, len(members))
	for i, m := range members {
		all[i] = m.of
	}
	return all
}
