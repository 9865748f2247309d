package wicketway

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"reflect"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/failure"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// choose finds the format for the answer, as the request stands now.
func (s *state) choose(r *http.Request) (offer int, varies bool, err error) {
	if c := s.target.output.Choice; c != nil {
		return c.Choose(r, s.match.Suffix, s.believes(r, c))
	}
	return 0, false, nil
}

// send answers with what a function returned, given by a pointer so that nothing is
// copied. When it returns an error another answer can be sent, or the connection is to be cut.
func (s *state) send(w http.ResponseWriter, r *http.Request, out any, offer int, varies bool) error {
	of := &s.target.part.out
	if of.pointer {
		held := reflect.ValueOf(out).Elem()
		if held.IsNil() {
			return s.nothing(r)
		}
		out = held.Interface()
	}
	to := reply{value: out}
	if of.reply {
		to = out.(replier).reply()
		if of.at != nil {
			var err error
			if to.header, err = s.withLocation(to.header, out); err != nil {
				return err
			}
		}
	}
	var err error
	kind := of.kind
	if of.open {
		if kind, err = s.open(r, &to); err != nil {
			return err
		}
	}
	if to.value != nil && isNilBelow(to.value) && !answer.HasNoContent(to.status) &&
		(kind != valueOutput || s.target.namesValue()) {
		return s.nothing(r)
	}
	if s.developing {
		s.adviseUngiven(to)
	}
	if err = s.sendOutput(w, r, to, kind, offer, varies); err == nil {
		return nil
	}
	if _, unwritten := errors.AsType[answer.Unwritten](err); unwritten {
		return err
	}
	if _, broken := errors.AsType[answer.Broken](err); broken || kind == ownOutput && !exchange.CallerLeft(s.Context) {
		return err
	}
	s.Failed(leftBy(err), nil) // there is nobody to tell
	return nil
}

// open unpacks an output of an interface type: the value in it counts as if the function had returned that.
func (s *state) open(r *http.Request, to *reply) (outputKind, error) {
	for range mostNested {
		v := reflect.ValueOf(to.value).Elem()
		if v.Kind() == reflect.Interface {
			if v.IsNil() {
				to.value = new(any)
				return valueOutput, nil
			}
			v = v.Elem()
		}
		pointer := v
		if v.Kind() != reflect.Pointer {
			pointer = reflect.New(v.Type())
			pointer.Elem().Set(v)
		}
		inner, isReply := pointer.Interface().(replier)
		_, answers := v.Interface().(Answerer)
		isStream := streamed(v.Type()) != nil
		switch {
		case (isReply || answers || isStream) && isNilInside(v):
			return noOutput, s.nothing(r)
		case isReply:
			if at, ok := inner.(located); ok {
				if location, _ := at.place(); location == "" {
					return noOutput, fmt.Errorf("the route %s answered with a %s in an interface: make it the output, so that "+
						"LocatedBy can name its route, or set its Location", s.target.line(), pointer.Type().Elem())
				}
			}
			one := inner.reply()
			if at, ok := inner.(located); ok {
				one.header, _ = s.withLocation(one.header, at)
			}
			to.status = cmp.Or(one.status, to.status)
			to.header = mergeFields(to.header, one.header)
			to.value, to.message = one.value, cmp.Or(one.message, to.message)
		case v.Type() == noneType:
			to.value = nil
			return noOutput, nil
		case answers:
			to.value = pointer.Interface()
			return ownOutput, nil
		case isStream:
			to.value = pointer.Interface()
			return streamOutput, nil
		default:
			held := v.Interface()
			if v.Kind() == reflect.Pointer && v.IsNil() {
				held = nil
			}
			to.value = &held // as the plan has it
			return valueOutput, nil
		}
	}
	return noOutput, fmt.Errorf("the route %s answered with more than %d Replies in one another", s.target.line(), mostNested)
}

func isNilInside(v reflect.Value) bool {
	return (v.Kind() == reflect.Pointer || v.Kind() == reflect.Func) && v.IsNil()
}

// mostNested bounds the Replies that interfaces hold in one another: one could hold itself.
const mostNested = 8

// mergeFields adds header fields to others, neither of which is ours to change.
func mergeFields(one, more http.Header) http.Header {
	if one == nil || more == nil {
		if one == nil {
			return more
		}
		return one
	}
	all := one.Clone()
	for name, values := range more {
		all[name] = append(all[name], values...)
	}
	return all
}

