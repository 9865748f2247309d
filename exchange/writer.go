package exchange

import (
	"net/http"

	"github.com/wicketway/wicketway/internal/writer"
)

// A Writer is an http.ResponseWriter that knows what became of the writer. It is for one
// goroutine at a time.
type Writer interface {
	http.ResponseWriter
	// Status is the status of the answer as soon as it is announced, and 0 before; 101
	// for a connection that was given away by http.Hijacker.
	Status() int
	// Written and Sent are the bytes of the body before coding, and after it.
	Written() int64
	Sent() int64
	// Hijacked reports whether the connection was given away.
	Hijacked() bool
}

// WriterOf finds the writer of a request's answer, for a middleware that wants to know what
// became of it. Where the middleware stands alone, under plain net/http, there is none, and
// one is made around w. In either case pass is what to call the next handler with.
func WriterOf(w http.ResponseWriter) (pass http.ResponseWriter, of Writer) {
	if own := writer.Behind(w); own != nil {
		return w, own
	}
	own := writer.Around(w)
	return own.Outside(), own
}

// BeforeHeader has f called once, when the header of the answer is about to go out and its status
// is known: it may change the header still. Of several the innermost comes first. The next handler is
// called with the result.
func BeforeHeader(w http.ResponseWriter, f func(status int, h http.Header)) http.ResponseWriter {
	own := writer.Direct(w)
	if own == nil || own.HeaderSent() {
		own = writer.Around(w)
		w = own.Outside()
	}
	own.Before(f)
	return w
}
