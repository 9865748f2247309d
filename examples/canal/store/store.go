// Package store keeps the canal's locks, vessels and passages in one SQLite file.
package store

import (
	"context"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"database/sql"
	_ "embed"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"github.com/wicketway/wicketway/observe/statements"
)

//go:embed schema.sql
var schema string

// What the store cannot do. Everything else is a failure of the storage itself.
var (
	ErrNotThere = errors.New("store: no such row")
	ErrTaken    = errors.New("store: the slot is taken")
)

// A Lock lifts and lowers vessels.
type Lock struct {
	Slug   string
	Name   string
	Length float64 // of the chamber, in metres
	Width  float64
	State  string // open, closed, repair
}

// A Vessel is known by its registration plate.
type Vessel struct {
	Plate                 string
	Name                  string
	Length, Beam, Draught float64 // in metres
}

// A Passage takes a vessel through a lock.
type Passage struct {
	ID        int64
	Lock      string
	Vessel    string // its plate
	Direction string // up, down
	Slot      time.Time
	Crew      int
	Remark    *string
}

// A Store is safe for concurrent use.
type Store struct {
	db *sql.DB
}

// Open opens the file canal.db in dir, and fills it with sample data if it is new.
func Open(dir string) (*Store, error) {
	path := filepath.Join(dir, "canal.db")
	if err := writable(path); err != nil {
		return nil, err
	}
	db, err := statements.Open("sqlite",
		"file:"+path+"?_pragma=foreign_keys(1)&_pragma=journal_mode(wal)&_pragma=synchronous(normal)&_pragma=busy_timeout(5000)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	s := &Store{db}
	if err := s.prepare(); err != nil {
		db.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return s, nil
}

// writable finds out, in words that name the path, what SQLite would tell in its own.
func writable(path string) error {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	return f.Close()
}

func (s *Store) prepare() error {
	if _, err := s.db.Exec(schema); err != nil {
		return err
	}
	if err := s.fillNotices(); err != nil {
		return err
	}
	var n int
	if err := s.db.QueryRow(`SELECT count(*) FROM locks`).Scan(&n); err != nil || n > 0 {
		return err
	}
	return s.fill()
}

// Ping reports whether the file can be read.
func (s *Store) Ping(ctx context.Context) error {
	return s.db.QueryRowContext(ctx, `SELECT 1`).Scan(new(int))
}

// Close closes the file.
func (s *Store) Close() error { return s.db.Close() }

// Secret is what tokens are signed with; it is made once for each file.
func (s *Store) Secret() (secret []byte, err error) {
	err = s.db.QueryRow(`SELECT secret FROM secrets`).Scan(&secret)
	return secret, err
}

// Locks lists all locks, upstream first.
func (s *Store) Locks(ctx context.Context) ([]Lock, error) {
	return query(ctx, s.db, scanLock, `SELECT slug, name, length, width, state FROM locks ORDER BY place`)
}

// Lock finds a lock by its slug.
func (s *Store) Lock(ctx context.Context, slug string) (Lock, error) {
	return one(query(ctx, s.db, scanLock, lockBySlug, slug))
}

const lockBySlug = `SELECT slug, name, length, width, state FROM locks WHERE slug = ?`

// SetLockState opens or closes a lock.
func (s *Store) SetLockState(ctx context.Context, slug, state string) (Lock, error) {
	return one(query(ctx, s.db, scanLock,
		`UPDATE locks SET state = ? WHERE slug = ? RETURNING slug, name, length, width, state`, state, slug))
}

// Vessel finds a vessel by its plate.
func (s *Store) Vessel(ctx context.Context, plate string) (Vessel, error) {
	return one(query(ctx, s.db, func(r *sql.Rows, v *Vessel) error {
		return r.Scan(&v.Plate, &v.Name, &v.Length, &v.Beam, &v.Draught)
	}, `SELECT plate, name, length, beam, draught FROM vessels WHERE plate = ?`, plate))
}

// CheckPIN reports whether pin belongs to the vessel. It takes as long for a
// vessel that is not there.
func (s *Store) CheckPIN(ctx context.Context, plate, pin string) (bool, error) {
	salt, want := make([]byte, 16), make([]byte, sha256.Size)
	err := s.db.QueryRowContext(ctx, `SELECT salt, pin FROM vessels WHERE plate = ?`, plate).Scan(&salt, &want)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return false, err
	}
	got, hashErr := hashPIN(pin, salt)
	return err == nil && subtle.ConstantTimeCompare(got, want) == 1, hashErr
}

func hashPIN(pin string, salt []byte) ([]byte, error) {
	return pbkdf2.Key(sha256.New, pin, salt, 4096, sha256.Size)
}

const passageColumns = `id, lock, vessel, direction, slot, crew, remark`

// Passages lists the passages of a vessel that come after the one with id after,
// oldest first; limit at most.
func (s *Store) Passages(ctx context.Context, vessel string, after int64, limit int) ([]Passage, error) {
	return query(ctx, s.db, scanPassage,
		`SELECT `+passageColumns+` FROM passages WHERE vessel = ? AND id > ? ORDER BY id LIMIT ?`, vessel, after, limit)
}

// Passage finds a vessel's passage; another vessel's is not there.
func (s *Store) Passage(ctx context.Context, vessel string, id int64) (Passage, error) {
	return one(query(ctx, s.db, scanPassage,
		`SELECT `+passageColumns+` FROM passages WHERE id = ? AND vessel = ?`, id, vessel))
}

// Book stores a passage and gives it its id, in one transaction with a look at its lock, which check may refuse. It fails
// with ErrNotThere where there is no such lock, and with ErrTaken where the slot is taken.
func (s *Store) Book(ctx context.Context, p Passage, check func(Lock) error) (Passage, error) {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return Passage{}, err
	}
	defer tx.Rollback() // does nothing once it is committed
	lock, err := one(query(ctx, tx, scanLock, lockBySlug, p.Lock))
	if err != nil {
		return Passage{}, err
	}
	if err := check(lock); err != nil {
		return Passage{}, err
	}
	p, err = taken(one(query(ctx, tx, scanPassage,
		`INSERT INTO passages (lock, vessel, direction, slot, crew, remark) VALUES (?, ?, ?, ?, ?, ?) RETURNING `+passageColumns,
		p.Lock, p.Vessel, p.Direction, p.Slot.UTC().Format(time.RFC3339), p.Crew, p.Remark)))
	if err != nil {
		return Passage{}, err
	}
	return p, tx.Commit()
}

