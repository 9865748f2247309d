package locks

import (
	"testing"

	"github.com/wicketway/wicketway/wicketwaytest"
)

func TestLegacyLock(t *testing.T) {
	wicketwaytest.Adapts(t, legacyLock,
		Lock{"bell", "Bell Lock", Chamber{38.5, 5.2}, "open"},
		Lock{"heron", "Heron Lock", Chamber{26.8, 4.3}, "closed"},
		Lock{"tanners", "Tanners Lock", Chamber{21, 4.1}, "repair"})
}
