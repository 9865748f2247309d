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
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
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
	made     int                           // documents for the compiler
	unheld   []string
}

// at is where the components are, for the compiler.
const at = "contract:///document.json"

// New makes a validator for the schemas of a document.
func New(d *contract.Document) (*Validator, error) {
	v := &Validator{compiled: map[string]*jsonschema.Schema{}, compiler: jsonschema.NewCompiler()}
	v.compiler.DefaultDraft(jsonschema.Draft2020)
	v.compiler.AssertFormat()
	v.compiler.UseLoader(nowhere{})
	v.compiler.UseRegexpEngine(v.pattern)
	var whole struct {
		Components jsontext.Value `json:"components"`
	}
	if err := json.Unmarshal(d.Text(), &whole); err != nil {
		return nil, err
	}
	if whole.Components == nil {
		whole.Components = jsontext.Value("{}")
	}
	components, err := jsonschema.UnmarshalJSON(bytes.NewReader(whole.Components))
	if err != nil {
		return nil, err
	}
	return v, v.compiler.AddResource(at, map[string]any{"components": components})
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

func (v *Validator) compile(s contract.Schema) (*jsonschema.Schema, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	key := string(s.Text())
	if known := v.compiled[key]; known != nil {
		return known, nil
	}
	schema, err := jsonschema.UnmarshalJSON(bytes.NewReader(s.Rewrite(toComponents).Text()))
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

// toComponents has a schema that stands by itself refer to the components of the document.
func toComponents(s contract.Schema) contract.Schema {
	name, is := strings.CutPrefix(s.Reference(), "#/components/")
	if !is {
		return s
	}
	return s.With("$ref", at+"#/components/"+name)
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
