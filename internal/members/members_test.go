package members_test

import (
	"bytes"
	"encoding/csv"
	"io"
	"log/slog"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/format"
	csvformat "github.com/wicketway/wicketway/format/csv"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/members"
	"github.com/wicketway/wicketway/internal/members/drawn"
	"github.com/wicketway/wicketway/internal/shape"
)

// All that reads, checks, adapts, hides and writes members means the same ones as the JSON package, in its
// order (internal/answer holds the encoders against it).
func TestMembersAreThoseOfJSON(t *testing.T) {
	types := drawn.Declared()
	random := rand.New(rand.NewPCG(7, 11))
	for range 2000 {
		types = append(types, drawn.Type(random))
	}
	compared, adapted := 0, 0
	for _, typ := range types {
		text, err := json.Marshal(reflect.New(typ).Interface())
		var set check.Set
		checked, wrong := set.Type(typ)
		if err != nil {
			if wrong == nil {
				t.Errorf("%s: JSON says %v, checking nothing", typ, err)
			}
			continue
		}
		var want, got, columns, shown, known []string
		for d := jsontext.NewDecoder(bytes.NewReader(text)); ; {
			token, err := d.ReadToken()
			if err != nil {
				break
			}
			if token.Kind() == '"' {
				want = append(want, strings.Clone(token.String()))
				d.SkipValue()
			}
		}
		all, clashing := members.Of(typ)
		if clashing != nil && wrong == nil {
			t.Errorf("%s: checking says %v, clashing are %v", typ, wrong, clashing)
		}
		for _, m := range all {
			columns = append(columns, m.Name)
			if !m.ViaPointer {
				shown = append(shown, m.Name)
			}
			if !m.OmitZero && !m.OmitEmpty && !m.ViaPointer {
				got = append(got, m.Name)
			}
			if field := typ.FieldByIndex(m.Index); field.Name != m.Of.Name || field.Type != m.Of.Type {
				t.Errorf("%s: the way to %s leads to %s", typ, m.Name, field.Name)
			}
		}
		if want = slices.DeleteFunc(want, func(name string) bool {
			return slices.ContainsFunc(all, func(m members.Member) bool { return m.Name == name && (m.OmitEmpty || m.OmitZero) })
		}); !slices.Equal(got, want) {
			t.Errorf("%s: %q, but JSON has %q", typ, got, want)
		}
		for _, m := range checked.Members() {
			if name := m.Pointer[1:]; !strings.Contains(name, "/") {
				known = append(known, name)
			}
		}
		if !slices.Equal(known, columns) {
			t.Errorf("%s: checked are %q, members are %q", typ, known, columns)
		}
		if wrong != nil {
			continue
		}
		slices.Sort(shown)
		compared++
		if names := columnsOf(t, typ); !slices.Equal(names, columns) && columns != nil {
			t.Errorf("%s: the columns are %q, members are %q", typ, names, columns)
		}
		if names := loggedOf(t, typ, shown); !slices.Equal(names, shown) {
			t.Errorf("%s: logged are %q, members are %q", typ, names, columns)
		}
		a, errs := shape.Derive(typ, nil)
		if errs != nil { // some cannot be told apart, which is said
			continue
		}
		adapted++
		var kept []string
		old, _ := members.Of(a.Old)
		for _, m := range old {
			kept = append(kept, m.Name)
		}
		if !slices.Equal(kept, columns) {
			t.Errorf("%s: adapted are %q, members are %q", typ, kept, columns)
		}
	}
	if compared < 1000 || adapted < 300 {
		t.Errorf("only %d types were compared, %d of them adapted", compared, adapted)
	}
}

func columnsOf(t *testing.T, typ reflect.Type) []string {
	var lines bytes.Buffer
	if err := csvformat.Lists().Write(&lines, format.Value{Value: reflect.MakeSlice(reflect.SliceOf(typ), 0, 0).Interface()}); err != nil {
		t.Fatal(err)
	}
	header, err := csv.NewReader(&lines).Read()
	if err != nil && err != io.EOF {
		t.Fatal(err)
	}
	for i, name := range header {
		header[i], _, _ = strings.Cut(name, ".")
	}
	return slices.Compact(header)
}

// loggedOf are the members in the log, when one of them is a secret's.
func loggedOf(t *testing.T, typ reflect.Type, shown []string) []string {
	if len(shown) == 0 {
		return nil
	}
	var log bytes.Buffer
	slog.New(accesslog.Redact(slog.NewJSONHandler(&log, nil), shown[0])).Info("", "value", reflect.New(typ).Interface())
	var record struct {
		Value map[string]jsontext.Value `json:"value"`
	}
	if err := json.Unmarshal(log.Bytes(), &record); err != nil {
		t.Fatal(err, log.String())
	}
	return slices.Sorted(maps.Keys(record.Value))
}
