package check

import (
	"fmt"
	"mime"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/contract"
)

var (
	expression = regexp.MustCompile(`\{([^{}]*)\}`)
	statusKey  = regexp.MustCompile(`^(?:[1-5][0-9][0-9]|[1-5]XX|default)$`)
	component  = regexp.MustCompile(`^[a-zA-Z0-9._-]+$`)
)

// paths checks the templates, and the operations on them.
func (c *checking) paths() {
	shapes := map[string]string{}
	for path, item := range c.d.Paths.All() {
		pointer := at("/paths", path)
		if !strings.HasPrefix(path, "/") {
			c.wrong(pointer, "does not begin with a slash: write /%s", path)
		}
		names := c.template(pointer, path)
		shape := expression.ReplaceAllString(path, "{}")
		if other, has := shapes[shape]; has {
			c.wrong(pointer, "matches the same paths as %s: keep one of them (4.8.8)", other)
		}
		shapes[shape] = path
		c.item(pointer, item, names, path)
	}
	for name, item := range c.d.Webhooks.All() {
		c.item(at("/webhooks", name), item, nil, "")
	}
}

// template checks a path template, and gives the names of its parameters.
func (c *checking) template(pointer, path string) (names []string) {
	for _, found := range expression.FindAllStringSubmatch(path, -1) {
		name := found[1]
		switch {
		case name == "":
			c.wrong(pointer, "has a parameter without a name: {}")
		case strings.ContainsAny(name[:1], "+#./;?&"):
			c.wrong(
				pointer,
				"has the expression {%s}: OpenAPI knows {name} alone, without an operator of RFC 6570",
				name,
			)
		case slices.Contains(names, name):
			c.wrong(pointer, "has the parameter %s twice", name)
		}
		names = append(names, name)
	}
	if rest := expression.ReplaceAllString(path, ""); strings.ContainsAny(rest, "{}") {
		c.wrong(pointer, "has a brace without its other one")
	} else if strings.ContainsAny(rest, "?#") {
		c.wrong(pointer, "has a query or a fragment: declare parameters for what is in the query")
	}
	return names
}

// item checks the operations of a path. Without a template (of a webhook, a callback or a component) names of parameters in
// the path are not known.
func (c *checking) item(pointer string, item *contract.PathItem, names []string, path string) {
	if item == nil {
		return
	}
	if item.Ref != "" {
		if to, err := contract.Resolve[contract.PathItem](c.d, item.Ref); err == nil {
			item, pointer = to, strings.TrimPrefix(item.Ref, "#")
		}
	}
	c.servers(pointer+"/servers", item.Servers)
	of := c.parameters(pointer, item.Parameters)
	for method, o := range item.Operations() {
		where := at(pointer, strings.ToLower(method))
		if _, additional := item.Additional.Get(method); additional {
			where = at(pointer, "additionalOperations", method)
		}
		c.operation(where, method, o)
		if path == "" {
			continue
		}
		own := c.parameters(where, o.Parameters)
		for _, name := range names {
			if !own["path "+name] && !of["path "+name] {
				c.wrong(
					where,
					"does not declare the path parameter %s of %s: add {\"name\":%q,\"in\":\"path\",\"required\":true} to its parameters",
					name,
					path,
					name,
				)
			}
		}
		for key := range own {
			if name, is := strings.CutPrefix(key, "path "); is && !slices.Contains(names, name) {
				c.wrong(where+"/parameters", "declares the path parameter %s, which %s does not have", name, path)
			}
		}
	}
	for key := range of {
		if name, is := strings.CutPrefix(key, "path "); is && path != "" && !slices.Contains(names, name) {
			c.wrong(pointer+"/parameters", "declares the path parameter %s, which %s does not have", name, path)
		}
	}
}

// parameters are those of a list by in and name; one that is there twice is told.
func (c *checking) parameters(pointer string, all []*contract.Parameter) map[string]bool {
	known := map[string]bool{}
	for i, p := range all {
		if p.Ref != "" {
			to, err := contract.Resolve[contract.Parameter](c.d, p.Ref)
			if err != nil {
				continue // told among the references
			}
			p = to
		}
		key := p.In + " " + p.Name
		if p.In == "header" {
			key = strings.ToLower(key)
		}
		if known[key] {
			c.wrong(
				fmt.Sprint(pointer, "/parameters/", i),
				"is the %s parameter %s for the second time: a name is unique in its place",
				p.In,
				p.Name,
			)
		}
		known[key] = true
	}
	return known
}

