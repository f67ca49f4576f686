package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/roster"
	"yardbroom/internal/sheet"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// Link is a decision on an account and a person, as it is kept. The account is
// known by its identity; the names are for people to read.
type Link struct {
	AccountID string    `json:"account_id"` // objectGUID, entryUUID or nsUniqueId, in its readable form
	Dialect   string    `json:"dialect"`
	Account   string    `json:"account"`
	Person    string    `json:"person"` // the person's key
	Name      string    `json:"name"`
	Verdict   Verdict   `json:"verdict"`
	Why       string    `json:"why,omitempty"`
	By        string    `json:"by"`
	At        time.Time `json:"at"`

	// Number is what it is called by, 0 for one that is not kept yet.
	Number int `json:"-"`
}

// Verdict is what was decided on an account and a person.
type Verdict string

// The verdicts.
const (
	Confirmed Verdict = "confirmed"
	Rejected  Verdict = "rejected"
)

// decision is the link as matching takes it.
func (l *Link) decision() reconcile.Link {
	raw := ""
	if d, err := directory.DialectNamed(l.Dialect); err == nil {
		raw, _ = source.ReadIdentity(d, l.AccountID) // one that is none stands for no account
	}
	return reconcile.Link{Account: raw, Person: l.Person, Rejected: l.Verdict == Rejected}
}

// Decision is a verdict on an account and a person, each by what people call
// them.
type Decision struct {
	Verdict         Verdict
	Account, Person string
	Why             string
	Roster          RosterFrom
}

// Decide keeps a decision on an account of a place and a person of a roster.
func (s *Session) Decide(ctx context.Context, p *Place, of Decision) (*Link, error) {
	e, err := s.FindAccount(ctx, p, of.Account)
	if err != nil {
		return nil, err
	}
	_, d, err := p.Dialect(ctx)
	if err != nil {
		return nil, err
	}
	acc := d.Account(e)
	if acc.ID == "" {
		return nil, fmt.Errorf("%s shows no %s, by which a link would know it again", acc.Name(), d.Identity)
	}
	people, err := s.ReadRoster(ctx, p, &of.Roster)
	if err != nil {
		return nil, err
	}
	if people == nil {
		return nil, Wrong("the yard has no roster yet: give one with --roster")
	}
	who, err := findPerson(s.peopleOn(people, s.Now(), p), of.Person, people.About.Source)
	if err != nil {
		return nil, err
	}
	l := &Link{
		AccountID: source.ShowIdentity(d, acc.ID),
		Dialect:   d.Name,
		Account:   acc.Name(),
		Person:    reconcile.PersonKey(who),
		Name:      audit.PersonName(who),
		Verdict:   of.Verdict,
		Why:       of.Why,
		By:        s.By,
		At:        s.now(),
	}
	return l, s.decide(ctx, l)
}

// decide keeps a decision, in place of any earlier one that it contradicts, and
// gives it its number.
func (s *Session) decide(ctx context.Context, l *Link) error {
	all, err := s.Links(ctx)
	if err != nil {
		return err
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return err
	}
	for i := range all {
		old := &all[i]
		if old.AccountID != l.AccountID || old.Dialect != l.Dialect {
			continue
		}
		samePerson := old.Person == l.Person
		if samePerson && old.Verdict == l.Verdict {
			l.Number = old.Number
			return nil
		}
		if samePerson || old.Verdict == Confirmed && l.Verdict == Confirmed {
			if err := s.EndLink(ctx, old.Number); err != nil {
				return err
			}
			s.note("link %d (%s %s %s) is ended by this", old.Number, old.Account, old.Verdict, old.Name)
		}
	}
	body, err := json.Marshal(l)
	if err != nil {
		return err
	}
	l.Number, err = kept.Decide(ctx, store.Links, body,
		&store.Record{At: l.At, By: l.By, Event: store.EventLinked, Body: body})
	return err
}

