package wicketway

import (
	"context"
	"io/fs"
	"net/http"
	"reflect"
	"strings"

	"github.com/wicketway/wicketway/adapt"
	"github.com/wicketway/wicketway/internal/here"
)

// Route declares a route. The line reads like HTTP's own request line: a method,
// a space, a path template. The function gets an input that has been read and
// checked, and its output is sent as JSON. It is called by many requests at a
// time; its context is the request's, and ends when the caller leaves.
func Route[In, Out any](line string, serve func(ctx context.Context, in In) (Out, error), settings ...Setting) Part {
	at, _ := here.By()
	return needs(&routePart{
		at:       at,
		line:     line,
		settings: settings,
		function: functionOf(serve),
		value:    closureOf(serve),
		in:       reflect.TypeFor[In](),
		out:      outputOf(reflect.TypeFor[Out]()),
		serve:    func(*target) endpoint { return &typed[In, Out]{call: serve} },
	}, serve, "function")
}

// Adapted declares a route of an older version over the function that serves the newer one: in says
// what its input, or the body of it, looked like, and out the same of its output, or of what that
// holds: the value of a [Reply] or a [Created], the items of a list, a [Page] or a [Stream], each by
// itself. Links, conditions and tags are those of the older version.
//
//	wicketway.Adapted("GET /passages/{passage}", desk.Find, adapt.Same(), oldPassage)
//
// An old input keeps the rules of its own type, and what it becomes those of the function's: faults
// of the latter are told at the place where the old input has the member.
func Adapted[In, Out any](
	line string, serve func(ctx context.Context, in In) (Out, error), in, out adapt.Adapter, settings ...Setting,
) Part {
	p := &routePart{
		at:       here.Here(0),
		line:     line,
		settings: settings,
		function: functionOf(serve),
		value:    closureOf(serve),
		in:       reflect.TypeFor[In](),
		out:      outputOf(reflect.TypeFor[Out]()),
		serve:    func(t *target) endpoint { return &typed[In, Out]{call: serve, adapted: t.adapted} },
	}
	p.adapts = &adaptation{in: in.Declared(), out: out.Declared()}
	return needs(p, serve, "function")
}

// Handle declares a route that a plain handler serves. It reads its parameters
// with r.PathValue, and reports failure with [Fail]. Where it has a method Check() error, Build asks it
// mistakes in it.
func Handle(line string, h http.Handler, settings ...Setting) Part {
	at, _ := here.By()
	return needs(&routePart{
		at:       at,
		what:     handlerPart,
		line:     line,
		settings: settings,
		serve:    func(*target) endpoint { return plain{h} },
	}, h, "handler")
}

// Mount puts a foreign handler under a prefix, for all methods and all paths
// below it. The handler sees the path without the prefix. Routes that are more
// specific than the prefix still come first.
func Mount(prefix string, h http.Handler, settings ...Setting) Part {
	return needs(&routePart{
		at:       here.Here(0),
		what:     mountPart,
		line:     anyMethod + " " + strings.TrimSuffix(prefix, "/") + "/{+mounted}",
		settings: settings,
		serve:    func(t *target) endpoint { return mounted{h, t.rest()} },
	}, h, "handler")
}

// Files serves the files of a file system under a prefix, to GET and HEAD, with
// conditional and range requests (RFC 9110, 13 and 14). A folder answers with its
// index.html, and without one it is not found (but see [Listing]). Files and
// folders whose name starts with a dot are never served, nor is anything outside
// of the file system; to keep symbolic links inside a folder too, use the file
// system of an os.Root. A path at which no file is counts as if the Files were not there:
// another route's slash or method may be meant, and else nothing is found. One that may not be read is logged, too;
// a [Translate] that makes a 403 of fs.ErrPermission tells callers that it is there.
func Files(prefix string, files fs.FS, settings ...Setting) Part {
	readable := func() error {
		_, err := fs.Stat(files, ".")
		return err
	}
	return needs(&routePart{
		readable: readable,
		at:       here.Here(0),
		what:     filesPart,
		line:     http.MethodGet + " " + strings.TrimSuffix(prefix, "/") + "/{+file}",
		settings: settings,
		serve: func(t *target) endpoint {
			return &fileServer{files: files, rest: t.rest(), listing: t.terms().listing}
		},
	}, files, "file system")
}

// Withdraw is in a version that inherits, and takes one of the inherited routes back: requests
// get 410 (RFC 9110, 15.5.11) and problem.Withdrawn, with a Link to the route in the version before
// (predecessor-version, RFC 5829) where that has a path of its own. It passes the chain and the guard
// like any route of the version.
func Withdraw(line string, settings ...Setting) Part {
	return &routePart{at: here.Here(0), what: handlerPart, line: line, settings: settings, withdrawn: true,
		serve: func(t *target) endpoint { return withdrawn{t} }}
}

// needs notes what is missing where what serves a route is nil.
func needs(p *routePart, value any, name string) Part {
	if isNil(value) {
		p.missing = name
	}
	if p.what == handlerPart || p.what == mountPart {
		p.handler = value
	}
	return p
}

// At puts parts under a path prefix, which may hold parameters.
func At(prefix string, parts ...Part) Part {
	at, _ := here.By()
	return group{at: at, kind: atGroup, prefix: prefix, parts: parts}
}

// Group puts parts together that share settings.
func Group(parts ...Part) Part {
	at, _ := here.By()
	return group{at: at, kind: plainGroup, parts: parts}
}

// InDevelopment puts parts, settings among them, into the list that it is in where that is in [Development]; elsewhere they
// count as if they were not written down.
func InDevelopment(parts ...Part) Part {
	at, _ := here.By()
	return group{at: at, kind: developmentGroup, parts: parts}
}

// Version puts parts under a version of the API. It is served under a path prefix of its name,
// Version("v2", ...) under /v2, unless [VersionBy] says otherwise.
func Version(name string, parts ...Part) Part {
	return group{at: here.Here(0), kind: versionGroup, version: name, parts: parts}
}
