// Package compress sends answers compressed to callers that accept it.
package compress

import (
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/klauspost/compress/gzip"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/negotiate"
)

// threshold is the size in bytes from which compression is worth its time: less
// fits into one packet either way.
const threshold = 1024

// Bodies compresses bodies of 1 KiB and more by gzip, where the caller accepts it
// (RFC 9110, 12.5.3) and the media type gains by it: text, JSON, XML and the
// like. It leaves alone what has a Content-Encoding, is part of a range, or says
// Cache-Control: no-transform. An answer to HEAD has the fields of the one to GET, and
// no length where that would not be known beforehand.
//
// Compression can tell a listener something of a secret that stands beside text
// of their choice in one body over TLS; leave such routes out.
func Bodies() wicketway.Middleware {
	return wicketway.Wrap("compress", func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Add("Vary", "Accept-Encoding")
			accept := r.Header["Accept-Encoding"]
			if negotiate.Encoding(accept, "gzip") == "" {
				next.ServeHTTP(w, r)
				return
			}
			c := &writer{ResponseWriter: w, head: r.Method == http.MethodHead, known: r.Header["If-None-Match"]}
			next.ServeHTTP(c, r)
			c.close()
		})
	})
}

// A writer holds back the header and the first bytes until it is known whether
// compression is worth while.
type writer struct {
	http.ResponseWriter
	status  int // announced by the handler; 0: not yet
	held    []byte
	decided bool
	zip     *gzip.Writer // nil: the body goes as it is
	head    bool         // only the header goes
	known   []string     // the tags that the caller has
}

var writers = sync.Pool{New: func() any { return gzip.NewWriter(nil) }}

// HeaderSent reports whether the handler has announced a status: from then on
// it cannot be another.
func (w *writer) HeaderSent() bool { return w.status != 0 }

// Unwrap serves http.ResponseController.
func (w *writer) Unwrap() http.ResponseWriter { return w.ResponseWriter }

func (w *writer) WriteHeader(status int) {
	if status < 200 && status != http.StatusSwitchingProtocols {
		w.ResponseWriter.WriteHeader(status)
		return
	}
	if w.status == 0 {
		w.status = status
	}
}

func (w *writer) Write(p []byte) (int, error) {
	w.WriteHeader(http.StatusOK)
	if !w.decided {
		if len(w.held)+len(p) < threshold && !w.large() {
			w.held = append(w.held, p...)
			return len(p), nil
		}
		if err := w.decide(w.fits()); err != nil {
			return 0, err
		}
	}
	switch {
	case w.zip != nil:
		return w.zip.Write(p)
	case w.head && w.Header().Get("Content-Encoding") == "gzip":
		return len(p), nil
	}
	return w.ResponseWriter.Write(p)
}

// large reports whether the answer to a HEAD announces enough to be compressed,
// though its body never comes.
func (w *writer) large() bool {
	n, err := strconv.ParseInt(w.Header().Get("Content-Length"), 10, 64)
	return w.head && err == nil && n >= threshold
}

// fits reports whether the answer may and should be compressed.
func (w *writer) fits() bool {
	h := w.Header()
	if w.status == http.StatusNoContent || w.status == http.StatusNotModified || w.status == http.StatusPartialContent ||
		h.Get("Content-Encoding") != "" || h.Get("Content-Range") != "" ||
		unchangeable(h["Cache-Control"]) {
		return false
	}
	media, _, err := mime.ParseMediaType(h.Get("Content-Type"))
	if err != nil {
		return false
	}
	kind, name, _ := strings.Cut(media, "/")
	switch {
	case kind == "text", strings.HasSuffix(name, "json"), strings.HasSuffix(name, "xml"):
		return true
	}
	return name == "javascript" || name == "yaml" || name == "wasm" || name == "x-ndjson"
}

// unchangeable reports whether a list of directives has no-transform (RFC 9111, 5.2.2.6);
// their names know no case (5.2).
func unchangeable(lines []string) bool {
	for _, line := range lines {
		for directive := range strings.SplitSeq(line, ",") {
			if strings.EqualFold(strings.Trim(directive, " \t"), "no-transform") {
				return true
			}
		}
	}
	return false
}

// decide sends the header and what was held back.
func (w *writer) decide(compressed bool) error {
	w.decided = true
	h := w.Header()
	if compressed {
		h.Del("Content-Length")
		h.Set("Content-Encoding", "gzip")
		if tag := h.Get("Etag"); tag != "" && !strings.HasPrefix(tag, "W/") {
			h.Set("Etag", "W/"+tag) // other bytes, same meaning (RFC 9110, 8.8.1)
		}
		if !w.head {
			w.zip = writers.Get().(*gzip.Writer)
			w.zip.Reset(w.ResponseWriter)
		}
	}
	if tag := h.Get("Etag"); w.status == http.StatusNotModified && slices.ContainsFunc(w.known, func(list string) bool { return strings.Contains(list, "W/"+tag) }) {
		h.Set("Etag", "W/"+tag) // that of the 200 which the caller has (RFC 9110, 15.4.5)
	}
	w.ResponseWriter.WriteHeader(w.status)
	held := w.held
	w.held = nil
	if len(held) == 0 || w.head && compressed {
		return nil
	}
	var err error
	if w.zip != nil {
		_, err = w.zip.Write(held)
	} else {
		_, err = w.ResponseWriter.Write(held)
	}
	return err
}

// Flush sends what was written so far. A stream is compressed from its start,
// however small its first piece is.
func (w *writer) Flush() {
	w.WriteHeader(http.StatusOK)
	if !w.decided {
		w.decide(w.fits())
	}
	if w.zip != nil {
		w.zip.Flush()
	}
	http.NewResponseController(w.ResponseWriter).Flush()
}

func (w *writer) close() {
	if w.status != 0 && !w.decided {
		w.decide(w.large() && w.fits())
	}
	if w.zip != nil {
		w.zip.Close()
		w.zip.Reset(nil)
		writers.Put(w.zip)
		w.zip = nil
	}
}
