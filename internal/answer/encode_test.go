package answer

import (
	"math"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/internal/members/drawn"
)

type speaker struct{ text string }

func (s speaker) MarshalText() ([]byte, error) { return []byte(s.text), nil }

type kilometres float32

type inner struct {
	A string     `json:"a"`
	F kilometres `json:"f,omitzero"`
	N *inner     `json:"n,omitzero"`
}

type wide struct {
	Text     string            `json:"text"`
	Empty    string            `json:"empty,omitempty"`
	List     []inner           `json:"list,omitempty"`
	Zero     int16             `json:"zero,omitzero"`
	Plain    []string          // under its own name
	Number   float64           `json:"number"`
	Unsigned uint8             `json:"ü"`
	Flag     bool              `json:"flag"`
	At       time.Time         `json:"at"`
	Maybe    time.Time         `json:"maybe,omitzero"`
	Pointer  **inner           `json:"pointer"`
	Bytes    []byte            `json:"bytes"`
	Map      map[string]int    `json:"map"`
	Any      any               `json:"any"`
	Spoken   speaker           `json:"spoken,omitzero"`
	Spokens  []*speaker        `json:"spokens"`
	Arr      [2]int            `json:"arr"`
	Hidden   string            `json:"-"`
	Deep     [][][]map[int]int `json:"deep"`
}

type embedded struct {
	inner
	B int `json:"b,string"`
}

// The functions made at Build write what the package writes, and fail where it fails.
func FuzzEncode(f *testing.F) {
	f.Add("bell", 1.5, int64(7), uint8(1))
	f.Add("a\x00\"\\é\u2028\xff", math.NaN(), int64(math.MinInt64), uint8(2))
	f.Add("<&>", 1e21, int64(-62135596800), uint8(3))
	f.Add("", -1e-7, int64(253402300800), uint8(4))
	f.Add("x", 5e-324, int64(1<<40), uint8(255))
	f.Fuzz(func(t *testing.T, text string, number float64, n int64, shape uint8) {
		at := time.Unix(n%300_000_000_000, n%1e9).In(time.FixedZone("", int(n%100_000)))
		one := &inner{text, kilometres(number), nil}
		if shape&1 != 0 {
			one = &inner{A: text, N: one}
		}
		w := wide{Text: text, Number: number, Zero: int16(n), Unsigned: shape, Flag: shape&2 != 0, At: at, Pointer: &one, Bytes: []byte(text),
			Map: map[string]int{text: int(n)}, Spoken: speaker{text}, Spokens: []*speaker{nil, {text}}, Hidden: text}
		if shape&4 != 0 {
			w.Empty, w.List, w.Plain, w.Maybe, w.Any = text, []inner{*one, {}}, []string{text, ""}, at, []any{number, text, nil}
			w.Deep = [][][]map[int]int{nil, {{{int(n): 1}}}}
		}
		if shape&8 != 0 && one.N != nil {
			one.N.N = one // it holds itself
		}
		var none *inner
		values := []any{&w, &one, &none, &[]wide{w}, &text, &number, &n, &embedded{*one, int(n)}, &at, new(any),
			&struct{ D time.Duration }{5}, &struct{ C chan int }{}}
		random := rand.New(rand.NewPCG(uint64(n), uint64(shape)))
		for range 50 {
			v := reflect.New(drawn.Type(random))
			drawn.Fill(random, v.Elem(), 4)
			values = append(values, v.Interface())
		}
		for _, value := range values {
			v := reflect.ValueOf(value).Elem()
			want, wantErr := json.Marshal(value, json.Deterministic(true))
			var es Encoders
			var got sheet
			got.WriteString("before")
			err := got.encode(es.encoder(v.Type()), value, json.Deterministic(true))
			if (err == nil) != (wantErr == nil) || err == nil && got.String() != "before"+string(want) {
				t.Errorf("%T: %s, %v\nwant %s, %v", value, got.String(), err, want, wantErr)
			}
		}
	})
}