func (s *state) sendOutput(w http.ResponseWriter, r *http.Request, to reply, kind outputKind, offer int, varies bool) error {
	t := s.target
	switch {
	case kind == streamOutput && t.part.out.open:
		return s.sendOpenStream(w, r, to)
	case kind == streamOutput:
		return s.sendStream(w, r, t.output, to, offer)
	case kind == ownOutput:
		return s.sendOwn(w, r, to)
	case kind == noOutput && to.value == nil: // None in an interface
		return answer.SendNone(w, to.status, to.header)
	}
	if t.pages() {
		p := to.value.(pager)
		parameter := t.input.QueryField(p.parameter())
		to.header = withLinks(to.header, r, parameter, p)
		if s.developing && parameter == "" && len(p.links()) > 0 {
			s.advise("%s gives a page with neighbours, to which nothing leads: no query field of the input is a wicketway.Cursor", s.who())
		}
	}
	if err := s.checkTag(to, offer); err != nil {
		return err
	}
	to.header = s.withTag(to, r, offer)
	var broken func(string)
	var readable *answer.Readable
	if s.developing {
		broken, readable = s.adviseBroken, s.readable(r)
	}
	return t.output.Send(w, r, &answer.Sending{
		Status:  to.status,
		Header:  to.header,
		Value:   to.value,
		Route:   t.shown(),
		Message: to.message,
		Offer:   offer,
		Varies:  varies,
		Broken:  broken,

		Readable: readable,
	})
}

// readable is what a page of an answer shows in development, such as where its values lead; nil for callers that prefer JSON.
func (s *state) readable(r *http.Request) *answer.Readable {
	if !answer.PrefersPage(r) {
		return nil
	}
	t := s.target
	below := map[string]bool{} // names of things below the path, that a GET answers with
	for i := range s.api.targets {
		other := &s.api.targets[i]
		name, is := strings.CutPrefix(other.path, strings.TrimSuffix(t.path, "/")+"/{")
		if is && other.method == http.MethodGet && other.terms().version == t.terms().version && strings.Count(name, "}") == 1 && name[len(name)-1] == '}' {
			below[strings.TrimSuffix(name, "}")] = true
		}
	}
	sent := []string{s.secrets().Blank(r.Method + " " + r.URL.RequestURI()), "Host: " + r.Host}
	for _, line := range answer.Fields(r.Header) {
		if name, _, _ := strings.Cut(line, ":"); secret.Credentials.Has(name) {
			line = name + ": " + secret.Blank
		}
		sent = append(sent, line)
	}
	return &answer.Readable{Title: cmp.Or(t.shown().Summary, t.line()), NewerCode: t.terms().newerCode(), Sent: sent, Doc: s.api.doc.path, Trail: s.trail(), Lead: func(member, text string) string {
		switch {
		case answer.IsAddress(text):
			return text
		case below[member] && text != "" && text != "." && text != "..":
			return strings.TrimSuffix(route.Escaped(r.URL), "/") + "/" + url.PathEscape(text)
		}
		return ""
	}}
}

// sendOwn has an output send itself, with the status and the header fields of the Reply around it.
func (s *state) sendOwn(w http.ResponseWriter, r *http.Request, to reply) error {
	for name, values := range to.header {
		w.Header()[name] = append(w.Header()[name], values...)
	}
	own, ok := to.value.(Answerer)
	if !ok {
		own = reflect.ValueOf(to.value).Elem().Interface().(Answerer)
	}
	status := to.status
	if one, ok := own.(statusAnswerer); ok {
		if status == 0 && one.leavesStatus() {
			status = s.target.terms().answers
		}
		return one.answerAs(status, w, r)
	}
	if status != 0 {
		return fmt.Errorf("the route answered with a Reply of status %d, but its value, a %T, has one of its own", status, own)
	}
	return own.Answer(w, r)
}

// withLocation adds the address of what was created to the header fields of a reply.
func (s *state) withLocation(own http.Header, out any) (http.Header, error) {
	location, at := out.(located).place()
	if location == "" {
		var err error
		if location, err = s.location(at); err != nil {
			return nil, err
		}
	}
	if own = own.Clone(); own == nil { // the route's own is not ours to change
		own = http.Header{}
	}
	own.Set("Location", location)
	return own, nil
}

// location makes the path of the route that LocatedBy names, for an input.
func (s *state) location(at any) (string, error) {
	return s.api.targets[s.target.ties.locates].link(s.api, at)
}

// nothing is what becomes of a nil that was returned without an error: where the path names a value, there
// is none. Elsewhere a value that is nil is null; of another output the route has forgotten its
// answer.
func (s *state) nothing(r *http.Request) error {
	t := s.target
	if t.namesValue() {
		return problem.NotFound.Newf("Nothing is at %s.", r.URL.EscapedPath())
	}
	return fmt.Errorf(
		"the route %s returned nil without an error: return a value, a problem, or make the output wicketway.None",
		t.line(),
	)
}

