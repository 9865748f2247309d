package schema

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// A rule is one keyword that values must keep.
type rule struct {
	keyword string
	want    any    // as JSON: a number, a text or a list
	detail  string // what a person is told
	holds   func(v reflect.Value) bool
	bySize  bool // only the length of a list counts, not its items

	// What holds asks, of a value that was read without reflection; nil where the
	// rule cannot be asked so.
	ofText  func(string) bool
	ofWhole func(int64) bool
	ofReal  func(float64) bool
}

type rules []rule

// hold reports whether v keeps all rules.
func (rs rules) hold(v reflect.Value) bool {
	for i := range rs {
		if !rs[i].holds(v) {
			return false
		}
	}
	return true
}

// faults lists the rules that v breaks.
func (rs rules) faults(v reflect.Value, pointer string) []Fault {
	var found []Fault
	for _, r := range rs {
		if !r.holds(v) {
			found = append(found, Fault{Pointer: pointer, Rule: r.keyword, Want: r.want, Detail: r.detail})
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
	fallback reflect.Value
	words    []string // keywords for readers: readOnly, writeOnly, deprecated
}

// A keyword makes a rule for values of a type.
type keyword struct {
	name  string
	for_  func(*Type) bool
	means string // what for_ asks, for messages
	parse func(value string, t *Type) (rule, error)
}

func isNumeric(t *Type) bool { return t.shape == integer || t.shape == number }
func isText(t *Type) bool    { return t.shape == text }
func isScalar(t *Type) bool  { return isNumeric(t) || isText(t) }
func isList(t *Type) bool    { return t.shape == list }
func isMapping(t *Type) bool { return t.shape == mapping }

// keywords are those of JSON Schema validation (draft 2020-12, section 6).
var keywords = []keyword{
	{"minimum", isNumeric, "numbers", bound("must be at least %s", func(v, limit float64) bool { return v >= limit },
		func(c int) bool { return c >= 0 })},
	{"maximum", isNumeric, "numbers", bound("must be at most %s", func(v, limit float64) bool { return v <= limit },
		func(c int) bool { return c <= 0 })},
	{"exclusiveMinimum", isNumeric, "numbers", bound("must be more than %s", func(v, limit float64) bool { return v > limit },
		func(c int) bool { return c > 0 })},
	{"exclusiveMaximum", isNumeric, "numbers", bound("must be less than %s", func(v, limit float64) bool { return v < limit },
		func(c int) bool { return c < 0 })},
	{"multipleOf", isNumeric, "numbers", parseMultiple},
	{"minLength", isText, "text", length("must have at least %d character(s)", longEnough)},
	{"maxLength", isText, "text", length("must have at most %d character(s)", shortEnough)},
	{"minItems", isList, "lists", bySize("must have at least %d item(s)", func(v reflect.Value, limit int) bool { return v.Len() >= limit })},
	{"maxItems", isList, "lists", bySize("must have at most %d item(s)", func(v reflect.Value, limit int) bool { return v.Len() <= limit })},
	{"uniqueItems", isList, "lists", parseUnique},
	{"minProperties", isMapping, "maps", size("must have at least %d member(s)", func(v reflect.Value, limit int) bool { return v.Len() >= limit })},
	{"maxProperties", isMapping, "maps", size("must have at most %d member(s)", func(v reflect.Value, limit int) bool { return v.Len() <= limit })},
	{"format", isText, "text", parseFormat},
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

// parseRules reads a rule tag for values of type t.
func parseRules(tag string, t *Type) (parsed, error) {
	settings, err := splitRules(tag)
	if err != nil {
		return parsed{}, err
	}
	var p parsed
	var errs []error
	seen := map[string]bool{}
	fallback := -1
	for i, s := range settings {
		if seen[s.keyword] {
			errs = append(errs, fmt.Errorf("rule %s: stands twice", s.keyword))
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
		case "readOnly", "writeOnly", "deprecated":
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
	if fallback >= 0 {
		errs = append(errs, p.setFallback(settings[fallback].value, t))
	}
	return p, errors.Join(errs...)
}

func (p *parsed) setFallback(value string, t *Type) error {
	if p.required {
		return errors.New("rule default: what is required needs none")
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
		known := []string{"required", "default", "readOnly", "writeOnly", "deprecated"}
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

// bound makes the parser of a limit on numbers. Whole numbers are compared as
// such, since a float64 cannot tell all of them apart.
func bound(detail string, floats func(v, limit float64) bool, ints func(compared int) bool) func(string, *Type) (rule, error) {
	return func(value string, t *Type) (rule, error) {
		limit, err := strconv.ParseFloat(value, 64)
		if err != nil || math.IsInf(limit, 0) || math.IsNaN(limit) {
			return rule{}, fmt.Errorf("%q is not a number", value)
		}
		r := rule{want: limit, detail: fmt.Sprintf(detail, value)}
		whole, wholeErr := strconv.ParseInt(value, 10, 64)
		if wholeErr == nil {
			r.want = whole
		}
		switch {
		case t.shape == number:
			r.ofReal = func(x float64) bool { return floats(x, limit) }
			r.holds = func(v reflect.Value) bool { return floats(v.Float(), limit) }
		case wholeErr != nil:
			r.holds = func(v reflect.Value) bool { return floats(asFloat(v), limit) }
		case reflect.Zero(t.goType).CanInt():
			r.ofWhole = func(n int64) bool { return ints(compare(n, whole)) }
			r.holds = func(v reflect.Value) bool { return ints(compare(v.Int(), whole)) }
		default:
			r.holds = func(v reflect.Value) bool {
				return ints(compareUint(v.Uint(), whole))
			}
		}
		return r, nil
	}
}

func compare(a, b int64) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

func compareUint(a uint64, b int64) int {
	if a > math.MaxInt64 {
		return 1
	}
	return compare(int64(a), b)
}

func asFloat(v reflect.Value) float64 {
	switch {
	case v.CanInt():
		return float64(v.Int())
	case v.CanUint():
		return float64(v.Uint())
	}
	return v.Float()
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
		return rule{want: limit, detail: text, holds: func(v reflect.Value) bool { return holds(v, limit) }}, nil
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
	return rule{want: want, detail: detail, ofText: holds, holds: func(v reflect.Value) bool { return holds(v.String()) }}
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
	re, err := compilePattern(value)
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
	r := rule{want: words, detail: "must be one of " + strings.Join(words, ", ")}
	if isText(t) {
		return textRule(words, r.detail, func(s string) bool { return slices.Contains(words, s) }), nil
	}
	numbers := make([]any, len(words))
	for i, w := range words {
		v := reflect.New(t.goType).Elem()
		if detail := t.parseText(w, v); detail != "" {
			return rule{}, fmt.Errorf("%q %s", w, detail)
		}
		numbers[i] = v.Interface()
	}
	r.want = numbers
	r.holds = func(v reflect.Value) bool { return slices.Contains(numbers, v.Interface()) }
	return r, nil
}

// parseMultiple allows a float for the rounding of binary fractions: 0.3 is a
// multiple of 0.1.
func parseMultiple(value string, t *Type) (rule, error) {
	step, err := strconv.ParseFloat(value, 64)
	if err != nil || step <= 0 || math.IsInf(step, 0) {
		return rule{}, fmt.Errorf("%q is not a number above 0", value)
	}
	r := rule{want: step, detail: "must be a multiple of " + value}
	if whole, err := strconv.ParseInt(value, 10, 64); err == nil && t.shape == integer {
		r.want = whole
		r.holds = func(v reflect.Value) bool {
			if v.CanInt() {
				return v.Int()%whole == 0
			}
			return v.Uint()%uint64(whole) == 0
		}
		return r, nil
	}
	r.holds = func(v reflect.Value) bool {
		n := asFloat(v) / step
		return math.Abs(n-math.Round(n)) <= 1e-9*math.Max(1, math.Abs(n))
	}
	return r, nil
}

func parseUnique(value string, t *Type) (rule, error) {
	if value != "" && value != "true" {
		return rule{}, fmt.Errorf("%q: write uniqueItems alone", value)
	}
	if e := t.elem.goType; !e.Comparable() || e.Kind() == reflect.Interface {
		return rule{}, fmt.Errorf("items of type %s cannot be compared", t.elem.goType)
	}
	return rule{want: true, detail: "must not have an item twice", holds: func(v reflect.Value) bool {
		seen := make(map[any]bool, v.Len())
		for i := range v.Len() {
			item := v.Index(i).Interface()
			if seen[item] {
				return false
			}
			seen[item] = true
		}
		return true
	}}, nil
}

func parseFormat(value string, _ *Type) (rule, error) {
	f, known := formats[value]
	if !known {
		return rule{}, fmt.Errorf("unknown format %q (known: %s)", value, strings.Join(slices.Sorted(maps.Keys(formats)), ", "))
	}
	return textRule(value, f.detail, f.holds), nil
}
