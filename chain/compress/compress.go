// Package compress sends answers compressed to callers that accept it.
package compress

import (
	"io"
	"mime"
	"net/http"
	"slices"
	"strings"
	"sync"

	"github.com/klauspost/compress/gzip"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/internal/answer"
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
// The entity tag of a compressed body is one of its own ("abc-gzip" for "abc"), since its bytes
// are others (RFC 9110, 8.8.3.3). In If-Match, and where gzip is accepted in If-None-Match, it
// is taken for the one that the handler knows. In If-Range it stays, so that no part of the plain
// body is ever put together with parts of the compressed one.
//
// Compression can tell a listener something of a secret that stands beside text
// of their choice in one body over TLS; leave such routes out.
func Bodies() wicketway.Middleware {
	return wicketway.Middleware{
		Name: "compress",
		Does: "sends bodies compressed to callers that accept it",
		Sets: []string{"Vary", "Content-Encoding"},
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w.Header().Add("Vary", "Accept-Encoding")
				coding := negotiate.Encoding(r.Header["Accept-Encoding"], "gzip")
				r, known := plainTags(r, coding)
				if coding == "" {
					next.ServeHTTP(w, r)
					return
				}
				z := &zipper{known: known}
				w, end := answer.Code(w, r, threshold, z)
				next.ServeHTTP(w, r)
				end() // an error is the caller's, who is gone
				z.release()
			})
		},
	}
}

// A zipper codes one body by gzip.
type zipper struct {
	known []string // the tags of coded bodies that the caller has, as the handler knows them
	zip   *gzip.Writer
}

var writers = sync.Pool{New: func() any { return gzip.NewWriter(nil) }}

func (z *zipper) Begin(status int, h http.Header, large bool) bool {
	if tag := h.Get("Etag"); status == http.StatusNotModified && slices.Contains(z.known, tag) {
		h.Set("Etag", coded(tag, "gzip")) // that of the 200 which the caller has (RFC 9110, 15.4.5)
	}
	if !large || !fits(status, h) {
		return false
	}
	h.Del("Content-Length")
	h.Set("Content-Encoding", "gzip")
	if tag := h.Get("Etag"); tag != "" {
		h.Set("Etag", coded(tag, "gzip"))
	}
	return true
}

func (z *zipper) Encoder(to io.Writer) answer.Encoder {
	z.zip = writers.Get().(*gzip.Writer)
	z.zip.Reset(to)
	return z.zip
}

func (z *zipper) release() {
	if z.zip != nil {
		z.zip.Reset(nil)
		writers.Put(z.zip)
	}
}

// fits reports whether an answer may and should be compressed.
func fits(status int, h http.Header) bool {
	if status < 200 || status == http.StatusNoContent || status == http.StatusNotModified ||
		status == http.StatusPartialContent ||
		h.Get("Content-Encoding") != "" || h.Get("Content-Range") != "" || unchangeable(h["Cache-Control"]) {
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
