package check

import (
	"regexp/syntax"
)

// A sequence is a pattern of the common kind, such as ^[A-Z]{2}-[0-9]{4}$: sets of
// ASCII characters one after the other, each repeated, from the start of the text
// to its end. It is matched in one pass, several times as fast as by a general
// regular expression.
type sequence []repeated

type repeated struct {
	set      [2]uint64 // of ASCII characters
	min, max int       // max -1: any number
}

func (r *repeated) has(c byte) bool { return c < 128 && r.set[c>>6]>>(c&63)&1 == 1 }

// match reports whether the whole text is one of the sequence.
func (q sequence) match(s string) bool {
	at := 0
	for i := range q {
		n := 0
		for ; at < len(s) && n != q[i].max && q[i].has(s[at]); n++ {
			at++
		}
		if n < q[i].min {
			return false
		}
	}
	return at == len(s)
}

// asSequence finds the sequence that a pattern is; nil where it is none. Taking as
// many characters as possible at once is right only where the next set has none
// of them in common, so others are none.
func asSequence(pattern string) sequence {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil || re.Op != syntax.OpConcat || len(re.Sub) < 3 ||
		re.Sub[0].Op != syntax.OpBeginText || re.Sub[len(re.Sub)-1].Op != syntax.OpEndText {
		return nil
	}
	var q sequence
	for _, sub := range re.Sub[1 : len(re.Sub)-1] {
		if sub.Op == syntax.OpLiteral && len(sub.Rune) > 1 && sub.Flags&syntax.FoldCase == 0 {
			for _, r := range sub.Rune {
				one := repeated{min: 1, max: 1}
				if !one.add(r, r) {
					return nil
				}
				q = append(q, one)
			}
			continue
		}
		one, ok := asRepeated(sub)
		if !ok {
			return nil
		}
		q = append(q, one)
	}
	for i := range len(q) - 1 {
		common := q[i].set[0]&q[i+1].set[0] | q[i].set[1]&q[i+1].set[1]
		if q[i].min != q[i].max && (common != 0 || q[i+1].min == 0) {
			return nil
		}
	}
	return q
}

func asRepeated(re *syntax.Regexp) (repeated, bool) {
	r := repeated{min: 1, max: 1}
	switch re.Op {
	case syntax.OpRepeat:
		r.min, r.max = re.Min, re.Max
	case syntax.OpStar:
		r.min, r.max = 0, -1
	case syntax.OpPlus:
		r.min, r.max = 1, -1
	case syntax.OpQuest:
		r.min, r.max = 0, 1
	}
	if re.Op == syntax.OpRepeat || re.Op == syntax.OpStar || re.Op == syntax.OpPlus || re.Op == syntax.OpQuest {
		re = re.Sub[0]
	}
	if re.Flags&syntax.FoldCase != 0 {
		return r, false
	}
	switch {
	case re.Op == syntax.OpLiteral && len(re.Rune) == 1:
		return r, r.add(re.Rune[0], re.Rune[0])
	case re.Op == syntax.OpCharClass:
		for i := 0; i < len(re.Rune); i += 2 {
			if !r.add(re.Rune[i], re.Rune[i+1]) {
				return r, false
			}
		}
		return r, true
	}
	return r, false
}

// add puts a range into the set; false where it goes beyond ASCII.
func (r *repeated) add(low, high rune) bool {
	if high > 127 {
		return false
	}
	for c := low; c <= high; c++ {
		r.set[c>>6] |= 1 << (c & 63)
	}
	return true
}