// Change changes a vessel's passage in one transaction: change gets it as it is, and what it
// leaves is stored, unless it returns an error. It fails with ErrTaken where the slot is taken.
func (s *Store) Change(ctx context.Context, vessel string, id int64, change func(*Passage) error) (Passage, error) {
	return s.with(ctx, vessel, id, func(tx *sql.Tx, p Passage) (Passage, error) {
		if err := change(&p); err != nil {
			return Passage{}, err
		}
		return taken(one(query(ctx, tx, scanPassage,
			`UPDATE passages SET direction = ?, slot = ?, crew = ?, remark = ? WHERE id = ? RETURNING `+passageColumns,
			p.Direction, p.Slot.UTC().Format(time.RFC3339), p.Crew, p.Remark, id)))
	})
}

// with does something with a vessel's passage while nobody else can write.
func (s *Store) with(
	ctx context.Context, vessel string, id int64, do func(*sql.Tx, Passage) (Passage, error),
) (Passage, error) {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return Passage{}, err
	}
	defer tx.Rollback() // does nothing once it is committed
	p, err := one(query(ctx, tx, scanPassage, `SELECT `+passageColumns+` FROM passages WHERE id = ? AND vessel = ?`, id,
		vessel))
	if err == nil {
		p, err = do(tx, p)
	}
	if err != nil {
		return Passage{}, err
	}
	return p, tx.Commit()
}

