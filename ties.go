package wicketway

import (
	"runtime"
	"slices"
)

// tie finds the routes that others are bound to: by what they change, and by where they lead.
func (b *builder) tie() {
	var byFunction map[*runtime.Func][]int
	for _, r := range b.routes {
		if r.output == nil {
			continue
		}
		b.resolveConditions(r)
		function := r.terms().located
		switch {
		case r.part.out.at == nil:
			continue
		case function == nil:
			b.mistake(r.at, "%s: its answers lead to another route, but no LocatedBy says to which: add LocatedBy with that route's function",
				r.line())
			continue
		}
		if byFunction == nil {
			byFunction = map[*runtime.Func][]int{}
			for i, other := range b.routes {
				if f := other.part.function; f != nil {
					byFunction[f] = append(byFunction[f], i)
				}
			}
		}
		b.locate(r, function, byFunction[function])
	}
}

// locate binds a route to the one of those a function serves that is in its version, or in none.
func (b *builder) locate(r *resolved, function *runtime.Func, among []int) {
	for _, version := range []string{r.terms().version, ""} {
		of := slices.DeleteFunc(slices.Clone(among), func(i int) bool { return b.routes[i].terms().version != version })
		switch len(of) {
		case 0:
			continue
		case 1:
			b.bind(r, of[0])
		default:
			b.mistake(r.at, "%s: LocatedBy: %s serves several routes, %s and %s: give one a function of its own", r.line(),
				function.Name(), b.routes[of[0]].line(), b.routes[of[1]].line())
		}
		return
	}
	if b.unread {
		return
	}
	b.mistake(r.at, "%s: LocatedBy: no route of this version is served by %s", r.line(), function.Name())
}

func (b *builder) bind(r *resolved, to int) {
	t := r.tie()
	t.locates = to
	other := b.routes[to]
	if t.reads < 0 && r.part.out.reply && other.terms().conditional && other.output != nil &&
		other.part.out.value == r.part.out.value {
		t.reads, t.tagged = to, true
	}
}
