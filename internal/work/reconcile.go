package work

import (
	"context"
	"fmt"

	"yardbroom/internal/audit"
	"yardbroom/internal/roster"
)

// ReconcileRequest says how people and accounts are compared.
type ReconcileRequest struct {
	Question // its Checks are those of the roster; none stands for all of them
	// Strict matches by links and by keys that are exactly alike, and not by
	// names.
	Strict bool
	Before
	// Another takes the roster over as the last one of the yard, though it differs from
	// that by more than a tenth.
	Another bool
	// BoundsMustExist fails where a bound of the yard does not exist; else that is
	// noted.
	BoundsMustExist bool
}

// Reconciliation is what came of comparing people with accounts.
type Reconciliation struct {
	*audit.Report // its People are who has which account
	// Whole is the report with what was left out, too.
	Whole  *audit.Report
	Roster roster.Kept
	Bad    []roster.Bad // rows that could not be read, where they are known
	Memory Memory
}

// Reconcile compares people with the accounts of a place. The roster is kept as
// the yard's last one, with who has which account.
func (s *Session) Reconcile(ctx context.Context, p *Place, r *ReconcileRequest) (*Reconciliation, error) {
	checks, err := s.rosterChecks(r.Checks)
	if err != nil {
		return nil, err
	}
	list, err := s.ReadRoster(ctx, p, &r.Roster) // before the directory: it is the smaller one, and more often wrong
	if err != nil {
		return nil, err
	}
	if list == nil {
		return nil, Wrong("the yard has no roster yet: give HR's list of people with --roster")
	}
	survey, err := p.Survey(ctx)
	if err != nil {
		return nil, err
	}
	asOf, err := s.asOf(r.AsOf, p.Location(), survey)
	if err != nil {
		return nil, err
	}
	by := byNames
	if r.Strict {
		by = byKeys
	}
	result, err := s.match(ctx, p, survey, asOf, list, by)
	if err != nil {
		return nil, err
	}
	report, err := s.run(ctx, p, judging{survey: survey, people: result, asOf: asOf, checks: checks})
	if err != nil {
		return nil, err
	}
	if r.BoundsMustExist {
		err = s.RefuseMissing(ctx, p, survey)
	} else {
		err = s.NoteMissing(ctx, p, survey)
	}
	if err != nil {
		return nil, err
	}
	out := &Reconciliation{Report: report, Whole: report, Roster: list.About, Bad: list.Bad}
	return out, s.remember(ctx, p, list, r, out)
}

// rosterChecks are the checks of the roster that are meant: those that are named,
// or all that are not switched off.
func (s *Session) rosterChecks(named []string) ([]string, error) {
	for _, name := range named {
		c, err := s.Catalog.Named(name)
		if err != nil {
			return nil, Wrong("--check: %w", err)
		}
		if !c.ByRoster {
			return nil, Wrong("--check: %s looks at no roster; \"yardbroom audit\" runs it", name)
		}
	}
	if len(named) > 0 {
		return named, nil
	}
	var all []string
	for _, c := range s.Catalog {
		if c.ByRoster && !c.IsOff(&s.Settings.Audit) {
			all = append(all, c.Name)
		}
	}
	return all, nil
}

// remember keeps the roster, who has which account, and what was found; and
// takes out what is not new, where that was asked for.
func (s *Session) remember(
	ctx context.Context, p *Place, list *Roster, r *ReconcileRequest, out *Reconciliation,
) error {
	id, err := p.Identity(ctx)
	if err != nil {
		s.note("note: nothing is remembered of this comparison: %v", err)
		if r.Before != (Before{}) {
			return fmt.Errorf("--since: %w", err)
		}
		return nil
	}
	earlier, err := s.earlier(ctx, p, id, reconciling, r.Before)
	if err != nil {
		return err
	}
	was := &predecessor{}
	if list.Fresh {
		was = s.predecessorOf(id, list)
	}
	switch {
	case list.Fresh && was.tooDifferent() && !r.Another:
		s.note("note: this roster differs by %d people from the last one of the yard, which has %d: it is not taken over, and audit, show and stage go on with the last one; if it is right, say --another-roster", was.differing, was.people)
	default:
		if err := s.keepRoster(id, list, was, out.People); err != nil {
			return err
		}
	}
	kind := reconciling
	if len(r.Checks) > 0 || r.Strict { // a part would make the rest seem new
		kind = inPart
	}
	if looks(r.Before, earlier) {
		out.Memory = lookedAt(out.Report)
	} else if out.Memory, err = s.keepAudit(ctx, id, kind, out.Report); err != nil {
		return err
	}
	out.Report, err = s.newSince(ctx, out.Report, &out.Memory, earlier, r.Before)
	return err
}
