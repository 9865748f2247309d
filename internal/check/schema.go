// Package check knows what a Go type looks like as JSON, which rules its values must keep
// (package schema says which there are), and how to read and check such values.
package check

import (
	"cmp"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/internal/members"
	"github.com/wicketway/wicketway/internal/oneof"
)

// Type compiles t. The error joins all that is wrong with the type and with its
// tags; each message names the Go type and the field.
func (s *Set) Type(t reflect.Type) (*Type, error) {
	if s.types == nil {
		s.types = map[reflect.Type]*Type{}
	}
	c := compiler{set: s}
	compiled := c.compile(t, t.String())
	for _, read := range c.later {
		read()
	}
	for _, t := range c.made {
		if t.cases != nil {
			t.cases.describe()
		}
	}
	c.settle()
	for _, t := range c.made {
		t.mark()
	}
	return compiled, errors.Join(c.errs...)
}

type compiler struct {
	set   *Set
	errs  []error
	under map[*Type]bool // the types that are being compiled
	made  []*Type
	later []func() // reads the rules of a field, once all types are known
}

// settle spreads what holds for a type to the types that contain it. Types can
// contain themselves, so it goes on until nothing changes.
func (c *compiler) settle() {
	for changed := true; changed; {
		changed = false
		for _, t := range slices.Backward(c.made) {
			before := *t
			t.open = t.open || t.recursive
			if t.elem != nil {
				t.take(t.elem)
				t.deep = t.deep || t.elem.deep
			}
			for inner := range t.eachCase() {
				t.take(inner)
			}
			for _, f := range t.fields {
				t.take(f.typ)
				t.readOnly = t.readOnly || f.readOnly
				t.outdated = t.outdated || f.deprecated()
			}
			changed = changed || t.deep != before.deep || t.open != before.open || t.judges != before.judges ||
				t.readOnly != before.readOnly || t.outdated != before.outdated || len(t.tells) != len(before.tells)
		}
	}
}

// mark finds the members of an object that can be seen in a text by their names.
func (t *Type) mark() {
	if t.shape != object || t.open {
		return
	}
	times, types := map[string]int{}, 0
	var count func(of *Type) bool
	count = func(of *Type) bool {
		of = of.base()
		if types++; types > 100 || of.shape == mapping || of.shape == oneOf {
			return false // any name can be in it, or too many are
		}
		for _, f := range of.fields {
			if times[f.name]++; !count(f.typ) {
				return false
			}
		}
		return of.elem == nil || count(of.elem)
	}
	if !count(t) {
		return
	}
	for _, f := range t.fields {
		if f.plain && f.required && !f.typ.deep && times[f.name] == 1 {
			f.marker = `"` + f.name + `"`
		}
	}
}

func (t *Type) take(inner *Type) {
	t.outdated = t.outdated || inner.outdated
	t.judges, t.open, t.readOnly = t.judges || inner.judges, t.open || inner.open, t.readOnly || inner.readOnly
	for _, member := range inner.tells {
		if !slices.Contains(t.tells, member) {
			t.tells = append(slices.Clip(t.tells), member)
		}
	}
}

func (c *compiler) failf(format string, args ...any) {
	c.errs = append(c.errs, fmt.Errorf(format, args...))
}

// compile gives the Type for t; where names the place for messages.
func (c *compiler) compile(t reflect.Type, where string) *Type {
	if known := c.set.types[t]; known != nil {
		known.recursive = known.recursive || c.under[known]
		return known
	}
	typ := &Type{goType: t}
	c.set.types[t] = typ // before going on: types can refer to themselves
	c.made = append(c.made, typ)
	if c.under == nil {
		c.under = map[*Type]bool{}
	}
	c.under[typ] = true
	defer delete(c.under, typ)
	if err := CheckMethod(t); err != nil {
		c.failf("%s: %w", where, err)
	}
	if c.set.Refuse != nil {
		if why := c.set.Refuse(t, where == t.String()); why != "" {
			c.failf("%s: %s %s", where, t, why)
			typ.shape, typ.null, typ.open = anything, true, true
			return typ
		}
	}
	typ.checks = t.Kind() != reflect.Interface && t.Kind() != reflect.Pointer &&
		reflect.PointerTo(t).Implements(checkerType)
	typ.judges = typ.checks
	switch {
	case t.Kind() == reflect.Pointer: // whatever methods it has are those of what it points to
		typ.shape, typ.null = pointer, true
		c.contain(typ, t.Elem(), where)
	case t == timeType:
		typ.shape = moment
	case t == durationType:
		c.failf("%s: time.Duration has no agreed JSON form: use a number of a named unit, or a type with text methods",
			where)
	case isOptional(t):
		typ.shape, typ.null = either, true
		c.contain(typ, t.Field(0).Type, where)
	case isOneOf(t):
		typ.shape, typ.deep = oneOf, true
		c.choice(typ, where)
	case t == valueType || implements(t, jsonInterfaces):
		typ.shape, typ.null, typ.open = anything, true, true
	case implements(t, textInterfaces):
		typ.shape = encoded
	default:
		c.byKind(typ, where)
	}
	return typ
}

