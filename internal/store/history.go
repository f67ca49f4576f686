package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// Audit is one audit of a yard whose result is kept.
type Audit struct {
	ID   int
	Yard string
	Kind string // what sort of audit it was
	At   time.Time
	Body []byte // JSON: what it looked at and counted
}

// Mark tells findings apart: the same fact has the same mark.
type Mark [16]byte

// Found is one finding of an audit.
type Found struct {
	Mark  Mark
	Check string
	Body  func() []byte // JSON, asked for only where the finding is new
}

// Presence is how long a finding was there.
type Presence struct {
	ID    int
	Mark  Mark
	Check string
	Body  []byte // JSON, as it was when it came
	Came  int    // the audit that first had it
	Went  int    // the audit that had it no more, 0 while it is there
}

// KeepAudit keeps what an audit found. Of findings that are there no more, gone
// tells whether that is proved: whether the audit would have found one that came
// with an earlier audit. It returns the presence of each finding, in their order,
// and gives the audit its number.
func (s *Store) KeepAudit(
	ctx context.Context, a *Audit, found []Found, gone func(check string, came *Audit) bool,
) (present []int, err error) {
	err = s.tx(ctx, func(tx *transaction) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO audits (yard, kind, at, body) VALUES (?, ?, ?, ?)", a.Yard, a.Kind,
			stamp(a.At), string(a.Body))
		if err != nil {
			return err
		}
		id, err := res.LastInsertId()
		if err != nil {
			return err
		}
		a.ID = int(id)
		there, err := tx.there(ctx, a.Yard)
		if err != nil {
			return err
		}
		if present, err = tx.come(ctx, a, found, there); err != nil {
			return err
		}
		return tx.leave(ctx, a, there, gone)
	})
	return present, err
}

// stamp writes a time as the database compares it.
func stamp(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05.000Z") }

// unstamp reads what stamp wrote; zero for "".
func unstamp(text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	return time.Parse(time.RFC3339, text)
}

// standing is a finding that is there, as far as is known.
type standing struct {
	id, came int
	check    string
}

// there are the findings of a yard that are there.
func (tx *transaction) there(ctx context.Context, yard string) (map[Mark]standing, error) {
	rows, err := tx.QueryContext(ctx, "SELECT id, mark, name, came FROM presences WHERE yard = ? AND went = 0", yard)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[Mark]standing{}
	names := map[string]string{} // the same text once
	var mark sql.RawBytes
	for rows.Next() {
		var o standing
		if err := rows.Scan(&o.id, &mark, &o.check, &o.came); err != nil {
			return nil, err
		}
		if kept, ok := names[o.check]; ok {
			o.check = kept
		} else {
			names[o.check] = o.check
		}
		all[Mark(mark)] = o
	}
	return all, rows.Err()
}

// come writes down the findings that are new, and takes those that are there out
// of the map.
func (tx *transaction) come(ctx context.Context, a *Audit, found []Found, there map[Mark]standing) (ids []int, err error) {
	insert, err := tx.PrepareContext(ctx, "INSERT INTO presences (yard, mark, name, body, came) VALUES (?, ?, ?, ?, ?)")
	if err != nil {
		return nil, err
	}
	defer insert.Close()
	ids = make([]int, len(found))
	for i := range found {
		f := &found[i]
		if known, ok := there[f.Mark]; ok {
			ids[i] = known.id
			delete(there, f.Mark)
			continue
		}
		res, err := insert.ExecContext(ctx, a.Yard, f.Mark[:], f.Check, string(f.Body()), a.ID)
		if err != nil {
			return nil, err
		}
		id, err := res.LastInsertId()
		if err != nil {
			return nil, err
		}
		ids[i] = int(id)
	}
	return ids, nil
}

// leave writes down which findings are there no more, of those that were not found.
func (tx *transaction) leave(
	ctx context.Context, a *Audit, missing map[Mark]standing, gone func(string, *Audit) bool,
) error {
	type came struct {
		check string
		audit int
	}
	audits, judged := map[int]*Audit{}, map[came]bool{}
	for _, o := range missing {
		by := came{o.check, o.came}
		is, known := judged[by]
		if !known {
			if audits[o.came] == nil {
				earlier, err := scanAudit(tx.QueryRowContext(ctx, auditColumns+"WHERE id = ?", o.came))
				if err != nil {
					return err
				}
				audits[o.came] = earlier
			}
			is = gone(o.check, audits[o.came])
			judged[by] = is
		}
		if !is {
			continue
		}
		if _, err := tx.ExecContext(ctx, "UPDATE presences SET went = ? WHERE id = ?", a.ID, o.id); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM told WHERE presence = ?", o.id); err != nil {
			return err
		}
	}
	return nil
}

const auditColumns = "SELECT id, yard, kind, at, body FROM audits "

func scanAudit(row interface{ Scan(...any) error }) (*Audit, error) {
	a, at := &Audit{}, ""
	if err := row.Scan(&a.ID, &a.Yard, &a.Kind, &at, &a.Body); err != nil {
		return nil, err
	}
	var err error
	a.At, err = unstamp(at)
	return a, err
}

