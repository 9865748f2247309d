package statements_test

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/wicketway/wicketway"
	"github.com/wicketway/wicketway/observe/statements"
	"github.com/wicketway/wicketway/observe/trail"
	"github.com/wicketway/wicketway/problem"
)

// A fake is a database that takes any statement. Those with the word wrong in them fail, and each touches two rows.
type fake struct{ closed bool }

func (f *fake) Connect(context.Context) (driver.Conn, error) { return &fakeConn{}, nil }
func (f *fake) Driver() driver.Driver                        { return connectingDriver{} }
func (f *fake) Close() error                                 { f.closed = true; return nil }

type fakeConn struct{ left int }

var errWrong = errors.New("constraint failed")

func (c *fakeConn) Close() error              { return nil }
func (c *fakeConn) Begin() (driver.Tx, error) { return c, nil }
func (c *fakeConn) Commit() error             { return nil }
func (c *fakeConn) Rollback() error           { return nil }
func (c *fakeConn) Prepare(query string) (driver.Stmt, error) {
	return &fakeStmt{c, query}, nil
}
func (c *fakeConn) BeginTx(context.Context, driver.TxOptions) (driver.Tx, error) { return c, nil }
func (c *fakeConn) CheckNamedValue(*driver.NamedValue) error                     { return nil }
func (c *fakeConn) ExecContext(_ context.Context, query string, _ []driver.NamedValue) (driver.Result, error) {
	if strings.Contains(query, "wrong") {
		return nil, errWrong
	}
	return driver.RowsAffected(2), nil
}
func (c *fakeConn) QueryContext(_ context.Context, query string, _ []driver.NamedValue) (driver.Rows, error) {
	if strings.Contains(query, "wrong") {
		return nil, errWrong
	}
	return &fakeConn{left: 2}, nil
}
func (c *fakeConn) Columns() []string { return []string{"n"} }
func (c *fakeConn) Next(to []driver.Value) error {
	if c.left--; c.left < 0 {
		return io.EOF
	}
	to[0] = int64(c.left)
	return nil
}

type fakeStmt struct {
	*fakeConn
	query string
}

func (s *fakeStmt) NumInput() int { return -1 }
func (s *fakeStmt) Exec([]driver.Value) (driver.Result, error) {
	return s.ExecContext(context.Background(), s.query, nil)
}
func (s *fakeStmt) Query([]driver.Value) (driver.Rows, error) {
	return s.QueryContext(context.Background(), s.query, nil)
}

// A mute connection runs no statement by itself.
type mute struct{ driver.Conn }

type muteConnector struct{ fake }

func (*muteConnector) Connect(context.Context) (driver.Conn, error) { return mute{&fakeConn{}}, nil }

// run serves one request by a function, and gives its trail.
func run(t testing.TB, db *sql.DB, header string, serve func(ctx context.Context, db *sql.DB) error) (one trail.Trail, text string) {
	t.Helper()
	var trails trail.Trails
	api, err := wicketway.Build(wicketway.Info{Title: "Locks", Version: "1"}, wicketway.Development(), wicketway.Log(slog.New(slog.DiscardHandler)), trails.Parts("/trails"),
		wicketway.Route("GET /{token}", func(ctx context.Context, in struct {
			Token string `from:"path token"`
		}) (string, error) {
			return "done", serve(ctx, db)
		}))
	if err != nil {
		t.Fatal(err)
	}
	r := httptest.NewRequest("GET", "/sedge-warbler", nil)
	if header != "" {
		r.Header.Set("Wicketway-Raise", header)
	}
	api.ServeHTTP(httptest.NewRecorder(), r)
	w := httptest.NewRecorder()
	api.ServeHTTP(w, httptest.NewRequest("GET", "/trails/1", nil))
	one, found := trails.Find("1")
	if !found {
		t.Fatal("there is no trail")
	}
	return one, w.Body.String()
}

