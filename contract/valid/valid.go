// Package valid holds values against the schemas of a contract (JSON Schema, draft 2020-12).
//
// Formats are asserted. A pattern that Go's regexp cannot read (it has a lookahead, say) is not held: [Validator.Unheld]
// names them. Nothing is fetched.
package valid

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"github.com/wicketway/wicketway/contract"
)

// A Validator knows the components of a document. It is safe for concurrent use.
type Validator struct {
	mu       sync.Mutex
	compiler *jsonschema.Compiler
	compiled map[string]*jsonschema.Schema // by text
	tame     map[string]bool               // texts of schemas that are asked about a value a bounded number of times
	made     int                           // documents for the compiler
	doc      *contract.Document
	values   *contract.Values
	added    map[string]bool // resources, by their addresses
	unheld   []string
}

// at is where the components are, for the compiler.
const at = "contract:///document.json"

// New makes a validator for the schemas of a document.
func New(d *contract.Document) (*Validator, error) {
	v := &Validator{compiled: map[string]*jsonschema.Schema{}, tame: map[string]bool{}, added: map[string]bool{}, compiler: jsonschema.NewCompiler()}
	v.compiler.DefaultDraft(jsonschema.Draft2020)
	v.compiler.AssertFormat()
	v.compiler.UseLoader(nowhere{})
	v.compiler.UseRegexpEngine(v.pattern)
	v.doc, v.values = d, d.Values()
	schemas := map[string]any{}
	if d.Components != nil {
		for name, s := range d.Components.Schemas.All() {
			read, err := jsonschema.UnmarshalJSON(bytes.NewReader(s.Rewrite(v.absolute).Text()))
			if err != nil {
				return nil, err
			}
			schemas[name] = read
		}
	}
	return v, v.compiler.AddResource(at, map[string]any{"components": map[string]any{"schemas": schemas}})
}

// absolute has a schema refer to where the validator finds what is meant: the document, of which a schema that stands by
// itself is no part, or a resource of its own for one with an $anchor or an $id, since those of a schema that is somewhere
// in a document are not looked for.
func (v *Validator) absolute(s contract.Schema) contract.Schema {
	if id := s.String("$id"); strings.Contains(id, ":") {
		v.add(id, s)
	}
	ref := s.Reference()
	name, is := strings.CutPrefix(ref, "#")
	switch {
	case !is:
		return s
	case strings.HasPrefix(name, "/components/schemas/"):
		return s.With("$ref", at+ref)
	}
	of, err := contract.Resolve[contract.Schema](v.doc, ref)
	if err != nil {
		return s.With("$ref", at+ref) // which leads to nothing there, too
	}
	address := apart + url.PathEscape(name)
	v.add(address, *of)
	return s.With("$ref", address)
}

// apart is before what is not among the schemas of the components, in addresses.
const apart = "contract:///apart/"

// add makes a schema known by an address, once.
func (v *Validator) add(address string, s contract.Schema) {
	if v.added[address] {
		return
	}
	v.added[address] = true
	text := s.Rewrite(func(s contract.Schema) contract.Schema {
		if s.String("$id") == address {
			return s
		}
		return v.absolute(s)
	}).Text()
	if read, err := jsonschema.UnmarshalJSON(bytes.NewReader(text)); err == nil {
		v.compiler.AddResource(address, read) // of an address that is none the reference cannot be followed
	}
}

// Unheld are the patterns that no value was held against.
func (v *Validator) Unheld() []string {
	v.mu.Lock()
	defer v.mu.Unlock()
	return slices.Clone(v.unheld)
}

