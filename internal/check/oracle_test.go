package check

import (
	stdbytes "bytes"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"github.com/wicketway/wicketway/schema"
)

type forest map[string]forest

type knot struct {
	Knots []knot          `json:"knots,omitzero"`
	By    map[string]knot `json:"by,omitzero"`
	Size  int8            `json:"size" rule:"maximum=5"`
}

// The fields that types are drawn from, and pieces of JSON that are near their edges.
var (
	drawnFields = []reflect.StructField{
		{Type: reflect.TypeFor[bool]()}, {Type: reflect.TypeFor[string](), Tag: `rule:"minLength=2 maxLength=3"`},
		{Type: reflect.TypeFor[string](), Tag: `rule:"pattern='^[a-z]+$'"`}, {Type: reflect.TypeFor[*string](), Tag: `rule:"enum=a|b"`},
		{Type: reflect.TypeFor[string](), Tag: `rule:"format=date-time"`}, {Type: reflect.TypeFor[string](), Tag: `rule:"enum=a|b"`},
		{Type: reflect.TypeFor[time.Time]()}, {Type: reflect.TypeFor[*time.Time]()},
		{Type: reflect.TypeFor[int]()}, {Type: reflect.TypeFor[uint8](), Tag: `rule:"exclusiveMinimum=2.5 maximum=9"`},
		{Type: reflect.TypeFor[int64](), Tag: `rule:"minimum=-9007199254740993 exclusiveMaximum=9007199254740993"`},
		{Type: reflect.TypeFor[uint8](), Tag: `rule:"minimum=0.5 maximum=9.5"`}, {Type: reflect.TypeFor[int8](), Tag: `rule:"exclusiveMaximum=-0.5"`},
		{Type: reflect.TypeFor[int32](), Tag: `rule:"enum=1|2|100"`}, {Type: reflect.TypeFor[*int16](), Tag: `rule:"multipleOf=0.5"`},
		{Type: reflect.TypeFor[float64](), Tag: `rule:"multipleOf=0.01 maximum=100"`}, {Type: reflect.TypeFor[float32](), Tag: `rule:"exclusiveMinimum=0"`},
		{Type: reflect.TypeFor[[]int](), Tag: `rule:"minItems=1 maxItems=3 uniqueItems items.maximum=9"`},
		{Type: reflect.TypeFor[*[]string](), Tag: `rule:"uniqueItems items.minLength=1"`}, {Type: reflect.TypeFor[[]*string](), Tag: `rule:"items.enum=a|b"`},
		{Type: reflect.TypeFor[[2]bool]()}, {Type: reflect.TypeFor[[]byte]()}, {Type: reflect.TypeFor[[2]byte]()}, {Type: reflect.TypeFor[[][]uint8]()},
		{Type: reflect.TypeFor[map[string]int](), Tag: `rule:"minProperties=1 maxProperties=2"`}, {Type: reflect.TypeFor[map[int8]bool]()},
		{Type: reflect.TypeFor[any]()}, {Type: reflect.TypeFor[schema.Optional[int]](), Tag: `rule:"maximum=9"`},
		{Type: reflect.TypeFor[schema.Optional[string]](), Tag: `rule:"type=string enum=a|b"`}, {Type: reflect.TypeFor[*int](), Tag: `rule:"type=integer"`},
		{Type: reflect.TypeFor[forest]()}, {Type: reflect.TypeFor[knot]()}, {Type: reflect.TypeFor[*knot]()}, {Type: reflect.TypeFor[[]knot]()},
		{Type: reflect.TypeFor[common]()}, {Type: reflect.TypeFor[[]common]()}, {Type: reflect.TypeFor[map[string]common]()}, {Type: reflect.TypeFor[*common]()},
		{Type: reflect.TypeFor[string](), Tag: `rule:"default=ab minLength=1"`}, {Type: reflect.TypeFor[[]pair[int, string]]()},
		{Type: reflect.TypeFor[schema.OneOf[work, works]]()}, {Type: reflect.TypeFor[[]schema.OneOf[work, works]]()},
	}
	drawnTexts = strings.Fields(`null true false 0 1 2 2.0 2.5 3 9 10 1e1 100 127 128 255 256 -1 -0 0.01 0.015 33.33 1e-7 2000000.001
		9007199254740992 9007199254740993 -9007199254740993 9007199254740993.0 9223372036854775808 1e40 "" "a" "b" "ab" "abcd" "AB" "ä" "äöü" "YWI=" "YWI" "YWJj" "YWJ=" "a="
		"2027-05-04T09:30:00Z" "2027-05-04t09:30:00z" "2027-05-04T09:30:00+01:00" "2027-05-04T9:30:00Z" "2027-05-04" "2016-12-31T23:59:60Z" "2016-12-31T22:59:60Z" "2027-02-30T09:30:00Z"
		[] {} [1] [1,1] [1,2,1.0] [1,2,3,4] ["a"] ["a",null] ["a","a"] ["",""] [true,false] [true] [null] [[]] [[],null] ["YWI="] [0,10]
		{"a":1} {"a":1,"b":2} {"a":1,"b":2,"c":3} {"1":true} {"01":true} {"-1":false} {"x":true} {"a":null} {"a":{}} {"a":{"b":{}}} {"a":{"b":null}}
		{"size":3} {"size":6} {"size":3,"knots":[{"size":1},{"size":7}]} {"size":3,"knots":null} {"size":3,"by":{"x":{"size":5}}} {"size":3,"by":{"x":{}}}
		{"remark":"ab"} {"remark":"abcdef"} {"remark":null} [{}] [{},null] [{"remark":""}] {"a":{"remark":"abcdef"}} [{"first":1,"second":["a","a"]}] [{"first":1.0}] [{"first":null}]
		{"kind":"dredging","metres":1} {"metres":0,"kind":"dredging"} {"kind":"dredging","metres":99} {"kind":"paint"} {"kind":"season","works":[]} [{"kind":"dredging","metres":2,"crew":null}]
		{"kind":"season","works":[{"kind":"dredging","metres":1.0}]} {"works":[{"kind":"season","works":[]}],"kind":"season"} [{"metres":1}] [{"kind":"dredging","metres":1,"note":"a"}]`)
)

