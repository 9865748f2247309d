package wicketway

import (
	"cmp"
	"maps"
	"net/http"
	"reflect"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"github.com/wicketway/wicketway/problem"
)

// Facts are all that is known of a route. Listings, the catalogue, the command-line tool and
// the checks of middleware and of attached values read the same.
type Facts struct {
	Version  string           `json:"version,omitzero"`
	Chosen   *ChosenInfo      `json:"chosen,omitzero"` // how the version is; nil where there is none
	Method   string           `json:"method"`          // "" for what is mounted: every method
	Path     string           `json:"path"`            // the template
	Name     string           `json:"name,omitzero"`
	Summary  string           `json:"summary,omitzero"`
	Guard    *GuardInfo       `json:"guard,omitzero"` // nil where everyone may call
	Open     []string         `json:"open,omitempty"` // methods for which the guard is not asked, of what is mounted
	Scopes   []string         `json:"scopes,omitempty"`
	AnyScope [][]string       `json:"anyScope,omitempty"` // of each list one
	Rules    int              `json:"rules,omitzero"`     // how many Allow has
	Slashes  string           `json:"slashes"`            // redirect, strict, same
	Formats  *FormatsInfo     `json:"formats,omitzero"`   // nil where there is no choice
	Files    bool             `json:"files,omitzero"`
	Chain    []MiddlewareInfo `json:"chain,omitempty"`
	Attached []AttachedInfo   `json:"attached,omitempty"`
	Settings []SettingInfo    `json:"settings,omitempty"` // that hold for it, nearest first; of listings alone, not of checks
	Inputs   []InputInfo      `json:"inputs,omitempty"`
	Bodies   []BodyInfo       `json:"bodies,omitempty"` // one for each media type
	Answers  []AnswerInfo     `json:"answers,omitempty"`
	Envelope string           `json:"envelope,omitzero"` // the member that values stand under
	Raises   []RaisedInfo     `json:"raises,omitempty"`  // by status and code
	// Inherited is nil for a route that has nothing to do with an earlier version.
	Inherited  *InheritedInfo  `json:"inherited,omitzero"`
	Retirement *RetirementInfo `json:"retirement,omitzero"`
	Withdrawn  bool            `json:"withdrawn,omitzero"` // it answers 410
	Own        bool            `json:"own,omitzero"`       // it is Wicketway's own, which describes the kinds of problem
	Adapted    bool            `json:"adapted,omitzero"`   // it is an older shape of what its function reads and sends
	// Problems is nil where they are sent as RFC 9457 has it.
	Problems *ProblemShapeInfo `json:"problems,omitzero"`
	At       Place             `json:"at"`
}

// ChosenInfo says how requests choose between the versions that stand under one prefix.
type ChosenInfo struct {
	Under     string   `json:"under"`          // the prefix, as a template
	By        string   `json:"by"`             // path, header NAME, media type
	Field     string   `json:"field,omitzero"` // of the header, that they read; "" for the path
	Unknown   int      `json:"unknown"`        // the status where it is not served
	Default   string   `json:"default,omitzero"`
	Served    []string `json:"served"`
	Withdrawn []string `json:"withdrawn,omitempty"`
}

func (s *versionSet) info() *ChosenInfo {
	if s == nil {
		return nil
	}
	return &ChosenInfo{
		Under:     s.under.String(),
		By:        s.by.scheme.String(),
		Field:     s.variesBy(),
		Unknown:   s.raises().Status(),
		Default:   s.by.byDefault,
		Served:    s.names,
		Withdrawn: s.withdrawn,
	}
}

// InheritedInfo says how a route goes back to an earlier version.
type InheritedInfo struct {
	From     string `json:"from"`
	Override bool   `json:"override,omitzero"` // it takes the place of that version's route
	At       Place  `json:"at"`                // of Inherit
}

// GuardInfo describes who decides about callers.
type GuardInfo struct {
	Name   string `json:"name"`
	Type   string `json:"type,omitzero"`
	Scheme string `json:"scheme,omitzero"`
	Format string `json:"format,omitzero"`
	In     string `json:"in,omitzero"`
	Field  string `json:"field,omitzero"`
	// Any are the guards of which one is enough, where there are several.
	Any []GuardInfo `json:"any,omitempty"`
	// After is how many of the chain come before the guard.
	After int   `json:"after,omitzero"`
	At    Place `json:"at"`
}

// FormatsInfo describes the formats that callers choose between.
type FormatsInfo struct {
	Offers   []FormatInfo `json:"offers"`             // the first where nothing is asked for
	By       []string     `json:"by"`                 // accept, suffix, query NAME
	Suffixes []string     `json:"suffixes,omitempty"` // that the path may have
}

