package members_test

import (
	"bytes"
	"encoding/csv"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway"
	csvformat "github.com/wicketway/wicketway/format/csv"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/members"
)

type (
	Plain struct {
		A, B int
	}
	hidden struct {
		A int `json:"a"`
		D int
	}
	Deep struct {
		hidden
		E int
	}
	Both struct { // A of Plain and A of Other hide each other; D comes from Deep
		Plain
		Other
		Deep
		Own string `json:"own,omitzero"`
	}
	Other struct {
		A int
		F int `json:"-"`
		G int `json:"g h"`
	}
	Tagged struct { // the tag wins among those of one depth
		Plain
		Named
	}
	Named struct {
		X int `json:"B"`
		H int `json:"h-i"`
	}
	Shallow struct { // the shallower wins, whatever the order
		Deep
		hiddenLater
	}
	hiddenLater struct{ D string }
	Under       struct {
		hidden `json:"under"`
		Plain  `json:"plain,omitzero"`
		Flat   Plain `json:",embed"`
		*Other
	}
	Loop struct {
		*Loop
		Z int
	}
	Unicode struct {
		Größe int `json:"größe"`
	}
)

// All that reads, checks and writes members means the same ones as the JSON package, in its order.
func TestMembersAreThoseOfJSON(t *testing.T) {
	for _, typ := range []reflect.Type{reflect.TypeFor[Plain](), reflect.TypeFor[Deep](), reflect.TypeFor[Both](), reflect.TypeFor[Other](), reflect.TypeFor[Tagged](),
		reflect.TypeFor[Shallow](), reflect.TypeFor[Under](), reflect.TypeFor[Loop](), reflect.TypeFor[Unicode]()} {
		text, err := json.Marshal(reflect.New(typ).Interface())
		if err != nil {
			t.Fatalf("%s: %v", typ, err)
		}
		var want, got, columns, known []string
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
		for _, m := range all {
			columns = append(columns, m.Name)
			if !m.OmitZero && !m.OmitEmpty && !m.ViaPointer {
				got = append(got, m.Name)
			}
			if field := typ.FieldByIndex(m.Index); field.Name != m.Of.Name || field.Type != m.Of.Type {
				t.Errorf("%s: the way to %s leads to %s", typ, m.Name, field.Name)
			}
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s: %q, but JSON has %q", typ, got, want)
		}
		var set check.Set
		checked, err := set.Type(typ)
		if (err != nil) != (clashing != nil) {
			t.Errorf("%s: checking says %v, clashing are %v", typ, err, clashing)
		}
		for _, m := range checked.Members() {
			if name := m.Pointer[1:]; !strings.Contains(name, "/") {
				known = append(known, name)
			}
		}
		if !slices.Equal(known, columns) {
			t.Errorf("%s: checked are %q, members are %q", typ, known, columns)
		}
		var lines bytes.Buffer
		if err := csvformat.Lists().Write(&lines, wicketway.Shown{Value: reflect.MakeSlice(reflect.SliceOf(typ), 0, 0).Interface()}); err != nil {
			t.Fatal(err)
		}
		header, err := csv.NewReader(&lines).Read()
		for i, name := range header {
			header[i], _, _ = strings.Cut(name, ".")
		}
		if header = slices.Compact(header); err != nil || !slices.Equal(header, columns) {
			t.Errorf("%s: the columns are %q, members are %q", typ, header, columns)
		}
	}
}
