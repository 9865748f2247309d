package wicketway

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"iter"
	"net/http"
	"reflect"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/failure"
	"github.com/wicketway/wicketway/problem"
)

// Stream is an output whose items are sent as they come: as a JSON array, as
// application/x-ndjson or as text/event-stream, as the caller accepts:
//
//	func (d desk) levels(ctx context.Context, in oneLock) (wicketway.Stream[Level], error) {
//		return func(yield func(Level, error) bool) {
//			for level := range d.gauge(ctx, in.Lock) {
//				if !yield(level, nil) {
//					return
//				}
//			}
//		}, nil
//	}
//
// It is called once, when the header is about to be sent, which waits for the first item: an
// error before that is a problem like any other. A later one ends the stream so that nobody
// takes a part for the whole: as an event named problem, or by cutting the connection. What it
// yields must not be used by others at the same time. Items are sent together, within 50 ms or
// 16 KiB. Where the caller has left yield returns false and the context ends; exchange.Exchange.Draining tells
// when the server is about to stop. A listener to events gets a comment every 15 seconds in
// which nothing comes.
//
// As an event an item may have a name and an id, by the methods EventName() string and
// EventID() string; a caller who lost the connection sends the last id again in the field
// Last-Event-ID (from:"header Last-Event-ID").
//
// A ready iter.Seq2[T, error] is converted: wicketway.Stream[Level](levels). As an output it is sent alike,
// but ranged over by reflection, which costs more for each item.
type Stream[T any] iter.Seq2[T, error]

// each goes through the stream. The items are given by a pointer to one place, so that no interface holds
// a copy of each.
func (s Stream[T]) each(take func(item any, err error) bool) {
	item := new(T)
	s(func(v T, err error) bool {
		*item = v
		return take(item, err)
	})
}

// streamed gives the type of a stream's items; nil where t is no stream.
func streamed(t reflect.Type) reflect.Type {
	if t.Kind() != reflect.Func || t.NumIn() != 1 || t.NumOut() != 0 || t.In(0).Kind() != reflect.Func {
		return nil
	}
	yield := t.In(0)
	if yield.NumIn() != 2 || yield.In(1) != errorType || yield.NumOut() != 1 || yield.Out(0).Kind() != reflect.Bool {
		return nil
	}
	return yield.In(0)
}

var errorType = reflect.TypeFor[error]()

// eachOf goes through a stream, given by a pointer: as [Stream] does, or by reflection.
func eachOf(stream any, take func(item any, err error) bool) {
	if s, ok := stream.(interface {
		each(func(item any, err error) bool)
	}); ok {
		s.each(take)
		return
	}
	s := reflect.ValueOf(stream).Elem()
	yield := s.Type().In(0)
	place := reflect.New(yield.In(0))
	item, held := place.Interface(), place.Elem()
	more := [2][]reflect.Value{{reflect.ValueOf(false).Convert(yield.Out(0))}, {reflect.ValueOf(true).Convert(yield.Out(0))}}
	s.Call([]reflect.Value{reflect.MakeFunc(yield, func(args []reflect.Value) []reflect.Value {
		held.Set(args[0])
		var err error
		if !args[1].IsNil() {
			err = args[1].Interface().(error)
		}
		if take(item, err) {
			return more[1]
		}
		return more[0]
	})})
}

// sendStream answers with what a stream gives.
func (s *state) sendStream(w http.ResponseWriter, r *http.Request, to reply, from any, form int) error {
	out := answer.Stream{
		Plan:    s.target.output,
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
		eachOf(from, yield)
	})
	if broken, ok := errors.AsType[answer.Broken](err); ok && out.Form == answer.StreamEvents {
		s.Failed(broken.Unwrap(), s.target.terms().told(s.problemFor(broken.Unwrap()))) // the caller has been told
		return nil
	}
	return err
}

// event writes the problem that ends a stream of events.
func (s *state) event(err error) []byte {
	t := s.target.terms()
	p := t.told(s.problemFor(err))
	s.api.raise(p.Kind())
	if t.problemsAs != nil {
		var own bytes.Buffer
		if t.problemsAs.offer.Problem(&own, p, s.rendering(p, false)) == nil {
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

// problemFor is the problem that an error is.
func (s *state) problemFor(err error) *problem.Problem {
	if exchange.CallerLeft(s.Context) && errors.Is(err, context.Canceled) {
		return problem.CallerLeft.New("").Because(err)
	}
	return failure.Problem(s.ended(err), s.target.terms().translate)
}

// ended says why a context has ended: that of a stream is cancelled when its time is over.
func (s *state) ended(err error) error {
	if cause := context.Cause(s.Context); errors.Is(err, context.Canceled) && errors.Is(cause, context.DeadlineExceeded) {
		return fmt.Errorf("%w (%v)", cause, err)
	}
	return err
}
