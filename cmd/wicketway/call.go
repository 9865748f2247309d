package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/client"
	"github.com/wicketway/wicketway/client/named"
	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/requests"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/discover"
	"github.com/wicketway/wicketway/problem"
)

// A calling is what the command was asked for.
type calling struct {
	at, version, accept, tokenFile string
	fields                         []string
	asJSON, asLine, unchecked      bool
}

func callCommand() *cobra.Command {
	var p calling
	c := &cobra.Command{
		Use:   "call [NAME | METHOD PATH] [name=value ...]",
		Short: "Call an operation of an API that runs, by its name, and show the answer",
		Long: `Call an operation of an API that runs, by its name, and show the answer.

NAME is that of an operation in the contract, such as passages.book; METHOD PATH is a request, such as GET
/api/v2/locks/bell. Values are those of its parameters and of the members of its body, by their names, and are read as their
schemas say: crew=3, remark=null, tags=a tags=b, photo=@photo.png for a file, body=@passage.json for a whole body, and - for a
body from the standard input. What breaks a schema is shown, and nothing is sent, unless --unchecked says so. Without NAME the
operations are listed.

The API is at --at: the http or https address of one that runs (default: ` + defaultAddress + `), or the Go package of a
program, which is built and started for the call. The token of the caller is in WICKETWAY_TOKEN, or in the file of
--token-file; it is never shown. The exit status is 0 for an answer with 2xx or 3xx, and 1 for any other.`,
		Args: cobra.ArbitraryArgs,
		RunE: func(c *cobra.Command, args []string) error {
			return p.run(c, args)
		},
	}
	f := c.Flags()
	f.StringVar(&p.at, "at", defaultAddress, "the `ADDRESS` of the API, or the Go package of its program")
	f.StringVar(&p.version, "version", "", "call this version (default: the last one)")
	f.StringVar(&p.accept, "accept", "", "the `MEDIA` type to ask for, such as csv or text/csv")
	f.StringVar(&p.tokenFile, "token-file", "", "the `FILE` has the caller's token")
	f.StringArrayVarP(&p.fields, "header", "H", nil, "a header field of the request, `'NAME: VALUE'`; can be given again")
	f.BoolVar(&p.asJSON, "json", false, "print JSON")
	f.BoolVar(&p.asLine, "curl", false, "print the request as a line for a shell, and send nothing")
	f.BoolVar(&p.unchecked, "unchecked", false, "send values that break their schemas")
	c.ValidArgsFunction = p.complete
	return c
}

// run finds the API, and calls it.
func (p *calling) run(c *cobra.Command, args []string) error {
	api, doc, address, end, err := p.open(c.Context(), screenOf(c.ErrOrStderr()))
	if end != nil {
		defer end()
	}
	if err != nil {
		return checked(err)
	}
	if len(args) == 0 {
		return p.list(c.OutOrStdout(), api)
	}
	o, values, err := p.find(api, args)
	if err != nil {
		return err
	}
	if err := p.read(doc, o, args, values, c.InOrStdin()); err != nil {
		return err
	}
	header, err := p.header()
	if err != nil {
		return err
	}
	r, err := api.Request(c.Context(), o.Name, values, header)
	if told := problem.In(err); told != nil {
		return p.faults(c.OutOrStdout(), o, told)
	}
	if err != nil {
		return checked(err)
	}
	if p.asLine {
		return p.line(c.OutOrStdout(), doc, o, r, address)
	}
	return p.send(c, r)
}

