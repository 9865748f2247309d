// Package tokens gives skippers a token for their plate and PIN, and takes it back.
package tokens

import (
	"context"
	"net/http"
	"sync"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/auth"
	"github.com/wicketway/wicketway/chain/limit"
	"github.com/wicketway/wicketway/examples/canal/store"
	"github.com/wicketway/wicketway/problem"
)

// What stands in the way of a token.
var (
	// ErrWrongPIN is raised where plate and PIN do not go together; which of them is wrong is not
	// said.
	ErrWrongPIN = problem.Forbidden.Define(http.StatusForbidden, "wrong-pin", "Plate and PIN do not go together")
	// ErrTooManyPINs is raised after repeated wrong PINs, whether there is such a vessel or not.
	ErrTooManyPINs = problem.Define(http.StatusTooManyRequests, "too-many-pins", "Too many PINs were wrong").
			Means("The field Retry-After says in how many seconds to try again.")
)

// Lifetime is how long a token is good for.
const Lifetime = 12 * time.Hour

// How many PINs of one plate may be wrong within a time, and how many plates are counted.
const (
	mostWrong   = 5
	wrongWithin = time.Minute
	mostPlates  = 10_000
)

// A Desk gives out tokens.
type Desk struct {
	Store *store.Store
	// Guard takes the tokens, and has the key that they are signed with.
	Guard wicketway.Authenticator
	// Revoked are the tokens that were taken back.
	Revoked *auth.Revocations

	mu    sync.Mutex
	wrong map[string]attempts // by plate
}

type attempts struct {
	count int
	since time.Time
}

// Parts are the routes.
func (d *Desk) Parts() wicketway.Part {
	return wicketway.At("/tokens",
		wicketway.Chain(limit.Requests(limit.Rate{Requests: 60, Per: time.Minute, Name: "tokens"}, limit.ByAddress(), limit.Settings{})),
		wicketway.Route("POST /", d.signIn, wicketway.Public(), wicketway.Summary("A token for plate and PIN"),
			wicketway.Answers(http.StatusCreated), wicketway.Fails(ErrWrongPIN, ErrTooManyPINs)),
		wicketway.Route("DELETE /current", d.signOut, wicketway.Summary("Takes back the token that is sent")),
	)
}

type login struct {
	Vessel string `json:"vessel" rule:"pattern='^[A-Z]{2}-[0-9]{4}$'" note:"Registration plate"`
	PIN    string `json:"pin" rule:"pattern='^[0-9]{4}$' writeOnly"`
}

// Token is the answer, in the terms of RFC 6749, 5.1.
type Token struct {
	AccessToken string `json:"access_token"`
	TokenType   string `json:"token_type"`
	ExpiresIn   int    `json:"expires_in" note:"Seconds"`
}

func (d *Desk) signIn(ctx context.Context, in login) (Token, error) {
	if wait := d.wait(in.Vessel); wait > 0 {
		return Token{}, ErrTooManyPINs.New("Wait before you try again.").RetryAfter(wait)
	}
	good, err := d.Store.CheckPIN(ctx, in.Vessel, in.PIN)
	if err != nil {
		return Token{}, err
	}
	if !good {
		d.note(in.Vessel)
		return Token{}, ErrWrongPIN.New("Check the plate and the PIN on the vessel's registration.")
	}
	text, err := auth.Issue(d.Guard, auth.NewToken{Subject: in.Vessel, Scopes: []string{"passages"}, Lifetime: Lifetime})
	return Token{AccessToken: text, TokenType: "Bearer", ExpiresIn: int(Lifetime.Seconds())}, err
}

// wait is how long nobody may try a plate.
func (d *Desk) wait(plate string) time.Duration {
	d.mu.Lock()
	defer d.mu.Unlock()
	a := d.wrong[plate]
	if left := wrongWithin - time.Since(a.since); a.count >= mostWrong && left > 0 {
		return left
	}
	return 0
}

// note counts a wrong PIN. What is over is forgotten; where too many plates are tried at once the
// count begins anew.
func (d *Desk) note(plate string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.wrong == nil || len(d.wrong) >= mostPlates {
		d.wrong = map[string]attempts{}
	}
	a := d.wrong[plate]
	if time.Since(a.since) > wrongWithin {
		a = attempts{since: time.Now()}
	}
	a.count++
	d.wrong[plate] = a
}

func (d *Desk) signOut(ctx context.Context, _ wicketway.None) (wicketway.None, error) {
	if t, ok := wicketway.Caller(ctx).Proof.(auth.Token); ok && t.ID != "" {
		d.Revoked.Add(t.ID, t.Expires)
	}
	return wicketway.None{}, nil
}
