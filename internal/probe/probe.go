// Package probe drives an API by its contract, and holds every answer against it.
//
// It sends the good and the wrong requests that package contract/requests makes, and others that are drawn, in an order that
// works: what lists show is read; what was created is read, changed, conflicted with and deleted. It sends nothing but to
// where a [Sender] leads, follows no redirect, and deletes nothing that it has not created, except things whose path has no
// parameter. Requests are sent one after another, so that the same seed gives the same run of an API in the same state.
package probe

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/contract/requests"
	"github.com/wicketway/wicketway/contract/valid"
)

// Settings say what is probed, and how. The zero value of each but the first two is right for most.
type Settings struct {
	Document *contract.Document
	Send     Sender
	// Base is where the paths of the contract begin at the address, such as /v1.
	Base string
	// Tokens are those of callers. The first one that may call an operation is used for it.
	Tokens []string
	// Other is the token of another caller, for whom things that the first one has created must not be there.
	Other string
	Seed  uint64
	// Draws is how many requests are drawn for each operation; 0: 60.
	Draws int
	// For is how long requests are drawn, instead of Draws.
	For time.Duration
	// Only are operations by name, or patterns of names (path.Match); nil: all. Others are called to find things alone.
	Only []string
	// Safe leaves out whatever is not GET, HEAD or OPTIONS.
	Safe bool
	// Address is what the lines of findings have; "": $ADDRESS.
	Address string
}

// A Finding is an answer that is not as the contract says.
type Finding struct {
	Operation string `json:"operation" note:"Its operationId, or its method and path"`
	Request   string `json:"request" note:"A line for a POSIX shell"`
	Wanted    string `json:"wanted"`
	Got       string `json:"got"`
	Reason    string `json:"reason"`
	Test      string `json:"test" note:"A test in Go that holds it, by package wicketwaytest"`
}

// A Report is what came of it.
type Report struct {
	Title    string
	Findings []Finding
	More     int // findings that are not listed
	Tried    []Tried
	Sent     int
}

// Tried is an operation, and what was sent to it.
type Tried struct {
	Operation string
	Line      string // method and path template
	Sent      int
	Statuses  []int   // that it answered
	Missed    []Unmet // statuses of the contract that it did not answer
	Skipped   string  // why it was not tried; "" where it was
}

// Unmet is a status that no request reached.
type Unmet struct {
	Status int
	Reason string
}

// How many findings are listed, and how many requests are spent on making one smaller.
const (
	mostFindings = 200
	mostSmaller  = 40
)

// A prober is one run.
type prober struct {
	Settings
	ctx        context.Context
	maker      *requests.Maker
	answers    *valid.Answers
	draw       *rand.Rand
	ours       bool // the contract is of Wicketway's making
	operations []*operation
	things     map[string][]*thing // by the path up to the parameter that names them
	callers    []string            // tokens; the last one is that of the other, where there is one
	report     Report
	seen       map[string]bool // findings
}

// Run probes. It returns an error where the contract cannot be used, and where no request is answered; what it found wrong
// is in the report.
func Run(ctx context.Context, s Settings) (Report, error) {
	answers, err := valid.NewAnswers(s.Document)
	if err != nil {
		return Report{}, err
	}
	p := &prober{
		Settings: s, ctx: ctx, answers: answers, maker: requests.Of(s.Document), draw: rand.New(rand.NewPCG(s.Seed, 0x77696b)),
		things: map[string][]*thing{}, seen: map[string]bool{}, callers: slices.Clone(s.Tokens),
	}
	if p.Address == "" {
		p.Address = "$ADDRESS"
	}
	if s.Other != "" {
		p.callers = append(p.callers, s.Other)
	}
	if p.Draws == 0 {
		p.Draws = 60
	}
	_, p.ours = s.Document.More.Get(contract.FieldsKey)
	if err := p.gather(); err != nil {
		return Report{}, err
	}
	p.report.Title = s.Document.Info.Title
	for _, phase := range []func(){p.signIn, p.look, p.create, p.lives, p.settle, p.around, p.wrong, p.lists, p.edges, p.remove, p.last} {
		if phase(); ctx.Err() != nil {
			break
		}
	}
	p.finish()
	if p.report.Sent > 0 && p.answered() == 0 {
		return p.report, fmt.Errorf("no request was answered: %s", p.operations[0].why)
	}
	return p.report, nil
}

