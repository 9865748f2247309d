package wicketway

import (
	"fmt"
	"os"
	"reflect"
	"slices"
	"strings"

	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/internal/answer"
	"github.com/wicketway/wicketway/internal/bind"
	"github.com/wicketway/wicketway/internal/check"
	"github.com/wicketway/wicketway/internal/development"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/internal/secret"
	"github.com/wicketway/wicketway/internal/shape"
	"github.com/wicketway/wicketway/internal/table"
	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/route"
)

// A builder reads parts into routes that are plain data, checks them as a whole, and then
// compiles them. It collects mistakes in them on the way.
type builder struct {
	at        here.Place
	routes    []*resolved
	room      []resolved       // for more of them
	templates []route.Template // of the routes
	lists     []*list
	fallbacks []resolved // the groups that have a prefix, for what finds no route in them
	guarded   []guardedPrefix
	guards    []namedGuard
	table     table.Builder
	schemas   check.Set
	encoders  answer.Encoders
	secrets   secret.Types
	inputs    map[inputKey]*bind.Plan
	outputs   map[outputKey]*answer.Plan
	codes     map[string]*problem.Kind
	gets      map[string]int // the routes for GET, by version and template
	parts     []Part
	versions  []*versionRead
	sets      []*versionSet
	under     map[string]*versionSet // the sets by their prefixes
	files     files                  // of the parts, named for mistakes
	mistakes  Mistakes
	broken    map[*resolved]bool // the routes whose inputs or outputs have some
	unread    bool               // there are routes that could not be read, so that a route may be there after all
}

func newBuilder(at here.Place, parts []Part) *builder {
	b := &builder{
		at:      at,
		codes:   map[string]*problem.Kind{},
		inputs:  map[inputKey]*bind.Plan{},
		outputs: map[outputKey]*answer.Plan{},
		broken:  map[*resolved]bool{},
		secrets: secret.Types{},
		under:   map[string]*versionSet{},
	}
	b.schemas.Refuse = noJSON
	for _, k := range problem.BuiltIn() {
		b.codes[k.Code()] = k
	}
	return b
}

// noJSON says which types of this package mean nothing as JSON: callers could make up a File, or an
// Identity.
func noJSON(t reflect.Type, whole bool) string {
	switch to := reflect.PointerTo(t); {
	case t == reflect.TypeFor[Identity](), t == fileType.Type, t == reflect.TypeFor[API](), t == reflect.TypeFor[Info](),
		isOutput(t), streamed(t) != nil, to.Implements(conditionalFieldType):
		return meansNothing
	case to.Implements(reflect.TypeFor[pager]()) && !whole:
		return "is an output by itself: make it the output, or a list of the items a member"
	}
	return ""
}

const meansNothing = "has no meaning as JSON: use a type of your own"

// initialTerms are what holds before any setting.
func (b *builder) initialTerms() terms {
	t := terms{groupTerms: &groupTerms{limits: defaultLimits, pageSizes: defaultPageSizes, base: ownBase, retirement: noRetirement}}
	var err error
	if t.development, err = development.IsOn(); err != nil {
		b.mistake(b.at, "%s is %q: write 1 for development, or leave it out", development.Variable, os.Getenv(development.Variable))
	}
	return t
}

// A namedGuard is a guard with its name in an API: bearer, and bearer-2 for another one of that name, so that
// callers of two issuers are told apart.
type namedGuard struct {
	guard exchange.Authenticator
	said  *guarding
	name  string
}

// A guardedPrefix is one of a group, a mount or files under a guard. Below it no request is served by what
// has a shorter prefix without that guard: what its own routes do not take is not open by that.
type guardedPrefix struct {
	prefix route.Template
	list   *list
}

// A versionRead is a version as it was read, for those that inherit from it.
type versionRead struct {
	name    string
	under   string // the prefix of the group around it
	prefix  route.Template
	list    *list
	inherit *inheritPart
	routes  []*resolved // its own, then those it has inherited
	state   inheritState
}

