package work

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/wording"
)

// Question is what a directory is judged by.
type Question struct {
	// Checks are names; none stands for all that are not switched off.
	Checks []string
	// AsOf is a date or an RFC 3339 time; "" is the survey's own, or now.
	AsOf string
	// SignIns is a file of sign-ins that other systems recorded.
	SignIns string
	Roster  RosterFrom
	// Logs are read for sign-ins: those of the yard where none are named.
	Logs LogsFrom
}

// Judge surveys a place and runs checks over it.
func (s *Session) Judge(ctx context.Context, p *Place, q *Question) (*audit.Report, error) {
	for _, name := range q.Checks {
		if _, err := s.Catalog.Named(name); err != nil {
			return nil, Wrong("--check: %w", err)
		}
	}
	survey, err := p.Survey(ctx)
	if err != nil {
		return nil, err
	}
	asOf, err := s.asOf(q.AsOf, p.Location(), survey)
	if err != nil {
		return nil, err
	}
	if err := s.addSignIns(q.SignIns, p, survey); err != nil {
		return nil, err
	}
	if err := s.watch(ctx, p, &q.Logs, survey); err != nil {
		return nil, err
	}
	people, err := s.matched(ctx, p, q, survey, asOf)
	if err != nil {
		return nil, err
	}
	return s.run(ctx, p, judging{survey: survey, people: people, asOf: asOf, checks: q.Checks})
}

// OpenEarlier opens an earlier survey, to be compared with a later place of the same
// directory.
func (s *Session) OpenEarlier(ctx context.Context, later *Place, earlier From) (*Place, error) {
	p, err := s.Open(ctx, earlier)
	if err != nil {
		return nil, err
	}
	// What is in someone's care is told by the later place.
	p.Yard.Scope, p.Yard.LeaveOut, p.Yard.TimeZone = later.Yard.Scope, later.Yard.LeaveOut, later.Yard.TimeZone
	if err := sameDirectory(ctx, p, later); err != nil {
		p.Close()
		return nil, err
	}
	return p, nil
}

// sameDirectory refuses two places that are not the same directory.
func sameDirectory(ctx context.Context, p, later *Place) error {
	was, err := p.Identity(ctx)
	if err != nil {
		return err
	}
	is, err := later.Identity(ctx)
	if err != nil {
		return err
	}
	if !was.Same(is) {
		return fmt.Errorf("%s is %s, and %s is %s: two directories, which cannot be compared", p.Where(), was,
			later.Where(), is)
	}
	return nil
}

// Compare judges an earlier survey as a later place was judged, and compares.
func (s *Session) Compare(ctx context.Context, later *Place, after *audit.Report, p *Place, q *Question) (*audit.Comparison, error) {
	before, err := s.Judge(ctx, p, q)
	if err != nil {
		return nil, err
	}
	if before.AsOf.After(after.AsOf) {
		s.note("note: %s is later than %s", p.Where(), later.Where())
	}
	return audit.Compare(before, after), nil
}

// judging is what checks are to run over.
type judging struct {
	survey *directory.Survey
	people *reconcile.Result // who has which account, nil where that is not known
	asOf   time.Time
	checks []string       // their names, none for all
	within string         // a part of a filter: those of the settings look only at what fulfils it too
	more   []*audit.Check // besides those of the settings
	about  string         // the DN of the one account that is asked for, "" for all
}

// run runs checks over what was read of a place.
func (s *Session) run(ctx context.Context, p *Place, j judging) (*audit.Report, error) {
	exempt, err := s.exemptions(ctx, p)
	if err != nil {
		return nil, err
	}
	if err := s.addOurs(ctx, p, j.survey, j.checks); err != nil {
		return nil, err
	}
	selected, err := s.selected(ctx, p, j)
	if err != nil {
		return nil, err
	}
	suspended, err := s.suspended(ctx, p, j.survey.Dialect, j.people)
	if err != nil {
		return nil, err
	}
	report, err := audit.Run(j.survey, s.Settings, audit.Options{Suspended: suspended, Logs: p.watched, AsOf: j.asOf, Checks: j.checks,
		Scope: p.Yard.Scope, LeaveOut: p.Yard.LeaveOut, Exemptions: exempt, Selected: selected, People: j.people, More: j.more, About: j.about})
	if err != nil {
		return nil, asRequest(err)
	}
	return report, nil
}

// addOurs tells a survey what our journal did, where a check of the settings wants to
// know since when something is so.
func (s *Session) addOurs(ctx context.Context, p *Place, survey *directory.Survey, checks []string) error {
	asked := func(name string, f settings.Filter) bool {
		return f.Where.AskDates() && (len(checks) == 0 || slices.Contains(checks, name))
	}
	for name, f := range s.Settings.Audit.Filters {
		if !asked(name, f) {
			continue
		}
		id, err := p.Identity(ctx)
		if err != nil {
			return err
		}
		survey.Ours, err = s.ourSteps(ctx, id)
		return err
	}
	return nil
}

