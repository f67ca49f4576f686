package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
)

// Exemption is the kept form of an exemption. Its body is JSON.
type Exemption struct {
	ID   int
	Body []byte
}

// Events of the journal about exemptions; their body is the exemption.
const (
	EventExempted       = "exempted"
	EventExemptionEnded = "exemption ended"
)

// ErrNoExemption is the error for an exemption that does not exist.
var ErrNoExemption = errors.New("no such exemption in force; \"yardbroom exempt list\" shows those there are")

// AddExemption keeps an exemption together with the journal record that says
// so, and returns its number.
func (s *Store) AddExemption(ctx context.Context, body []byte, r *Record) (id int, err error) {
	err = s.tx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO exemptions (body) VALUES (?)", string(body))
		if err != nil {
			return err
		}
		n, err := res.LastInsertId()
		if err != nil {
			return err
		}
		id = int(n)
		_, err = appendRecord(ctx, tx, r)
		return err
	})
	return id, err
}

// Exemptions returns the exemptions that were not ended, in the order they
// were made.
func (s *Store) Exemptions(ctx context.Context) ([]Exemption, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT id, body FROM exemptions WHERE ended = 0 ORDER BY id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Exemption
	for rows.Next() {
		var e Exemption
		if err := rows.Scan(&e.ID, &e.Body); err != nil {
			return nil, err
		}
		all = append(all, e)
	}
	return all, rows.Err()
}

// EndExemption ends an exemption, with a journal record that the function
// makes of its body.
func (s *Store) EndExemption(ctx context.Context, id int, record func(body []byte) *Record) error {
	return s.tx(ctx, func(tx *sql.Tx) error {
		var body string
		err := tx.QueryRowContext(ctx, "UPDATE exemptions SET ended = 1 WHERE id = ? AND ended = 0 RETURNING body", id).Scan(&body)
		if errors.Is(err, sql.ErrNoRows) {
			return fmt.Errorf("exemption %d: %w", id, ErrNoExemption)
		}
		if err != nil {
			return err
		}
		_, err = appendRecord(ctx, tx, record([]byte(body)))
		return err
	})
}