// What the documents accept is what Decode accepts, for types and instances drawn at
// random.
func TestDocumentsAcceptWhatDecodeAccepts(t *testing.T) {
	random := rand.New(rand.NewPCG(2027, 5))
	accepted := 0
	for range 1200 {
		fields := make([]reflect.StructField, 1+random.IntN(4))
		for i := range fields {
			fields[i] = drawnFields[random.IntN(len(drawnFields))]
			fields[i].Name = fmt.Sprintf("F%d", i)
			option := [...]string{"", "", ",omitzero"}[random.IntN(3)]
			fields[i].Tag = reflect.StructTag(fmt.Sprintf(`json:"f%d%s" %s`, i, option, fields[i].Tag))
		}
		of := reflect.StructOf(fields)
		switch random.IntN(6) {
		case 0:
			of = reflect.SliceOf(of)
		case 1:
			of = reflect.PointerTo(of)
		}
		typ := compiled(t, of)
		document, err := jsonschema.UnmarshalJSON(stdbytes.NewReader(typ.Document()))
		c := jsonschema.NewCompiler()
		c.AssertFormat()
		if err == nil {
			err = c.AddResource("canal:type", document)
		}
		var oracle *jsonschema.Schema
		if err == nil {
			oracle, err = c.Compile("canal:type")
		}
		if err != nil {
			t.Fatalf("%v: %v\n%s", of, err, typ.Document())
		}
		for range 30 {
			text := drawObject(random, len(fields))
			if of.Kind() == reflect.Slice && random.IntN(8) > 0 {
				text = "[" + text + "]"
			}
			value, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
			if err != nil {
				t.Fatalf("%s: %v", text, err)
			}
			found, _ := typ.Decode([]byte(text), reflect.New(of).Interface(), Reading{})
			wrong := oracle.Validate(value)
			if (found == nil) != (wrong == nil) {
				t.Fatalf("%s\nas %v\nDecode says %+v\nthe document says %v\n%s", text, of, found, wrong, typ.Document())
			}
			if found == nil {
				accepted++
			}
		}
	}
	if accepted < 800 {
		t.Errorf("only %d instances were accepted, so little is proved", accepted)
	}
}

