package work

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// The kinds of audits whose results are kept.
const (
	auditing    = "audit"     // of all checks
	reconciling = "reconcile" // of all checks of the roster
	inPart      = "part"      // of some checks
)

// Before says which findings are left out, since they are not new. The zero value
// leaves out nothing.
type Before struct {
	// Since leaves out what was found by the last kept audit ("last"), or by the
	// last one at or before a date or time.
	Since string
	// Reader leaves out what the reader of this name has been told of.
	Reader string
	// Keep remembers this audit as the last one, though it only looks.
	Keep bool
}

// BeforeMoment reads what --since says: "last", or a date or time. It is false
// for what is neither, and so the name of a survey.
func BeforeMoment(since string) (Before, bool) {
	_, err := calendar.ParseTime(since, time.UTC)
	return Before{Since: since}, since == "last" || err == nil
}

// Memory is what is kept of an audit.
type Memory struct {
	kept  *store.Audit // nil where nothing is
	found []int        // the presences of the findings, in their order
	left  []int        // the places of those that were not left out
}

// CheckCount is what a kept audit says of one check.
type CheckCount struct {
	Severity  audit.Severity `json:"severity"`
	Findings  int            `json:"findings"`
	Likely    int            `json:"likely,omitempty"`
	Looked    bool           `json:"looked_at"`
	NotLooked []string       `json:"not_looked_at,omitempty"`
	// By counts the findings by their own severity, which may be another than the
	// check's.
	By [4]int `json:"by"`
}

// Counts is what a kept audit looked at and counted.
type Counts struct {
	AsOf   time.Time             `json:"as_of"`
	By     string                `json:"by"`
	Whole  bool                  `json:"whole"` // nothing was missing in what was read
	Checks map[string]CheckCount `json:"checks"`
	// Accounts counts the accounts by kind and state.
	Accounts map[string]map[string]int `json:"accounts"`
	// Places counts the findings by the place that they are about, which is at
	// most two levels below the base, and severity.
	Places map[string][4]int `json:"places,omitempty"`
	People int               `json:"people,omitempty"` // on the roster
}

// FoundEntry is which entry a kept finding is about.
type FoundEntry struct {
	Account  string         `json:"account"`
	DN       string         `json:"dn"`
	Kind     string         `json:"kind"`
	Severity audit.Severity `json:"severity"`
}

// Remember keeps what an audit of a place found, so that the next one can tell
// what is new, and takes out what is not. It keeps the sign-ins that its logs tell of,
// too, before they rotate away.
func (s *Session) Remember(ctx context.Context, p *Place, q *Question, r *audit.Report, before Before) (
	*audit.Report, Memory, error,
) {
	id, err := p.Identity(ctx)
	if err != nil {
		return nil, Memory{}, fmt.Errorf("nothing can be remembered of this audit: %w", err)
	}
	if err := s.keepSignIns(ctx, p); err != nil {
		return nil, Memory{}, err
	}
	earlier, err := s.earlier(ctx, p, id, auditing, before)
	if err != nil {
		return nil, Memory{}, err
	}
	kind := inPart
	if s.auditsAll(q.Checks) {
		kind = auditing
	}
	m := lookedAt(r)
	if !looks(before, earlier) {
		if m, err = s.keepAudit(ctx, id, kind, r); err != nil {
			return nil, m, err
		}
	}
	r, err = s.newSince(ctx, r, &m, earlier, before)
	return r, m, err
}

// looks tells whether somebody only looks at what is new since a remembered audit: that
// moves nobody's memory. The first look is remembered, or there would never be any.
func looks(before Before, earlier *store.Audit) bool {
	return before.Since != "" && before.Reader == "" && !before.Keep && earlier != nil
}

// lookedAt is the memory of a report that is not kept.
func lookedAt(r *audit.Report) Memory {
	m := Memory{left: make([]int, len(r.Findings))}
	for i := range m.left {
		m.left[i] = i
	}
	return m
}

