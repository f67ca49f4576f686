package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
)

// Decision is what a person has decided, in force until it is ended. Its body
// is JSON.
type Decision struct {
	ID   int
	Body []byte
}

// Kind is a kind of decisions.
type Kind struct {
	name, table string
	missing     error
}

// The kinds of decisions: accounts left alone, and accounts that belong to
// people.
var (
	Exemptions = Kind{"exemption", "exemptions", ErrNoExemption}
	Links      = Kind{"link", "links", ErrNoLink}
)

// Events of the journal about decisions; their body is the decision.
const (
	EventExempted       = "exempted"
	EventExemptionEnded = "exemption ended"
	EventLinked         = "linked"
	EventLinkEnded      = "link ended"
)

// Errors for decisions that do not exist.
var (
	ErrNoExemption = errors.New("no such exemption in force; \"yardbroom exempt list\" shows those there are")
	ErrNoLink      = errors.New("no such link in force; \"yardbroom link list\" shows those there are")
)

// Decide keeps a decision together with the journal record that says so, and
// returns its number.
func (s *Store) Decide(ctx context.Context, k Kind, body []byte, r *Record) (id int, err error) {
	err = s.tx(ctx, func(tx *transaction) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO "+k.table+" (body) VALUES (?)", string(body))
		if err != nil {
			return err
		}
		n, err := res.LastInsertId()
		if err != nil {
			return err
		}
		id = int(n)
		_, err = tx.appendRecord(ctx, r)
		return err
	})
	return id, err
}

// Decisions returns those that were not ended, in the order they were made.
func (s *Store) Decisions(ctx context.Context, k Kind) ([]Decision, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT id, body FROM "+k.table+" WHERE ended = 0 ORDER BY id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Decision
	for rows.Next() {
		var d Decision
		if err := rows.Scan(&d.ID, &d.Body); err != nil {
			return nil, err
		}
		all = append(all, d)
	}
	return all, rows.Err()
}

// End ends a decision, with a journal record that the function makes of its
// body.
func (s *Store) End(ctx context.Context, k Kind, id int, record func(body []byte) *Record) error {
	return s.tx(ctx, func(tx *transaction) error {
		var body string
		err := tx.QueryRowContext(ctx, "UPDATE "+k.table+" SET ended = 1 WHERE id = ? AND ended = 0 RETURNING body", id).
			Scan(&body)
		if errors.Is(err, sql.ErrNoRows) {
			return fmt.Errorf("%s %d: %w", k.name, id, k.missing)
		}
		if err != nil {
			return err
		}
		_, err = tx.appendRecord(ctx, record([]byte(body)))
		return err
	})
}
