// Package statements puts what a request asks its database into its trail (package observe/trail): statements with their
// values, the rows that they touched and their times, and where transactions begin and end.
//
//	db, err := statements.Open("sqlite", "file:canal.db")
//
// That is sql.Open, and no more, except in development. There it wraps the driver, and hands all calls on as they come: what a
// request asks has to have its context, as in QueryContext. Two things can be told from the driver itself: db.Driver() and
// sql.Conn.Raw give the wrapper.
//
// In the trail secrets are blanked: values of columns and parameters with the names of secrets, such as pin, password and
// telephone, in the statement or beside it, values that cannot be tied to a column where the statement has such a name in it,
// and those that the request had under such names. Bytes are counted only.
//
// A request with the field Wicketway-Raise: lost=database finds that the connection to the database is broken.
package statements

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/ngrok/sqlmw"

	"github.com/wicketway/wicketway/internal/development"
	"github.com/wicketway/wicketway/internal/lost"
	"github.com/wicketway/wicketway/observe/trail"
)

// Open is [sql.Open]. With WICKETWAY_DEVELOPMENT=1 in the environment the database is watched.
func Open(driverName, dataSourceName string) (*sql.DB, error) {
	db, err := sql.Open(driverName, dataSourceName)
	if on, _ := development.IsOn(); err != nil || !on { // Build reports an environment that says neither
		return db, err
	}
	by := db.Driver()
	if err := db.Close(); err != nil {
		return nil, err
	}
	with, is := by.(driver.DriverContext)
	if !is {
		return sql.OpenDB(Watch(source{by, dataSourceName})), nil
	}
	c, err := with.OpenConnector(dataSourceName)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(Watch(c)), nil
}

// Watch is a connector of which requests that leave a trail are watched, for [sql.OpenDB]. It watches in every mode: an API in
// which [wicketway.Development] is said, and not the environment, opens its database by it. Drivers whose connections run no
// statement by themselves (driver.ExecerContext) cannot be watched, and connecting fails.
//
// [wicketway.Development]: https://pkg.go.dev/github.com/wicketway/wicketway#Development
func Watch(c driver.Connector) driver.Connector {
	watched, _ := sqlmw.Driver(connecting{c}, watcher{}).(driver.DriverContext).OpenConnector("") // connecting does not fail
	if closes, is := c.(io.Closer); is {
		return closing{watched, closes}
	}
	return watched
}

// A source connects by a driver that has no connectors.
type source struct {
	by   driver.Driver
	name string
}

func (s source) Connect(context.Context) (driver.Conn, error) { return s.by.Open(s.name) }

func (s source) Driver() driver.Driver { return s.by }

// connecting is the driver of one connector.
type connecting struct{ driver.Connector }

func (c connecting) Open(string) (driver.Conn, error) { return c.Connect(context.Background()) }

func (c connecting) OpenConnector(string) (driver.Connector, error) { return c.Connector, nil }

// closing is a connector that is closed with its database.
type closing struct {
	driver.Connector
	io.Closer
}

// watcher notes what happens.
type watcher struct{ sqlmw.NullInterceptor }

// do does something for a request, unless that has lost its database, and notes it.
func do(ctx context.Context, e trail.Event, act func(e *trail.Event) error) error {
	began := time.Now()
	err := lost.Err(ctx, "database")
	if err == nil {
		err = act(&e)
	}
	if errors.Is(err, driver.ErrSkip) { // it is prepared instead
		return err
	}
	if err != nil {
		e.Error, e.Rows, e.Writes = err.Error(), 0, false
	}
	trail.Add(ctx, began, e)
	return err
}

func (watcher) ConnectorConnect(ctx context.Context, c driver.Connector) (conn driver.Conn, err error) {
	if err := lost.Err(ctx, "database"); err != nil {
		return nil, err
	}
	if conn, err = c.Connect(ctx); err != nil {
		return nil, err
	}
	if _, is := conn.(driver.ExecerContext); is {
		return conn, nil
	}
	return nil, errors.Join(fmt.Errorf("statements: the connections of %T run no statement by themselves (driver.ExecerContext), so they cannot be watched: use sql.Open", c.Driver()), conn.Close())
}

func (watcher) ConnPing(ctx context.Context, p driver.Pinger) error {
	if err := lost.Err(ctx, "database"); err != nil {
		return err
	}
	return p.Ping(ctx)
}

// readOnly is the key under which the context of a transaction says that it only reads.
type readOnly struct{}

