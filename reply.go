package wicketway

import (
	"net/http"
	"reflect"
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

func (r *Reply[T]) reply() (int, http.Header, any) { return r.Status, r.Header, &r.Value }
func (*Reply[T]) value() reflect.Type              { return reflect.TypeFor[T]() }

// A replier is a pointer to a Reply of any type.
type replier interface {
	reply() (status int, header http.Header, value any)
	value() reflect.Type
}

// An outputType is what is known of a route's output type.
type outputType struct {
	value   reflect.Type // what is sent; nil where nothing is
	reply   bool         // it stands in a Reply
	pointer bool         // the route answers with a pointer to a Reply
	page    bool         // the value is a Page
}

func outputOf(t reflect.Type) outputType {
	o := outputType{value: t}
	if t.Kind() == reflect.Pointer && t.Implements(reflect.TypeFor[replier]()) {
		o.pointer = true
		t = t.Elem()
	}
	if r, ok := reflect.Zero(reflect.PointerTo(t)).Interface().(replier); ok {
		o.reply, o.value = true, r.value()
	}
	if o.value == noneType {
		o.value = nil
	}
	o.page = o.value != nil && o.value.Kind() != reflect.Interface &&
		reflect.PointerTo(o.value).Implements(reflect.TypeFor[pager]())
	return o
}
