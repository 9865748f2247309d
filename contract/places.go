package contract

import (
	"bytes"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// A Place is where something is in a text: line and column, in bytes, from 1.
type Place struct{ Line, Column int }

// Places finds where the values at some JSON Pointers begin in a text of JSON, or the nearest ones around them. It reads the
// text once.
func Places(text []byte, pointers []string) []Place {
	root := &pointed{}
	for i, pointer := range pointers {
		at := root
		for token := range strings.SplitSeq(strings.TrimPrefix(pointer, "/"), "/") {
			if pointer == "" {
				break
			}
			at = at.below(unescape(token))
		}
		at.asked = append(at.asked, i)
	}
	p := placing{newReading(text), make([]Place, len(pointers)), 0, Place{1, 1}}
	p.value(root)
	return p.found
}

// A pointed value is one that pointers lead to, or through.
type pointed struct {
	asked []int // numbers of pointers
	by    map[string]*pointed
}

func (p *pointed) below(token string) *pointed {
	if p.by == nil {
		p.by = map[string]*pointed{}
	}
	if p.by[token] == nil {
		p.by[token] = new(pointed)
	}
	return p.by[token]
}

// all are the numbers of the pointers at and below a value.
func (p *pointed) all() []int {
	all := p.asked
	for _, one := range p.by {
		all = append(all, one.all()...)
	}
	return all
}

type placing struct {
	in    *reading
	found []Place
	last  int64 // the offset of the place that was found last
	at    Place
}

// place moves on to an offset, which is never before the last one.
func (p *placing) place(offset int64) Place {
	between := p.in.text[p.last:offset]
	if n := bytes.Count(between, []byte("\n")); n > 0 {
		p.at.Line += n
		p.at.Column = len(between) - bytes.LastIndexByte(between, '\n')
	} else {
		p.at.Column += len(between)
	}
	p.last = offset
	return p.at
}

// value finds what is asked for in the value that comes next.
func (p *placing) value(of *pointed) (err error) {
	here := p.place(p.in.here())
	for _, i := range of.all() {
		p.found[i] = here
	}
	d := p.in.d
	switch kind := d.PeekKind(); {
	case len(of.by) == 0:
		return d.SkipValue()
	case kind == jsontext.KindBeginObject:
		if _, err = d.ReadToken(); err != nil {
			return err
		}
		for d.PeekKind() == jsontext.KindString && err == nil {
			var name string
			if name, err = p.in.name(); err == nil {
				err = p.next(of.by[name])
			}
		}
	case kind == jsontext.KindBeginArray:
		if _, err = d.ReadToken(); err != nil {
			return err
		}
		for i := 0; d.PeekKind() != jsontext.KindEndArray && d.PeekKind() != jsontext.KindInvalid && err == nil; i++ {
			err = p.next(of.by[strconv.Itoa(i)])
		}
	default:
		return d.SkipValue()
	}
	if err == nil {
		_, err = d.ReadToken()
	}
	return err
}

func (p *placing) next(of *pointed) error {
	if of == nil {
		return p.in.d.SkipValue()
	}
	return p.value(of)
}
