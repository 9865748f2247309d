package wicketway_test

import (
	"context"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"reflect"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/chain/auth"
	"github.com/wicketway/wicketway/chain/cache"
	"github.com/wicketway/wicketway/chain/compress"
	"github.com/wicketway/wicketway/chain/health"
	"github.com/wicketway/wicketway/chain/limit"
	"github.com/wicketway/wicketway/chain/secure"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/facts"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/format/csv"
	"github.com/wicketway/wicketway/format/html"
	"github.com/wicketway/wicketway/problem"
)

func pass(next http.Handler) http.Handler { return next }

func bearer() exchange.Authenticator {
	return auth.Bearer(auth.HS256([]byte(strings.Repeat("k", 32))).IssuedBy("canal"), auth.Settings{Audience: []string{"api"}})
}

type berthed struct {
	Name string `json:"name"`
	Deep struct {
		Width float64 `json:"width"`
	} `json:"deep"`
}

// Each slip has its mistake, at the line of the row, and says what would be right.
func TestBuildIsNeverSilent(t *testing.T) {
	serve := func(context.Context, wicketway.None) (wicketway.None, error) { return wicketway.None{}, nil }
	value := func(context.Context, wicketway.None) (berthed, error) { return berthed{}, nil }
	list := func(context.Context, wicketway.None) ([]berthed, error) { return nil, nil }
	created := func(context.Context, wicketway.None) (wicketway.Created[berthed, wicketway.None], error) {
		return wicketway.Created[berthed, wicketway.None]{}, nil
	}
	x := wicketway.Route("GET /x", serve)
	var nilFunc func(context.Context, wicketway.None) (wicketway.None, error)
	one := bearer()
	kind := problem.Define(409, "shut", "Shut")
	parts := func(parts ...wicketway.Part) []wicketway.Part { return parts }
	in := func(m wicketway.Middleware) []wicketway.Part { return parts(x, wicketway.Chain(m)) }
	for name, c := range map[string]struct {
		parts []wicketway.Part
		want  string
	}{
		"a nil guard under scopes":          {parts(wicketway.Guard(nil), wicketway.Route("GET /x", serve, wicketway.Scopes("a")), wicketway.Route("GET /y", serve, wicketway.Public())), "the guard is nil"},
		"a line without a path in a group":  {parts(x, wicketway.At("/y", wicketway.Envelope("data"), wicketway.Route("GET", value))), "a method, a space and a path template"},
		"a bad template in a group":         {parts(x, wicketway.At("/y", wicketway.Envelope("data"), wicketway.Route("GET /{a", value))), "never closed"},
		"a bad prefix around routes":        {parts(x, wicketway.At("/{y", wicketway.Envelope("data"), wicketway.Route("GET /a", value))), "never closed"},
		"a target that is broken":           {parts(wicketway.Route("GET /{a", value), wicketway.Route("POST /x", created, wicketway.LocatedBy(value))), "never closed"},
		"a middleware of many routes":       {parts(x, wicketway.Route("GET /y", serve), wicketway.Route("GET /z", serve), wicketway.Chain(limit.Requests(limit.Rate{}, limit.ByAddress(), limit.Settings{}))), "a rate has at least one request"},
		"a nil middleware that reads":       {parts(x, wicketway.Chain(wicketway.Middleware{Name: "reader", Reads: []reflect.Type{reflect.TypeFor[int]()}}), wicketway.Attach(7), wicketway.Group(wicketway.Without("reader"), wicketway.Route("GET /y", serve))), "has no function"},
		"a version that is not there":       {parts(x, wicketway.Version("v2", wicketway.Inherit("v1"), wicketway.Envelope("data"))), "no version v1"},
		"a version whose routes are broken": {parts(wicketway.Version("v1", wicketway.Route("GET /{a", value)), wicketway.Version("v2", wicketway.Inherit("v1"), wicketway.Withdraw("GET /b"), wicketway.Route("GET /c", value))), "never closed"},
		"no translations":                   {parts(x, wicketway.Translate()), "Translate"},
		"no kinds":                          {parts(x, wicketway.Fails()), "Fails"},
		"a nil kind":                        {parts(x, wicketway.Fails(nil)), "Fails"},
		"a middleware twice":                {parts(x, wicketway.Chain(wicketway.Wrap("w", pass), wicketway.Wrap("w", pass))), "w is in the chain already"},
		"no middleware":                     {parts(x, wicketway.Chain()), "Chain"},
		"no names":                          {parts(wicketway.Chain(wicketway.Wrap("w", pass)), wicketway.Group(wicketway.Without(), x)), "Without"},
		"no formats":                        {parts(wicketway.Route("GET /x", value), wicketway.Formats()), "Formats"},
		"no ways":                           {parts(wicketway.Route("GET /x", list), wicketway.Formats(csv.Lists()), wicketway.FormatChoice{By: []format.Way{}}), "By: no way"},
		"no limits":                         {parts(x, wicketway.Limits{}), "Limits"},
		"no summary":                        {parts(wicketway.Route("GET /x", serve, wicketway.Summary(""))), "Summary"},
		"no description":                    {parts(wicketway.Route("GET /x", serve, wicketway.Description(""))), "Description"},
		"a tag twice":                       {parts(wicketway.Tags("a"), wicketway.Route("GET /x", serve, wicketway.Tags("a"))), "Tags"},
		"an example that breaks a rule": {parts(wicketway.Route("POST /x", func(context.Context, struct {
			A int `json:"a" rule:"maximum=3" example:"7"`
		}) (wicketway.None, error) {
			return wicketway.None{}, nil
		})), "example: 7 breaks"},
		"no name":                            {parts(wicketway.Route("GET /x", serve, wicketway.Name(""))), "Name"},
		"a name with a space":                {parts(wicketway.Route("GET /x", serve, wicketway.Name("a b"))), "Name"},
		"no logger":                          {parts(x, wicketway.Log(nil)), "Log"},
		"no rule":                            {parts(wicketway.Guard(bearer()), wicketway.Route("GET /x", serve, wicketway.Allow[wicketway.None](kind, nil))), "Allow"},
		"no kind of a rule":                  {parts(wicketway.Guard(bearer()), wicketway.Route("GET /x", serve, wicketway.Allow(nil, func(context.Context, wicketway.Identity, wicketway.None) (bool, error) { return true, nil }))), "Allow"},
		"a rule of a success":                {parts(wicketway.Guard(bearer()), wicketway.Route("GET /x", serve, wicketway.Allow(problem.Define(500, "odd", "Odd"), func(context.Context, wicketway.Identity, wicketway.None) (bool, error) { return true, nil }))), "Allow"},
		"no date":                            {parts(x, wicketway.Retirement{}), "Retirement"},
		"ends at no time":                    {parts(x, wicketway.Retirement{Ends: true}), "no Sunset says when"},
		"no envelope":                        {parts(wicketway.Route("GET /x", value), wicketway.Envelope("")), "Envelope"},
		"no media type":                      {parts(wicketway.Route("GET /x", value), wicketway.Media("")), "Media"},
		"no shape":                           {parts(x, wicketway.ProblemShape[berthed]("application/json", nil)), "ProblemShape"},
		"no handler":                         {parts(wicketway.Handle("GET /x", nil)), "nil"},
		"a nil HandlerFunc":                  {parts(wicketway.Handle("GET /x", http.HandlerFunc(nil))), "nil"},
		"no function":                        {parts(wicketway.Route("GET /x", nilFunc)), "nil"},
		"no mount":                           {parts(wicketway.Mount("/x", nil)), "nil"},
		"no files":                           {parts(wicketway.Files("/x", nil)), "nil"},
		"no successor":                       {parts(x, wicketway.Retirement{Successor: 7, Sunset: time.Now()}), "the successor is a int"},
		"a clock of nothing":                 {parts(x, wicketway.Retirement{Clock: time.Now}), "Clock has no effect"},
		"no relation":                        {parts(x, wicketway.Related("", "/y")), "Related"},
		"no target":                          {parts(x, wicketway.Related("help", "")), "Related"},
		"no kind to raise":                   {parts(wicketway.KindAs(nil, kind), wicketway.Route("GET /x", serve, wicketway.Fails(kind))), "KindAs"},
		"a kind raised as itself":            {parts(wicketway.KindAs(kind, kind), wicketway.Route("GET /x", serve, wicketway.Fails(kind))), "KindAs"},
		"a kind that nobody raises":          {parts(wicketway.KindAs(problem.Define(409, "odd", "Odd"), kind), wicketway.Route("GET /x", serve, wicketway.Fails(kind))), "KindAs"},
		"no versions":                        {parts(wicketway.Version("v1", x), wicketway.WithdrawnVersions()), "WithdrawnVersions"},
		"a withdrawn version that is served": {parts(wicketway.Version("v1", x), wicketway.WithdrawnVersions("v1")), "WithdrawnVersions"},
		"overrides nothing":                  {parts(wicketway.Version("v1", x), wicketway.Version("v2", wicketway.Route("GET /x", serve, wicketway.Overrides()))), "Overrides"},
		"nothing in a group":                 {parts(x, wicketway.Group()), "Group"},
		"nothing at a prefix":                {parts(x, wicketway.At("/y")), "At"},
		"nothing in a version":               {parts(x, wicketway.Version("v1")), "Version"},
		"a kind twice":                       {parts(x, wicketway.Fails(kind, kind)), "Fails"},
		"a scope twice":                      {parts(wicketway.Guard(bearer()), x, wicketway.Scopes("a", "a")), "Scopes"},
		"a scope of any twice":               {parts(wicketway.Guard(bearer()), x, wicketway.AnyScope("a", "a")), "AnyScope"},
		"any of one":                         {parts(wicketway.Guard(bearer()), x, wicketway.AnyScope("a", "b"), wicketway.Scopes("a")), "AnyScope"},
		"a name twice":                       {parts(wicketway.Chain(wicketway.Wrap("w", pass)), wicketway.Group(wicketway.Without("w", "w"), x)), "Without"},
		"a method twice":                     {parts(wicketway.Guard(bearer()), wicketway.Route("GET /x", serve), wicketway.Route("PUT /x", serve), wicketway.Public("GET", "GET")), "Public"},
		"a method of nobody":                 {parts(wicketway.Guard(bearer()), wicketway.Route("GET /x", serve), wicketway.Route("PUT /x", serve), wicketway.Public("GET", "PATCH")), "PATCH"},
		"one field of limits":                {parts(wicketway.Handle("GET /x", http.NotFoundHandler()), wicketway.Limits{Time: time.Second, Body: 5}), "Body"},
		"any of no guards":                   {parts(wicketway.Guard(auth.Any()), x), "Any"},
		"any of a nil guard":                 {parts(wicketway.Guard(auth.Any(bearer(), nil)), x), "nil"},
		"any of one guard twice":             {parts(wicketway.Guard(auth.Any(one, one)), x), "twice"},
		"a window that ends before":          {parts(x, wicketway.Retirement{Sunset: time.Now().Add(time.Hour), Ends: true, Rehearsals: []facts.Window{{From: time.Now(), Until: time.Now().Add(-time.Hour)}}}), "ends before it begins"},
		"an observer and nothing":            {parts(x, wicketway.Attach(0)), "Attach"},
		"a middleware that sets no field":    {in(wicketway.Middleware{Name: "w", Wrap: pass, Sets: []facts.Field{{Name: "a b"}}}), "a b"},
		"a middleware without a name":        {in(wicketway.Middleware{Wrap: pass}), "name"},
		"a middleware of a nil kind":         {in(wicketway.Middleware{Name: "w", Wrap: pass, Raises: []*problem.Kind{nil}}), "w"},
		"slow below nothing":                 {in(accesslog.To(nil, accesslog.Settings{Slow: -1})), "Slow"},
		"one of none":                        {in(accesslog.To(nil, accesslog.Settings{Sample: -1})), "Sample"},
		"an age below nothing":               {in(cache.Headers(cache.Control{MaxAge: -1})), "MaxAge"},
		"kept and not":                       {in(cache.Headers(cache.Control{NoStore: true, MaxAge: time.Minute})), "NoStore"},
		"a cache of nothing":                 {in(cache.Responses(cache.Settings{Bytes: -1})), "Bytes"},
		"a cache smaller than one":           {in(cache.Responses(cache.Settings{Bytes: 10, Largest: 20})), "Largest"},
		"what a cache is told":               {parts(x, cache.Policy(cache.Control{MaxAge: time.Minute})), "Policy"},
		"no coding":                          {in(compress.Bodies(compress.Settings{Codings: []string{}})), "Codings"},
		"bytes below nothing":                {in(compress.Bodies(compress.Settings{From: -1})), "From"},
		"off and no compress":                {parts(x, compress.Off()), "Off"},
		"unpacking below nothing":            {in(compress.Requests(compress.Unpacking{Most: -1})), "Most"},
		"a strict that is negative":          {in(secure.Headers(secure.Settings{Strict: -1})), "Strict"},
		"strict below nothing":               {in(secure.Headers(secure.Settings{StrictBelow: true})), "StrictBelow"},
		"a policy of two lines":              {in(secure.Headers(secure.Settings{Policy: "a\nb"})), "Policy"},
		"a rate of none":                     {in(limit.Requests(limit.Rate{Requests: 0, Per: time.Second}, limit.ByAddress(), limit.Settings{})), "0 requests in 1s"},
		"a rate's name":                      {in(limit.Requests(limit.Rate{Requests: 1, Per: time.Second, Name: "a b"}, limit.ByAddress(), limit.Settings{})), "a b"},
		"no key":                             {in(limit.Requests(limit.Rate{Requests: 1, Per: time.Second}, limit.Key{}, limit.Settings{})), "Key does not say"},
		"an answer that is a problem":        {parts(returning[any](1, wicketway.Gives[int](404))), "Fails declares problems"},
		"an answer twice":                    {parts(returning[any](1, wicketway.Gives[int](200), wicketway.Gives[int](200))), "is declared twice"},
		"an answer without content":          {parts(returning[any](1, wicketway.Gives[int](204))), "write Gives[wicketway.None](204)"},
		"an answer beside the only one":      {parts(returning(1, wicketway.Gives[string](200))), "can answer with a string besides"},
		"an answer that JSON cannot carry":   {parts(returning[any](1, wicketway.Gives[chan int](200))), "no JSON form"},
		"a Reply that is given":              {parts(returning[any](1, wicketway.Gives[wicketway.Reply[int]](200))), "name the type of the value"},
		"a shape without a place":            {parts(x, wicketway.ValueShape(func(format.Success) int { return 0 })), "has 0 members of type format.Payload"},
		"a shape with two":                   {parts(x, wicketway.ValueShape(func(format.Success) (h struct{ A, B format.Payload }) { return h })), "has 2 members of type format.Payload"},
		"a shape of a list":                  {parts(x, wicketway.ValueShape(func(format.Success) []format.Payload { return nil })), "has 0 members"},
		"a shape without a function":         {parts(x, wicketway.ValueShape[house](nil)), "the function is nil"},
		"a shape that JSON cannot carry": {parts(returning(1), wicketway.ValueShape(func(format.Success) (h struct {
			A format.Payload
			B chan int
		}) {
			return h
		})), "no JSON form"},
		"a shape for no value":       {parts(wicketway.Route("GET /y", serve), wicketway.ValueShape(func(s format.Success) house { return house{} })), "no route here sends a value as JSON"},
		"a queue without a time":     {parts(x, wicketway.Limits{AtOnce: 1, Queue: 1}), "Queue and Wait go together with AtOnce"},
		"a queue for nothing":        {parts(x, wicketway.Limits{Queue: 1, Wait: 1}), "Queue and Wait go together with AtOnce"},
		"seats below nothing":        {parts(x, wicketway.Limits{AtOnce: -1}), "AtOnce is -1"},
		"a check without a name":     {parts(health.Routes(health.NewReadiness(health.Check{Ask: func(context.Context) error { return nil }}))), "Name"},
		"a check without a function": {parts(health.Routes(health.NewReadiness(health.Check{Name: "a"}))), "Ask"},
		"two checks of a name":       {parts(health.Routes(health.NewReadiness(health.Check{Name: "a", Ask: func(context.Context) error { return nil }}, health.Check{Name: "a", Ask: func(context.Context) error { return nil }}))), "a"},
		"a check of negative time":   {parts(health.Routes(health.NewReadiness(health.Check{Name: "a", Within: -1, Ask: func(context.Context) error { return nil }}))), "Within"},
		"csv of no list":             {parts(wicketway.Route("GET /x", value), wicketway.Formats(csv.Lists())), "list"},
		"a format that nothing has":  {parts(x, wicketway.Formats(csv.Lists())), "Formats"},
		"a query without a name":     {parts(wicketway.Route("GET /x", list), wicketway.Formats(csv.Lists()), wicketway.FormatChoice{By: []format.Way{format.ByQuery("")}}), "ByQuery"},
		"a query that an input reads": {parts(wicketway.Route("GET /x", func(_ context.Context, in struct {
			F string `from:"query f"`
		}) ([]berthed, error) {
			return nil, nil
		}), wicketway.Formats(csv.Lists()), wicketway.FormatChoice{By: []format.Way{format.ByQuery("f")}}), "f"},
		"a way twice": {parts(wicketway.Route("GET /x", list), wicketway.Formats(csv.Lists()), wicketway.FormatChoice{By: []format.Way{format.ByAccept(), format.ByAccept()}}), "By: accept is named twice"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, c.parts...)
			var mistakes wicketway.Mistakes
			if !errors.As(err, &mistakes) {
				t.Fatalf("no mistakes, but %v", err)
			}
			_, file, _, _ := runtime.Caller(0)
			for _, m := range mistakes {
				if filepath.Base(m.File) != filepath.Base(file) {
					t.Errorf("at %s:%d: %s", m.File, m.Line, m.Text)
				}
			}
			if len(mistakes) != 1 { // what would be untrue once it is mended is left out
				t.Errorf("%d mistakes: %v", len(mistakes), err)
			}
			if !strings.Contains(err.Error(), c.want) {
				t.Errorf("wanted %q in %v", c.want, err)
			}
			if len(mistakes) > 1 {
				t.Logf("several: %v", err)
			}
		})
	}
}

