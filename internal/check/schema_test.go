package check

import (
	"net/netip"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/schema"
)

type stop struct {
	Lock string `json:"lock" rule:"minLength=1 maxLength=8"`
	Wait *int   `json:"wait" rule:"minimum=5"`
}

type common struct {
	Remark string `json:"remark,omitzero" rule:"maxLength=5"`
	Bay    int    `json:"bay,omitzero"`
	Slip   int    `json:"slip,omitzero"`
}

type voyage struct {
	common
	Vessel    string                  `json:"vessel" rule:"pattern='^[A-Z]{2}-[0-9]{4}$'"`
	Direction string                  `json:"direction" rule:"enum=up|down"`
	Slot      time.Time               `json:"slot"`
	Crew      int                     `json:"crew" rule:"minimum=1 maximum=40 default=2"`
	Deposit   uint8                   `json:"deposit"`
	Quiet     bool                    `json:"quiet"`
	Level     float64                 `json:"level,omitempty" rule:"minimum=-0.5 maximum=9.5"`
	Stops     []stop                  `json:"stops,omitzero" rule:"maxItems=2"`
	ByLock    map[string]stop         `json:"byLock,omitzero"`
	ByNumber  map[int]bool            `json:"byNumber,omitzero"`
	Mate      *voyage                 `json:"mate"`
	Size      [2]float64              `json:"size,omitzero"`
	Seal      []byte                  `json:"seal,omitzero"`
	Free      any                     `json:"free,omitzero"`
	Big       int64                   `json:"big,string,omitzero" rule:"minimum=0"`
	Pilot     schema.Optional[string] `json:"pilot,omitzero" rule:"minLength=2"`
	Locks     []string                `json:"locks,omitzero" rule:"uniqueItems items.maxLength=5"`
	Mail      string                  `json:"mail,omitzero" rule:"format=email"`
	Step      float64                 `json:"step,omitzero" rule:"multipleOf=0.1 exclusiveMaximum=2"`
	Window    window                  `json:"window,omitzero"`

	Grid    [][]int           `json:"grid,omitzero"`
	Loose   []common          `json:"loose,omitzero" rule:"uniqueItems"`
	ByLoose map[string]common `json:"byLoose,omitzero"`
	Address *netip.Addr       `json:"address"`
	Left    *time.Time        `json:"left"`
	Never   *string           `json:"never" rule:"type=string"`
	Number  int               `json:"number" rule:"readOnly"`
	Tree    *branch           `json:"tree"`
	tail
	*Pier
	Plates  []plate                     `json:"plates,omitzero"`
	Moments []*time.Time                `json:"moments,omitzero" rule:"uniqueItems"`
	Works   []schema.OneOf[work, works] `json:"works,omitzero"`
}

// A branch has the list of those below it before its rule, so that the type is met
// inside itself before it is known.
type branch struct {
	Below []branch `json:"n,omitzero"`
	Size  int      `json:"size,omitzero" rule:"maximum=8"`
}

func (b branch) Check(r *schema.Report) {
	for _, below := range b.Below {
		if b.Size > 0 && below.Size >= b.Size {
			r.Fault("", "shrink", "must be larger than what is below it")
		}
	}
}

type Pier struct {
	Berths int    `json:"berths,omitzero" rule:"minimum=1"`
	Wharf  string `json:"wharf" rule:"minLength=2"`
}

type tail struct {
	Mark string `json:"mark,omitzero" rule:"maxLength=2"`
	Deep int    `json:"deep,omitzero" rule:"minimum=1"`
}

type plate string

func (p *plate) Check(r *schema.Report) {
	if !strings.HasPrefix(string(*p), "OB-") {
		r.Fault("", "plate", "must begin with OB-")
	}
}

type window struct {
	From int `json:"from"`
	To   int `json:"to" rule:"default=9"`
}

func (w *window) Check(r *schema.Report) {
	if w.From >= w.To {
		r.Fault("/to", "order", "must come after from")
	}
}