func (c *checking) operation(pointer, method string, o *contract.Operation) {
	if o.ID != "" {
		if other, has := c.ids[o.ID]; has && other != pointer {
			c.wrong(pointer+"/operationId", "is %s, as that of %s: names of operations are unique", o.ID, other)
		} else {
			c.ids[o.ID] = pointer
		}
	}
	if o.RequestBody != nil && (method == "GET" || method == "HEAD" || method == "DELETE" || method == "TRACE") {
		c.advise(pointer+"/requestBody", "is for %s, for which content has no defined meaning (RFC 9110, 9.3)", method)
	}
	if _, aside := o.More.Get("x-wicketway-security"); o.Security != nil && !aside { // where scopes of 3.0 are
		c.security(pointer+"/security", *o.Security)
	}
	c.servers(pointer+"/servers", o.Servers)
	c.responses(pointer, o)
}

func (c *checking) responses(pointer string, o *contract.Operation) {
	if o.Responses.Len() == 0 {
		switch {
		case c.is30:
			c.wrong(pointer, "has no responses: list one at least")
		case !o.Responses.IsZero():
			c.wrong(pointer+"/responses", "lists no status: one at least must be there")
		default:
			c.advise(pointer, "has no responses: callers do not know what to expect")
		}
		return
	}
	success := false
	for key := range o.Responses.All() {
		if !statusKey.MatchString(key) {
			c.wrong(at(pointer, "responses", key), "is not a status: write 100 to 599, 1XX to 5XX, or default")
		}
		success = success || key == "default" || key < "4"
	}
	if !success {
		c.advise(pointer+"/responses", "lists no success: callers do not know what to expect")
	}
}

// tags are unique by their names.
func (c *checking) tags() {
	known := map[string]bool{}
	for i, t := range c.d.Tags {
		if known[t.Name] {
			c.wrong(fmt.Sprint("/tags/", i, "/name"), "is %s for the second time: names of tags are unique", t.Name)
		}
		known[t.Name] = true
	}
	for i, t := range c.d.Tags {
		if t.Parent != "" && !known[t.Parent] {
			c.wrong(fmt.Sprint("/tags/", i, "/parent"), "is %s, which is no tag", t.Parent)
		}
	}
}

// security checks that schemes are defined, and scopes where the scheme lists them.
func (c *checking) security(pointer string, all []contract.Requirement) {
	for i, r := range all {
		for name, scopes := range r.All() {
			where := at(fmt.Sprint(pointer, "/", i), name)
			s, err := contract.Resolve[contract.SecurityScheme](c.d, at("#/components/securitySchemes", name))
			if err != nil {
				c.wrong(where, "is a security scheme that is not defined in /components/securitySchemes")
				continue
			}
			if c.is30 && len(scopes) > 0 && s.Type != "oauth2" && s.Type != "openIdConnect" {
				c.wrong(where, "lists scopes, which only oauth2 and openIdConnect have in OpenAPI 3.0")
			}
			for _, scope := range scopes {
				if s.Type == "oauth2" && !grants(s, scope) {
					c.advise(where, "needs the scope %s, which no flow of the scheme lists", scope)
				}
			}
		}
	}
}

func grants(s *contract.SecurityScheme, scope string) bool {
	for _, flow := range s.Flows.All() {
		if _, has := flow.Scopes.Get(scope); has {
			return true
		}
	}
	return false
}

// servers checks the variables of addresses (4.8.5).
func (c *checking) servers(pointer string, all []contract.Server) {
	for i, s := range all {
		where := fmt.Sprint(pointer, "/", i)
		for _, found := range expression.FindAllStringSubmatch(s.URL, -1) {
			if _, has := s.Variables.Get(found[1]); !has {
				c.wrong(where+"/url", "has the variable %s, which is not in variables", found[1])
			}
		}
		if _, err := url.Parse(expression.ReplaceAllString(s.URL, "x")); err != nil {
			c.wrong(where+"/url", "is not a URL: %q", s.URL)
		}
		for name, v := range s.Variables.All() {
			if v.Enum != nil && !slices.Contains(v.Enum, v.Default) {
				c.wrong(
					at(where, "variables", name, "default"),
					"is %q, which is not in the enum: %s",
					v.Default,
					strings.Join(v.Enum, ", "),
				)
			}
			if !strings.Contains(s.URL, "{"+name+"}") {
				c.advise(at(where, "variables", name), "is a variable that the url does not have")
			}
		}
	}
}