type lockage struct {
	Name  string
	Gates []gateOf
	Extra map[string]any
	Steps map[int]string
	Any   any
	Next  *lockage
	Each  func(yield func(int, gateOf) bool) `json:"-"`
	quiet string
}

type gateOf struct{ Width float64 }

func (l *lockage) Title() string    { return l.Name + l.quiet }
func (lockage) First() (any, error) { return nil, nil }

// A template names only what its value can have, and shows something; what cannot be known is passed over.
func TestTemplatesFitTheirValues(t *testing.T) {
	find := func(context.Context, wicketway.None) (lockage, error) { return lockage{}, nil }
	for name, c := range map[string]struct {
		text string
		want string // what a mistake says; "" for none
	}{
		"right":                  {`{{.Name}}{{.Title}}{{.Next.Next.Name}}{{len .Gates}}{{(index .Gates 0).Width}}`, ""},
		"a field":                {`{{.Nam}}`, `locks.find.html:1:2: wicketway_test.lockage has no field or method Nam; it has Name, Gates`},
		"not exported":           {`{{.quiet}}`, "no field or method quiet"},
		"of a pointer":           {`{{.Next.Nex}}`, "Nex;"},
		"of a text":              {`{{.Name.Long}}`, "string has no field or method Long"},
		"in a condition":         {`{{if .Open}}x{{else if .Shut}}y{{end}}`, "Open;|Shut;"},
		"with":                   {`{{with .Next}}{{.Name}}{{.Nam}}{{else}}{{.Nme}}{{end}}`, "Nam;|Nme;"},
		"range":                  {`{{range .Gates}}{{.Width}}{{.Wid}}{{else}}{{.Wdth}}{{end}}`, "gateOf has no field or method Wid;|lockage has no field or method Wdth;"},
		"range with variables":   {`{{range $i, $g := .Gates}}{{$i}}{{$g.Wid}}{{$.Nam}}{{end}}`, "Wid;|Nam;"},
		"range over a function":  {`{{range $i, $g := .Each}}{{$g.Wid}}{{end}}`, "Wid;"},
		"range over a number":    {`{{range $i := len .Gates}}{{$i}}{{end}}{{range 3}}{{.}}{{end}}`, ""},
		"range over a struct":    {`{{range .Next}}{{end}}`, "not a list, map or number"},
		"a variable":             {`{{$n := .Next}}{{$n.Nam}}{{if true}}{{$n := 1}}{{end}}{{$n.Nme}}`, "Nam;|Nme;"},
		"a variable of two":      {`{{$n := .Next}}{{$n = .Any}}{{$n.Nam}}`, ""},
		"a call":                 {`{{index .Gates .Nr}}{{(slice .Gates 1).Wid}}{{eq .Nam "x"}}`, "Nr;|Wid|Nam;"},
		"a pipeline":             {`{{.Name | printf "%s"}}{{.Nam | len}}{{(.Gates | len).X}}`, "Nam;|int has no field"},
		"a map":                  {`{{.Extra.any.thing}}{{.Steps.x}}`, `no key "x": its keys are int`},
		"unknown":                {`{{.Any.X.Y}}{{.First.Z}}{{(upper .Name).Z}}{{range .Any}}{{.X}}{{end}}{{with .Extra.a}}{{.B}}{{end}}{{(and .Any .Next).Q}}`, ""},
		"another template":       {`{{template "row" .Next}}{{template "row" .}}{{define "row"}}{{.Nam}}{{with .Next}}{{template "row" .}}{{end}}{{end}}`, "Nam;"},
		"one that is empty":      {`{{template "row" .}}{{define "row"}} {{end}}x`, ""},
		"one that is not there":  {`{{template "rows" .}}`, `no template is called "rows"`},
		"one that shows nothing": {`x{{define "locks.fnd"}}y{{end}}`, `the template "locks.fnd" shows nothing: it has neither the name of a route here, such as locks.find`},
		"a problem":              {`x{{define "404"}}{{.Title}}{{.Titel}}{{end}}{{define "dry.html"}}{{range .Errors}}{{.Place}}{{end}}{{.Members.until}}{{end}}`, "format.Problem has no field or method Titel;|Place;"},
		"a problem of nobody":    {`x{{define "wet"}}y{{end}}`, `"wet" shows nothing`},
	} {
		templates := template.Must(template.New("locks.find.html").Funcs(template.FuncMap{"upper": strings.ToUpper}).Parse(c.text))
		pages := wicketway.Formats(html.Pages(templates))
		dry := problem.Define(409, "dry", "Dry")
		for range 2 { // the second time the templates may have been executed
			api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, pages, wicketway.Route("GET /x", find, wicketway.Name("locks.find"), wicketway.Fails(dry)))
			said := fmt.Sprint(err)
			for want := range strings.SplitSeq(c.want, "|") {
				if (c.want == "") != (err == nil) || !strings.Contains(said, want) && err != nil {
					t.Errorf("%s: wanted %q, got %s", name, want, said)
				}
			}
			if n := strings.Count(c.want, "|") + 1; err != nil && strings.Count(said, "\n")+1 != n {
				t.Errorf("%s: wanted %d mistakes, got %s", name, n, said)
			}
			if err == nil {
				r := httptest.NewRequest("GET", "/x", nil)
				r.Header.Set("Accept", "text/html")
				api.ServeHTTP(httptest.NewRecorder(), r)
			}
		}
	}
}
