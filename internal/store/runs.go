package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
)

// Run is one run of a round.
type Run struct {
	ID           int
	Round        string
	Began, Ended time.Time // Ended is zero while it goes on, or where it was killed
	Outcome      string
	Body         []byte // JSON
}

// Events of the journal about rounds.
const (
	EventBraked   = "round stopped"
	EventReleased = "round released"
)

// LockRound keeps everybody else from running a round of this state folder until
// unlock is called, or the process ends.
func (s *Store) LockRound(name string) (unlock func(), err error) {
	lock := flock.New(filepath.Join(s.dir, "round-"+name+".lock"))
	ok, err := lock.TryLock()
	if err != nil {
		return nil, fmt.Errorf("state folder: %w", err)
	}
	if !ok {
		return nil, fmt.Errorf("round %s: %w", name, ErrRunning)
	}
	return func() { _ = lock.Unlock() }, nil
}

// ErrRunning is the error of LockRound while the round runs already.
var ErrRunning = errors.New("it is running already, in another process")

// LockMessages keeps everybody else from handing messages over, or is ErrBusy.
func (s *Store) LockMessages() (unlock func(), err error) {
	lock := flock.New(filepath.Join(s.dir, "messages.lock"))
	ok, err := lock.TryLock()
	if err != nil {
		return nil, fmt.Errorf("state folder: %w", err)
	}
	if !ok {
		return nil, ErrBusy
	}
	return func() { _ = lock.Unlock() }, nil
}

// BeginRun writes down that a round begins, and gives the run its number.
func (s *Store) BeginRun(ctx context.Context, r *Run) error {
	return s.tx(ctx, func(tx *transaction) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO runs (round, began, body) VALUES (?, ?, ?)", r.Round, stamp(r.Began),
			string(r.Body))
		if err != nil {
			return err
		}
		id, err := res.LastInsertId()
		r.ID = int(id)
		return err
	})
}

// Ending is all that is written down when a run ends: at once, or not at all.
type Ending struct {
	Run *Run
	// Told are the presences that each reader has now been told of.
	Told     map[string][]int
	Messages []*Message
	// Brake is set where the run was stopped; Record is the journal's word of it.
	// Unbrake takes away what had stopped an earlier one.
	Brake   *Brake
	Record  *Record
	Unbrake bool
}

// Brake is why a round does not run on.
type Brake struct {
	Round string
	Run   int
	Why   []byte // JSON
}

// EndRun writes down how a run ended, and gives the messages their numbers.
func (s *Store) EndRun(ctx context.Context, e *Ending) error {
	return s.tx(ctx, func(tx *transaction) error {
		r := e.Run
		for reader, presences := range e.Told {
			if err := tx.tell(ctx, reader, presences); err != nil {
				return err
			}
		}
		for _, m := range e.Messages {
			if err := tx.addMessage(ctx, m); err != nil {
				return err
			}
		}
		if e.Unbrake {
			if _, err := tx.ExecContext(ctx, "DELETE FROM brakes WHERE round = ?", r.Round); err != nil {
				return err
			}
		}
		if e.Brake != nil {
			if err := tx.brake(ctx, e.Brake); err != nil {
				return err
			}
		}
		if e.Record != nil {
			if _, err := tx.appendRecord(ctx, e.Record); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "UPDATE runs SET ended = ?, outcome = ?, body = ? WHERE id = ?", stamp(r.Ended),
			r.Outcome, string(r.Body), r.ID)
		return err
	})
}

// NoteRun replaces what is written down of a run.
func (s *Store) NoteRun(ctx context.Context, r *Run) error {
	return s.tx(ctx, func(tx *transaction) error {
		_, err := tx.ExecContext(ctx, "UPDATE runs SET body = ? WHERE id = ?", string(r.Body), r.ID)
		return err
	})
}

// Runs are the last runs of a round, the latest first; of every round for "". At
// most so many come.
func (s *Store) Runs(ctx context.Context, round string, most int) (all []*Run, err error) {
	rows, err := s.db.QueryContext(ctx, "SELECT id, round, began, ended, outcome, body FROM runs WHERE ? IN (round, '') "+
		"ORDER BY id DESC LIMIT ?", round, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		r, began, ended := &Run{}, "", ""
		if err := rows.Scan(&r.ID, &r.Round, &began, &ended, &r.Outcome, &r.Body); err != nil {
			return nil, err
		}
		if r.Began, err = unstamp(began); err != nil {
			return nil, err
		}
		if r.Ended, err = unstamp(ended); err != nil {
			return nil, err
		}
		all = append(all, r)
	}
	return all, rows.Err()
}

// ForgetRuns removes what is written down of runs, and their messages that nobody
// waits for.
func (s *Store) ForgetRuns(ctx context.Context, ids []int) error {
	return s.tx(ctx, func(tx *transaction) error {
		for _, id := range ids {
			const over = "run = ?1 AND NOT EXISTS (SELECT 1 FROM deliveries WHERE message = messages.id AND state IN ('" +
				DeliveryWaits + "', '" + DeliverySending + "'))"
			for _, query := range []string{
				"DELETE FROM deliveries WHERE message IN (SELECT id FROM messages WHERE " + over + ")",
				"DELETE FROM messages WHERE run = ?1 AND NOT EXISTS (SELECT 1 FROM deliveries WHERE message = messages.id)",
				"DELETE FROM runs WHERE id = ?1",
			} {
				if _, err := tx.ExecContext(ctx, query, id); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// BrakeOf is why a round does not run on, nil where it does.
func (s *Store) BrakeOf(ctx context.Context, round string) (*Brake, error) {
	b := &Brake{Round: round}
	err := s.db.QueryRowContext(ctx, "SELECT run, why FROM brakes WHERE round = ?", round).Scan(&b.Run, &b.Why)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return b, err
}

func (tx *transaction) brake(ctx context.Context, b *Brake) error {
	_, err := tx.ExecContext(ctx, "INSERT INTO brakes (round, run, why) VALUES (?, ?, ?) ON CONFLICT (round) DO UPDATE "+
		"SET run = excluded.run, why = excluded.why", b.Round, b.Run, string(b.Why))
	return err
}

// SetBrake replaces why a round does not run on, with the journal record that says
// so.
func (s *Store) SetBrake(ctx context.Context, b *Brake, r *Record) error {
	return s.tx(ctx, func(tx *transaction) error {
		if err := tx.brake(ctx, b); err != nil {
			return err
		}
		_, err := tx.appendRecord(ctx, r)
		return err
	})
}