const goodVoyage = `"vessel":"OB-1001","direction":"up","slot":"2027-05-04T09:30:00Z","deposit":0,"quiet":false`

func deposit(n string) string { return strings.Replace(goodVoyage, `"deposit":0`, `"deposit":`+n, 1) }

func compiled(t testing.TB, of reflect.Type) *Type {
	var s Set
	typ, err := s.Type(of)
	if err != nil {
		t.Fatal(err)
	}
	return typ
}

// Every row is a text and the faults it has: pointer, rule, and ! for what is
// unreadable.
var decodings = []struct {
	text   string
	faults []string
}{
	{`{` + goodVoyage + `}`, nil},
	{`{` + goodVoyage + `,"crew":0}`, []string{"/crew minimum"}}, // a zero that was sent is no default
	{`{` + goodVoyage + `,"crew":41}`, []string{"/crew maximum"}},
	{`{` + goodVoyage + `,"crew":null}`, []string{"/crew type!"}},
	{`{` + goodVoyage + `,"mate":null,"free":null}`, nil}, // null has a place there
	{`{` + goodVoyage + `,"mate":{"vessel":"x"}}`, []string{"/mate/vessel pattern", "/mate/direction required", "/mate/slot required", "/mate/deposit required", "/mate/quiet required"}},
	{`{"free":"null",` + goodVoyage + `}`, nil},
	{`{` + goodVoyage + `,"pilot":null}`, nil},
	{`{` + goodVoyage + `,"pilot":"x"}`, []string{"/pilot minLength"}},
	{`{` + goodVoyage + `,"pilot":7}`, []string{"/pilot type!"}},
	{`{` + goodVoyage + `,"locks":["bell","heronry","bell",null]}`, []string{"/locks/1 maxLength", "/locks/3 type!", "/locks uniqueItems"}},
	{`{` + goodVoyage + `,"mail":"a b"}`, []string{"/mail format"}},
	{`{` + goodVoyage + `,"step":0.3}`, nil},
	{`{` + goodVoyage + `,"step":2.05}`, []string{"/step multipleOf", "/step exclusiveMaximum"}},
	{`{` + goodVoyage + `,"window":{"from":3}}`, nil}, // the default comes before the check
	{`{` + goodVoyage + `,"window":{"from":9}}`, []string{"/window/to order"}},
	{`{` + goodVoyage + `,"crew":99,"window":{"from":9}}`, []string{"/crew maximum", "/window/to order"}},
	{`{` + goodVoyage + `,"window":{"from":"x","to":1}}`, []string{"/window/from type!"}}, // not asked while a member is wrong
	{`{` + goodVoyage + `,"free":` + strings.Repeat("[", 65) + strings.Repeat("]", 65) + `}`, []string{" depth!"}},
	{`{` + goodVoyage + `,"stops":[{"lock":"bell","wait":null},{"lock":"","wait":4}]}`, []string{"/stops/1/lock minLength", "/stops/1/wait minimum"}},
	{`{` + goodVoyage + `,"stops":[{"lock":"a"},{"lock":"b"},{"lock":null}]}`, []string{"/stops/2/lock type!", "/stops maxItems"}},
	{`{` + goodVoyage + `,"stops":[null]}`, []string{"/stops/0 type!"}},
	{`{` + goodVoyage + `,"stops":null}`, []string{"/stops type!"}},
	{`{` + goodVoyage + `,"byLock":{"a/b~":{"lock":"ninechars"}}}`, []string{"/byLock/a~1b~0/lock maxLength"}},
	{`{` + goodVoyage + `,"byLock":{"a":{}}}`, []string{"/byLock/a/lock required"}},
	{`{` + goodVoyage + `,"byNumber":{"7":true,"x":true}}`, []string{"/byNumber/x propertyNames!"}},
	{`{` + goodVoyage + `,"byNumber":{"7":null}}`, []string{"/byNumber/7 type!"}},
	{`{` + goodVoyage + `,"remark":"äöüßé"}`, nil}, // characters, not bytes
	{`{` + goodVoyage + `,"remark":"sixsix"}`, []string{"/remark maxLength"}},
	{`{` + goodVoyage + `,"size":[1]}`, []string{"/size maxItems!"}},
	{`{` + goodVoyage + `,"seal":"###"}`, []string{"/seal format!"}},
	{`{` + goodVoyage + `,"big":"-1"}`, []string{"/big minimum"}},
	{`{` + goodVoyage + `,"big":1}`, []string{"/big type!"}},
	{`{` + goodVoyage + `,"level":1e1}`, []string{"/level maximum"}},
	{`{` + goodVoyage + `,"Crew":3,"colour":1}`, []string{"/Crew additionalProperties", "/colour additionalProperties"}},
	{`{` + goodVoyage + `,"quiet":true}`, []string{"/quiet unique!"}},
	{`{"\u0076essel":"OB-1001",` + goodVoyage[len(`"vessel":"OB-1001",`):] + `}`, nil},
	{`{"vessel":1,"direction":true,"slot":"noon","deposit":256,"quiet":"no"}`,
		[]string{"/vessel type!", "/direction type!", "/slot format!", "/deposit type!", "/quiet type!"}},
	{`{"crew":1.5,` + goodVoyage + `}`, []string{"/crew type!"}},
	{`{}`, []string{"/vessel required", "/direction required", "/slot required", "/deposit required", "/quiet required"}},
	{`null`, []string{" type!"}},
	{`[]`, []string{" type!"}},
	{``, []string{" syntax!"}},
	{`  `, []string{" syntax!"}},
	{`{"vessel":"OB-1001"`, []string{" syntax!"}},
	{`{"vessel":"none",}`, []string{"/vessel pattern", " syntax!"}},
	{`{` + deposit("1e2") + `,"crew":3.0}`, nil}, // JSON Schema validation, 6.1.1
	{`{` + deposit("2.56e2") + `}`, []string{"/deposit type!"}},
	{`{` + deposit("1e-1") + `}`, []string{"/deposit type!"}},
	{`{` + goodVoyage + `,"crew":41.0}`, []string{"/crew maximum"}},
	{`{` + goodVoyage + `,"crew":1e400000000}`, []string{"/crew type!"}},
	{`{` + goodVoyage[:strings.Index(goodVoyage, "2027")] + `2016-12-31t23:59:60z","deposit":0,"quiet":true}`, nil}, // RFC 3339, 5.6
	{`{` + goodVoyage + `,"step":2000000.001}`, []string{"/step multipleOf", "/step exclusiveMaximum"}},
	{`{` + goodVoyage + `,"grid":[[1],null]}`, []string{"/grid/1 type!"}},
	{`{` + goodVoyage + `,"loose":[{},null]}`, []string{"/loose/1 type!"}},
	{`{` + goodVoyage + `,"byLoose":{"a":{},"b":null}}`, []string{"/byLoose/b type!"}},
	{`{` + goodVoyage + `,"address":"192.0.2.1","left":null}`, nil},
	{`{` + goodVoyage + `,"address":"192.0.2"}`, []string{"/address format!"}},
	{`{` + goodVoyage + `,"never":null}`, []string{"/never type!"}},
	{`{` + goodVoyage + `,"never":"x"}`, nil},
	{`{` + goodVoyage + `,"number":7}`, []string{"/number readOnly"}},
	{`{` + goodVoyage + `,"number":0}`, []string{"/number readOnly"}},
	{`{` + goodVoyage + `,"number":0,"crew":"x"}`, []string{"/number readOnly", "/crew type!"}},
	{`{` + goodVoyage + `,"tree":{"n":[{"n":[{"n":null},{"size":9}]}]}}`, []string{"/tree/n/0/n/0/n type!", "/tree/n/0/n/1/size maximum"}},
	{`{` + goodVoyage + `,"tree":{"n":[{"size":3,"n":[{"size":3}]}]}}`, []string{"/tree/n/0 shrink"}},
	{`{` + goodVoyage + `,"tree":{"n":[{"size":3,"n":[{"size":3}]}],"size":"x"}}`, []string{"/tree/size type!", "/tree/n/0 shrink"}},
	{`{` + goodVoyage + `,"plates":["x"]}`, []string{"/plates/0 plate"}},
	{`{` + goodVoyage + `,"mark":"abc","deep":-1}`, []string{"/mark maxLength", "/deep minimum"}},
	{`{` + goodVoyage + `,"mark":"ab","deep":1}`, nil},
	{`{` + goodVoyage + `,"berths":0,"wharf":"x"}`, []string{"/berths minimum", "/wharf minLength"}}, // in an embedded pointer
	{`{` + goodVoyage + `,"wharf":"xy"}`, nil},
	{`{` + goodVoyage + `,"loose":[{},{"remark":""}]}`, nil}, // not the same in JSON
	{`{` + goodVoyage + `,"loose":[{"remark":"a"},{"remark":"\u0061"}]}`, []string{"/loose uniqueItems"}},
	{`{` + goodVoyage + `,"loose":[{"bay":1,"slip":2},{"slip":2, "bay":1}]}`, []string{"/loose uniqueItems"}},
	{`{` + goodVoyage + `,"moments":["2027-05-04T09:30:00Z","2027-05-04T09:30:00Z"]}`, []string{"/moments uniqueItems"}},
	{`{` + goodVoyage + `} true`, []string{" syntax!"}},
	{"{\"vessel\":\"\xff\"}", []string{"/vessel syntax!"}},
}

