package statements

import (
	"cmp"
	"context"
	"database/sql/driver"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/observe/trail"
)

// The bounds of what is noted of a statement: bytes of its text that are looked at, its values, and bytes of one.
const (
	longestStatement = 16 << 10
	mostValues       = 60
	longestValue     = 200
)

// statement is the event of a statement; an empty one where no trail is kept.
func statement(ctx context.Context, query string, values []driver.NamedValue) trail.Event {
	e := trail.Event{Kind: trail.Statement}
	if !trail.Keeps(ctx) {
		return e
	}
	s := read(query)
	e.Text, e.Writes = s.text, s.writes()
	for _, v := range values[:min(len(values), mostValues)] {
		to := s.place(v, len(values))
		name := cmp.Or(v.Name, to.name)
		text := secret.Blank
		if !to.secret && !secret.Known.Has(name) {
			text = valueText(v.Value)
		}
		if name != "" {
			text = name + " = " + text
		}
		e.Values = append(e.Values, text)
	}
	if left := len(values) - mostValues; left > 0 {
		e.Values = append(e.Values, fmt.Sprintf("… %d more", left))
	}
	return e
}

// valueText is a value as text.
func valueText(v driver.Value) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case []byte:
		return fmt.Sprintf("(%d bytes)", len(v))
	case string:
		return strconv.Quote(clip.Text(v, longestValue))
	case time.Time:
		return v.Format(time.RFC3339Nano)
	}
	return clip.Text(fmt.Sprint(v), longestValue)
}

// A readStatement is what can be told of one without knowing the language of the database.
type readStatement struct {
	text   string   // on one line, without the literals that are secret
	words  []string // that it has, in lower case
	named  bool     // it can have the name of a secret in it
	whole  bool     // its quotations and comments end
	places []place  // of values
}

// A place is where a value is put into a statement.
type place struct {
	text   string // of the placeholder: ?, $2, :lock
	name   string // of the column; "" where that cannot be told
	secret bool
}

// place is that of a value, of so many. All are secret where the statement was not understood, and has others.
func (s readStatement) place(v driver.NamedValue, of int) place {
	switch {
	case len(s.places) != of || !s.whole:
		return place{secret: true}
	case v.Name == "":
		return s.places[v.Ordinal-1]
	}
	for _, p := range s.places {
		if p.text[1:] == v.Name {
			return p
		}
	}
	return place{secret: true}
}

// connectingWords are between a column and its value, and clauseWords begin what no column before them is in.
var (
	connectingWords = []string{"and", "or", "not", "in", "is", "like", "ilike", "glob", "between", "any", "all", "some", "escape", "as"}
	clauseWords     = []string{"select", "from", "where", "having", "set", "values", "on", "by", "when", "then", "else", "case", "returning", "using"}
)

// writingWords begin statements that change stored data, where they are words of a statement at all.
var writingWords = []string{"insert", "update", "delete", "replace", "merge", "upsert", "truncate"}

// writes reports whether a statement changes stored data, as far as its words tell.
func (s readStatement) writes() bool {
	for i, w := range s.words {
		if slices.Contains(writingWords, w) {
			return true
		}
		if i == 0 && w != "with" && w != "explain" {
			return false
		}
	}
	return false
}

// read reads a statement.
func read(query string) (s readStatement) {
	query = clip.Text(query, longestStatement)
	all, whole := tokens(query)
	s.whole, s.named = whole, !whole // it can have anything in it
	for i, t := range all {
		if t.kind != word {
			continue
		}
		s.named = s.named || secret.Known.Has(t.name())
		if i+1 == len(all) || all[i+1].text != "(" { // no function
			s.words = append(s.words, strings.ToLower(t.text))
		}
	}
	columns := columnsOf(all)
	var b strings.Builder
	end, near := 0, "" // near is the last word of the clause that can be what a value is compared with, or put into
	for i, t := range all {
		if t.from > end && b.Len() > 0 {
			b.WriteByte(' ')
		}
		end = t.from + len(t.text)
		if t.kind != placeholder && t.kind != literal {
			b.WriteString(t.text)
			switch lower := strings.ToLower(t.text); {
			case t.text == ";", t.kind == word && slices.Contains(clauseWords, lower):
				near = ""
			case t.kind != word, slices.Contains(connectingWords, lower), i+1 < len(all) && all[i+1].text == "(": // a function
			default:
				near = t.name()
			}
			continue
		}
		column, behind := columns[i], after(all, i)
		if column == "" {
			column = cmp.Or(near, behind)
		}
		secretly := s.named && column == "" || secret.Known.Has(column) || secret.Known.Has(behind)
		switch {
		case t.kind == placeholder:
			b.WriteString(t.text)
			s.put(t.text, column, secretly)
		case secretly && (column != "" || len(t.text) >= shortest):
			b.WriteString(secret.Blank)
		default:
			b.WriteString(t.text)
		}
	}
	s.text = b.String()
	return s
}

