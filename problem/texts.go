package problem

import (
	"fmt"
	"strings"

	"github.com/wicketway/wicketway/internal/clip"
)

// Texts are the sentences of problems in another language than the one in which they are made. Codes, statuses,
// members, rules and bounds stay as they are. A text that is missing is told in the original language. Texts must not be
// changed once they are used, and are then safe to share.
type Texts struct {
	// Language is a language tag (RFC 5646), such as de or pt-BR.
	Language string
	// Titles and Details are by the code of a problem. A detail is sent where the problem has one; {lock} in it stands
	// for the member lock of the problem, and {errors} for the number of its faults.
	Titles  map[string]string
	Details map[string]string
	// Rules are the details of faults, by their rule; {want} stands for the bound, such as 40, or up, down.
	Rules map[string]string
}

// Title is that of a kind of problem.
func (t *Texts) Title(k *Kind) (title string, known bool) {
	if t != nil {
		if title, known = t.Titles[k.code]; known {
			return title, true
		}
	}
	return k.title, t == nil
}

// Detail is that of a problem; "" where it has none.
func (t *Texts) Detail(p *Problem) (detail string, known bool) {
	if t == nil || p.detail == "" {
		return p.detail, true
	}
	if detail, known = t.Details[p.kind.code]; !known {
		return p.detail, false
	}
	return fill(detail, func(name string) (any, bool) {
		if name == "errors" {
			return len(p.items), true
		}
		for _, m := range p.members {
			if m.name == name {
				return m.value, true
			}
		}
		return nil, false
	}), true
}

// Item is a fault as it is told.
func (t *Texts) Item(i Item) (told Item, known bool) {
	if t == nil {
		return i, true
	}
	detail, known := t.Rules[i.Rule]
	if known {
		i.Detail = fill(detail, func(name string) (any, bool) { return i.Want, name == "want" && i.Want != nil })
	}
	return i, known
}

// Items are the faults of a problem as they are told.
func (t *Texts) Items(p *Problem) []Item {
	if t == nil {
		return p.items
	}
	told := make([]Item, len(p.items))
	for n, i := range p.items {
		told[n], _ = t.Item(i)
	}
	return told
}

// Complete reports whether all that is told of a problem is in the language.
func (t *Texts) Complete(p *Problem) bool {
	_, title := t.Title(p.kind)
	_, detail := t.Detail(p)
	for _, i := range p.items {
		if _, known := t.Item(i); !known {
			return false
		}
	}
	return title && detail
}

// fill puts values in the place of their names in braces; one that is not known stays.
func fill(text string, value func(name string) (any, bool)) string {
	if !strings.Contains(text, "{") {
		return text
	}
	var b strings.Builder
	for {
		before, after, open := strings.Cut(text, "{")
		b.WriteString(before)
		if !open {
			return b.String()
		}
		name, rest, closed := strings.Cut(after, "}")
		if v, known := value(name); closed && known {
			b.WriteString(clip.Text(plain(v), longestName))
			text = rest
			continue
		}
		b.WriteByte('{')
		text = after
	}
}

// plain writes a value as a person reads it.
func plain(v any) string {
	switch v := v.(type) {
	case []string:
		return strings.Join(v, ", ")
	case []any:
		words := make([]string, len(v))
		for i := range v {
			words[i] = fmt.Sprint(v[i])
		}
		return strings.Join(words, ", ")
	}
	return fmt.Sprint(v)
}
