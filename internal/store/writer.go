package store

import (
	"context"
	"errors"
)

// change is one change of the database that waits to be written.
type change struct {
	do   func(ctx context.Context, tx *transaction) error
	done chan error
}

// mostAtOnce is how many changes go into one transaction.
const mostAtOnce = 128

// write makes a change that is on disk when it returns. Changes that come
// from several sides at the same time are written and synced together, in the
// order in which they came. A change must not fail but for the database's
// own reasons, since all of one transaction fail with it.
func (s *Store) write(ctx context.Context, do func(ctx context.Context, tx *transaction) error) error {
	c := change{do: do, done: make(chan error, 1)}
	select {
	case s.changes <- c:
	case <-s.closing:
		return errClosed
	case <-ctx.Done():
		return ctx.Err()
	}
	return <-c.done
}

var errClosed = errors.New("the state folder's database is closed")

// writer writes changes until the store is closed.
func (s *Store) writer() {
	defer close(s.written)
	for {
		var first change
		select {
		case first = <-s.changes:
		case <-s.closing:
			return
		}
		all := []change{first}
	more:
		for len(all) < mostAtOnce {
			select {
			case c := <-s.changes:
				all = append(all, c)
			default:
				break more
			}
		}
		err := s.tx(context.Background(), func(tx *transaction) error {
			for _, c := range all {
				if err := c.do(context.Background(), tx); err != nil {
					return err
				}
			}
			return nil
		})
		for _, c := range all {
			c.done <- err
		}
	}
}

// stopWriting ends the writer when what it has begun is written.
func (s *Store) stopWriting() {
	s.closeOnce.Do(func() { close(s.closing) })
	<-s.written
}

// Append puts a record into the journal and syncs it.
func (s *Store) Append(ctx context.Context, r *Record) (Sealed, error) { return s.AppendAll(ctx, r) }
