package contract

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/problem"
)

// response is an answer with what it refers to, and where that is.
func (c *comparing) response(d *Document, o *compared, key string) (*Response, string) {
	r, has := o.Responses.Get(key)
	at := o.at + pointerTo("responses", key)
	if has && r.Ref != "" {
		to, err := Resolve[Response](d, r.Ref)
		if err != nil {
			return new(Response), at
		}
		return to, strings.TrimPrefix(r.Ref, "#")
	}
	return r, at
}

// covering is the key of the answers of an operation that has a status: its own, its class, or default.
func covering(o *compared, key string) (of string, has bool) {
	class := key + " " // a key that is no status has none
	for _, one := range []string{key, class[:1] + "XX", "default"} {
		if _, has := o.Responses.Get(one); has && (one != "default" || key >= "2") {
			return one, true
		}
	}
	return "", false
}

func (c *comparing) responses(before, after *compared) {
	if c.isOpen(before) {
		return // whatever is answered could have been
	}
	if c.isOpen(after) {
		c.say(
			Look,
			after.at+"/responses",
			read,
			nil,
			"The function chooses status, media type and header fields by itself",
		)
	}
	for key := range after.Responses.All() {
		r, at := c.response(c.after, after, key)
		was, has := covering(before, key)
		if !has {
			c.newStatus(before, key, at)
			continue
		}
		old, from := c.response(c.before, before, was)
		if was != key {
			c.say(Safe, at, read, nil, "The status %s is listed, which %s had covered", key, was)
		}
		c.answered(key, old, r, from, at)
	}
	defer c.replacements()
	for key := range before.Responses.All() {
		if _, has := after.Responses.Get(key); has {
			continue
		}
		old, from := c.response(c.before, before, key)
		if now, has := covering(after, key); has {
			r, at := c.response(c.after, after, now)
			c.answered(key, old, r, from, at)
			continue
		}
		c.say(Safe, from, read, nil, "The status %s is no longer answered", key)
	}
}

// isOpen reports whether an operation's handler answers as it likes.
func (c *comparing) isOpen(o *compared) bool {
	for _, r := range o.Responses.All() {
		if _, has := r.More.Get(OpenKey); has {
			return true
		}
	}
	return false
}

// newStatus reports an answer that the old contract did not have.
func (c *comparing) newStatus(before *compared, key, at string) {
	status := key
	switch {
	case key == "default":
		status = "500"
	case strings.HasSuffix(key, "XX"):
		status = key[:1] + "00"
	}
	text := "The status " + key + " is new"
	if key == "default" {
		text = "Any status can be answered (default)"
	}
	if successes := statusesOf(before.Operation, "2"); strings.HasPrefix(key, "3") && successes != nil {
		text += ": the operation leads elsewhere, where it answered " + strings.Join(successes, ", ")
	} else if strings.HasPrefix(key, "2") && successes != nil {
		text += "; the contract had " + strings.Join(successes, ", ")
	}
	c.say(Breaking, at, read, map[string]any{"status": status}, "%s", text)
}

// statusesOf are those of an operation that begin with a digit.
func statusesOf(o *Operation, digit string) (all []string) {
	for key := range o.Responses.All() {
		if strings.HasPrefix(key, digit) {
			all = append(all, key)
		}
	}
	return all
}

// answered compares two answers with a status.
func (c *comparing) answered(status string, before, after *Response, from, to string) {
	about := "the answer " + status
	if from == to { // a component: what it says is the same for all that refer to it
		about = "the answer " + to[strings.LastIndexByte(to, '/')+1:]
		if key := "response " + to; c.told[key] {
			return
		} else {
			c.told[key] = true
		}
	}
	c.headers(about, before, after, from, to)
	c.bodiesOfAnswer(about, !strings.HasSuffix(from, "/"+status) && from != to, before, after, from, to)
	for name := range before.Links.All() {
		if _, has := after.Links.Get(name); !has {
			c.say(Look, from+pointerTo("links", name), read, nil, "The link %s of %s is gone", name, about)
		}
	}
}

func (c *comparing) header(d *Document, h *Header, at string) (*Header, string) {
	if h.Ref == "" {
		return h, at
	}
	to, err := Resolve[Header](d, h.Ref)
	if err != nil {
		return new(Header), at
	}
	return to, strings.TrimPrefix(h.Ref, "#")
}