// asked are the statements of a trail in a few words.
func asked(one trail.Trail) string {
	var all []string
	for _, e := range one.Events {
		switch e.Kind {
		case trail.Statement:
			line := fmt.Sprintf("%s [%s] %d", e.Text, strings.Join(e.Values, ", "), e.Rows)
			if e.Error != "" {
				line += " " + e.Error
			}
			all = append(all, line)
		case trail.Begin, trail.Commit, trail.Rollback:
			all = append(all, strings.TrimSpace(string(e.Kind)+" "+e.Text+" "+e.Error))
		}
	}
	return strings.Join(append(all, one.Notes...), "; ")
}

// Every value says what it is for, and none of a secret is shown: not even where nobody can tell.
func TestValues(t *testing.T) {
	db := sql.OpenDB(statements.Watch(&fake{}))
	defer db.Close()
	for _, c := range []struct {
		query  string
		values []any
		want   string
	}{
		{"SELECT a\n\tFROM  locks -- of pin\n WHERE slug = ?", []any{"bell"}, `SELECT a FROM locks WHERE slug = ? [slug = "bell"]`},
		{"SELECT 1 FROM vessels WHERE plate = ? AND pin = ?", []any{"OB-1", "heron"}, `SELECT 1 FROM vessels WHERE plate = ? AND pin = ? [plate = "OB-1", pin = [redacted]]`},
		{"SELECT 1 FROM vessels WHERE ? = pin", []any{"heron"}, `SELECT 1 FROM vessels WHERE ? = pin [pin = [redacted]]`},
		{"SELECT 1 FROM vessels WHERE pin IN (?, ?)", []any{"heron", "heron2"}, `SELECT 1 FROM vessels WHERE pin IN ( ?, ?) [pin = [redacted], pin = [redacted]]`},
		{"SELECT 1 FROM v WHERE lower(v.pin) = lower(?)", []any{"heron"}, `SELECT 1 FROM v WHERE lower(v.pin) = lower(?) [pin = [redacted]]`},
		{"INSERT INTO vessels (plate, pin, crew) VALUES (?, ?, ?), (?, upper(?), ?)", []any{"A", "heron", 3, "B", "heron2", 4},
			`INSERT INTO vessels (plate, pin, crew) VALUES (?, ?, ?), (?, upper(?), ?) [plate = "A", pin = [redacted], crew = 3, plate = "B", pin = [redacted], crew = 4]`},
		{"INSERT INTO pins VALUES (?, ?)", []any{"heron", 2}, `INSERT INTO pins VALUES (?, ?) ["heron", 2]`},
		{"INSERT INTO vessels SELECT ?, pin FROM old", []any{"heron"}, `INSERT INTO vessels SELECT ?, pin FROM old [[redacted]]`},
		{"UPDATE vessels SET \"telephone\" = $2 WHERE plate = $1", []any{"OB-1", "0700"}, `UPDATE vessels SET "telephone" = $2 WHERE plate = $1 [plate = "OB-1", telephone = [redacted]]`},
		{"UPDATE vessels SET pin = 'heron', crew = 3 WHERE plate = 'OB-1'", nil, `UPDATE vessels SET pin = [redacted], crew = 3 WHERE plate = 'OB-1' []`},
		{"SELECT 1 WHERE a = :lock AND b = :pin", []any{sql.Named("lock", "bell"), sql.Named("pin", "heron")}, `SELECT 1 WHERE a = :lock AND b = :pin [lock = "bell", pin = [redacted]]`},
		{"SELECT 1 WHERE slug = ? AND x = ?", []any{"sedge-warbler", []byte("heron")}, `SELECT 1 WHERE slug = ? AND x = ? [slug = "[redacted]", x = (5 bytes)]`},
		{"SELECT a::text FROM b WHERE c = ?", []any{nil}, `SELECT a::text FROM b WHERE c = ? [c = null]`},
		{"SELECT 1 WHERE a = :x AND pin = :y AND b = :x", []any{sql.Named("y", "heron"), sql.Named("x", 1)}, `SELECT 1 WHERE a = :x AND pin = :y AND b = :x [y = [redacted], x = 1]`},
		{"SELECT 1 WHERE a = 'it\\'s' AND b = ?", []any{"heron"}, `SELECT 1 WHERE a = 'it\'s' AND b = ? [[redacted]]`},
		{"SELECT 'it''s", nil, `SELECT [redacted] []`},
	} {
		one, _ := run(t, db, "", func(ctx context.Context, db *sql.DB) error {
			_, err := db.ExecContext(ctx, c.query, c.values...)
			return err
		})
		got, _, _ := strings.Cut(asked(one), "] 2")
		if got = strings.ReplaceAll(got+"]", "( ", "("); got != strings.ReplaceAll(c.want, "( ", "(") {
			t.Errorf("%s\n got %s\nwant %s", c.query, got, c.want)
		}
	}
}

