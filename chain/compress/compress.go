// Package compress sends answers compressed to callers that accept it, and unpacks bodies that they send
// compressed.
package compress

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/negotiate"
)

// Settings say how bodies are compressed. The zero Settings are the usual ones.
type Settings struct {
	// From is the size in bytes from which a body is compressed; 1,024 where it is 0, since less fits into one
	// packet either way. Streams are compressed however small their first piece is.
	From int
	// Codings are those that are offered, the best first; zstd, br and gzip where there are none.
	Codings []string
	// Types are media types that gain by it, in addition to text, JSON, XML and the like: image/svg+xml is
	// among them already, model/* is not.
	Types []string
}

// off is what Off attaches.
type off struct{}

// Off leaves the answers of a route or a group as they are. Compression can tell a listener
// something of a secret that is next to text of their choice in one body over TLS.
func Off() wicketway.Setting { return wicketway.Attach(off{}) }

// Bodies compresses bodies of 1 KiB and more, and streams, by zstd, br or gzip, as the caller
// prefers (RFC 9110, 12.5.3) and else in that order, where the media type gains by it: text, JSON,
// XML and the like. It leaves answers alone that have a Content-Encoding, are part of a range, or say
// Cache-Control: no-transform. An answer to HEAD has the fields of the one to GET, and
// no length where that would not be known beforehand.
//
// The entity tag of a compressed body is one of its own ("abc-gzip" for "abc"), since its bytes
// are others (RFC 9110, 8.8.3.3); a tag that ends like one is sent with "-identity" where the body is as
// it is. In If-Match, and where the coding is accepted in If-None-Match, it is taken for the one that the
// handler knows. In If-Range it stays, and a date there is passed over, so that no part of the
// plain body is ever put together with parts of the compressed one. Digests of the plain bytes
// (RFC 9530) are left out.
//
// What is flushed behind it is sent. Bodies are coded in pieces of up to 64 KiB or, of streams, of what
// is flushed, so that no encoder waits for a reader: a thousand open streams take a few megabytes. Only br
// needs an encoder for each body; where 32 have one, and for events and lines, another coding that the
// caller accepts takes its place, or none.
func Bodies(s Settings) exchange.Middleware {
	s.From = cmp.Or(s.From, 1024)
	if s.Codings == nil {
		s.Codings = []string{"zstd", "br", "gzip"}
	}
	return exchange.Middleware{
		Name:       "compress",
		Does:       "sends bodies compressed to callers that accept it",
		Sets:       facts.Fields("Vary", "Content-Encoding"),
		Reads:      []reflect.Type{reflect.TypeFor[off]()},
		Check:      s.check,
		CheckRoute: checkFlush,
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if _, is := exchange.Attached[off](r.Context()); is {
					next.ServeHTTP(w, r)
					return
				}
				coding := negotiate.Encoding(r.Header["Accept-Encoding"], s.Codings...)
				r, known := s.askPlain(r)
				if coding == "" {
					next.ServeHTTP(exchange.BeforeHeader(w, uncoded(known)), r)
					return
				}
				w = exchange.BeforeHeader(w, varies)
				p := &packer{Settings: &s, accepted: r.Header["Accept-Encoding"], coding: coding, known: known}
				w, end := writer.Code(w, r, s.From, p)
				defer p.release()
				next.ServeHTTP(w, r)
				end() // an error is the caller's, who is gone
			})
		},
	}
}

// varies names what the coding is chosen by, where a handler cannot take it away.
func varies(_ int, h http.Header) { writer.AddVary(h, "Accept-Encoding") }

// uncoded completes the header of an answer to a caller who accepts no coding.
func uncoded(known []sentTag) func(status int, h http.Header) {
	if known == nil {
		return uncodedAnswer
	}
	return func(status int, h http.Header) {
		varies(status, h)
		retag(status, h, known)
	}
}

func uncodedAnswer(status int, h http.Header) {
	varies(status, h)
	retag(status, h, nil)
}

func (s *Settings) check() error {
	var wrong []error
	fault := func(format string, args ...any) { wrong = append(wrong, fmt.Errorf(format, args...)) }
	if s.From < 0 {
		fault("From: bodies of %d bytes: a size is not negative", s.From)
	}
	if len(s.Codings) == 0 {
		fault("Codings: no coding is offered: leave it out, or name some")
	}
	for i, c := range s.Codings {
		switch {
		case slices.Contains(s.Codings[:i], c):
			fault("Codings: the coding %s is offered twice", c)
		case !slices.Contains(answerCodings, c):
			fault("Codings: %q is not a coding: zstd, br or gzip", c)
		}
	}
	for i, media := range s.Types {
		kind, sub, _ := strings.Cut(media, "/")
		if sub = strings.TrimSuffix(sub, "*"); !bind.IsToken(kind) || sub != "" && !bind.IsToken(sub) ||
			!strings.Contains(media, "/") {
			fault("Types: %q is not a media type, such as model/gltf+json or model/*", media)
		} else if slices.Contains(s.Types[:i], media) {
			fault("Types: %s is named twice", media)
		}
	}
	return errors.Join(wrong...)
}

