// Package store keeps batches and the journal in one SQLite file in the
// state folder. It knows nothing of what they mean: bodies are JSON that
// other packages write and read.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"
	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the database driver
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the state folder's database.
type Store struct {
	db  *sql.DB
	dir string
}

// Open opens the database of a state folder, and makes both where there are
// none. The folder is made with mode 0700.
func Open(ctx context.Context, dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("state folder: %w", err)
	}
	path := filepath.Join(dir, "yardbroom.db")
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("state folder: %w", err)
	}
	file.Close()
	// FULL syncs the log at each commit, so that what is committed survives
	// the loss of power.
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=busy_timeout(10000)&_pragma=foreign_keys(1)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	s := &Store{db: db, dir: dir}
	if err := s.migrate(ctx); err != nil {
		db.Close()
		return nil, fmt.Errorf("state %s: %w", path, err)
	}
	return s, nil
}

func (s *Store) migrate(ctx context.Context) error {
	var version int
	if err := s.db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&version); err != nil {
		return err
	}
	if version == schemaVersion {
		return nil
	}
	if version > schemaVersion {
		return fmt.Errorf("it was written by a newer version of yardbroom")
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, s.db, files)
	if err != nil {
		return err
	}
	if _, err := p.Up(ctx); err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, fmt.Sprintf("PRAGMA user_version = %d", schemaVersion))
	return err
}

// schemaVersion is the number of the newest file in migrations. It also
// stands in the database's header, where it is found without a query.
const schemaVersion = 3

// Close closes the database.
func (s *Store) Close() error { return s.db.Close() }

// Dir is the state folder.
func (s *Store) Dir() string { return s.dir }

// ErrBusy is the error of Lock while somebody else carries out a batch.
var ErrBusy = errors.New("another yardbroom is carrying out a batch in this state folder; wait for it to end")

// Lock keeps everybody else from carrying out batches of this state folder
// until unlock is called, or the process ends.
func (s *Store) Lock() (unlock func(), err error) {
	lock := flock.New(filepath.Join(s.dir, "apply.lock"))
	ok, err := lock.TryLock()
	if err != nil {
		return nil, fmt.Errorf("state folder: %w", err)
	}
	if !ok {
		return nil, ErrBusy
	}
	return func() { _ = lock.Unlock() }, nil
}

// Batch is the kept form of a batch. Head and bodies are JSON.
type Batch struct {
	ID    int
	State string
	Head  []byte
	Lines []Line
}

// Line is one line of a batch.
type Line struct {
	N           int
	State, Note string
	Body        []byte
}

// ErrNoBatch is the error for a batch that does not exist.
var ErrNoBatch = errors.New("no such batch; \"yardbroom batch list\" shows those there are")

// tx runs a change of the database, all or nothing.
func (s *Store) tx(ctx context.Context, change func(*sql.Tx) error) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := change(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}

// AddBatch keeps a new batch together with the journal record that says so,
// and returns its number, which the record is given.
func (s *Store) AddBatch(ctx context.Context, b *Batch, record func(id int) *Record) (Sealed, error) {
	var sealed Sealed
	err := s.tx(ctx, func(tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO batches (state, head) VALUES (?, ?)", b.State, string(b.Head))
		if err != nil {
			return err
		}
		id, err := res.LastInsertId()
		if err != nil {
			return err
		}
		b.ID = int(id)
		insert, err := tx.PrepareContext(ctx, "INSERT INTO lines (batch, n, state, note, body) VALUES (?, ?, ?, ?, ?)")
		if err != nil {
			return err
		}
		defer insert.Close()
		for _, l := range b.Lines {
			if _, err := insert.ExecContext(ctx, b.ID, l.N, l.State, l.Note, string(l.Body)); err != nil {
				return err
			}
		}
		sealed, err = appendRecord(ctx, tx, record(b.ID))
		return err
	})
	return sealed, err
}

// Batch returns one batch with its lines.
func (s *Store) Batch(ctx context.Context, id int) (*Batch, error) {
	b := &Batch{ID: id}
	err := s.db.QueryRowContext(ctx, "SELECT state, head FROM batches WHERE id = ?", id).Scan(&b.State, &b.Head)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("batch %d: %w", id, ErrNoBatch)
	}
	if err != nil {
		return nil, err
	}
	rows, err := s.db.QueryContext(ctx, "SELECT n, state, note, body FROM lines WHERE batch = ? ORDER BY n", id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var l Line
		if err := rows.Scan(&l.N, &l.State, &l.Note, &l.Body); err != nil {
			return nil, err
		}
		b.Lines = append(b.Lines, l)
	}
	return b, rows.Err()
}

// Batches returns all batches, oldest first, each with its lines' states but
// without their bodies.
func (s *Store) Batches(ctx context.Context) ([]*Batch, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT id, b.state, head, coalesce(n, 0), coalesce(l.state, '') FROM batches b LEFT JOIN lines l ON l.batch = b.id ORDER BY id, n")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []*Batch
	for rows.Next() {
		var b Batch
		var l Line
		if err := rows.Scan(&b.ID, &b.State, &b.Head, &l.N, &l.State); err != nil {
			return nil, err
		}
		if len(all) == 0 || all[len(all)-1].ID != b.ID {
			all = append(all, &b)
		}
		if l.N > 0 {
			last := all[len(all)-1]
			last.Lines = append(last.Lines, l)
		}
	}
	return all, rows.Err()
}

// SetBatchState changes the state of a batch, with a journal record.
func (s *Store) SetBatchState(ctx context.Context, id int, state string, r *Record) (Sealed, error) {
	var sealed Sealed
	err := s.tx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "UPDATE batches SET state = ? WHERE id = ?", state, id); err != nil {
			return err
		}
		var err error
		sealed, err = appendRecord(ctx, tx, r)
		return err
	})
	return sealed, err
}

// SetLines changes the states and notes of lines, with a journal record for
// all of them where one is given.
func (s *Store) SetLines(ctx context.Context, batch int, lines []Line, r *Record) (Sealed, error) {
	var sealed Sealed
	err := s.tx(ctx, func(tx *sql.Tx) error {
		for _, l := range lines {
			if _, err := tx.ExecContext(ctx, "UPDATE lines SET state = ?, note = ? WHERE batch = ? AND n = ?", l.State, l.Note, batch, l.N); err != nil {
				return err
			}
		}
		var err error
		if r != nil {
			sealed, err = appendRecord(ctx, tx, r)
		}
		return err
	})
	return sealed, err
}