// shortest is the length from which on a literal can be a secret where nobody can tell.
const shortest = 4

// put puts a place in: that of a number, or of a name, is one wherever it is.
func (s *readStatement) put(text, name string, secretly bool) {
	at := len(s.places)
	if n, err := strconv.Atoi(text[1:]); err == nil && n > 0 && n <= mostValues { // ?3, $3
		at = n - 1
	} else if i := slices.IndexFunc(s.places, func(p place) bool { return text != "?" && p.text == text }); i >= 0 {
		at = i
	}
	for len(s.places) <= at {
		s.places = append(s.places, place{text: text})
	}
	s.places[at] = place{text, cmp.Or(s.places[at].name, name), s.places[at].secret || secretly}
}

// after is the word behind an operator that follows a value; "" where there is none.
func after(all []token, at int) string {
	if at+2 < len(all) && all[at+1].kind == other && all[at+2].kind == word && !strings.ContainsAny(all[at+1].text, "(),;") {
		return all[at+2].name()
	}
	return ""
}

// columnsOf ties the values of INSERT INTO table (columns) VALUES (values), (values) to their columns, by the number of the
// token.
func columnsOf(all []token) map[int]string {
	tied := map[int]string{}
	for i := 0; i < len(all); i++ {
		if !all[i].is("into") {
			continue
		}
		i++
		for i < len(all) && (all[i].kind == word || all[i].text == ".") {
			i++
		}
		if i >= len(all) || all[i].text != "(" {
			continue
		}
		var columns []string
		for i++; i < len(all) && all[i].text != ")"; i++ {
			if all[i].kind == word {
				columns = append(columns, all[i].name())
			}
		}
		if i++; i >= len(all) || !all[i].is("values") {
			continue
		}
		depth, column := 0, 0
		for i++; i < len(all); i++ {
			switch t := all[i]; {
			case t.text == "(":
				if depth++; depth == 1 {
					column = 0
				}
			case t.text == ")":
				depth--
			case t.text == "," && depth == 1:
				column++
			case (t.kind == placeholder || t.kind == literal) && depth > 0 && column < len(columns):
				tied[i] = columns[column]
			case depth == 0 && t.text != ",":
				return tied
			}
		}
	}
	return tied
}

// A token is a piece of a statement.
type token struct {
	kind tokenKind
	text string
	from int
}

// name is that of a column or a table, without quotes.
func (t token) name() string { return strings.Trim(t.text, "\"`") }

func (t token) is(text string) bool { return t.kind == word && strings.EqualFold(t.text, text) }

type tokenKind uint8

const (
	other tokenKind = iota
	word
	placeholder
	literal
)

// tokens splits a statement, as SQL of all databases has it. Comments are left out. It is not whole where a quotation or a
// comment does not end.
func tokens(query string) (all []token, whole bool) {
	whole = true
	isWord := func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) || r == '_' || r == '$' }
	span := func(from int, while func(rune) bool) int {
		for i, r := range query[from:] {
			if !while(r) {
				return from + i
			}
		}
		return len(query)
	}
	for i := 0; i < len(query); {
		from := i
		kind := other
		switch c := query[i]; {
		case c == ' ' || c == '\n' || c == '\t' || c == '\r':
			i++
			continue
		case strings.HasPrefix(query[i:], "--"):
			i = span(i, func(r rune) bool { return r != '\n' })
			continue
		case strings.HasPrefix(query[i:], "/*"):
			end := strings.Index(query[i+2:], "*/")
			if i = from + 2 + end + 2; end < 0 {
				return all, false
			}
			continue
		case c == '\'':
			kind = literal
			i, whole = quoted(query, i, whole)
		case c == '"' || c == '`':
			kind = word
			i, whole = quoted(query, i, whole)
		case c == '?':
			kind, i = placeholder, span(i+1, unicode.IsDigit)
		case (c == '$' || c == ':' || c == '@') && i+1 < len(query) && isWord(rune(query[i+1])) && (i == 0 || query[i-1] != ':'):
			kind, i = placeholder, span(i+1, isWord)
		case c >= '0' && c <= '9':
			kind, i = literal, span(i, func(r rune) bool { return isWord(r) || r == '.' })
		default:
			if i = span(i, isWord); i > from {
				kind = word
			} else if i = span(from, func(r rune) bool { return strings.ContainsRune("=<>!|&+-*/%^~#:", r) }); i == from {
				_, size := utf8.DecodeRuneInString(query[from:])
				i = from + size
			}
		}
		all = append(all, token{kind, query[from:i], from})
	}
	return all, whole
}

// quoted is the end of a text in quotes, which are doubled in it; where it has none the statement is not whole.
func quoted(query string, from int, whole bool) (int, bool) {
	by := query[from]
	for i := from + 1; i < len(query); i++ {
		if query[i] != by {
			continue
		}
		if i+1 < len(query) && query[i+1] == by {
			i++
			continue
		}
		return i + 1, whole
	}
	return len(query), false
}
