package probe

import (
	"net/url"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/requests"
)

// smaller gives the smallest exchange found that still shows something. Requests are sent again for it, so that what shows
// itself only once stays as it is.
func (p *prober) smaller(x *exchange, still func(*exchange) bool) *exchange {
	budget := mostSmaller
	for again := true; again; {
		again = false
		for _, r := range smallerThan(x.request) {
			if budget < 0 || !p.may(x.o) {
				return x
			}
			if !p.stillWrong(x, r) {
				continue
			}
			budget--
			if other := p.send(x.o, r, x.caller); still(other) {
				x, again = other, true
				break
			}
		}
	}
	x.o.why = ""
	return x
}

// stillWrong reports whether a smaller request has the fault of the one that it was made of.
func (p *prober) stillWrong(x *exchange, r requests.Request) bool {
	was := x.request
	if was.Wrong == "" {
		return true
	}
	if p.maker.Refuses(x.o.method, x.o.path, was) && !p.maker.Refuses(x.o.method, x.o.path, r) {
		return false
	}
	of, _, _ := strings.Cut(was.Wrong, " ")
	switch of {
	case "query", "path":
		return r.Target == was.Target
	case "the": // a member of the body, or all of it
		return true
	}
	return len(r.Header) == len(was.Header)
}

// smallerThan are requests with one thing less each: a header field, a parameter of the query, a member, most of a text.
func smallerThan(r requests.Request) (all []requests.Request) {
	for i := range r.Header {
		if r.Header[i].Name == "Content-Type" {
			continue
		}
		less := r
		less.Header = slices.Delete(slices.Clone(r.Header), i, i+1)
		all = append(all, less)
	}
	path, query, _ := strings.Cut(r.Target, "?")
	if values, err := url.ParseQuery(query); err == nil {
		for name := range values {
			less := r
			other, _ := url.ParseQuery(query)
			if other.Del(name); len(other) == 0 {
				less.Target = path
			} else {
				less.Target = path + "?" + other.Encode()
			}
			all = append(all, less)
		}
	}
	slices.SortStableFunc(all, func(a, b requests.Request) int { return strings.Compare(a.Target, b.Target) })
	if jsontext.Value(r.Body).IsValid() {
		for _, body := range smallerValues(r.Body, 0) {
			less := r
			less.Body = body
			all = append(all, less)
		}
	}
	return all
}

// deepestLess is how far values are followed to make them smaller.
const deepestLess = 6

// smallerValues are values with one thing less each.
func smallerValues(value jsontext.Value, depth int) (all []jsontext.Value) {
	if depth > deepestLess {
		return nil
	}
	switch value.Kind() {
	case jsontext.KindBeginObject:
		s := contract.SchemaOf(value)
		for name := range s.Members() {
			all = append(all, s.Without(name).Text())
		}
		for name, one := range s.Members() {
			for _, less := range smallerValues(one, depth+1) {
				all = append(all, s.With(name, less).Text())
			}
		}
	case jsontext.KindBeginArray:
		var items []jsontext.Value
		if json.Unmarshal(value, &items); len(items) > 1 {
			for _, piece := range [][]jsontext.Value{items[:1], items[:len(items)/2], items[len(items)/2:]} {
				if text, err := json.Marshal(piece); err == nil && len(text) < len(value) {
					all = append(all, text)
				}
			}
		}
	case jsontext.KindString:
		var text string
		json.Unmarshal(value, &text)
		if runes := []rune(text); len(runes) > 1 {
			for _, piece := range []string{string(runes[:1]), string(runes[:len(runes)/2])} {
				less, _ := jsontext.AppendQuote(nil, piece)
				all = append(all, less)
			}
		}
	}
	return all
}