// contain compiles the type behind a pointer or an Optional.
func (c *compiler) contain(typ *Type, elem reflect.Type, where string) {
	typ.elem = c.compile(elem, where)
	for e := typ.elem; e != nil && (e.shape == pointer || e.shape == either); e = e.elem {
		if e == typ {
			c.failf("%s: the type %s is a pointer to itself, so it has no JSON form", where, typ.goType)
			typ.shape, typ.elem = anything, nil
			return
		}
	}
}

// CheckMethod reports mistakes in a Check that nobody would ever ask: one with
// another signature, or one of several that are embedded.
func CheckMethod(t reflect.Type) error {
	if t.Kind() == reflect.Interface || t.Kind() == reflect.Pointer {
		return nil
	}
	if m, has := reflect.PointerTo(t).MethodByName("Check"); has {
		if !reflect.PointerTo(t).Implements(checkerType) {
			return fmt.Errorf("its method Check is %s, so it is never asked: write Check(*schema.Report)",
				strings.Replace(m.Type.String(), "*"+t.String(), "", 1))
		}
		return nil
	}
	if t.Kind() != reflect.Struct {
		return nil
	}
	var with []string
	for i := range t.NumField() {
		sf := t.Field(i)
		if e := sf.Type; sf.Anonymous && e.Kind() != reflect.Interface &&
			(e.Implements(checkerType) || e.Kind() != reflect.Pointer && reflect.PointerTo(e).Implements(checkerType)) {
			with = append(with, sf.Name)
		}
	}
	if len(with) > 1 {
		return fmt.Errorf(
			"it embeds %s, and Go promotes no Check where several have one: write a Check that calls them",
			strings.Join(with, " and "),
		)
	}
	return nil
}

// OtherSignature reports mistakes in a method that has another signature than the one that is looked
// for; nil where there is none of the name. The caller looks it up by a constant name, so that
// linkers leave out methods that nobody calls.
func OtherSignature(m reflect.Method, has bool, want reflect.Type) error {
	if !has {
		return nil
	}
	from := 1 // behind the receiver
	same := m.Type.NumIn() == want.NumIn()+from && m.Type.NumOut() == want.NumOut()
	for i := 0; same && i < want.NumIn(); i++ {
		same = m.Type.In(i+from) == want.In(i)
	}
	for i := 0; same && i < want.NumOut(); i++ {
		same = m.Type.Out(i) == want.Out(i)
	}
	if same {
		return nil
	}
	return fmt.Errorf(
		"%s: its method %s has another signature, so it is never asked: write %s%s", m.Type.In(0), m.Name, m.Name,
		strings.TrimPrefix(want.String(), "func"),
	)
}

func (c *compiler) byKind(typ *Type, where string) {
	t := typ.goType
	switch t.Kind() {
	case reflect.Bool:
		typ.shape = boolean
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64,
		reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Uintptr:
		typ.shape = integer
	case reflect.Float32, reflect.Float64:
		typ.shape = number
	case reflect.String:
		typ.shape = text
	case reflect.Slice, reflect.Array:
		if t.Elem().Kind() == reflect.Uint8 {
			typ.shape = bytes
			return
		}
		typ.shape, typ.deep = list, true // an element could be null
		typ.elem = c.compile(t.Elem(), where+"[]")
	case reflect.Map:
		typ.shape = mapping
		if k := t.Key(); k.Kind() != reflect.String && !implements(k, textInterfaces) && !isInteger(k.Kind()) {
			c.failf("%s: a map with keys of type %s has no JSON form: use text or whole numbers as keys", where, k)
		}
		typ.deep = true
		typ.elem = c.compile(t.Elem(), where+"[]")
	case reflect.Struct:
		typ.shape, typ.deep = object, true
		c.fields(typ, t)
		c.jsonTags(t, where)
	case reflect.Interface:
		if t.NumMethod() > 0 {
			c.failf("%s: JSON cannot be read into the interface %s: use a concrete type, or schema.OneOf for a closed set of types",
				where, t)
		}
		typ.shape, typ.null, typ.open = anything, true, true
	default:
		c.failf("%s: the type %s has no JSON form", where, t)
	}
}

