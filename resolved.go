package wicketway

import (
	"fmt"
	"net/http"
	"net/url"
	"path/filepath"
	"reflect"
	"runtime"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/method"
	"github.com/wicketway/wicketway/internal/shape"
)

func (r *resolved) terms() *terms { return &r.list.terms }

// shown is the route as pages and shapes show it.
func (r *resolved) shown() answer.Route {
	t := r.terms()
	shown := answer.Route{Name: r.name, Summary: t.summary}
	if t.template != "" {
		shown.Name = t.template
	}
	return shown
}

// line is the route as its declaration has it.
func (r *resolved) line() string {
	if r.method == anyMethod {
		return r.path
	}
	return r.method + " " + r.path
}

// key is the name with the version's, under which links find the route.
func (r *resolved) key() string { return r.list.terms.version + "/" + r.name }

// tie gives the ties of a route to add to.
func (r *resolved) tie() *ties {
	if r.ties == nil {
		r.ties = &ties{locates: -1, reads: -1}
	}
	return r.ties
}

// isReading reports whether the route changes nothing.
func (r *resolved) isReading() bool { return method.IsSafe(r.method) }

// guarded reports whether callers must be known.
func (r *resolved) guarded() bool { return r.list.terms.guards(r.method) }

// reads reports whether the route's input takes the body.
func (r *resolved) reads() bool { return r.input != nil && r.input.ReadsBody() }

// bodyLimit is 0 for a route that does not read a body itself.
func (r *resolved) bodyLimit() int64 {
	if r.reads() {
		return r.terms().limits.Body
	}
	return 0
}

// source says which function serves a route, and where it is.
func (r *resolved) source() string {
	function := r.part.function
	if function == nil {
		return "declared at " + r.at.String()
	}
	file, line := function.FileLine(function.Entry())
	name := function.Name()
	name, isMethod := strings.CutSuffix(name[strings.LastIndexByte(name, '/')+1:], "-fm")
	if isMethod { // a method value: Go knows the place of its wrapper only
		return fmt.Sprintf("%s (declared at %s)", name, r.at)
	}
	return fmt.Sprintf("%s (%s:%d)", name, filepath.Base(file), line)
}

// functionName is the name of a function with its package's, without its
// receiver: passages.find. A function literal has none.
func functionName(function *runtime.Func) string {
	if function == nil {
		return ""
	}
	whole := function.Name()
	name := strings.TrimSuffix(whole[strings.LastIndexByte(whole, '/')+1:], "-fm")
	parts := strings.Split(name, ".")
	if strings.Contains(name, "[...]") || slices.ContainsFunc(parts[1:], isLiteral) {
		return ""
	}
	return parts[0] + "." + parts[len(parts)-1]
}

// isLiteral reports whether a part of a function's name, as the runtime has it, is that of a literal: func1, or 2 for one
// inside of another.
func isLiteral(part string) bool {
	number := strings.TrimPrefix(part, "func")
	return number != "" && strings.Trim(number, "0123456789") == ""
}

// pathName is a name that a route has by itself: get.locks.lock.levels for GET /locks/{lock}/levels of any version.
func (r *resolved) pathName() string {
	path := r.path
	if t := r.terms(); t.versions != nil && !t.versions.sharesPaths() {
		path = strings.TrimPrefix(path, t.versions.Under.String()+"/"+t.version)
	}
	words := strings.FieldsFunc(path, func(c rune) bool { return strings.ContainsRune("/{}+", c) })
	return strings.Join(append([]string{strings.ToLower(r.method)}, words...), ".")
}

// Routes of which settings speak.
func isTyped(r *resolved) bool { return r.output != nil }

func isHandler(r *resolved) bool { return r.output == nil && r.part.what != filesPart }

func isFiles(r *resolved) bool { return r.part.what == filesPart }

func readsJSON(r *resolved) bool { return r.input != nil && r.input.ReadsJSON() }

func sendsJSON(r *resolved) bool { return r.output != nil && r.part.out.kind == valueOutput }

func sendsText(r *resolved) bool { return r.output != nil && r.output.Type != nil }

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

// variant tells the tags apart of versions that share their paths, and of shapes (RFC 9110, 8.8.1).
func (r *resolved) variant() (variant string) {
	if t := r.terms(); t.versions.sharesPaths() {
		variant = t.version
	}
	if by, _ := r.adapts(); by != nil {
		variant += " old"
	}
	return variant
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
	switch {
	case r.adapted != nil && r.adapted.out != nil:
		return r.adapted.out.Old
	case r.part.out.open:
		return reflect.TypeFor[any]() // the value in the interface counts
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

// answers names what a route sends, for mistakes.
func (r *resolved) answers() string {
	if r.output == nil || r.part.out.value == nil {
		return "no value"
	}
	return r.part.out.value.String()
}

// A rest is what follows the prefix of a route in a path.
type rest struct {
	slash   int    // with which slash it begins, from 1
	version string // that may be missing from the path; "": none
	under   int    // how many segments come before the version
}

func (t *target) rest() rest {
	r := rest{slash: strings.Count(t.path, "/")}
	if v := t.terms().versions.inTable(); v.DefaultsTo(t.terms().version) {
		r.version, r.under = t.terms().version, strings.Count(v.Under.String(), "/")
	}
	return r
}

// of gives the rest of a path, with the slash before it.
func (r rest) of(path string) string {
	if r.version == "" {
		return fromSlash(path, r.slash)
	}
	at, _, _ := strings.Cut(fromSlash(path, r.under+1)[1:], "/")
	if plain, err := url.PathUnescape(at); err == nil && plain == r.version {
		return fromSlash(path, r.slash)
	}
	return fromSlash(path, r.slash-1)
}

// fromSlash gives a path from its n-th slash on.
func fromSlash(path string, n int) string {
	for i := range len(path) {
		if path[i] == '/' {
			if n--; n == 0 {
				return path[i:]
			}
		}
	}
	return "/"
}

// publishes reports whether a route is that of Contracts, at a path without other parameters.
func (r *resolved) publishes() bool {
	return r.part.out.value == reflect.TypeFor[*contract.Document]() && len(r.names) == 1
}
