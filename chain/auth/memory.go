package auth

import (
	"encoding/binary"
	"sync/atomic"
)

// A memory keeps what was verified, by a hash that cannot be guessed: a fixed number of entries in
// sets of four. It has no locks. What failed is never put in, so no flood of it pushes out what is
// good; and an entry that was used since the set was last full stays.
type memory[T any] struct {
	sets []set[T]
}

type set[T any] struct {
	entries [4]atomic.Pointer[remembered[T]]
}

type remembered[T any] struct {
	hash  [32]byte
	value T
	used  atomic.Bool
}

// newMemory makes room for n entries at least.
func newMemory[T any](n int) *memory[T] {
	if n <= 0 {
		return nil
	}
	size := 1
	for size*4 < n {
		size *= 2
	}
	return &memory[T]{make([]set[T], size)}
}

func (m *memory[T]) set(hash *[32]byte) *set[T] {
	return &m.sets[binary.LittleEndian.Uint64(hash[:8])&uint64(len(m.sets)-1)]
}

// find gives what was kept under a hash; nil where nothing was.
func (m *memory[T]) find(hash *[32]byte) *T {
	if m == nil {
		return nil
	}
	s := m.set(hash)
	for i := range s.entries {
		if e := s.entries[i].Load(); e != nil && e.hash == *hash {
			if !e.used.Load() {
				e.used.Store(true)
			}
			return &e.value
		}
	}
	return nil
}

// keep puts a value in, in the place of one that has not been used for long.
func (m *memory[T]) keep(hash *[32]byte, value T) *T {
	e := &remembered[T]{hash: *hash, value: value}
	if m == nil {
		return &e.value
	}
	s := m.set(hash)
	at := int(hash[8] & 3)
	for i := range s.entries {
		k := (at + i) & 3
		if old := s.entries[k].Load(); old == nil || old.hash == *hash {
			s.entries[k].Store(e)
			return &e.value
		}
	}
	for i := range s.entries {
		k := (at + i) & 3
		if old := s.entries[k].Load(); old == nil || !old.used.Swap(false) {
			s.entries[k].Store(e)
			return &e.value
		}
	}
	s.entries[at].Store(e) // all were used; now none counts as used
	return &e.value
}

// forget takes out what was kept under a hash.
func (m *memory[T]) forget(hash *[32]byte) {
	if m == nil {
		return
	}
	s := m.set(hash)
	for i := range s.entries {
		if e := s.entries[i].Load(); e != nil && e.hash == *hash {
			s.entries[i].CompareAndSwap(e, nil)
		}
	}
}
