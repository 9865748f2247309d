// Package honest holds the answers of an API against the facts that are known of it. It is for tests.
package honest

import (
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/valid"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/route"
)

// A Checker holds answers against facts. It is not safe for concurrent use.
type Checker struct {
	api       facts.API
	compiler  *jsonschema.Compiler
	schemas   map[string]*jsonschema.Schema // by the pointer to them
	contracts []*valid.Answers              // of all versions
}

// New makes a checker for an API.
func New(api facts.API) (*Checker, error) {
	text, err := json.Marshal(api)
	if err != nil {
		return nil, err
	}
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	c := &Checker{api: api, compiler: jsonschema.NewCompiler(), schemas: map[string]*jsonschema.Schema{}}
	return c, errors.Join(err, c.compiler.AddResource("api.json", document), c.makeContracts())
}

func (c *Checker) makeContracts() error {
	var made []string
	for _, r := range c.api.Routes {
		if slices.Contains(made, r.Version) {
			continue
		}
		made = append(made, r.Version)
		d, err := contract.Of(c.api, r.Version)
		if err != nil {
			continue // its routes are all Wicketway's own, or withdrawn
		}
		one, err := valid.NewAnswers(d)
		if err != nil {
			return err
		}
		c.contracts = append(c.contracts, one)
	}
	return nil
}

// byContract says what of an answer no contract has. Where the header fields of middleware are not declared they are
// left out, and so are problems.
func (c *Checker) byContract(a Answer, known bool) string {
	if !known && a.Status >= 400 {
		return ""
	}
	u, err := url.ParseRequestURI(a.Path)
	if err != nil {
		return "" // nothing matches it
	}
	header := a.Header
	if !known {
		header = http.Header{}
		for _, name := range []string{"Content-Type", "Content-Encoding"} {
			if a.Header[name] != nil {
				header[name] = a.Header[name]
			}
		}
	}
	var wrong []string
	for _, one := range c.contracts {
		err := one.Check(valid.Answer{Method: a.Method, URL: u, Status: a.Status, Header: header, Body: []byte(a.Body)})
		if err == nil {
			return ""
		}
		if !errors.Is(err, valid.ErrNoOperation) {
			wrong = append(wrong, "contract: "+err.Error())
		}
	}
	return strings.Join(wrong, "; ")
}

// An Answer is what was sent for a request.
type Answer struct {
	Method, Path string // of the request, the path escaped
	Status       int
	Header       http.Header
	Body         string // without coding
}

// always are the header fields that an answer can have whatever it is.
var always = []string{
	"Content-Type",
	"Content-Length",
	"Date",
	"Connection",
	"Vary",
	"Allow",
	"Location",
	"Accept-Ranges",
	"Last-Modified",
}

// Wrong says what of an answer the facts do not have, of all routes that match the request; "" where one of
// them has it, and where none matches. Known says that answers of problems, and header fields, are declared.
func (c *Checker) Wrong(a Answer, known bool) string {
	var all []string
	for i, r := range c.api.Routes {
		if r.Method != a.Method && !(r.Method == http.MethodGet && a.Method == http.MethodHead) || !matches(r, a.Path) {
			continue
		}
		wrong := c.wrong(i, a, known)
		if wrong == "" {
			return c.byContract(a, known)
		}
		all = append(all, wrong)
	}
	return strings.Join(all, "; ")
}

func matches(r facts.Route, path string) bool {
	t, err := route.Parse(r.Path)
	if err != nil {
		return false
	}
	of := table.Route{Method: http.MethodGet, Template: t}
	if r.Formats != nil {
		of.Suffixes = r.Formats.Suffixes
	}
	var b table.Builder
	b.Add(of)
	var m table.Match
	return b.Tables().Edition(&m).FindEscaped(http.MethodGet, path, &m) ||
		of.Suffixes != nil && slices.ContainsFunc(of.Suffixes, func(s string) bool {
			bare, has := strings.CutSuffix(path, "."+s)
			return has && b.Tables().Edition(&m).FindEscaped(http.MethodGet, bare, &m)
		})
}