func TestDecode(t *testing.T) {
	typ := compiled(t, reflect.TypeFor[voyage]())
	for _, c := range decodings {
		var v voyage
		var got []string
		found, more := typ.Decode([]byte(c.text), &v, Reading{})
		if more {
			t.Errorf("%s: more faults than there are", c.text)
		}
		for _, f := range found {
			mark := ""
			if f.Unreadable {
				mark = "!"
			}
			if f.Detail == "" {
				t.Errorf("%s: %s has no sentence", c.text, f.Rule)
			}
			got = append(got, f.Pointer+" "+f.Rule+mark)
		}
		if !slices.Equal(got, c.faults) {
			t.Errorf("%s\n got %q\nwant %q", c.text, got, c.faults)
		}
	}
	var v voyage
	typ.Decode([]byte(`{`+goodVoyage+`,"mate":{`+goodVoyage+`},"stops":[{"lock":"a"}]}`), &v, Reading{})
	if v.Crew != 2 || v.Mate == nil || v.Mate.Crew != 2 {
		t.Errorf("defaults: crew %d, mate %+v", v.Crew, v.Mate)
	}
}

// How long the rules of a decoded struct take; the second is what reflection alone
// would take.
func BenchmarkExamine(b *testing.B) {
	type plain struct {
		Vessel    string  `json:"vessel" rule:"pattern='^[A-Z]{2}-[0-9]{4}$'"`
		Direction string  `json:"direction" rule:"enum=up|down"`
		Crew      int     `json:"crew" rule:"minimum=1 maximum=40"`
		Level     float64 `json:"level" rule:"maximum=9.5"`
		Quiet     bool    `json:"quiet"`
	}
	typ := compiled(b, reflect.TypeFor[plain]())
	v := reflect.ValueOf(&plain{"OB-1001", "up", 3, 1.5, true})
	b.Run("direct", func(b *testing.B) {
		for b.Loop() {
			typ.examine(v.Elem())
		}
	})
	b.Run("reflection", func(b *testing.B) {
		for _, f := range typ.fields {
			f.reads = byReflection
		}
		for b.Loop() {
			typ.examine(v.Elem())
		}
	})
}

