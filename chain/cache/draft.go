package cache

import (
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
)

// A draft is an answer that is held back until it is whole. Those who wait for it then need not
// wait for the one who reads it first, however slowly that is. What is not to be kept is passed on as
// it comes, from its header on.
type draft struct {
	to     http.ResponseWriter
	before http.Header // what was set further out
	header http.Header // the same, and what is set further in
	most   int         // bytes that are held

	// judge is asked once, when the status and the header are known, what becomes of the answer.
	judge func() verdict
	// lost is called once it is certain that it is not kept, and whole once all of it is there.
	lost, whole func()

	status   int
	final    http.Header // the header as it was with the status
	body     []byte
	expected int // bytes of the body; -1: not known
	state    draftState
}

// A verdict says what becomes of an answer.
type verdict uint8

const (
	passes  verdict = iota // it goes out as it comes
	isHeld                 // until it is whole
	dropped                // nobody gets it
)

type draftState uint8

const (
	isOpen draftState = iota
	isPassed
	isComplete
	isDropped
)

// newDraft makes a draft of an answer to w.
func newDraft(w http.ResponseWriter, most int) *draft {
	before := w.Header().Clone()
	if before == nil {
		before = http.Header{}
	}
	return &draft{to: w, before: before, header: maps.Clone(before), most: most, expected: -1}
}

func (d *draft) Header() http.Header { return d.header }

// Unwrap serves http.ResponseController: deadlines are those of the connection.
func (d *draft) Unwrap() http.ResponseWriter { return d.to }

func (d *draft) WriteHeader(status int) {
	switch {
	case d.status != 0:
		return
	case status < 200 && status != http.StatusSwitchingProtocols: // an interim answer (RFC 9110, 15.2)
		d.copyHeader(d.header)
		d.to.WriteHeader(status)
		return
	}
	d.status, d.final = status, d.header.Clone()
	if n, err := strconv.Atoi(d.final.Get("Content-Length")); err == nil {
		d.expected = n
	}
	switch v := d.judge(); {
	case v == dropped:
		d.state = isDropped
	case v == passes || d.expected > d.most:
		d.pass()
	case d.expected == 0:
		d.finish()
	}
}

func (d *draft) Write(p []byte) (int, error) {
	if d.status == 0 {
		d.WriteHeader(http.StatusOK)
	}
	if d.state == isOpen && len(d.body)+len(p) > d.most {
		d.pass()
	}
	switch d.state {
	case isDropped:
		return len(p), nil
	case isOpen:
		if d.body = append(d.body, p...); len(d.body) == d.expected {
			d.finish()
		}
		return len(p), nil
	}
	return d.to.Write(p)
}

// FlushError passes on what there is: an answer that is sent in pieces is not kept.
func (d *draft) FlushError() error {
	if d.status == 0 {
		d.WriteHeader(http.StatusOK)
	}
	if d.state == isDropped {
		return nil
	}
	d.pass()
	return http.NewResponseController(d.to).Flush()
}

// pass gives up holding.
func (d *draft) pass() {
	if d.state == isOpen {
		d.state = isPassed
		d.lost()
		d.send()
	}
}

// finish is called when the whole answer is there.
func (d *draft) finish() {
	if d.state == isOpen && d.status != 0 {
		d.state = isComplete
		d.whole()
		d.send()
	}
}

// send passes on what was held.
func (d *draft) send() {
	d.copyHeader(d.final)
	d.to.WriteHeader(d.status)
	if len(d.body) > 0 {
		d.to.Write(d.body)
	}
	d.body = nil
}

// copyHeader makes the header further out what it would be without the draft.
func (d *draft) copyHeader(from http.Header) {
	h := d.to.Header()
	for name := range h {
		if _, stays := from[name]; !stays {
			delete(h, name)
		}
	}
	for name, values := range from {
		h[name] = slices.Clone(values)
	}
}

// end is called when the handler has returned: what has no length is whole then. Trailers (RFC 9110,
// 6.5) are in the header by now.
func (d *draft) end() {
	switch {
	case d.state == isDropped:
		return
	case d.status == 0:
		d.copyHeader(d.header) // whoever is further out answers with it
		return
	}
	d.finish()
	for name, values := range d.header {
		if strings.HasPrefix(name, http.TrailerPrefix) || announces(d.final, name) {
			d.to.Header()[name] = values
		}
	}
}

// announces reports whether a field was announced as a trailer.
func announces(h http.Header, name string) bool {
	for _, line := range h["Trailer"] {
		for one := range strings.SplitSeq(line, ",") {
			if strings.EqualFold(strings.TrimSpace(one), name) {
				return true
			}
		}
	}
	return false
}

// fields are what was set further in, or was added to what there was: all that is kept. Of Vary
// everything counts, since nobody knows who else means it.
func (d *draft) fields() http.Header {
	own := http.Header{}
	for name, values := range d.final {
		before := d.before[name]
		if name != "Vary" && len(before) > 0 && len(values) >= len(before) && slices.Equal(values[:len(before)], before) {
			values = values[len(before):]
		}
		if len(values) > 0 {
			own[name] = slices.Clone(values)
		}
	}
	return own
}