// Check holds a value, which is JSON, against a schema. It returns [contract.Faults] where the value breaks it, with
// pointers into the value, and another error where the schema is none.
func (v *Validator) Check(s contract.Schema, value []byte) error {
	if s.IsZero() {
		return nil
	}
	compiled, err := v.compile(s)
	if err != nil {
		return err
	}
	if v.costs(s, value) {
		return ErrTooMany
	}
	read, err := jsonschema.UnmarshalJSON(bytes.NewReader(value))
	if err != nil {
		return contract.Faults{{Text: "is not JSON: " + err.Error()}}
	}
	broken := compiled.Validate(read)
	if broken == nil {
		return nil
	}
	if e, ok := errors.AsType[*jsonschema.ValidationError](broken); ok {
		return faults(e)
	}
	return broken
}

// mostCosts bounds the schemas that are asked about one value.
const mostCosts = 2_000_000

// ErrTooMany says that a value was not held, since its schemas refer to each other so often that it would not end.
var ErrTooMany = errors.New("the schemas refer to each other too often to hold a value against them")

// costs reports whether a value is not to be held against a schema.
func (v *Validator) costs(s contract.Schema, value []byte) bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	tame, known := v.tame[string(s.Text())]
	if !known {
		left := mostTame
		tame = v.counts(s, &left, 0)
		v.tame[string(s.Text())] = tame
	}
	if tame && mostTame*len(value) <= mostCosts {
		return false
	}
	return v.values.Costs(s, value, mostCosts+1) > mostCosts
}

// mostTame is how many schemas there are in one that is tame, with all that they refer to.
const mostTame = 400

// counts counts them down; false where there are more, or one refers to itself.
func (v *Validator) counts(s contract.Schema, left *int, depth int) bool {
	if *left--; *left < 0 || depth > mostTame {
		return false
	}
	if to, err := contract.Resolve[contract.Schema](v.doc, s.Reference()); s.Reference() != "" && err == nil && !v.counts(*to, left, depth+1) {
		return false
	}
	for _, below := range s.Below() {
		if !v.counts(below, left, depth+1) {
			return false
		}
	}
	return true
}

func (v *Validator) compile(s contract.Schema) (*jsonschema.Schema, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	key := string(s.Text())
	if known := v.compiled[key]; known != nil {
		return known, nil
	}
	schema, err := jsonschema.UnmarshalJSON(bytes.NewReader(s.Rewrite(v.absolute).Text()))
	if err != nil {
		return nil, err
	}
	v.made++
	own := fmt.Sprintf("contract:///schema-%d.json", v.made)
	if err := v.compiler.AddResource(own, schema); err != nil {
		return nil, err
	}
	compiled, err := v.compiler.Compile(own)
	if err != nil {
		return nil, fmt.Errorf("the schema cannot be used: %w", err)
	}
	v.compiled[key] = compiled
	return compiled, nil
}

// nowhere is where references to other documents lead.
type nowhere struct{}

func (nowhere) Load(url string) (any, error) { return nil, fmt.Errorf("%s is not fetched", url) }

// pattern reads a pattern; one that cannot be read matches everything.
func (v *Validator) pattern(text string) (jsonschema.Regexp, error) {
	re, err := regexp.Compile(text)
	if err != nil {
		if !slices.Contains(v.unheld, text) {
			v.unheld = append(v.unheld, text)
		}
		return everything(text), nil
	}
	return re, nil
}

type everything string

func (e everything) String() string        { return string(e) }
func (everything) MatchString(string) bool { return true }

var english = message.NewPrinter(language.English)

// faults are the innermost ones, each once, in the order of their places.
func faults(e *jsonschema.ValidationError) (all contract.Faults) {
	if len(e.Causes) == 0 {
		var pointer strings.Builder
		for _, token := range e.InstanceLocation {
			pointer.WriteString("/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(token))
		}
		return contract.Faults{{Pointer: pointer.String(), Text: e.ErrorKind.LocalizedString(english)}}
	}
	for _, cause := range e.Causes {
		for _, f := range faults(cause) {
			if !slices.Contains(all, f) {
				all = append(all, f)
			}
		}
	}
	slices.SortStableFunc(all, func(a, b contract.Fault) int { return cmp.Compare(a.Pointer, b.Pointer) })
	return all
}