// What one value does with its default is not seen by the next.
func TestDefaultsAreNotShared(t *testing.T) {
	type crewed struct {
		Crew *int   `json:"crew" rule:"default=2"`
		Seal []byte `json:"seal" rule:"default=YWI="`
	}
	typ := compiled(t, reflect.TypeFor[crewed]())
	for range 2 {
		var v crewed
		if faults, _ := typ.Decode([]byte(`{}`), &v, Reading{}); faults != nil || *v.Crew != 2 || string(v.Seal) != "ab" {
			t.Fatalf("%+v %v", v, faults)
		}
		*v.Crew, v.Seal[0] = 3, 'x'
	}
}

// The fast path and the one that reports must agree on what is well.
func FuzzDecode(f *testing.F) {
	for _, c := range decodings {
		f.Add([]byte(c.text))
	}
	f.Add([]byte(strings.Replace(`{`+goodVoyage+`,"tree":{"size":1,"n":[{"size":1}]}}`, "T09", "t09", 1)))
	f.Add([]byte(`{` + goodVoyage + `,"works":[{"metres":1,"kind":"dredging"},{"kind":"season","works":[]}]}`))
	typ := compiled(f, reflect.TypeFor[voyage]())
	f.Fuzz(func(t *testing.T, data []byte) {
		var v voyage
		if tooDeep(data) {
			return
		}
		const all = 1 << 20
		ok, err := typ.fast(data, &v, Strict)
		own := report{faults: bounded(all)}
		if ok {
			typ.judge(reflect.ValueOf(&v).Elem(), &own)
			ok = own.found == nil
		}
		r := typ.report(data, Reading{Most: all}, errUnknown)
		found := r.found
		sent := slices.ContainsFunc(found, func(f schema.Fault) bool { return f.Rule == "readOnly" }) // the fast path does not look for it
		if ok != (found == nil) && r.other == nil && !sent {
			if again := typ.decode(data, new(voyage), Reading{}, false); again.found != nil {
				t.Errorf("%q: fast %v (%v), reported %+v, decoded %+v", data, ok, err, found, again.found)
			}
		}
		if err != nil { // what decoding knows may move the place of what is no JSON, and nothing else
			syntax := func(f schema.Fault) bool { return f.Rule == "syntax" }
			told := typ.report(data, Reading{Most: all}, err).found
			if (told == nil) != (found == nil) || slices.ContainsFunc(told, syntax) != slices.ContainsFunc(found, syntax) {
				t.Errorf("%q: with the error %+v, without it %+v", data, told, found)
			}
		}
		if other := r.rewritten(); other != nil {
			// What Checks find is only asked of a text that can be decoded as it is.
			byCheck := func(f schema.Fault) bool {
				return slices.Contains([]string{"shrink", "plate", "order", "strength"}, f.Rule)
			}
			if again := typ.decode(other, new(voyage), Reading{}, false); len(slices.DeleteFunc(again.found, byCheck)) > 0 {
				t.Errorf("%q is rewritten as %q, which has %+v", data, other, again.found)
			}
		}
		if one := typ.report(data, Reading{Most: 1}, errUnknown); len(one.found) != min(1, len(found)) || one.faults.more != (len(found) > 1) {
			t.Errorf("%q: bounded by one %+v, else %+v", data, one.found, found)
		}
	})
}

