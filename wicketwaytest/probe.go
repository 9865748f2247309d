package wicketwaytest

import (
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/internal/probe"
)

// Probing says how [Probe] probes an API. The zero value probes what everybody may call.
type Probing struct {
	// Version is the one to probe; "": all, one after another.
	Version string
	// Tokens are those of callers. The first one that may call a route is used for it, so that there should be one for each
	// scope.
	Tokens []string
	// Other is the token of another caller, for whom things that the first one has created must not be there.
	Other string
	// Seed is where what is drawn begins: the same seed draws the same requests.
	Seed uint64
	// Draws is how many requests are drawn for each route; 0: 60.
	Draws int
	// Only are routes by name, or patterns of names such as "passages.*"; nil: all.
	Only []string
	// Safe leaves out whatever is not GET, HEAD or OPTIONS.
	Safe bool
	// Around is put around the API; nil: nothing.
	Around func(http.Handler) http.Handler
}

// Probe drives an API by its contract, without a socket, and fails the test for each answer that is not as the contract
// says. It sends good requests and wrong ones, with what must come back, and others that are drawn at the edges of every
// rule; it creates things, reads, changes and deletes them. What was tried, and which statuses of the contract no request
// has reached, is logged.
//
//	wicketwaytest.Probe(t, api, wicketwaytest.Probing{Tokens: []string{skipper, keeper}, Other: visitor})
//
// The requests change data: give it an API whose data may be lost. Each finding has the request as a line for a shell, made
// as small as it still shows what is wrong. Limits of rates are respected, so raise them for the test.
func Probe(t testing.TB, api *wicketway.API, p Probing) {
	t.Helper()
	versions := []string{p.Version}
	if p.Version == "" {
		versions = versionsOf(api)
	}
	for _, version := range versions {
		d, err := api.Contract(version)
		if err != nil {
			t.Fatalf("Probe: %v", err)
		}
		var h http.Handler = api
		if p.Around != nil {
			h = p.Around(api)
		}
		report, err := probe.Run(t.Context(), probe.Settings{
			Document: d, Send: probe.Handler(h), Tokens: p.Tokens, Other: p.Other, Seed: p.Seed, Draws: p.Draws, Only: p.Only, Safe: p.Safe,
		})
		if err != nil {
			t.Fatalf("Probe: %v", err)
		}
		var lines strings.Builder
		report.Print(&lines)
		t.Logf("Probe: version %q:\n%s", version, lines.String())
		for _, f := range report.Findings {
			t.Errorf("Probe: %s", f)
		}
	}
}

// versionsOf are those that have routes for a contract.
func versionsOf(api *wicketway.API) (all []string) {
	for _, r := range api.Routes() {
		if !slices.Contains(all, r.Version) && r.Version != "" && !r.Own && !r.Unlisted {
			all = append(all, r.Version)
		}
	}
	if all == nil {
		all = []string{""}
	}
	return all
}
