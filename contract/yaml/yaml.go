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
		return nil, contract.Faults{{Text: strings.TrimPrefix(err.Error(), "yaml: ")}}
	}
	if err := d.Decode(new(yaml.Node)); !errors.Is(err, io.EOF) {
		return nil, contract.Faults{{Text: "more than one document is in it"}}
	}
	w := converting{most: 10*len(text) + 1<<20, lines: map[string][2]int{}}
	w.out = jsontext.NewEncoder(&w.text)
	if err := w.value(&root, "", 0); err != nil {
		return nil, contract.Faults{*w.fault}
	}
	doc, err := contract.Read(w.text.Bytes())
	if faults, is := errors.AsType[contract.Faults](err); is {
		for i, f := range faults {
			faults[i].Line, faults[i].Column = w.place(f.Pointer)
		}
	}
	return doc, err
}

// maxDepth is how deep nodes may be nested.
const maxDepth = 400

// A converting writes nodes as JSON.
type converting struct {
	text  bytes.Buffer
	out   *jsontext.Encoder
	most  int // size of the text
	lines map[string][2]int
	fault *contract.Fault
}

func (c *converting) wrong(n *yaml.Node, pointer, format string, args ...any) error {
	c.fault = &contract.Fault{Pointer: pointer, Line: n.Line, Column: n.Column, Text: fmt.Sprintf(format, args...)}
	return errors.New("wrong")
}

// place is where the value at a pointer, or what is around it, begins.
func (c *converting) place(pointer string) (line, column int) {
	for {
		if at, has := c.lines[pointer]; has {
			return at[0], at[1]
		}
		i := strings.LastIndexByte(pointer, '/')
		if i < 0 {
			return 0, 0
		}
		pointer = pointer[:i]
	}
}

func (c *converting) value(n *yaml.Node, pointer string, depth int) error {
	if n.Line > 0 && len(c.lines) < 1<<20 {
		c.lines[pointer] = [2]int{n.Line, n.Column}
	}
	switch {
	case depth > maxDepth:
		return c.wrong(n, pointer, "values are nested deeper than %d", maxDepth)
	case c.text.Len() > c.most:
		return c.wrong(n, pointer, "its anchors make the document more than ten times as large as it is written")
	}
	switch n.Kind {
	case yaml.DocumentNode:
		return c.value(n.Content[0], pointer, depth+1)
	case yaml.AliasNode:
		return c.value(n.Alias, pointer, depth+1)
	case yaml.SequenceNode:
		return c.sequence(n, pointer, depth)
	case yaml.MappingNode:
		return c.mapping(n, pointer, depth)
	}
	return c.scalar(n, pointer)
}

func (c *converting) sequence(n *yaml.Node, pointer string, depth int) error {
	if err := c.out.WriteToken(jsontext.BeginArray); err != nil {
		return c.wrong(n, pointer, "%v", err)
	}
	for i, one := range n.Content {
		if err := c.value(one, fmt.Sprint(pointer, "/", i), depth+1); err != nil {
			return err
		}
	}
	return c.out.WriteToken(jsontext.EndArray)
}

func (c *converting) mapping(n *yaml.Node, pointer string, depth int) error {
	if err := c.out.WriteToken(jsontext.BeginObject); err != nil {
		return c.wrong(n, pointer, "%v", err)
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i]
		if key.Kind == yaml.AliasNode {
			key = key.Alias
		}
		if key.Kind != yaml.ScalarNode || key.ShortTag() == "!!merge" {
			return c.wrong(key, pointer, "a key is not a string")
		}
		if err := c.out.WriteToken(jsontext.String(key.Value)); err != nil {
			return c.wrong(key, pointer, "the key %q stands here twice, or is no text", key.Value)
		}
		if err := c.value(n.Content[i+1], pointer+"/"+strings.NewReplacer("~", "~0", "/", "~1").Replace(key.Value), depth+1); err != nil {
			return err
		}
	}
	return c.out.WriteToken(jsontext.EndObject)
}

// scalar writes numbers as they are written, where JSON has them so.
func (c *converting) scalar(n *yaml.Node, pointer string) error {
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
		if number := jsontext.Value(n.Value); number.IsValid() && number.Kind() == jsontext.KindNumber {
			err = c.out.WriteValue(number)
			break
		}
		var number float64
		if err = n.Decode(&number); err == nil && (math.IsInf(number, 0) || math.IsNaN(number)) {
			return c.wrong(n, pointer, "%s is not a number in JSON", n.Value)
		}
		if err == nil {
			err = c.out.WriteValue(jsontext.Value(strconv.FormatFloat(number, 'f', -1, 64)))
		}
	default: // dates are texts in JSON, and numbers beyond those of YAML are numbers
		number := jsontext.Value(n.Value)
		if n.Style == 0 && number.IsValid() && number.Kind() == jsontext.KindNumber {
			err = c.out.WriteValue(number)
			break
		}
		err = c.out.WriteToken(jsontext.String(n.Value))
	}
	if err != nil {
		return c.wrong(n, pointer, "%v", err)
	}
	return nil
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
