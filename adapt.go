package wicketway

import (
	"errors"
	"reflect"
	"strings"

	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/shape"
	"github.com/wicketway/wicketway/problem"
)

// An adaptation holds the two adapters of an Adapted part.
type adaptation struct{ in, out shape.Declared }

// adapted is how a route reads and sends older types.
type adapted struct {
	in    *shape.Adapter               // nil: the function's own input
	out   *shape.Adapter               // of the value or the items; nil: the function's own
	plain bool                         // a page is sent as the array of its items
	own   *bind.Plan                   // of the function's own input, where it is made of an old one
	fresh map[reflect.Type]*check.Type // what the input holds that has defaults
}

// ofInput is the adapter for an input that is, or whose body is, what this one is for; nil where it
// stays the same.
func adaptInput(a shape.Declared, in reflect.Type) (*shape.Adapter, error) {
	switch {
	case a.Wrong != nil:
		return nil, errors.Join(a.Wrong...)
	case a.AsList:
		return nil, errors.New("AsList is for outputs")
	case a.Made == nil:
		return nil, nil
	case in.Kind() == reflect.Pointer:
		return nil, errors.New("the function takes a pointer: have it take the value")
	}
	made, err := a.Lift(in)
	if err != nil {
		body := []shape.Member{{Call: "the body", New: "body", Old: "body", By: a.Made}}
		if ofBody, wrong := shape.Derive(in, body); wrong == nil {
			made, err = ofBody, nil
		}
	}
	if err == nil && made.ToNew == nil {
		err = shape.ErrOneWay
	}
	return made, err
}

// ofOutput is the adapter for what a function sends; nil where it stays the same.
func adaptOutput(a shape.Declared, out *outputType) (*shape.Adapter, error) {
	switch {
	case a.Wrong != nil:
		return nil, errors.Join(a.Wrong...)
	case a.AsList && !out.page:
		return nil, errors.New("AsList: the function sends no Page")
	case a.Made == nil && !a.AsList:
		return nil, nil
	case out.value == nil:
		return nil, errors.New("the function sends no value: use Same")
	}
	made, err := a.Lift(out.value)
	if out.page {
		if ofItems, none := a.Lift(out.value.Field(pageItems).Type); none == nil && a.AsList {
			made, err = ofItems, nil
		} else if none == nil {
			page := []shape.Member{{Call: "the items", New: "items", Old: "items", By: ofItems}}
			var wrong []error
			made, wrong = shape.Derive(out.value, page)
			err = errors.Join(wrong...)
		}
	}
	if err == nil && made.ToOld == nil {
		err = shape.ErrOneWay
	}
	return made, err
}

// named writes old types, which have no names, as those that they were made of.
func (a *adapted) named(text string) string {
	for _, of := range []*shape.Adapter{a.in, a.out} {
		if of == nil {
			continue
		}
		for _, one := range of.Structs() {
			text = strings.ReplaceAll(text, one.Old.String(), "old "+shape.TypeName(one.New))
			if strings.HasPrefix(text, ".") {
				text = "old " + shape.TypeName(one.New) + text
			}
		}
	}
	return text
}

// toOld gives what is sent instead of a value; both are pointers.
func (a *adapted) toOld(value any) (any, error) {
	now := reflect.ValueOf(value).Elem()
	if a.plain {
		now = now.Field(pageItems)
	}
	old := reflect.New(a.out.Old)
	if err := a.out.ToOld(now, old.Elem()); err != nil {
		return nil, err
	}
	return old.Interface(), nil
}

// renew gives what is about to be filled its defaults.
func (a *adapted) renew(now reflect.Value) {
	if t := a.fresh[now.Type()]; t != nil {
		t.Renew(now)
	}
}

// take makes the function's input of an old one, and holds it against the function's rules.
func (a *adapted) take(old, in reflect.Value) error {
	a.own.Renew(in)
	f := shape.Faults{Most: a.own.Most() + 1, Fresh: a.renew} // one more, so that it is seen that there are more
	a.in.ToNew(old, in, &f)
	var items []problem.Item
	for _, fault := range f.Found {
		if p := problem.In(fault.Err); p != nil {
			return p
		}
		items = append(items, itemAt(a.in, fault.Path, problem.Item{Rule: "form", Detail: fault.Err.Error()}))
	}
	if items != nil {
		return a.own.Refuse(items)
	}
	return a.replaced(a.own.Judge(in))
}

// itemAt is an item at a path of an input: a parameter, or a place in the body.
func itemAt(of *shape.Adapter, path []string, item problem.Item) problem.Item {
	item.In, item.Name, item.Pointer = "body", "", nil
	if len(path) > 0 && of.HasSources() {
		item.In, item.Name, _ = strings.Cut(path[0], " ")
		if path = path[1:]; len(path) == 0 && item.In != "body" {
			return item
		}
	}
	item.Pointer = pointerTo(path)
	return item
}

func pointerTo(path []string) *string {
	var text string
	for _, name := range path {
		text += "/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(name)
	}
	return &text
}

// replaced has the items of a problem name the places of the old input.
func (a *adapted) replaced(err error) error {
	p := problem.In(err)
	if p == nil || a.in == nil || len(p.Items()) == 0 {
		return err
	}
	items := make([]problem.Item, len(p.Items()))
	for i, item := range p.Items() {
		items[i] = a.place(item)
	}
	return p.Instead(p.Kind()).WithItems(items...)
}

func (a *adapted) place(item problem.Item) problem.Item {
	var path []string
	if item.Pointer != nil && *item.Pointer != "" {
		for name := range strings.SplitSeq((*item.Pointer)[1:], "/") {
			path = append(path, strings.NewReplacer("~1", "/", "~0", "~").Replace(name))
		}
	}
	whole := !a.in.HasSources()
	switch {
	case item.In != "body":
		path = append([]string{item.In + " " + item.Name}, path...)
	case !whole:
		path = append([]string{"body"}, path...)
	}
	to := a.in.Place(path)
	if len(to) == 0 && item.In != "body" {
		return item
	}
	return itemAt(a.in, to, item)
}