// FormatInfo describes a format.
type FormatInfo struct {
	Name  string `json:"name"`
	Media string `json:"media"`
}

// MiddlewareInfo describes one middleware of a chain.
type MiddlewareInfo struct {
	Name string   `json:"name"`
	Does string   `json:"does,omitzero"`
	Sets []string `json:"sets,omitempty"` // header fields of answers
	// HidesFlush says that what is behind it cannot send a part of an answer before its end.
	HidesFlush bool  `json:"hidesFlush,omitzero"`
	At         Place `json:"at"`
}

// AttachedInfo describes a value that was attached for middleware to read.
type AttachedInfo struct {
	Type  string         `json:"type"`
	Value jsontext.Value `json:"value,omitzero"` // where JSON can carry it
	At    Place          `json:"at"`
}

// SettingInfo describes a setting that holds for a route, and by which list it came.
type SettingInfo struct {
	Name string `json:"name"`
	At   Place  `json:"at"`
	// List is route, or the function of the group, with its prefix or version: At /api/v2/locks.
	List   string `json:"list"`
	ListAt Place  `json:"listAt"`
	// Inherited says that it is the list of an earlier version.
	Inherited bool `json:"inherited,omitzero"`
}

// InputInfo describes one thing that a route reads.
type InputInfo struct {
	In       string         `json:"in"`   // path, query, header, cookie, form, file, body
	Name     string         `json:"name"` // of a member of the body, as a JSON Pointer
	Type     string         `json:"type"`
	Required bool           `json:"required,omitzero"`
	Rule     string         `json:"rule,omitzero"`
	Note     string         `json:"note,omitzero"`
	Schema   jsontext.Value `json:"schema,omitzero"` // of what is not in a body
}

// BodyInfo describes the body that a route reads.
type BodyInfo struct {
	Media    string         `json:"media"`
	Required bool           `json:"required,omitzero"`
	Schema   jsontext.Value `json:"schema,omitzero"` // of JSON
}

// AnswerInfo describes what a route sends where all goes well.
type AnswerInfo struct {
	Status int            `json:"status"`
	Media  string         `json:"media,omitzero"`
	Fields []string       `json:"fields,omitempty"` // header fields
	Type   string         `json:"type,omitzero"`    // in Go
	Schema jsontext.Value `json:"schema,omitzero"`
	Of     reflect.Type   `json:"-"` // the type itself; nil where it is not known
}

// RaisedInfo describes a kind of problem that a route can answer with, and who raises it:
// the route, guard, input or limits, or a middleware by its name.
type RaisedInfo struct {
	Status int    `json:"status"`
	Code   string `json:"code"`
	Title  string `json:"title"`
	By     string `json:"by"`
}

// A Place is where something was declared.
type Place struct {
	File string `json:"file"`
	Line int    `json:"line"`
}

func (p place) info() Place {
	file, line := p.frame()
	return Place{file, line}
}

func (r *resolved) makeFacts() Facts {
	t := r.terms()
	f := Facts{
		Version:  t.version,
		Chosen:   t.versions.info(),
		Method:   r.method,
		Path:     r.path,
		Name:     r.name,
		Summary:  t.summary,
		Slashes:  t.slashes.String(),
		Files:    r.part.what == filesPart,
		Formats:  r.formatsInfo(),
		Chain:    chainInfo(t.active()),
		Attached: r.attachedInfo(),
		At:       r.at.info(),
	}
	if l := r.lineage; l != nil {
		f.Inherited = &InheritedInfo{l.from, l.own, l.at.info()}
	}
	f.Own, f.Adapted, f.Problems = r.part.own, r.adapted != nil, t.problemsAs.info()
	f.Withdrawn, f.Retirement = r.part.withdrawn, t.retirement.info()
	if r.guarded() {
		s := t.guard.Scheme()
		f.Guard = guardInfo(s, t.guardAt.info())
		f.Guard.After = len(t.activeIn(t.chain[:t.after]))
		if r.method == anyMethod {
			f.Open = t.open
		}
		f.Scopes, f.AnyScope, f.Rules = t.scopes, t.anyScope, len(t.rules)
	}
	if r.input != nil {
		if r.ties != nil && r.ties.conditional != nil {
			f.Inputs = append(f.Inputs, r.ties.conditional.inputs()...)
		}
		for _, i := range r.input.Inputs() {
			f.Inputs = append(f.Inputs, InputInfo{i.Source, i.Name, i.Type, i.Required, i.Rule, i.Note, i.Schema})
		}
		media, of, required := r.input.Body()
		for _, m := range media {
			body := BodyInfo{Media: m, Required: required}
			if of != nil {
				body.Schema = of.Document()
			}
			f.Bodies = append(f.Bodies, body)
		}
	}
	f.Answers = r.answerInfo()
	if sendsText(r) {
		f.Envelope = t.envelope
	}
	for _, one := range r.raises() {
		f.Raises = append(f.Raises, RaisedInfo{one.kind.Status(), one.kind.Code(), one.kind.Title(), one.by})
	}
	slices.SortStableFunc(f.Raises, func(x, y RaisedInfo) int {
		return cmp.Or(cmp.Compare(x.Status, y.Status), cmp.Compare(x.Code, y.Code))
	})
	f.Raises = slices.Compact(f.Raises) // several can be told as one
	return f
}

