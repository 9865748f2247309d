package facts

// ServiceDoc is attached to a GET route without parameters that serves documentation for people, so that answers lead to it
// by the relation service-doc (RFC 8631, 2.2):
//
//	wicketway.Handle("GET /manual", manual, wicketway.Attach(facts.ServiceDoc{}))
//
// It is plain data: to be copied, and shared.
type ServiceDoc struct {
	// Problems is where kinds of problem are described: the path below that of the route which a code is put behind, such as
	// problems/. Callers that ask for the address of a kind and prefer HTML are led there, unless a guard is around the route.
	// "": it describes none.
	Problems string `json:"problems,omitzero"`
	// Trails is where it is shown what happened to a request: the path below that of the route which the id of a request is
	// put behind, such as trail/. "": it does not show that.
	Trails string `json:"trails,omitzero"`
}

// About is attached to routes that are about an API and no part of what it does, such as documentation and health checks: no
// trail is kept of their requests. It is plain data: to be copied, and shared.
type About struct{}

// Trails is attached to the GET route without parameters that lists what happened to the last requests, so that pages and
// tools find it. It is plain data: to be copied, and shared.
type Trails struct{}

// TrailsRelation is the relation by which an api-catalog leads to the trails of an API: an extension relation type (RFC 8288,
// 2.1.2).
const TrailsRelation = "https://github.com/wicketway/wicketway/observe/trail"
