package wicketway

import (
	"fmt"
	"net/http"
	"reflect"
	"strings"

	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/shape"
)

// plan compiles how a route's input is read and its output is sent.
func (b *builder) plan(r *resolved, unparsed bool) {
	t, p := r.terms(), r.part
	mistake := func(format string, args ...any) {
		b.mistake(r.at, "%s: %s", strings.TrimSpace(r.line()), fmt.Sprintf(format, args...))
	}
	if p.missing != "" {
		mistake("the %s is nil", p.missing)
	}
	if p.what != typedPart {
		return
	}
	var lenient check.Leniency
	if t.unknown {
		lenient |= check.UnknownMembers
	}
	if t.readOnly {
		lenient |= check.ReadOnlyMembers
	}
	how := bind.Config{
		Method:     r.method,
		Parameters: r.names,
		Unparsed:   unparsed,
		Limit:      t.limits.Body,
		Faults:     t.limits.Faults,
		Lenient:    lenient,
		None:       noneType,
		Conditions: conditionalFieldType,
		Files:      fileType,
		Schemas:    &b.schemas,
		Mistake:    mistake,
	}
	b.adapt(r)
	in := inputKey{r.wireIn(), strings.Join(r.names, ","), r.method, t.limits.Body, t.limits.Faults, t.unknown, t.readOnly}
	if r.input = b.inputs[in]; r.input == nil {
		before := len(b.mistakes)
		r.input = bind.Compile(r.wireIn(), how)
		if len(b.mistakes) == before { // else every route says what is wrong with it
			b.inputs[in] = r.input
		}
	}
	if r.adapted != nil && r.adapted.in != nil {
		b.planOwn(r, how)
	}
	adapts, plain := r.adapts()
	out := outputKey{r.wireOut(), adapts, plain, p.out.kind, r.status(), t.envelope, t.media, t.mediaParameter(), r.variant(), t.formats,
		t.conditional, t.omitNull, t.development}
	if r.output = b.outputs[out]; r.output == nil {
		before := len(b.mistakes)
		r.output = answer.Compile(r.wireOut(), answer.Config{
			Adapt:       r.toOld(),
			Status:      r.status(),
			Choice:      r.choice(),
			Media:       t.media,
			Parameter:   t.mediaParameter(),
			Variant:     r.variant(),
			Envelope:    t.envelope,
			Conditional: t.conditional,
			OmitNull:    t.omitNull,
			Development: t.development,
			Schemas:     &b.schemas,
			Encoders:    &b.encoders,
			Mistake:     mistake,
		})
		if len(b.mistakes) == before {
			b.outputs[out] = r.output
		}
	}
	if r.pages() && r.input.QueryField(cursorType) == "" {
		mistake("the output is a page, but no query field of the input is a wicketway.Cursor")
	}
}

// A plan is made once for all routes that read the same in the same way, or send it.
type inputKey struct {
	of                reflect.Type
	parameters        string
	method            string
	limit             int64
	faults            int
	unknown, readOnly bool
}

type outputKey struct {
	of                                  reflect.Type
	adapts                              *shape.Adapter
	plain                               bool
	kind                                outputKind
	status                              int
	envelope, media, parameter, variant string
	formats                             *answer.Choice
	conditional, omitNull, development  bool
}

// status is that of a success, where it is not the usual one.
func (r *resolved) status() int {
	if r.part.out.reply && r.part.out.at != nil {
		return http.StatusCreated
	}
	return r.terms().answers
}

// choice is the one between the formats of the output; nil where there is only JSON.
func (r *resolved) choice() *answer.Choice {
	switch r.part.out.kind {
	case streamOutput:
		return answer.StreamChoice
	case valueOutput:
		return r.terms().formats
	}
	return nil
}

// suffixes are the names of formats that its path may end in.
func (r *resolved) suffixes() []string {
	if r.part.what != typedPart {
		return nil
	}
	return r.choice().Suffixes()
}