func guardInfo(s Scheme, at Place) *GuardInfo {
	g := &GuardInfo{
		Name:   s.Name,
		Type:   s.Type,
		Scheme: s.Scheme,
		Format: s.Format,
		In:     s.In,
		Field:  s.Field,
		At:     at,
	}
	for _, one := range s.Any {
		g.Any = append(g.Any, *guardInfo(one, at))
	}
	return g
}

func chainInfo(of []*chained) []MiddlewareInfo {
	var chain []MiddlewareInfo
	for _, l := range of {
		chain = append(chain, MiddlewareInfo{l.Name, l.Does, l.Sets, l.HidesFlush, l.at.info()})
	}
	return chain
}

// attachedInfo lists the values that hold for a route, nearest first.
func (r *resolved) attachedInfo() (all []AttachedInfo) {
	for l := r.list; l != nil; l = l.outer {
		for i := range l.settings {
			s := &l.settings[i]
			if s.value == nil || overruled(s, l, r) {
				continue
			}
			info := AttachedInfo{Type: s.slot.(interface{ String() string }).String(), At: s.at.info()}
			if text, err := json.Marshal(s.value); err == nil {
				info.Value = text
			}
			all = append(all, info)
		}
	}
	return all
}

// settingInfo lists the settings that hold for a route, nearest first.
func (r *resolved) settingInfo() (all []SettingInfo) {
	for l := r.list; l != nil; l = l.outer {
		for i := range l.settings {
			s := &l.settings[i]
			if overruled(s, l, r) || s.acts != nil && !s.acts(r) {
				continue
			}
			all = append(all, SettingInfo{s.name, s.at.info(), l.label(), l.at.info(), l.inherited})
		}
	}
	return all
}

// label names a list: route, or the function of the group.
func (l *list) label() string {
	switch {
	case l.ofRoute:
		return "route"
	case l.kind == versionGroup:
		return "Version " + l.version
	case l.kind == atGroup:
		return "At " + cmp.Or(l.prefix, "/")
	}
	return l.kind.String()
}

// formatsInfo describes the choice between formats.
func (r *resolved) formatsInfo() *FormatsInfo {
	if r.output == nil || r.output.Choice == nil {
		return nil
	}
	c := r.output.Choice
	f := &FormatsInfo{Suffixes: c.Suffixes()}
	for _, o := range c.Offers {
		f.Offers = append(f.Offers, FormatInfo{o.Name, o.Media})
	}
	if c.Suffix {
		f.By = append(f.By, Way{kind: bySuffix}.String())
	}
	if c.Query != "" {
		f.By = append(f.By, ByQuery(c.Query).String())
	}
	if c.Accept {
		f.By = append(f.By, ByAccept().String())
	}
	return f
}

func (r *resolved) answerInfo() (all []AnswerInfo) {
	if r.output == nil { // a handler decides itself
		return nil
	}
	if r.part.out.info != nil {
		all = r.part.out.info()
		for i := range all {
			if media := r.terms().media; media != "" && all[i].Media != "" {
				all[i].Media = media
			}
		}
		return all
	}
	a := AnswerInfo{Status: r.output.Status, Fields: r.answerFields()}
	if r.output.Type == nil {
		return []AnswerInfo{a}
	}
	a.Type, a.Of = typeName(r.output.Type), r.output.Type
	if by, _ := r.adapts(); by != nil && by.IsDerived() {
		a.Type = "old " + typeName(by.New) // it has no name of its own
	}
	if r.output.Schema != nil {
		a.Schema = r.output.Schema.Document()
	}
	a.Media = r.output.Media
	all = append(all, a)
	if c := r.output.Choice; c != nil {
		all = nil
		for _, o := range c.Offers {
			one := a
			if o.Write != nil || r.part.out.kind == streamOutput {
				one.Media = o.Media
			}
			all = append(all, one)
		}
	}
	if r.output.Conditional && r.method == http.MethodGet {
		all = append(all, AnswerInfo{Status: http.StatusNotModified, Fields: []string{"Etag"}})
	}
	return all
}