// checkFlush finds what would keep a stream back behind the compressor.
func checkFlush(f facts.Route) error {
	for _, m := range f.Chain[f.Asked+1:] {
		if m.HidesFlush {
			return fmt.Errorf("%s is behind it and hides flushing: put compress into its place, and it outside", m.Name)
		}
	}
	return nil
}

// A packer codes one body.
type packer struct {
	*Settings
	accepted []string // Accept-Encoding
	coding   string
	known    []sentTag
	seated   bool // it has one of the seats for br
	body     body

	pieces pieces // what the body is, but by br
	gzip   gzipPieces
	zstd   zstdPieces
}

func (p *packer) Begin(status int, h http.Header, large bool) bool {
	media := mediaOf(h)
	if !large || !p.fits(status, media, h) || !p.settle(media) {
		retag(status, h, p.known)
		return false
	}
	h.Del("Content-Length")
	h.Set("Content-Encoding", p.coding)
	h.Del("Accept-Ranges") // parts of what is coded now cannot be had
	for _, name := range digests {
		delete(h, name)
	}
	if tag := h.Get("Etag"); tag != "" {
		h.Set("Etag", coded(tag, p.coding))
	}
	return true
}

// digests are fields that speak of the bytes before coding (RFC 9530, 2 and 3).
var digests = []string{"Content-Digest", "Repr-Digest", "Digest", "Content-Md5"}

// retag gives an answer that is not coded the tag that it is sent with. A 304 has the one that the
// caller has (RFC 9110, 15.4.5).
func retag(status int, h http.Header, known []sentTag) {
	tag := h.Get("Etag")
	if tag == "" {
		return
	}
	if status == http.StatusNotModified {
		for _, k := range known {
			if k.own == tag {
				h.Set("Etag", k.sent)
				return
			}
		}
	}
	if sent := coded(tag, ""); sent != tag {
		h.Set("Etag", sent)
	}
}

// settle chooses another coding where the first does not do for the body: br needs a seat, and what is
// flushed often is smallest by gzip, whose pieces refer to those before. False where none does.
func (p *packer) settle(media string) bool {
	others := []string{"zstd", "gzip"}
	often := media == "text/event-stream" || media == "application/x-ndjson" // it is flushed
	switch {
	case often:
		others = []string{"gzip", "zstd"}
	case p.coding != "br":
		return true
	case takeSeat():
		p.seated = true
		return true
	}
	others = slices.DeleteFunc(others, func(c string) bool { return !slices.Contains(p.Codings, c) })
	if other := negotiate.Encoding(p.accepted, others...); other != "" {
		p.coding = other
		return true
	}
	p.seated = often && takeSeat()
	return p.seated
}

func (p *packer) Encoder(to io.Writer) writer.Encoder {
	p.pieces.to, p.body = to, &p.pieces
	switch p.coding {
	case "gzip":
		p.pieces.coder = &p.gzip
	case "zstd":
		p.pieces.coder = &p.zstd
	default:
		p.body = newBrotli(to)
	}
	return p.body
}

// release gives back what was taken. What a handler that panicked has left goes nowhere.
func (p *packer) release() {
	if p.body != nil {
		p.body.release()
	}
	if p.seated {
		<-brotliSeats
	}
}

// mediaOf is the media type of an answer, in lower case and without parameters.
func mediaOf(h http.Header) string {
	media, _, _ := strings.Cut(h.Get("Content-Type"), ";")
	return strings.ToLower(strings.TrimSpace(media))
}

// fits reports whether an answer may and should be compressed.
func (s *Settings) fits(status int, media string, h http.Header) bool {
	if status < 200 || status == http.StatusNoContent || status == http.StatusNotModified ||
		status == http.StatusPartialContent ||
		h.Get("Content-Encoding") != "" || h.Get("Content-Range") != "" || unchangeable(h["Cache-Control"]) {
		return false
	}
	kind, name, _ := strings.Cut(media, "/")
	switch {
	case kind == "text", strings.HasSuffix(name, "json"), strings.HasSuffix(name, "xml"), slices.Contains(s.Types, media),
		slices.Contains(s.Types, kind+"/*"):
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
