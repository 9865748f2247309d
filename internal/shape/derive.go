package shape

import (
	"encoding"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/internal/members"
)

// A Member says how one member of the old type comes from the present one, and back.
type Member struct {
	Call string // how it was declared, for mistakes: Rename("slot", "time")
	New  string // the member of the present type, or a path with slashes; "" where there is none
	Old  string // the name in the old type; "" where it has none
	Tag  string // more of the old member's tag
	// By adapts the value of the member; nil where it stays as it is.
	By *Adapter
	// Of says that By is for the whole present value, which is of this type.
	Of bool
	// Fixed is what the present member has where the old type lacks it.
	Fixed reflect.Value
	// Within changes the members of the member.
	Within []Member
}

// A step copies or adapts one member.
type step struct {
	name    []string // in the present type; nil: the whole of it
	index   []int
	oldName string
	field   int // of the old type; -1: none
	by      *Adapter
	fixed   reflect.Value

	how      copying // of what stays as it is
	from, to uintptr // where it lies in the present struct, and in the old one
}

var (
	marshalers = []reflect.Type{reflect.TypeFor[json.Marshaler](), reflect.TypeFor[json.MarshalerTo](),
		reflect.TypeFor[json.Unmarshaler](), reflect.TypeFor[json.UnmarshalerFrom](),
		reflect.TypeFor[encoding.TextMarshaler](), reflect.TypeFor[encoding.TextUnmarshaler]()}
)

// A deriver makes the old type of one struct.
type deriver struct {
	of      reflect.Type
	inputs  bool // members are named by their from tags
	members []Member
	used    []bool
	fields  []reflect.StructField
	adapter *Adapter
	errs    []error
}

// Derive makes the old type of a struct, or of what pointers and lists of one hold, from what is said
// of its members; the others stay. Fields that are filled by others are left out (see [Filled]).
func Derive(t reflect.Type, members []Member) (*Adapter, []error) {
	if t.Name() == "" && (t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice) {
		of, errs := Derive(t.Elem(), members)
		if errs != nil {
			return nil, errs
		}
		return Lift(of, t), nil
	}
	if t.Kind() != reflect.Struct {
		return nil, []error{fmt.Errorf("%s has no members", t)}
	}
	for _, m := range marshalers {
		if t.Implements(m) || reflect.PointerTo(t).Implements(m) {
			return nil, []error{fmt.Errorf("%s writes or reads itself, so its members cannot be told apart: use Func", t)}
		}
	}
	if holds(t, t, map[reflect.Type]bool{}) {
		return nil, []error{fmt.Errorf("%s holds values of its own type, which would not be adapted: use Func", t)}
	}
	d := &deriver{
		of:      t,
		inputs:  hasSources(t),
		members: members,
		used:    make([]bool, len(members)),
		adapter: &Adapter{New: t},
	}
	d.structure(t)
	for i := range members {
		if !d.used[i] {
			d.add(i)
		}
	}
	if len(d.errs) > 0 {
		return nil, d.errs
	}
	d.adapter.Old = reflect.StructOf(d.fields)
	d.adapter.sources = d.inputs
	d.adapter.link()
	return d.adapter, nil
}

// holds reports whether values of one type can hold some of another.
func holds(t, of reflect.Type, seen map[reflect.Type]bool) bool {
	if seen[t] {
		return false
	}
	seen[t] = true
	inside := func(t reflect.Type) bool { return t == of || holds(t, of, seen) }
	switch t.Kind() {
	case reflect.Pointer, reflect.Slice, reflect.Array, reflect.Map:
		return inside(t.Elem())
	case reflect.Struct:
		for i := range t.NumField() {
			if inside(t.Field(i).Type) {
				return true
			}
		}
	}
	return false
}

func hasSources(t reflect.Type) bool {
	if t.Kind() != reflect.Struct {
		return false
	}
	for i := range t.NumField() {
		sf := t.Field(i)
		if _, ok := sf.Tag.Lookup("from"); ok || sf.Anonymous && hasSources(sf.Type) {
			return true
		}
	}
	return false
}

func (d *deriver) failf(format string, args ...any) {
	d.errs = append(d.errs, fmt.Errorf(format, args...))
}

// structure goes over the members of a struct.
func (d *deriver) structure(t reflect.Type) {
	if d.inputs {
		d.inputFields(t, nil)
		return
	}
	all, _ := members.Of(t) // those that are none are said where the type is checked
	for _, m := range all {
		switch {
		case isFilled(m.Of.Type):
		case m.ViaPointer:
			d.failf("%s: the member %s is embedded by a pointer, so it cannot be told apart: use Func", t, m.Name)
		case !m.Of.IsExported():
			d.failf("%s.%s: is not exported, so it cannot be taken over: export its type, or use Func", t, m.Of.Name)
		default:
			d.field(m.Of, m.Name, m.Index)
		}
	}
}

