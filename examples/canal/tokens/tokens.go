// Package tokens gives skippers a token for their plate and PIN, and takes it back.
package tokens

import (
	"cmp"
	"context"
	"net/http"
	"time"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/chain/auth"
	"github.com/wicketway/wicketway/chain/limit"
	"github.com/wicketway/wicketway/examples/canal/store"
	"github.com/wicketway/wicketway/exchange"
	"github.com/wicketway/wicketway/problem"
)

// ErrWrongPIN is raised where plate and PIN do not go together; which of them is wrong is not
// said.
var ErrWrongPIN = problem.Forbidden.Define(http.StatusForbidden, "wrong-pin", "Wrong plate or PIN")

// Lifetime is how long a token is good for.
const Lifetime = 12 * time.Hour

// A Desk gives out tokens.
type Desk struct {
	Store *store.Store
	// Guard takes the tokens, and has the key that they are signed with.
	Guard exchange.Authenticator
	// Revoked are the tokens that were taken back.
	Revoked auth.Revocations
	// Rate is how often an address may ask; 60 times a minute where it is zero.
	Rate limit.Rate
	// Wrong holds back those who try PINs.
	Wrong limit.Throttle
}

// Parts are the routes.
func (d *Desk) Parts() wicketway.Part {
	rate := cmp.Or(d.Rate, limit.Rate{Requests: 60, Per: time.Minute})
	rate.Name = "tokens"
	return wicketway.At(
		"/tokens",
		wicketway.Chain(limit.Requests(rate, limit.ByAddress(), limit.Settings{})),
		wicketway.Route("POST /", d.signIn, wicketway.Public(), wicketway.Summary("A token for plate and PIN"),
			wicketway.Answers(http.StatusCreated), wicketway.Fails(ErrWrongPIN, limit.ErrTooManyAttempts),
			wicketway.Example("a skipper", login{store.SamplePlate(0), store.SamplePIN(0)}, Token{"eyJhbGciOiJIUzI1NiJ9...", "Bearer", 43200})),
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
	good, err := d.Wrong.Try(ctx, in.Vessel, func() (bool, error) { return d.Store.CheckPIN(ctx, in.Vessel, in.PIN) })
	if err != nil {
		return Token{}, err
	}
	if !good {
		return Token{}, ErrWrongPIN.New("Check the plate and the PIN on the vessel's registration.")
	}
	text, err := auth.Issue(d.Guard, auth.NewToken{Subject: in.Vessel, Scopes: []string{"passages"}, Lifetime: Lifetime})
	return Token{AccessToken: text, TokenType: "Bearer", ExpiresIn: int(Lifetime.Seconds())}, err
}

func (d *Desk) signOut(ctx context.Context, _ wicketway.None) (wicketway.None, error) {
	if t, ok := wicketway.Caller(ctx).Proof.(auth.Token); ok && t.ID != "" {
		return wicketway.None{}, d.Revoked.Revoke(ctx, t.ID, t.Expires)
	}
	return wicketway.None{}, nil
}
