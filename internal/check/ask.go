package check

import (
	"reflect"

	"github.com/go-json-experiment/json"
)

// How many pieces of a text that has a fault elsewhere, and how many bytes of it, are
// decoded again for the Checks of their types. An ordinary body has fewer.
const (
	mostAsked  = 1000
	bytesAsked = 128 << 10
)

// A piece of the text holds one value without a fault.
type piece struct {
	start, end uint32
	typ        *Type
	needed     bool // or else a zero value is as good as none
}

// An asker goes over a text once more, to the pieces that are ready for the Check of
// their types, so that each is decoded once and its place is known.
type asker struct {
	skimmer
	report
	ready   []piece
	asked   int // bytes
	lenient Leniency
}

func (a *asker) value() {
	if len(a.ready) == 0 || a.report.more {
		return
	}
	a.space()
	p := a.ready[0]
	switch {
	case a.at == int(p.start):
		a.ready = a.ready[1:]
		a.at = int(p.end)
		if a.asked += a.at - int(p.start); a.asked > bytesAsked {
			a.ready = nil
			return
		}
		v := reflect.New(p.typ.goType)
		text := a.data[p.start:p.end]
		if json.Unmarshal(text, v.Interface(), a.lenient.options()) == nil && (p.needed || !v.Elem().IsZero()) {
			s := skimmer{data: text}
			s.value(p.typ, true, v.Elem()) // sets the defaults
			p.typ.judge(v.Elem(), &a.report)
		}
	case a.data[a.at] == '{':
		a.at++
		for len(a.ready) > 0 && a.skimmer.more('}') {
			a.path.push(spot{name: string(a.name())})
			a.value()
			a.path.pop()
		}
	case a.data[a.at] == '[':
		a.at++
		for i := 0; len(a.ready) > 0 && a.skimmer.more(']'); i++ {
			a.path.push(spot{index: i, item: true})
			a.value()
			a.path.pop()
		}
	default:
		a.skip()
	}
}