// checkTag reports mistakes in a tag that a reply has by hand: the conditions of its callers are held
// against that of the value, so another one would never hold.
func (s *state) checkTag(to reply, offer int) error {
	t := s.target
	given := to.header.Get("Etag")
	if given == "" || !t.output.Conditional || !t.isReading() {
		return nil
	}
	tag, err := t.output.TagOf(to.value, t.shown(), offer)
	if err == nil && tag != given {
		err = fmt.Errorf(
			"the reply of %s has the Etag %s, but conditions ask for that of its value, %s: give the value a method ETag() string",
			t.line(),
			given,
			tag,
		)
	}
	return err
}

// withTag adds the entity tag of the new state to the header fields of a reply: to a PATCH, to
// what was created, and to a PUT whose body is stored as it was sent (RFC 9110, 9.3.4). It is
// the tag that a GET in the same format would answer with.
func (s *state) withTag(to reply, r *http.Request, offer int) http.Header {
	t := s.target
	if t.ties == nil || t.ties.reads < 0 || !t.ties.tagged || to.header.Get("Etag") != "" {
		return to.header
	}
	get := &s.api.targets[t.ties.reads]
	if r.Method == http.MethodPut && !s.storedAsSent(get.output, to.value, get.name) {
		return to.header
	}
	tag, err := get.output.TagOf(to.value, get.shown(), get.output.OfferLike(t.output, offer))
	if err != nil {
		return to.header // the GET reports the mistake in its tag
	}
	own := to.header.Clone()
	if own == nil {
		own = http.Header{}
	}
	own.Set("Etag", tag)
	return own
}

// storedAsSent compares a value with the body of the request, as JSON in its canonical form
// (RFC 8785).
func (s *state) storedAsSent(get *answer.Plan, value any, route string) bool {
	var sent, stored jsontext.Value
	sent = s.Received().Kept()
	stored, err := get.PlainJSON(value)
	return err == nil && sent.Canonicalize() == nil && stored.Canonicalize() == nil && string(sent) == string(stored)
}

// sendStream answers with what a stream gives.
func (s *state) sendStream(w http.ResponseWriter, r *http.Request, by *answer.Plan, to reply, form int) error {
	if s.target.input != nil && s.target.input.StreamsBody() { // HTTP/1 would end the reading when the answer begins
		_ = http.NewResponseController(w).EnableFullDuplex()
	}
	out := answer.Stream{
		Plan:    by,
		Form:    answer.StreamForm(form),
		Status:  to.status,
		Header:  to.header,
		Begins:  s.lift,
		Problem: func(err error) []byte { return s.event(err) },
		Broken:  s.adviseBroken,
	}
	err := out.Send(w, r, func(yield func(any, error) bool) {
		defer func() {
			switch v := recover(); v {
			case nil:
			case http.ErrAbortHandler:
				panic(v)
			default:
				yield(nil, failure.Caught(v))
			}
		}()
		eachOf(to.value, yield)
	})
	if broken, ok := errors.AsType[answer.Broken](err); ok && out.Form == answer.StreamEvents {
		if err = broken.Unwrap(); s.hasLeft(err) {
			s.Failed(leftBy(err), nil)
		} else {
			s.Failed(err, s.target.terms().told(s.problemFor(err))) // the caller has been told
		}
		return nil
	}
	return err
}

// sendOpenStream answers with a stream that was in an interface.
func (s *state) sendOpenStream(w http.ResponseWriter, r *http.Request, to reply) error {
	form, _, err := answer.StreamChoice.Choose(r, "", false)
	if err != nil {
		return err
	}
	return s.sendStream(w, r, s.target.openStream, to, form)
}

// event writes the problem that ends a stream of events.
func (s *state) event(err error) []byte {
	if s.hasLeft(err) {
		return nil
	}
	t := s.target.terms()
	p := t.told(s.problemFor(err))
	s.api.raise(p.Kind())
	if t.problemsAs != nil {
		var own bytes.Buffer
		how := answer.Rendering{Rendering: s.rendering(p, false), Of: s}
		if t.problemsAs.offer.Problem(&own, how.Show(p)) == nil {
			return own.Bytes()
		}
	}
	text, _ := p.Append(nil, s.rendering(p, false)) // what JSON cannot carry is left out
	return text
}

// lift takes away the time that the route has, which for a stream ends with its first item.
func (s *state) lift() {
	if s.deadline != nil {
		s.deadline.Stop()
	}
}