// AuditBefore is the last audit of a kind that was made at or before a time, nil
// where there is none.
func (s *Store) AuditBefore(ctx context.Context, yard, kind string, at time.Time) (*Audit, error) {
	a, err := scanAudit(s.db.QueryRowContext(ctx,
		auditColumns+"WHERE yard = ? AND kind = ? AND at <= ? ORDER BY id DESC LIMIT 1", yard, kind, stamp(at)))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return a, err
}

// Audits are the kept audits of a yard, oldest first; of every yard for "".
func (s *Store) Audits(ctx context.Context, yard string) (all []*Audit, err error) {
	rows, err := s.db.QueryContext(ctx, auditColumns+"WHERE ? IN (yard, '') ORDER BY id", yard)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		a, err := scanAudit(rows)
		if err != nil {
			return nil, err
		}
		all = append(all, a)
	}
	return all, rows.Err()
}

// MarksAt are the findings that were there at an audit.
func (s *Store) MarksAt(ctx context.Context, a *Audit) (map[Mark]bool, error) {
	rows, err := s.db.QueryContext(ctx,
		"SELECT mark FROM presences WHERE yard = ? AND came <= ? AND (went = 0 OR went > ?)", a.Yard, a.ID, a.ID)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[Mark]bool{}
	var mark sql.RawBytes
	for rows.Next() {
		if err := rows.Scan(&mark); err != nil {
			return nil, err
		}
		all[Mark(mark)] = true
	}
	return all, rows.Err()
}

// Between are the findings of a yard that came or went after one audit, up to and
// with another.
func (s *Store) Between(ctx context.Context, earlier, later *Audit) (came, went []Presence, err error) {
	read := func(where string) (all []Presence, err error) {
		rows, err := s.db.QueryContext(ctx, "SELECT id, mark, name, body, came, went FROM presences WHERE yard = ?1 AND "+
			where+" ORDER BY name, id", later.Yard, earlier.ID, later.ID)
		if err != nil {
			return nil, err
		}
		defer rows.Close()
		var mark sql.RawBytes
		for rows.Next() {
			var p Presence
			if err := rows.Scan(&p.ID, &mark, &p.Check, &p.Body, &p.Came, &p.Went); err != nil {
				return nil, err
			}
			p.Mark = Mark(mark)
			all = append(all, p)
		}
		return all, rows.Err()
	}
	// One that came and went in between is in neither.
	if came, err = read("came > ?2 AND came <= ?3 AND (went = 0 OR went > ?3)"); err == nil {
		went, err = read("came <= ?2 AND went > ?2 AND went <= ?3")
	}
	return came, went, err
}

// Told are the presences that a reader has been told of.
func (s *Store) Told(ctx context.Context, reader string) (map[int]bool, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT presence FROM told JOIN readers ON id = reader WHERE name = ?", reader)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	all := map[int]bool{}
	for rows.Next() {
		var id int
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		all[id] = true
	}
	return all, rows.Err()
}

// Tell remembers that a reader has been told of presences.
func (s *Store) Tell(ctx context.Context, reader string, presences []int) error {
	return s.tx(ctx, func(tx *transaction) error { return tx.tell(ctx, reader, presences) })
}

func (tx *transaction) tell(ctx context.Context, reader string, presences []int) error {
	if _, err := tx.ExecContext(ctx, "INSERT INTO readers (name) VALUES (?) ON CONFLICT DO NOTHING", reader); err != nil {
		return err
	}
	insert, err := tx.PrepareContext(ctx, "INSERT INTO told (reader, presence) SELECT id, ?1 FROM readers WHERE name = ?2 "+
		"AND EXISTS (SELECT 1 FROM presences WHERE presences.id = ?1 AND went = 0) ON CONFLICT DO NOTHING")
	if err != nil {
		return err
	}
	defer insert.Close()
	for _, id := range presences {
		if _, err := insert.ExecContext(ctx, id, reader); err != nil {
			return err
		}
	}
	return nil
}

// ForgetAudits removes audits, by their numbers, with the findings that were
// there at none of those that stay.
func (s *Store) ForgetAudits(ctx context.Context, ids []int) error {
	return s.tx(ctx, func(tx *transaction) error {
		for _, id := range ids {
			// What came with it came, as far as is still known, with the next one of
			// the yard; what went with it went with the next one, too.
			for _, column := range []string{"came", "went"} {
				_, err := tx.ExecContext(ctx, fmt.Sprintf("UPDATE presences SET %[1]s = coalesce((SELECT min(n.id) FROM "+
					"audits n, audits o WHERE o.id = ?1 AND n.yard = o.yard AND n.id > ?1), %[1]s) WHERE %[1]s = ?1", column), id)
				if err != nil {
					return err
				}
			}
			if _, err := tx.ExecContext(ctx, "DELETE FROM audits WHERE id = ? AND EXISTS (SELECT 1 FROM audits n WHERE "+
				"n.yard = audits.yard AND n.id > audits.id)", id); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM presences WHERE went > 0 AND came >= went")
		return err
	})
}
