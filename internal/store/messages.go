package store

import (
	"context"
	"strings"
	"time"
)

// Message is something that a run has to say to somebody outside.
type Message struct {
	ID    int
	Round string
	Run   int
	Kind  string
	Made  time.Time
	Head  []byte // JSON
	Body  []byte // empty once it has been delivered to everybody
	To    []Delivery
}

// Delivery is one address that a message goes to, and how far that has come.
type Delivery struct {
	Address string
	State   string
	Tries   int
	Next    time.Time // it is not tried again before
	Error   string    // of the last try
}

// The states of a delivery.
const (
	DeliveryWaits   = "waits"
	DeliverySending = "sending" // handed over perhaps: a try that was not heard of again
	DeliverySent    = "sent"
	DeliveryRefused = "refused" // for good
)

func (tx *transaction) addMessage(ctx context.Context, m *Message) error {
	res, err := tx.ExecContext(ctx, "INSERT INTO messages (round, run, kind, made, head, body) VALUES (?, ?, ?, ?, ?, ?)",
		m.Round, m.Run, m.Kind, stamp(m.Made), string(m.Head), m.Body)
	if err != nil {
		return err
	}
	id, err := res.LastInsertId()
	if err != nil {
		return err
	}
	m.ID = int(id)
	for i := range m.To {
		m.To[i].State = DeliveryWaits
		_, err := tx.ExecContext(ctx, "INSERT INTO deliveries (message, address, state) VALUES (?, ?, ?) ON CONFLICT DO NOTHING",
			m.ID, m.To[i].Address, DeliveryWaits)
		if err != nil {
			return err
		}
	}
	return nil
}

// AddMessages keeps messages that wait from now on.
func (s *Store) AddMessages(ctx context.Context, all ...*Message) error {
	if len(all) == 0 {
		return nil
	}
	return s.tx(ctx, func(tx *transaction) error {
		for _, m := range all {
			if err := tx.addMessage(ctx, m); err != nil {
				return err
			}
		}
		return nil
	})
}

// Waiting are the messages that somebody waits for, oldest first, each with those
// of its deliveries; without the bodies.
func (s *Store) Waiting(ctx context.Context) ([]*Message, error) {
	return s.messages(ctx, "state IN ('"+DeliveryWaits+"', '"+DeliverySending+"')")
}

// MessagesOf are the messages of runs, without their bodies.
func (s *Store) MessagesOf(ctx context.Context, runs ...int) ([]*Message, error) {
	if len(runs) == 0 {
		return nil, nil
	}
	args := make([]any, len(runs))
	for i, run := range runs {
		args[i] = run
	}
	return s.messages(ctx, "run IN (?"+strings.Repeat(", ?", len(runs)-1)+")", args...)
}

func (s *Store) messages(ctx context.Context, where string, args ...any) (all []*Message, err error) {
	rows, err := s.db.QueryContext(ctx, "SELECT id, round, run, kind, made, head, address, state, tries, next, error "+
		"FROM messages JOIN deliveries ON message = id WHERE "+where+" ORDER BY id, address", args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var m Message
		var d Delivery
		var made, next string
		if err := rows.Scan(&m.ID, &m.Round, &m.Run, &m.Kind, &made, &m.Head, &d.Address, &d.State, &d.Tries, &next,
			&d.Error); err != nil {
			return nil, err
		}
		if m.Made, err = unstamp(made); err != nil {
			return nil, err
		}
		if d.Next, err = unstamp(next); err != nil {
			return nil, err
		}
		if len(all) == 0 || all[len(all)-1].ID != m.ID {
			all = append(all, &m)
		}
		last := all[len(all)-1]
		last.To = append(last.To, d)
	}
	return all, rows.Err()
}

// Body is what a message says.
func (s *Store) Body(ctx context.Context, message int) (body []byte, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT body FROM messages WHERE id = ?", message).Scan(&body)
	return body, err
}

// NoteDelivery writes down how far a delivery has come. When nobody waits for a
// message any more its body goes, and all of one that is of no run. Records say in the journal what follows from it.
func (s *Store) NoteDelivery(ctx context.Context, message int, d *Delivery, records ...*Record) error {
	return s.tx(ctx, func(tx *transaction) error {
		for _, r := range records {
			if _, err := tx.appendRecord(ctx, r); err != nil {
				return err
			}
		}
		next := ""
		if !d.Next.IsZero() {
			next = stamp(d.Next)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE deliveries SET state = ?, tries = ?, next = ?, error = ? WHERE message = ? "+
			"AND address = ?", d.State, d.Tries, next, d.Error, message, d.Address); err != nil {
			return err
		}
		const over = "NOT EXISTS (SELECT 1 FROM deliveries WHERE message = ?1 AND state IN ('" + DeliveryWaits + "', '" + DeliverySending + "'))"
		for _, query := range []string{
			"UPDATE messages SET body = '' WHERE id = ?1 AND " + over,
			"DELETE FROM deliveries WHERE message IN (SELECT id FROM messages WHERE id = ?1 AND run = 0) AND " + over,
			"DELETE FROM messages WHERE id = ?1 AND run = 0 AND NOT EXISTS (SELECT 1 FROM deliveries WHERE message = ?1)",
		} {
			if _, err := tx.ExecContext(ctx, query, message); err != nil {
				return err
			}
		}
		return nil
	})
}

// DropWaiting forgets all that waits. It is for copies of a state folder.
func (s *Store) DropWaiting(ctx context.Context) error {
	return s.tx(ctx, func(tx *transaction) error {
		_, err := tx.ExecContext(ctx, "DELETE FROM deliveries WHERE state IN ('"+DeliveryWaits+"', '"+DeliverySending+"')")
		return err
	})
}