func TestMistakesInTypes(t *testing.T) {
	for _, c := range []struct {
		of   any
		tag  reflect.StructTag
		want string
	}{
		{0, `rule:"minimun=1"`, `unknown keyword`},
		{"", `rule:"minimum=1"`, `is for numbers, and texts with a method Compare, not for string`},
		{0, `rule:"minimum=x"`, `"x" is not a number`},
		{0, `rule:"minimum=1" says:"maximum='is too large'"`, `says maximum: the field has no such rule`},
		{0, `rule:"minimum=1" says:"minimum"`, `says minimum: the sentence is missing`},
		{0, `rule:"minimum=1 default=0"`, `rule default: 0 breaks the field's own rule: it must be at least 1`},
		{0, `rule:"default=two"`, `rule default: "two" must be a whole number`},
		{0, `rule:"minimum=1 minimum=2"`, `is given twice`},
		{0, `rule:"minimum"`, `needs a value`},
		{0, `rule:"required default=2"`, `a required value needs none`},
		{"", "rule:\"pattern='^\\d+$'\"", `dropped by Go`},
		{"", `rule: "required"`, `struct tag is broken`},
		{"", `rule:"format=postcode"`, `unknown format "postcode" (known: date, date-time`},
		{0, `rule:"items.minimum=1"`, `is for lists, not for int`},
		{[]int{}, `rule:"items.minLength=1"`, `is for text, not for int`},
		{[]any{}, `rule:"uniqueItems"`, `cannot be compared`},
		{schema.Optional[int]{}, `rule:"default=1"`, `an Optional is absent`},
		{"", `rule:"pattern='^a"`, `never closed`},
		{"", `rule:"pattern=(?i)a"`, `only (?: is known`},
		{"", `rule:"pattern=\\Aa"`, `not read alike`},
		{time.Second, ``, `time.Duration has no agreed JSON form`},
		{[]map[string]chan int{}, ``, `the type chan int has no JSON form`},
		{map[bool]int{}, ``, `a map with keys of type bool`},
		{[]error{}, ``, `into the interface error`},
		{0, `json:"x"`, `belongs to another field already`},
	} {
		var s Set
		_, err := s.Type(reflect.StructOf([]reflect.StructField{
			{Name: "X", Type: reflect.TypeFor[int](), Tag: `json:"x"`},
			{Name: "A", Type: reflect.TypeOf(c.of), Tag: c.tag},
		}))
		if err == nil || !strings.Contains(err.Error(), c.want) || !strings.Contains(err.Error(), "}.A") {
			t.Errorf("%T with %s: wanted %q with the field's name, got: %v", c.of, c.tag, c.want, err)
		}
	}
}