func (watcher) ConnBeginTx(ctx context.Context, conn driver.ConnBeginTx, options driver.TxOptions) (_ context.Context, tx driver.Tx, err error) {
	e := trail.Event{Kind: trail.Begin}
	if options.ReadOnly {
		e.Text = "read only"
	}
	if level := sql.IsolationLevel(options.Isolation); level != sql.LevelDefault {
		e.Values = []string{level.String()}
	}
	err = do(ctx, e, func(*trail.Event) error {
		tx, err = conn.BeginTx(ctx, options)
		return err
	})
	return context.WithValue(ctx, readOnly{}, options.ReadOnly), tx, err
}

func (watcher) TxCommit(ctx context.Context, tx driver.Tx) error {
	return do(ctx, trail.Event{Kind: trail.Commit, Writes: ctx.Value(readOnly{}) == false}, func(*trail.Event) error { return tx.Commit() })
}

func (watcher) TxRollback(ctx context.Context, tx driver.Tx) error {
	began := time.Now() // a rollback is not lost: it is what the database does by itself
	err := tx.Rollback()
	e := trail.Event{Kind: trail.Rollback}
	if err != nil {
		e.Error = err.Error()
	}
	trail.Add(ctx, began, e)
	return err
}

func (watcher) ConnPrepareContext(ctx context.Context, conn driver.ConnPrepareContext, query string) (context.Context, driver.Stmt, error) {
	if err := lost.Err(ctx, "database"); err != nil {
		return ctx, nil, do(ctx, statement(ctx, query, nil), nil)
	}
	s, err := conn.PrepareContext(ctx, query)
	if err != nil {
		do(ctx, statement(ctx, query, nil), func(*trail.Event) error { return err })
	}
	return ctx, s, err
}

func (watcher) ConnExecContext(ctx context.Context, conn driver.ExecerContext, query string, values []driver.NamedValue) (result driver.Result, err error) {
	return run(ctx, query, values, func() (driver.Result, error) { return conn.ExecContext(ctx, query, values) })
}

func (watcher) StmtExecContext(ctx context.Context, s driver.StmtExecContext, query string, values []driver.NamedValue) (result driver.Result, err error) {
	return run(ctx, query, values, func() (driver.Result, error) { return s.ExecContext(ctx, values) })
}

// run runs a statement that gives no rows.
func run(ctx context.Context, query string, values []driver.NamedValue, by func() (driver.Result, error)) (result driver.Result, err error) {
	err = do(ctx, statement(ctx, query, values), func(e *trail.Event) error {
		if result, err = by(); err != nil || result == nil || !trail.Keeps(ctx) {
			return err
		}
		if e.Rows, err = result.RowsAffected(); err != nil {
			e.Rows, err = -1, nil // the driver does not say
		}
		e.Writes = e.Writes && e.Rows != 0
		return nil
	})
	return result, err
}

func (watcher) ConnQueryContext(ctx context.Context, conn driver.QueryerContext, query string, values []driver.NamedValue) (context.Context, driver.Rows, error) {
	return ask(ctx, query, values, func() (driver.Rows, error) { return conn.QueryContext(ctx, query, values) })
}

func (watcher) StmtQueryContext(ctx context.Context, s driver.StmtQueryContext, query string, values []driver.NamedValue) (context.Context, driver.Rows, error) {
	return ask(ctx, query, values, func() (driver.Rows, error) { return s.QueryContext(ctx, values) })
}

// An asking is a statement whose rows are being read. Its key finds it in the context of the rows.
type asking struct {
	began time.Time
	event trail.Event
	noted bool
}

type askingKey struct{}

// ask asks for rows. It is noted once they have been read, or given up.
func ask(ctx context.Context, query string, values []driver.NamedValue, by func() (driver.Rows, error)) (context.Context, driver.Rows, error) {
	one := &asking{began: time.Now(), event: statement(ctx, query, values)}
	var rows driver.Rows
	err := lost.Err(ctx, "database")
	if err == nil {
		rows, err = by()
	}
	if err != nil {
		return ctx, nil, do(ctx, one.event, func(*trail.Event) error { return err })
	}
	return context.WithValue(ctx, askingKey{}, one), rows, nil
}

func (watcher) RowsNext(ctx context.Context, rows driver.Rows, into []driver.Value) error {
	err := rows.Next(into)
	if one, is := ctx.Value(askingKey{}).(*asking); is {
		switch {
		case err == nil:
			one.event.Rows++
		case !errors.Is(err, io.EOF):
			one.event.Error = err.Error()
		}
	}
	return err
}

func (watcher) RowsClose(ctx context.Context, rows driver.Rows) error {
	err := rows.Close()
	if one, is := ctx.Value(askingKey{}).(*asking); is && !one.noted {
		one.noted = true
		one.event.Writes = one.event.Writes && one.event.Rows > 0 && one.event.Error == ""
		trail.Add(ctx, one.began, one.event)
	}
	return err
}
