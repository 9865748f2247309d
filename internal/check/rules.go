package check

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"math/big"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/schema"
)

// hold reports whether v keeps all rules.
func (rs rules) hold(v reflect.Value) bool {
	for i := range rs {
		if !rs[i].holds(v) {
			return false
		}
	}
	return true
}

// allOfWhole reports whether all rules can be asked of a whole number as it is.
func (rs rules) allOfWhole() bool {
	for i := range rs {
		if rs[i].ofWhole == nil {
			return false
		}
	}
	return true
}

// faults lists the rules that v breaks.
func (rs rules) faults(v reflect.Value, pointer string) []schema.Fault {
	var found []schema.Fault
	for _, r := range rs {
		if !r.holds(v) {
			found = append(found, schema.Fault{Pointer: pointer, Rule: r.keyword, Want: r.want, Detail: r.detail})
		}
	}
	return found
}

// hold reports whether a member's value keeps the rules of its field, and its
// items theirs.
func (f *field) hold(v reflect.Value) bool {
	if len(f.rules)+len(f.items) == 0 {
		return true
	}
	if f.typ.shape == pointer || f.typ.shape == either {
		var there bool
		if v, there = f.typ.reach(v); !there {
			return true
		}
	}
	if f.items != nil {
		elem := f.typ.base().elem
		for i := range v.Len() {
			if item, there := elem.reach(v.Index(i)); there && !f.items.hold(item) {
				return false
			}
		}
	}
	return f.rules.hold(v)
}

// parsed is what a rule tag says.
type parsed struct {
	checks   rules
	items    rules
	required bool
	notNull  bool // null is refused, though the Go type has a place for it
	fallback reflect.Value
	words    []string // keywords for readers: readOnly, writeOnly, deprecated
	since    string   // of what is deprecated
	// missing and unread are sentences of the field's own, for a value that is absent and for one of another type.
	missing, unread string
}

// A keyword makes a rule for values of a type.
type keyword struct {
	name  string
	for_  func(*Type) bool
	means string // what for_ asks, for messages
	parse func(value string, t *Type) (rule, error)
}

// isOrdered reports whether values of a type have limits: numbers, and texts that compare themselves.
func isOrdered(t *Type) bool { return isNumeric(t) || t.compares() }

// isWritten reports whether values of a type are texts, whatever they are in Go.
func isWritten(t *Type) bool { return isText(t) || t.shape == encoded }

func isNumeric(t *Type) bool { return t.shape == integer || t.shape == number }

func isText(t *Type) bool { return t.shape == text }

func isScalar(t *Type) bool { return isNumeric(t) || isText(t) }

func isList(t *Type) bool { return t.shape == list }

func isMapping(t *Type) bool { return t.shape == mapping }

// keywords are those of JSON Schema validation (draft 2020-12, section 6).
var keywords = []keyword{
	{"minimum", isOrdered, "numbers, and texts with a method Compare", bound("must be at least %s", atLeast)},
	{"maximum", isOrdered, "numbers, and texts with a method Compare", bound("must be at most %s", atMost)},
	{"exclusiveMinimum", isOrdered, "numbers, and texts with a method Compare", bound("must be more than %s", moreThan)},
	{"exclusiveMaximum", isOrdered, "numbers, and texts with a method Compare", bound("must be less than %s", lessThan)},
	{"multipleOf", isNumeric, "numbers", parseMultiple},
	{"minLength", isText, "text", length("must have at least %d character(s)", longEnough)},
	{"maxLength", isText, "text", length("must have at most %d character(s)", shortEnough)},
	{"minItems", isList, "lists", bySize("must have at least %d item(s)",
		func(v reflect.Value, limit int) bool { return v.Len() >= limit })},
	{"maxItems", isList, "lists", bySize("must have at most %d item(s)",
		func(v reflect.Value, limit int) bool { return v.Len() <= limit })},
	{"uniqueItems", isList, "lists", parseUnique},
	{"minProperties", isMapping, "maps", bySize("must have at least %d member(s)",
		func(v reflect.Value, limit int) bool { return v.Len() >= limit })},
	{"maxProperties", isMapping, "maps", bySize("must have at most %d member(s)",
		func(v reflect.Value, limit int) bool { return v.Len() <= limit })},
	{"format", isWritten, "text", parseFormat},
	{"pattern", isText, "text", parsePattern},
	{"enum", isScalar, "text and numbers", parseEnum},
}