// What happened to stored data is told, and what should not have happened to it.
func TestTransactions(t *testing.T) {
	within := func(then func(ctx context.Context, tx *sql.Tx) error) func(context.Context, *sql.DB) error {
		return func(ctx context.Context, db *sql.DB) error {
			tx, err := db.BeginTx(ctx, &sql.TxOptions{ReadOnly: ctx.Value("read") != nil})
			if err != nil {
				return err
			}
			return then(ctx, tx)
		}
	}
	insert := func(ctx context.Context, tx *sql.Tx) { tx.ExecContext(ctx, "INSERT INTO a VALUES (1)") }
	db := sql.OpenDB(statements.Watch(&fake{}))
	defer db.Close()
	for _, c := range []struct {
		name, raise string
		serve       func(context.Context, *sql.DB) error
		want        string
	}{
		{"well", "", within(func(ctx context.Context, tx *sql.Tx) error { insert(ctx, tx); return tx.Commit() }),
			"begin; INSERT INTO a VALUES (1) [] 2; commit"},
		{"committed and failed", "", within(func(ctx context.Context, tx *sql.Tx) error {
			insert(ctx, tx)
			return errors.Join(tx.Commit(), problem.NotFound.New(""))
		}), "begin; INSERT INTO a VALUES (1) [] 2; commit; committed, although the answer is a problem: 404 not-found"},
		{"rolled back", "", within(func(ctx context.Context, tx *sql.Tx) error {
			_, err := tx.ExecContext(ctx, "INSERT INTO a VALUES ('wrong')")
			return errors.Join(tx.Rollback(), err)
		}), "begin; INSERT INTO a VALUES ('wrong') [] 0 constraint failed; rollback"},
		{"only read", "", func(ctx context.Context, db *sql.DB) error {
			tx, err := db.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
			return errors.Join(err, tx.Commit(), problem.NotFound.New(""))
		}, "begin read only; commit"},
		{"outside", "", func(ctx context.Context, db *sql.DB) error {
			db.ExecContext(ctx, "WITH b AS (SELECT 1) DELETE FROM a")
			return problem.NotFound.New("")
		}, "WITH b AS (SELECT 1) DELETE FROM a [] 2; stored data changed outside of a transaction, although the answer is a problem: 404 not-found"},
		{"left open", "", within(func(context.Context, *sql.Tx) error { return nil }), "begin; a transaction was still open when the request ended"},
		{"rows", "", func(ctx context.Context, db *sql.DB) error {
			s, err := db.PrepareContext(ctx, "SELECT n FROM a FOR UPDATE")
			if err != nil {
				return err
			}
			defer s.Close()
			rows, err := s.QueryContext(ctx)
			if err != nil {
				return err
			}
			for rows.Next() {
			}
			return errors.Join(rows.Err(), rows.Close(), problem.NotFound.New(""))
		}, "SELECT n FROM a FOR UPDATE [] 2"},
		{"rows that come back", "", func(ctx context.Context, db *sql.DB) error {
			return errors.Join(db.QueryRowContext(ctx, "UPDATE a SET b = 1 RETURNING n").Scan(new(int)), problem.NotFound.New(""))
		}, "UPDATE a SET b = 1 RETURNING n [] 1; stored data changed outside of a transaction, although the answer is a problem: 404 not-found"},
		{"lost", "lost=database", func(ctx context.Context, db *sql.DB) error {
			_, first := db.ExecContext(ctx, "DELETE FROM a")
			return errors.Join(first, db.QueryRowContext(ctx, "SELECT 1").Scan(new(int)), db.PingContext(ctx))
		}, "DELETE FROM a [] 0 read tcp: lost on purpose\nconnection reset by peer; SELECT 1 [] 0 read tcp: lost on purpose\nconnection reset by peer"},
	} {
		one, text := run(t, db, c.raise, c.serve)
		if got := asked(one); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, got, c.want)
		}
		if strings.Contains(text, "warbler") {
			t.Errorf("%s: a secret is in %s", c.name, text)
		}
		if c.name == "lost" && one.Status != http.StatusInternalServerError {
			t.Errorf("lost: %d", one.Status)
		}
	}
}