func TestFormats(t *testing.T) {
	for format, texts := range map[string][2]string{ // what holds, and what does not, separated by spaces
		"date-time": {"2027-05-04T09:30:00Z 2027-05-04T09:30:00.5+01:00 2027-05-04t09:30:00z 2016-12-31T23:59:60Z 2017-01-01T00:59:60+01:00",
			"2027-05-04 2027-13-04T09:30:00Z 2027-05-04T09:30:00 2027-05-04T9:30:00Z 2027-05-04T09:30:00,5Z 2027-05-04T09:30:00+24:00 2027-05-04T09:30:60Z 2027-05-04T24:00:00Z 9999-12-31T23:59:60Z"},
		"date":     {"2027-02-28", "2027-02-29 04/05/2027"},
		"time":     {"09:30:00Z 09:30:00+02:00 23:59:60Z", "09:30 25:00:00Z 9:30:00Z 09:30:00 09:30:00+2:00 12:00:60Z"},
		"duration": {"P1D PT2H P1Y2M3DT4H5M6S P3W PT1M30S", "P 1D PT P1W2D P1Y2D PT1H2S"},
		"email":    {`warden@canal.example a+b@x "a.b"@canal.example w@[192.0.2.1] w@[IPv6:2001:db8::1]`, "warden @canal.example Warden<w@canal.example> .a@x a..b@x a@-x a@x. @x a@ ä@x a@[192.0.2] " + strings.Repeat("a", 65) + "@x"},
		"hostname": {"canal.example a-b.example x", "-a.example a..b a.example. " + strings.Repeat("a", 64)},
		"ipv4":     {"192.0.2.1", "192.0.2 2001:db8::1 192.0.2.01"},
		"ipv6":     {"2001:db8::1 ::", "192.0.2.1 2001:db8::1%eth0"},
		"uri":      {"https://canal.example/a?b#c urn:uuid:1 http://[2001:db8::1]:80/ http://u:p@h:8/%20 a:", "/a canal.example http://a|b http://a/%zz http://[x] http://a:b/ 1a:b http://é/ http://a/#b#c"},
		"uuid":     {"0d4b7f6e-6c8f-4c1e-9a53-5f7f0c6ddcb2", "0d4b7f6e6c8f4c1e9a535f7f0c6ddcb2"},
		"regex":    {"^a.b$", "( (?=a)"},
	} {
		for i, list := range texts {
			for _, text := range strings.Fields(list) {
				if formats[format].holds(text) != (i == 0) {
					t.Errorf("%s: %q holds: %v", format, text, i != 0)
				}
			}
		}
	}
}

