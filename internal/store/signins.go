package store

import (
	"context"
	"time"
)

// SignIn is when an account signed in last from one source, in one way.
type SignIn struct {
	ID     string // of the account, in its readable form
	Source string // machine or address, "" where no log says
	Via    string
	At     time.Time // UTC
}

// KeepSignIns remembers sign-ins of a directory. Of what is known already, the later one
// stays.
func (s *Store) KeepSignIns(ctx context.Context, directory string, all []SignIn) error {
	return s.tx(ctx, func(tx *transaction) error {
		put, err := tx.PrepareContext(ctx, "INSERT INTO signins (directory, id, source, via, at) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET at = max(at, excluded.at)")
		if err != nil {
			return err
		}
		defer put.Close()
		for _, one := range all {
			if _, err := put.ExecContext(ctx, directory, one.ID, one.Source, one.Via, one.At.UnixMicro()); err != nil {
				return err
			}
		}
		return nil
	})
}

// AnySignIns tells whether any are remembered.
func (s *Store) AnySignIns(ctx context.Context) (yes bool, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM signins)").Scan(&yes)
	return yes, err
}

// SignIns are the remembered sign-ins of a directory, the latest of each account.
func (s *Store) SignIns(ctx context.Context, directory string) (all []SignIn, err error) {
	// SQLite takes the other columns from the row with the greatest time.
	rows, err := s.db.QueryContext(ctx, "SELECT id, source, via, max(at) FROM signins WHERE directory = ? GROUP BY id", directory)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var one SignIn
		var at int64
		if err := rows.Scan(&one.ID, &one.Source, &one.Via, &at); err != nil {
			return nil, err
		}
		one.At = time.UnixMicro(at).UTC()
		all = append(all, one)
	}
	return all, rows.Err()
}