// longEnough and shortEnough count characters, not bytes (JSON Schema validation,
// 6.3), but only where the bytes do not tell: a character has one to four.
func longEnough(s string, limit int) bool {
	return len(s) >= limit && (len(s) >= 4*limit-3 || utf8.RuneCountInString(s) >= limit)
}

func shortEnough(s string, limit int) bool {
	return len(s) <= limit || utf8.RuneCountInString(s) <= limit
}

// parseRules reads the tags rule and says for values of type t.
func parseRules(tag reflect.StructTag, t *Type) (parsed, error) {
	settings, err := splitRules(tag.Get("rule"))
	if err != nil {
		return parsed{}, err
	}
	var p parsed
	var errs []error
	seen := map[string]bool{}
	fallback := -1
	for i, s := range settings {
		if seen[s.keyword] {
			errs = append(errs, fmt.Errorf("rule %s: is given twice", s.keyword))
			continue
		}
		seen[s.keyword] = true
		switch s.keyword {
		case "required":
			p.required = true
			if s.hasValue {
				errs = append(errs, errors.New("rule required: takes no value"))
			}
		case "default":
			fallback = i
		case "type":
			p.notNull = true
			if s.value != t.name() || s.value == "" {
				errs = append(
					errs,
					fmt.Errorf(
						"rule type: %q is not what %s is in JSON: write type=%s, which refuses null, or leave it out", s.value,
						t.goType, t.name()),
				)
			}
		case "deprecated":
			p.words = append(p.words, s.keyword)
			if p.since = s.value; s.hasValue && !isDate(s.value) {
				errs = append(errs, fmt.Errorf("rule deprecated: %q is not a date such as 2027-06-30, since when it is", s.value))
			}
		case "readOnly", "writeOnly":
			p.words = append(p.words, s.keyword)
			if s.hasValue {
				errs = append(errs, fmt.Errorf("rule %s: takes no value", s.keyword))
			}
		default:
			of, into := t, &p.checks
			keyword, forItems := strings.CutPrefix(s.keyword, "items.")
			if forItems {
				if t.shape != list {
					errs = append(errs, fmt.Errorf("rule %s: is for lists, not for %s", s.keyword, t.goType))
					continue
				}
				of, into = t.elem.base(), &p.items
			}
			r, err := parseRule(setting{keyword, s.value, s.hasValue}, of)
			if err != nil {
				errs = append(errs, fmt.Errorf("rule %s: %w", s.keyword, err))
				continue
			}
			*into = append(*into, r)
		}
	}
	errs = append(errs, contradictions("", p.checks)...)
	errs = append(errs, contradictions("items.", p.items)...)
	if fallback >= 0 {
		errs = append(errs, p.setFallback(settings[fallback].value, t))
	}
	errs = append(errs, p.say(tag.Get("says"), t))
	return p, errors.Join(errs...)
}

// say gives rules the sentences of the tag says, in the form of a rule tag: minimum='needs somebody on board'.
func (p *parsed) say(tag string, t *Type) error {
	sentences, err := splitRules(tag)
	if err != nil {
		return fmt.Errorf("says: %w", err)
	}
	for _, s := range sentences {
		of, keyword := p.checks, s.keyword
		if inner, forItems := strings.CutPrefix(keyword, "items."); forItems {
			of, keyword = p.items, inner
		}
		at := slices.IndexFunc(of, func(r rule) bool { return r.keyword == keyword })
		switch {
		case s.value == "":
			return fmt.Errorf("says %s: the sentence is missing: %s='...'", s.keyword, s.keyword)
		case at >= 0:
			of[at].detail = s.value
		case s.keyword == "required":
			p.missing = s.value
		case s.keyword == "type", s.keyword == "format" && (t.shape == moment || t.shape == encoded):
			p.unread = s.value
		default:
			return fmt.Errorf("says %s: the field has no such rule", s.keyword)
		}
	}
	return nil
}

