package sets

import (
	"regexp/syntax"
	"slices"
	"strings"
	"unicode/utf8"
)

// ofFormats are texts of the formats that are checked.
var ofFormats = map[string]string{
	"date-time": "2027-05-04T09:30:00Z", "date": "2027-05-04", "time": "09:30:00Z", "duration": "PT30M",
	"email": "keeper@canal.example", "hostname": "canal.example", "ipv4": "192.0.2.7", "ipv6": "2001:db8::7", "regex": "^[a-z]+$",
	"uri": "https://canal.example/", "uri-reference": "/locks", "uuid": "6f1b2c3d-4e5f-4a6b-8c7d-9e0f1a2b3c4d", "json-pointer": "/a",
}

const plainText = "text"

// longestSample bounds the texts that are made.
const longestSample = 1 << 16

func (f *flat) someTexts(like []*flat, yield func(Value) bool) bool {
	own := f.lengths()
	lengths := []int{len(plainText), own.least, 0, 1, own.least + 1}
	var texts []string
	for i, of := range append([]*flat{f}, like...) {
		l := of.lengths()
		lengths = append(lengths, l.least, l.least-1)
		if l.most >= 0 {
			lengths = append(lengths, l.most, l.most+1)
		}
		for _, s := range of.rules {
			for _, p := range s.patterns {
				texts = append(texts, textsLike(p.text, lengths)...)
			}
			for _, name := range s.formats {
				if t := ofFormats[name]; t != "" && i == 0 {
					texts = append(texts, t)
				}
			}
			for _, v := range s.enum {
				if t, is := v.(string); is {
					texts = append(texts, t, t+"x")
				}
			}
		}
	}
	for _, t := range texts {
		if !yield(t) {
			return false
		}
	}
	for _, fill := range []string{plainText, "a", "0", "A", " ", "é", "-"} {
		for _, n := range lengths {
			if n >= 0 && n <= longestSample && !yield(ofLength(fill, n)) {
				return false
			}
		}
	}
	return true
}

// ofLength repeats a text up to a number of characters.
func ofLength(fill string, n int) string {
	size := utf8.RuneCountInString(fill)
	whole := []rune(strings.Repeat(fill, n/size+1))
	return string(whole[:n])
}

// textsLike are texts that a pattern matches, with repetitions that come near to some lengths.
func textsLike(pattern string, lengths []int) (all []string) {
	re := patternOf(pattern).re
	if re == nil {
		return nil
	}
	tree, err := syntax.Parse(re.String(), syntax.Perl)
	if err != nil {
		return nil
	}
	for _, repeat := range append([]int{1, 0, 2, 3}, lengths...) {
		if repeat < 0 || repeat > 1000 {
			continue
		}
		var b strings.Builder
		writeLike(&b, tree, repeat)
		if b.Len() <= longestSample && re.MatchString(b.String()) && !slices.Contains(all, b.String()) {
			all = append(all, b.String())
		}
	}
	return all
}

// writeLike writes a text as a pattern has it; what can be repeated comes as often as asked, if it may.
func writeLike(b *strings.Builder, re *syntax.Regexp, repeat int) {
	if b.Len() > longestSample {
		return
	}
	times := func(least, most int) {
		n := max(least, repeat)
		if most >= 0 {
			n = min(n, most)
		}
		for range n {
			writeLike(b, re.Sub[0], repeat)
		}
	}
	switch re.Op {
	case syntax.OpLiteral:
		b.WriteString(string(re.Rune))
	case syntax.OpCharClass:
		b.WriteRune(oneOf(re.Rune))
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		b.WriteByte('a')
	case syntax.OpCapture:
		writeLike(b, re.Sub[0], repeat)
	case syntax.OpStar:
		times(0, -1)
	case syntax.OpPlus:
		times(1, -1)
	case syntax.OpQuest:
		times(0, 1)
	case syntax.OpRepeat:
		times(re.Min, re.Max)
	case syntax.OpConcat:
		for _, sub := range re.Sub {
			writeLike(b, sub, repeat)
		}
	case syntax.OpAlternate:
		writeLike(b, re.Sub[0], repeat)
	}
}

// oneOf is a character of a class that reads well.
func oneOf(ranges []rune) rune {
	for _, want := range "aA1_-" {
		for i := 0; i+1 < len(ranges); i += 2 {
			if ranges[i] <= want && want <= ranges[i+1] {
				return want
			}
		}
	}
	if len(ranges) == 0 {
		return 'a'
	}
	return ranges[0]
}
