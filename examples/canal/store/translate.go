package store

import (
	"errors"
	"net/http"

	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/translate"
	"github.com/wicketway/wicketway/translate/sqlite"
)

// What the storage refuses, where a route has no better words for it.
var (
	ErrConflict = problem.Define(http.StatusConflict, "conflict", "Something else is there already").
			Means("The request contradicts stored data: a key is taken, or something is still referred to.")
	ErrRefused = problem.Define(http.StatusUnprocessableEntity, "storage-refused", "The value cannot be stored").
			Means("A value is missing or out of its bounds, though the input's own rules let it pass.")
)

// Translations turn the errors of the storage into problems, so that none shows as
// a failure of the server.
var Translations = []func(error) error{notThere, translate.NoRows(nil), sqlite.Errors(translate.Settings{
	Exists:    ErrConflict,
	Reference: ErrConflict,
	Missing:   ErrRefused,
	Refused:   ErrRefused,
	TooLong:   ErrRefused,
	Busy:      problem.Overloaded,
})}

func notThere(err error) error {
	if errors.Is(err, ErrNotThere) {
		return problem.NotFound.New("It does not exist.")
	}
	return nil
}