// contradictions finds limits that leave nothing between them.
func contradictions(prefix string, rs rules) (errs []error) {
	for _, pair := range [][2]string{
		{"minimum", "maximum"}, {"minimum", "exclusiveMaximum"}, {"exclusiveMinimum", "maximum"},
		{"exclusiveMinimum", "exclusiveMaximum"},
		{"minLength", "maxLength"}, {"minItems", "maxItems"}, {"minProperties", "maxProperties"},
	} {
		low := slices.IndexFunc(rs, func(r rule) bool { return r.keyword == pair[0] })
		high := slices.IndexFunc(rs, func(r rule) bool { return r.keyword == pair[1] })
		if low < 0 || high < 0 {
			continue
		}
		c := 0
		switch {
		case rs[low].limit != nil:
			c = rs[low].limit.compare(*rs[high].limit)
		case rs[high].against != nil:
			c = rs[high].against(rs[low].edge)
		}
		if c > 0 || c == 0 && strings.Contains(pair[0]+pair[1], "exclusive") {
			errs = append(errs, fmt.Errorf("rule %s%s: nothing can keep it together with %s%s=%v", prefix, pair[0], prefix,
				pair[1], rs[high].want))
		}
	}
	return errs
}

// example reads the tag example: a value that keeps the rules, for readers of the schema.
func (p *parsed) example(tag reflect.StructTag, t *Type) (v reflect.Value, err error) {
	text, has := tag.Lookup("example")
	if !has {
		return v, nil
	}
	switch t.shape {
	case anything, list, mapping, object, oneOf:
		return v, errors.New("example: the tag is for single values, such as text and numbers")
	}
	example := reflect.New(t.goType).Elem()
	if detail := t.parseText(text, example); detail != "" {
		return v, fmt.Errorf("example: %q %s", text, detail)
	}
	if broken := p.checks.faults(example, ""); broken != nil {
		return v, fmt.Errorf("example: %s breaks the field's own rule: it %s", text, broken[0].Detail)
	}
	return example, nil
}

func (p *parsed) setFallback(value string, t *Type) error {
	if p.required {
		return errors.New("rule default: a required value needs none")
	}
	v := reflect.New(t.goType).Elem()
	if detail := t.parseText(value, v); detail != "" {
		return fmt.Errorf("rule default: %q %s", value, detail)
	}
	if broken := p.checks.faults(v, ""); broken != nil {
		return fmt.Errorf("rule default: %s breaks the field's own rule: it %s", value, broken[0].Detail)
	}
	p.fallback = v
	return nil
}

func parseRule(s setting, t *Type) (rule, error) {
	at := slices.IndexFunc(keywords, func(k keyword) bool { return k.name == s.keyword })
	if at < 0 {
		known := []string{"required", "default", "type", "readOnly", "writeOnly", "deprecated"}
		for _, k := range keywords {
			known = append(known, k.name)
		}
		slices.Sort(known)
		return rule{}, fmt.Errorf("unknown keyword (known: %s)", strings.Join(known, ", "))
	}
	k := keywords[at]
	if !k.for_(t) {
		return rule{}, fmt.Errorf("is for %s, not for %s", k.means, t.goType)
	}
	if !s.hasValue && s.keyword != "uniqueItems" {
		return rule{}, errors.New("needs a value: " + s.keyword + "=...")
	}
	r, err := k.parse(s.value, t)
	r.keyword = s.keyword
	return r, err
}

func atLeast(c int) bool { return c >= 0 }

func atMost(c int) bool { return c <= 0 }

func moreThan(c int) bool { return c > 0 }

func lessThan(c int) bool { return c < 0 }

