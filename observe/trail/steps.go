package trail

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/internal/sent"
	"github.com/wicketway/wicketway/problem"
)

// steps notes the steps of requests.
type steps struct{}

func (steps) StepBegins(ctx context.Context, step exchange.Step) {
	if r, is := exchange.Kept[*recording](ctx); is {
		r.begins(step)
	}
}

func (steps) StepEnds(ctx context.Context, step exchange.Step, err error) {
	r, is := exchange.Kept[*recording](ctx)
	if !is {
		return
	}
	text, failed := "", ""
	switch {
	case step.Kind == exchange.StepFail:
		text = codeOf(err)
	case err != nil:
		failed = clip.Text(secret.In(ctx).Blank(fmt.Sprint(err)), longestText) // whose method Error can panic
	case step.Kind == exchange.StepGuard:
		text = admitted(exchange.Of(ctx).Caller())
	case step.Kind == exchange.StepRead:
		if in, is := exchange.Kept[secret.Input](ctx); is {
			r.read(inputOf(in.Value))
		}
	}
	r.ends(step, text, failed)
}

// codeOf is the status and the code of a problem that was sent.
func codeOf(err error) string {
	if p := problem.In(err); p != nil {
		return strconv.Itoa(p.Kind().Status()) + " " + p.Kind().Code()
	}
	return ""
}

// admitted says whom a guard has let in.
func admitted(caller exchange.Identity) string {
	text := cmp.Or(caller.Subject, "nobody by name")
	if caller.Issuer != "" {
		text += " of " + caller.Issuer
	}
	if len(caller.Scopes) > 0 {
		text += ", with " + strings.Join(caller.Scopes, ", ")
	}
	return clip.Text(text, longestText)
}

// inputOf is an input as JSON, without credentials; a few words where JSON cannot have it, as a stream.
func inputOf(in any) (text string) {
	defer func() {
		if v := recover(); v != nil {
			text = fmt.Sprintf("(%T: a method of it panicked: %v)", in, v)
		}
	}()
	written := &bounded{most: longestBody}
	err := json.MarshalWrite(written, in, json.Deterministic(true), jsontext.AllowInvalidUTF8(true), json.WithMarshalers(besideJSON))
	if err != nil && !errors.Is(err, errLong) {
		return fmt.Sprintf("(%T: %v)", in, err)
	}
	text = sent.BlankJSON(written.Bytes(), secret.CredentialsIn(reflect.TypeOf(in)))
	if err != nil {
		text += " …"
	}
	if text == "{}" {
		return ""
	}
	return text
}

// besideJSON says of streams, and of bodies that are not read here, that they are.
var besideJSON = json.MarshalToFunc(func(to *jsontext.Encoder, v any) error {
	_, body := v.(io.Reader)
	if of := reflect.TypeOf(v); body || of != nil && of.Kind() == reflect.Func {
		return to.WriteToken(jsontext.String("(the route reads it)"))
	}
	return errors.ErrUnsupported
})

// A bounded buffer ends where too much is written into it.
type bounded struct {
	bytes.Buffer
	most int
}

var errLong = errors.New("it is longer than what is kept")

func (b *bounded) Write(p []byte) (int, error) {
	if b.Len()+len(p) > b.most {
		b.Buffer.Write(p[:max(0, b.most-b.Len())])
		return 0, errLong
	}
	return b.Buffer.Write(p)
}

// ending is what is known of a request at its end. A handler that gave up its connection has panicked with http.ErrAbortHandler.
func ending(ctx context.Context, answer exchange.Writer, gaveUp bool) (t Trail) {
	x := exchange.Of(ctx)
	caller := x.Caller()
	t = Trail{Request: x.ID(), Version: x.Version(), Caller: clip.Text(caller.Subject, 256), Issuer: clip.Text(caller.Issuer, 256), Status: answer.Status(), Served: x.Source(),
		Answer: bound(sent.BlankHeader(answer.Header(), secret.Credentials))}
	if t.Route = x.Template(); t.Route != "" && x.Method() != "" {
		t.Route = x.Method() + " " + t.Route
	}
	if q, is := exchange.Kept[*sent.Request](ctx); is {
		t.Header = bound(sent.BlankHeader(q.Of.Header, q.Secret))
		var about string
		if t.Body, t.Left, about = q.Content(); t.Body == "" {
			t.Body = about
		}
	}
	f := x.Failure()
	switch {
	case f != nil:
		t.Code, t.Failure = f.Code(), failureOf(ctx, f)
	case t.Status == 0 && exchange.CallerLeft(ctx):
		t.Code = "caller-left"
	case gaveUp:
		t.Notes = []string{"the handler gave up the connection (http.ErrAbortHandler)"}
	case t.Status == 0 && !answer.Hijacked():
		t.Status = http.StatusOK // net/http says so
	}
	return t
}

// bound cuts the values of a header.
func bound(h http.Header) http.Header {
	left := longestBody
	for _, name := range slices.Sorted(maps.Keys(h)) {
		for i, v := range h[name] {
			h[name][i] = clip.Text(v, max(0, min(longestText, left)))
			left -= len(h[name][i])
		}
	}
	return h
}

// The bounds of what is kept of a failure.
const (
	mostFaults = 50
	mostCauses = 20
	mostPlaces = 30
)

func failureOf(ctx context.Context, failed *exchange.Failure) *Failure {
	secrets := secret.In(ctx)
	blank := func(text string) string { return clip.Text(secrets.Blank(text), longestText) }
	f := &Failure{Code: failed.Code()}
	if p := failed.Problem; p != nil {
		f.Status, f.Title, f.Detail = p.Kind().Status(), p.Kind().Title(), blank(p.Detail())
		f.Faults = slices.Clone(p.Items()[:min(len(p.Items()), mostFaults)])
		for i := range f.Faults {
			f.Faults[i].Detail, f.Faults[i].Want = blank(f.Faults[i].Detail), nil
		}
	}
	cause := failed.Err
	if p, is := cause.(*problem.Problem); is {
		cause = p.Unwrap() // the rest of it is said already
	}
	for _, c := range exchange.Causes(cause) {
		if len(f.Causes) < mostCauses {
			f.Causes = append(f.Causes, exchange.Cause{Type: c.Type, Message: blank(c.Message)})
		}
	}
	own, _ := exchange.Frames(failed.Err)
	for _, place := range own[:min(len(own), mostPlaces)] {
		f.Places = append(f.Places, clip.Text(place, longestText))
	}
	return f
}
