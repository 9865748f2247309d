package wicketway

import (
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/shape"
	"github.com/wicketway/wicketway/problem"
)

// An adaptation is what an Adapted part says, and what becomes of it for a route.
type adaptation struct{ in, out shape.Declared }

// adapted is how a route reads and sends what is old.
type adapted struct {
	in    *shape.Adapter               // nil: the function's own input
	out   *shape.Adapter               // of the value or the items; nil: the function's own
	plain bool                         // a page is sent as the array of its items
	own   *bind.Plan                   // of the function's own input, where it is made of an old one
	fresh map[reflect.Type]*check.Type // what the input holds that has defaults
}

// adapt finds the adapters of a route.
func (b *builder) adapt(r *resolved) {
	from := r.part.adapts
	if from == nil {
		return
	}
	r.adapted = &adapted{plain: from.out.AsList}
	if from.in.IsSame() && from.out.IsSame() {
		b.wrongWith(r)("Adapted adapts nothing, since both its input and its output are Same: write Route")
	}
	wrong := func(what string, a shape.Declared, err error) {
		b.mistake(r.at, "%s: the adapter of its %s, at %s: %v", r.line(), what, b.where(a.At), err)
	}
	var err error
	if r.adapted.in, err = adaptInput(from.in, r.part.in); err != nil {
		wrong("input", from.in, err)
	}
	if r.adapted.out, err = adaptOutput(from.out, &r.part.out); err != nil {
		wrong("output", from.out, err)
	}
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

// planOwn plans how the function's own input is made and held against its rules.
func (b *builder) planOwn(r *resolved) {
	a := r.adapted
	how := b.binding(r, nil, true) // the parameters of the path are the old input's matter
	a.own, a.fresh = bind.Compile(r.part.in, how), map[reflect.Type]*check.Type{}
	for _, of := range a.in.Structs() {
		if !of.HasSources() { // the plan has the defaults of parameters
			a.fresh[of.New], _ = b.schemas.Type(of.New) // and says what is wrong with it
		}
	}
	b.checkMissing(r)
	b.checkFixed(r)
}

// checkFixed holds the values of members that an old input lacks against the rules that they have.
func (b *builder) checkFixed(r *resolved) {
	for _, f := range r.adapted.in.Fixed() {
		for _, fault := range b.schemas.Judge(f.Field, f.Value) {
			b.wrongWith(r)("the adapter of its input, at %s: Constant(%q): the value %s", b.where(r.part.adapts.in.At), shape.Text(f.Path), fault.Detail)
		}
	}
}

// checkShapes reports routes that read the present shape at a path whose GET sends an old one.
func (b *builder) checkShapes() {
	old := map[string]*resolved{}
	for _, r := range b.routes {
		if r.method == http.MethodGet && r.adapted != nil && r.adapted.out != nil {
			old[r.path+"\x00"+r.terms().version] = r
		}
	}
	if len(old) == 0 {
		return
	}
	for _, r := range b.routes {
		get := old[r.path+"\x00"+r.terms().version]
		if get == nil || r.method != http.MethodPut && r.method != http.MethodPatch || r.input == nil || !r.input.ReadsJSON() ||
			r.adapted != nil && r.adapted.in != nil {
			continue
		}
		if r.adapted != nil || r.input.BodyType() == get.part.out.value || b.servesElsewhere(r) {
			b.wrongWith(r)("reads what %s, at %s, does not send: that is an old shape, and this the present one; use Adapted with the same", get.line(), b.where(get.at))
		}
	}
}

// servesElsewhere reports whether a route's function serves another version in the present shape.
func (b *builder) servesElsewhere(r *resolved) bool {
	return r.part.function != nil && slices.ContainsFunc(b.routes, func(other *resolved) bool {
		return other != r && other.part.function == r.part.function && other.terms().version != r.terms().version && other.adapted == nil
	})
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

// checkMissing reports what the function's input must have and an old one says nothing of.
func (b *builder) checkMissing(r *resolved) {
	for _, path := range r.adapted.in.Missing() {
		item := itemAt(r.adapted.in, path, problem.Item{})
		name := item.Name
		if item.Pointer != nil {
			name = *item.Pointer
		}
		if r.adapted.own.Needs(item.In, name) {
			b.mistake(r.at, "%s: the adapter of its input, at %s, drops %s, which the function needs: use Constant, or give it a default", r.line(),
				b.where(r.part.adapts.in.At), shape.Text(path))
		}
	}
}

// wireIn is the type of the input as callers send it, and wireOut that of the value as they get it.
func (r *resolved) wireIn() reflect.Type {
	switch {
	case r.adapted == nil || r.adapted.in == nil:
		return r.part.in
	case r.adapted.in.IsEmpty():
		return noneType
	}
	return r.adapted.in.Old
}

func (r *resolved) wireOut() reflect.Type {
	if r.adapted != nil && r.adapted.out != nil {
		return r.adapted.out.Old
	}
	return r.part.out.value
}

// pages reports whether what is sent is a page, with the way to its neighbours.
func (r *resolved) pages() bool {
	if a := r.adapted; a != nil && a.out != nil {
		return r.part.out.page && !a.plain && a.out.IsDerived()
	}
	return r.part.out.page
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

// adapts is what makes the old value of what the function returns; nil where that is sent as it is.
func (r *resolved) adapts() (by *shape.Adapter, plain bool) {
	if r.adapted == nil || r.adapted.out == nil {
		return nil, false
	}
	return r.adapted.out, r.adapted.plain
}

func (r *resolved) toOld() func(any) (any, error) {
	if by, _ := r.adapts(); by == nil {
		return nil
	}
	return r.adapted.toOld
}

// inputOf is an input as callers send it, from one of the function's own type.
func (r *resolved) inputOf(input any) (any, error) {
	if r.adapted == nil || r.adapted.in == nil {
		return input, nil
	}
	v := reflect.ValueOf(input)
	if v.Kind() == reflect.Pointer && !v.IsNil() {
		v = v.Elem()
	}
	if !v.IsValid() || v.Type() != r.adapted.in.New {
		return input, nil // the plan says what it wants
	}
	if r.wireIn() == noneType {
		return None{}, nil
	}
	if r.adapted.in.ToOld == nil {
		return nil, fmt.Errorf("the adapter of the input has no function to the old type")
	}
	now, old := reflect.New(v.Type()).Elem(), reflect.New(r.adapted.in.Old)
	now.Set(v)
	return old.Interface(), r.adapted.in.ToOld(now, old.Elem())
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
