package html

import (
	"cmp"
	"errors"
	"fmt"
	"html/template"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"text/template/parse"

	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/problem"
)

// A checker finds in templates what the values that they are for cannot have. Types that are not known, such
// as those of interfaces and of what functions return, are passed over in silence.
type checker struct {
	trees  map[string]*parse.Tree
	walked map[walk]bool
	wrong  []error
}

// A walk is one through a template with data of a type.
type walk struct {
	name string
	data reflect.Type // nil: not known
}

// A scope is what is known at one point of a template.
type scope struct {
	tree      *parse.Tree
	dot       reflect.Type
	variables map[string]reflect.Type
}

// inside is the scope of a block, whose variables end with it.
func (s scope) inside(dot reflect.Type) scope {
	return scope{s.tree, dot, maps.Clone(s.variables)}
}

// treesOf copies the templates, since html/template changes them when they are first executed. Those that
// are empty are nil.
func treesOf(templates *template.Template) map[string]*parse.Tree {
	trees := map[string]*parse.Tree{}
	if templates == nil {
		return trees
	}
	for _, t := range templates.Templates() {
		switch {
		case t.Tree == nil || t.Tree.Root == nil: // only others are defined in it
		case parse.IsEmptyTree(t.Tree.Root):
			trees[t.Name()] = nil
		default:
			trees[t.Name()] = t.Tree.Copy()
		}
	}
	return trees
}

// CheckRoutes is asked by Build. It finds templates that show nothing, and fields in them that the values of
// their routes cannot have.
func (p *pages) CheckRoutes(all []facts.Route) error {
	c := &checker{trees: p.trees, walked: map[walk]bool{}}
	for _, f := range all {
		name := p.nameOf(cmp.Or(f.Template, f.Name))
		if name == "" && f.Template != "" {
			c.wrong = append(c.wrong, fmt.Errorf("no template is called %q, as Template of %s %s says", f.Template, f.Method, f.Path))
		}
		if name == "" {
			continue
		}
		for _, a := range f.Answers {
			c.template(name, a.Of)
		}
	}
	shown := reflect.TypeFor[format.Problem]()
	for _, name := range problemNames(all) {
		if name := p.nameOf(name); name != "" {
			c.template(name, shown)
		}
	}
	reached := map[string]bool{}
	for w := range c.walked {
		reached[w.name] = true
	}
	for _, name := range slices.Sorted(maps.Keys(c.trees)) {
		if c.trees[name] != nil && !reached[name] {
			c.wrong = append(
				c.wrong,
				fmt.Errorf(
					"the template %q shows nothing: it has neither the name of a route here, such as %s, nor the code or status of a problem, and no other template includes it",
					name,
					exampleOf(all),
				),
			)
		}
	}
	return errors.Join(c.wrong...)
}

func exampleOf(all []facts.Route) string {
	for _, f := range all {
		if f.Name != "" {
			return f.Name
		}
	}
	return "notices.find (see wicketway.Name)"
}

// nameOf is the template of a name, with or without .html; "" where there is none.
func (p *pages) nameOf(name string) string {
	for _, full := range []string{name, name + ".html"} {
		if p.trees[full] != nil && name != "" {
			return full
		}
	}
	return ""
}

// problemNames are what the template of a problem can be called: by the codes that can occur, by the statuses
// of errors, or problem.
func problemNames(all []facts.Route) []string {
	names := []string{"problem"}
	for status := 400; status <= 599; status++ {
		names = append(names, strconv.Itoa(status))
	}
	for _, k := range problem.BuiltIn() {
		names = append(names, k.Code())
	}
	for _, f := range all {
		for _, raised := range f.Raises {
			names = append(names, raised.Code)
		}
	}
	return names
}

// template walks through a template with data of a type.
func (c *checker) template(name string, data reflect.Type) {
	tree, w := c.trees[name], walk{name, data}
	if tree == nil || c.walked[w] {
		return
	}
	c.walked[w] = true
	c.node(tree.Root, scope{tree, data, map[string]reflect.Type{"$": data}})
}

func (c *checker) fault(s scope, at parse.Node, format string, args ...any) {
	place, _ := s.tree.ErrorContext(at)
	err := fmt.Errorf("%s: %s", place, fmt.Sprintf(format, args...))
	if !slices.ContainsFunc(c.wrong, func(other error) bool { return other.Error() == err.Error() }) {
		c.wrong = append(c.wrong, err)
	}
}

func (c *checker) node(n parse.Node, s scope) {
	switch n := n.(type) {
	case *parse.ListNode:
		if n == nil {
			return
		}
		for _, one := range n.Nodes {
			c.node(one, s)
		}
	case *parse.ActionNode:
		c.pipe(n.Pipe, s)
	case *parse.IfNode:
		inner := s.inside(s.dot)
		c.pipe(n.Pipe, inner)
		c.node(n.List, inner)
		c.node(n.ElseList, inner.inside(s.dot))
	case *parse.WithNode:
		inner := s.inside(s.dot)
		inner.dot = c.pipe(n.Pipe, inner)
		c.node(n.List, inner)
		c.node(n.ElseList, inner.inside(s.dot))
	case *parse.RangeNode:
		c.ranged(n, s)
	case *parse.TemplateNode:
		var data reflect.Type
		if n.Pipe != nil {
			data = c.pipe(n.Pipe, s)
		}
		if _, there := c.trees[n.Name]; !there {
			c.fault(s, n, "no template is called %q", n.Name)
		}
		c.template(n.Name, data)
	}
}