// bound makes the parser of a limit on numbers. It is compared exactly: for whole
// numbers as one, for others as the float of the value's own size, and a limit that
// such a float cannot hold, or that all values of the type keep, is a mistake.
func bound(detail string, passes func(compared int) bool) func(string, *Type) (rule, error) {
	return func(value string, t *Type) (rule, error) {
		if t.compares() {
			return boundOfText(value, t, fmt.Sprintf(detail, value), passes)
		}
		limit, ok := parseDecimal(value)
		if !ok {
			return rule{}, fmt.Errorf("%q is not a number as JSON writes it", value)
		}
		passes := passes // of this rule alone
		r := rule{want: jsontext.Value(value), detail: fmt.Sprintf(detail, value), limit: &limit}
		if t.shape == number {
			x, err := strconv.ParseFloat(value, t.goType.Bits())
			if err != nil {
				return rule{}, fmt.Errorf("%s is beyond what a %s can hold", value, t.goType)
			}
			if n, whole := limit.whole(); whole {
				if exact, _ := big.NewFloat(x).Int(nil); exact.Cmp(n) != 0 {
					return rule{}, fmt.Errorf("a %s cannot hold %s exactly; the nearest is %s", t.goType, value, exact)
				}
			}
			r.ofReal = func(v float64) bool { return passes(cmp.Compare(v, x)) }
			r.holds = func(v reflect.Value) bool { return passes(cmp.Compare(v.Float(), x)) }
			return r, nil
		}
		low, high := t.span()
		if limit.compare(decimal{digits: big.NewInt(low)}) < 0 ||
			limit.compare(decimal{digits: new(big.Int).SetUint64(high)}) > 0 {
			return rule{}, fmt.Errorf("%s is beyond what a %s can hold (%d to %d), so it says nothing", value,
				t.goType, low, high)
		}
		n, whole := limit.whole()
		if !whole { // between two whole numbers: what is above the lower one is above the limit
			n = limit.floor()
			if passes(1) {
				passes = moreThan
			} else {
				passes = atMost
			}
		}
		if reflect.Zero(t.goType).CanInt() {
			edge := n.Int64()
			r.ofWhole = func(v int64) bool { return passes(cmp.Compare(v, edge)) }
			r.holds = func(v reflect.Value) bool { return passes(cmp.Compare(v.Int(), edge)) }
			return r, nil
		}
		if n.Sign() < 0 { // below all values of the type: only the fraction reaches them
			r.holds = func(reflect.Value) bool { return passes(1) }
			return r, nil
		}
		edge := n.Uint64()
		r.holds = func(v reflect.Value) bool { return passes(cmp.Compare(v.Uint(), edge)) }
		return r, nil
	}
}

// size makes the parser of a limit on lengths.
func size(detail string, holds func(v reflect.Value, limit int) bool) func(string, *Type) (rule, error) {
	return func(value string, _ *Type) (rule, error) {
		limit, err := strconv.Atoi(value)
		if err != nil || limit < 0 {
			return rule{}, fmt.Errorf("%q is not a whole number from 0", value)
		}
		text := fmt.Sprintf(detail, limit)
		if limit == 1 {
			text = strings.Replace(text, "(s)", "", 1)
		} else {
			text = strings.Replace(text, "(s)", "s", 1)
		}
		return rule{
			want:   limit,
			detail: text,
			holds:  func(v reflect.Value) bool { return holds(v, limit) },
			limit:  &decimal{digits: big.NewInt(int64(limit))},
		}, nil
	}
}

// length makes the parser of a limit on the characters of a text.
func length(detail string, holds func(s string, limit int) bool) func(string, *Type) (rule, error) {
	parse := size(detail, func(v reflect.Value, limit int) bool { return holds(v.String(), limit) })
	return func(value string, t *Type) (rule, error) {
		r, err := parse(value, t)
		if err == nil {
			limit := r.want.(int)
			r.ofText = func(s string) bool { return holds(s, limit) }
		}
		return r, err
	}
}

// textRule makes a rule that asks a text.
func textRule(want any, detail string, holds func(string) bool) rule {
	return rule{want: want, detail: detail, ofText: holds,
		holds: func(v reflect.Value) bool { return holds(v.String()) }}
}

func bySize(detail string, holds func(v reflect.Value, limit int) bool) func(string, *Type) (rule, error) {
	parse := size(detail, holds)
	return func(value string, t *Type) (rule, error) {
		r, err := parse(value, t)
		r.bySize = true
		return r, err
	}
}

func parsePattern(value string, _ *Type) (rule, error) {
	re, err := CompilePattern(value)
	if err != nil {
		return rule{}, err
	}
	matches := re.MatchString
	if q := asSequence(re.String()); q != nil {
		matches = q.match
	}
	return textRule(value, "must match the pattern "+value, matches), nil
}

func parseEnum(value string, t *Type) (rule, error) {
	words := strings.Split(value, "|")
	if len(words) == 1 && strings.Contains(value, ",") {
		return rule{}, fmt.Errorf("%q is one value: write enum=%s", value, strings.ReplaceAll(value, ",", "|"))
	}
	detail := "must be one of " + strings.Join(words, ", ")
	want := make([]any, len(words))
	if isText(t) {
		for i, w := range words {
			want[i] = w
		}
		return textRule(want, detail, func(s string) bool { return slices.Contains(words, s) }), nil
	}
	for i, w := range words {
		v := reflect.New(t.goType).Elem()
		if detail := t.parseText(w, v); detail != "" {
			return rule{}, fmt.Errorf("%q %s", w, detail)
		}
		want[i] = v.Interface()
	}
	return rule{want: want, detail: detail,
		holds: func(v reflect.Value) bool { return slices.Contains(want, v.Interface()) }}, nil
}

