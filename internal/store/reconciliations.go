package store

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"
)

// Reconciliation is what a comparison of a yard with its roster found, so that
// the next one can tell what is new.
type Reconciliation struct {
	At    time.Time
	Found []string // what identifies each finding; no line breaks
}

// mostReconciliations is how many are kept of a yard.
const mostReconciliations = 50

// AddReconciliation keeps what was found.
func (s *Store) AddReconciliation(ctx context.Context, yard string, r *Reconciliation) error {
	return s.tx(ctx, func(tx *transaction) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO reconciliations (yard, at, found) VALUES (?, ?, ?)", yard, r.At.UTC().Format(time.RFC3339), strings.Join(r.Found, "\n")); err != nil {
			return err
		}
		_, err := tx.ExecContext(
			ctx,
			"DELETE FROM reconciliations WHERE yard = ? AND id NOT IN (SELECT id FROM reconciliations WHERE yard = ? ORDER BY id DESC LIMIT ?)",
			yard,
			yard,
			mostReconciliations,
		)
		return err
	})
}

// ReconciliationBefore returns the last one that was made at or before a time,
// nil where there is none.
func (s *Store) ReconciliationBefore(ctx context.Context, yard string, at time.Time) (*Reconciliation, error) {
	var when, found string
	err := s.db.QueryRowContext(ctx, "SELECT at, found FROM reconciliations WHERE yard = ? AND at <= ? ORDER BY id DESC LIMIT 1", yard, at.UTC().Format(time.RFC3339)).
		Scan(&when, &found)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	r := &Reconciliation{}
	if found != "" {
		r.Found = strings.Split(found, "\n")
	}
	r.At, err = time.Parse(time.RFC3339, when)
	return r, err
}
