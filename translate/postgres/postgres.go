// Package postgres turns the errors of PostgreSQL, as github.com/jackc/pgx/v5 reports them, into problems.
package postgres

import (
	"errors"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/translate"
)

// failures are those by SQLSTATE (PostgreSQL, appendix A).
var failures = map[string]translate.Failure{
	"23505": translate.Exists,    // unique_violation
	"23P01": translate.Exists,    // exclusion_violation
	"23502": translate.Missing,   // not_null_violation
	"23503": translate.Reference, // foreign_key_violation
	"23001": translate.Reference, // restrict_violation
	"23514": translate.Refused,   // check_violation
	"22003": translate.TooLong,   // numeric_value_out_of_range
	"22001": translate.TooLong,   // string_data_right_truncation
	"40001": translate.Busy,      // serialization_failure
	"40P01": translate.Busy,      // deadlock_detected
	"55P03": translate.Busy,      // lock_not_available
	"57014": translate.Busy,      // query_canceled, as by a statement timeout
	"53300": translate.Busy,      // too_many_connections
}

// Errors gives a function for wicketway.Translate. Other errors than these are not known to it: they stay a
// 500.
func Errors(s translate.Settings) func(error) error {
	return func(err error) error {
		e, ok := errors.AsType[*pgconn.PgError](err)
		if !ok {
			return nil
		}
		return s.Problem(failures[e.Code], columnsOf(e), err)
	}
}

// columnsOf are the columns that an error is about. Of keys the detail names them: "Key (lock, slot)=(bell,
// 7) already exists."; the values in it are for the log alone.
func columnsOf(e *pgconn.PgError) []string {
	if e.ColumnName != "" {
		return []string{e.ColumnName}
	}
	list, ok := strings.CutPrefix(e.Detail, "Key (")
	if list, _, has := strings.Cut(list, ")="); ok && has {
		return strings.Split(list, ", ")
	}
	return nil
}

// NoRows turns pgx.ErrNoRows into a problem of a kind; problem.NotFound where that is nil.
func NoRows(as *problem.Kind) func(error) error {
	known := translate.NoRows(as) // pgx.ErrNoRows wraps that of database/sql
	return func(err error) error {
		if !errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		return known(err)
	}
}
