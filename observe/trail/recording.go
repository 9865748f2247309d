package trail

import (
	"context"
	"log/slog"
	"math"
	"net/http"
	"slices"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/internal/sent"
)

// A recording is the trail of a request, while it goes on and after. What it has is guarded by the lock of the trails.
type recording struct {
	of    *Trails
	trail Trail
	ctx   context.Context // until the request has ended
	start time.Time
	steps []int // those that go on, as numbers of events
	size  int
}

// A few bytes for what is beside the texts.
const (
	ofTrail = 600
	ofEvent = 200
)

// begin begins a recording; nil where so many requests go on that there is no room for another one.
func (t *Trails) begin(r *http.Request) *recording {
	one := &recording{of: t, ctx: r.Context(), start: time.Now()}
	path := secret.InPath(r.Context()).Blank(r.URL.EscapedPath())
	if q, is := exchange.Kept[*sent.Request](r.Context()); is {
		q.KeepMore(longestBody)
		path += q.Query()
	}
	one.trail = Trail{At: one.start, Method: clip.Text(r.Method, 64), Target: clip.Text(path, longestText)}
	t.mu.Lock()
	defer t.mu.Unlock()
	bytes := ofTrail + len(one.trail.Method) + len(one.trail.Target)
	if !one.hasRoom(bytes) {
		return nil
	}
	t.begun++
	one.trail.Number = t.begun
	t.open = append(t.open, one)
	one.grow(bytes)
	return one
}

// grow counts bytes, and makes room for them. It is called with the lock.
func (r *recording) grow(bytes int) {
	r.size += bytes
	r.of.held += bytes
	if r.trail.Done {
		r.of.ofDone += bytes
	}
	r.of.makeRoom()
}

// makeRoom drops the oldest trails of requests that have ended, as far as the bounds ask for it.
func (t *Trails) makeRoom() {
	drop := 0
	for drop < len(t.done) && (len(t.done)-drop > t.most() || t.held > t.bytes()) {
		t.held -= t.done[drop].size
		t.ofDone -= t.done[drop].size
		t.done[drop].dropped()
		drop++
	}
	t.done = slices.Delete(t.done, 0, drop)
}

func (t *Trails) most() int {
	if t.Most > 0 {
		return t.Most
	}
	return 200
}

func (t *Trails) bytes() int {
	if t.Bytes > 0 {
		return t.Bytes
	}
	return 8 << 20
}

// dropped forgets what a recording has: the context of its request may be kept for longer.
func (r *recording) dropped() { r.trail, r.size, r.steps = Trail{Number: -1}, 0, nil }

func (r *recording) isDropped() bool { return r.trail.Number < 0 }

// hasRoom reports whether a trail may grow by so many bytes: those of requests that have ended can go for it.
func (r *recording) hasRoom(bytes int) bool {
	return !r.isDropped() && r.size+bytes <= largest && r.of.held-r.of.ofDone+bytes <= r.of.bytes()
}

// put puts an event in; its number is -1 where there is no room.
func (r *recording) put(e Event) int {
	bytes := ofEvent + len(e.Name) + len(e.Text) + len(e.Error)
	for _, v := range e.Values {
		bytes += 16 + len(v)
	}
	most := mostEvents
	if !e.Goes {
		most -= forSteps
	}
	if len(r.trail.Events) >= most || !r.hasRoom(bytes) {
		r.trail.Dropped++
		return -1
	}
	r.trail.Events = append(r.trail.Events, e)
	r.grow(bytes)
	return len(r.trail.Events) - 1
}

func (r *recording) add(ctx context.Context, began time.Time, e Event) {
	took := time.Since(began)
	secrets := secret.In(ctx)
	e.Text, e.Error = clip.Text(secrets.Blank(e.Text), longestText), clip.Text(secrets.Blank(e.Error), longestText)
	e.Values = slices.Clone(e.Values)
	for i, v := range e.Values {
		e.Values[i] = clip.Text(secrets.Blank(v), longestText)
	}
	r.of.mu.Lock()
	defer r.of.mu.Unlock()
	e.At, e.Took, e.Depth = milliseconds(began.Sub(r.start)), milliseconds(took), len(r.steps)
	r.put(e)
}

// TakeLine puts a line of the log in.
func (r *recording) TakeLine(ctx context.Context, level slog.Level, message string, values []string) {
	r.add(ctx, time.Now(), Event{Kind: Line, Name: level.String(), Text: message, Values: values})
}

