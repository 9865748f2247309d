// Package named calls the operations of an API by their names, as its contract describes them, without generated code:
//
//	api, err := named.Open(ctx, "https://canal.example", client.Settings{})
//	var passage Passage
//	err = api.Call(ctx, "passages.find", map[string]any{"passage": 61}, &passage)
//
// Values are held against the schemas of the contract before anything is sent. Where the contract has changed on the server,
// which its entity tag tells, it is read again.
package named

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-json-experiment/json"

	"github.com/wicketway/wicketway/client"
	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/valid"
	"github.com/wicketway/wicketway/contract/yaml"
	"github.com/wicketway/wicketway/internal/discover"
	"github.com/wicketway/wicketway/internal/near"
)

// An API is one that is called by its contract. It is safe for concurrent use.
type API struct {
	client   *client.Client
	unsafe   bool // values are sent as they are
	mu       sync.Mutex
	contract read
	asked    time.Time
}

// read is a contract that was read.
type read struct {
	doc        *contract.Document
	address    string // "" for a file
	tag        string
	held       *valid.Validator
	operations []*Operation
}

// An Operation is one that can be called.
type Operation struct {
	Name    string // its operationId; else method and path
	Method  string
	Path    string
	Summary string
	Inputs  []Input
	Body    *Body // nil: none
	Public  bool  // everyone may call it

	of *contract.Document
}

// An Input is a parameter of an operation.
type Input struct {
	In, Name    string
	Required    bool
	Schema      contract.Schema
	Description string
}

// A Body is what an operation takes as a body.
type Body struct {
	Media    string
	Required bool
	Schema   contract.Schema
}

// A Member is one of a body that is an object.
type Member struct {
	Name     string
	Required bool
	Schema   contract.Schema
}

// Members are those of the body; none where it is no object.
func (o *Operation) Members() (all []Member) {
	if o.Body == nil {
		return nil
	}
	s := o.of.Follow(o.Body.Schema)
	var required []string
	list, _ := s.Get("required")
	json.Unmarshal(list, &required)
	properties := s.Schemas("properties")
	for name, one := range properties.All() {
		all = append(all, Member{name, slices.Contains(required, name), o.of.Follow(one)})
	}
	return all
}

// SchemaOf is that of a value by its name: of a parameter, of a member of the body, or of the body; else the zero Schema.
func (o *Operation) SchemaOf(name string) contract.Schema {
	for _, in := range o.Inputs {
		if in.Name == name {
			return in.Schema
		}
	}
	for _, m := range o.Members() {
		if m.Name == name {
			return m.Schema
		}
	}
	if name == "body" && o.Body != nil {
		return o.Body.Schema
	}
	return contract.Schema{}
}

// fresh is for how long a contract counts without asking whether it has changed.
const fresh = time.Minute

// Open finds the contract of an API, and is ready to call it. From is the http or https address of the API, whose contract is
// found in its api-catalog (RFC 9727), by the relation service-desc (RFC 8631), or at the address itself; several are taken
// for versions, of which the last one counts, unless the address is that of one. From can also be the name of a file; the API
// is at the first of its servers then.
func Open(ctx context.Context, from string, s client.Settings) (*API, error) {
	if strings.HasPrefix(from, "http://") || strings.HasPrefix(from, "https://") {
		found, err := discover.At(ctx, discover.Client(), from)
		if err != nil {
			return nil, err
		}
		one := found[len(found)-1]
		at, err := url.Parse(one.Address)
		if err != nil {
			return nil, err
		}
		return made(one.Document, at.Scheme+"://"+at.Host+one.Base, one.Address, one.Tag, s)
	}
	text, err := os.ReadFile(from)
	if err != nil {
		return nil, err
	}
	doc, err := yaml.Read(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", from, err)
	}
	for _, server := range doc.Servers {
		if strings.HasPrefix(server.URL, "http") && !strings.Contains(server.URL, "{") {
			return made(doc, server.URL, "", "", s)
		}
	}
	return nil, fmt.Errorf("%s names no server: open it with named.Of", from)
}

// Of calls the API at an address by a contract that was read before.
func Of(d *contract.Document, address string, s client.Settings) (*API, error) {
	return made(d, address, "", "", s)
}

func made(d *contract.Document, address, from, tag string, s client.Settings) (*API, error) {
	c, err := client.New(address, s)
	if err != nil {
		return nil, err
	}
	a := &API{client: c, unsafe: s.Unchecked, asked: time.Now()}
	a.contract, err = readContract(d, from, tag)
	return a, err
}

func readContract(d *contract.Document, from, tag string) (r read, err error) {
	r = read{doc: d, address: from, tag: tag}
	if r.held, err = valid.New(d); err != nil {
		return r, err
	}
	for path, item := range d.Paths.All() {
		if item.Ref != "" {
			if item, err = contract.Resolve[contract.PathItem](d, item.Ref); err != nil {
				return r, err
			}
		}
		for method, o := range item.Operations() {
			if method != "*" {
				r.operations = append(r.operations, operation(d, method, path, item, o))
			}
		}
	}
	return r, nil
}

