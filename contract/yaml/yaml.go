// Package yaml reads and writes contracts as YAML (1.2).
//
// Its limits are those of package contract, and those of YAML: a document whose anchors would make it much larger than
// it is written is refused, and so are keys that are no strings, except numbers, which statuses often are.
package yaml

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
	"go.yaml.in/yaml/v4"

	"github.com/wicketway/wicketway/contract"
)

// Read reads a document as YAML, or as JSON, which is YAML as well. The error is [contract.Faults], with lines and
// columns of the text that was read where YAML itself is at fault.
func Read(text []byte) (*contract.Document, error) {
	if len(text) > contract.MaxSize {
		return contract.Read(text) // which says so
	}
	if start := bytes.TrimLeft(text, " \t\r\n\ufeff"); len(start) > 0 && start[0] == '{' {
		if d, err := contract.Read(text); err == nil || jsontext.Value(text).IsValid() {
			return d, err
		}
	}
	d := yaml.NewDecoder(bytes.NewReader(text))
	var root yaml.Node
	if err := d.Decode(&root); err != nil {
		if start := bytes.TrimLeft(text, " \t\r\n\ufeff"); len(start) > 0 && start[0] == '{' {
			return contract.Read(text) // which was meant
		}
		return nil, contract.Faults{{Text: strings.TrimPrefix(err.Error(), "yaml: ")}}
	}
	if err := d.Decode(new(yaml.Node)); !errors.Is(err, io.EOF) {
		return nil, contract.Faults{{Text: "more than one document is in it"}}
	}
	w := converting{most: 10*len(text) + 1<<20}
	w.out = jsontext.NewEncoder(&w.text)
	if err := w.value(&root); err != nil {
		return nil, contract.Faults{*w.fault}
	}
	doc, err := contract.Read(w.text.Bytes())
	if faults, is := errors.AsType[contract.Faults](err); is {
		for i, f := range faults {
			faults[i].Line, faults[i].Column = place(&root, jsontext.Pointer(f.Pointer))
		}
	}
	return doc, err
}

// Places finds where the values at some JSON Pointers begin in a text that can be read, or the nearest ones around them.
func Places(text []byte, pointers []string) []contract.Place {
	if start := bytes.TrimLeft(text, " \t\r\n\ufeff"); len(start) > 0 && start[0] == '{' && jsontext.Value(text).IsValid() {
		return contract.Places(text, pointers)
	}
	var root yaml.Node
	all := make([]contract.Place, len(pointers))
	if yaml.Unmarshal(text, &root) != nil || root.Kind == 0 {
		return all
	}
	for i, pointer := range pointers {
		all[i].Line, all[i].Column = place(&root, jsontext.Pointer(pointer))
	}
	return all
}

// maxDepth is how deep nodes may be nested: that of package contract, and what YAML has around a document.
const maxDepth = contract.MaxDepth + 2

// A converting writes nodes as JSON.
type converting struct {
	text  bytes.Buffer
	out   *jsontext.Encoder
	most  int      // size of the text
	path  []string // to the node, as names and numbers
	fault *contract.Fault
}

func (c *converting) wrong(n *yaml.Node, format string, args ...any) error {
	var pointer jsontext.Pointer
	for _, token := range c.path {
		pointer = pointer.AppendToken(token)
	}
	c.fault = &contract.Fault{Pointer: string(pointer), Line: n.Line, Column: n.Column, Text: fmt.Sprintf(format, args...)}
	return errors.New("wrong")
}

// place is where the value at a pointer, or the nearest one around it, begins.
func place(n *yaml.Node, pointer jsontext.Pointer) (line, column int) {
	if n.Kind == yaml.DocumentNode {
		n = n.Content[0]
	}
	for token := range pointer.Tokens() {
		for n.Kind == yaml.AliasNode {
			n = n.Alias
		}
		next := child(n, token)
		if next == nil {
			break
		}
		n = next
	}
	return n.Line, n.Column
}

func child(n *yaml.Node, token string) *yaml.Node {
	if i, err := strconv.Atoi(token); n.Kind == yaml.SequenceNode && err == nil && i >= 0 && i < len(n.Content) {
		return n.Content[i]
	}
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == token {
			return n.Content[i+1]
		}
	}
	return nil
}

func (c *converting) value(n *yaml.Node) error {
	switch {
	case len(c.path) > maxDepth:
		return c.wrong(n, "values are nested deeper than %d", contract.MaxDepth)
	case c.text.Len() > c.most:
		return c.wrong(n, "its anchors make the document more than ten times as large as it is written")
	}
	switch n.Kind {
	case yaml.DocumentNode:
		return c.value(n.Content[0])
	case yaml.AliasNode:
		return c.value(n.Alias)
	case yaml.SequenceNode:
		return c.sequence(n)
	case yaml.MappingNode:
		return c.mapping(n)
	}
	return c.scalar(n)
}

