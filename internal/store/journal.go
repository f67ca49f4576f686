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
func chain(before string, seq int, record string) string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s\n%d\n%s", before, seq, record))
	return hex.EncodeToString(sum[:])
}

// appendRecord puts a record at the end of the chain. It is on disk when the
// transaction is committed.
func appendRecord(ctx context.Context, tx *sql.Tx, r *Record) (Sealed, error) {
	text, err := json.Marshal(r)
	if err != nil {
		return Sealed{}, err
	}
	seq, before := 0, start
	err = tx.QueryRowContext(ctx, "SELECT seq, hash FROM journal ORDER BY seq DESC LIMIT 1").Scan(&seq, &before)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return Sealed{}, err
	}
	seq++
	hash := chain(before, seq, string(text))
	_, err = tx.ExecContext(ctx, "INSERT INTO journal (seq, batch, line, record, hash) VALUES (?, ?, ?, ?, ?)", seq, r.Batch, r.Line, string(text), hash)
	return Sealed{Seq: seq, Hash: hash, Record: *r}, err
}

// Append puts a record into the journal and syncs it.
func (s *Store) Append(ctx context.Context, r *Record) (Sealed, error) {
	var sealed Sealed
	err := s.tx(ctx, func(tx *sql.Tx) (err error) {
		sealed, err = appendRecord(ctx, tx, r)
		return err
	})
	if err != nil {
		return sealed, fmt.Errorf("the journal cannot be written: %w", err)
	}
	return sealed, nil
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
	rows, err := s.db.QueryContext(ctx, query+" ORDER BY seq", args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Sealed
	for rows.Next() {
		var r Sealed
		var text string
		if err := rows.Scan(&r.Seq, &text, &r.Hash); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(text), &r.Record); err != nil {
			return nil, fmt.Errorf("journal record %d cannot be read: %w", r.Seq, err)
		}
		all = append(all, r)
	}
	return all, rows.Err()
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
	rows, err := s.db.QueryContext(ctx, "SELECT seq, batch, line, record, hash FROM journal ORDER BY seq")
	if err != nil {
		return p, err
	}
	defer rows.Close()
	found := head == ""
	for rows.Next() {
		var seq, batch, line int
		var text, hash string
		if err := rows.Scan(&seq, &batch, &line, &text, &hash); err != nil {
			return p, err
		}
		p.Records++
		var r Record
		switch {
		case seq != p.Records:
			return p, fmt.Errorf("journal record %d is missing: the next one there is %d", p.Records, seq)
		case chain(p.Head, seq, text) != hash:
			return p, fmt.Errorf("journal record %d was changed after it was written", seq)
		case json.Unmarshal([]byte(text), &r) != nil || r.Batch != batch || r.Line != line:
			return p, fmt.Errorf("journal record %d was filed under another batch or line", seq)
		}
		p.Head = hash
		found = found || len(head) >= 8 && strings.HasPrefix(hash, strings.ToLower(head))
	}
	if err := rows.Err(); err != nil {
		return p, err
	}
	if !found {
		return p, fmt.Errorf("no journal record has the hash %s: records were cut off, or the hash is of another journal", head)
	}
	return p, nil
}
