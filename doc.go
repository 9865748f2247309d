// Package wicketway builds HTTP APIs from one description.
//
// An API is described once, as a tree of parts: routes, groups of parts, and
// settings that hold for a route or for all routes of a group. [Build]
// compiles the description, or reports every mistake in it with file and line.
// The [API] that comes out is an [http.Handler]: it routes requests, reads and
// checks their inputs, runs the middleware, enforces access, and
// shapes every error alike (RFC 9457).
//
//	api, err := wicketway.Build(
//		wicketway.Info{Title: "Osterbeck Canal", Version: "2.4.0"},
//		wicketway.Chain(requestid.Assign(), accesslog.To(logger, accesslog.Settings{})),
//		wicketway.At("/locks",
//			wicketway.Route("GET /", desk.list),
//			wicketway.Route("GET /{lock}", desk.find, wicketway.Fails(ErrNoSuchLock)),
//		),
//	)
//
// # Inputs
//
// The input type of a route says where each field comes from (path, query, header,
// cookie, body, form or file) and which rules hold; rules are those of package
// schema. Structs can be embedded, so that paging is written once. Without any
// from tag the whole type is the JSON body. [None] stands for no input, or no
// output.
//
//	type bookPassage struct {
//		Lock string     `from:"path lock"`
//		Days int        `from:"query days" rule:"minimum=1 default=1"`
//		Body NewPassage `from:"body"`
//	}
//
// The body is a value in JSON, or one of several types ([schema.OneOf]); or a [Stream], which is read item by item; or an
// io.Reader, which gives the bytes as they come, of any content type and up to the size in [Limits]: none where there is
// no body.
//
// An input that breaks a rule never reaches the route: the caller gets every fault at once,
// each with its place.
//
// # Outputs
//
// The output type chooses the answer; the input is the same for all: a value as JSON,
// or in another of the [Formats] that the caller chooses; [None]; a [Reply] with a status and
// header fields of its own; a [Page] with links to its neighbours, or a [NumberedPage]; a [Created] value, with
// its address; a [Redirect]; [Content], which is text, bytes or a file; a [Stream], as it comes;
// and any [Answerer]. [Envelope], [Conditional], [OmitNull], [Media] and [Development] are
// settings about outputs. A route that changes something takes [Conditions] as an input.
//
// [Reply] gives each of them a status and header fields of its own. An output of an interface type, any included, is
// sent as the value in it would be. [Gives] declares answers that the type does not show. A nil without an error means:
//
//	a nil value, in any too     null, or 404 where a GET names a value in its path
//	a nil value in a Reply      no content, where its status is 204, 205 or 304; else as before
//	a nil Reply, Page, Created, Redirect, Content, Answerer or Stream
//	                            a mistake of the route: 500, or 404 where a GET names a value in its path
//
// # Versions
//
// A [Version] can [Inherit] from an earlier one: it takes over every route that it does not declare
// anew, under its own settings, and declares only its changes ([Overrides], [Withdraw]). Deprecated routes
// announce their end in header fields ([Retirement], [Related]), and can end by themselves.
// Requests choose a version by the path or, where [VersionBy] says so, by a header
// field or a media type. An older version can be [Adapted] over the functions of the newer one, with
// the kinds and the shape of problems that it had ([KindAs], [ProblemShape]).
//
// # Other handlers
//
// [Handle] declares a route that a plain http.Handler serves, [Mount] puts a
// foreign handler under a prefix, and [Files] serves a file system. [InDevelopment] has parts that production lacks.
//
// # Paths
//
// The most specific template wins, whatever the order of declaration; package
// route has the rules. A path that is not clean (//, /./, /../) or has a slash
// too many or too few at its end is redirected to the route's own path where
// there is one, unless [Slashes] says otherwise. HEAD follows GET, and OPTIONS is
// answered with the methods of a path, without asking the guard. A request that no route
// takes passes the chains of the deepest group whose prefix fits.
//
// # Settings
//
// A setting may be in the list of a group or of a route; where in the list
// does not matter. It either replaces the setting of an outer group (Guard, Public,
// Answers, Limits, Slashes, Envelope and most others) or adds to it (Chain,
// Scopes, Fails, Translate). A setting that replaces can be taken back further in
// by [Undo]. A setting that has no effect where it is, is a mistake.
//
// Of settings that hold as the nearest says the innermost list counts; of those by field each field that is set
// counts by itself. All settings:
//
//	setting            may be on        holds    undone by
//	Allow              route, group     all      -
//	AllowUnknown       route, group     nearest  Undo
//	Answers            route, group     nearest  Undo
//	AnyScope           route, group     all      -
//	Attach             route, group     nearest  Undo
//	Chain              route, group     all      -
//	Conditional        route, group     nearest  Undo
//	Describes          route            nearest  -
//	Description        route            nearest  -
//	Development        route, group     nearest  Undo
//	Envelope           route, group     nearest  Undo
//	ErrorsAsProblems   route, group     nearest  Undo
//	Example            route            all      -
//	Fails              route, group     all      -
//	FormatChoice       route, group     by field Undo
//	Formats            route, group     nearest  Undo
//	Gives              route            all      -
//	Guard              route, group     nearest  Public
//	IgnoreReadOnly     route, group     nearest  Undo
//	KindAs             route, group     all      -
//	Languages          route, group     nearest  Undo
//	Limits             route, group     by field Undo
//	Listing            route, group     nearest  Undo
//	LocatedBy          route            nearest  -
//	Log                route, group     nearest  Undo
//	Media              route, group     nearest  Undo
//	Name               route            nearest  -
//	OmitNull           route, group     nearest  Undo
//	Overrides          route            nearest  -
//	PageSizes          route, group     by field Undo
//	ProblemBase        route, group     nearest  Undo
//	ProblemPages       route, group     nearest  Undo
//	ProblemShape       route, group     nearest  Undo
//	Public             route, group     nearest  -
//	Related            route, group     all      -
//	Retirement         route, group     by field Undo
//	Scopes             route, group     all      -
//	ShowCauses         route, group     nearest  Undo
//	Slashes            route, group     nearest  Undo
//	Summary            route            nearest  -
//	Tags               route, group     all      -
//	Template           route            nearest  -
//	Translate          route, group     all      -
//	Unlisted           route, group     nearest  Undo
//	ValueShape         route, group     nearest  Undo
//	VersionBy          group (versions) nearest  Undo
//	WithdrawnVersions  group (versions) nearest  Undo
//	Without            route, group     all      -
//
// Packages make settings of their own with [Attach]: a middleware reads the value
// that holds for the route of a request with [exchange.Attached].
//
// # Middleware
//
// Any func(http.Handler) http.Handler is a [Middleware] by [Wrap]. Package exchange has all that a
// middleware may ask and say about a request: the route, the caller, the answer, the failure. It
// can say about itself which kinds of problem it raises and which attached values it reads.
//
// [Without] leaves one out by its name, which listings show. Those that come with Wicketway are named accesslog, cache,
// cache-control, compress, cors, metrics, proxy, requestid, secure, trace, tracecontext, trail, unpack and usage;
// limits are named limit and the name of their rate.
//
// # Errors
//
// An error that a route returns reaches the caller as a problem of package
// problem; [Translate] turns foreign errors into problems, and any other error
// becomes a 500 that says nothing, with the cause in the log. Plain handlers use
// [Fail] for the same. [API.Problems] is the catalogue of all that can come back,
// and the API serves it: the type of a problem leads there.
//
// # Listings
//
// [API.Routes] gives the facts of every route (package facts); [API.Describe] is what the
// command-line tool reads. The Observes of a [Middleware] follows the steps of each request.
//
// # Files
//
// Each file uses those above it alone, except that parts hold what will serve them (model.go).
//
//	the data    mistake.go page.go output.go versionset.go adapt.go terms.go model.go resolved.go raises.go
//	            examples.go facts.go
//	settings    setting.go settings.go access.go answers.go versions.go problems.go
//	resolving   builder.go plan.go resolve.go inherit.go checks.go
//	a request   state.go advise.go fail.go step.go link.go send.go content.go typed.go miss.go handlers.go
//	the API     catalogue.go describe.go route.go published.go build.go api.go handed.go drain_linux.go drain_other.go
//	            drain.go serve.go
package wicketway