// findPerson finds the one person whom people would call so: by a row of the
// roster, a person id, an address or logon name, a whole name.
func findPerson(all []roster.Person, name, where string) (*roster.Person, error) {
	row, byRow := 0, false
	if text, ok := strings.CutPrefix(name, "row "); ok {
		n, err := strconv.Atoi(text)
		if err != nil {
			return nil, Wrong("%q is not a row: write \"row 17\"", name)
		}
		row, byRow = n, true
	}
	folded := directory.FoldText(name)
	for _, means := range []func(who *roster.Person) bool{
		func(who *roster.Person) bool { return byRow && slices.Contains(who.Rows, row) },
		func(who *roster.Person) bool {
			id := who.Values[roster.PersonID]
			return id != "" && reconcile.KeyOfID(id) == reconcile.KeyOfID(name)
		},
		func(who *roster.Person) bool {
			return name != "" && (strings.EqualFold(who.Values[roster.Mail], name) || strings.EqualFold(who.Values[roster.Logon], name))
		},
		func(who *roster.Person) bool {
			v := &who.Values
			return folded != "" && (directory.FoldText(reconcile.FullName(who)) == folded || directory.FoldText(v[roster.Given]+v[roster.Family]) == folded || directory.FoldText(v[roster.FullName]) == folded)
		},
	} {
		var found []*roster.Person
		for i := range all {
			if means(&all[i]) {
				found = append(found, &all[i])
			}
		}
		switch {
		case len(found) == 1:
			return found[0], nil
		case len(found) > 1:
			var b strings.Builder
			fmt.Fprintf(&b, "%q may be any of %d people; say which by person id or row:", name, len(found))
			for _, who := range found[:min(len(found), 10)] {
				fmt.Fprintf(&b, "\n  row %d: %s", who.Rows[0], audit.PersonName(who))
			}
			return nil, errors.New(b.String())
		}
	}
	return nil, fmt.Errorf("nobody on the roster %s is called %q", where, name)
}

// Links are all decisions in force.
func (s *Session) Links(ctx context.Context) ([]Link, error) {
	rows, err := s.decisions(ctx, store.Links)
	if err != nil {
		return nil, err
	}
	var all []Link
	for _, r := range rows {
		l := Link{Number: r.ID}
		if err := json.Unmarshal(r.Body, &l); err != nil {
			return nil, fmt.Errorf("link %d cannot be read: %w", r.ID, err)
		}
		all = append(all, l)
	}
	return all, nil
}

// EndLink takes a decision back.
func (s *Session) EndLink(ctx context.Context, number int) error {
	return s.endDecision(ctx, store.Links, store.EventLinkEnded, number)
}

// linkColumns are the columns of exported decisions.
var linkColumns = []sheet.Column{
	{Name: "account_id"},
	{Name: "dialect"},
	{Name: "account"},
	{Name: "person"},
	{Name: "name"},
	{Name: "verdict"},
	{Name: "why"},
	{Name: "by"},
	{Name: "at", Kind: sheet.Time},
}

// LinkSheet is a table of decisions that ImportLinks reads.
func LinkSheet(all []Link) *sheet.Sheet {
	out := &sheet.Sheet{Name: "links", Columns: linkColumns}
	for _, l := range all {
		out.Rows = append(out.Rows,
			[]any{l.AccountID, l.Dialect, l.Account, l.Person, l.Name, string(l.Verdict), l.Why, l.By, l.At})
	}
	return out
}

// ImportLinks takes over exported decisions, and returns how many they are. None
// is taken over if one is wrong. Name is what errors call the file.
func (s *Session) ImportLinks(ctx context.Context, in io.Reader, name string) (int, error) {
	all, err := readLinks(in, name)
	if err != nil {
		return 0, err
	}
	for i := range all {
		if err := s.decide(ctx, &all[i]); err != nil {
			return i, err
		}
	}
	return len(all), nil
}

func readLinks(in io.Reader, name string) ([]Link, error) {
	t, err := sheet.ReadCSV(in)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if !slices.EqualFunc(t.Header, linkColumns, func(h string, c sheet.Column) bool { return h == c.Name }) {
		return nil, fmt.Errorf(
			"%s is no list of links: its columns have to be those that \"yardbroom link export\" writes", name)
	}
	var all []Link
	for _, row := range t.Rows {
		l, err := readLink(row.Cells)
		if err != nil {
			return nil, fmt.Errorf("%s: line %d: %w", name, row.Line, err)
		}
		all = append(all, *l)
	}
	return all, nil
}

func readLink(cells []string) (l *Link, err error) {
	if len(cells) != len(linkColumns) {
		return nil, fmt.Errorf("it has %d cells, and a link has %d", len(cells), len(linkColumns))
	}
	l = &Link{
		AccountID: cells[0],
		Dialect:   cells[1],
		Account:   cells[2],
		Person:    cells[3],
		Name:      cells[4],
		Verdict:   Verdict(cells[5]),
		Why:       cells[6],
		By:        cells[7],
	}
	if l.At, err = time.Parse(time.RFC3339, cells[8]); err != nil {
		return nil, fmt.Errorf("at: %w", err)
	}
	d, err := directory.DialectNamed(l.Dialect)
	if err != nil {
		return nil, err
	}
	if _, err = source.ReadIdentity(d, l.AccountID); err != nil {
		return nil, err
	}
	if l.AccountID == "" || l.Person == "" || l.Verdict != Confirmed && l.Verdict != Rejected {
		return nil, fmt.Errorf("an account_id, a person and a verdict (%s or %s) are needed", Confirmed, Rejected)
	}
	return l, nil
}
