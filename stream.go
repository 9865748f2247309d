package wicketway

import (
	"context"
	"errors"
	"net/http"
	"reflect"

	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/problem"
)

// Stream is an output whose items are sent as they come: as a JSON array, as
// application/x-ndjson or as text/event-stream, as the caller accepts. It is an iterator like
// an iter.Seq2, and a function literal of that form is one:
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
// 16 KiB. Where the caller has left yield returns false and the context ends; [Draining] tells
// when the server is about to stop. A listener to events gets a comment every 15 seconds in
// which nothing comes.
//
// As an event an item may have a name and an id, by the methods EventName() string and
// EventID() string; a caller who lost the connection sends the last id again in the field
// Last-Event-ID (from:"header Last-Event-ID").
type Stream[T any] func(yield func(T, error) bool)

func (s Stream[T]) streamed() reflect.Type { return reflect.TypeFor[T]() }

// each gives the items by a pointer to one place, so that no interface holds a copy of each.
func (s Stream[T]) each(yield func(item any, err error) bool) {
	var item T
	for v, err := range s {
		item = v
		if !yield(&item, err) {
			return
		}
	}
}

// A streamer is a Stream of any type.
type streamer interface {
	streamed() reflect.Type
	each(yield func(item any, err error) bool)
}

var streamerType = reflect.TypeFor[streamer]()

// Draining is closed when the server has begun to stop: a stream without an end of its own
// should end then. It is nil, which is never closed, where the request is not served by
// [API.Serve].
func Draining(ctx context.Context) <-chan struct{} {
	draining, _ := ctx.Value(drainKey{}).(chan struct{})
	return draining
}

type drainKey struct{}

// sendStream answers with what a stream gives.
func (s *state) sendStream(w http.ResponseWriter, r *http.Request, to reply, from streamer, form int) error {
	out := answer.Stream{
		Plan:    s.target.output,
		Form:    answer.StreamForm(form),
		Status:  to.status,
		Header:  to.header,
		Begins:  s.lift,
		Problem: func(err error) []byte { return s.event(err) },
	}
	err := out.Send(w, r, func(yield func(any, error) bool) {
		defer func() {
			switch v := recover(); v {
			case nil:
			case http.ErrAbortHandler:
				panic(v)
			default:
				yield(nil, &panicError{v, panicStack()})
			}
		}()
		from.each(yield)
	})
	if broken, ok := errors.AsType[answer.Broken](err); ok && out.Form == answer.StreamEvents {
		s.noteFailure(broken.Unwrap(), s.problemFor(broken.Unwrap())) // the caller has been told
		return nil
	}
	return err
}

// event writes the problem that ends a stream of events.
func (s *state) event(err error) []byte {
	p := s.problemFor(err)
	s.api.raise(p.Kind())
	text, _ := p.Append(nil, s.rendering(p)) // what JSON cannot carry is left out
	return text
}

// lift takes away the time that the route has, which for a stream ends with its first item.
func (s *state) lift() {
	if s.deadline != nil {
		s.deadline.Stop()
	}
}

// problemFor is what the caller is told of an error.
func (s *state) problemFor(err error) *problem.Problem {
	if s.callerLeft() && errors.Is(err, context.Canceled) {
		return problem.CallerLeft.New("").Because(err)
	}
	return s.target.terms().translated(s.ended(err))
}

// ended says why a context has ended: that of a stream is cancelled when its time is over.
func (s *state) ended(err error) error {
	if cause := context.Cause(s.Context); errors.Is(err, context.Canceled) && errors.Is(cause, context.DeadlineExceeded) {
		return errors.Join(cause, err)
	}
	return err
}
