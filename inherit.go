package wicketway

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/route"
)

// inherit gives versions the routes that they take over.
func (b *builder) inherit() {
	for _, v := range b.versions {
		b.inheritInto(v)
	}
	for _, r := range b.routes {
		l := r.list
		if !l.ofRoute || l.inherited {
			continue
		}
		for _, s := range l.settings {
			if s.kind == overridesKind && !b.unread && (r.lineage == nil || !r.lineage.own) {
				b.mistake(s.at, "Overrides: %s: %s", r.line(), b.nothingInherited(r))
			}
		}
	}
	for _, r := range b.routes {
		if r.part.withdrawn && r.lineage == nil && !b.unread {
			b.mistake(r.at, "Withdraw: %s: %s", r.line(), b.nothingInherited(r))
		}
	}
}

// nothingInherited says why a route takes the place of none.
func (b *builder) nothingInherited(r *resolved) string {
	for _, v := range b.versions {
		if v.inherit != nil && slices.Contains(v.routes, r) {
			return fmt.Sprintf("%s, inherited at %s, has no such route", v.inherit.from, b.where(v.inherit.at))
		}
	}
	return "it is not in a version that inherits"
}

func (b *builder) inheritInto(v *versionRead) {
	if v.state != notYet || v.inherit == nil {
		return
	}
	v.state = underWay
	defer func() { v.state = settled }()
	var own map[string]*resolved // by the shape of their lines
	found := false
	for _, from := range b.versions {
		if from.name != v.inherit.from || from.under != v.under {
			continue
		}
		found = true
		if from.state == underWay {
			b.mistake(
				v.inherit.at, "Inherit: %s inherits from %s, which inherits from it, at %s: leave one out", v.name, from.name,
				from.inherit.at,
			)
			continue
		}
		b.inheritInto(from)
		if own == nil {
			own = b.declaredIn(v)
		}
		lists := map[*list]*list{}
		for _, r := range from.routes {
			b.takeOver(r, from, v, own, lists)
		}
	}
	if !found {
		v.list.breaks()
		if b.unread {
			return
		}
		b.mistake(
			v.inherit.at, "Inherit: this group has no version %s; available: %s", v.inherit.from,
			strings.Join(b.versionsBeside(v), ", "),
		)
	}
}

func (b *builder) versionsBeside(v *versionRead) (names []string) {
	for _, other := range b.versions {
		if other.under == v.under && !slices.Contains(names, other.name) {
			names = append(names, other.name)
		}
	}
	return names
}

// declaredIn are the routes that a version declares itself, by the shapes of their lines; it may have
// been written as several groups.
func (b *builder) declaredIn(v *versionRead) map[string]*resolved {
	own := map[string]*resolved{}
	for _, same := range b.versions {
		if same.name == v.name && same.under == v.under {
			for _, r := range same.routes {
				if r.lineage == nil || r.lineage.own {
					own[shapeOf(r, same)] = r
				}
			}
		}
	}
	return own
}

// shapeOf is a route's line within its version, without the names of its parameters.
func shapeOf(r *resolved, in *versionRead) string {
	var shape strings.Builder
	shape.WriteString(r.method + " ")
	inside := false
	for _, c := range []byte(strings.TrimPrefix(r.path, in.prefix.String())) {
		if inside = inside && c != '}'; !inside || c == '+' {
			shape.WriteByte(c)
		}
		inside = inside || c == '{'
	}
	return shape.String()
}

