package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/ladder"
	"yardbroom/internal/listing"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

// Card is everything to show of one account.
type Card struct {
	Entry    *directory.Entry
	Account  *directory.Account
	Survey   *directory.Survey
	AsOf     time.Time
	Groups   []string // DNs
	Findings []audit.Finding
	// People is who the account is by the last roster, nil where there is none.
	People *reconcile.Result
	// Elsewhere are checks that only an audit of the whole yard can look at.
	Elsewhere []string
	// Role is the role by which the account is disabled, "" where it is not
	// disabled or by an attribute of its own.
	Role string
	// NotToBeEnabled says why the account must not be enabled, "" where nothing
	// is known against it.
	NotToBeEnabled string
	// Ladder is where it stands on a ladder, nil where it is on none.
	Ladder *OnLadder
	// Known is what the state folder knows of it.
	Known Known
	// Trace is what the logs say of it, nil where there are none.
	Trace *AccountTrace
}

// OnLadder is where an account stands on a ladder.
type OnLadder struct {
	*settings.Ladder
	*ladder.Standing
}

// Show collects everything about one account of a place. Of the question, AsOf
// and SignIns count.
func (s *Session) Show(ctx context.Context, p *Place, name string, q *Question) (*Card, error) {
	p.surveyAhead()
	e, err := s.LookAccountUp(ctx, p, name)
	if err != nil {
		return nil, err
	}
	survey, err := p.Around(ctx, e)
	if err != nil {
		return nil, err
	}
	c := &Card{Entry: e, Survey: survey}
	if c.AsOf, err = s.asOf(q.AsOf, p.Location(), survey); err != nil {
		return nil, err
	}
	if err := s.addSignIns(q.SignIns, p, survey); err != nil {
		return nil, err
	}
	if c.Account = accountOf(survey, e); c.Account == nil {
		return nil, fmt.Errorf("%s vanished while it was read", e.DN)
	}
	if c.Trace, err = s.traceOf(ctx, p, e, survey, c.AsOf, &q.Logs); err != nil {
		return nil, err
	}
	if c.People, err = s.known(ctx, p, c.Account, c.AsOf); err != nil {
		return nil, err
	}
	if err := s.judgeCard(ctx, p, c); err != nil {
		return nil, err
	}
	if server, live := p.Server(); live && survey.Disabled(c.Account, c.AsOf).Yes {
		if c.Role, err = server.LockingRole(ctx, e); err != nil {
			return nil, err
		}
	}
	c.Groups = groupsOf(survey, e)
	if c.NotToBeEnabled, err = s.whyNotEnable(ctx, p, c.Account); err != nil {
		return nil, err
	}
	if c.Ladder, err = s.ladderOf(ctx, p, c); err != nil {
		return nil, err
	}
	c.Known, err = s.knownOf(ctx, p, c)
	return c, err
}

// ladderOf is where the account of a card stands on a ladder, nil where it is on none.
func (s *Session) ladderOf(ctx context.Context, p *Place, c *Card) (*OnLadder, error) {
	if len(s.laddersOf(p)) == 0 {
		return nil, nil
	}
	q := &ladderQuestion{known: c.People, within: source.IdentityFilter(c.Survey.Dialect, c.Account.ID)}
	all, err := s.laddersIn(ctx, p, q, c.Survey, c.AsOf)
	if err != nil {
		return nil, err
	}
	for _, one := range all.All {
		for _, st := range one.Standings {
			if st.ID == source.ShowIdentity(c.Survey.Dialect, c.Account.ID) {
				return &OnLadder{one.Ladder, st}, nil
			}
		}
	}
	return nil, nil
}