// drawObject draws a member for most fields, and sometimes what is none.
func drawObject(random *rand.Rand, fields int) string {
	if random.IntN(40) == 0 {
		return drawnTexts[random.IntN(len(drawnTexts))]
	}
	var members []string
	for i := range fields {
		if random.IntN(10) > 0 {
			members = append(members, fmt.Sprintf(`"f%d":%s`, i, drawnTexts[random.IntN(len(drawnTexts))]))
		}
	}
	if random.IntN(40) == 0 {
		members = append(members, `"F0":1`)
	}
	return "{" + strings.Join(members, ",") + "}"
}

// Types that contain themselves, in whatever way, neither hang nor overflow.
func TestTypesThatContainThemselves(t *testing.T) {
	type loop *loop
	var s Set
	if _, err := s.Type(reflect.TypeFor[loop]()); err == nil || !strings.Contains(err.Error(), "a pointer to itself") {
		t.Errorf("a pointer to itself: %v", err)
	}
	for _, of := range []reflect.Type{reflect.TypeFor[forest](), reflect.TypeFor[knot](), reflect.TypeFor[*voyage](), reflect.TypeFor[[]branch]()} {
		typ := compiled(t, of)
		if typ.Name() == "" || typ.WriteOnly() != "" || len(typ.Document()) == 0 {
			t.Errorf("%v: %q", of, typ.Name())
		}
		typ.Members()
	}
	if text := string(compiled(t, reflect.TypeFor[[]int]()).Document()); strings.Contains(text, "$defs") {
		t.Errorf("definitions where there are none: %s", text)
	}
	var f forest
	if found, _ := compiled(t, reflect.TypeFor[forest]()).Decode([]byte(`{"a":{"b":null}}`), &f, Reading{}); len(found) != 1 || found[0].Pointer != "/a/b" {
		t.Errorf("null in a forest: %+v", found)
	}
}

// Faults end at the bound, and what is told of each has one too.
func TestFaultsAreBounded(t *testing.T) {
	long := strings.Repeat("k", 60_000)
	for text, most := range map[string]int{
		`{"a":[` + strings.Repeat("{},", 500) + `{}]}`:                                   100,
		`{"a":[` + strings.Repeat("{},", 500) + `{},7]}`:                                 7,
		`{` + strings.Repeat(`"x":1,`, 500) + `"x":1}`:                                   100,
		`{"byLock":{"` + long + `":{` + strings.Repeat(`"y":1,`, 300) + `"y":2}}}`:       100,
		`{"tree":{"n":[` + strings.Repeat(`{"size":1,"n":[{"size":2}]},`, 200) + `{}]}}`: 100,
	} {
		of := reflect.TypeFor[voyage]()
		if strings.HasPrefix(text, `{"a"`) {
			of = reflect.TypeFor[map[string][]window]()
		}
		found, more := compiled(t, of).Decode([]byte(text), reflect.New(of).Interface(), Reading{Most: most})
		if len(found) != most || !more {
			t.Errorf("%.40s: %d faults, more %v", text, len(found), more)
		}
		for _, f := range found {
			if len(f.Pointer) > longestPointer+len("…") || len(f.Pointer) > longestPointer && !strings.HasSuffix(f.Pointer, "…") {
				t.Errorf("%.40s: a pointer of %d bytes", text, len(f.Pointer))
			}
		}
	}
}

// What is read only is passed over where that is asked for, at every depth.
func TestReadOnlyMembersCanBeIgnored(t *testing.T) {
	type inner struct {
		ID   int    `json:"id" rule:"readOnly"`
		Name string `json:"name"`
	}
	type outer struct {
		All map[string]inner `json:"all"`
		One inner            `json:"one"`
	}
	const text = `{"all":{"a":{"id":7,"name":"x"}},"one":{"name":"y","id":8}}`
	typ := compiled(t, reflect.TypeFor[outer]())
	var v outer
	if found, _ := typ.Decode([]byte(text), &v, Reading{Lenient: ReadOnlyMembers}); found != nil || v.One != (inner{Name: "y"}) || v.All["a"] != (inner{Name: "x"}) {
		t.Errorf("%+v %+v", v, found)
	}
	if found, _ := typ.Decode([]byte(text), &v, Reading{}); len(found) != 2 || found[0].Rule != "readOnly" || found[1].Pointer != "/one/id" {
		t.Errorf("refused: %+v", found)
	}
	if found := typ.Check([]byte(text)); found != nil {
		t.Errorf("sent: %+v", found)
	}
}

