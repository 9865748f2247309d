package probe

import (
	"bytes"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/contract/requests"
)

// around asks for what is known to be there in all other ways that HTTP has: HEAD, OPTIONS, conditions, ranges, media types;
// and for what is not there.
func (p *prober) around() {
	for _, o := range p.operations {
		if !o.wanted {
			continue
		}
		if x := o.good; x != nil && o.method == http.MethodGet && x.answer.Status == http.StatusOK {
			for _, ask := range []func(*operation, *exchange){p.head, p.conditions, p.ranges, p.media} {
				if p.may(o) {
					ask(o, x)
				}
			}
		}
		if o.method != http.MethodDelete && p.may(o) {
			p.missing(o)
		}
		p.bodies(o)
		p.options(o)
	}
}

// large are sizes of bodies that are more than most APIs take, in bytes.
var large = []int{1<<20 + 1, 5<<20 + 1}

// bodies sends a body in a coding that nobody has, and bodies that may be too large, of spaces for the most part.
func (p *prober) bodies(o *operation) {
	r, err := p.makerFor(o).Good(o.method, o.path)
	if err != nil || o.guarded && o.caller < 0 || o.method == http.MethodDelete {
		return
	}
	if o.has(http.StatusUnsupportedMediaType) && p.may(o) {
		coded := also(r, requests.Field{Name: "Content-Encoding", Value: "nobody"})
		if coded.Body == nil {
			coded.Body = []byte("1")
		}
		p.hold(p.send(o, coded, o.caller))
	}
	for _, size := range large {
		if len(r.Body) == 0 || !o.has(http.StatusRequestEntityTooLarge) || !p.may(o) || o.got[http.StatusRequestEntityTooLarge] > 0 {
			return
		}
		padded := r
		padded.Body = append(bytes.Repeat([]byte(" "), size-len(r.Body)), r.Body...)
		p.send(o, padded, o.caller) // whose line nobody could paste
	}
}

// also is a request with more header fields.
func also(r requests.Request, fields ...requests.Field) requests.Request {
	r.Header = append(slices.Clone(r.Header), fields...)
	return r
}

// asGiven are the header fields by which HEAD and GET must be alike (RFC 9110, 9.3.2).
var asGiven = []string{"Content-Type", "ETag", "Last-Modified", "Link", "Deprecation", "Sunset"}

func (p *prober) head(o *operation, x *exchange) {
	if p.at(http.MethodHead, o.path) != nil || o.streams {
		return
	}
	r := x.request
	r.Method = http.MethodHead
	p.hold(p.send(o, r, x.caller), func(is *exchange) judgement {
		if is.later() {
			return judgement{}
		}
		if is.answer.Status != x.answer.Status {
			return judgement{fmt.Sprint(x.answer.Status), fmt.Sprintf("HEAD is answered %d, and GET %d (RFC 9110, 9.3.2)", is.answer.Status, x.answer.Status)}
		}
		for _, name := range asGiven {
			if has, want := is.answer.Header.Get(name), x.answer.Header.Get(name); has != want {
				return judgement{"the header fields of GET", fmt.Sprintf("HEAD has the field %s %q, and GET %q (RFC 9110, 9.3.2)", name, has, want)}
			}
		}
		return judgement{}
	})
}

// options holds Allow against the methods of all path templates that match.
func (p *prober) options(o *operation) {
	if o.method == http.MethodOptions || !p.ours || p.ctx.Err() != nil || o.why != "" {
		return
	}
	r, err := p.makerFor(o).Good(o.method, o.path)
	if err != nil {
		return
	}
	r.Method, r.Body, r.Header = http.MethodOptions, nil, nil
	r.Target, _, _ = strings.Cut(r.Target, "?")
	var want []string
	for _, other := range p.operations {
		if _, matches := match(other.path, r.Target); matches {
			want = append(want, other.method)
			if other.method == http.MethodGet {
				want = append(want, http.MethodHead)
			}
		}
	}
	slices.Sort(want)
	want = slices.Compact(append(want, http.MethodOptions))
	slices.Sort(want)
	p.hold(p.send(o, r, -1), func(x *exchange) judgement {
		var has []string
		for name := range strings.SplitSeq(strings.Join(x.answer.Header.Values("Allow"), ","), ",") {
			has = append(has, strings.TrimSpace(name))
		}
		slices.Sort(has)
		if x.answer.Status >= 300 || slices.Equal(slices.Compact(has), slices.Compact(want)) {
			return judgement{}
		}
		return judgement{"Allow: " + strings.Join(slices.Compact(want), ", "), fmt.Sprintf("OPTIONS says that it allows %s", strings.Join(has, ", "))}
	})
}