// answered is how many answers came.
func (p *prober) answered() (n int) {
	for _, o := range p.operations {
		n += len(o.got)
	}
	return n
}

// An operation of the contract, and what is known of it.
type operation struct {
	*contract.Operation
	name   string
	method string
	path   string
	line   string // method and path
	item   *contract.PathItem
	names  []string // of the parameters in its path
	wanted bool     // it is one of Only

	statuses []int // that the contract has by their numbers
	rules    bool  // it has rules that no schema tells, or may have
	streams  bool
	guarded  bool
	scopes   []string

	caller  int          // who may call; -1: nobody is known
	refused map[int]bool // callers who may not
	got     map[int]int  // how often each status
	sent    int
	left    int       // streams that were left before their end
	paused  time.Time // until when it has asked to be left alone
	why     string    // it cannot be tried
	good    *exchange // the last request that succeeded
}

// gather finds the operations: those that only read first, and shorter paths before longer ones.
func (p *prober) gather() error {
	for key, item := range p.Document.Paths.All() {
		if item.Ref != "" {
			to, err := contract.Resolve[contract.PathItem](p.Document, item.Ref)
			if err != nil {
				return err
			}
			item = to
		}
		for method, described := range item.Operations() {
			if method == "*" || method == http.MethodTrace || method == http.MethodConnect {
				continue
			}
			p.operations = append(p.operations, p.operation(method, key, item, described))
		}
	}
	slices.SortStableFunc(p.operations, func(a, b *operation) int { return len(a.names) - len(b.names) })
	if len(p.operations) == 0 {
		return fmt.Errorf("the contract of %s has no operations", p.Document.Info.Title)
	}
	if !slices.ContainsFunc(p.operations, func(o *operation) bool { return o.wanted }) {
		var names []string
		for _, o := range p.operations {
			names = append(names, o.name)
		}
		return fmt.Errorf("no operation is called %s; known: %s", strings.Join(p.Only, " or "), strings.Join(names, ", "))
	}
	return nil
}

func (p *prober) operation(method, key string, item *contract.PathItem, described *contract.Operation) *operation {
	o := &operation{
		Operation: described, name: described.ID, method: method, path: key, line: method + " " + key, item: item, caller: -1,
		refused: map[int]bool{}, got: map[int]int{}, names: namesIn(key),
	}
	if o.name == "" {
		o.name = o.line
	}
	o.wanted = p.Only == nil || slices.ContainsFunc(p.Only, func(pattern string) bool {
		matches, err := path.Match(pattern, o.name)
		return matches || err == nil && pattern == o.line
	})
	for status, r := range described.Responses.All() {
		if n, err := strconv.Atoi(status); err == nil {
			o.statuses = append(o.statuses, n)
		}
		for media, m := range r.Content.All() {
			_, own := m.More.Get(contract.ItemKey)
			o.streams = o.streams || own || !m.Item.IsZero() || strings.HasPrefix(media, "text/event-stream")
		}
	}
	slices.Sort(o.statuses)
	_, o.rules = described.More.Get("x-wicketway-rules")
	o.rules = o.rules || !p.ours
	required := p.Document.Security
	if described.Security != nil {
		required = *described.Security
	}
	o.guarded = len(required) > 0
	for i, one := range required {
		o.guarded = o.guarded && one.Len() > 0
		for _, scopes := range one.All() {
			if i == 0 {
				o.scopes = append(o.scopes, scopes...)
			}
		}
	}
	return o
}

// namesIn are the names of the parameters in a path template.
func namesIn(template string) (names []string) {
	for piece := range strings.SplitSeq(template, "{") {
		if name, _, is := strings.Cut(piece, "}"); is {
			names = append(names, name)
		}
	}
	return names
}

func (o *operation) has(status int) bool { return slices.Contains(o.statuses, status) }

// reads reports whether it changes nothing (RFC 9110, 9.2.1).
func (o *operation) reads() bool {
	return o.method == http.MethodGet || o.method == http.MethodHead || o.method == http.MethodOptions || o.method == "QUERY"
}

// may reports whether an operation can be sent to.
func (p *prober) may(o *operation) bool {
	return o.why == "" && (o.reads() || !p.Safe) && p.ctx.Err() == nil && !time.Now().Before(o.paused)
}

// at gives the operation of a method on a path template; nil where there is none.
func (p *prober) at(method, template string) *operation {
	for _, o := range p.operations {
		if o.method == method && o.path == template {
			return o
		}
	}
	return nil
}
