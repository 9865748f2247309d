package trail

import (
	"cmp"
	"context"
	"log/slog"
	"math"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/clip"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/internal/sent"
)

// Trails are those of the last requests, in memory. The zero value is empty and ready, and safe for concurrent use.
type Trails struct {
	// Most is how many trails there are at most; 200 where it is 0.
	Most int
	// Bytes is how much memory they may take, with those of requests that go on; 8 MiB where it is 0. The oldest go first;
	// where the requests that go on take all of it, others leave no trail.
	Bytes int

	mu      sync.Mutex
	begun   int64
	open    []*recording
	done    []*recording // in the order in which they ended
	ended   int64        // how many have
	held    int          // bytes
	ofDone  int          // of them, those of requests that have ended
	changed chan struct{}
}

// All are the trails, the newest first, without what lists leave out.
func (t *Trails) All() []Trail {
	t.mu.Lock()
	defer t.mu.Unlock()
	all := make([]Trail, 0, len(t.open)+len(t.done))
	for _, r := range slices.Concat(t.open, t.done) {
		all = append(all, r.now().short())
	}
	slices.SortFunc(all, func(a, b Trail) int { return cmp.Compare(b.Number, a.Number) })
	return all
}

// Find finds a trail by the id of its request, or by its number.
func (t *Trails) Find(id string) (Trail, bool) {
	number, _ := strconv.ParseInt(id, 10, 64)
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, r := range slices.Backward(slices.Concat(t.done, t.open)) {
		if r.trail.Number == number || id != "" && r.id() == id {
			return r.now(), true
		}
	}
	return Trail{}, false
}

// Size is how much memory the trails take, in bytes: what they hold, counted, not what the runtime needs for it.
func (t *Trails) Size() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.held
}

// hasEnded is how many requests have ended.
func (t *Trails) hasEnded() int64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.ended
}

// after gives the trails of requests that have ended since so many had, and how many have by now. Where there are none yet
// it gives a channel that is closed when one ends.
func (t *Trails) after(ended int64) (found []Trail, now int64, changed <-chan struct{}) {
	t.mu.Lock()
	defer t.mu.Unlock()
	first := len(t.done) - int(min(t.ended-ended, int64(len(t.done))))
	for _, r := range t.done[first:] {
		found = append(found, r.now())
	}
	if t.changed == nil {
		t.changed = make(chan struct{})
	}
	return found, t.ended, t.changed
}

// Keeps reports whether a trail is kept of the request that a context belongs to: a cheap question, to be asked before events
// are made.
func Keeps(ctx context.Context) bool {
	_, is := exchange.Kept[*recording](ctx)
	return is
}

// Add adds an event that began at a time and has just ended to the trail of the request that a context belongs to. Its At,
// Took and Depth are filled in, and texts are cut and blanked. Nothing happens where no trail is kept.
func Add(ctx context.Context, began time.Time, e Event) {
	if r, is := exchange.Kept[*recording](ctx); is {
		r.add(ctx, began, e)
	}
}

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

// end ends a recording with what is known of its request by then.
func (r *recording) end(last Trail) {
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

// milliseconds rounds a duration to microseconds.
func milliseconds(d time.Duration) float64 { return rounded(float64(d) / 1e6) }

func rounded(ms float64) float64 { return math.Round(ms*1e3) / 1e3 }