// begins begins a step.
func (r *recording) begins(step exchange.Step) {
	now := time.Now()
	r.of.mu.Lock()
	defer r.of.mu.Unlock()
	n := r.put(Event{Kind: Kind(step.Kind.String()), Name: step.Name, At: milliseconds(now.Sub(r.start)), Depth: len(r.steps), Goes: true})
	r.steps = append(r.steps, n)
}

// ends ends the step that began last, and says what came of it.
func (r *recording) ends(step exchange.Step, text, failed string) {
	now := time.Now()
	r.of.mu.Lock()
	defer r.of.mu.Unlock()
	for i, n := range slices.Backward(r.steps) {
		if n >= 0 && n < len(r.trail.Events) {
			if e := &r.trail.Events[n]; e.Kind != Kind(step.Kind.String()) || e.Name != step.Name {
				continue // a middleware goes on in another goroutine
			}
		}
		r.steps = slices.Delete(r.steps, i, i+1)
		if n < 0 || n >= len(r.trail.Events) {
			return
		}
		e := &r.trail.Events[n]
		e.Goes, e.Took = false, rounded(milliseconds(now.Sub(r.start))-e.At)
		if r.hasRoom(len(text) + len(failed)) {
			e.Text, e.Error = text, failed
			r.grow(len(text) + len(failed))
		}
		return
	}
}

// read notes the input.
func (r *recording) read(input string) {
	r.of.mu.Lock()
	defer r.of.mu.Unlock()
	if r.hasRoom(len(input)) && r.trail.Input == "" {
		r.trail.Input = input
		r.grow(len(input))
	}
}

// end ends a recording. A handler that gave up its connection has panicked with http.ErrAbortHandler.
func (r *recording) end(ctx context.Context, answer exchange.Writer, gaveUp bool) {
	last := ending(ctx, answer, gaveUp)
	took := milliseconds(time.Since(r.start))
	r.of.mu.Lock()
	defer r.of.mu.Unlock()
	t, of := r.of, &r.trail
	of.Took, of.Done = took, true
	of.Request, of.Route, of.Version, of.Caller, of.Issuer, of.Status, of.Code = last.Request, last.Route, last.Version, last.Caller, last.Issuer, last.Status, last.Code
	of.Served, of.Header, of.Body, of.Left, of.Failure, of.Answer = last.Served, last.Header, last.Body, last.Left, last.Failure, last.Answer
	of.Notes = append(last.Notes, of.notes()...)
	t.open = slices.DeleteFunc(t.open, func(o *recording) bool { return o == r })
	t.done = append(t.done, r)
	t.ofDone += r.size
	t.ended++
	r.ctx = nil
	r.grow(of.weight())
	if t.changed != nil {
		close(t.changed)
		t.changed = nil
	}
}

// now is the trail as it is known at this moment. It is called with the lock.
func (r *recording) now() Trail {
	t := r.trail
	t.Events = slices.Clone(t.Events)
	if !t.Done {
		t.Took = milliseconds(time.Since(r.start))
		t.Request = r.id()
	}
	return t
}

// id is the id of the request. It is called with the lock.
func (r *recording) id() string {
	if r.trail.Done || r.ctx == nil {
		return r.trail.Request
	}
	return exchange.Of(r.ctx).ID()
}

// weight is about how many bytes what is known at the end takes.
func (t *Trail) weight() int {
	n := len(t.Body) + len(t.Served) + len(t.Caller) + len(t.Issuer)
	for _, h := range []http.Header{t.Header, t.Answer} {
		for name, values := range h {
			n += 64 + len(name)
			for _, v := range values {
				n += 16 + len(v)
			}
		}
	}
	if f := t.Failure; f != nil {
		n += 200 + len(f.Detail)
		for _, c := range f.Causes {
			n += 32 + len(c.Type) + len(c.Message)
		}
		for _, p := range f.Places {
			n += 16 + len(p)
		}
		for _, i := range f.Faults {
			n += 120 + len(i.Name) + len(i.Detail)
			if i.Pointer != nil {
				n += len(*i.Pointer)
			}
		}
	}
	for _, note := range t.Notes {
		n += 16 + len(note)
	}
	return n
}

// milliseconds rounds a duration to microseconds.
func milliseconds(d time.Duration) float64 { return rounded(float64(d) / 1e6) }

func rounded(ms float64) float64 { return math.Round(ms*1e3) / 1e3 }