// jsonTags has the JSON package say what it finds wrong with a struct's own tags.
func (c *compiler) jsonTags(t reflect.Type, where string) {
	err := json.Unmarshal([]byte("{}"), reflect.New(t).Interface())
	if e, ok := errors.AsType[*json.SemanticError](err); ok && e.GoType == t && e.Err != nil &&
		!strings.Contains(e.Err.Error(), "JSON object name") {
		c.failf("%s: %w", where, e.Err)
	}
}

// choice compiles the types of a closed set.
func (c *compiler) choice(typ *Type, where string) {
	set, err := oneof.Of(typ.goType)
	if err != nil {
		for _, e := range Unjoin(err) {
			c.failf("%s: %w", where, e)
		}
		typ.shape, typ.null, typ.open, typ.deep = anything, true, true, false
		return
	}
	typ.called = readable(set.Interface.Name())
	typ.tells = []string{set.Member}
	typ.cases = &choice{set: set, of: map[reflect.Type]*Type{}}
	for _, each := range set.Cases {
		inner := c.compile(each.Type, where+"("+each.Name+")")
		if inner.shape != object {
			c.failf("%s: %s.Cases: %q is a %s: in JSON it is %s, and only objects are told apart by a member", where,
				typ.goType.Field(0).Type.Elem(), each.Name, each.Type, inner.Name())
		}
		typ.cases.of[each.Type] = inner
	}
}

// describe makes the types for texts, once those for values have their members.
func (c *choice) describe() {
	if c.texts != nil {
		return
	}
	teller := func(r rule) *field {
		said := &Type{goType: reflect.TypeFor[string](), shape: text}
		f := &field{name: c.set.Member, plain: true, required: true, always: true, typ: said, rules: rules{r}, missing: isMissing,
			rule: fmt.Sprintf("%s=%v", r.keyword, r.want)}
		f.site = site{typ: said, rules: f.rules, needed: true}
		return f
	}
	object := func(fields ...*field) *Type {
		t := &Type{shape: object, deep: true, byName: map[string]*field{}}
		for i, f := range fields {
			own := *f
			own.number = i
			t.fields = append(t.fields, &own)
			t.byName[f.name] = &own
		}
		return t
	}
	names := c.set.Names()
	one := textRule(names, "must be one of "+strings.Join(names, ", "), func(string) bool { return false })
	one.keyword = "enum"
	c.unknown = object(teller(one))
	c.unknown.goType = c.set.Interface
	c.texts = map[string]*Type{}
	for _, each := range c.set.Cases {
		is := textRule(each.Name, "must be "+each.Name, func(s string) bool { return s == each.Name })
		is.keyword = "const"
		of := c.of[each.Type]
		t := object(append([]*field{teller(is)}, of.fields...)...)
		t.goType, t.called, t.readOnly = each.Text, readable(each.Type.Name()), of.readOnly
		c.texts[each.Name] = t
	}
}