// The package comment names every keyword and format that there is.
func TestThePackageCommentIsComplete(t *testing.T) {
	source, err := os.ReadFile("../../schema/schema.go")
	if err != nil {
		t.Fatal(err)
	}
	comment, _, _ := strings.Cut(string(source), "package schema\n")
	words := strings.FieldsFunc(comment, func(r rune) bool { return strings.ContainsRune(" \t\n,.=()", r) })
	for _, k := range keywords {
		if !slices.Contains(words, k.name) {
			t.Errorf("the keyword %s is not named", k.name)
		}
	}
	for name := range formats {
		if !slices.Contains(words, name) {
			t.Errorf("the format %s is not named", name)
		}
	}
}

// A pattern that is matched as a sequence says the same as its regular expression.
func FuzzSequence(f *testing.F) {
	for _, p := range []string{`^[A-Z]{2}-[0-9]{4}$`, `^a+b?c$`, `^[a-c]*[d-f]{1,3}$`, `^ab{2,}\.x$`, `^a*a$`, `^a?b?c$`, `^(?:a|b)$`, `^\d+$`} {
		f.Add(p, "OB-1001")
		f.Add(p, "aabc")
	}
	f.Fuzz(func(t *testing.T, pattern, text string) {
		re, err := CompilePattern(pattern)
		if err != nil {
			return
		}
		if q := asSequence(re.String()); q != nil && q.match(text) != re.MatchString(text) {
			t.Errorf("%q on %q: the regular expression says %v", pattern, text, !q.match(text))
		}
	})
}

// Where Go and ECMA-262 differ, ECMA-262 is followed.
func TestPatternsAreReadAsECMA262(t *testing.T) {
	for _, c := range []struct {
		pattern, text string
		match         bool
	}{
		{`^a.b$`, "a\u2028b", false},
		{`^a.b$`, "a\rb", false},
		{`^a\sb$`, "a\u00a0b", true},
		{`^[\s]$`, "\ufeff", true},
		{`^\S$`, "\u00a0", false},
		{`^[.]$`, "x", false},
		{`b`, "abc", true}, // a pattern is not anchored
		{`^\u00e9$`, "é", true},
		{`^(?:a|b)\/\d{2}$`, "b/42", true},
		{`^[\D]$`, "x", true},
		{`^[-a-c]$`, "-", true},
		{`^[a-c-]$`, "-", true},
		{`^[a\-c]$`, "b", false},
		{`^[\b]$`, "\b", true},
		{`^\cA\0$`, "\x01\x00", true},
		{`^\u{1F600}\ud83d\ude00$`, "😀😀", true},
		{`^\x41{2,}?$`, "AA", true},
		{`^\p{Lu}\P{Lu}\p{Script=Greek}\p{sc=Greek}$`, "Aaαβ", true},
		{`^()|(a){2,3}$`, "aaa", true},
		{`^[&&~~]$`, "&", true},
		{`\bup\b\B`, "up", false},
	} {
		re, err := CompilePattern(c.pattern)
		if err != nil || re.MatchString(c.text) != c.match {
			t.Errorf("%s on %q: want %v (%v)", c.pattern, c.text, c.match, err)
		}
	}
}

