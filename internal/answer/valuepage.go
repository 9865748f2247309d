package answer

import (
	"bytes"
	"fmt"
	"html"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/clip"
)

// What a plain page shows of a value, so that it costs no more than the value's size.
const (
	// mostColumns is how many a table of a list has. Where its objects have more members in all, each is
	// shown by itself: a cell for every member of any would be of every object.
	mostColumns = 16
	// mostLevels is how deep values are shown in each other; what is deeper is shown as JSON, and cut.
	mostLevels = 16
	// longestDeep is how much of that is shown, in bytes.
	longestDeep = 200
)

// WriteValuePage writes the plain page of a value: a table of its members, and of a list of
// objects one row for each.
func WriteValuePage(b *bytes.Buffer, title string, value any) error {
	text, err := json.Marshal(value, json.Deterministic(true))
	if err != nil {
		return err
	}
	d := jsontext.NewDecoder(bytes.NewReader(text))
	shown, err := readShown(d, 0)
	if err != nil {
		return err
	}
	openPage(b, "", 0, title)
	shown.write(b, "")
	b.WriteString("</main>\n")
	return nil
}

// A shown value was read once, for a page.
type shown struct {
	kind    jsontext.Kind // '{', '[', or that of a text
	text    string
	members []shownMember
	items   []shown
	lead    func(member, text string) string // of the outermost one; nil: values lead nowhere
}

type shownMember struct {
	name  string
	value shown
}

// readShown reads the next value.
func readShown(from *jsontext.Decoder, level int) (v shown, err error) {
	v.kind = from.PeekKind()
	if isNested := v.kind == '{' || v.kind == '['; isNested && level == mostLevels {
		deep, err := from.ReadValue()
		return shown{kind: '"', text: clip.Text(string(deep), longestDeep)}, err
	} else if !isNested {
		token, err := from.ReadToken()
		return shown{kind: v.kind, text: token.String()}, err
	}
	if _, err = from.ReadToken(); err != nil {
		return v, err
	}
	for from.PeekKind() != '}' && from.PeekKind() != ']' {
		var m shownMember
		if v.kind == '{' {
			name, err := from.ReadToken()
			if err != nil {
				return v, err
			}
			m.name = name.String()
		}
		if m.value, err = readShown(from, level+1); err != nil {
			return v, err
		}
		if v.kind == '{' {
			v.members = append(v.members, m)
		} else {
			v.items = append(v.items, m.value)
		}
	}
	_, err = from.ReadToken()
	return v, err
}

// write writes objects as tables, lists as rows or lines, the rest as text, which may lead further by the name of its member.
func (v *shown) write(b *bytes.Buffer, member string) { (&showing{b, v.lead}).value(v, member) }

// A showing writes a value.
type showing struct {
	*bytes.Buffer
	lead func(member, text string) string
}

func (b *showing) value(v *shown, member string) {
	switch v.kind {
	case '{':
		b.WriteString("<table>\n")
		for i := range v.members {
			fmt.Fprintf(b, "<tr><th>%s</th><td>", html.EscapeString(v.members[i].name))
			b.value(&v.members[i].value, v.members[i].name)
			b.WriteString("</td></tr>\n")
		}
		b.WriteString("</table>\n")
	case '[':
		if columns := v.columns(); columns != nil {
			b.rows(v, columns)
		} else {
			b.lines(v, member)
		}
	case 'n':
		b.WriteString("–")
	default:
		to := ""
		if b.lead != nil && (v.kind == '"' || v.kind == '0') {
			to = b.lead(member, v.text)
		}
		if to == "" {
			b.WriteString(html.EscapeString(v.text))
		} else {
			b.WriteString(link(to, v.text))
		}
	}
}

func (b *showing) lines(v *shown, member string) {
	b.WriteString("<ul>\n")
	for i := range v.items {
		b.WriteString("<li>")
		b.value(&v.items[i], member)
		b.WriteString("</li>\n")
	}
	b.WriteString("</ul>\n")
}

// rows writes a list of objects as one table.
func (b *showing) rows(v *shown, columns []string) {
	b.WriteString("<table class=\"list\">\n<tr>")
	for _, c := range columns {
		fmt.Fprintf(b, "<th>%s</th>", html.EscapeString(c))
	}
	b.WriteString("</tr>\n")
	for i := range v.items {
		b.WriteString("<tr>")
		for _, c := range columns {
			b.WriteString("<td>")
			for j := range v.items[i].members {
				if m := &v.items[i].members[j]; m.name == c {
					b.value(&m.value, c)
				}
			}
			b.WriteString("</td>")
		}
		b.WriteString("</tr>\n")
	}
	b.WriteString("</table>\n")
}

// columns lists the members of objects, in the order in which they first come; nil where an item is
// none, and where there are too many.
func (v *shown) columns() (columns []string) {
	seen := map[string]bool{}
	for i := range v.items {
		if v.items[i].kind != '{' {
			return nil
		}
		for _, m := range v.items[i].members {
			if seen[m.name] {
				continue
			}
			if seen[m.name] = true; len(columns) == mostColumns {
				return nil
			}
			columns = append(columns, m.name)
		}
	}
	return columns
}