// suspended are the accounts that a batch has switched off until a date, where
// a check wants to know.
func (s *Session) suspended(
	ctx context.Context, p *Place, d *directory.Dialect, people *reconcile.Result,
) (map[string]string, error) {
	if people == nil {
		return nil, nil
	}
	kept, err := s.storeIfAny(ctx)
	if kept == nil || err != nil {
		return nil, err
	}
	if any, err := carry.SuspendsAny(ctx, kept, s.Now()); err != nil || !any {
		return nil, err
	}
	id, err := p.Identity(ctx)
	if err != nil {
		return nil, nil // which directory this is cannot be told, so nothing is known of it
	}
	known, err := carry.Suspensions(ctx, kept, id, s.now())
	out := map[string]string{}
	for shown, one := range known {
		if id, err := source.ReadIdentity(d, shown); err == nil {
			out[id] = one.String()
		}
	}
	return out, err
}

// selected finds what the filters of the settings select, by the names of
// their checks, of those that are to run; only among what fulfils within, too,
// where that is given.
func (s *Session) selected(ctx context.Context, p *Place, j judging) (map[string][]directory.Entry, error) {
	keep, err := audit.Attributes(s.Settings)
	if err != nil {
		return nil, asRequest(err)
	}
	found := map[string][]directory.Entry{}
	for _, c := range s.Catalog.Own() {
		if len(j.checks) > 0 && !slices.Contains(j.checks, c.Name) || len(j.checks) == 0 && c.IsOff(&s.Settings.Audit) {
			continue
		}
		cond, err := filter.Parse(c.Filter)
		if err == nil {
			cond, err = cond.Resolve(j.survey.Dialect, j.asOf.In(p.Location()))
		}
		if err != nil {
			return nil, asRequest(s.Settings.Misset(settings.Faulty(err, "audit", "filters", c.Name)))
		}
		sel := source.Selection{
			Filter:     "(&" + cond.String() + j.within + ")",
			Attributes: append(cond.Attributes(), j.survey.Dialect.Attributes(keep)...),
		}
		entries, err := every(ctx, p, sel)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", c.Name, err)
		}
		found[c.Name] = entries
	}
	return found, nil
}

// every collects all entries of a selection.
func every(ctx context.Context, from source.Source, sel source.Selection) (entries []directory.Entry, err error) {
	err = from.Each(ctx, sel, func() { entries = nil }, func(e *directory.Entry) any { return e.Clone() },
		func(made any) { entries = append(entries, made.(directory.Entry)) })
	return entries, err
}

// NoteMissing notes which entries that the settings or exemptions name do not
// exist. What a survey knows, if one is given, is not read again.
func (s *Session) NoteMissing(ctx context.Context, p *Place, survey *directory.Survey) error {
	missing, err := s.Missing(ctx, p, survey)
	s.noteNamed(p, missing)
	return err
}

// RefuseMissing is NoteMissing, and fails where it is a bound of the yard that
// does not exist: a misspelt one protects nothing, or leaves everything out.
func (s *Session) RefuseMissing(ctx context.Context, p *Place, survey *directory.Survey) error {
	missing, err := s.Missing(ctx, p, survey)
	if err == nil {
		err = audit.MissingBounds(missing)
	}
	if err != nil {
		return err
	}
	s.noteNamed(p, missing)
	return nil
}

func (s *Session) noteNamed(p *Place, missing []audit.Named) {
	for _, n := range missing {
		s.note("note: %s, which %s does not have, or does not show", n, p.Where())
	}
}

// Missing are the entries that the settings or exemptions name and that do not
// exist.
func (s *Session) Missing(ctx context.Context, p *Place, survey *directory.Survey) ([]audit.Named, error) {
	exempt, err := s.exemptions(ctx, p)
	if err != nil {
		return nil, err
	}
	base := ""
	if server, live := p.Server(); live {
		base = server.Top()
	} else if survey != nil {
		base = survey.Base
	} else if id, err := p.Identity(ctx); err == nil {
		base = id.Base
	}
	return audit.Missing(ctx, p.Source, survey, audit.NamedIn(s.Settings, &p.Yard, base, exempt))
}

// addSignIns takes the sign-ins of a file into the survey.
func (s *Session) addSignIns(file string, p *Place, survey *directory.Survey) (err error) {
	if survey.Elsewhere, err = signIns(file, p.Location()); err != nil || len(survey.Elsewhere) == 0 {
		return err
	}
	known := 0
	for acc := range survey.Accounts.All() {
		if _, ok := survey.Elsewhere[directory.TextKey(acc.Logon)]; ok {
			known++
		}
	}
	s.note("note: %s names %s, %d of them here", file, wording.Count(len(survey.Elsewhere), "account"), known)
	return nil
}

// signIns reads the sign-ins of a file; none where no file is named.
func signIns(file string, loc *time.Location) (map[directory.Key]directory.SignIn, error) {
	if file == "" {
		return nil, nil
	}
	in, err := os.Open(file)
	if err != nil {
		return nil, fmt.Errorf("--activity %s: %w", file, errors.Unwrap(err))
	}
	defer in.Close()
	found, err := source.ReadActivity(in, file, loc)
	if err != nil {
		return nil, fmt.Errorf("--activity %w", err)
	}
	return found, nil
}
