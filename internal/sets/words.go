package sets

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

func escape(name string) string { return strings.NewReplacer("~", "~0", "/", "~1").Replace(name) }

// String names kinds as JSON Schema does.
func (k kinds) String() string {
	var names []string
	for _, name := range []string{"null", "boolean", "number", "integer", "string", "array", "object"} {
		if of := kindNames[name]; k&of == of {
			names = append(names, name)
			k &^= of
		}
	}
	if k&fraction != 0 {
		names = append(names, "number")
	}
	return strings.Join(names, ", ")
}

func sameValues(a, b []Value) bool {
	if len(a) != len(b) {
		return false
	}
	has := among(b)
	return !slices.ContainsFunc(a, func(v Value) bool { return !has(v) })
}

func valuesText(all []Value) string {
	var texts []string
	for _, v := range all {
		texts = append(texts, string(Text(v)))
	}
	if len(texts) > 8 {
		texts = append(texts[:8], fmt.Sprintf("and %d more", len(texts)-8))
	}
	return strings.Join(texts, ", ")
}

func boundText(all []bound) string {
	var texts []string
	for _, b := range all {
		text := b.at.text
		if b.exclusive {
			text += " (exclusive)"
		}
		texts = append(texts, text)
	}
	return strings.Join(texts, " and ")
}

func numbersText(all []*Number) string {
	var texts []string
	for _, n := range all {
		texts = append(texts, n.text)
	}
	return strings.Join(texts, " and ")
}

func patternsText(all []pattern) string {
	var texts []string
	for _, p := range all {
		texts = append(texts, p.text)
	}
	return strings.Join(texts, " and ")
}

func spanText(n, none int) string {
	if n == none {
		return ""
	}
	return strconv.Itoa(n)
}

func needsText(needs map[string][]string) (all []string) {
	for _, name := range sortedNames(needs) {
		others := slices.Clone(needs[name])
		slices.Sort(others)
		all = append(all, name+" "+strings.Join(others, " "))
	}
	return all
}