// components have names of certain characters (4.8.7.2).
func (c *checking) components() {
	all := c.d.Components
	if all == nil {
		return
	}
	check := func(kind string, names func(func(string))) {
		names(func(name string) {
			if !component.MatchString(name) {
				c.wrong(
					at("/components", kind, name),
					"is not a name for a component: it has ASCII letters, digits, dots, hyphens and underscores",
				)
			}
		})
	}
	check("schemas", names(&all.Schemas))
	check("responses", names(&all.Responses))
	check("parameters", names(&all.Parameters))
	check("examples", names(&all.Examples))
	check("requestBodies", names(&all.RequestBodies))
	check("headers", names(&all.Headers))
	check("securitySchemes", names(&all.SecuritySchemes))
	check("links", names(&all.Links))
	check("callbacks", names(&all.Callbacks))
	check("pathItems", names(&all.PathItems))
	for name, s := range all.SecuritySchemes.All() {
		c.scheme(at("/components/securitySchemes", name), s)
	}
}

func names[T any](of *contract.Map[T]) func(func(string)) {
	return func(visit func(string)) {
		for name := range of.All() {
			visit(name)
		}
	}
}

// flows are those of OAuth 2.0, with the members that each needs (4.8.29).
var flows = map[string][]string{
	"implicit":            {"authorizationUrl"},
	"password":            {"tokenUrl"},
	"clientCredentials":   {"tokenUrl"},
	"authorizationCode":   {"authorizationUrl", "tokenUrl"},
	"deviceAuthorization": {"tokenUrl"},
}

// scheme checks that a security scheme has what its type needs (4.8.27).
func (c *checking) scheme(pointer string, s *contract.SecurityScheme) {
	if s.Ref != "" {
		return
	}
	needs := func(member, value string) {
		if value == "" {
			c.wrong(pointer, "has no %s, which the type %s needs", member, s.Type)
		}
	}
	switch s.Type {
	case "apiKey":
		needs("name", s.Name)
		if needs("in", s.In); s.In != "" && s.In != "query" && s.In != "header" && s.In != "cookie" {
			c.wrong(pointer+"/in", "is %q; a key is in query, header or cookie", s.In)
		}
	case "http":
		needs("scheme", s.Scheme)
	case "openIdConnect":
		needs("openIdConnectUrl", s.OpenIDConnectURL)
	case "oauth2":
		if s.Flows.Len() == 0 {
			c.wrong(pointer, "has no flows, which the type oauth2 needs")
		}
		for name, f := range s.Flows.All() {
			needed, known := flows[name]
			if !known && !strings.HasPrefix(name, "x-") {
				c.wrong(
					at(pointer, "flows", name),
					"is not a flow: implicit, password, clientCredentials, authorizationCode",
				)
			}
			for _, member := range needed {
				if member == "authorizationUrl" && f.AuthorizationURL == "" ||
					member == "tokenUrl" && f.TokenURL == "" {
					c.wrong(at(pointer, "flows", name), "has no %s", member)
				}
			}
		}
	case "mutualTLS":
		if c.is30 {
			c.wrong(pointer+"/type", "is mutualTLS, which OpenAPI 3.0 does not have")
		}
	case "":
		c.wrong(pointer, "has no type: apiKey, http, mutualTLS, oauth2 or openIdConnect")
	default:
		c.wrong(pointer+"/type", "is %q; types are apiKey, http, mutualTLS, oauth2 and openIdConnect", s.Type)
	}
}

// styles are those of each place (4.8.12.2.2).
var styles = map[string][]string{
	"path":        {"simple", "label", "matrix"},
	"query":       {"form", "spaceDelimited", "pipeDelimited", "deepObject"},
	"header":      {"simple"},
	"cookie":      {"form", "cookie"},
	"querystring": nil,
}