// takeOver gives a version one route of another one, unless it has its own.
func (b *builder) takeOver(r *resolved, from, v *versionRead, own map[string]*resolved, lists map[*list]*list) {
	if mine := own[shapeOf(r, from)]; mine != nil {
		if mine.part.withdrawn && r.part.withdrawn {
			b.mistake(mine.at, "Withdraw: %s: %s has withdrawn it already, at %s", mine.line(), from.name, r.at)
		}
		if mine.part.withdrawn && mine.guarded() &&
			!b.listUnder(r.list, from, v, lists).terms.guards(r.method) { // nor would its callers be asked if it were there
			mine.list = b.list(&list{outer: mine.list, at: mine.at, ofRoute: true, routes: 1}, []Part{Public()})
		}
		before, _ := route.Parse(r.path) // it was one before
		mine.lineage = &lineage{from: from.name, own: true, before: before, at: v.inherit.at}
		return
	}
	within := cmp.Or(strings.TrimPrefix(r.path, from.prefix.String()), "/")
	template, err := route.Parse(within)
	if err == nil {
		template, err = v.prefix.Join(template)
	}
	if err != nil {
		b.mistake(v.inherit.at, "Inherit: %s at %s: %v", r.line(), r.at, err)
		return
	}
	taken := b.newResolved()
	*taken = resolved{method: r.method, path: template.String(), names: template.Names(), at: r.at, part: r.part,
		lineage: &lineage{from: from.name, at: v.inherit.at}}
	if r.part.withdrawn && r.lineage != nil {
		taken.lineage.before = r.lineage.before
	}
	taken.list = b.listUnder(r.list, from, v, lists)
	v.routes = append(v.routes, taken)
	b.routes = append(b.routes, taken)
	b.templates = append(b.templates, template)
	for l := taken.list; l != nil; l = l.outer {
		l.routes++
	}
}

// listUnder is a list of an earlier version as it holds in one that inherits.
func (b *builder) listUnder(l *list, from, v *versionRead, made map[*list]*list) *list {
	for outer := v.list; outer != nil; outer = outer.outer {
		if l == outer {
			return v.list
		}
	}
	if made[l] != nil {
		return made[l]
	}
	taken := &list{
		outer:     b.listUnder(l.outer, from, v, made),
		at:        l.at,
		kind:      l.kind,
		ofRoute:   l.ofRoute,
		inherited: true,
		prefix:    l.prefix,
		version:   l.version,
	}
	for _, s := range l.settings {
		if s, any := s.kind.travels(s); any {
			taken.settings = append(taken.settings, s)
		}
	}
	made[l] = taken
	if l == from.list || encloses(l, from.list) {
		taken.settings = b.besides(taken.settings, v.list, l)
	}
	b.settle(taken)
	if l.kind == atGroup && !l.ofRoute && strings.HasPrefix(l.prefix, from.prefix.String()) {
		if inner, err := route.Parse(strings.TrimPrefix(l.prefix, from.prefix.String())); err == nil {
			if prefix, err := v.prefix.Join(inner); err == nil {
				b.fallback(group{at: l.at, kind: atGroup}, prefix, taken)
			}
		}
	}
	return taken
}

// encloses reports whether a list is around another one.
func encloses(outer, l *list) bool {
	for ; l != nil; l = l.outer {
		if l == outer {
			return true
		}
	}
	return false
}

// besides are the settings of an earlier version's list without those that the inheriting one's
// own lists say otherwise.
func (b *builder) besides(earlier []setting, own, against *list) (kept []setting) {
	var mine []setting
	stated := map[any][]*bool{} // by slot: whether the setting has an effect
	for l := own; l != nil && !encloses(l, against); l = l.outer {
		mine = append(mine, l.settings...)
		for i := range l.settings {
			stated[l.settings[i].slot] = append(stated[l.settings[i].slot], &l.used[i])
		}
	}
	has := func(of any) bool {
		for _, used := range stated[of] {
			*used = true
		}
		return stated[of] != nil
	}
	for _, s := range earlier {
		any := true
		switch {
		case s.is(byField):
			s, any = s.kind.besides(s, mine)
		case s.is(replaces) && has(s.slot), s.kind == openKind && has(guardKind):
			any = false
		}
		if any {
			kept = append(kept, s)
		}
	}
	return kept
}
