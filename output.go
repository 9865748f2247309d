package wicketway

import (
	"bytes"
	"cmp"
	"fmt"
	"net/http"
	"reflect"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/schema"
)

// Reply is an output with a status and header fields of its own. A route may answer
// with a *Reply as well, so that a failing return is nil, err.
type Reply[T any] struct {
	// Status is 200 to 299; 0 leaves what Answers says.
	Status int
	// Header is added to the answer.
	Header http.Header
	Value  T
}

func (r Reply[T]) reply() (int, http.Header, any) { return r.Status, r.Header, r.Value }
func (Reply[T]) value() reflect.Type              { return reflect.TypeFor[T]() }

var replierType = reflect.TypeFor[replier]()

// A replier is a Reply of any type.
type replier interface {
	reply() (status int, header http.Header, value any)
	value() reflect.Type
}

// An output is the plan for sending a route's output type.
type output struct {
	status      int
	empty       bool   // the type is None
	reply       bool   // the type is a Reply, or a pointer to one
	pointer     bool   // the type, or the value of a Reply, can be nil where that is no answer
	page        string // the query parameter of a Page's cursor
	envelope    string // the member around the value
	conditional bool
	promise     *schema.Type // what to hold the output against, in development
}

func compileOutput(at *site, t reflect.Type, in *inputPlan) output {
	o := output{
		status:      at.target.answers,
		envelope:    at.target.envelope,
		conditional: at.target.conditional,
	}
	if t.Kind() == reflect.Pointer && t.Implements(replierType) {
		o.pointer = true
		t = t.Elem()
	}
	if t.Implements(replierType) && t.Kind() == reflect.Struct {
		o.reply = true
		t = reflect.Zero(t).Interface().(replier).value()
	}
	o.pointer = o.pointer || t.Kind() == reflect.Pointer || t.Kind() == reflect.Interface
	o.empty = t == reflect.TypeFor[None]()
	switch {
	case o.empty && o.status == 0:
		o.status = http.StatusNoContent
	case o.status == 0:
		o.status = http.StatusOK
	case hasNoContent(o.status) && !o.empty:
		at.mistakef("Answers: %d has no content (RFC 9110, 15.3), but the output is %s: use wicketway.None", o.status, t)
	}
	if o.empty {
		return o
	}
	promise, err := at.schemas.Type(t)
	if err != nil {
		for _, e := range unjoin(err) {
			at.mistakef("output %v", e)
		}
	}
	if err == nil && promise.WriteOnly() != "" {
		at.mistakef("output %s: the member %s is writeOnly, so it must not be sent: leave it out of the output's type", t, promise.WriteOnly())
	}
	if at.target.development {
		o.promise = promise
	}
	if t.Implements(reflect.TypeFor[pager]()) && t.Kind() != reflect.Interface {
		if o.page = in.cursor; o.page == "" {
			at.mistakef("the output is a page, but no query field of the input is a wicketway.Cursor")
		}
	}
	return o
}

// The values of header fields that all answers share. They must never be changed
// in place; nothing that uses http.Header's methods does.
var (
	contentTypeJSON    = []string{"application/json"}
	contentTypeProblem = []string{"application/problem+json"}
	varyAccept         = []string{"Accept"}
)

var indented = jsontext.WithIndent("  ")

// send answers with an output. When it returns an error nothing has been sent.
func (o *output) send(w http.ResponseWriter, r *http.Request, out any) error {
	status := o.status
	h := w.Header()
	var own http.Header
	if o.pointer && isNil(out) {
		return nothing(r)
	}
	if o.reply {
		var chosen int
		chosen, own, out = out.(replier).reply()
		if status = cmp.Or(chosen, status); status < 200 || status > 299 {
			return fmt.Errorf("the route answered with a Reply of status %d, which is no success: return a problem instead", chosen)
		}
		if hasNoContent(status) && !o.empty {
			return fmt.Errorf("the route answered with a Reply of status %d, which has no content (RFC 9110, 15.3), and a value", status)
		}
		if o.pointer && isNil(out) {
			return nothing(r)
		}
	}
	if o.empty {
		addFields(h, own)
		w.WriteHeader(status)
		return nil
	}
	buffer := buffers.Get().(*bytes.Buffer)
	defer recycle(buffer)
	if err := o.write(buffer, out); err != nil {
		return err
	}
	addFields(h, own)
	if o.page != "" {
		addLinks(h, r, o.page, out.(pager))
	}
	h["Content-Type"] = contentTypeJSON
	if o.conditional && status == http.StatusOK && unchanged(h, r, buffer.Bytes(), out) {
		w.WriteHeader(http.StatusNotModified)
		return nil
	}
	h["Content-Length"] = []string{strconv.Itoa(buffer.Len())}
	w.WriteHeader(status)
	if _, err := w.Write(buffer.Bytes()); err != nil { // the caller is gone: there is nobody to tell
		stateOf(r.Context()).noteFailure(err, problem.CallerLeft.New("").Because(err))
	}
	return nil
}

// hasNoContent are the successes that end with their header (RFC 9110, 15.3.5 and
// 15.3.6).
func hasNoContent(status int) bool {
	return status == http.StatusNoContent || status == http.StatusResetContent
}

func addFields(h, own http.Header) {
	for name, values := range own {
		for _, v := range values {
			h.Add(name, v)
		}
	}
}

// isNil reports whether a value is nil, or holds a pointer, map or function that is.
func isNil(v any) bool {
	switch r := reflect.ValueOf(v); r.Kind() {
	case reflect.Invalid:
		return true
	case reflect.Pointer, reflect.Interface, reflect.Func, reflect.Map, reflect.Chan:
		return r.IsNil()
	}
	return false
}

// nothing is what becomes of a nil that was returned without an error: where the path
// names a value, there is none; anywhere else the route has forgotten its answer.
func nothing(r *http.Request) error {
	t := stateOf(r.Context()).target
	if len(t.names) > 0 && t.method == http.MethodGet {
		return problem.NotFound.New("Nothing is at %s.", r.URL.EscapedPath())
	}
	return fmt.Errorf("the route %s returned nil without an error: return a value, a problem, or make the output wicketway.None", t.method+" "+t.path)
}

// write encodes an output. In development it is indented, and an output that
// breaks its own rules is an error.
func (o *output) write(buffer *bytes.Buffer, out any) error {
	if o.envelope != "" {
		buffer.WriteString(o.envelope)
	}
	start := buffer.Len()
	var err error
	if o.promise != nil {
		err = json.MarshalWrite(buffer, out, indented)
	} else {
		err = json.MarshalWrite(buffer, out)
	}
	if err != nil {
		return fmt.Errorf("the output cannot be written as JSON: %w", err)
	}
	if o.promise != nil {
		if broken := o.promise.Check(buffer.Bytes()[start:]); broken != nil {
			var list []string
			for _, f := range broken {
				list = append(list, strconv.Quote(f.Pointer)+" "+f.Detail)
			}
			return fmt.Errorf("the output breaks what its type promises: %s", strings.Join(list, "; "))
		}
	}
	if o.envelope != "" {
		buffer.WriteByte('}')
	}
	buffer.WriteByte('\n')
	return nil
}