func (c *Checker) wrong(i int, a Answer, known bool) string {
	r := c.api.Routes[i]
	media, _, _ := mime.ParseMediaType(a.Header.Get("Content-Type"))
	if a.Status >= 400 {
		if !known {
			return ""
		}
		return c.wrongProblem(r, a, media)
	}
	if a.Status == http.StatusSeeOther && r.Guard != nil && r.Guard.SignIn != "" {
		return "" // to where callers sign in
	}
	if r.Handler || r.Own || a.Status == http.StatusPermanentRedirect {
		return "" // a handler says what it likes, and some redirects come before the route
	}
	var wrong []string
	for k, one := range r.Answers {
		declared, _, _ := mime.ParseMediaType(one.Media)
		if !one.Open &&
			(one.Status != a.Status || declared != media && one.Media != "*/*" && !(one.Media == "" && a.Body == "")) {
			continue
		}
		if name := c.unknownField(r, one, a); known && name != "" && !one.Open {
			wrong = append(wrong, fmt.Sprintf("the field %s is not declared", name))
			continue
		}
		if one.Schema == nil || a.Method == http.MethodHead || a.Header["Content-Encoding"] != nil ||
			one.Open && declared != media {
			return ""
		}
		err := c.validate(fmt.Sprintf("/routes/%d/answers/%d/schema", i, k), items(one, media, a.Body))
		if err == nil {
			return ""
		}
		wrong = append(wrong, err.Error())
	}
	if wrong == nil {
		return fmt.Sprintf("%s %s: no answer of status %d and media type %q is declared", r.Method, r.Path, a.Status, media)
	}
	return fmt.Sprintf("%s %s: %s", r.Method, r.Path, strings.Join(wrong, ", or "))
}

// items are the JSON texts in a body.
func items(of facts.Answer, media, body string) (all []string) {
	switch {
	case !of.Stream:
		return []string{body}
	case media == "text/event-stream":
		for event := range strings.SplitSeq(body, "\n\n") {
			if strings.Contains(event, "event: problem") {
				continue
			}
			for line := range strings.Lines(event) {
				if data, is := strings.CutPrefix(line, "data: "); is {
					all = append(all, data)
				}
			}
		}
		return all
	}
	for line := range strings.Lines(body) {
		all = append(all, line)
	}
	return all
}

// unknownField is a header field that neither the answer nor the chain declares.
func (c *Checker) unknownField(r facts.Route, of facts.Answer, a Answer) string {
	known := append(slices.Clone(always), of.Fields...)
	for _, m := range r.Chain {
		known = append(known, m.Sets...)
	}
	for name := range a.Header {
		if !slices.Contains(known, name) && !strings.HasPrefix(name, "Access-Control-") {
			return name
		}
	}
	return ""
}

func (c *Checker) wrongProblem(r facts.Route, a Answer, media string) string {
	var p struct {
		Code string `json:"code"`
	}
	if r.Problems != nil || media != "application/problem+json" || json.Unmarshal([]byte(a.Body), &p) != nil {
		return "" // a shape or a format of its own
	}
	at := slices.IndexFunc(c.api.Problems, func(k facts.Kind) bool { return k.Code == p.Code && k.Status == a.Status })
	declares := slices.ContainsFunc(r.Raises, func(raised facts.Problem) bool { return raised.Code == p.Code })
	if at < 0 || !declares && c.api.Problems[at].Routes != nil {
		return fmt.Sprintf("%s %s: the problem %d %s is not declared", r.Method, r.Path, a.Status, p.Code)
	}
	known := append(slices.Clone(always), c.api.Problems[at].Fields...)
	for _, m := range r.Chain {
		known = append(known, m.Sets...)
	}
	if r.Languages != nil {
		known = append(known, "Content-Language")
	}
	for _, answer := range r.Answers { // of what ends, say
		known = append(known, answer.Fields...)
	}
	for name := range a.Header {
		if !slices.Contains(known, name) && !strings.HasPrefix(name, "Access-Control-") {
			return fmt.Sprintf("%s %s: the field %s of the problem %s is not declared", r.Method, r.Path, name, p.Code)
		}
	}
	if err := c.validate(fmt.Sprintf("/problems/%d/schema", at), []string{a.Body}); err != nil {
		return err.Error()
	}
	return ""
}

func (c *Checker) validate(pointer string, texts []string) error {
	s := c.schemas[pointer]
	if s == nil {
		var err error
		if s, err = c.compiler.Compile("api.json#" + pointer); err != nil {
			return err
		}
		c.schemas[pointer] = s
	}
	for _, text := range texts {
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
		if err = errors.Join(err, s.Validate(value)); err != nil {
			return fmt.Errorf("%s: %w", pointer, err)
		}
	}
	return nil
}
