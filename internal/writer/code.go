package writer

import (
	"io"
	"net/http"
	"strconv"
)

// A Coder decides about the content coding of an answer (RFC 9110, 8.4).
type Coder interface {
	// Begin is asked once, when the status and the header are known. Large says that
	// the body has at least as many bytes as the Coder was registered for, or is a
	// stream. It sets the header fields, and reports whether the body is to be coded.
	Begin(status int, h http.Header, large bool) bool
	// Encoder gives what codes the body; not for HEAD.
	Encoder(to io.Writer) Encoder
}

// An Encoder codes a body. Close writes its end.
type Encoder interface {
	io.WriteCloser
	Flush() error
}

// coding is a Coder with the size in bytes from which a body is large.
type coding struct {
	Coder
	least int
}

// Code has bodies coded. It gives the writer to pass on, and what ends the coding: it is
// called when the handler behind it has returned. Where w is no Writer, or has a Coder
// already, another is put around it.
func Code(w http.ResponseWriter, r *http.Request, least int, c Coder) (pass http.ResponseWriter, end func() error) {
	own, pass := Direct(w), w
	if own == nil || own.coder != nil || own.phase >= announced {
		own = new(Writer)
		own.Init(w, r, nil)
		pass = own.Outside()
	}
	own.coder = coding{c, least}
	return pass, own.endCoding
}

// code takes bytes of a body that is coded perhaps.
func (w *Writer) code(p []byte) (int, error) {
	if w.coded == undecided {
		if len(w.held)+len(p) < w.coder.(coding).least && !w.announcesMuch() {
			w.held = append(w.held, p...)
			return len(p), nil
		}
		if err := w.decide(true); err != nil {
			return 0, err
		}
	}
	if w.encoder != nil {
		return w.encoder.Write(p)
	}
	return w.pass(p)
}

// Streams says that the body is a stream, which is coded from its start, however small it is: the same
// for GET and HEAD. It is called once the status is announced.
func (w *Writer) Streams() error {
	if w.coder == nil || w.coded != undecided || w.phase == givenAway {
		return nil
	}
	return w.decide(true)
}

// announcesMuch reports whether the answer to a HEAD announces a body that is large,
// though it never comes.
func (w *Writer) announcesMuch() bool {
	n, err := strconv.Atoi(w.Header().Get("Content-Length"))
	return w.head && err == nil && n >= w.coder.(coding).least
}

// decide sends the header, and what was held back.
func (w *Writer) decide(large bool) error {
	w.coded = asItIs
	if w.coder.Begin(int(w.status), w.Header(), large) {
		w.coded = coded
	}
	if w.coded == coded && !w.head {
		w.encoder = w.coder.Encoder(passing{w})
	}
	if !w.head {
		w.sendHeader()
	}
	held := w.held
	w.held = nil
	var err error
	switch {
	case len(held) == 0:
	case w.encoder != nil:
		_, err = w.encoder.Write(held)
	default:
		_, err = w.pass(held)
	}
	return err
}

// passing takes what an Encoder writes.
type passing struct{ *Writer }

func (p passing) Write(b []byte) (int, error) { return p.pass(b) }

// flushCoder sends what a coder keeps. A stream is coded from its start, however small its
// first piece is.
func (w *Writer) flushCoder() error {
	if w.coder != nil && w.coded == undecided {
		if err := w.decide(true); err != nil {
			return err
		}
	}
	if w.encoder != nil {
		return w.encoder.Flush()
	}
	return nil
}

// endCoding writes the end of a coded body. What is written after that goes as it is.
func (w *Writer) endCoding() error {
	var err error
	if w.coder != nil && (w.phase == announced || w.phase == sent) && w.coded == undecided {
		err = w.decide(w.announcesMuch())
	}
	if w.encoder != nil {
		err = w.encoder.Close()
	}
	if w.Owner == nil && w.head && w.phase == announced {
		w.sendHeader() // nobody else ends this writer
	}
	w.coder, w.encoder = nil, nil
	return err
}
