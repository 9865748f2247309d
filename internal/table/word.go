package table

import (
	"math/bits"
	"strings"
)

// Segments are compared as words. One of up to seven bytes is one word, with its length in the highest byte; one of
// up to fifteen is two, the second with the length of the rest and one more in the highest, so that it is never 0.
// They are the same if their words are.
//
//	                byte  7   6   5   4   3   2   1   0
//	bell            word  4   ·   ·   ·   l   l   e   b        more 0
//	keeper-of-bell  word  o   -   r   e   p   e   e   k
//	                more  7   ·   l   l   e   b   -   f
//
// A longer one is its hash, with 0xff in the highest byte of the second word and its length below, and is compared
// byte by byte as well.

// longMore is the least second word of a segment of more than fifteen bytes.
const longMore = 0xff << 56

// What follows reads eight bytes at a time.
const (
	slashes = lows * '/'
	lows    = 0x0101010101010101
	highs   = 0x8080808080808080
	mix     = 0x9e3779b97f4a7c15 // 2^64 over the golden ratio: odd, and its bits look random
)

// tailOf gives the last seven bytes of a path with a slash behind them, as a word.
func tailOf(path string) uint64 {
	const slash = '/' << 56
	if len(path) >= 8 {
		return load(path[len(path)-8:])>>8 | slash
	}
	word := uint64(slash)
	for i := range len(path) {
		word |= uint64(path[i]) << (8 * (7 - len(path) + i))
	}
	return word
}

// wordsAt gives the words of the segment of a path that begins at some place, and its end.
func wordsAt(path string, at int) (word, more uint64, end int) {
	end = len(path)
	if slash := strings.IndexByte(path[at:], '/'); slash >= 0 {
		end = at + slash
	}
	word, more = wordsOf(path[at:end])
	return word, more, end
}

// wordsOf gives the words of a segment.
func wordsOf(text string) (word, more uint64) {
	switch size := len(text); {
	case size < 8:
		for i := range size {
			word |= uint64(text[i]) << (8 * i)
		}
		return word | uint64(size)<<56, 0
	case size < 16: // the second overlaps the first
		return load(text), load(text[size-8:])>>(8*uint(15-size))>>8 | uint64(size-7)<<56
	}
	for i := range len(text) {
		word = (word ^ uint64(text[i])) * mix
		word ^= word >> 29
	}
	return word, longMore | uint64(len(text))
}

// load gives the first eight bytes of s as a word.
func load(s string) uint64 {
	_ = s[7]
	return uint64(s[0]) | uint64(s[1])<<8 | uint64(s[2])<<16 | uint64(s[3])<<24 |
		uint64(s[4])<<32 | uint64(s[5])<<40 | uint64(s[6])<<48 | uint64(s[7])<<56
}

// slashIn has the high bit set of the first byte that is a slash; 0 where none is.
func slashIn(word uint64) uint64 { return zeroIn(word ^ slashes) }

// has reports whether a word has a byte, given eight times.
func has(word, eightTimes uint64) bool { return zeroIn(word^eightTimes) != 0 }

// zeroIn has the high bit set of the first byte that is zero; 0 where none is.
func zeroIn(x uint64) uint64 { return (x - lows) &^ x & highs }

// zerosIn has the high bit set of every byte that is zero, and no other: zeroIn is quicker,
// but above the first zero it takes a one for a zero as well.
func zerosIn(x uint64) uint64 { return ^((x&^highs + ^uint64(highs)) | x | ^uint64(highs)) }

// fold makes half a word of two.
func fold(word, more uint64) uint32 {
	x := word ^ bits.RotateLeft64(more, 19)
	return uint32(x ^ x>>32)
}

// hashOf mixes two words for the slots.
func hashOf(word, more uint64) uint32 { return uint32((word ^ more*mix) * mix >> 32) }