// open finds the contract, and is ready to call.
func (p *calling) open(ctx context.Context, errs screen) (api *named.API, doc *contract.Document, address string, end func(), err error) {
	target := probing{version: p.version}
	address = p.at
	var found []discover.Contract
	if strings.HasPrefix(p.at, "http://") || strings.HasPrefix(p.at, "https://") {
		found, err = target.ofAddress(ctx, p.at)
		if errors.Is(err, syscall.ECONNREFUSED) {
			err = fmt.Errorf("nothing listens at %s: start it (wicketway watch PACKAGE, or wicketway demo), or name another by --at", p.at)
		}
	} else {
		address, found, end, err = target.ofPackage(ctx, errs, p.at, nil)
	}
	if err != nil {
		return nil, nil, "", end, err
	}
	if found, err = target.chosen(p.at, found); err != nil {
		return nil, nil, "", end, err
	}
	one := found[len(found)-1]
	at, err := url.Parse(address)
	if err != nil {
		return nil, nil, "", end, err
	}
	token := os.Getenv("WICKETWAY_TOKEN")
	if p.tokenFile != "" {
		if token, err = readToken(p.tokenFile); err != nil {
			return nil, nil, "", end, err
		}
	}
	address = at.Scheme + "://" + at.Host + one.Base
	api, err = named.Of(one.Document, address, client.Settings{Credentials: credentialsOf(one.Document, token), Unchecked: p.unchecked})
	return api, one.Document, address, end, err
}

// credentialsOf are a token as the contract has it sent; nil where there is none.
func credentialsOf(d *contract.Document, token string) client.Credentials {
	if token == "" {
		return nil
	}
	if d.Components != nil {
		for _, s := range d.Components.SecuritySchemes.All() {
			if s.Type == "apiKey" && s.In == "header" {
				return client.Key(s.Name, token)
			}
		}
	}
	return client.Bearer(func(context.Context) (string, error) { return token, nil })
}

// listed is an operation as it is printed with --json.
type listed struct {
	Name    string   `json:"name"`
	Method  string   `json:"method"`
	Path    string   `json:"path"`
	Inputs  []string `json:"inputs" note:"Names of parameters, and of members of the body; one with a star is required"`
	Open    bool     `json:"open" note:"Everyone may call it"`
	Summary string   `json:"summary,omitzero"`
}

func (p *calling) list(out io.Writer, api *named.API) error {
	all := []listed{}
	for _, o := range api.Operations() {
		l := listed{o.Name, o.Method, o.Path, []string{}, o.Public, o.Summary}
		for _, in := range o.Inputs {
			l.Inputs = append(l.Inputs, in.Name+star(in.Required))
		}
		for name, required := range membersOf(o) {
			l.Inputs = append(l.Inputs, name+star(required))
		}
		all = append(all, l)
	}
	if p.asJSON {
		return printJSON(out, all)
	}
	g := newGrid(out)
	g.row("name", "request", "values", "what it does")
	for _, l := range all {
		g.row(l.Name, l.Method+" "+l.Path, strings.Join(l.Inputs, " "), l.Summary)
	}
	g.style = func(column int, _ string) style {
		if column == 0 {
			return good
		}
		return plain
	}
	g.flush()
	return nil
}

func star(required bool) string {
	if required {
		return "*"
	}
	return ""
}

// membersOf are the members of the body, and whether they are required.
func membersOf(o *named.Operation) func(yield func(string, bool) bool) {
	return func(yield func(string, bool) bool) {
		for _, m := range o.Members() {
			if !yield(m.Name, m.Required) {
				return
			}
		}
	}
}

// find finds the operation, by its name or by a request whose path has its values.
func (p *calling) find(api *named.API, args []string) (*named.Operation, map[string]any, error) {
	values := map[string]any{}
	if len(args) < 2 || !strings.HasPrefix(args[1], "/") || !bind.IsToken(args[0]) {
		o, err := api.Find(args[0])
		return o, values, err
	}
	method := args[0]
	target, err := url.ParseRequestURI(args[1])
	if err != nil {
		return nil, nil, fmt.Errorf("%s is not a valid path", args[1])
	}
	var best *named.Operation
	for _, o := range api.Operations() {
		pattern := "^" + parameterIn.ReplaceAllString(regexp.QuoteMeta(o.Path), "([^/]+)") + "$"
		if o.Method == method && regexp.MustCompile(pattern).MatchString(target.EscapedPath()) &&
			(best == nil || strings.Count(o.Path, "{") < strings.Count(best.Path, "{")) {
			best = o
		}
	}
	if best == nil {
		return nil, nil, fmt.Errorf("the contract has no operation %s %s", method, target.Path)
	}
	names := parameterIn.FindAllString(regexp.QuoteMeta(best.Path), -1)
	found := regexp.MustCompile("^" + parameterIn.ReplaceAllString(regexp.QuoteMeta(best.Path), "([^/]+)") + "$").FindStringSubmatch(target.EscapedPath())
	for i, name := range names {
		text, err := url.PathUnescape(found[i+1])
		if err != nil {
			return nil, nil, err
		}
		values[strings.Trim(name, `\{}+`)] = raw(text)
	}
	for name, texts := range target.Query() {
		values[name] = raw(texts[0])
	}
	return best, values, nil
}

