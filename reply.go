package wicketway

import (
	"net/http"
	"reflect"
)

// Reply is an output with a status and header fields of its own. Like all outputs of this
// package it can be returned as a pointer, so that a failing return is nil, err.
type Reply[T any] struct {
	// Status is 200 to 299; 0 leaves what Answers says.
	Status int
	// Header is added to the answer. A Content-Type takes the place of application/json.
	Header http.Header
	Value  T
}

func (r *Reply[T]) reply() reply       { return reply{r.Status, r.Header, &r.Value} }
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
	return reply{http.StatusCreated, c.Header, &c.Value}
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