func (c *checker) ranged(n *parse.RangeNode, s scope) {
	inner := s.inside(s.dot)
	pipe := *n.Pipe
	pipe.Decl = nil
	key, item, ok := rangedOver(c.pipe(&pipe, inner))
	if !ok {
		c.fault(s, n, "%s is not a list, map or number to range over", n.Pipe)
	}
	switch declared := n.Pipe.Decl; len(declared) {
	case 1:
		inner.variables[declared[0].Ident[0]] = item
	case 2:
		inner.variables[declared[0].Ident[0]], inner.variables[declared[1].Ident[0]] = key, item
	}
	inner.dot = item
	c.node(n.List, inner)
	c.node(n.ElseList, s.inside(s.dot))
}

// rangedOver says what a loop over values of a type gives; false where there can be none.
func rangedOver(t reflect.Type) (key, item reflect.Type, ok bool) {
	for t != nil && t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t == nil {
		return nil, nil, true
	}
	switch t.Kind() {
	case reflect.Slice, reflect.Array, reflect.Chan:
		return reflect.TypeFor[int](), t.Elem(), true
	case reflect.Map:
		return t.Key(), t.Elem(), true
	case reflect.Func:
		if !t.CanSeq() && !t.CanSeq2() {
			return nil, nil, false
		}
		if yield := t.In(0); yield.NumIn() == 2 {
			return yield.In(0), yield.In(1), true
		} else {
			return nil, yield.In(0), true
		}
	case reflect.Int,
		reflect.Int8,
		reflect.Int16,
		reflect.Int32,
		reflect.Int64,
		reflect.Uint,
		reflect.Uint8,
		reflect.Uint16,
		reflect.Uint32,
		reflect.Uint64,
		reflect.Uintptr:
		return nil, t, true
	case reflect.Interface:
		return nil, nil, true
	}
	return nil, nil, false
}

// pipe is the type of a pipeline's value; nil where it is not known.
func (c *checker) pipe(p *parse.PipeNode, s scope) (last reflect.Type) {
	for i, command := range p.Cmds {
		last = c.command(command, s, i > 0)
	}
	for _, v := range p.Decl {
		if before, known := s.variables[v.Ident[0]]; p.IsAssign && known && before != last {
			s.variables[v.Ident[0]] = nil // it is one or the other
			continue
		}
		s.variables[v.Ident[0]] = last
	}
	return last
}

func (c *checker) command(command *parse.CommandNode, s scope, piped bool) reflect.Type {
	var args []reflect.Type
	for _, a := range command.Args[1:] {
		args = append(args, c.operand(a, s))
	}
	function, ok := command.Args[0].(*parse.IdentifierNode)
	if !ok {
		return c.operand(command.Args[0], s)
	}
	switch function.Ident {
	case "len":
		return reflect.TypeFor[int]()
	case "print", "printf", "println", "html", "js", "urlquery":
		return reflect.TypeFor[string]()
	case "eq", "ne", "lt", "le", "gt", "ge", "not":
		return reflect.TypeFor[bool]()
	case "slice":
		if len(args) > 0 && !piped {
			return args[0]
		}
	case "index":
		if !piped {
			return indexed(args)
		}
	}
	return nil // of functions of the user's
}

func indexed(args []reflect.Type) reflect.Type {
	if len(args) == 0 {
		return nil
	}
	t := args[0]
	for range args[1:] {
		for t != nil && t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		if t == nil {
			return nil
		}
		switch t.Kind() {
		case reflect.Slice, reflect.Array, reflect.Map:
			t = t.Elem()
		default:
			return nil
		}
	}
	return t
}

// operand is the type of one operand; nil where it is not known.
func (c *checker) operand(n parse.Node, s scope) reflect.Type {
	switch n := n.(type) {
	case *parse.DotNode:
		return s.dot
	case *parse.FieldNode:
		return c.fields(n, s, s.dot, n.Ident)
	case *parse.VariableNode:
		return c.fields(n, s, s.variables[n.Ident[0]], n.Ident[1:])
	case *parse.ChainNode:
		return c.fields(n, s, c.operand(n.Node, s), n.Field)
	case *parse.PipeNode:
		return c.pipe(n, s)
	case *parse.StringNode:
		return reflect.TypeFor[string]()
	case *parse.BoolNode:
		return reflect.TypeFor[bool]()
	}
	return nil
}

// fields is the type of the last of some fields, each of the one before.
func (c *checker) fields(at parse.Node, s scope, t reflect.Type, names []string) reflect.Type {
	for _, name := range names {
		if t == nil {
			return nil
		}
		with := t
		if t.Kind() != reflect.Interface && t.Kind() != reflect.Pointer {
			with = reflect.PointerTo(t)
		}
		if m, ok := with.MethodByName(name); ok {
			if t = nil; m.Type.NumOut() > 0 {
				t = m.Type.Out(0)
			}
			continue
		}
		for t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		switch t.Kind() {
		case reflect.Interface:
			return nil
		case reflect.Map:
			if t.Key().Kind() != reflect.String {
				c.fault(s, at, "%s has no key %q: its keys are %s", t, name, t.Key())
				return nil
			}
			t = t.Elem()
		case reflect.Struct:
			field, ok := t.FieldByName(name)
			if !ok || !field.IsExported() {
				c.fault(s, at, "%s has no field or method %s; it has %s", t, name, fieldsOf(t))
				return nil
			}
			t = field.Type
		default:
			c.fault(s, at, "%s has no field or method %s", t, name)
			return nil
		}
	}
	return t
}

// fieldsOf names the fields and methods of a struct.
func fieldsOf(t reflect.Type) string {
	var names []string
	for _, f := range reflect.VisibleFields(t) {
		if f.IsExported() && !f.Anonymous {
			names = append(names, f.Name)
		}
	}
	for m := range reflect.PointerTo(t).Methods() {
		if m.Type.NumOut() > 0 {
			names = append(names, m.Name)
		}
	}
	if names == nil {
		return "none"
	}
	return strings.Join(names, ", ")
}
