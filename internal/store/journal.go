package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"
)

// Record is one thing that was done, or is about to be done. Records are
// never changed.
type Record struct {
	At    time.Time       `json:"at"`
	By    string          `json:"by"`
	Event string          `json:"event"`
	Batch int             `json:"batch,omitempty"`
	Line  int             `json:"line,omitempty"`
	Body  json.RawMessage `json:"body,omitempty"`
}

// Sealed is a record in its place in the chain.
type Sealed struct {
	Seq  int    `json:"seq"`
	Hash string `json:"hash"` // hex SHA-256 over the hash before and the record's octets
	Record
}

// start is the hash that the first record follows.
const start = "yardbroom journal"

// chain returns the hash of a record that follows the hash before it.
func chain(before string, seq int, record []byte) string {
	h := sha256.New()
	fmt.Fprintf(h, "%s\n%d\n", before, seq)
	h.Write(record)
	return hex.EncodeToString(h.Sum(nil))
}

const lastRecord = "SELECT seq, hash FROM journal ORDER BY seq DESC LIMIT 1"

// transaction is one transaction of the database, with the end of the chain
// once it was asked for.
type transaction struct {
	*sql.Tx
	seq    int
	head   string
	insert *sql.Stmt
}

// appendRecord puts a record at the end of the chain. It is on disk when the
// transaction is committed.
func (tx *transaction) appendRecord(ctx context.Context, r *Record) (Sealed, error) {
	text, err := json.Marshal(r)
	if err != nil {
		return Sealed{}, err
	}
	if tx.insert == nil {
		tx.head = start
		err := tx.QueryRowContext(ctx, lastRecord).Scan(&tx.seq, &tx.head)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return Sealed{}, err
		}
		if tx.insert, err = tx.PrepareContext(ctx, "INSERT INTO journal (seq, batch, line, event, record, hash) VALUES (?, ?, ?, ?, ?, ?)"); err != nil {
			return Sealed{}, err
		}
	}
	tx.seq++
	tx.head = chain(tx.head, tx.seq, text)
	_, err = tx.insert.ExecContext(ctx, tx.seq, r.Batch, r.Line, r.Event, string(text), tx.head)
	return Sealed{Seq: tx.seq, Hash: tx.head, Record: *r}, err
}

// Journal returns records in order: of one line, of one batch (line 0), or
// all (batch 0).
func (s *Store) Journal(ctx context.Context, batch, line int) ([]Sealed, error) {
	query, args := "SELECT seq, record, hash FROM journal", []any{}
	if batch != 0 {
		query, args = query+" WHERE batch = ?", append(args, batch)
		if line != 0 {
			query, args = query+" AND line = ?", append(args, line)
		}
	}
	return s.records(ctx, query+" ORDER BY seq", args...)
}

// records reads what a query of seq, record and hash selects.
func (s *Store) records(ctx context.Context, query string, args ...any) (all []Sealed, err error) {
	rows, err := s.db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		r, err := scanRecord(rows)
		if err != nil {
			return nil, err
		}
		all = append(all, r)
	}
	return all, rows.Err()
}

func scanRecord(rows *sql.Rows) (r Sealed, err error) {
	var text string
	if err := rows.Scan(&r.Seq, &text, &r.Hash); err != nil {
		return r, err
	}
	if err := json.Unmarshal([]byte(text), &r.Record); err != nil {
		return r, fmt.Errorf("journal record %d cannot be read: %w", r.Seq, err)
	}
	return r, nil
}

