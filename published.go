package wicketway

import (
	"context"
	"net/http"
	"strings"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/format"
	"github.com/wicketway/wicketway/internal/here"
	"github.com/wicketway/wicketway/problem"
)

// Contract gives the OpenAPI document (3.1) of a version: its routes, and those outside of all versions, except those that
// are [Unlisted]. The version "" has the latter alone. It is made at the first question, and then kept: it is shared, and
// not to be changed. It returns an error for a version that the API does not have.
func (a *API) Contract(version string) (*contract.Document, error) {
	if made, has := a.contracts.Load(version); has {
		return made.(*contract.Document), nil
	}
	made, err := contract.Of(a.Describe(), version)
	if err != nil {
		return nil, err
	}
	first, _ := a.contracts.LoadOrStore(version, made)
	return first.(*contract.Document), nil
}

// Contracts serves the contract of each version below a prefix, as JSON and in other formats, such as yaml.Format() of
// package contract/yaml: GET /contracts/v2, or /contracts/v2.yaml. An API without versions has one under the version in
// its [Info]. Whatever guard is around it is asked; it is in no contract itself.
//
//	wicketway.Contracts("/contracts", yaml.Format())
//
// Callers are led there: answers of OPTIONS, 404 and 405 have a Link with the relation service-desc (RFC 8631), and
// GET /.well-known/api-catalog lists the contracts of all versions (RFC 9727), without asking a guard.
func Contracts(prefix string, formats ...format.Format) Part {
	settings := []Setting{Name("contract"), Summary("The OpenAPI document of a version"), Fails(errNoContract)}
	if formats != nil {
		settings = append(settings, Formats(append([]format.Format{format.JSON()}, formats...)...),
			FormatChoice{By: []format.Way{format.BySuffix(), format.ByAccept()}})
	}
	at := here.Here(0) // all of it is declared there
	for i, one := range settings {
		if s, is := one.(setting); is {
			s.at = at
			settings[i] = s
		}
	}
	find := Route("GET /{version}", contractOf, settings...)
	if r, is := find.(*routePart); is {
		r.at = at
	}
	return group{at: at, kind: atGroup, prefix: prefix, parts: []Part{unlistedKind.sayAt(at, true), conditionalKind.sayAt(at, true), find}}
}

var errNoContract = problem.NotFound.Define(http.StatusNotFound, "no-contract", "The API has no such contract").
	Means("The detail lists those that it has.")

type contractIn struct {
	Version string `from:"path version"`
}

// contractOf gives the contract of the API that serves the request.
func contractOf(ctx context.Context, in contractIn) (*contract.Document, error) {
	a := stateOf(ctx).api
	for _, p := range a.published {
		if p.name == in.Version {
			return a.Contract(p.version)
		}
	}
	var names []string
	for _, p := range a.published {
		names = append(names, p.name)
	}
	return nil, errNoContract.Newf("There is no contract %q; available: %s.", in.Version, strings.Join(names, ", "))
}