// parseMultiple asks numbers as they are written in decimals: 0.3 is a multiple of
// 0.1, and 2000000.001 none of 0.01.
func parseMultiple(value string, _ *Type) (rule, error) {
	step, ok := parseDecimal(value)
	if !ok || step.digits.Sign() <= 0 {
		return rule{}, fmt.Errorf("%q is not a number above 0", value)
	}
	return rule{want: jsontext.Value(value), detail: "must be a multiple of " + value,
		holds: func(v reflect.Value) bool {
			return decimalOf(v).isMultipleOf(step)
		}}, nil
}

// parseUnique compares items by their values, as JSON does, not by where they lie.
func parseUnique(value string, t *Type) (rule, error) {
	if value != "" && value != "true" {
		return rule{}, fmt.Errorf("%q: write uniqueItems alone", value)
	}
	if t.elem.open {
		return rule{}, fmt.Errorf("items of type %s cannot be compared: their nesting has no bound",
			t.elem.goType)
	}
	return rule{want: true, detail: "must not have an item twice", holds: func(v reflect.Value) bool {
		switch elem := t.elem; {
		case elem.shape == text:
			return allDiffer(v, reflect.Value.String)
		case elem.shape == integer && reflect.Zero(elem.goType).CanInt():
			return allDiffer(v, reflect.Value.Int)
		case elem.shape == integer:
			return allDiffer(v, reflect.Value.Uint)
		}
		return allDiffer(v, func(item reflect.Value) identity {
			text, err := json.Marshal(item.Interface(), json.Deterministic(true))
			if err != nil { // a text type that can be read and not written: the reporter looks at what was sent
				return identity{}
			}
			return identify(text) // of which 0 and -0 are one
		})
	}}, nil
}

// allDiffer reports whether the items of a list are all different. Items that are the
// same here may have been sent differently: a zero for what is absent, say.
func allDiffer[K comparable](v reflect.Value, key func(reflect.Value) K) bool {
	seen := map[K]struct{}{}
	for i := range v.Len() {
		k := key(v.Index(i))
		if _, twice := seen[k]; twice {
			return false
		}
		seen[k] = struct{}{}
	}
	return true
}

// compares reports whether the type is written as text and has a method Compare, of which values a limit can be set.
func (t *Type) compares() bool { return t.shape == encoded && compareOf(t.goType).IsValid() }

// compareOf is the method Compare(T) int of a type T.
func compareOf(t reflect.Type) (method reflect.Value) {
	m, has := t.MethodByName("Compare")
	if !has || m.Type.NumIn() != 2 || m.Type.In(1) != t || m.Type.NumOut() != 1 || m.Type.Out(0).Kind() != reflect.Int {
		return reflect.Value{}
	}
	return m.Func
}

// boundOfText makes a limit on values that compare themselves.
func boundOfText(value string, t *Type, detail string, passes func(compared int) bool) (rule, error) {
	limit := reflect.New(t.goType).Elem()
	if wrong := t.parseText(value, limit); wrong != "" {
		return rule{}, fmt.Errorf("%q %s", value, wrong)
	}
	compare := compareOf(t.goType)
	of := func(v reflect.Value) int { return int(compare.Call([]reflect.Value{v, limit})[0].Int()) }
	return rule{want: value, detail: detail, edge: limit, against: of,
		holds: func(v reflect.Value) bool { return passes(of(v)) }}, nil
}

// formatOfText holds a value against a format, as the text that it is written as.
func formatOfText(t *Type, holds func(string) bool) func(reflect.Value) bool {
	return func(v reflect.Value) bool {
		texts, err := t.texts(v)
		return err == nil && len(texts) == 1 && holds(texts[0])
	}
}

func parseFormat(value string, t *Type) (rule, error) {
	f, known := formats[value]
	if !known {
		return rule{}, fmt.Errorf("unknown format %q (known: %s)", value,
			strings.Join(slices.Sorted(maps.Keys(formats)), ", "))
	}
	if t.shape == encoded {
		return rule{want: value, detail: f.detail, holds: formatOfText(t, f.holds)}, nil
	}
	return textRule(value, f.detail, f.holds), nil
}
