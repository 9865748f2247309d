package exchange

import (
	"context"
	"net/http"
	"sync/atomic"

	"github.com/wicketway/wicketway/internal/writer"
	"github.com/wicketway/wicketway/problem"
)

// A Server answers what only the API that serves a request knows. Package wicketway implements it.
type Server interface {
	Request() *http.Request
	// Base is the context that came with the request.
	Base() context.Context
	// Route is the method and the template of the route; "" and "" where none takes the request.
	Route() (method, template string)
	Source() string
	Version() string
	Development() bool
	BodyLimit() int64
	BytesReceived() int64
	ChainSets() []string
	AtPath() (methods, fields []string)
	// Link builds the path of a route of the API.
	Link(name string, input any) (string, error)
	// Attached are the values that hold for the route, nearest first, each as [AsAttached] gives it.
	Attached() []any
	// Fail answers a request with an error.
	Fail(w http.ResponseWriter, r *http.Request, err error)
}

// A State is kept of each request while an API serves it. Package wicketway makes one for each
// request; all others ask [Of]. Fields that change after [State.Init] are atomic, since middleware may
// go on in another goroutine, even after the request has been answered.
type State struct {
	server Server
	around atomic.Pointer[State]
	caller atomic.Pointer[Identity]
	id     atomic.Pointer[string]
	failed atomic.Pointer[Failure]
	kept   atomic.Pointer[keptNode]

	unpacked atomic.Int64
}

type stateKey struct{}

// IsStateKey reports whether a key asks the context of a request for its *State.
func IsStateKey(key any) bool {
	_, is := key.(stateKey)
	return is
}

// StateOf is the state of the request that a context belongs to; nil outside of an API.
func StateOf(ctx context.Context) *State {
	s, _ := ctx.Value(stateKey{}).(*State)
	return s
}

// stateBehind finds the state of a request whose context a middleware has lost, by the writer that
// the middleware passed on.
func stateBehind(w http.ResponseWriter) *State {
	if own := writer.Behind(w); own != nil {
		if s, ok := own.Owner.(*State); ok {
			return s
		}
	}
	return nil
}

// Init readies the state of a request that a server has begun to serve.
func (s *State) Init(server Server) { s.server = server }

// Server returns the server of the request.
func (s *State) Server() Server { return s.server }

// Outer is the state of the API that this one is mounted in; nil where it is not.
func (s *State) Outer() *State { return s.outer() }

func (s *State) outer() *State {
	found := s.around.Load()
	if found == nil {
		if found = StateOf(s.server.Base()); found == nil {
			found = noState
		}
		s.around.Store(found)
	}
	if found == noState {
		return nil
	}
	return found
}

// noState is around a request that no other API has passed on.
var noState = &State{}

// Known notes the caller.
func (s *State) Known(caller *Identity) { s.caller.Store(caller) }

// Caller returns the caller that Known has noted; nil where it was not called for this API.
func (s *State) Caller() *Identity { return s.caller.Load() }

type keptNode struct {
	value any // a pointer to a kept value, which follows the node in memory
	next  *keptNode
}

// A Failure is the first thing that went wrong with a request. It is safe for concurrent use.
type Failure struct {
	// Err is the error with its causes, for logs.
	Err error
	// Problem was sent to the caller; nil where the caller had left, which Err says as [ErrCallerLeft].
	Problem *problem.Problem

	logged atomic.Bool
}