// inputFields goes over the fields of an input, and of what is embedded in it.
func (d *deriver) inputFields(t reflect.Type, index []int) {
	for i := range t.NumField() {
		sf := t.Field(i)
		at := append(slices.Clip(index), i)
		from, has := sf.Tag.Lookup("from")
		source, name, _ := strings.Cut(from, " ")
		if name = strings.TrimSpace(name); name == "" {
			name = strings.ToLower(sf.Name)
		}
		switch {
		case isFilled(sf.Type):
		case !has && sf.Anonymous && sf.Type.Kind() == reflect.Struct:
			d.inputFields(sf.Type, at)
		case !has && sf.Anonymous:
			d.failf("%s.%s: is embedded by a pointer, so its members cannot be told apart: use Func", t, sf.Name)
		case !has || !sf.IsExported():
		case source == "body":
			d.field(sf, source, at)
		default:
			d.field(sf, source+" "+name, at)
		}
	}
}

// field takes one field over, as the member that speaks of it says.
func (d *deriver) field(sf reflect.StructField, name string, index []int) {
	s := step{name: []string{name}, index: index, oldName: name, field: len(d.fields)}
	field := reflect.StructField{Name: sf.Name, Type: sf.Type, Tag: sf.Tag}
	for i := range d.members {
		m := &d.members[i]
		if m.New != name || m.Of || d.used[i] {
			continue
		}
		if s.contradicts(m, name) {
			d.failf("%s: another one speaks of %s already", m.Call, name)
		}
		d.used[i] = true
		if !d.apply(m, &s, &field) {
			return
		}
	}
	d.put(s, field)
}

// contradicts reports whether something else was said of a member already. It can have had another
// name, and be different within.
func (s *step) contradicts(m *Member, name string) bool {
	if m.Within != nil {
		return s.by != nil || s.field < 0
	}
	return s.oldName != name || s.fixed.IsValid() || s.by != nil && (m.By != nil || m.Old == "")
}

// apply changes a step and the old field as a member says.
func (d *deriver) apply(m *Member, s *step, field *reflect.StructField) bool {
	switch {
	case m.Within != nil:
		by, errs := Derive(field.Type, m.Within)
		for _, err := range errs {
			d.failf("%s: %w", m.Call, err)
		}
		if by == nil {
			return false
		}
		s.by, field.Type = by, by.Old
	case m.Old == "":
		s.field, s.oldName = -1, ""
		if s.fixed = m.Fixed; s.fixed.IsValid() && !s.fixed.CanConvert(field.Type) {
			d.failf("%s: the member is %s, and the value %s", m.Call, field.Type, m.Fixed.Type())
			return false
		} else if s.fixed.IsValid() {
			s.fixed = s.fixed.Convert(field.Type)
		}
	case m.By != nil:
		by := Lift(m.By, field.Type)
		if by == nil {
			d.failf("%s: the member is %s, and the function takes %s", m.Call, field.Type, m.By.New)
			return false
		}
		s.by, s.oldName = by, m.Old
		field.Type, field.Tag = by.Old, d.tag(m, "")
	case m.Old == s.name[0] && m.Tag == "":
		d.failf("%s: changes nothing: leave it out", m.Call)
		return false
	default:
		s.oldName, field.Tag = m.Old, d.tag(m, field.Tag)
	}
	return true
}

// add takes what is no member of the present type by its name: what is further in, or of all of it.
func (d *deriver) add(i int) {
	m := &d.members[i]
	s := step{oldName: m.Old, field: len(d.fields), by: m.By}
	t, was := d.of, reflect.StructTag("")
	if !m.Of {
		for name := range strings.SplitSeq(m.New, "/") {
			sf, ok := d.member(t, name)
			if !ok {
				d.failf("%s: %s has no member %q; it has %s", m.Call, t, name, strings.Join(d.names(t), ", "))
				return
			}
			s.name, s.index, t, was = append(s.name, name), append(s.index, sf.Index...), sf.Type, sf.Tag
		}
	}
	switch {
	case m.Old == "" || m.Within != nil:
		d.failf("%s: only members of %s itself can be dropped or changed here; use In for those further in", m.Call, d.of)
		return
	case m.By == nil:
		s.by = nil
	default:
		if s.by = Lift(m.By, t); s.by == nil {
			d.failf("%s: the member is %s, and the function takes %s", m.Call, t, m.By.New)
			return
		}
		t, was = s.by.Old, ""
	}
	d.put(s, reflect.StructField{Name: goName(m.Old), Type: t, Tag: d.tag(m, was)})
}

