package wicketway

import (
	"io"
	"net/http"
	"reflect"
	"runtime"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/bind"
)

// None is the input of a route that reads nothing, or the output of one that
// has nothing to say; such a route answers 204.
type None struct{}

var noneType = reflect.TypeFor[None]()

// Reply is an output with a status and header fields of its own, around any output except another Reply and [Created].
// Like all outputs of this package it can be returned as a pointer, so that a failing return is nil, err.
//
//	return wicketway.Reply[wicketway.Redirect]{Header: cookie, Value: wicketway.Redirect{Path: "/"}}, nil
//	return wicketway.Reply[wicketway.Content]{Status: http.StatusNotFound, Value: wicketway.Text("no such weir")}, nil
//	return wicketway.Reply[*Passage]{Status: http.StatusNoContent}, nil // 204, 205 and 304 have no content, so no value
type Reply[T any] struct {
	// Status is a success (200 to 299), or 304; 0 leaves that of the value, of Answers, or the usual one. Around a
	// Content it can be an error too, and around a Redirect it is one of the redirect's. [Gives] documents it.
	Status int
	// Header is added to the answer. A Content-Type takes the place of application/json.
	Header http.Header
	// Message is for the [ValueShape] of the group; elsewhere it is not sent.
	Message string
	Value   T
}

func (r *Reply[T]) reply() reply { return reply{r.Status, r.Header, &r.Value, r.Message} }

func (*Reply[T]) replied() outputTypes { return outputTypes{value: reflect.TypeFor[T]()} }

// Created is the output of a route that has made something: the answer has the status 201, the
// value, and its address in the field Location. The address is made of At, the input of the
// route that [LocatedBy] names, when the answer is sent.
//
//	wicketway.Route("POST /passages", d.book, wicketway.LocatedBy(d.find))
//
//	func (d desk) book(ctx context.Context, in bookPassage) (*wicketway.Created[Passage, onePassage], error) {
//		...
//		return &wicketway.Created[Passage, onePassage]{Value: p, At: onePassage{p.ID}}, nil
//	}
type Created[T, In any] struct {
	Value T
	At    In
	// Location is the address, where it is not to be made of At: package wicketwaytest sets it
	// to what was sent.
	Location string
	// Header is added to the answer.
	Header http.Header
}

func (c *Created[T, In]) reply() reply {
	return reply{status: http.StatusCreated, header: c.Header, value: &c.Value}
}

func (*Created[T, In]) replied() outputTypes {
	return outputTypes{value: reflect.TypeFor[T](), at: reflect.TypeFor[In]()}
}

func (c *Created[T, In]) place() (location string, at any) { return c.Location, &c.At }

// A reply is an output as it is sent.
type reply struct {
	status int
	header http.Header
	value  any // a pointer
	// message is for a house's shape.
	message string
}

// A replier is a pointer to an output that has a value in it.
type replier interface {
	reply() reply
	replied() outputTypes
}

// A located output says where something is, by the input of another route.
type located interface {
	place() (location string, at any)
}

// outputTypes are those of an output's parts.
type outputTypes struct {
	value reflect.Type
	at    reflect.Type // of the input that makes a location; nil: none
}

// A File is a file of a form. Its content is read with Open, and is gone when
// the request has ended.
type File struct {
	// Name is the file's name on the caller's side. It is never to be used as a path.
	Name string
	// Type is the media type, found from the content, not from the caller's claim, except
	// for kinds of text, which the content does not tell apart.
	Type string
	// Size is in bytes.
	Size int64

	content io.ReaderAt
}

// Open reads the file from its start. It can be called more than once.
func (f File) Open() *io.SectionReader { return io.NewSectionReader(f.content, 0, f.Size) }

// fileType is the Go type that files of forms are read into.
var fileType = bind.FileType{
	Type: reflect.TypeFor[File](),
	Make: func(f bind.Received) reflect.Value { return reflect.ValueOf(File{f.Name, f.Type, f.Size, f.Content}) },
}

// A statusAnswerer is an Answerer that a Reply can give a status; 0: it has its own.
type statusAnswerer interface {
	answerAs(status int, w http.ResponseWriter, r *http.Request) error
	// leavesStatus reports whether Answers can give it one, too.
	leavesStatus() bool
}

// An Answerer is an output that sends itself, where no other output will do. [Content] and
// [Redirect] are some.
type Answerer interface {
	// Answer answers the request. An error that it returns before the header has gone out is
	// sent as a problem; one after that cuts the connection. It is called once at most,
	// and not where the route has returned an error.
	Answer(w http.ResponseWriter, r *http.Request) error
	// Answers lists its answers. It is called on the zero value, and for listings only.
	Answers() []facts.Answer
}

var answererType = reflect.TypeFor[Answerer]()