// What was opened is closed, and a driver that cannot be watched says so.
func TestConnectors(t *testing.T) {
	under := &fake{}
	db := sql.OpenDB(statements.Watch(under))
	if err := db.Ping(); err != nil {
		t.Error(err)
	}
	if err := db.Close(); err != nil || !under.closed {
		t.Errorf("the connector is not closed: %v", err)
	}
	db = sql.OpenDB(statements.Watch(&muteConnector{}))
	defer db.Close()
	if _, err := db.Exec("SELECT 1"); err == nil || !strings.Contains(err.Error(), "driver.ExecerContext") {
		t.Errorf("a mute one: %v", err)
	}
}

// A fakeDriver opens connections by itself, or by connectors.
type fakeDriver struct{}

func (fakeDriver) Open(string) (driver.Conn, error) { return &fakeConn{}, nil }

type connectingDriver struct{ fakeDriver }

func (connectingDriver) OpenConnector(name string) (driver.Connector, error) {
	if name == "wrong" {
		return nil, errWrong
	}
	return &fake{}, nil
}

// Outside of development a database is what sql.Open gives, with the driver itself.
func TestOpen(t *testing.T) {
	sql.Register("plain", fakeDriver{})
	sql.Register("connecting", connectingDriver{})
	for name, of := range map[string]driver.Driver{"plain": fakeDriver{}, "connecting": connectingDriver{}} {
		for _, mode := range []string{"", "0", "1", "perhaps"} {
			t.Setenv("WICKETWAY_DEVELOPMENT", mode)
			db, err := statements.Open(name, "canal")
			if err != nil {
				t.Fatal(err)
			}
			if is := db.Driver() == of; is != (mode != "1") {
				t.Errorf("%s in %q: the driver itself is %v", name, mode, is)
			}
			t.Setenv("WICKETWAY_DEVELOPMENT", "")
			one, _ := run(t, db, "", func(ctx context.Context, db *sql.DB) error {
				_, err := db.ExecContext(ctx, "DELETE FROM a")
				return err
			})
			if watched := strings.HasPrefix(asked(one), "DELETE"); watched != (mode == "1") {
				t.Errorf("%s in %q: it is watched: %v", name, mode, watched)
			}
			db.Close()
		}
	}
	t.Setenv("WICKETWAY_DEVELOPMENT", "1")
	for name, source := range map[string]string{"connecting": "wrong", "nobody": "canal"} {
		if _, err := statements.Open(name, source); err == nil {
			t.Errorf("%s opens %s", name, source)
		}
	}
}

// Whatever a statement is, it is noted without panic, and a value of a secret's column is not in it.
func FuzzStatement(f *testing.F) {
	for _, s := range []string{"SELECT 1 WHERE a = ?", "INSERT INTO a (pin) VALUES (?)", "'", "/*", "$1", ":a", "--", "?9", "\"pin", "'it\\'s'"} {
		f.Add(s)
	}
	db := sql.OpenDB(statements.Watch(&fake{}))
	f.Fuzz(func(t *testing.T, query string) {
		one, _ := run(t, db, "", func(ctx context.Context, db *sql.DB) error {
			_, err := db.ExecContext(ctx, query+" AND pin = ?", "kingfisher-7")
			return err
		})
		if strings.Contains(asked(one), "kingfisher-7") && !strings.Contains(query, "kingfisher") {
			t.Errorf("the secret of %q is in %s", query, asked(one))
		}
	})
}