// put adds a step, with its field of the old type.
func (d *deriver) put(s step, field reflect.StructField) {
	if s.field >= 0 {
		for _, other := range d.adapter.steps {
			if other.oldName == s.oldName {
				d.failf("%s has two members %q before", d.of, s.oldName)
			}
		}
		field.Index, field.Offset, field.Anonymous, field.PkgPath = nil, 0, false, ""
		for n := 2; slices.ContainsFunc(d.fields, func(f reflect.StructField) bool { return f.Name == field.Name }); n++ {
			field.Name = strings.TrimRight(field.Name, "0123456789") + strconv.Itoa(n)
			if !d.inputs { // a member without a name in its tag has that of its field
				field.Tag = d.tag(&Member{Old: s.oldName}, field.Tag)
			}
		}
		d.fields = append(d.fields, field)
	}
	d.adapter.steps = append(d.adapter.steps, s)
}

// member finds a member of a struct by its name, and names lists them.
func (d *deriver) member(t reflect.Type, name string) (found reflect.StructField, ok bool) {
	inner := &deriver{of: t, inputs: d.inputs && t == d.of, adapter: &Adapter{}}
	if t.Kind() != reflect.Struct {
		return found, false
	}
	inner.structure(t)
	for i, s := range inner.adapter.steps {
		if s.oldName == name {
			return reflect.StructField{Index: s.index, Type: inner.fields[i].Type, Tag: inner.fields[i].Tag}, true
		}
	}
	return found, false
}

func (d *deriver) names(t reflect.Type) (names []string) {
	if t.Kind() != reflect.Struct {
		return []string{"none"}
	}
	inner := &deriver{of: t, inputs: d.inputs && t == d.of, adapter: &Adapter{}}
	inner.structure(t)
	for _, s := range inner.adapter.steps {
		names = append(names, s.oldName)
	}
	return names
}

// tag is that of an old member: its name, with what was said of it, and what else there was.
func (d *deriver) tag(m *Member, was reflect.StructTag) reflect.StructTag {
	key, name := "json", m.Old
	if d.inputs {
		key = "from"
	}
	more := reflect.StructTag(m.Tag)
	if options := more.Get("json"); key == "json" && strings.HasPrefix(options, ",") {
		name += options
	} else if _, options, has := strings.Cut(was.Get("json"), ","); key == "json" && has {
		name += "," + options
	}
	all := []string{key + ":" + strconv.Quote(name)}
	for _, other := range []string{"rule", "note"} {
		for _, tag := range []reflect.StructTag{more, was} {
			if value, has := tag.Lookup(other); has {
				all = append(all, other+":"+strconv.Quote(value))
				break
			}
		}
	}
	return reflect.StructTag(strings.Join(all, " "))
}

// goName makes a name for a field from that of a member.
func goName(name string) string {
	var b strings.Builder
	upper := true
	for _, r := range name {
		switch {
		case r < 128 && (unicode.IsLetter(r) || unicode.IsDigit(r) && b.Len() > 0):
			if upper {
				r = unicode.ToUpper(r)
			}
			b.WriteRune(r)
			upper = false
		default:
			upper = true
		}
	}
	if b.Len() == 0 {
		return "Member"
	}
	return b.String()
}

// link makes the ways between the types of the steps.
func (a *Adapter) link() {
	toOld, toNew := true, true
	for i := range a.steps {
		s := &a.steps[i]
		if s.field >= 0 && s.by == nil {
			s.how, s.to = copyingOf(a.Old.Field(s.field).Type), a.Old.Field(s.field).Offset
			for t, index := a.New, s.index; len(index) > 0; index = index[1:] {
				f := t.Field(index[0])
				s.from += f.Offset
				t = f.Type
			}
		}
		toOld = toOld && (s.by == nil || s.by.ToOld != nil || s.field < 0)
		toNew = toNew && (s.by == nil || s.by.ToNew != nil || s.field < 0)
	}
	steps := a.steps
	if toOld {
		a.ToOld = func(now, old reflect.Value) error {
			from, to := addressOf(now), addressOf(old)
			for i := range steps {
				switch s := &steps[i]; {
				case s.how != byReflection:
					s.how.copy(after(from, s.from), after(to, s.to))
				case s.field < 0:
				case s.by == nil:
					old.Field(s.field).Set(s.of(now))
				default:
					if err := s.by.ToOld(s.of(now), old.Field(s.field)); err != nil {
						return err
					}
				}
			}
			return nil
		}
	}
	if toNew {
		a.ToNew = func(old, now reflect.Value, f *Faults) {
			if f.Fresh != nil {
				f.Fresh(now)
			}
			for i := range steps {
				s := &steps[i]
				switch {
				case s.how != byReflection:
					s.how.copy(after(addressOf(old), s.to), after(addressOf(now), s.from))
				case s.fixed.IsValid():
					s.of(now).Set(s.fixed)
				case s.field < 0:
				case s.by == nil:
					s.of(now).Set(old.Field(s.field))
				default:
					f.at(s.oldName, func() { s.by.ToNew(old.Field(s.field), s.of(now), f) })
				}
			}
		}
	}
}

// of is the present member.
func (s *step) of(now reflect.Value) reflect.Value {
	switch len(s.index) {
	case 0:
		return now
	case 1:
		return now.Field(s.index[0])
	}
	return now.FieldByIndex(s.index)
}