func (c *comparing) headers(about string, before, after *Response, from, to string) {
	find := func(all Map[*Header], name string) (string, bool) {
		for other := range all.All() {
			if strings.EqualFold(other, name) {
				return other, true
			}
		}
		return "", false
	}
	for name, h := range after.Headers.All() {
		is, at := c.header(c.after, h, to+pointerTo("headers", name))
		other, has := find(before.Headers, name)
		if strings.EqualFold(name, "Content-Type") { // it is ignored (4.8.17.1)
			continue
		}
		if !has {
			c.say(Safe, at, read, nil, "The header field %s of %s is new", name, about)
			continue
		}
		h, _ := before.Headers.Get(other)
		was, place := c.header(c.before, h, from+pointerTo("headers", other))
		switch {
		case was.Required && !is.Required:
			c.say(
				Breaking,
				at+"/required",
				read,
				map[string]any{"header": map[string]any{}},
				"The header field %s of %s can be missing",
				name,
				about,
			)
		case !was.Required && is.Required:
			c.say(Safe, at+"/required", read, nil, "The header field %s of %s is always there", name, about)
		}
		old, _ := valueOf(was.Schema, was.Content)
		now, _ := valueOf(is.Schema, is.Content)
		c.schema("the header field "+name, read, old, now, place+"/schema", at+"/schema")
	}
	for name, h := range before.Headers.All() {
		if _, has := find(after.Headers, name); has || strings.EqualFold(name, "Content-Type") {
			continue
		}
		was, _ := c.header(c.before, h, "")
		if name == "Deprecation" || name == "Sunset" {
			c.say(
				Safe,
				from+pointerTo("headers", name),
				read,
				nil,
				"%s no longer announces an end (%s)",
				upper(about),
				name,
			)
		} else if was.Required {
			c.say(Breaking, from+pointerTo("headers", name), read, map[string]any{"header": map[string]any{}}, "The header field %s of %s is gone, which was always there", name, about)
		} else {
			c.say(Look, from+pointerTo("headers", name), read, nil, "The header field %s of %s is gone, which could have been there", name, about)
		}
	}
}

// A replacing answer has another media type than before.
type replacing struct{ status, at string }

// replacements reports the answers that have another media type, together where there are several.
func (c *comparing) replacements() {
	for _, key := range slices.SortedFunc(maps.Keys(c.replaced), func(a, b [2]string) int { return strings.Compare(a[0]+a[1], b[0]+b[1]) }) {
		var names []string
		for _, one := range c.replaced[key] {
			names = append(names, one.status)
		}
		slices.Sort(names)
		about := "answer " + names[0] + " is"
		if last := len(names) - 1; last > 0 {
			about = "answers " + strings.Join(names[:last], ", ") + " and " + names[last] + " are"
		}
		c.say(
			Breaking,
			c.replaced[key][0].at,
			read,
			map[string]any{"header": map[string]string{"Content-Type": key[0]}},
			"The %s of the media type %s instead of %s",
			about,
			key[0],
			key[1],
		)
	}
	clear(c.replaced)
}

// bodiesOfAnswer compares the media types of an answer. One is covered that the old contract had under default, or by the
// class of its status.
func (c *comparing) bodiesOfAnswer(about string, covered bool, before, after *Response, from, to string) {
	var gone []string
	for media := range before.Content.All() {
		if _, _, has := matching(&after.Content, media); !has {
			gone = append(gone, media)
		}
	}
	replaced := false
	for media, m := range after.Content.All() {
		at := to + pointerTo("content", media)
		key, old, has := matching(&before.Content, media)
		switch {
		case has:
			c.answerContent(about+" ("+media+")", old, m, from+pointerTo("content", key), at)
		case before.Content.Len() == 0:
			c.say(Look, at, read, nil, "%s has a body (%s), and had none", upper(about), media)
		case len(gone) == 0:
			c.say(
				Look,
				at,
				read,
				nil,
				"%s can be of the media type %s: callers that name no other in Accept may get it",
				upper(about),
				media,
			)
		default:
			key := [2]string{media, strings.Join(gone, ", ")}
			c.replaced[key] = append(c.replaced[key], replacing{strings.TrimPrefix(about, "the answer "), at})
			replaced = true
		}
	}
	for _, media := range gone {
		switch at := from + pointerTo("content", media); {
		case replaced:
		case after.Content.Len() == 0 && covered:
			c.say(Look, at, read, nil, "%s has no body, where %s was possible", upper(about), media)
		default:
			c.say(
				Breaking,
				at,
				read,
				map[string]any{"header": map[string]string{"Accept": media}},
				"The media type %s of %s is gone",
				media,
				about,
			)
		}
	}
}

