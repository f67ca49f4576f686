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
	"sync"
	"syscall"

	"github.com/gofrs/flock"
	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the database driver

	"yardbroom/internal/trust"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is the state folder's database.
type Store struct {
	db       *sql.DB
	dir      string
	readOnly bool // nothing can be written where it is

	changes   chan change
	closing   chan struct{} // closed when no more is to be written
	written   chan struct{} // closed when the last change is written
	closeOnce sync.Once
}

// Open opens the database of a state folder, and makes both where there are
// none. The folder is made with mode 0700.
func Open(ctx context.Context, dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("state folder: %w", err)
	}
	if err := trust.Folder(dir); err != nil {
		return nil, fmt.Errorf("state folder: %w", err)
	}
	path := filepath.Join(dir, "yardbroom.db")
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if errors.Is(err, syscall.EROFS) {
		return openReadOnly(ctx, dir, path)
	}
	if err != nil {
		return nil, fmt.Errorf("state folder: %w", err)
	}
	file.Close()
	// FULL syncs the log at each commit, so that what is committed survives
	// the loss of power.
	db, err := sql.Open(
		"sqlite",
		"file:"+path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=busy_timeout(10000)&_pragma=foreign_keys(1)&_txlock=immediate",
	)
	if err != nil {
		return nil, err
	}
	s := &Store{
		db:      db,
		dir:     dir,
		changes: make(chan change),
		closing: make(chan struct{}),
		written: make(chan struct{}),
	}
	if err := s.migrate(ctx); err != nil {
		db.Close()
		return nil, fmt.Errorf("state %s: %w", path, err)
	}
	go s.writer()
	return s, nil
}

// openReadOnly opens the database on a file system that nothing can be written
// on: what only reads works.
func openReadOnly(ctx context.Context, dir, path string) (*Store, error) {
	if info, err := os.Stat(path + "-wal"); err == nil && info.Size() > 0 {
		return nil, fmt.Errorf(
			"state %s: it was not closed in order, and that cannot be put right on a read-only file system: open it once where it can be written",
			path,
		)
	}
	db, err := sql.Open("sqlite", "file:"+path+"?mode=ro&immutable=1")
	if err != nil {
		return nil, err
	}
	s := &Store{
		db:       db,
		dir:      dir,
		readOnly: true,
		changes:  make(chan change),
		closing:  make(chan struct{}),
		written:  make(chan struct{}),
	}
	var version int
	err = db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&version)
	switch {
	case err == nil && version > schemaVersion:
		err = errors.New("it was written by a newer version of yardbroom")
	case err == nil && version < schemaVersion:
		err = errors.New(
			"it was written by an older version of yardbroom, and cannot be brought up to date on a read-only file system",
		)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("state %s: %w", path, err), db.Close())
	}
	go s.writer()
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
const schemaVersion = 7

// Close closes the database.
func (s *Store) Close() error {
	s.stopWriting()
	return s.db.Close()
}

// CopyTo writes the database as it is now into another folder, which has none.
func (s *Store) CopyTo(ctx context.Context, dir string) error {
	_, err := s.db.ExecContext(ctx, "VACUUM INTO ?", filepath.Join(dir, "yardbroom.db"))
	return err
}

// Dir is the state folder.
func (s *Store) Dir() string { return s.dir }

// ErrBusy is the error of Lock while somebody else carries out a batch.
var ErrBusy = errors.New("another yardbroom is carrying out a batch in this state folder; wait for it to end")

// Lock keeps everybody else from carrying out batches of this state folder
// until unlock is called, or the process ends.
func (s *Store) Lock() (unlock func(), err error) { return s.lock("apply.lock") }

// LockLadders keeps everybody else from climbing ladders until unlock is called, or
// the process ends.
func (s *Store) LockLadders() (unlock func(), err error) { return s.lock("ladders.lock") }

func (s *Store) lock(name string) (unlock func(), err error) {
	lock := flock.New(filepath.Join(s.dir, name))
	ok, err := lock.TryLock()
	if err != nil {
		return nil, fmt.Errorf("state folder: %w", err)
	}
	if !ok {
		return nil, ErrBusy
	}
	return func() { _ = lock.Unlock() }, nil
}

// LockBatch keeps everybody else from changing or carrying out one batch until
// unlock is called, or the process ends.
func (s *Store) LockBatch(id int) (unlock func(), err error) {
	folder := filepath.Join(s.dir, "locks")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("state folder: %w", err)
	}
	lock := flock.New(filepath.Join(folder, fmt.Sprintf("batch-%d.lock", id)))
	ok, err := lock.TryLock()
	if err != nil {
		return nil, fmt.Errorf("state folder: %w", err)
	}
	if !ok {
		return nil, fmt.Errorf("batch %d: %w", id, ErrInUse)
	}
	return func() { _ = lock.Unlock() }, nil
}

// ErrInUse is the error of LockBatch while somebody else carries the batch out
// or changes it.
var ErrInUse = errors.New("another yardbroom is carrying it out or changing it; wait for it to end")

// Batch is the kept form of a batch. Head and bodies are JSON. Where it stands
// follows from the journal.
type Batch struct {
	ID    int
	Head  []byte
	Lines []Line
}

// Line is one line of a batch.
type Line struct {
	N       int
	Dropped bool
	Body    []byte
}

// dropped is how a line is marked that was taken out of its batch.
const dropped = "dropped"

// ErrNoBatch is the error for a batch that does not exist.
var ErrNoBatch = errors.New("no such batch; \"yardbroom batch list\" shows those there are")