// within writes a value that is within the one that is written.
func (c *converting) within(token string, n *yaml.Node) error {
	c.path = append(c.path, token)
	err := c.value(n)
	if err == nil {
		c.path = c.path[:len(c.path)-1]
	}
	return err
}

func (c *converting) sequence(n *yaml.Node) error {
	if err := c.out.WriteToken(jsontext.BeginArray); err != nil {
		return c.wrong(n, "%v", err)
	}
	for i, one := range n.Content {
		if err := c.within(strconv.Itoa(i), one); err != nil {
			return err
		}
	}
	return c.out.WriteToken(jsontext.EndArray)
}

func (c *converting) mapping(n *yaml.Node) error {
	if err := c.out.WriteToken(jsontext.BeginObject); err != nil {
		return c.wrong(n, "%v", err)
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i]
		if key.Kind == yaml.AliasNode {
			key = key.Alias
		}
		if key.Kind != yaml.ScalarNode || key.ShortTag() == "!!merge" {
			return c.wrong(key, "a key is not a string")
		}
		if err := c.out.WriteToken(jsontext.String(key.Value)); err != nil {
			return c.wrong(key, "the key %q stands here twice, or is no text", key.Value)
		}
		if err := c.within(key.Value, n.Content[i+1]); err != nil {
			return err
		}
	}
	return c.out.WriteToken(jsontext.EndObject)
}

// scalar writes numbers as they are written, where JSON has them so.
func (c *converting) scalar(n *yaml.Node) error {
	var err error
	switch n.ShortTag() {
	case "!!null":
		err = c.out.WriteToken(jsontext.Null)
	case "!!bool":
		var is bool
		if err = n.Decode(&is); err == nil {
			err = c.out.WriteToken(jsontext.Bool(is))
		}
	case "!!int", "!!float":
		if isNumber(n.Value) {
			err = c.out.WriteValue(jsontext.Value(n.Value))
			break
		}
		var number float64
		if err = n.Decode(&number); err == nil && (math.IsInf(number, 0) || math.IsNaN(number)) {
			return c.wrong(n, "%s is not a number in JSON", n.Value)
		}
		if err == nil {
			err = c.out.WriteValue(jsontext.Value(strconv.FormatFloat(number, 'f', -1, 64)))
		}
	default: // dates are texts in JSON, and numbers beyond those of YAML are numbers
		if n.Style == 0 && isNumber(n.Value) {
			err = c.out.WriteValue(jsontext.Value(n.Value))
			break
		}
		err = c.out.WriteToken(jsontext.String(n.Value))
	}
	if err != nil {
		return c.wrong(n, "%v", err)
	}
	return nil
}

// isNumber reports whether a text is a number in JSON.
func isNumber(text string) bool {
	v := jsontext.Value(text)
	return v.Kind() == jsontext.KindNumber && v.IsValid()
}

// Write writes a document as YAML, with its members in their order.
func Write(d *contract.Document) ([]byte, error) {
	in := jsontext.NewDecoder(bytes.NewReader(d.Text()))
	root, err := node(in)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	if err := errors.Join(e.Encode(root), e.Close()); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// node reads the next value.
func node(in *jsontext.Decoder) (*yaml.Node, error) {
	t, err := in.ReadToken()
	if err != nil {
		return nil, err
	}
	switch t.Kind() {
	case jsontext.KindBeginObject, jsontext.KindBeginArray:
		n := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map"}
		end := jsontext.KindEndObject
		if t.Kind() == jsontext.KindBeginArray {
			n, end = &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq"}, jsontext.KindEndArray
		}
		for in.PeekKind() != end {
			one, err := node(in)
			if err != nil {
				return nil, err
			}
			n.Content = append(n.Content, one)
		}
		if len(n.Content) == 0 {
			n.Style = yaml.FlowStyle
		}
		_, err := in.ReadToken()
		return n, err
	case jsontext.KindString:
		return stringNode(t.String()), nil
	case jsontext.KindNumber:
		tag := "!!float"
		if !strings.ContainsAny(t.String(), ".eE") {
			tag = "!!int"
		}
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: tag, Value: t.String()}, nil
	case jsontext.KindNull:
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!null", Value: "null"}, nil
	}
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!bool", Value: t.String()}, nil
}

// stringNode is a string that is read as one again: quoted where YAML 1.1 or 1.2 would take it for something else.
func stringNode(text string) *yaml.Node {
	n := &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: text}
	var plain yaml.Node
	if yaml.Unmarshal([]byte(text), &plain) != nil || len(plain.Content) != 1 || plain.Content[0].ShortTag() != "!!str" ||
		plain.Content[0].Value != text || oldBools[strings.ToLower(text)] {
		n.Style = yaml.DoubleQuotedStyle
	}
	return n
}

// oldBools are texts that readers of YAML 1.1 take for booleans.
var oldBools = map[string]bool{"y": true, "n": true, "yes": true, "no": true, "on": true, "off": true}