// infoOf asks the zero value of an Answerer's type.
func infoOf(t reflect.Type) func() []facts.Answer {
	return func() []facts.Answer {
		v := reflect.New(t)
		if t.Kind() == reflect.Pointer {
			v.Elem().Set(reflect.New(t.Elem()))
		}
		if a, ok := v.Interface().(Answerer); ok {
			return a.Answers()
		}
		if a, ok := v.Elem().Interface().(Answerer); ok {
			return a.Answers()
		}
		return nil // an interface says nothing
	}
}

// contentAnswers are those of contents and of files.
func contentAnswers() []facts.Answer {
	return []facts.Answer{
		{Status: http.StatusOK, Media: "*/*", Fields: []string{"Content-Disposition"}},
		{Status: http.StatusNotModified},
		{Status: http.StatusPartialContent, Media: "*/*", Fields: []string{"Content-Disposition", "Content-Range"}},
	}
}

// An outputKind says how an output is sent.
type outputKind uint8

const (
	valueOutput outputKind = iota // in a format
	noOutput
	streamOutput
	ownOutput // by itself
)

// An outputType has the facts of a route's output type.
type outputType struct {
	kind    outputKind
	value   reflect.Type // of the value, or of the items of a stream; nil where nothing is
	at      reflect.Type // of the input that makes a location; nil: none
	reply   bool         // it is in a Reply, or another output with a header of its own
	own     reflect.Type // of an Answerer; nil for others
	pointer bool         // the route returns a pointer to an output of this package
	page    bool         // the value is a Page
	open    bool         // the value is of an interface type, so that it can be an output itself
	info    func() []facts.Answer
}

func outputOf(t reflect.Type) outputType {
	var o outputType
	if t.Kind() == reflect.Pointer && isOutput(t.Elem()) {
		o.pointer = true
		t = t.Elem()
	}
	o.value = t
	if r, ok := reflect.New(t).Interface().(replier); ok {
		types := r.replied()
		o.reply, o.value, o.at = true, types.value, types.at
	}
	if r, ok := reflect.New(o.value).Interface().(interface{ replied() outputTypes }); ok && !o.reply {
		o.at = r.replied().at
	}
	switch {
	case o.value == noneType:
		o.kind, o.value = noOutput, nil
	case streamed(o.value) != nil:
		o.kind, o.value = streamOutput, streamed(o.value)
	case o.value.Implements(answererType) || reflect.PointerTo(o.value).Implements(answererType):
		o.kind, o.info, o.own, o.value = ownOutput, infoOf(o.value), o.value, nil
	case o.value.Kind() != reflect.Interface:
		o.page = reflect.PointerTo(o.value).Implements(reflect.TypeFor[pager]())
	}
	o.open = o.value != nil && o.value.Kind() == reflect.Interface
	return o
}

// pageType is the type of the value where it is a page, and else one that is none.
func (o *outputType) pageType() reflect.Type {
	if o.page {
		return o.value
	}
	return noneType
}

// leavesStatus reports whether Answers says the status of an output that sends itself.
func (o *outputType) leavesStatus() bool {
	if o.own == nil {
		return false
	}
	own, ok := reflect.Zero(o.own).Interface().(statusAnswerer)
	return ok && own.leavesStatus()
}

// isOutput reports whether a type is an output of this package, rather than a value.
func isOutput(t reflect.Type) bool {
	to := reflect.PointerTo(t)
	return to.Implements(reflect.TypeFor[replier]()) ||
		t.PkgPath() == noneType.PkgPath() && t.Implements(answererType)
}

// isNilBelow reports whether a pointer leads to nothing.
func isNilBelow(pointer any) bool {
	switch v := reflect.ValueOf(pointer).Elem(); v.Kind() {
	case reflect.Pointer, reflect.Interface, reflect.Func:
		return v.IsNil()
	}
	return false
}

// functionOf is a function as the runtime knows it; nil where it is.
func functionOf(function any) *runtime.Func {
	v := reflect.ValueOf(function)
	if v.IsNil() {
		return nil
	}
	return runtime.FuncForPC(v.Pointer())
}

// A closure is a function value. Those that one factory has made have their code in common, but are not the same.
type closure struct {
	held any // so that its address is never that of another
	at   uintptr
}

func closureOf(function any) *closure {
	v := reflect.ValueOf(function)
	place := reflect.New(v.Type())
	place.Elem().Set(v)
	// A function value is one word, the address of what it has captured; reflection gives that of its code alone.
	return &closure{function, *(*uintptr)(place.UnsafePointer())}
}

// exactly are the routes, of those that a function's code serves, that have the very same value of it; all where none
// has, as with methods, which are a new value at each mention.
func (c *closure) exactly(routes []int, of func(int) *closure) []int {
	var same []int
	for _, i := range routes {
		if of(i).at == c.at {
			same = append(same, i)
		}
	}
	if same == nil {
		return routes
	}
	return same
}

// schemaText writes a schema.
func schemaText(doc any) jsontext.Value {
	text, err := json.Marshal(doc, json.Deterministic(true))
	if err != nil { // nothing in it can fail to be written
		panic(err)
	}
	return text
}