// A raw value is a text that is to be read by its schema.
type raw string

var parameterIn = regexp.MustCompile(`\\\{[^}]*\\\}`)

// read reads the values that were given.
func (p *calling) read(doc *contract.Document, o *named.Operation, args []string, values map[string]any, in io.Reader) error {
	rest := args[1:]
	if len(rest) > 0 && strings.HasPrefix(rest[0], "/") && bind.IsToken(args[0]) && !strings.Contains(args[0], ".") {
		rest = rest[1:]
	}
	for name, value := range values {
		if text, is := value.(raw); is {
			values[name] = typed(doc, o.SchemaOf(name), string(text))
		}
	}
	several := map[string][]any{}
	for _, arg := range rest {
		if arg == "-" {
			body, err := io.ReadAll(in)
			if err != nil {
				return checked(err)
			}
			values["body"] = bodyOf(o, body)
			continue
		}
		name, text, has := strings.Cut(arg, "=")
		if !has {
			return fmt.Errorf("%q is not name=value; known: %s", arg, strings.Join(namesOf(o), ", "))
		}
		if path, isFile := strings.CutPrefix(text, "@"); isFile {
			value, err := fileValue(o, name, path)
			if err != nil {
				return err
			}
			several[name] = append(several[name], value)
			continue
		}
		several[name] = append(several[name], typed(doc, o.SchemaOf(name), text))
	}
	for name, all := range several {
		values[name] = all[0]
		if isList := slices.Contains(doc.Follow(o.SchemaOf(name)).Types(), "array"); len(all) > 1 || isList {
			if list, is := all[0].([]any); is && len(all) == 1 {
				values[name] = list
			} else if values[name] = all; !isList && len(all) > 1 {
				return fmt.Errorf("%s is given %d times, and is no list", name, len(all))
			}
		}
	}
	return nil
}

// bodyOf is a whole body: JSON, or what it is.
func bodyOf(o *named.Operation, text []byte) any {
	if o.Body != nil && (strings.HasPrefix(o.Body.Media, "application/json") || strings.Contains(o.Body.Media, "+json")) && jsontext.Value(text).IsValid() {
		return jsontext.Value(text)
	}
	return strings.NewReader(string(text))
}

