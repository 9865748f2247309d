package compress

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/problem"
)

// largestWindow of zstd: RFC 8878, 3.1.1.1.2 asks for no more. A decoder makes it as
// large as it is announced, so it is refused before that.
const largestWindow = 8 << 20

// leastRoom is what is set aside for a body before it is unpacked: two blocks of zstd.
const leastRoom = 256 << 10

// Unpacking says how bodies are unpacked.
type Unpacking struct {
	// Most is how many bytes may come out of a body for a handler that reads it itself; 16 MiB where it
	// is 0. For typed routes wicketway.Limits says so.
	Most int64
}

// mostUnpacked is what comes out of a body for a handler where nothing is said.
const mostUnpacked = 16 << 20

// Requests unpacks the bodies of requests that are sent with Content-Encoding gzip
// or zstd. The limit of a route's body (wicketway.Limits) holds for what comes in and
// for what comes out, so a small body cannot become a large one; a handler that reads the body itself
// gets an *http.MaxBytesError beyond u.Most bytes. Any other coding, and
// more than one, is refused with 415 and the field Accept-Encoding (RFC 9110, 15.5.16).
//
// Nothing is read before the route reads its body: a guard comes first.
func Requests(u Unpacking) exchange.Middleware {
	most := cmp.Or(u.Most, mostUnpacked)
	return exchange.Middleware{
		Check: func() error {
			if most < 0 {
				return fmt.Errorf("%d bytes at Most: a limit is not negative", most)
			}
			return nil
		},
		Name:   "unpack",
		Does:   "unpacks bodies that are sent compressed",
		Raises: []*problem.Kind{problem.UnsupportedMedia},
		Wrap: func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				codings := codings(r.Header["Content-Encoding"])
				if len(codings) == 0 {
					next.ServeHTTP(w, r)
					return
				}
				if len(codings) > 1 || codings[0] != "gzip" && codings[0] != "x-gzip" && codings[0] != "zstd" {
					sent := bind.NameOf(strings.Join(codings, ", "))
					exchange.Fail(w, r, problem.UnsupportedMedia.
						Newf("The body is encoded as %s; accepted is one of gzip and zstd.", sent).
						WithHeader("Accept-Encoding", "gzip, zstd"))
					return
				}
				plain := *r
				plain.Header = r.Header.Clone()
				plain.Header.Del("Content-Encoding")
				plain.Header.Del("Content-Length")
				plain.ContentLength = -1
				body := &unpacker{
					ctx:    r.Context(),
					packed: r.Body,
					coding: codings[0],
					limit:  exchange.Of(r.Context()).BodyLimit(),
					most:   most,
				}
				defer body.release()
				plain.Body = body
				next.ServeHTTP(w, &plain)
			})
		},
	}
}

// codings lists what a body is encoded by, over all lines of the field (RFC 9110, 8.4).
func codings(lines []string) (all []string) {
	for _, line := range lines {
		for coding := range strings.SplitSeq(line, ",") {
			if coding = strings.ToLower(strings.Trim(coding, " \t")); coding != "" && coding != "identity" {
				all = append(all, coding)
			}
		}
	}
	return all
}

// An unpacker starts to unpack when it is first read from.
type unpacker struct {
	ctx    context.Context
	count  int64
	packed io.ReadCloser
	coding string
	limit  int64 // of what comes out for a typed route; 0: it is none
	most   int64 // of what comes out for others
	plain  io.Reader
	free   func()
}

func (u *unpacker) Read(p []byte) (int, error) {
	if u.plain == nil {
		if err := u.open(); err != nil {
			u.plain = nil
			return 0, u.broken(err)
		}
	}
	if u.limit == 0 {
		p = p[:min(int64(len(p)), u.most+1-u.count)]
	}
	n, err := u.plain.Read(p)
	if u.limit == 0 && u.count+int64(n) > u.most {
		n, err = int(u.most-u.count), &http.MaxBytesError{Limit: u.most}
	}
	if u.count += int64(n); n > 0 {
		exchange.Of(u.ctx).SetUnpacked(u.count)
	}
	if err != nil && err != io.EOF {
		err = u.broken(err)
	}
	return n, err
}

// broken distinguishes a body that is not what it says from one that did not come as a whole.
func (u *unpacker) broken(err error) error {
	if _, large := errors.AsType[*http.MaxBytesError](err); large {
		return err
	}
	if p, known := errors.AsType[*problem.Problem](err); known { // of the connection
		return p
	}
	switch err {
	case zstd.ErrDecoderSizeExceeded:
		return &http.MaxBytesError{Limit: u.limit}
	case zstd.ErrWindowSizeExceeded:
		return problem.BodyTooLarge.Newf("The body asks for a window of more than %d bytes.",
			largestWindow).With("limit", largestWindow).Because(err)
	}
	return problem.Unreadable.Newf("The body is not well-formed %s.", u.coding).Because(err)
}

func (u *unpacker) open() error {
	if u.coding == "zstd" {
		return u.openZstd()
	}
	z, err := gzip.NewReader(u.packed)
	if err == nil {
		u.plain = z
	}
	return err
}

// openZstd unpacks what has a limit as a whole, so that no window is made for it. Room
// is made in proportion to what came, not to what is announced.
func (u *unpacker) openZstd() error {
	options := []zstd.DOption{zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true),
		zstd.WithDecoderMaxWindow(largestWindow)}
	if u.limit == 0 {
		z, err := zstd.NewReader(u.packed, options...)
		if err == nil {
			u.plain, u.free = z, z.Close
		}
		return err
	}
	packed, err := io.ReadAll(u.packed)
	if err != nil {
		return err
	}
	z, err := zstd.NewReader(nil, append(options, zstd.WithDecodeAllCapLimit(true))...)
	if err != nil {
		return err
	}
	defer z.Close()
	most := max(u.limit, leastRoom)
	for size := min(most, max(leastRoom, 4*int64(len(packed)))); ; size = min(most, 4*size) {
		all, err := z.DecodeAll(packed, make([]byte, 0, size))
		if err != zstd.ErrDecoderSizeExceeded || size == most {
			u.plain = bytes.NewReader(all)
			return err
		}
	}
}

// Close closes the packed body.
func (u *unpacker) Close() error { return u.packed.Close() }

func (u *unpacker) release() {
	if u.free != nil {
		u.free()
	}
}