// What only one of Go and ECMA-262 knows, or what they read differently, is refused.
func TestPatternsThatAreRefused(t *testing.T) {
	for _, pattern := range []string{
		`\`, `a\`, `\u12`, `\u{`, `\u{}`, `\u{110000}`, `\u{d800}`, `\ud800`, `\ud800\u0041`, `\udc00`, `\x1`, `\xg0`, `\c1`, `\c`, `\01`, `\1`, `\8`, `\k`, `\a`, `\A`, `\z`, `\Q`, `\-`, `\_`, `\é`,
		`\p`, `\pL`, `\p{`, `\p{Greek}`, `\p{C}`, `\p{Cn}`, `\p{Script=Nowhere}`, `\p{Letter}`, `[\S]`, `[]`, `[^]`, `[^]a]`, `[[]`, `[[:alpha:]]`, `[a`, `[a-`, `[a-c`, `[b-a]`, `[\d-a]`, `[a-\d]`, `[a-c-e]`, `[a--]`,
		`*a`, `+`, `?`, `^*`, `$+`, `\b+`, `|*`, `(*a)`, `a**`, `a{1}{2}`, `a+?+`, `{`, `}`, `]`, `a]`, `{1}`, `a{`, `a{,2}`, `a{1`, `a{b}`, `a{2,1}`, `a{1001}`, `(`, `a)`, `(a`, `(?i)a`, `(?=a)`, `(?!a)`, `(?<n>a)`, `(?P<n>a)`, "\xff",
	} {
		if re, err := CompilePattern(pattern); err == nil || !strings.HasPrefix(err.Error(), "the pattern "+pattern+": ") {
			t.Errorf("%q is taken for %v: %v", pattern, re, err)
		}
	}
}

type pair[A, B any] struct {
	First  A   `json:"first" note:"The first"`
	Second []B `json:"second,omitzero" rule:"uniqueItems items.maxLength=5"`
}

type tree struct {
	Name  string                 `json:"name" rule:"pattern=^a writeOnly default=ab"`
	Size  schema.Optional[uint8] `json:"size,omitzero" rule:"maximum=9"`
	Below []tree                 `json:"below,omitzero"`
	Left  *tree                  `json:"left"`
	Pair  pair[bool, string]     `json:"pair"`
	When  time.Time              `json:"when"`
	Any   any                    `json:"any,omitzero"`
}

func TestDocument(t *testing.T) {
	const want = `{"$defs":{
		"pairOfboolAndstring":{"additionalProperties":false,"properties":{
			"first":{"description":"The first","type":"boolean"},
			"second":{"items":{"maxLength":5,"type":"string"},"type":"array","uniqueItems":true}},
			"required":["first"],"type":"object"},
		"tree":{"additionalProperties":false,"properties":{
			"any":{},
			"below":{"items":{"$ref":"#/$defs/tree"},"type":"array"},
			"left":{"anyOf":[{"$ref":"#/$defs/tree"},{"type":"null"}]},
			"name":{"default":"ab","pattern":"^a","type":"string","writeOnly":true},
			"pair":{"$ref":"#/$defs/pairOfboolAndstring"},
			"size":{"format":"uint8","maximum":9,"minimum":0,"type":["integer","null"]},
			"when":{"format":"date-time","type":"string"}},
			"required":["pair","when"],"type":"object"}},
		"$ref":"#/$defs/tree","$schema":"https://json-schema.org/draft/2020-12/schema"}`
	if text := string(compiled(t, reflect.TypeFor[struct{ C, B, A int }]()).Document()); !strings.Contains(strings.Join(strings.Fields(text), ""), `"required":["A","B","C"]`) {
		t.Errorf("what is required is in no order: %s", text)
	}
	got := compiled(t, reflect.TypeFor[tree]()).Document()
	expected := jsontext.Value(want)
	if expected.Canonicalize() != nil || got.Canonicalize() != nil || string(got) != string(expected) {
		t.Errorf("got  %s\nwant %s", got, expected)
	}
}
