package wicketwaytest

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/contract"
)

// freeze is the environment variable that has Frozen write.
const freeze = "WICKETWAY_FREEZE"

// Frozen fails the test for each change of a version that breaks its clients, against the contract that was written into a
// file when the version was released ([contract.Compare]). Changes that are to be looked at are logged. Where
// WICKETWAY_FREEZE=1 is in the environment the file is written instead.
//
//	wicketwaytest.Frozen(t, api, "v1", "testdata/v1.contract.json")
//
// What ends on a date may be gone after it: a route, or the whole version.
func Frozen(t testing.TB, api *wicketway.API, version, file string) {
	t.Helper()
	is, err := api.Contract(version)
	if os.Getenv(freeze) == "1" {
		if err == nil {
			err = errors.Join(
				os.MkdirAll(filepath.Dir(file), 0o755),
				os.WriteFile(file, append(bytes.TrimSpace(is.Text()), '\n'), 0o644),
			)
		}
		if err != nil {
			t.Fatalf("Frozen: %v", err)
		}
		t.Logf("Frozen: wrote the contract of version %q into %s", version, file)
		return
	}
	text, readErr := os.ReadFile(file)
	if errors.Is(readErr, fs.ErrNotExist) {
		t.Fatalf("Frozen: the contract of version %q is not frozen yet: %s=1 go test writes %s", version, freeze, file)
	}
	if readErr != nil {
		t.Fatalf("Frozen: %v", readErr)
	}
	frozen, readErr := contract.Read(text)
	if readErr != nil {
		t.Fatalf("Frozen: %s: %v", file, readErr)
	}
	if err != nil {
		if left := lasting(frozen, time.Now()); left != nil {
			t.Errorf("Frozen: %v, and has not ended: %s", err, strings.Join(left, ", "))
		}
		return
	}
	for _, c := range contract.Compare(frozen, is) {
		switch {
		case c.Class == contract.Look:
			t.Logf("Frozen: version %q: %v", version, c)
		case c.Class == contract.Breaking && !hasEnded(frozen, is, c.Operation):
			t.Errorf("Frozen: version %q: %v", version, c)
		}
	}
}

// lasting are the operations of a document that have not ended.
func lasting(d *contract.Document, now time.Time) (names []string) {
	for path, item := range d.Paths.All() {
		for method, o := range item.Operations() {
			if end := o.Sunset(); end.IsZero() || now.Before(end) {
				names = append(names, method+" "+path)
			}
		}
	}
	return names
}

// hasEnded reports whether an operation of a document is past its sunset and gone.
func hasEnded(frozen, is *contract.Document, name string) bool {
	return !slices.Contains(lasting(frozen, time.Now()), name) && !slices.Contains(lasting(is, time.Time{}), name)
}