// typeName is the name of a type in Go, with packages by the last part of their paths.
func typeName(t reflect.Type) string {
	var b strings.Builder
	name := t.String()
	for name != "" {
		end := strings.IndexAny(name, "[],*(){} ")
		if end < 0 {
			end = len(name)
		}
		b.WriteString(name[strings.LastIndexByte(name[:end], '/')+1 : end])
		if end < len(name) {
			b.WriteByte(name[end])
			end++
		}
		name = name[end:]
	}
	return b.String()
}

// answerFields are the header fields of a success.
func (r *resolved) answerFields() (fields []string) {
	if r.pages() {
		fields = append(fields, "Link")
	}
	if r.part.out.at != nil {
		fields = append(fields, "Location")
	}
	if r.output.Conditional && r.method == http.MethodGet || r.ties != nil && r.ties.tagged {
		fields = append(fields, "Etag")
	}
	if r.terms().versions.variesBy() != "" || len(r.input.Varies()) > 0 {
		fields = append(fields, "Vary")
	}
	if ends := r.terms().retirement; ends != noRetirement {
		h := http.Header{}
		ends.announce(http.StatusOK, h)
		fields = append(fields, slices.Sorted(maps.Keys(h))...)
		slices.Sort(fields)
		fields = slices.Compact(fields)
	}
	return fields
}

// A raisedKind is a kind of problem, and who raises it.
type raisedKind struct {
	kind *problem.Kind
	by   string
}

// raises are the kinds that a route can answer with, beside those that every request can
// meet, as callers see them.
func (r *resolved) raises() []raisedKind {
	all := r.kinds()
	for i := range all {
		all[i].kind = r.terms().asRaised(all[i].kind)
	}
	return all
}

// kinds are these as they are raised.
func (r *resolved) kinds() (all []raisedKind) {
	t := r.terms()
	add := func(by string, kinds ...*problem.Kind) {
		for _, k := range kinds {
			if k != nil { // which is said where it was named
				all = append(all, raisedKind{k, by})
			}
		}
	}
	add("route", t.fails...)
	if r.part.withdrawn {
		add("route", ErrWithdrawn)
	}
	if t.retirement.ends {
		add("route", ErrRetired)
	}
	for _, l := range t.active() {
		add(l.Name, l.Raises...)
	}
	if r.guarded() {
		add("guard", t.guard.Scheme().Raises...)
		if len(t.scopes) > 0 || len(t.anyScope) > 0 {
			add("guard", ErrScopeMissing)
		}
		for _, rule := range t.rules {
			add("rule", rule.kind)
		}
	}
	if len(t.seats) > 0 {
		add("limits", problem.Overloaded)
	}
	if r.input != nil && r.input.Reads() {
		add("input", problem.Unreadable, problem.Invalid)
	}
	if r.reads() {
		add("input", problem.BodyTimeout, problem.BodyTooLarge, problem.UnsupportedMedia)
	}
	if r.output != nil && r.output.Conditional {
		add("input", problem.PreconditionFailed)
	}
	if r.ties != nil && r.ties.conditional != nil && r.ties.conditional.required {
		add("input", problem.PreconditionRequired)
	}
	if c := r.choice(); c != nil && !c.First && r.output != nil {
		add("input", problem.NotAcceptable)
	}
	if r.canLack() {
		add("output", problem.NotFound)
	}
	if r.hasRanges() {
		add("output", problem.OfStatus(http.StatusRequestedRangeNotSatisfiable))
	}
	if t.limits.Time > 0 {
		add("limits", problem.Timeout)
	}
	return all
}

// canLack reports whether the output of a route can be nil, which is 404 where its path names a value.
func (r *resolved) canLack() bool {
	if r.output == nil || len(r.names) == 0 || r.method != http.MethodGet {
		return false
	}
	of := r.part.out.value
	return r.part.out.pointer || of != nil && (of.Kind() == reflect.Pointer || of.Kind() == reflect.Interface)
}

// hasRanges reports whether parts of an answer can be asked for (RFC 9110, 14).
func (r *resolved) hasRanges() bool {
	if r.part.what == filesPart {
		return true
	}
	return r.part.out.info != nil && slices.ContainsFunc(r.part.out.info(), func(a AnswerInfo) bool { return a.Status == http.StatusPartialContent })
}
