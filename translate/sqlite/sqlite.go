// Package sqlite turns the errors of modernc.org/sqlite into problems.
package sqlite

import (
	"errors"
	"strings"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"

	"github.com/wicketway/wicketway/translate"
)

// failures are those by result code (sqlite.org/rescode.html). SQLite has no limit for texts but that of a
// whole value.
var failures = map[int]translate.Failure{
	lib.SQLITE_CONSTRAINT_UNIQUE:     translate.Exists,
	lib.SQLITE_CONSTRAINT_PRIMARYKEY: translate.Exists,
	lib.SQLITE_CONSTRAINT_ROWID:      translate.Exists,
	lib.SQLITE_CONSTRAINT_NOTNULL:    translate.Missing,
	lib.SQLITE_CONSTRAINT_FOREIGNKEY: translate.Reference,
	lib.SQLITE_CONSTRAINT_TRIGGER:    translate.Reference,
	lib.SQLITE_CONSTRAINT_CHECK:      translate.Refused,
	lib.SQLITE_CONSTRAINT_DATATYPE:   translate.Refused,
	lib.SQLITE_MISMATCH:              translate.Refused,
	lib.SQLITE_TOOBIG:                translate.TooLong,
	lib.SQLITE_BUSY:                  translate.Busy,
	lib.SQLITE_BUSY_SNAPSHOT:         translate.Busy,
	lib.SQLITE_BUSY_RECOVERY:         translate.Busy,
	lib.SQLITE_LOCKED:                translate.Busy,
	lib.SQLITE_LOCKED_SHAREDCACHE:    translate.Busy,
}

// Errors gives a function for wicketway.Translate. Other errors than these are not known to it: they stay a
// 500.
func Errors(s translate.Settings) func(error) error {
	return func(err error) error {
		e, ok := errors.AsType[*sqlite.Error](err)
		if !ok {
			return nil
		}
		return s.Problem(failures[e.Code()], columnsIn(e.Error()), err)
	}
}

// columnsIn reads the columns from a message: "UNIQUE constraint failed: passages.lock, passages.slot (2067)".
func columnsIn(message string) (columns []string) {
	_, list, ok := strings.Cut(message, "constraint failed: ")
	if !ok {
		return nil
	}
	list, _, _ = strings.Cut(list, " (")
	if i := strings.LastIndex(list, "failed: "); i >= 0 { // the driver puts its own words before
		list = list[i+len("failed: "):]
	}
	for column := range strings.SplitSeq(list, ", ") {
		if _, name, ok := strings.Cut(column, "."); ok {
			columns = append(columns, name)
		}
	}
	return columns
}
