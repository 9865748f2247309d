// Package tokens gives skippers a token for their plate and PIN.
package tokens

import (
	"context"
	"net/http"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/examples/canal/store"
	"github.com/wicketway/wicketway/problem"
)

// ErrWrongPIN is raised where plate and PIN do not go together; which of them is
// wrong is not said.
var ErrWrongPIN = problem.Forbidden.Define(http.StatusForbidden, "wrong-pin", "Plate and PIN do not go together")

// Lifetime is how long a token is good for.
const Lifetime = 12 * time.Hour

// Parts is the one route.
func Parts(s *store.Store, secret []byte) wicketway.Part {
	return wicketway.Route("POST /tokens", func(ctx context.Context, in login) (Token, error) {
		good, err := s.CheckPIN(ctx, in.Vessel, in.PIN)
		if err != nil {
			return Token{}, err
		}
		if !good {
			return Token{}, ErrWrongPIN.New("Check the plate and the PIN on the vessel's registration.")
		}
		text, err := Sign(secret, in.Vessel, "passages", time.Now().Add(Lifetime))
		return Token{AccessToken: text, TokenType: "Bearer", ExpiresIn: int(Lifetime.Seconds())}, err
	},
		wicketway.Public(), wicketway.Summary("A token for plate and PIN"),
		wicketway.Answers(http.StatusCreated), wicketway.Fails(ErrWrongPIN))
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

// Sign makes a token.
func Sign(secret []byte, subject, scope string, expires time.Time) (string, error) {
	return jwt.NewWithClaims(jwt.SigningMethodHS256, jwt.MapClaims{
		"sub": subject, "scope": scope, "exp": expires.Unix(), "iat": time.Now().Unix(),
	}).SignedString(secret)
}