// auditsAll tells whether these are all checks, but perhaps for those of the
// roster.
func (s *Session) auditsAll(checks []string) bool {
	return len(checks) == 0 || !slices.ContainsFunc(s.DirectoryChecks(), func(name string) bool {
		return !slices.Contains(checks, name)
	})
}

// DirectoryChecks are the checks of the directory itself, and not of the roster, that
// are not switched off.
func (s *Session) DirectoryChecks() (names []string) {
	for _, c := range s.Catalog {
		if !c.ByRoster && !c.IsOff(&s.Settings.Audit) {
			names = append(names, c.Name)
		}
	}
	return names
}

// TellReader remembers that a reader has been told of what a memory has left.
func (s *Session) TellReader(ctx context.Context, reader string, m Memory) error {
	kept, err := s.Store(ctx)
	if err != nil || m.kept == nil {
		return err
	}
	return kept.Tell(ctx, reader, m.Left())
}

// Left are the presences of the findings that were not left out.
func (m *Memory) Left() (ids []int) {
	for _, i := range m.left {
		ids = append(ids, m.found[i])
	}
	return ids
}

// marks are the marks of findings. Facts that are found more than once are
// counted.
func marks(findings []audit.Finding) []store.Mark {
	seen := map[store.Mark]int{}
	out := make([]store.Mark, len(findings))
	for i := range findings {
		sum := sha256.Sum256([]byte(findings[i].Sameness()))
		mark := store.Mark(sum[:16])
		if n := seen[mark]; n > 0 {
			sum = sha256.Sum256(fmt.Appendf(sum[:], "%d", n))
		}
		seen[mark]++
		out[i] = store.Mark(sum[:16])
	}
	return out
}

// keepAudit keeps what was found.
func (s *Session) keepAudit(ctx context.Context, id source.Identity, kind string, r *audit.Report) (Memory, error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return Memory{}, err
	}
	counts := s.counts(r)
	body, err := json.Marshal(counts)
	if err != nil {
		return Memory{}, err
	}
	found := make([]store.Found, len(r.Findings))
	for i, mark := range marks(r.Findings) {
		f := &r.Findings[i]
		found[i] = store.Found{Mark: mark, Check: f.Check, Body: func() []byte {
			text, _ := json.Marshal(FoundEntry{f.Account, f.DN, f.Kind, f.Severity}) // of texts only
			return text
		}}
	}
	m := Memory{kept: &store.Audit{Yard: yardKey(id), Kind: kind, At: s.now(), Body: body}}
	m.found, err = kept.KeepAudit(ctx, m.kept, found, func(check string, came *store.Audit) bool {
		var then Counts
		return json.Unmarshal(came.Body, &then) == nil && counts.proves(check, &then) && s.samePeople(check, counts, &then)
	})
	m.left = make([]int, len(found))
	for i := range m.left {
		m.left[i] = i
	}
	return m, err
}

// samePeople tells whether a roster is not so much shorter than an earlier one that what
// a check of the roster finds no more may only be missing in it.
func (s *Session) samePeople(check string, now, then *Counts) bool {
	c := s.Catalog.Find(check)
	return c == nil || !c.ByRoster || (then.People-now.People)*tenth <= then.People
}

// proves tells whether something that a check found at an earlier audit would
// have been found again: whether nothing is hidden now that could be seen then.
func (c *Counts) proves(check string, then *Counts) bool {
	now, looked := c.Checks[check]
	return c.Whole && looked && now.Looked &&
		!slices.ContainsFunc(now.NotLooked, func(why string) bool {
			return !slices.Contains(then.Checks[check].NotLooked, why)
		})
}

