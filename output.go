package wicketway

import (
	"bytes"
	"fmt"
	"net/http"
	"reflect"
	"strconv"

	"github.com/go-json-experiment/json"
)

// Reply is an output with a status and header fields of its own.
type Reply[T any] struct {
	// Status is 200 to 299; 0 leaves what Answers says.
	Status int
	// Header is added to the answer.
	Header http.Header
	Value  T
}

func (r Reply[T]) reply() (int, http.Header, any) { return r.Status, r.Header, r.Value }
func (Reply[T]) value() reflect.Type              { return reflect.TypeFor[T]() }

// A replier is a Reply of any type.
type replier interface {
	reply() (status int, header http.Header, value any)
	value() reflect.Type
}

// An output is the plan for sending a route's output type.
type output struct {
	status int
	empty  bool // the type is None
	reply  bool // the type is a Reply
}

func compileOutput(at *site, t reflect.Type) output {
	var o output
	if r, ok := reflect.Zero(t).Interface().(replier); ok {
		o.reply = true
		t = r.value()
	}
	o.empty = t == reflect.TypeFor[None]()
	o.status = at.target.answers
	switch {
	case o.empty && o.status == 0:
		o.status = http.StatusNoContent
	case o.status == 0:
		o.status = http.StatusOK
	case o.status == http.StatusNoContent && !o.empty:
		at.mistakef("Answers: 204 has no content, but the output is %s: use wicketway.None", t)
	}
	if !o.empty {
		if _, err := at.schemas.Type(t); err != nil {
			for _, e := range unjoin(err) {
				at.mistakef("output %v", e)
			}
		}
	}
	return o
}

// The values of header fields that all answers share. They must never be changed
// in place; nothing that uses http.Header's methods does.
var (
	contentTypeJSON    = []string{"application/json"}
	contentTypeProblem = []string{"application/problem+json"}
)

// send answers with an output. When it returns an error nothing has been sent.
func (o *output) send(w http.ResponseWriter, r *http.Request, out any) error {
	status := o.status
	if o.reply {
		var header http.Header
		var own int
		own, header, out = out.(replier).reply()
		if own != 0 {
			status = own
		}
		if status < 200 || status > 299 {
			return fmt.Errorf("the route answered with a Reply of status %d, which is no success: return a problem instead", own)
		}
		for name, values := range header {
			for _, v := range values {
				w.Header().Add(name, v)
			}
		}
	}
	if o.empty {
		w.WriteHeader(status)
		return nil
	}
	buffer := buffers.Get().(*bytes.Buffer)
	defer recycle(buffer)
	if err := json.MarshalWrite(buffer, out); err != nil {
		return fmt.Errorf("the output cannot be written as JSON: %w", err)
	}
	buffer.WriteByte('\n')
	h := w.Header()
	h["Content-Type"] = contentTypeJSON
	h["Content-Length"] = []string{strconv.Itoa(buffer.Len())}
	w.WriteHeader(status)
	_, err := w.Write(buffer.Bytes())
	if err != nil { // the caller is gone: there is nobody to tell
		noteFailure(r.Context(), err)
	}
	return nil
}
