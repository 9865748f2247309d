package translate_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	_ "modernc.org/sqlite"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/problem"
	"github.com/wicketway/wicketway/translate"
	"github.com/wicketway/wicketway/translate/postgres"
	"github.com/wicketway/wicketway/translate/sqlite"
)

const tables = `
PRAGMA foreign_keys = ON;
CREATE TABLE locks (lock TEXT PRIMARY KEY NOT NULL, width REAL NOT NULL CHECK (width > 0));
CREATE TABLE passages (id INTEGER PRIMARY KEY, lock TEXT NOT NULL REFERENCES locks, slot INTEGER, UNIQUE (lock, slot));
INSERT INTO locks VALUES ('bell', 5);
INSERT INTO passages VALUES (1, 'bell', 7);`

// Each failure of a store has its kind; the columns are told only where the user lets them out, and no value.
func TestFailures(t *testing.T) {
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	if _, err := db.Exec(tables); err != nil {
		t.Fatal(err)
	}
	exec := func(query string) error { _, err := db.Exec(query); return err }
	row := func(query string) error { var n int; return db.QueryRow(query).Scan(&n) }
	busy := func() error { // a second connection that may not wait
		path := t.TempDir() + "/canal.db"
		one, _ := sql.Open("sqlite", path)
		defer one.Close()
		if _, err := one.Exec("CREATE TABLE a (b); BEGIN IMMEDIATE; INSERT INTO a VALUES (1)"); err != nil {
			t.Fatal(err)
		}
		two, _ := sql.Open("sqlite", path+"?_pragma=busy_timeout(0)")
		defer two.Close()
		_, err := two.Exec("INSERT INTO a VALUES (2)")
		return err
	}
	pg := func(code, column, detail string) error {
		return fmt.Errorf("booking: %w", &pgconn.PgError{Code: code, ColumnName: column, Detail: detail, Message: "hush"})
	}
	known := []func(error) error{translate.NoRows(nil), postgres.NoRows(nil), sqlite.Errors(translate.Settings{Columns: true}), postgres.Errors(translate.Settings{Columns: true})}
	for _, c := range []struct {
		name    string
		err     error
		kind    *problem.Kind // nil: not known
		columns string
	}{
		{"no row", row("SELECT id FROM passages WHERE id = 9"), problem.NotFound, ""},
		{"unique", exec("INSERT INTO passages VALUES (2, 'bell', 7)"), translate.ErrExists, "lock slot"},
		{"primary key", exec("INSERT INTO locks VALUES ('bell', 4)"), translate.ErrExists, "lock"},
		{"row id", exec("INSERT INTO passages VALUES (1, 'bell', 8)"), translate.ErrExists, "id"},
		{"not null", exec("INSERT INTO locks VALUES ('heron', NULL)"), translate.ErrMissing, "width"},
		{"foreign key", exec("INSERT INTO passages VALUES (3, 'weir', 1)"), translate.ErrReference, ""},
		{"check", exec("INSERT INTO locks VALUES ('heron', -1)"), translate.ErrRefused, ""},
		{"busy", busy(), translate.ErrBusy, ""},
		{"bad SQL", exec("SELEKT"), nil, ""},
		{"another error", errors.New("wet"), nil, ""},
		{"PostgreSQL: no row", fmt.Errorf("find: %w", pgx.ErrNoRows), problem.NotFound, ""},
		{"PostgreSQL: unique", pg("23505", "", "Key (lock, slot)=(hush, 7) already exists."), translate.ErrExists, "lock slot"},
		{"PostgreSQL: not null", pg("23502", "width", ""), translate.ErrMissing, "width"},
		{"PostgreSQL: foreign key", pg("23503", "", "Key (lock)=(hush) is not present in table \"locks\"."), translate.ErrReference, "lock"},
		{"PostgreSQL: check", pg("23514", "", ""), translate.ErrRefused, ""},
		{"PostgreSQL: serialisation", pg("40001", "", ""), translate.ErrBusy, ""},
		{"PostgreSQL: too long", pg("22001", "", ""), translate.ErrTooLong, ""},
		{"PostgreSQL: syntax", pg("42601", "", ""), nil, ""},
	} {
		api, err := wicketway.Build(wicketway.Info{Title: "T", Version: "1"}, wicketway.Translate(known...),
			wicketway.Route("GET /x", func(context.Context, wicketway.None) (string, error) { return "", c.err }))
		if err != nil {
			t.Fatal(err)
		}
		w := httptest.NewRecorder()
		api.ServeHTTP(w, httptest.NewRequest("GET", "/x", nil))
		p, err := problem.Read(w.Result())
		if err != nil {
			t.Fatal(err)
		}
		want := problem.Internal
		if c.kind != nil {
			want = c.kind
		}
		columns := strings.NewReplacer("<nil>", "", "[", "", "]", "", `"`, "", ",", " ").Replace(fmt.Sprint(p.Members()["columns"]))
		if c.err == nil || w.Code != want.Status() || p.Kind().Code() != want.Code() || columns != c.columns || strings.Contains(w.Body.String(), "hush") ||
			(w.Header().Get("Retry-After") != "") != (want == translate.ErrBusy) {
			t.Errorf("%s: %v: %d %s (columns %q), want %s %q", c.name, c.err, w.Code, w.Body, columns, want.Code(), c.columns)
		}
	}
	quiet := sqlite.Errors(translate.Settings{Exists: problem.Forbidden})(exec("INSERT INTO passages VALUES (2, 'bell', 7)"))
	if p := problem.In(quiet); p == nil || p.Kind() != problem.Forbidden || len(p.Members()) != 0 || !strings.Contains(p.Error(), "passages.slot") {
		t.Errorf("a kind of the user's own, without columns: %v", quiet)
	}
}

// What a store refuses becomes a problem that the API declares.
func ExampleSettings() {
	db, _ := sql.Open("sqlite", ":memory:")
	defer db.Close()
	db.Exec("CREATE TABLE passages (lock TEXT, slot INTEGER, UNIQUE (lock, slot)); INSERT INTO passages VALUES ('bell', 7)")
	errSlotTaken := problem.Define(409, "slot-taken", "The slot is taken")
	api, _ := wicketway.Build(wicketway.Info{Title: "Canal", Version: "1.0.0"},
		wicketway.Translate(translate.NoRows(nil), sqlite.Errors(translate.Settings{Exists: errSlotTaken, Columns: true})),
		wicketway.Route("POST /passages", func(ctx context.Context, _ wicketway.None) (wicketway.None, error) {
			_, err := db.ExecContext(ctx, "INSERT INTO passages VALUES ('bell', 7)")
			return wicketway.None{}, err
		}, wicketway.Fails(errSlotTaken)))
	w := httptest.NewRecorder()
	api.ServeHTTP(w, httptest.NewRequest("POST", "/passages", nil))
	fmt.Print(w.Body)
	// Output: {"type":"/problems/slot-taken","title":"The slot is taken","status":409,"code":"slot-taken","columns":["lock","slot"]}
}