// parts checks the objects that stand by themselves.
func (c *checking) parts() {
	contract.Each(c.d, func(pointer string, p *contract.Parameter) {
		if p.Ref == "" {
			c.parameter(pointer, p)
		}
	})
	contract.Each(c.d, func(pointer string, h *contract.Header) {
		if h.Ref == "" && h.Schema.IsZero() == (h.Content.Len() == 0) {
			c.wrong(pointer, "has %s; it needs one of schema and content", bothOrNone(h.Schema))
		}
	})
	contract.Each(c.d, func(pointer string, r *contract.Response) {
		if r.Ref == "" && r.Description == "" && !c.is32 {
			c.wrong(pointer, "has no description")
		}
		for name := range r.Headers.All() {
			if strings.EqualFold(name, "Content-Type") {
				c.advise(at(pointer, "headers", name), "is ignored: media types are the names in content (4.8.17.1)")
			}
		}
	})
	contract.Each(c.d, func(pointer string, b *contract.RequestBody) {
		if b.Ref == "" && b.Content.Len() == 0 {
			c.wrong(pointer, "has no content: name a media type")
		}
	})
	contract.Each(c.d, func(pointer string, m *contract.Map[contract.MediaType]) {
		if pointer == "/components/mediaTypes" { // by names
			return
		}
		for media, one := range m.All() {
			c.media(at(pointer, media), media, one)
		}
	})
	contract.Each(c.d, func(pointer string, e *contract.Example) {
		if e.Value != nil && e.ExternalValue != "" {
			c.wrong(pointer, "has both value and externalValue; it is one of them")
		}
	})
}

func bothOrNone(s contract.Schema) string {
	if s.IsZero() {
		return "neither schema nor content"
	}
	return "both schema and content"
}

func (c *checking) parameter(pointer string, p *contract.Parameter) {
	if p.Name == "" {
		c.wrong(pointer, "has no name")
	}
	known, is := styles[p.In]
	switch {
	case p.In == "":
		c.wrong(pointer, "has no in: path, query, header or cookie")
	case !is || p.In == "querystring" && !c.is32:
		c.wrong(pointer+"/in", "is %q; a parameter is in path, query, header or cookie", p.In)
	case p.In == "path" && !p.Required:
		c.wrong(pointer, "is in the path, so it must be required: add \"required\":true")
	case p.Style != "" && !slices.Contains(known, p.Style):
		c.wrong(pointer+"/style", "is %q; a parameter in %s has %s", p.Style, p.In, strings.Join(known, ", "))
	}
	if p.Schema.IsZero() == (p.Content.Len() == 0) {
		c.wrong(pointer, "has %s; it needs one of schema and content", bothOrNone(p.Schema))
	}
	if p.Content.Len() > 1 {
		c.wrong(pointer+"/content", "has %d media types; a parameter has one", p.Content.Len())
	}
	if p.In == "header" &&
		slices.Contains([]string{"accept", "content-type", "authorization"}, strings.ToLower(p.Name)) {
		c.advise(pointer, "is ignored: %s is said by media types or security (4.8.12.2)", p.Name)
	}
	if p.AllowEmptyValue && p.In != "query" {
		c.wrong(pointer+"/allowEmptyValue", "is for parameters in the query")
	}
	if p.Example != nil && p.Examples.Len() > 0 {
		c.wrong(pointer, "has both example and examples; it is one of them")
	}
}

func (c *checking) media(pointer, media string, m contract.MediaType) {
	if _, _, err := mime.ParseMediaType(media); err != nil || !strings.Contains(media, "/") {
		c.wrong(pointer, "is not a media type, such as application/json or image/*")
	}
	if m.Example != nil && m.Examples.Len() > 0 {
		c.wrong(pointer, "has both example and examples; it is one of them")
	}
	if m.Encoding.Len() == 0 {
		return
	}
	if !strings.HasPrefix(media, "multipart/") && media != "application/x-www-form-urlencoded" {
		c.advise(pointer+"/encoding", "has no meaning for %s: it is for forms", media)
	}
	properties := c.follow(m.Schema).Schemas("properties")
	for name := range m.Encoding.All() {
		if _, has := properties.Get(name); !has && properties.Len() > 0 {
			c.wrong(at(pointer, "encoding", name), "is no property of the schema")
		}
	}
}

// follow is a schema, or the one that it refers to.
func (c *checking) follow(s contract.Schema) contract.Schema {
	for range 8 {
		ref := s.Reference()
		if ref == "" {
			break
		}
		to, err := contract.Resolve[contract.Schema](c.d, ref)
		if err != nil {
			break
		}
		s = *to
	}
	return s
}
