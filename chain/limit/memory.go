package limit

import (
	"context"
	"hash/maphash"
	"sync"
	"time"
)

// Memory is a Store in memory, for one process. It keeps the time at which a key has used up what
// it may (the generic cell rate algorithm), in a bounded number of entries: where there are more
// keys the one that is nearest to having all again goes first, so that a flood of new ones does not
// free those that are held back. It is safe for concurrent use.
type Memory struct {
	seed   maphash.Seed
	shards [shardCount]shard
	most   int // in each
	now    func() time.Time
}

const shardCount = 64

type shard struct {
	mu   sync.Mutex
	full map[string]time.Time // by key: when it may all come again
}

// NewMemory makes room for so many keys; 0: for 100,000.
func NewMemory(keys int) *Memory {
	if keys <= 0 {
		keys = 100_000
	}
	return &Memory{seed: maphash.MakeSeed(), most: (keys + shardCount - 1) / shardCount, now: time.Now}
}

// Take takes one request.
func (m *Memory) Take(_ context.Context, key string, rate Rate) (Decision, error) {
	s := &m.shards[maphash.String(m.seed, key)%shardCount]
	now := m.now()
	each := max(rate.Per/time.Duration(max(rate.Requests, 1)), 1)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.full == nil {
		s.full = map[string]time.Time{}
	}
	full, known := s.full[key]
	if full.Before(now) {
		full = now
	}
	after := full.Add(each)
	if wait := after.Sub(now) - rate.Per; wait > 0 {
		return Decision{Reset: full.Sub(now), Retry: wait}, nil
	}
	if !known && len(s.full) >= m.most {
		s.makeRoom(now)
	}
	s.full[key] = after
	return Decision{Allowed: true, Remaining: int((rate.Per - after.Sub(now)) / each), Reset: after.Sub(now)}, nil
}

// Return takes back one request that was taken.
func (m *Memory) Return(_ context.Context, key string, rate Rate) error {
	s := &m.shards[maphash.String(m.seed, key)%shardCount]
	each := max(rate.Per/time.Duration(max(rate.Requests, 1)), 1)
	s.mu.Lock()
	defer s.mu.Unlock()
	if full, known := s.full[key]; known {
		if full = full.Add(-each); full.After(m.now()) {
			s.full[key] = full
		} else {
			delete(s.full, key)
		}
	}
	return nil
}

// looked is how many entries are looked at to make room for one.
const looked = 8

// makeRoom drops entries that mean nothing any more, and where it finds none the one that is
// nearest to it, among some.
func (s *shard) makeRoom(now time.Time) {
	seen, dropped, soonest := 0, false, ""
	for key, full := range s.full { // in no order
		switch {
		case !full.After(now):
			delete(s.full, key)
			dropped = true
		case soonest == "" || full.Before(s.full[soonest]):
			soonest = key
		}
		if seen++; seen == looked {
			break
		}
	}
	if !dropped {
		delete(s.full, soonest)
	}
}