func operation(d *contract.Document, method, path string, item *contract.PathItem, o *contract.Operation) *Operation {
	made := &Operation{Name: o.ID, Method: method, Path: path, Summary: o.Summary, of: d}
	if o.ID == "" {
		made.Name = method + " " + path
	}
	for _, p := range slices.Concat(o.Parameters, item.Parameters) {
		p = contract.Referred(d, p)
		if !slices.ContainsFunc(made.Inputs, func(i Input) bool { return i.In == p.In && i.Name == p.Name }) {
			made.Inputs = append(made.Inputs, Input{p.In, p.Name, p.Required, p.Schema, p.Description})
		}
	}
	if b := o.RequestBody; b != nil {
		b = contract.Referred(d, b)
		for media, m := range b.Content.All() {
			if made.Body == nil || rank(media) < rank(made.Body.Media) {
				made.Body = &Body{media, b.Required, m.Schema}
			}
		}
	}
	required := d.Security
	if o.Security != nil {
		required = *o.Security
	}
	made.Public = len(required) == 0 || slices.ContainsFunc(required, func(r contract.Requirement) bool { return r.Len() == 0 })
	return made
}

func rank(media string) int {
	switch base, _, _ := strings.Cut(media, ";"); {
	case base == "application/merge-patch+json":
		return 0
	case isJSON(base):
		return 1
	case base == "application/x-www-form-urlencoded":
		return 2
	case base == "multipart/form-data":
		return 3
	}
	return 4
}

func isJSON(base string) bool { return base == "application/json" || strings.HasSuffix(base, "+json") }

// Operations are those that can be called, in the order of the contract.
func (a *API) Operations() []*Operation {
	a.mu.Lock()
	defer a.mu.Unlock()
	return slices.Clone(a.contract.operations)
}

// Find finds an operation by its name, or by its method and path, as in GET /locks/{lock}. The error names what is near.
func (a *API) Find(name string) (*Operation, error) {
	all := a.Operations()
	for _, o := range all {
		if o.Name == name || o.Method+" "+o.Path == name {
			return o, nil
		}
	}
	best, distance := "", 4
	for _, o := range all {
		if d := near.Distance(strings.ToLower(name), strings.ToLower(o.Name)); d < distance {
			best, distance = o.Name, d
		}
	}
	if best != "" {
		return nil, fmt.Errorf("no operation is called %s; did you mean %s?", name, best)
	}
	return nil, fmt.Errorf("no operation is called %s", name)
}

// Refresh reads the contract again, if it has changed on the server.
func (a *API) Refresh(ctx context.Context) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.asked = time.Now()
	if a.contract.address == "" {
		return nil
	}
	found, err := discover.Again(ctx, discover.Client(), a.contract.address, a.contract.tag)
	if err != nil || found == nil {
		return err
	}
	again, err := readContract(found.Document, found.Address, found.Tag)
	if err == nil {
		a.contract = again
	}
	return err
}

// find finds an operation. A name that is unknown may be one of a contract that has changed.
func (a *API) find(ctx context.Context, name string) (*Operation, *read, error) {
	a.mu.Lock()
	stale := time.Since(a.asked) > fresh
	a.mu.Unlock()
	if stale {
		if err := a.Refresh(ctx); err != nil {
			return nil, nil, err
		}
	}
	o, err := a.Find(name)
	if err != nil && !stale && a.Refresh(ctx) == nil {
		o, err = a.Find(name)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	now := a.contract
	return o, &now, err
}

// Call sends values to an operation, and reads the answer into out, which may be nil. The values are those of parameters, by
// their names, and the members of the body, or the whole body as body. Its error is a *problem.Problem where a value breaks a
// schema, which nothing was sent for, and where the API answered with one.
func (a *API) Call(ctx context.Context, name string, values map[string]any, out any) error {
	resp, err := a.Send(ctx, name, values, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, mostRead+1))
	switch {
	case err != nil:
		return fmt.Errorf("%s: %w", name, err)
	case len(text) > mostRead:
		return fmt.Errorf("%s: the answer has more than %d bytes: read it by Send", name, mostRead)
	case out == nil || len(text) == 0:
		return nil
	}
	if err := json.Unmarshal(text, out); err != nil {
		return fmt.Errorf("%s: the answer cannot be read: %w", name, err)
	}
	return nil
}

// mostRead is how much of an answer Call reads.
const mostRead = 16 << 20

// Send sends values to an operation, with more header fields, and gives the answer, whose body is to be closed.
func (a *API) Send(ctx context.Context, name string, values map[string]any, more http.Header) (*http.Response, error) {
	r, err := a.raw(ctx, name, values, more)
	if err != nil {
		return nil, err
	}
	return a.client.Send(ctx, r)
}

// Request makes the request of a call, with its credentials, without sending it.
func (a *API) Request(ctx context.Context, name string, values map[string]any, more http.Header) (*http.Request, error) {
	r, err := a.raw(ctx, name, values, more)
	if err != nil {
		return nil, err
	}
	return a.client.Request(ctx, r)
}

func (a *API) raw(ctx context.Context, name string, values map[string]any, more http.Header) (client.Raw, error) {
	o, of, err := a.find(ctx, name)
	if err != nil {
		return client.Raw{}, err
	}
	m := making{o: o, of: of, raw: client.Raw{Name: o.Name, Method: o.Method, Public: o.Public, Header: http.Header{}}}
	if err := m.make(values, a.unsafe); err != nil {
		return client.Raw{}, err
	}
	for name, all := range more {
		m.raw.Header[name] = all
	}
	return m.raw, nil
}

var errNoValue = errors.New("it has no JSON value")