// judgeCard runs all checks over what was read for an account.
func (s *Session) judgeCard(ctx context.Context, p *Place, c *Card) error {
	within := ""
	if c.Survey.Partial {
		within = source.IdentityFilter(c.Survey.Dialect, c.Entry.First(c.Survey.Dialect.Identity.String()))
	}
	report, err := s.run(ctx, p, judging{survey: c.Survey, people: c.People, asOf: c.AsOf, within: within, about: c.Account.DN})
	if err != nil {
		return err
	}
	if err := s.NoteMissing(ctx, p, report.Survey); err != nil {
		return err
	}
	for _, sum := range report.Summary {
		if check := s.Catalog.Find(sum.Check); c.Survey.Partial && check != nil && check.ComparesAll() {
			c.Elsewhere = append(c.Elsewhere, sum.Check)
		}
	}
	c.Findings = slices.DeleteFunc(slices.Clone(report.Findings),
		func(f audit.Finding) bool { return f.DN != c.Account.DN })
	return nil
}

// groupsOf are the names of the groups that an entry is in by itself, of those of a survey.
func groupsOf(survey *directory.Survey, e *directory.Entry) (names []string) {
	self, uid, gid, primary := directory.KeyOf(e.DN), e.First("uid"), e.First("gidNumber"), ""
	if sid, err := directory.ParseSID(e.First("objectSid")); err == nil && e.First("primaryGroupID") != "" {
		primary = sid[:strings.LastIndex(sid, "-")+1] + e.First("primaryGroupID")
	}
	for i := range survey.Groups {
		g := &survey.Groups[i]
		listed := slices.Contains(g.Members, self) || uid != "" && slices.Contains(g.Logons, uid)
		first := g.Posix && gid != "" && g.GID == gid || primary != "" && g.SID == primary
		if listed || first {
			names = append(names, g.DN)
		}
	}
	slices.Sort(names)
	return names
}

// List finds the entries of a place that fulfil a query, whose time, zone, bounds
// and sign-ins are those of the place and the question.
func (s *Session) List(ctx context.Context, p *Place, q *listing.Query, by *Question) (*listing.List, error) {
	q.Zone = p.Location()
	if err := locateQuery(ctx, p, q); err != nil {
		return nil, err
	}
	q.Scope, q.LeftOut = directory.FoldAll(p.Yard.Scope), directory.FoldAll(p.Yard.LeaveOut)
	var err error
	if q.AsOf, err = s.asOf(by.AsOf, q.Zone, nil); err != nil {
		return nil, err
	}
	q.Fixed = by.AsOf != ""
	if q.SignIns, err = signIns(by.SignIns, q.Zone); err != nil {
		return nil, err
	}
	if q.AskDates() {
		id, err := p.Identity(ctx)
		if err != nil {
			return nil, err
		}
		if q.Ours, err = s.ourSteps(ctx, id); err != nil {
			return nil, err
		}
	}
	if q.When.AskSignIns() || len(by.Logs.Paths) > 0 {
		if err := s.addLogged(ctx, p, q, &by.Logs); err != nil {
			return nil, err
		}
	}
	found, err := listing.Run(ctx, p.Source, *q)
	if wrong := (listing.UsageError{}); errors.As(err, &wrong) {
		return nil, asRequest(err)
	}
	if err != nil {
		return nil, err
	}
	d := found.Survey.Dialect
	if err := refuseUnknown(ctx, p, d, "--columns", shownByNone(found, q.Attributes())); err != nil {
		return nil, err
	}
	if by := q.SortedBy(); by != "" {
		if err := refuseUnknown(ctx, p, d, "--sort", shownByNone(found, []string{by})); err != nil {
			return nil, err
		}
	}
	return found, refuseUnknown(ctx, p, d, "--filter or --match", filterAttributes(q.Filter))
}

// locateQuery puts DNs in the place of the names of OUs.
func locateQuery(ctx context.Context, p *Place, q *listing.Query) error {
	f := settings.Filter{Under: q.Under, NotUnder: q.NotUnder}
	err := locate(ctx, p, &f)
	q.Under, q.NotUnder = f.Under, directory.FoldAll(f.NotUnder)
	return err
}
