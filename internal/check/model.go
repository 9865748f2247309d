package check

import (
	"encoding"
	"reflect"
	"slices"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/internal/oneof"
	"github.com/wicketway/wicketway/schema"
)

// A Set compiles Go types, each once. The zero Set is ready. It is not safe for
// concurrent use; the types it gives are immutable and are.
type Set struct {
	// Refuse reports mistakes in a type as JSON, where a member, an item or a whole value has it; "":
	// nothing. Whole says which of them it is.
	Refuse func(t reflect.Type, whole bool) string
	types  map[reflect.Type]*Type
}

// A Type is what a Set knows of a Go type.
type Type struct {
	goType reflect.Type
	shape  shape
	elem   *Type    // of a list, a map, a pointer or an Optional
	cases  *choice  // of one of several types
	tells  []string // the members that tell types apart, at and below a type that is open
	called string   // in definitions, where the Go type has no name
	fields []*field
	byName map[string]*field
	null   bool // null has a place in the Go type
	deep   bool // something at or below this type must be checked after decoding
	checks bool // the type has a Check of its own
	judges bool // it has, or a type below it
	open   bool // what is nested in it is not bounded by the type
	// recursive: the type contains itself.
	recursive bool
	readOnly  bool // it has, or a type below it, a member that only the server sets
	outdated  bool // it has, or a type below it, a member that is deprecated
}

type shape uint8

const (
	anything shape = iota // an interface, or a type with JSON methods of its own
	boolean
	integer
	number
	text
	moment  // time.Time
	encoded // a type with text methods of its own
	bytes   // []byte, in base64
	list
	mapping
	object
	pointer
	either // an Optional
	oneOf  // a value of one of several types, which a member tells apart
)

// A field is one member of an object.
type field struct {
	name   string
	number int // its place in Type.fields
	index  []int
	first  int  // index[0]
	direct bool // the index has no more
	offset uintptr
	reads  reading
	plain  bool // the name is written in JSON as it is
	// marker is the name in quotes; "" where a member of another object can have it as well, or where there is more to
	// know than that the member is there.
	marker   string
	typ      *Type
	rules    rules
	items    rules    // for each item of a list
	words    []string // keywords that are for readers of the schema
	since    string   // of one that is deprecated
	null     bool     // null may be there
	readOnly bool     // only the server sets it
	required bool
	always   bool          // it is in every value that is sent
	fallback reflect.Value // the default, where there is one
	missing  string        // what is told where it is required and absent
	rule     string        // as it was written
	note     string
	example  reflect.Value // the tag example, where there is one
	quoted   bool          // a number inside a JSON string
	site     site          // what is asked of a value of the member
}

var (
	timeType     = reflect.TypeFor[time.Time]()
	durationType = reflect.TypeFor[time.Duration]()
	valueType    = reflect.TypeFor[jsontext.Value]()

	jsonInterfaces = []reflect.Type{
		reflect.TypeFor[json.Unmarshaler](), reflect.TypeFor[json.UnmarshalerFrom](),
		reflect.TypeFor[json.Marshaler](), reflect.TypeFor[json.MarshalerTo](),
	}
	textInterfaces = []reflect.Type{
		reflect.TypeFor[encoding.TextUnmarshaler](), reflect.TypeFor[encoding.TextMarshaler](),
		reflect.TypeFor[encoding.TextAppender](),
	}
)

// TextKey is a keyword of our own, for the schema of a type with text methods: which texts it reads only its methods know.
// Its value is the name of the type.
const TextKey = "x-wicketway-text"

// base is the type behind pointers: what rules speak about.
func (t *Type) base() *Type {
	for t.shape == pointer || t.shape == either {
		t = t.elem
	}
	return t
}

// of gives the field's value in a struct; false where it is in an embedded
// pointer that is nil.
func (f *field) of(v reflect.Value) (reflect.Value, bool) {
	if f.direct {
		return v.Field(f.first), true
	}
	for i, n := range f.index {
		if i > 0 && v.Kind() == reflect.Pointer {
			if v.IsNil() {
				return reflect.Value{}, false
			}
			v = v.Elem()
		}
		v = v.Field(n)
	}
	return v, true
}

func (f *field) deprecated() bool { return slices.Contains(f.words, "deprecated") }

func implements(t reflect.Type, any []reflect.Type) bool {
	for _, i := range any {
		if t.Kind() != reflect.Interface && (t.Implements(i) || t.Kind() != reflect.Pointer &&
			reflect.PointerTo(t).Implements(i)) {
			return true
		}
	}
	return false
}

func isInteger(k reflect.Kind) bool { return reflect.Int <= k && k <= reflect.Uintptr }

// isPlainText reports whether map keys of a type are texts as they are.
func isPlainText(t reflect.Type) bool {
	return t.Kind() == reflect.String && !implements(t, textInterfaces)
}

type checker interface{ Check(*schema.Report) }

var checkerType = reflect.TypeFor[checker]()

// A choice is what is known of a closed set of types.
type choice struct {
	set *oneof.Set
	// of are the types by their Go type, for values; texts by name, for JSON: they have the member that tells the
	// types apart as well, and are never asked for a value.
	of    map[reflect.Type]*Type
	texts map[string]*Type
	// unknown is what an object of no known type must have.
	unknown *Type
}

// A site is what is asked of a value where it is.
type site struct {
	typ    *Type
	null   bool
	rules  rules
	items  rules
	quoted bool
	needed bool   // or else a zero value is as good as none
	unread string // a sentence for a value of another type; "": the usual one
}

// isMissing is told of a value that is required, where its field says nothing else.
const isMissing = "is missing"

type rules []rule

// A rule is one keyword that values must keep.
type rule struct {
	keyword string
	want    any    // as JSON: a number, a text or a list
	detail  string // what a person is told
	holds   func(v reflect.Value) bool
	bySize  bool     // only the length of a list or a map counts, not what is in it
	limit   *decimal // of a keyword that sets one
	// edge is a limit of values that compare themselves, and against compares one with it.
	edge    reflect.Value
	against func(v reflect.Value) int

	// What holds asks, of a value that was read without reflection; nil where the
	// rule cannot be asked so.
	ofText  func(string) bool
	ofWhole func(int64) bool
	ofReal  func(float64) bool
}

// This file alone uses unsafe: it reads the members of a struct where they lie,
// which takes half the time that reflection takes for it (see
// BenchmarkExamine). What it reads is what the types said when they were compiled.

// A reading is how a member is read from memory.
type reading uint8

// A doubtSet is what an examination is unsure of: of an object, bit i stands for
// member i, and the last for that and all after it; of anything else, any bit
// stands for the whole.
type doubtSet uint64

const lastDoubt = 63

func doubtOf(unsure bool) doubtSet {
	if unsure {
		return 1
	}
	return 0
}
