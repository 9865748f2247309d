// Package translate turns errors of stores into problems, for wicketway.Translate: a missing row into a 404, a
// value that is there already into a 409. The packages below it know the errors of one store each, so that a
// program links only the one that it uses.
//
//	wicketway.Translate(translate.NoRows(ErrNoSuchPassage), sqlite.Errors(translate.Settings{Exists: ErrSlotTaken}))
package translate

import (
	"cmp"
	"database/sql"
	"errors"
	"net/http"
	"time"

	"github.com/wicketway/wicketway/problem"
)

// The kinds where [Settings] names none. A route names them in its Fails.
var (
	ErrExists = problem.Define(http.StatusConflict, "already-exists", "The value exists already").
			Means("The member columns, where there is one, names what must be unique.")
	ErrMissing = problem.Define(http.StatusUnprocessableEntity, "value-missing", "A value is missing").
			Means("The member columns, where there is one, names it.")
	ErrReference = problem.Define(
		http.StatusConflict, "reference-broken", "The value refers to something that does not exist, or is referred to",
	)
	ErrRefused = problem.Define(http.StatusUnprocessableEntity, "value-refused", "The value breaks a rule of the store")
	ErrTooLong = problem.Define(http.StatusUnprocessableEntity, "value-too-long", "The value is too long")
	ErrBusy    = problem.Define(http.StatusServiceUnavailable, "store-busy", "The store is busy").
			Means("Nothing was changed. The field Retry-After says in how many seconds to try again.").
			Sends("Retry-After")
)

// Settings name the kinds of problem that failures of a store become. The zero Settings are those of this
// package.
type Settings struct {
	Exists    *problem.Kind // a value that must be unique is there already
	Missing   *problem.Kind // a value that must not be null is
	Reference *problem.Kind // a foreign key leads nowhere, or something leads here
	Refused   *problem.Kind // a check does not hold
	TooLong   *problem.Kind // a value has too many characters or digits
	Busy      *problem.Kind // a lock, a deadlock, or a transaction that cannot be put in order
	// Columns tells callers the columns that are concerned, where the store names them, as the member columns.
	// Without it only the log has them.
	Columns bool
}

// A Failure is one of the failures that all stores report.
type Failure uint8

const (
	Exists Failure = iota + 1
	Missing
	Reference
	Refused
	TooLong
	Busy
)

// Problem is the problem for a failure about some columns.
func (s Settings) Problem(of Failure, columns []string, cause error) error {
	var p *problem.Problem
	switch of {
	case Exists:
		p = cmp.Or(s.Exists, ErrExists).New("")
	case Missing:
		p = cmp.Or(s.Missing, ErrMissing).New("")
	case Reference:
		p = cmp.Or(s.Reference, ErrReference).New("")
	case Refused:
		p = cmp.Or(s.Refused, ErrRefused).New("")
	case TooLong:
		p = cmp.Or(s.TooLong, ErrTooLong).New("")
	case Busy:
		p = cmp.Or(s.Busy, ErrBusy).New("").RetryAfter(time.Second)
	default:
		return nil
	}
	if s.Columns && len(columns) > 0 {
		p.With("columns", columns)
	}
	return p.Because(cause)
}

// NoRows turns sql.ErrNoRows into a problem of a kind; problem.NotFound where that is nil.
func NoRows(as *problem.Kind) func(error) error {
	return func(err error) error {
		if !errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		return cmp.Or(as, problem.NotFound).New("").Because(err)
	}
}
