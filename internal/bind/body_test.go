package bind

import (
	"testing"
	"time"
)

func TestLargeBodiesEarnTheirTime(t *testing.T) {
	for received, want := range map[int64]time.Duration{0: 0, 20 << 10: 10 * time.Second, 10 << 30: 5 << 20 * time.Second, 1 << 62: 1 << 32 * time.Second} {
		if got := earned(received, 2<<10); got != want {
			t.Errorf("%d bytes earn %v, want %v", received, got, want)
		}
	}
}
