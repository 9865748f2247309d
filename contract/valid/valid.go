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
	components any

	mu       sync.Mutex
	compiled map[string]*jsonschema.Schema // by text
	unheld   []string
}

// New makes a validator for the schemas of a document.
func New(d *contract.Document) (*Validator, error) {
	v := &Validator{compiled: map[string]*jsonschema.Schema{}}
	var whole struct {
		Components jsontext.Value `json:"components"`
	}
	if err := json.Unmarshal(d.Text(), &whole); err != nil {
		return nil, err
	}
	if whole.Components == nil {
		return v, nil
	}
	var err error
	v.components, err = jsonschema.UnmarshalJSON(bytes.NewReader(whole.Components))
	return v, err
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
	schema, err := jsonschema.UnmarshalJSON(bytes.NewReader(s.Text()))
	if err != nil {
		return nil, err
	}
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft2020)
	c.AssertFormat()
	c.UseLoader(nowhere{})
	c.UseRegexpEngine(v.pattern)
	// References lead to the components, so these are beside the schema in a document of its own.
	const at = "contract:///document.json"
	if err := c.AddResource(at, map[string]any{"components": v.components, "schema": schema}); err != nil {
		return nil, err
	}
	compiled, err := c.Compile(at + "#/schema")
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