// fields collects the members of t.
func (c *compiler) fields(typ *Type, t reflect.Type) {
	typ.byName = map[string]*field{}
	c.tags(t, map[reflect.Type]bool{})
	all, clashing := members.Of(t)
	for _, m := range clashing {
		c.failf("%s.%s: the JSON name %q belongs to another field already", t, m.Of.Name, m.Name)
	}
	for _, m := range all {
		sf, where := m.Of, t.String()+"."+m.Of.Name
		f := &field{
			name:   m.Name,
			index:  m.Index,
			first:  m.Index[0],
			direct: len(m.Index) == 1,
			plain:  !strings.ContainsAny(m.Name, `"\`),
			rule:   sf.Tag.Get("rule"),
			note:   sf.Tag.Get("note"),
			number: len(typ.fields),
			quoted: m.Quoted,
		}
		f.typ = c.compile(sf.Type, where)
		f.null = f.typ.null
		f.always = !m.ViaPointer && !m.OmitZero && !m.OmitEmpty
		f.required = f.always && !f.typ.null
		c.later = append(c.later, func() { c.rule(f, sf, where) })
		typ.fields = append(typ.fields, f)
		typ.byName[m.Name] = f
	}
}

// tags reports mistakes in the fields of a struct and of those that are embedded in it.
func (c *compiler) tags(t reflect.Type, seen map[reflect.Type]bool) {
	seen[t] = true
	for i := range t.NumField() {
		sf := t.Field(i)
		where := t.String() + "." + sf.Name
		if err := CheckTag(sf.Tag); err != nil {
			c.failf("%s: %w", where, err)
			continue
		}
		f := members.Read(sf)
		for _, option := range f.Unknown {
			c.failf("%s: the json option %q is unknown (known: %s)", where, option, strings.Join(jsonOptions, ", "))
		}
		switch {
		case f.Ignored:
		case f.Malformed:
			c.failf(
				"%s: the json tag %q is malformed: a name has no quotes and backslashes, and no comma ends it", where,
				sf.Tag.Get("json"),
			)
		case !sf.IsExported() && sf.Type.Kind() == reflect.Pointer:
			c.failf(
				"%s: is embedded by a pointer and not exported, so JSON cannot fill it: embed the struct itself, or export its type",
				where,
			)
		case !sf.IsExported() && f.Named && reflect.PointerTo(sf.Type).Implements(checkerType):
			c.failf("%s: is not exported, so its Check cannot be called under a name of its own: export its type", where)
		case f.Embedded:
			inner := sf.Type
			if inner.Kind() == reflect.Pointer {
				inner = inner.Elem()
			}
			if inner.Kind() != reflect.Struct {
				c.failf("%s.%s: only structs can be embedded", t, sf.Name)
			} else if !seen[inner] {
				c.tags(inner, seen)
			}
		}
	}
}

// rule reads the rule tag of a field.
func (c *compiler) rule(f *field, sf reflect.StructField, where string) {
	r, err := parseRules(sf.Tag, f.typ.base())
	if err != nil {
		c.failf("%s: %w", where, err)
		return
	}
	if f.typ.shape == either && r.fallback.IsValid() {
		c.failf("%s: rule default: an Optional is absent where nothing was sent", where)
		return
	}
	f.rules, f.items, f.words, f.since = r.checks, r.items, r.words, r.since
	f.null = f.null && !r.notNull
	f.readOnly = slices.Contains(r.words, "readOnly")
	f.offset, f.reads = sf.Offset, f.directly(sf)
	f.required = f.required && !r.fallback.IsValid() && !f.readOnly || r.required
	f.missing = cmp.Or(r.missing, isMissing)
	f.site = site{f.typ, f.null, f.rules, f.items, f.quoted, f.required, r.unread}
	if f.readOnly && r.required {
		c.failf("%s: rule required: a readOnly member is never sent", where)
	}
	if f.example, err = r.example(sf.Tag, f.typ.base()); err != nil {
		c.failf("%s: %w", where, err)
	}
	if r.fallback.IsValid() {
		f.fallback = reflect.New(sf.Type).Elem()
		set(f.fallback, r.fallback)
	}
}

// set assigns from to a value of the same type or a pointer to it.
func set(to, from reflect.Value) {
	for to.Kind() == reflect.Pointer && from.Type() != to.Type() {
		to.Set(reflect.New(to.Type().Elem()))
		to = to.Elem()
	}
	to.Set(from)
}

// renew sets a default, with nothing shared between one value and the next.
func renew(to, fallback reflect.Value) {
	switch fallback.Kind() {
	case reflect.Pointer:
		to.Set(reflect.New(fallback.Type().Elem()))
		renew(to.Elem(), fallback.Elem())
	case reflect.Slice: // of bytes: no other list can have a default
		to.SetBytes(append([]byte{}, fallback.Bytes()...))
	default:
		to.Set(fallback)
	}
}

// Renew gives a value that was not read its defaults, at every depth that is there.
func (t *Type) Renew(v reflect.Value) {
	v, there := t.reach(v)
	if t = t.base(); there && t.shape == oneOf {
		t.cases.change(v, func(of *Type, held reflect.Value) bool { of.Renew(held); return true })
	}
	if !there || t.shape != object {
		return
	}
	for _, f := range t.fields {
		if fv, there := f.of(v); there && f.fallback.IsValid() {
			renew(fv, f.fallback)
		} else if there {
			f.typ.Renew(fv)
		}
	}
}

// jsonOptions are the options of a json tag that all pieces of this package heed.
var jsonOptions = []string{"omitzero", "omitempty", "string", "embed"}
