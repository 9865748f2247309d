package store

import (
	"database/sql"
	"errors"
	"net/http"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"github.com/wicketway/wicketway/problem"
)

// What the storage refuses, where a route has no better words for it.
var (
	ErrConflict = problem.Define(http.StatusConflict, "conflict", "Something else is there already").
			Means("What was sent contradicts what is stored: a key is taken, or something is still referred to.")
	ErrRefused = problem.Define(http.StatusUnprocessableEntity, "storage-refused", "The value cannot be stored").
			Means("A value is missing or out of its bounds, though the input's own rules let it pass.")
)

// Translations turn the errors of the storage into problems, so that none shows as
// a failure of the server.
var Translations = []func(error) error{missingRow, takenKey, brokenRule, busy}

func missingRow(err error) error {
	if errors.Is(err, sql.ErrNoRows) || errors.Is(err, ErrNotThere) {
		return problem.NotFound.New("What was asked for is not there.")
	}
	return nil
}

func takenKey(err error) error {
	switch constraint(err) {
	case sqlite3.SQLITE_CONSTRAINT_UNIQUE, sqlite3.SQLITE_CONSTRAINT_PRIMARYKEY, sqlite3.SQLITE_CONSTRAINT_FOREIGNKEY:
		return ErrConflict.New("The change contradicts what is stored.")
	}
	return nil
}

func brokenRule(err error) error {
	switch constraint(err) {
	case sqlite3.SQLITE_CONSTRAINT_NOTNULL, sqlite3.SQLITE_CONSTRAINT_CHECK:
		return ErrRefused.New("A value is missing or out of its bounds.")
	}
	return nil
}

// busy is what SQLite says where others write for longer than it waits.
func busy(err error) error {
	switch constraint(err) & 0xff {
	case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
		return problem.Overloaded.New("The storage is busy.").RetryAfter(time.Second)
	}
	return nil
}

// constraint is SQLite's extended code of a broken constraint; 0 for other errors.
func constraint(err error) int {
	if e, ok := errors.AsType[*sqlite.Error](err); ok {
		return e.Code()
	}
	return 0
}
