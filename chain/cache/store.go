package cache

import (
	"container/list"
	"fmt"
	"hash/maphash"
	"net/http"
	"strings"
	"sync"
	"time"
)

// A store keeps answers in memory. Its lock is never held while anybody reads or writes, nor for
// longer than a look-up takes: a change marks what is kept of a path rather than looking for it.
type store struct {
	bytes int // that it keeps at most

	mu     sync.Mutex
	asked  map[string]*variants // by what is asked for
	kept   map[string]*list.Element
	places map[string]*place
	order  *list.List // of *response, the one used last first
	size   int
	fills  map[string]*fill
	alone  recent // what turned out not to be shared
}

func newStore(bytes int) *store {
	return &store{
		bytes:  bytes,
		asked:  map[string]*variants{},
		kept:   map[string]*list.Element{},
		places: map[string]*place{},
		order:  list.New(),
		fills:  map[string]*fill{},
		alone:  recent{seed: maphash.MakeSeed()},
	}
}

// A question is what a request asks for.
type question struct {
	key  string // the version, scheme, host, path and query, and the caller where callers are kept apart
	path string // where a change counts
}

// Variants are the answers to one question.
type variants struct {
	vary  []string // the fields that the last answer varied by
	count int
}

// A place is a path of which something is kept or being fetched.
type place struct {
	changes int // what began before the last of them is not used
	users   int
}

// A response is an answer that is kept. It is immutable.
type response struct {
	key    string // with the variant
	asked  string // without it
	path   string
	place  *place
	change int // how many changes there had been when it was asked for

	status int
	header http.Header // as the handler has set it, without what is further out
	body   []byte
	here   time.Time     // when it came in
	age    time.Duration // that it had then
	lifetime
}

// A fill is the right of one request to get what others wait for.
type fill struct {
	key  string
	done chan struct{}
	over bool
	left bool // its caller has left, so that another one is to fill
}

// A fetch is a request on its way to the handler.
type fetch struct {
	question
	place  *place
	change int
	fill   *fill // nil: nobody waits for it
}

// What a look-up leads to: an answer that can be used or, if it is stale, asked about; a fill to wait
// for; or the way to the handler.
type lookup struct {
	found *response
	wait  *fill
	fetch *fetch
}

// find looks for an answer. Where there is none that can be used, the first who comes fetches it, and
// others wait who can share what comes in the place of the old one, or of nil.
func (s *store) find(q question, h http.Header, usable, shares func(*response) bool) lookup {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := q.key
	if v := s.asked[q.key]; v != nil {
		key = variant(q.key, v.vary, h)
	}
	var found *response
	if e := s.kept[key]; e != nil {
		switch r := e.Value.(*response); {
		case r.change != r.place.changes:
			s.drop(e)
		default:
			s.order.MoveToFront(e)
			if found = r; usable(r) {
				return lookup{found: r}
			}
		}
	}
	var own *fill
	if shares(found) && !s.alone.has(key) {
		if f := s.fills[key]; f != nil {
			return lookup{found: found, wait: f}
		}
		own = &fill{key: key, done: make(chan struct{})}
		s.fills[key] = own
	}
	p := s.places[q.path]
	if p == nil {
		p = &place{}
		s.places[q.path] = p
	}
	p.users++
	return lookup{found: found, fetch: &fetch{question: q, place: p, change: p.changes, fill: own}}
}

// Outcomes of a fill, for those who wait.
type outcome uint8

const (
	isKept   outcome = iota // look again
	isAlone                 // each must ask for itself
	hasLeft                 // another one is to fetch it
	isFailed                // nothing is known: each asks for itself now, and not the next time
)

// release lets those go on who wait. Only the first outcome counts.
func (s *store) release(f *fetch, as outcome) {
	if f.fill == nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if f.fill.over {
		return
	}
	f.fill.over, f.fill.left = true, as == hasLeft
	if as == isAlone {
		s.alone.add(f.fill.key)
	}
	delete(s.fills, f.fill.key)
	close(f.fill.done)
}

// end is called once a fetch is over.
func (s *store) end(f *fetch) {
	s.release(f, isFailed)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.leave(f.path, f.place)
}

// leave forgets a place that nobody uses.
func (s *store) leave(path string, p *place) {
	if p.users--; p.users == 0 {
		delete(s.places, path)
	}
}

// keep puts an answer in, unless its path has changed since it was asked for, and those out that were
// not used for longest: a few at a time, so that nobody waits for many.
func (s *store) keep(f *fetch, r *response) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if f.change != f.place.changes {
		return
	}
	r.place, r.change, r.asked, r.path = f.place, f.change, f.key, f.path
	if old := s.kept[r.key]; old != nil {
		s.drop(old)
	}
	s.alone.remove(r.key)
	v := s.asked[r.asked]
	if v == nil {
		v = &variants{}
		s.asked[r.asked] = v
	}
	v.count++
	v.vary = varies(r.header)
	f.place.users++
	s.kept[r.key] = s.order.PushFront(r)
	s.size += sizeOf(r)
	for s.size > s.bytes {
		for range evicted {
			if s.size > s.bytes {
				s.drop(s.order.Back())
			}
		}
		if s.size > s.bytes {
			s.mu.Unlock()
			s.mu.Lock()
		}
	}
}

// evicted is how many answers are put out before others may look something up.
const evicted = 16

func (s *store) drop(e *list.Element) {
	r := s.order.Remove(e).(*response)
	delete(s.kept, r.key)
	s.size -= sizeOf(r)
	s.leave(r.path, r.place)
	if v := s.asked[r.asked]; v != nil {
		if v.count--; v.count == 0 {
			delete(s.asked, r.asked)
		}
	}
}

// forget drops what is kept of a key.
func (s *store) forget(key string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e := s.kept[key]; e != nil {
		s.drop(e)
	}
}

// change marks what is kept of a path, and what is being fetched.
func (s *store) change(path string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if p := s.places[path]; p != nil {
		p.changes++
	}
}

// sizeOf is about how many bytes an answer takes, with its place in the maps.
func sizeOf(r *response) int {
	n := len(r.body) + len(r.key) + len(r.asked) + len(r.path) + 768
	for name, values := range r.header {
		n += len(name) + 64
		for _, v := range values {
			n += len(v) + 16
		}
	}
	return n
}

// variant is the key for the fields that an answer varies by.
func variant(base string, vary []string, h http.Header) string {
	if len(vary) == 0 {
		return base
	}
	var b strings.Builder
	b.WriteString(base)
	for _, name := range vary {
		fmt.Fprintf(&b, "\x00%s=%q", name, h[name])
	}
	return b.String()
}

// Recent remembers keys for a while, in a bounded number of hashes. Two keys of one hash are taken for
// one, which only means that they are not shared for a while.
type recent struct {
	seed     maphash.Seed
	now, old map[uint64]struct{}
}

const mostRecent = 4096

func (r *recent) hash(key string) uint64 { return maphash.String(r.seed, key) }

func (r *recent) has(key string) bool {
	if len(r.now)+len(r.old) == 0 {
		return false
	}
	h := r.hash(key)
	if _, is := r.now[h]; is {
		return true
	}
	_, is := r.old[h]
	return is
}

func (r *recent) add(key string) {
	if r.now == nil || len(r.now) >= mostRecent {
		r.now, r.old = map[uint64]struct{}{}, r.now
	}
	r.now[r.hash(key)] = struct{}{}
}

func (r *recent) remove(key string) {
	h := r.hash(key)
	delete(r.now, h)
	delete(r.old, h)
}