type netAddresses struct {
	One  *netip.Addr  `json:"one"`
	List []netip.Addr `json:"list,omitzero" rule:"uniqueItems"`
	Raw  *[2]byte     `json:"raw"`
}

// A stamp has the JSON of the time that is embedded in it, and a text form of its own.
type stamp struct{ time.Time }

func (s *stamp) UnmarshalText(text []byte) (err error) {
	s.Time, err = time.Parse("20060102", string(text))
	return err
}

func (s stamp) MarshalText() ([]byte, error) { return s.AppendFormat(nil, "20060102"), nil }

// A text type's own words reach the caller, and what is read can be written again.
func TestTextTypes(t *testing.T) {
	typ := compiled(t, reflect.TypeFor[netAddresses]())
	var v netAddresses
	found, _ := typ.Decode([]byte(`{"one":"192.0.2.300","list":["::1","::1"],"raw":"YWJj"}`), &v, Reading{})
	if len(found) != 3 || !strings.Contains(found[0].Detail, "IPv4 field has value >255") || found[1].Rule != "uniqueItems" || !strings.Contains(found[2].Detail, "2 bytes") {
		t.Errorf("%+v", found)
	}
	var s Set
	for _, c := range []struct {
		of   reflect.Type
		text string
		want string // "" where it is read
	}{
		{reflect.TypeFor[*netip.Addr](), "192.0.2.1", ""}, {reflect.TypeFor[*netip.Addr](), "192.0.2", "is not a valid addr: ParseAddr"},
		{reflect.TypeFor[[2]byte](), "YWI=", ""}, {reflect.TypeFor[[2]byte](), "YQ==", "2 bytes"}, {reflect.TypeFor[*time.Time](), "2027-05-04T09:30:00Z", ""},
		{reflect.TypeFor[plate](), "OB-1", ""}, {reflect.TypeFor[plate](), "XX-1", "must begin with OB-"}, {reflect.TypeFor[*plate](), "XX-1", "must begin with OB-"},
		{reflect.TypeFor[[]plate](), "XX-1", "must begin with OB-"}, {reflect.TypeFor[float64](), "NaN", "must be a number"}, {reflect.TypeFor[float64](), "-Inf", "must be a number"},
		{reflect.TypeFor[float64](), "0x1p2", "must be a number"}, {reflect.TypeFor[int](), "+1", "must be a whole number"}, {reflect.TypeFor[uint8](), "256", "from 0 to 255"},
		{reflect.TypeFor[int64](), "9223372036854775808", "from -9223372036854775808 to 9223372036854775807"}, {reflect.TypeFor[int64](), "1.5", "must be a whole number"},
		{reflect.TypeFor[stamp](), "20270504", ""}, {reflect.TypeFor[*stamp](), "20270504", ""}, {reflect.TypeFor[[]stamp](), "4 May", "is not a valid stamp"},
		{reflect.TypeFor[schema.Date](), "2028-02-29", ""}, {reflect.TypeFor[schema.Date](), "2027-02-29", "write a date such as"}, {reflect.TypeFor[schema.Date](), "27-02-28", "write a date"},
		{reflect.TypeFor[schema.Date](), "0000-01-01", "write a date"}, {reflect.TypeFor[schema.Date](), "2027-02-28T00:00:00Z", "write a date"},
		{reflect.TypeFor[schema.TimeOfDay](), "09:30:00", ""}, {reflect.TypeFor[schema.TimeOfDay](), "23:59:59.000000001", ""}, {reflect.TypeFor[schema.TimeOfDay](), "24:00:00", "write a time such as"},
		{reflect.TypeFor[schema.TimeOfDay](), "9:30:00", "write a time"}, {reflect.TypeFor[schema.TimeOfDay](), "09:30:00Z", "write a time"}, {reflect.TypeFor[schema.TimeOfDay](), "09:30:00,5", "write a time"},
	} {
		p, err := s.Parameter(c.of, "")
		if err != nil {
			t.Fatal(err)
		}
		v := reflect.New(c.of).Elem()
		wrong := p.Read(c.text, v)
		if (wrong == nil) != (c.want == "") || wrong != nil && !strings.Contains(wrong[0].Detail, c.want) {
			t.Errorf("%v from %q: %+v, want %q", c.of, c.text, wrong, c.want)
		}
		if texts, err := p.Texts(v); wrong == nil && (err != nil || texts[0] != c.text) {
			t.Errorf("%v from %q is written as %q, %v", c.of, c.text, texts, err)
		}
	}
}