// taken distinguishes a taken slot from other failures.
func taken(p Passage, err error) (Passage, error) {
	if e, ok := errors.AsType[*sqlite.Error](err); ok && e.Code() == sqlite3.SQLITE_CONSTRAINT_UNIQUE {
		return Passage{}, errors.Join(ErrTaken, err)
	}
	return p, err
}

// Cancel removes a vessel's passage in one transaction, unless check refuses it as it is.
func (s *Store) Cancel(ctx context.Context, vessel string, id int64, check func(Passage) error) error {
	_, err := s.with(ctx, vessel, id, func(tx *sql.Tx, p Passage) (Passage, error) {
		if err := check(p); err != nil {
			return p, err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM passages WHERE id = ?`, id)
		return p, err
	})
	return err
}

// A Notice is what the authority tells skippers.
type Notice struct {
	Slug   string
	Title  string
	Text   string
	Posted time.Time
}

// Notices lists all notices, the newest first.
func (s *Store) Notices(ctx context.Context) ([]Notice, error) {
	return query(ctx, s.db, scanNotice, `SELECT slug, title, text, posted FROM notices ORDER BY posted DESC`)
}

// Notice finds a notice by its slug.
func (s *Store) Notice(ctx context.Context, slug string) (Notice, error) {
	return one(query(ctx, s.db, scanNotice, `SELECT slug, title, text, posted FROM notices WHERE slug = ?`, slug))
}

func scanNotice(r *sql.Rows, n *Notice) error {
	var posted string
	if err := r.Scan(&n.Slug, &n.Title, &n.Text, &posted); err != nil {
		return err
	}
	var err error
	n.Posted, err = time.Parse(time.RFC3339, posted)
	return err
}

// Drill runs into a fault of the storage on purpose; nothing is changed.
func (s *Store) Drill(ctx context.Context, fault string) error {
	if fault == "norows" {
		return s.db.QueryRowContext(ctx, `SELECT slug FROM locks WHERE slug = 'nowhere'`).Scan(new(string))
	}
	_, err := s.db.ExecContext(ctx, map[string]string{
		"unique":     `INSERT INTO locks SELECT * FROM locks LIMIT 1`,
		"notnull":    `UPDATE locks SET name = NULL`,
		"check":      `UPDATE locks SET state = 'flooded'`,
		"foreignkey": `INSERT INTO passages (lock, vessel, direction, slot, crew) VALUES ('nowhere', 'OB-1001', 'up', '', 1)`,
	}[fault])
	return err
}

func scanLock(r *sql.Rows, l *Lock) error {
	return r.Scan(&l.Slug, &l.Name, &l.Length, &l.Width, &l.State)
}

func scanPassage(r *sql.Rows, p *Passage) error {
	var slot string
	if err := r.Scan(&p.ID, &p.Lock, &p.Vessel, &p.Direction, &slot, &p.Crew, &p.Remark); err != nil {
		return err
	}
	var err error
	p.Slot, err = time.Parse(time.RFC3339, slot)
	return err
}

// A querier is the database, or a transaction.
type querier interface {
	QueryContext(ctx context.Context, text string, args ...any) (*sql.Rows, error)
}

// query reads all rows.
func query[T any](ctx context.Context, db querier, scan func(*sql.Rows, *T) error, text string, args ...any) ([]T,
	error) {
	rows, err := db.QueryContext(ctx, text, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	found := []T{}
	for rows.Next() {
		var t T
		if err := scan(rows, &t); err != nil {
			return nil, err
		}
		found = append(found, t)
	}
	return found, rows.Err()
}

// one takes the first of the rows found.
func one[T any](found []T, err error) (T, error) {
	if err == nil && len(found) == 0 {
		err = ErrNotThere
	}
	if err != nil {
		return *new(T), err
	}
	return found[0], nil
}

func newSecret() []byte {
	secret := make([]byte, 32)
	rand.Read(secret) // never fails (crypto/rand)
	return secret
}
