package store

import (
	"context"
	"errors"
	"strings"
)

// ErrLocked is returned for an account that may not be used.
var ErrLocked = errors.New("store: the account is locked")

// An Account is that of a skipper, known by the vessel, or of a keeper.
type Account struct {
	Subject string
	Keeper  bool
	Vessel  Vessel // of a skipper
}

// Account finds the account of a subject. It fails with ErrNotThere where there is none, and with
// ErrLocked where it may not be used.
func (s *Store) Account(ctx context.Context, subject string) (*Account, error) {
	var locked bool
	if err := s.db.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM locked_accounts WHERE subject = ?)`,
		subject).Scan(&locked); err != nil {
		return nil, err
	}
	if locked {
		return nil, ErrLocked
	}
	a := &Account{Subject: subject, Keeper: strings.HasPrefix(subject, "keeper-")}
	if a.Keeper {
		return a, nil
	}
	var err error
	a.Vessel, err = s.Vessel(ctx, subject)
	return a, err
}
