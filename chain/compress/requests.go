package compress

import (
	"io"
	"net/http"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/problem"
)

// Requests unpacks the bodies of requests that are sent with Content-Encoding gzip
// or zstd. The limit of a route's body (wicketway.Limits) holds for what comes out,
// so a small body cannot become a large one. Any other coding is refused with 415
// and the field Accept-Encoding (RFC 9110, 15.5.16).
//
// Nothing is read before the route reads its body: a guard comes first.
func Requests() wicketway.Middleware {
	return wicketway.Wrap("unpack", func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			coding := strings.ToLower(strings.TrimSpace(r.Header.Get("Content-Encoding")))
			switch coding {
			case "", "identity":
				next.ServeHTTP(w, r)
				return
			case "gzip", "x-gzip", "zstd":
			default:
				wicketway.Fail(w, r, problem.UnsupportedMedia.New("The body is encoded as %s; accepted are gzip and zstd.", coding).
					WithHeader("Accept-Encoding", "gzip, zstd"))
				return
			}
			plain := *r
			plain.Header = r.Header.Clone()
			plain.Header.Del("Content-Encoding")
			plain.Header.Del("Content-Length")
			plain.ContentLength = -1
			body := &unpacker{packed: r.Body, coding: coding}
			defer body.release()
			plain.Body = body
			next.ServeHTTP(w, &plain)
		})
	})
}

// An unpacker starts to unpack when it is first read from.
type unpacker struct {
	packed io.ReadCloser
	coding string
	plain  io.Reader
	free   func()
}

func (u *unpacker) Read(p []byte) (int, error) {
	if u.plain == nil {
		if err := u.open(); err != nil {
			return 0, u.broken(err)
		}
	}
	n, err := u.plain.Read(p)
	if err != nil && err != io.EOF {
		err = u.broken(err)
	}
	return n, err
}

func (u *unpacker) broken(err error) error {
	return problem.Unreadable.New("The body is not well-formed %s.", u.coding).Because(err)
}

func (u *unpacker) open() error {
	if u.coding == "zstd" {
		z, err := zstd.NewReader(u.packed, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(16<<20))
		if err != nil {
			return err
		}
		u.plain, u.free = z, z.Close
		return nil
	}
	z, err := gzip.NewReader(u.packed)
	u.plain = z
	return err
}

// Close closes the packed body.
func (u *unpacker) Close() error { return u.packed.Close() }

func (u *unpacker) release() {
	if u.free != nil {
		u.free()
	}
}