// fileValue is what a file has: a whole body, or a file of a form.
func fileValue(o *named.Operation, name, path string) (any, error) {
	if name == "body" {
		text, err := os.ReadFile(path)
		if err != nil {
			return nil, err
		}
		return bodyOf(o, text), nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	if o.Body != nil && strings.HasPrefix(o.Body.Media, "multipart/") {
		return client.File{Name: path[strings.LastIndexByte(path, '/')+1:], Type: http.DetectContentType(text), Body: strings.NewReader(string(text))}, nil
	}
	return string(text), nil
}

// typed is a text as the value that a schema takes: a number, true, null, an object or a list where it has those, else a text.
// What fits no type stays a text, which the schema refuses then.
func typed(doc *contract.Document, s contract.Schema, text string) any {
	s = doc.Follow(s)
	types := s.Types()
	for _, one := range slices.Concat(s.List("anyOf"), s.List("oneOf"), s.List("allOf")) {
		types = append(types, doc.Follow(one).Types()...)
	}
	value := jsontext.Value(text)
	var read any
	valid := value.IsValid() && json.Unmarshal(value, &read) == nil
	kinds := map[jsontext.Kind][]string{jsontext.KindNumber: {"integer", "number"}, jsontext.KindTrue: {"boolean"}, jsontext.KindFalse: {"boolean"},
		jsontext.KindNull: {"null"}, jsontext.KindBeginObject: {"object"}, jsontext.KindBeginArray: {"array"}}
	switch {
	case valid && slices.ContainsFunc(kinds[value.Kind()], func(t string) bool { return slices.Contains(types, t) }):
		if value.Kind() == jsontext.KindNumber {
			return value // with all its digits
		}
		return read
	case text == "null" && !slices.Contains(types, "string"), valid && len(types) == 0 && value.Kind() != jsontext.KindString:
		return read
	case slices.Contains(types, "array") && !slices.Contains(types, "string"):
		return typed(doc, s.One("items"), text)
	case text == "null": // asked for by name, where a text could be meant as well: null is what a patch takes away by
		return nil
	}
	return text
}

func namesOf(o *named.Operation) (names []string) {
	for _, in := range o.Inputs {
		names = append(names, in.Name)
	}
	for name := range membersOf(o) {
		names = append(names, name)
	}
	return names
}

func (p *calling) header() (http.Header, error) {
	header := http.Header{}
	switch short := map[string]string{"csv": "text/csv", "json": "application/json", "html": "text/html", "text": "text/plain", "events": "text/event-stream", "lines": "application/x-ndjson", "yaml": "application/yaml"}; {
	case p.accept == "":
	case short[p.accept] != "":
		header.Set("Accept", short[p.accept])
	default:
		header.Set("Accept", p.accept)
	}
	for _, f := range p.fields {
		name, value, ok := strings.Cut(f, ":")
		if !ok || !bind.IsToken(strings.TrimSpace(name)) {
			return nil, fmt.Errorf("%q is not a header field: write NAME: VALUE", f)
		}
		header.Add(strings.TrimSpace(name), strings.TrimSpace(value))
	}
	return header, nil
}

// faults shows what is wrong with the values, at their names.
func (p *calling) faults(to io.Writer, o *named.Operation, told *problem.Problem) error {
	out := screenOf(to)
	if p.asJSON {
		if err := printJSON(out, called{Faults: told.Items()}); err != nil {
			return err
		}
	} else {
		for _, item := range told.Items() {
			place := item.Name
			if item.Pointer != nil && *item.Pointer != "" {
				place = strings.TrimPrefix(*item.Pointer, "/")
			}
			fmt.Fprintf(out, "%s %s\n", out.mark(bad, place+":"), item.Detail)
		}
	}
	return checked(fmt.Errorf("nothing was sent: %s takes other values (--unchecked sends them all the same)", o.Name))
}

// line prints the request as a line for a shell, with the token as a variable.
func (p *calling) line(out io.Writer, doc *contract.Document, o *named.Operation, r *http.Request, address string) error {
	one := requests.Request{Method: r.Method, Target: strings.TrimPrefix(r.URL.String(), address)}
	for _, name := range slices.Sorted(keysOf(r.Header)) {
		for _, value := range r.Header[name] {
			switch {
			case name == "Accept" && value == "application/json":
				continue
			case name == "Authorization" && !o.Public:
				value = "Bearer " + requests.Token
			case isKey(doc, name):
				value = requests.Token
			}
			one.Header = append(one.Header, requests.Field{Name: name, Value: value})
		}
	}
	if r.Body != nil {
		body, err := io.ReadAll(r.Body)
		if err != nil {
			return checked(err)
		}
		one.Body = body
	}
	_, err := fmt.Fprintln(out, one.Line(address))
	return checked(err)
}

// isKey reports whether a header field has the key of a caller.
func isKey(doc *contract.Document, name string) bool {
	if doc.Components == nil {
		return false
	}
	for _, s := range doc.Components.SecuritySchemes.All() {
		if s.Type == "apiKey" && s.In == "header" && strings.EqualFold(s.Name, name) {
			return true
		}
	}
	return false
}

func keysOf(h http.Header) func(yield func(string) bool) {
	return func(yield func(string) bool) {
		for name := range h {
			if !yield(name) {
				return
			}
		}
	}
}

// called is what came of a call, as it is printed with --json.
type called struct {
	Status       int            `json:"status,omitzero"`
	Milliseconds float64        `json:"milliseconds,omitzero"`
	Header       http.Header    `json:"header,omitzero"`
	Body         jsontext.Value `json:"body,omitzero" note:"JSON, or a text of what is none"`
	Faults       []problem.Item `json:"faults,omitzero" note:"Of values for which nothing was sent"`
}

// send sends the request, and shows the answer.
func (p *calling) send(c *cobra.Command, r *http.Request) error {
	transport := &http.Transport{}
	defer transport.CloseIdleConnections()
	begun := time.Now()
	resp, err := transport.RoundTrip(r) // which follows no redirect
	if err != nil {
		return checked(err)
	}
	defer resp.Body.Close()
	took := time.Since(begun)
	out := screenOf(c.OutOrStdout())
	if p.asJSON {
		body, err := io.ReadAll(io.LimitReader(resp.Body, mostOfAnswer))
		if err != nil {
			return checked(err)
		}
		value := jsontext.Value(body)
		if !value.IsValid() {
			if value, _ = jsontext.AppendQuote(nil, strings.ToValidUTF8(string(body), "\uFFFD")); len(body) == 0 {
				value = nil
			}
		}
		if err := printJSON(out, called{resp.StatusCode, float64(took.Microseconds()) / 1000, resp.Header, value, nil}); err != nil {
			return err
		}
	} else if err := showAnswer(out, resp, took); err != nil {
		return checked(err)
	}
	if resp.StatusCode >= 400 {
		return checked(fmt.Errorf("%s %s was answered %s", r.Method, r.URL.Path, resp.Status))
	}
	return nil
}

// completeCalls is for how long a completion waits for the contract.
const completeCalls = 2 * time.Second

// complete suggests operations, and then the names of their values, and the values of enumerations.
func (p *calling) complete(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	ctx, cancel := context.WithTimeout(c.Context(), completeCalls)
	defer cancel()
	const silent = cobra.ShellCompDirectiveNoFileComp
	var api *named.API
	var doc *contract.Document
	if strings.HasPrefix(p.at, "http") {
		api, doc, _, _, _ = p.open(ctx, screen{Writer: io.Discard})
	}
	if api == nil { // what was last described here
		d, ok := near(c)
		if !ok {
			return nil, silent
		}
		all, err := contractsOf(d)
		if err != nil || len(all) == 0 {
			return nil, silent
		}
		doc = all[len(all)-1].doc
		if api, err = named.Of(doc, defaultAddress, client.Settings{}); err != nil {
			return nil, silent
		}
	}
	if len(args) == 0 {
		var names []string
		for _, o := range api.Operations() {
			if strings.HasPrefix(o.Name, begun) {
				names = append(names, o.Name+"\t"+o.Summary)
			}
		}
		return names, silent
	}
	o, err := api.Find(args[0])
	if err != nil {
		return nil, silent
	}
	if name, value, has := strings.Cut(begun, "="); has {
		var suggestions []string
		var values []jsontext.Value
		list, _ := doc.Follow(o.SchemaOf(name)).Get("enum")
		json.Unmarshal(list, &values)
		for _, one := range values {
			var text string
			if json.Unmarshal(one, &text) != nil {
				text = string(one)
			}
			if strings.HasPrefix(text, value) {
				suggestions = append(suggestions, name+"="+text)
			}
		}
		return suggestions, silent
	}
	var names []string
	for _, name := range namesOf(o) {
		if strings.HasPrefix(name, begun) {
			names = append(names, name+"=")
		}
	}
	return names, silent | cobra.ShellCompDirectiveNoSpace
}