type season struct {
	Opens schema.Date         `json:"opens" rule:"minimum=2026-04-01 exclusiveMaximum=2026-11-01"`
	From  schema.TimeOfDay    `json:"from" rule:"maximum=12:00:00 default=06:00:00"`
	Ends  *schema.Date        `json:"ends"`
	Plate plate               `json:"plate,omitzero" rule:"format=uuid"`
	Days  []schema.Date       `json:"days,omitzero" rule:"items.minimum=2026-01-01 uniqueItems"`
	By    map[schema.Date]int `json:"by,omitzero"`
}

// Civil dates and times have limits, are keys and defaults, are stored as texts, and say in a schema what they are.
func TestCivilDates(t *testing.T) {
	typ := compiled(t, reflect.TypeFor[season]())
	for _, c := range []struct{ text, want string }{
		{`{"opens":"2026-04-01"}`, ""},
		{`{"opens":"2026-10-31","from":"12:00:00","ends":null,"days":["2026-01-01"],"by":{"2026-01-01":1}}`, ""},
		{`{"opens":"2026-03-31"}`, `/opens minimum must be at least 2026-04-01`},
		{`{"opens":"2026-11-01"}`, `/opens exclusiveMaximum must be less than 2026-11-01`},
		{`{"opens":"2026-05-01","from":"12:00:00.1"}`, `/from maximum must be at most 12:00:00`},
		{`{"opens":"2026-05-01","days":["2025-01-01"]}`, `/days/0 minimum must be at least 2026-01-01`},
		{`{"opens":"2026-05-01","plate":"OB-1"}`, `/plate format must be a UUID`},
		{`{"opens":"1 May","from":7}`, `/opens format is not a valid date: write a date such as 2026-05-04 (RFC 3339)|/from type is not a valid timeofday`},
		{`{}`, `/opens required is missing`},
	} {
		var v season
		found, _ := typ.Decode([]byte(c.text), &v, Reading{})
		var got []string
		for _, f := range found {
			got = append(got, f.Pointer+" "+f.Rule+" "+f.Detail)
		}
		if strings.Join(got, "|") != c.want {
			t.Errorf("%s: %s, want %s", c.text, strings.Join(got, "|"), c.want)
		}
		if c.want == "" && v.From.String() != "06:00:00" && v.From.String() != "12:00:00" {
			t.Errorf("the default is %v", v.From)
		}
	}
	if doc := string(typ.Inline(Direction{})); !strings.Contains(doc, `"opens":{"format":"date","formatExclusiveMaximum":"2026-11-01","formatMinimum":"2026-04-01","type":"string"}`) {
		t.Error(doc)
	}
	for _, wrong := range []struct{ tag, want string }{{`rule:"minimum=May"`, "is not a valid date"}, {`rule:"minimum=2026-05-02 maximum=2026-05-01"`, "nothing can keep it"}, {`rule:"multipleOf=2"`, "is for numbers"}} {
		field := reflect.StructField{Name: "A", Type: reflect.TypeFor[schema.Date](), Tag: reflect.StructTag(wrong.tag)}
		if _, err := new(Set).Type(reflect.StructOf([]reflect.StructField{field})); err == nil || !strings.Contains(err.Error(), wrong.want) {
			t.Errorf("%s: %v", wrong.tag, err)
		}
	}
	day, at := schema.NewDate(2026, time.February, 30), schema.NewTimeOfDay(9*time.Hour+500*time.Millisecond)
	if day.String() != "2026-03-02" || day.AddDays(-2).String() != "2026-02-28" || day.Weekday() != time.Monday || at.On(day, time.UTC).Format(time.RFC3339Nano) != "2026-03-02T09:00:00.5Z" || schema.DateOf(at.On(day, time.UTC)) != day || schema.TimeOfDayOf(at.On(day, time.UTC)) != at || (schema.Date{}).String() != "0001-01-01" {
		t.Error(day, at)
	}
	for _, stored := range []any{"2026-03-02", []byte("2026-03-02"), day.In(time.UTC), "2026-03-02T00:00:00Z", nil, "May"} {
		var d schema.Date
		if err := d.Scan(stored); (err == nil) != (stored != nil && stored != "May") || err == nil && d != day {
			t.Errorf("%v: %v %v", stored, d, err)
		}
	}
}