type inheritState uint8

const (
	notYet inheritState = iota
	underWay
	settled
)

// A plan is made once for all routes that read the same in the same way, or send it.
type inputKey struct {
	of                reflect.Type
	parameters        string
	method            string
	limit, item       int64
	faults            int
	unknown, readOnly bool
	pages             PageSizes
}

type outputKey struct {
	of                                 reflect.Type
	adapts                             *shape.Adapter
	plain                              bool
	kind                               outputKind
	status                             int
	media, parameter, variant          string
	house                              *house
	formats                            *answer.Choice
	conditional, omitNull, development bool
}

func (b *builder) mistake(at here.Place, format string, args ...any) {
	for i, a := range args {
		if p, ok := a.(here.Place); ok {
			args[i] = b.where(p)
		}
	}
	file, line := at.Frame()
	m := Mistake{File: file, Line: line, Text: fmt.Sprintf(format, args...), where: b.where(at)}
	if !slices.Contains(b.mistakes, m) {
		b.mistakes = append(b.mistakes, m)
	}
}

// kind checks a kind of problem, and that its code means no other kind.
func (b *builder) kind(at here.Place, setting string, k *problem.Kind) bool {
	if err := k.Check(); err != nil {
		b.mistake(at, "%s: %v", setting, err)
		return false
	}
	if other := b.codes[k.Code()]; other != nil && other != k {
		b.mistake(at, "%s: the code %q is declared by two kinds, %d %q and %d %q", setting, k.Code(), other.Status(),
			other.Title(), k.Status(), k.Title())
		return false
	}
	b.codes[k.Code()] = k
	return true
}

// where writes a place. Only the first mistake makes it worth to name the files.
func (b *builder) where(p here.Place) string {
	if b.files == nil {
		b.files = filesOf(b.at, b.parts)
	}
	return b.files.where(p)
}

// filesOf names the files in which parts were declared.
func filesOf(at here.Place, parts []Part) files {
	all := files{}
	var add func(Part)
	add = func(p Part) {
		if p == nil {
			return
		}
		file, _ := p.part().Frame()
		all[file] = ""
		switch p := p.(type) {
		case group:
			for _, inner := range p.parts {
				add(inner)
			}
		case *routePart:
			for _, s := range p.settings {
				add(s)
			}
		}
	}
	add(group{at: at, parts: parts})
	all.shorten()
	return all
}

// wrongWith reports mistakes about a route.
func (b *builder) wrongWith(r *resolved) func(format string, args ...any) {
	return func(format string, args ...any) {
		text := fmt.Sprintf(format, args...)
		if r.adapted != nil {
			text = r.adapted.named(text)
		}
		b.broken[r] = true
		r.list.breaks()
		b.mistake(r.at, "%s: %s", strings.TrimSpace(r.line()), text)
	}
}

// binding says how an input of a route is read that has parameters in its path.
func (b *builder) binding(r *resolved, parameters []string, unparsed bool) bind.Config {
	t := r.terms()
	var lenient check.Leniency
	if t.unknown {
		lenient |= check.UnknownMembers
	}
	if t.readOnly {
		lenient |= check.ReadOnlyMembers
	}
	return bind.Config{
		Method:     r.method,
		Parameters: parameters,
		Unparsed:   unparsed,
		Limit:      t.limits.Body,
		Item:       t.limits.Item,
		Faults:     t.limits.Faults,
		Lenient:    lenient,
		None:       noneType,
		Conditions: conditionalFieldType,
		Files:      fileType,
		Streams:    bind.Streams{Item: streamBody, Fill: fillStream},
		Vary:       writer.AddVary,
		Schemas:    &b.schemas,
		Secrets:    b.secrets,
		Rules:      t.pageSizes.ruleOf,
		Mistake:    b.wrongWith(r),
	}
}