// tx runs a change of the database, all or nothing.
func (s *Store) tx(ctx context.Context, change func(*transaction) error) error {
	if s.readOnly {
		return fmt.Errorf("state folder %s is on a read-only file system, and nothing is done that cannot be recorded",
			s.dir)
	}
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := change(&transaction{Tx: tx}); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit() // which closes the statements too
}

// AddBatch keeps a new batch together with the journal record that says so.
// Both are made when the batch's number is known.
func (s *Store) AddBatch(ctx context.Context, make func(id int) (*Batch, *Record, error)) (Sealed, error) {
	var sealed Sealed
	err := s.tx(ctx, func(tx *transaction) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO batches (head) VALUES ('')")
		if err != nil {
			return err
		}
		id, err := res.LastInsertId()
		if err != nil {
			return err
		}
		b, record, err := make(int(id))
		if err != nil {
			return err
		}
		b.ID = int(id)
		if _, err := tx.ExecContext(ctx, "UPDATE batches SET head = ? WHERE id = ?", string(b.Head), id); err != nil {
			return err
		}
		insert, err := tx.PrepareContext(ctx, "INSERT INTO lines (batch, n, state, body) VALUES (?, ?, '', ?)")
		if err != nil {
			return err
		}
		defer insert.Close()
		for _, l := range b.Lines {
			if _, err := insert.ExecContext(ctx, b.ID, l.N, string(l.Body)); err != nil {
				return err
			}
		}
		sealed, err = tx.appendRecord(ctx, record)
		return err
	})
	return sealed, err
}

// Batch returns one batch with its lines.
func (s *Store) Batch(ctx context.Context, id int) (*Batch, error) {
	b := &Batch{ID: id}
	err := s.db.QueryRowContext(ctx, "SELECT head FROM batches WHERE id = ?", id).Scan(&b.Head)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("batch %d: %w", id, ErrNoBatch)
	}
	if err != nil {
		return nil, err
	}
	rows, err := s.db.QueryContext(ctx, "SELECT n, state = ?, body FROM lines WHERE batch = ? ORDER BY n", dropped, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var l Line
		if err := rows.Scan(&l.N, &l.Dropped, &l.Body); err != nil {
			return nil, err
		}
		b.Lines = append(b.Lines, l)
	}
	return b, rows.Err()
}

// Batches returns all batches, oldest first, each with its lines but without
// their bodies.
func (s *Store) Batches(ctx context.Context) ([]*Batch, error) {
	rows, err := s.db.QueryContext(
		ctx,
		"SELECT id, head, coalesce(n, 0), coalesce(state, '') = ?, NULL FROM batches LEFT JOIN lines ON batch = id ORDER BY id, n",
		dropped,
	)
	if err != nil {
		return nil, err
	}
	return scanBatches(rows)
}

// entryOf is the entry that a line is about, as it is indexed. What somebody has put
// there that is no JSON is about none.
const entryOf = "CASE WHEN json_valid(body) THEN json_extract(body, '$.id') END"

// BatchesAbout returns the batches with lines about an entry, by its identity in its
// readable form, oldest first, each with these lines only.
func (s *Store) BatchesAbout(ctx context.Context, entry string) ([]*Batch, error) {
	rows, err := s.db.QueryContext(ctx,
		"SELECT id, head, n, state = ?, body FROM batches JOIN lines ON batch = id WHERE "+entryOf+" = ? ORDER BY id, n", dropped, entry)
	if err != nil {
		return nil, err
	}
	return scanBatches(rows)
}

// scanBatches reads the rows of lines, batch by batch: id, head, number (0 for a batch
// without lines), whether it was dropped, and the body, if it is wanted.
func scanBatches(rows *sql.Rows) ([]*Batch, error) {
	defer rows.Close()
	var all []*Batch
	for rows.Next() {
		var b Batch
		var l Line
		if err := rows.Scan(&b.ID, &b.Head, &l.N, &l.Dropped, &l.Body); err != nil {
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

// Entries returns the identities of the entries that the lines of a batch are about, by
// their numbers.
func (s *Store) Entries(ctx context.Context, batch int) (map[int]string, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT n, coalesce("+entryOf+", '') FROM lines WHERE batch = ?", batch)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	entries := map[int]string{}
	for rows.Next() {
		var n int
		var entry string
		if err := rows.Scan(&n, &entry); err != nil {
			return nil, err
		}
		entries[n] = entry
	}
	return entries, rows.Err()
}

// Heads returns all batches without their lines, oldest first.
func (s *Store) Heads(ctx context.Context) ([]Batch, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT id, head FROM batches ORDER BY id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Batch
	for rows.Next() {
		var b Batch
		if err := rows.Scan(&b.ID, &b.Head); err != nil {
			return nil, err
		}
		all = append(all, b)
	}
	return all, rows.Err()
}

// DropLines marks lines as taken out of their batch, with a journal record.
func (s *Store) DropLines(ctx context.Context, batch int, lines []int, r *Record) error {
	return s.write(ctx, func(ctx context.Context, tx *transaction) error {
		for _, n := range lines {
			if _, err := tx.ExecContext(ctx, "UPDATE lines SET state = ? WHERE batch = ? AND n = ?", dropped, batch, n); err != nil {
				return err
			}
		}
		_, err := tx.appendRecord(ctx, r)
		return err
	})
}

// AppendAll puts records into the journal, synced at once. It returns the last
// one.
func (s *Store) AppendAll(ctx context.Context, records ...*Record) (Sealed, error) {
	var sealed Sealed
	err := s.write(ctx, func(ctx context.Context, tx *transaction) error {
		for _, r := range records {
			var err error
			if sealed, err = tx.appendRecord(ctx, r); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return sealed, fmt.Errorf("the journal cannot be written: %w", err)
	}
	return sealed, nil
}