// Since hands over the records of an event from a time on, the latest first.
func (s *Store) Since(ctx context.Context, event string, t time.Time, take func(*Sealed) error) error {
	rows, err := s.db.QueryContext(ctx, "SELECT seq, record, hash FROM journal WHERE event = ? ORDER BY seq DESC",
		event)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		r, err := scanRecord(rows)
		if err != nil {
			return err
		}
		if r.At.Before(t) {
			break
		}
		if err := take(&r); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Events returns the records of some events, in order.
func (s *Store) Events(ctx context.Context, events ...string) ([]Sealed, error) {
	args := make([]any, len(events))
	for i, e := range events {
		args[i] = e
	}
	return s.records(ctx, "SELECT seq, record, hash FROM journal WHERE event IN (?"+strings.Repeat(", ?", len(events)-1)+
		") ORDER BY seq", args...)
}

// About returns the records about a batch as a whole, in order: not those of
// its lines.
func (s *Store) About(ctx context.Context, batch int) ([]Sealed, error) {
	return s.records(ctx, "SELECT seq, record, hash FROM journal WHERE batch = ? AND line = 0 ORDER BY seq", batch)
}

// LastOfBatches returns, for each batch, the last record about it as a whole
// that is of one of some events; of one batch only where that is not 0.
func (s *Store) LastOfBatches(ctx context.Context, batch int, events ...string) (map[int]Sealed, error) {
	query, args := "SELECT max(seq), record, hash FROM journal WHERE line = 0 AND event IN (?"+strings.Repeat(", ?",
		len(events)-1)+")", []any{}
	for _, e := range events {
		args = append(args, e)
	}
	all, err := s.lastOf(ctx, query, batch, args)
	last := map[int]Sealed{}
	for _, r := range all {
		last[r.Batch] = r
	}
	return last, err
}

// LineOf names a line of a batch.
type LineOf struct{ Batch, Line int }

// LastOfLines returns, for each line, the last record of an event; of one batch
// only where that is not 0.
func (s *Store) LastOfLines(ctx context.Context, batch int, event string) (map[LineOf]Sealed, error) {
	all, err := s.lastOf(ctx, "SELECT max(seq), record, hash FROM journal WHERE line > 0 AND event = ?", batch,
		[]any{event})
	last := map[LineOf]Sealed{}
	for _, r := range all {
		last[LineOf{r.Batch, r.Line}] = r
	}
	return last, err
}

func (s *Store) lastOf(ctx context.Context, query string, batch int, args []any) ([]Sealed, error) {
	if batch != 0 {
		query, args = query+" AND batch = ?", append(args, batch)
	}
	return s.records(ctx, query+" GROUP BY batch, line", args...)
}

// Head returns the number and the hash of the last record; 0 of an empty
// journal.
func (s *Store) Head(ctx context.Context) (seq int, hash string, err error) {
	hash = start
	err = s.db.QueryRowContext(ctx, lastRecord).Scan(&seq, &hash)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return seq, hash, err
}

// HashOf returns the hash of a record.
func (s *Store) HashOf(ctx context.Context, seq int) (hash string, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT hash FROM journal WHERE seq = ?", seq).Scan(&hash)
	if errors.Is(err, sql.ErrNoRows) {
		return "", fmt.Errorf("there is no journal record %d", seq)
	}
	return hash, err
}

// Proof is the result of going through the whole chain.
type Proof struct {
	Records int
	Head    string // hash of the last record
}

// Verify recomputes every hash of the journal. With head, the hash that was
// printed or written down at some time, it also proves that no record up to
// that moment is gone: it fails if no record has that hash.
func (s *Store) Verify(ctx context.Context, head string) (Proof, error) {
	p := Proof{Head: start}
	rows, err := s.db.QueryContext(ctx, "SELECT seq, batch, line, event, record, hash FROM journal ORDER BY seq")
	if err != nil {
		return p, err
	}
	defer rows.Close()
	found := head == ""
	for rows.Next() {
		var seq, batch, line int
		var event, text, hash string
		if err := rows.Scan(&seq, &batch, &line, &event, &text, &hash); err != nil {
			return p, err
		}
		p.Records++
		var r Record
		switch {
		case seq != p.Records:
			return p, fmt.Errorf("journal record %d is missing: the next one there is %d", p.Records, seq)
		case chain(p.Head, seq, []byte(text)) != hash:
			return p, fmt.Errorf("journal record %d was changed after it was written", seq)
		case json.Unmarshal([]byte(text), &r) != nil || r.Batch != batch || r.Line != line || r.Event != event:
			return p, fmt.Errorf("journal record %d was filed under another batch, line or event", seq)
		}
		p.Head = hash
		found = found || len(head) >= 8 && strings.HasPrefix(hash, strings.ToLower(head))
	}
	if err := rows.Err(); err != nil {
		return p, err
	}
	if err := s.everyBatchStaged(ctx); err != nil {
		return p, err
	}
	if !found {
		return p, fmt.Errorf(
			"no journal record has the hash %s: records were cut off, or the hash is of another journal", head)
	}
	return p, nil
}

// everyBatchStaged finds batches of which the journal does not know that they
// were staged: records were cut off, or all of them.
func (s *Store) everyBatchStaged(ctx context.Context) error {
	var id, n int
	err := s.db.QueryRowContext(ctx, "SELECT coalesce(min(id), 0), count(*) FROM batches WHERE id NOT IN (SELECT batch FROM journal WHERE event = 'staged')").
		Scan(&id, &n)
	if err == nil && n > 0 {
		err = fmt.Errorf(
			"the journal has no record of the staging of %d of the batches, the first of them batch %d: records were cut off",
			n,
			id,
		)
	}
	return err
}

// EventAccepted is the journal's event of somebody's word that a break in it is
// known and accepted.
const EventAccepted = "break-accepted"

// acceptance is its body.
type acceptance struct {
	Fault  string `json:"fault"`  // what was found broken
	Digest string `json:"digest"` // of all that stood before it
	Reason string `json:"reason"`
}

// Whole fails where the journal is not whole, unless somebody has accepted
// exactly this break and everything since then is whole.
func (s *Store) Whole(ctx context.Context) error {
	_, broken := s.Verify(ctx, "")
	if broken == nil {
		return nil
	}
	accepted, err := s.accepts(ctx, broken)
	if err != nil || accepted {
		return err
	}
	return fmt.Errorf(
		"%w\nnothing is signed, carried out or taken back until that is settled: find out who did it, and restore the state folder from a copy, or accept it in the journal's own words with \"yardbroom journal --accept-break REASON\"",
		broken,
	)
}

// accepts tells whether the last acceptance is of this break, and everything
// stands before it as it did then, and behind it in its chain.
func (s *Store) accepts(ctx context.Context, broken error) (bool, error) {
	found, err := s.records(ctx, "SELECT seq, record, hash FROM journal WHERE event = ? ORDER BY seq DESC LIMIT 1",
		EventAccepted)
	if err != nil || len(found) == 0 {
		return false, err
	}
	var body acceptance
	if err := json.Unmarshal(found[0].Body, &body); err != nil {
		return false, err
	}
	digest, head, err := s.before(ctx, found[0].Seq)
	if err != nil || digest != body.Digest || body.Fault != broken.Error() {
		return false, err
	}
	rows, err := s.db.QueryContext(ctx, "SELECT seq, record, hash FROM journal WHERE seq >= ? ORDER BY seq",
		found[0].Seq)
	if err != nil {
		return false, err
	}
	defer rows.Close()
	for seq := found[0].Seq; rows.Next(); seq++ {
		var at int
		var text, hash string
		if err := rows.Scan(&at, &text, &hash); err != nil {
			return false, err
		}
		if at != seq || chain(head, seq, []byte(text)) != hash {
			return false, nil
		}
		head = hash
	}
	return true, rows.Err()
}

// before returns a digest of everything in the journal before a record, as it
// stands there, and the hash of the record before it.
func (s *Store) before(ctx context.Context, seq int) (digest, head string, err error) {
	rows, err := s.db.QueryContext(ctx,
		"SELECT seq, batch, line, event, record, hash FROM journal WHERE seq < ? ORDER BY seq", seq)
	if err != nil {
		return "", "", err
	}
	defer rows.Close()
	h := sha256.New()
	head = start
	for rows.Next() {
		var n, batch, line int
		var event, text string
		if err := rows.Scan(&n, &batch, &line, &event, &text, &head); err != nil {
			return "", "", err
		}
		fmt.Fprintf(h, "%d %d %d %q %q %s\n", n, batch, line, event, text, head)
	}
	return hex.EncodeToString(h.Sum(nil)), head, rows.Err()
}

// Accept writes into the journal that a break in it is known, and why it does
// not matter. It is an error where there is none.
func (s *Store) Accept(ctx context.Context, reason, by string, at time.Time) (fault string, err error) {
	_, broken := s.Verify(ctx, "")
	if broken == nil {
		return "", errors.New("the journal is whole; there is nothing to accept")
	}
	seq, _, err := s.Head(ctx)
	if err != nil {
		return "", err
	}
	digest, _, err := s.before(ctx, seq+1)
	if err != nil {
		return "", err
	}
	body, err := json.Marshal(acceptance{Fault: broken.Error(), Digest: digest, Reason: reason})
	if err != nil {
		return "", err
	}
	_, err = s.Append(ctx, &Record{At: at, By: by, Event: EventAccepted, Body: body})
	return broken.Error(), err
}
