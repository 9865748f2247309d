package bind

import (
	"reflect"
	"slices"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/problem"
)

// Renew gives an input that was not read, but is to be made of another one, its defaults.
func (in *Plan) Renew(v reflect.Value) {
	for i := range in.fields {
		f := &in.fields[i]
		f.schema.Absent(v.FieldByIndex(f.index)) // what is missing is the other one's matter
	}
	if in.body != nil && in.body.schema != nil {
		in.body.schema.Renew(in.body.of(v))
	}
}

// Judge holds an input that was not read against the rules, as Read does. It costs about what
// writing and reading it does.
func (in *Plan) Judge(v reflect.Value) error {
	found := faults{most: in.most}
	for i := range in.fields {
		f := &in.fields[i]
		field := v.FieldByIndex(f.index)
		if field.IsZero() && f.source != "path" {
			continue
		}
		texts, err := f.schema.Texts(field)
		if err != nil {
			return err
		}
		read := reflect.New(field.Type()).Elem()
		if wrong := f.schema.ReadAll(texts, read, in.most); wrong != nil {
			found.add(f.source, f.name, wrong...)
		}
	}
	if in.body != nil && in.body.schema != nil {
		body := in.body.of(v)
		text, err := json.Marshal(body.Interface())
		if err != nil {
			return err
		}
		read := reflect.New(body.Type())
		wrong, more := in.body.schema.Decode(
			text, read.Interface(), check.Reading{Lenient: check.ReadOnlyMembers, Most: in.most},
		)
		found.add("body", "", wrong...)
		found.more = found.more || more
	}
	if in.judges && found.items == nil {
		in.judge(v, &found)
	}
	return found.problem()
}

// Most is how many faults are listed.
func (in *Plan) Most() int { return in.most }

// Refuse is the problem of an input with faults that somebody else has found.
func (in *Plan) Refuse(items []problem.Item) error {
	found := faults{items: items, most: in.most}
	if len(items) > in.most {
		found.items, found.more = items[:in.most], true
	}
	return found.problem()
}

// of is the body in an input.
func (b *body) of(v reflect.Value) reflect.Value {
	if b.index == nil {
		return v
	}
	return v.FieldByIndex(b.index)
}

// Needs reports whether an input must have something that has no default: a parameter, as query limit,
// or a member of the body by its JSON Pointer, "" for all of it.
func (in *Plan) Needs(source, name string) bool {
	if source == "body" && name == "" {
		_, _, required := in.Body()
		return required
	}
	return slices.ContainsFunc(
		in.Inputs(), func(i Input) bool { return i.Source == source && i.Name == name && i.Required },
	)
}