// conditions asks for what has not changed, and for what has (RFC 9110, 13).
func (p *prober) conditions(o *operation, x *exchange) {
	tag := x.answer.Header.Get("ETag")
	if tag != "" && o.has(304) {
		r := also(x.request, requests.Field{Name: "If-None-Match", Value: tag})
		p.hold(p.send(o, r, x.caller), wants("the thing has not changed since its tag (RFC 9110, 13.1.2)", "", 304))
	}
	if tag != "" && o.has(412) {
		r := also(x.request, requests.Field{Name: "If-Match", Value: `"long-ago"`})
		p.hold(p.send(o, r, x.caller), wants("the tag in If-Match is not that of the thing (RFC 9110, 13.1.1)", "", 412))
	}
	if modified := x.answer.Header.Get("Last-Modified"); modified != "" && o.has(304) {
		r := also(x.request, requests.Field{Name: "If-Modified-Since", Value: modified})
		p.hold(p.send(o, r, x.caller), wants("the thing has not changed since then (RFC 9110, 13.1.3)", "", 304))
	}
	if tag != "" {
		r := also(x.request, requests.Field{Name: "If-None-Match", Value: `"long-ago"`})
		p.hold(p.send(o, r, x.caller), wants("the thing has another tag than the one in If-None-Match (RFC 9110, 13.1.2)", "", 200))
	}
}

// ranges asks for a part (RFC 9110, 14), where the contract has parts.
func (p *prober) ranges(o *operation, x *exchange) {
	if !o.has(206) || len(x.answer.Body) == 0 {
		return
	}
	r := also(x.request, requests.Field{Name: "Range", Value: "bytes=0-0"})
	p.hold(p.send(o, r, x.caller), wants("the first byte alone was asked for (RFC 9110, 14.2)", "", 206, 200), func(part *exchange) judgement {
		if part.answer.Status == 206 && (len(part.answer.Body) != 1 || part.answer.Body[0] != x.answer.Body[0]) {
			return judgement{"the first byte", fmt.Sprintf("the answer to the range of one byte has %d", len(part.answer.Body))}
		}
		return judgement{}
	})
	if o.has(416) && p.may(o) {
		r = also(x.request, requests.Field{Name: "Range", Value: "bytes=999999999-"})
		p.hold(p.send(o, r, x.caller), wants("the range is behind the end (RFC 9110, 15.5.17)", "", 416))
	}
}

// media asks for a media type that nobody has.
func (p *prober) media(o *operation, x *exchange) {
	if o.has(406) {
		r := also(x.request, requests.Field{Name: "Accept", Value: "application/vnd.nobody"})
		p.hold(p.send(o, r, x.caller), wants("the media type in Accept is not offered (RFC 9110, 15.5.7)", "", 406))
	}
}

// missing asks for a thing that is not there.
func (p *prober) missing(o *operation) {
	values := p.nobody(o)
	if values == nil || o.guarded && o.caller < 0 {
		return
	}
	r, err := p.maker.At(values).Good(o.method, o.path)
	if err != nil {
		return
	}
	p.hold(p.send(o, r, o.caller), func(x *exchange) judgement {
		if !x.succeeded() || o.method == http.MethodPut || o.method == http.MethodPost || !o.has(404) {
			return judgement{}
		}
		return judgement{"404", fmt.Sprintf("there should be no thing with the made-up values %v", values)}
	})
}