// counts is what there is to count in a report.
func (s *Session) counts(r *audit.Report) *Counts {
	c := &Counts{
		AsOf:     r.AsOf.UTC(),
		By:       s.By,
		Whole:    r.Survey.Whole() && r.Survey.Broken == 0 && !r.Survey.Partial,
		Checks:   map[string]CheckCount{},
		Accounts: r.Survey.CountStates(r.AsOf),
		Places:   map[string][4]int{},
	}
	for _, sum := range r.Summary {
		c.Checks[sum.Check] = CheckCount{sum.Severity, sum.Findings, sum.Likely, sum.Looked, sum.NotLooked, [4]int{}}
	}
	for i := range r.Findings {
		f := &r.Findings[i]
		of := c.Checks[f.Check]
		of.By[f.Severity]++
		c.Checks[f.Check] = of
		if f.AboutEntry() {
			place := topOf(directory.Place(f.DN))
			of := c.Places[place]
			of[f.Severity]++
			c.Places[place] = of
		}
	}
	if r.Roster != nil {
		c.People = r.Roster.People
	}
	return c
}

// topOf is the first two levels of a place.
func topOf(place string) string {
	first, rest, _ := strings.Cut(place, "/")
	second, _, _ := strings.Cut(rest, "/")
	if second == "" {
		return first
	}
	return first + "/" + second
}

// earlier is the kept audit that is asked for, nil where none is.
func (s *Session) earlier(
	ctx context.Context, p *Place, id source.Identity, kind string, before Before,
) (*store.Audit, error) {
	if before.Since == "" {
		return nil, nil
	}
	at := s.Now()
	if before.Since != "last" {
		var err error
		if at, err = calendar.ParseTime(before.Since, p.Location()); err != nil {
			return nil, Wrong("--since: %w, or \"last\"", err)
		}
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	earlier, err := kept.AuditBefore(ctx, yardKey(id), kind, at)
	switch {
	case err == nil && earlier == nil && before.Since == "last":
		s.note("note: nothing is remembered of this yard yet, so everything is new")
	case err == nil && earlier == nil && kind == reconciling:
		err = fmt.Errorf("--since %s: no comparison of this yard with a roster is remembered from then", before.Since)
	case err == nil && earlier == nil:
		err = fmt.Errorf("--since %s: no audit of this yard is remembered from then; rounds, --new-to and --remember remember theirs",
			before.Since)
	}
	return earlier, err
}

// CountNew counts the findings that the last remembered audit of the yard did not have.
// It remembers nothing itself.
func (s *Session) CountNew(ctx context.Context, p *Place, r *audit.Report) error {
	kept, err := s.storeIfAny(ctx)
	if kept == nil || err != nil {
		return err
	}
	id, err := p.Identity(ctx)
	if err != nil {
		return nil // which directory it is cannot be told, so nothing is remembered of it
	}
	earlier, err := kept.AuditBefore(ctx, yardKey(id), auditing, s.Now())
	if earlier == nil || err != nil {
		return err
	}
	then, err := kept.MarksAt(ctx, earlier)
	if err != nil {
		return err
	}
	fresh := &audit.Fresh{Since: earlier.At}
	for _, mark := range marks(r.Findings) {
		if !then[mark] {
			fresh.Count++
		}
	}
	r.Fresh = fresh
	return nil
}

// newSince leaves out of a report what is not new.
func (s *Session) newSince(
	ctx context.Context, r *audit.Report, m *Memory, earlier *store.Audit, before Before,
) (*audit.Report, error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	var known func(int) bool
	switch {
	case before.Reader != "":
		told, err := kept.Told(ctx, before.Reader)
		if err != nil {
			return nil, err
		}
		known = func(i int) bool { return told[m.found[i]] }
	case earlier != nil:
		then, err := kept.MarksAt(ctx, earlier)
		if err != nil {
			return nil, err
		}
		now := marks(r.Findings)
		known = func(i int) bool { return then[now[i]] }
	default:
		return r, nil
	}
	m.left = slices.DeleteFunc(m.left, known)
	out := r.Only(func(i int) bool { return !known(i) })
	out.Earlier = &audit.Earlier{Reader: before.Reader, Known: len(r.Findings) - len(out.Findings)}
	if earlier != nil {
		out.Earlier.At = earlier.At
	}
	return out, nil
}
