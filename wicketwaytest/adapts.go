package wicketwaytest

import (
	"bytes"
	"reflect"
	"strings"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/adapt"
	"github.com/wicketway/wicketway/internal/check"
)

// Adapts holds the two ways of an adapter against each other, on examples of the present type: what
// each looked like keeps the rules of the old type, becomes a present value again, and looks the same
// once more; and the present value is the example, except the members that the adapter loses
// ([adapt.Adapter.Ignore]).
//
//	wicketwaytest.Adapts(t, oldLock, locks.Lock{Lock: "bell", State: "open"}, locks.Lock{Lock: "heron", State: "closed"})
//
// Examples should differ in every member: a way that forgets one is found only by that.
func Adapts[New any](t testing.TB, a adapt.Adapter, examples ...New) {
	t.Helper()
	if len(examples) == 0 {
		t.Fatal("Adapts: there are no examples")
	}
	lost := a.Ignored()
	for i, example := range examples {
		old, text, ok := oldOf(t, i, a, example)
		if !ok {
			continue
		}
		back, err := a.ToNew(old)
		if err != nil {
			t.Errorf("Adapts: example %d: its old value %s does not become a present one: %v", i, text, err)
			continue
		}
		if _, again, ok := oldOf(t, i, a, back.(New)); ok && !bytes.Equal(text, again) {
			t.Errorf("Adapts: example %d: its old value is %s, and that of what it becomes is %s", i, text, again)
		}
		was, wasErr := without(example, lost)
		is, isErr := without(back, lost)
		if wasErr != nil || isErr != nil || was != is {
			t.Errorf(
				"Adapts: example %d comes back as %s, and was %s (%v %v): name the lost members, or mend a function", i, is,
				was, wasErr, isErr,
			)
		}
	}
}

// oldOf is what an example looked like, as it is read from what is sent.
func oldOf(t testing.TB, i int, a adapt.Adapter, example any) (old any, text jsontext.Value, ok bool) {
	t.Helper()
	old, err := a.ToOld(example)
	if err == nil {
		text, err = json.Marshal(old, json.Deterministic(true))
	}
	if err != nil {
		t.Errorf("Adapts: example %d has no old value: %v", i, err)
		return nil, nil, false
	}
	var schemas check.Set
	of, err := schemas.Type(reflect.TypeOf(old))
	if err != nil {
		t.Errorf("Adapts: %v", err)
		return nil, nil, false
	}
	read := reflect.New(reflect.TypeOf(old))
	if faults, _ := of.Decode(text, read.Interface(), check.Reading{Lenient: check.ReadOnlyMembers}); faults != nil {
		t.Errorf(
			"Adapts: example %d: its old value %s breaks a rule of its type: %q %s", i, text, faults[0].Pointer,
			faults[0].Detail,
		)
		return nil, nil, false
	}
	return read.Elem().Interface(), text, true
}

// without is a value as JSON, without the members that are lost.
func without(value any, lost []string) (string, error) {
	text, err := json.Marshal(value, json.Deterministic(true))
	if err != nil {
		return "", err
	}
	var tree any
	if err := json.Unmarshal(text, &tree); err != nil {
		return "", err
	}
	for _, path := range lost {
		drop(tree, strings.Split(path, "/"))
	}
	text, err = json.Marshal(tree, json.Deterministic(true))
	return string(text), err
}

// drop takes a member out, of each where a list comes before it.
func drop(tree any, path []string) {
	switch at := tree.(type) {
	case []any:
		for _, item := range at {
			drop(item, path)
		}
	case map[string]any:
		if len(path) == 1 {
			delete(at, path[0])
			return
		}
		drop(at[path[0]], path[1:])
	}
}
