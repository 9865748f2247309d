// Package drawn makes struct types at random, for tests of all that has to do with members.
package drawn

import (
	"fmt"
	"math/rand/v2"
	"reflect"
)

// Types to embed, and to begin with: what hides, clashes, is not exported or contains itself.
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
	// Both has no A, since Plain and Other both do; D comes from Deep.
	Both struct {
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
	// In Tagged the tag counts more among those of one depth.
	Tagged struct {
		Plain
		Named
	}
	Named struct {
		X int `json:"B"`
		H int `json:"h-i"`
	}
	// Shallow has the D that is less deep, whatever the order.
	Shallow struct {
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

// Declared are these types.
func Declared() []reflect.Type {
	return []reflect.Type{
		reflect.TypeFor[Plain](),
		reflect.TypeFor[Deep](),
		reflect.TypeFor[Both](),
		reflect.TypeFor[Other](),
		reflect.TypeFor[Tagged](),
		reflect.TypeFor[Shallow](),
		reflect.TypeFor[Under](),
		reflect.TypeFor[Loop](),
		reflect.TypeFor[Unicode](),
	}
}

var (
	leaves = []reflect.Type{
		reflect.TypeFor[int](),
		reflect.TypeFor[string](),
		reflect.TypeFor[[]string](),
		reflect.TypeFor[*int](),
		reflect.TypeFor[map[string]int](),
		reflect.TypeFor[Plain](),
	}
	names   = []string{"", "", "a", "b", "A", "B", "D", "own", "g h", "größe"}
	options = []string{"", "", "", ",omitzero", ",omitempty"}
)

// Type draws a struct type. The JSON package refuses some of them: with two members of one name, say.
func Type(r *rand.Rand) reflect.Type { return draw(r, 2) }

func draw(r *rand.Rand, depth int) reflect.Type {
	var fields []reflect.StructField
	for i := range 1 + r.IntN(4) {
		f := reflect.StructField{Name: fmt.Sprintf("%c", 'A'+i), Type: pick(r, leaves)}
		switch r.IntN(6) {
		case 0:
			f.Name, f.Type, f.Anonymous = fmt.Sprintf("E%d%d", depth, i), pick(r, Declared()), true
		case 1:
			if depth > 0 {
				f.Name, f.Type, f.Anonymous = fmt.Sprintf("E%d%d", depth, i), draw(r, depth-1), true
			}
		case 2:
			f.Tag = `json:"-"`
		}
		if f.Anonymous && r.IntN(4) == 0 {
			f.Type = reflect.PointerTo(f.Type)
		}
		if name, option := pick(r, names), pick(r, options); f.Tag == "" && name+option != "" &&
			!(f.Anonymous && name == "") {
			f.Tag = reflect.StructTag(fmt.Sprintf("json:%q", name+option))
		}
		fields = append(fields, f)
	}
	return reflect.StructOf(fields)
}

func pick[T any](r *rand.Rand, of []T) T { return of[r.IntN(len(of))] }

// Fill gives a value something in each place that can be set, down to a depth.
func Fill(r *rand.Rand, v reflect.Value, depth int) {
	switch v.Kind() {
	case reflect.Int:
		v.SetInt(int64(r.IntN(3)))
	case reflect.String:
		v.SetString(pick(r, []string{"", "heron", "é\u2028"}))
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), r.IntN(3), 3))
	case reflect.Map:
		if v.Set(reflect.MakeMap(v.Type())); r.IntN(2) == 0 {
			v.SetMapIndex(reflect.ValueOf("bell"), reflect.ValueOf(7))
		}
	case reflect.Pointer:
		if depth > 0 && r.IntN(2) == 0 {
			v.Set(reflect.New(v.Type().Elem()))
			Fill(r, v.Elem(), depth-1)
		}
	case reflect.Struct:
		for _, field := range v.Fields() {
			if field.CanSet() {
				Fill(r, field, depth-1)
			}
		}
	}
}