// answerContent compares the body of an answer; of problems kind by kind.
func (c *comparing) answerContent(about string, before, after MediaType, from, to string) {
	if c.isSame(before.Schema, after.Schema) && c.isSame(itemOf(before), itemOf(after)) {
		return
	}
	if !strings.Contains(to, escaper.Replace(problem.MediaType)) {
		c.contents(about, read, before, after, from, to)
		return
	}
	old, is := c.kinds(0, before.Schema), c.kinds(1, after.Schema)
	if old == nil || is == nil {
		c.contents(about, read, before, after, from, to)
		return
	}
	for _, code := range slices.Sorted(maps.Keys(is)) {
		was, has := old[code]
		if !has {
			c.say(
				Look,
				to+"/schema",
				read,
				nil,
				"The kind of problem %s is new in %s: clients that tell the kinds apart do not know it",
				code,
				about,
			)
			continue
		}
		c.schema("the problem "+code, read, was.schema, is[code].schema, from+was.at, to+is[code].at)
	}
	for _, code := range slices.Sorted(maps.Keys(old)) {
		if _, has := is[code]; !has {
			c.say(Safe, from+"/schema", read, nil, "The kind of problem %s is gone from %s", code, about)
		}
	}
}

// A kindSchemaAt is the schema of a kind of problem, and where that is below its media type.
type kindSchemaAt struct {
	schema Schema
	at     string
}

// kinds are the kinds of problem that a schema has, by their codes; nil where it is not one of kinds alone.
func (c *comparing) kinds(document int, s Schema) map[string]kindSchemaAt {
	all := map[string]kindSchemaAt{}
	add := func(s Schema, at string) bool {
		code := c.set(1, document, s).Constant("code")
		all[code] = kindSchemaAt{s, at}
		return code != ""
	}
	alternatives := s.List("oneOf")
	if alternatives == nil {
		alternatives = s.List("anyOf")
	}
	if alternatives == nil {
		if !add(s, "/schema") {
			return nil
		}
		return all
	}
	for i, one := range alternatives {
		if !add(one, fmt.Sprint("/schema/oneOf/", i)) {
			return nil
		}
	}
	return all
}

// An alternative is credentials that are enough: scopes by security scheme, which is known by what it says rather than by
// its name.
type alternative struct {
	scopes map[string][]string
	names  map[string]string
}

// alternatives are those of an operation; nil where nobody is asked.
func (c *comparing) alternatives(d *Document, o *compared) (all []alternative) {
	requirements := d.Security
	if o.Security != nil {
		requirements = *o.Security
	}
	for _, r := range requirements {
		one := alternative{map[string][]string{}, map[string]string{}}
		for name, scopes := range r.All() {
			key := schemeKey(d, name)
			one.scopes[key], one.names[key] = scopes, name
		}
		all = append(all, one)
	}
	return all
}

// schemeKey says what a security scheme is, without its name and texts.
func schemeKey(d *Document, name string) string {
	s, err := Resolve[SecurityScheme](d, "#/components/securitySchemes/"+escaper.Replace(name))
	if err != nil {
		return "unknown " + name
	}
	return strings.Join([]string{s.Type, strings.ToLower(s.Scheme), s.In, s.Name, s.OpenIDConnectURL}, "\n")
}

func (a alternative) isOpen() bool { return len(a.scopes) == 0 }

// lacks says what somebody with the credentials of a lacks for b.
func (a alternative) lacks(b alternative) (missing []string) {
	for _, key := range slices.Sorted(maps.Keys(b.scopes)) {
		own, has := a.scopes[key]
		if !has {
			missing = append(missing, "the scheme "+b.names[key])
			continue
		}
		for _, scope := range b.scopes[key] {
			if !slices.Contains(own, scope) {
				missing = append(missing, "the scope "+scope)
			}
		}
	}
	return missing
}

func (a alternative) text() map[string][]string {
	all := map[string][]string{}
	for key, name := range a.names {
		all[name] = append([]string{}, a.scopes[key]...)
	}
	return all
}

func (c *comparing) security(before, after *compared) {
	old, is := c.alternatives(c.before, before), c.alternatives(c.after, after)
	at := after.at + "/security"
	open := func(all []alternative) bool { return len(all) == 0 || slices.ContainsFunc(all, alternative.isOpen) }
	switch {
	case open(is):
		if !open(old) {
			c.say(Safe, at, sent, nil, "Everyone may call it")
		}
		return
	case open(old):
		c.say(
			Breaking,
			at,
			sent,
			map[string]any{"security": map[string]any{}},
			"Callers need credentials: everyone could call it",
		)
		return
	}
	for _, a := range old {
		var least []string
		for i, b := range is {
			if missing := a.lacks(b); i == 0 || len(missing) < len(least) {
				least = missing
			}
		}
		if least != nil {
			c.say(
				Breaking,
				at,
				sent,
				map[string]any{"security": a.text()},
				"Callers need %s as well",
				strings.Join(least, " and "),
			)
		}
	}
	for _, b := range is {
		if !slices.ContainsFunc(old, func(a alternative) bool { return b.lacks(a) == nil && a.lacks(b) == nil }) &&
			slices.ContainsFunc(old, func(a alternative) bool { return a.lacks(b) == nil }) {
			c.say(Safe, at, sent, nil, "Callers need less than before")
		}
	}
}
