package work

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/ladder"
	"yardbroom/internal/listing"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/wording"
)

// Ladders is what is known of all ladders of a yard at one moment.
type Ladders struct {
	AsOf time.Time
	All  []*OneLadder

	past    *ladder.Past
	report  *audit.Report
	people  *reconcile.Result
	list    *Roster
	dialect *directory.Dialect
	book    *AddressBook // of those who are to be told
}

// OneLadder is a ladder, and who stands where on it.
type OneLadder struct {
	*settings.Ladder
	Standings []*ladder.Standing
	// NotLooked says why nobody can be taken on, or told apart, nil where they can.
	NotLooked []string
	// Changes say what was set otherwise when the ladder was last climbed, Shifts
	// for whom that changes when they step next.
	Changes []string
	Shifts  []Shift
}

// Shift is a change of when somebody steps, since the ladder was set otherwise.
type Shift struct {
	*ladder.Standing
	Was time.Time // zero where they would have stayed
}

// LadderNamed is one ladder of a yard, by its name.
func (l *Ladders) LadderNamed(name string) (*OneLadder, error) {
	names := make([]string, 0, len(l.All))
	for _, one := range l.All {
		if one.Name == name {
			return one, nil
		}
		names = append(names, one.Name)
	}
	if len(names) == 0 {
		return nil, Wrong("the settings have no ladders for this yard (ladders: - name: …)")
	}
	return nil, noLadder(name, " here", names)
}

// noLadder is the error for a name that none of the ladders of a place has.
func noLadder(name, where string, names []string) error {
	return Wrong("no ladder is called %q%s%s: there are %s", name, where, wording.DidYouMean(name, names), strings.Join(names, ", "))
}

// CheckLadder refuses a name that no ladder of the settings has, before anything is
// read.
func (s *Session) CheckLadder(name string) error {
	var names []string
	for i := range s.Settings.Ladders {
		names = append(names, s.Settings.Ladders[i].Name)
	}
	if len(names) == 0 || slices.Contains(names, name) {
		return nil // what has none is said of the yard
	}
	return noLadder(name, "", names)
}

// Of are the standings of one account, on whatever ladder.
func (l *Ladders) Of(id string) (all []*ladder.Standing) {
	for _, one := range l.All {
		for _, s := range one.Standings {
			if s.ID == id {
				all = append(all, s)
			}
		}
	}
	return all
}

// Ladders judges who stands where on the ladders of a yard.
func (s *Session) Ladders(ctx context.Context, p *Place, q *Question) (*Ladders, error) {
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
	return s.laddersIn(ctx, p, &ladderQuestion{Question: *q}, survey, asOf)
}

// ladderQuestion is what standing on ladders is judged by.
type ladderQuestion struct {
	Question
	// known is who the one account is that a survey is about, within what filters of
	// ladders look only at that account too; "" where a survey is of all.
	known  *reconcile.Result
	within string
}

// laddersIn is Ladders on a survey that was read, for a time.
func (s *Session) laddersIn(ctx context.Context, p *Place, q *ladderQuestion, survey *directory.Survey, asOf time.Time) (*Ladders, error) {
	g, err := s.gatherLadders(ctx, p, q, survey, asOf)
	if err != nil {
		return nil, err
	}
	for i, l := range g.ladders {
		g.one(i, l)
	}
	if err := g.tell(ctx); err != nil {
		return nil, err
	}
	g.compare()
	return g.Ladders, nil
}

// laddersOf are the ladders of a place: those of its yard, or for a file those of
// the default one.
func (s *Session) laddersOf(p *Place) []*settings.Ladder {
	if _, is := s.Settings.Yards[p.Name]; is {
		return s.Settings.LaddersOf(p.Name)
	}
	return s.Settings.LaddersOf(s.Settings.Default)
}

// gathering collects what standing on ladders follows from.
type gathering struct {
	*Ladders
	s         *Session
	p         *Place
	survey    *directory.Survey
	ladders   []*settings.Ladder
	exempt    []audit.Exemption
	suspended map[string]carry.Suspension
	// found are findings by check and raw identity, notLooked why a check looked at
	// nothing.
	found     map[string]map[string]*audit.Finding
	notLooked map[string][]string
	accounts  map[string]*directory.Account // those that matter, by raw identity
	groups    map[string]*directory.Group
	where     map[string]func(*directory.Account) filter.Truth // conditions of ladders
	taken     map[string]string                                // raw identities, and the ladder that has them
	stands    map[string]string                                // places that rungs put accounts into, folded, and of which ladder
	why       map[string]string                                // exemptions that were looked up
}

// filterOf is the filter of a ladder, with its conditions, as a check has them; false
// where it has none.
func filterOf(l *settings.Ladder) (settings.Filter, bool) {
	if l.Of == nil {
		return settings.Filter{}, false
	}
	of := *l.Of
	if of.Filter == "" && of.Kind == "people" {
		of.Filter = "(objectClass=*)" // people are told by more than their kind
	}
	return of, of.Filter != ""
}

// whomCheck is the name of the check that the conditions of a ladder are.
func whomCheck(i int) string { return fmt.Sprintf("on-ladder-%d", i+1) }

// gatherLadders reads the journal and judges the survey by what ladders ask for.
func (s *Session) gatherLadders(
	ctx context.Context, p *Place, q *ladderQuestion, survey *directory.Survey, asOf time.Time,
) (*gathering, error) {
	g := &gathering{Ladders: &Ladders{AsOf: asOf, dialect: survey.Dialect}, s: s, p: p, survey: survey, ladders: s.laddersOf(p),
		found: map[string]map[string]*audit.Finding{}, notLooked: map[string][]string{}, accounts: map[string]*directory.Account{},
		groups: map[string]*directory.Group{}, where: map[string]func(*directory.Account) filter.Truth{}, taken: map[string]string{}, stands: map[string]string{}, why: map[string]string{}}
	id, err := p.Identity(ctx)
	if err != nil {
		return nil, err
	}
	kept, err := s.storeIfAny(ctx)
	if err != nil {
		return nil, err
	}
	g.past = &ladder.Past{Directory: id}
	if kept != nil {
		if g.past, err = ladder.Read(ctx, kept, id); err != nil {
			return nil, err
		}
		if g.suspended, err = carry.Suspensions(ctx, kept, id, asOf); err != nil {
			return nil, err
		}
	}
	if g.exempt, err = s.exemptions(ctx, p); err != nil {
		return nil, err
	}
	if err := g.judge(ctx, q); err != nil {
		return nil, err
	}
	g.index()
	return g, nil
}

// judge runs the checks that ladders start by and choose by.
func (g *gathering) judge(ctx context.Context, q *ladderQuestion) error {
	set := *g.s.Settings
	set.Audit.Filters = maps.Clone(set.Audit.Filters)
	if set.Audit.Filters == nil {
		set.Audit.Filters = map[string]settings.Filter{}
	}
	var checks []string
	var more []*audit.Check
	byRoster := false
	for i, l := range g.ladders {
		if c := audit.LadderCheck(l); c != nil {
			checks, more = append(checks, c.Name), append(more, c)
			byRoster = byRoster || c.ByRoster
		}
		checks = append(checks, l.Checks...)
		if of, is := filterOf(l); is {
			set.Audit.Filters[whomCheck(i)] = of
			checks = append(checks, whomCheck(i))
		}
		var err error
		if g.where[l.Name], err = g.conditions(l); err != nil {
			return err
		}
	}
	slices.Sort(checks)
	checks = slices.Compact(checks)
	s, err := g.s.with(&set)
	if err != nil {
		return err
	}
	for _, name := range checks {
		if c, err := s.Catalog.Named(name); err == nil {
			byRoster = byRoster || c.ByRoster
		} else if !audit.IsLadderCheck(name) {
			return asRequest(err)
		}
	}
	if g.people = q.known; q.within == "" {
		list, err := s.ReadRoster(ctx, g.p, &q.Roster)
		if err != nil {
			return err
		}
		if g.list = list; list != nil {
			if g.people, err = s.match(ctx, g.p, g.survey, g.AsOf, list, byNames); err != nil {
				return err
			}
		}
	}
	if len(checks) == 0 {
		return nil
	}
	g.report, err = s.run(ctx, g.p, judging{survey: g.survey, people: g.people, asOf: g.AsOf, checks: checks, within: q.within, more: more})
	if err != nil {
		return err
	}
	g.identify()
	for i := range g.report.Findings {
		f := &g.report.Findings[i]
		byID := g.found[f.Check]
		if byID == nil {
			byID = map[string]*audit.Finding{}
			g.found[f.Check] = byID
		}
		if have := byID[f.ID]; f.ID != "" && (have == nil || have.Confidence == audit.Likely) {
			byID[f.ID] = f
		}
	}
	for _, sum := range g.report.Summary {
		if len(sum.NotLooked) > 0 {
			g.notLooked[sum.Check] = sum.NotLooked
		}
	}
	return nil
}

// identify gives those findings the identities of their entries that come from filters
// of the settings, which do not ask for them.
func (g *gathering) identify() {
	without := map[directory.Key][]*audit.Finding{}
	for i := range g.report.Findings {
		if f := &g.report.Findings[i]; f.ID == "" && f.AboutEntry() {
			without[directory.KeyOf(f.DN)] = append(without[directory.KeyOf(f.DN)], f)
		}
	}
	if len(without) == 0 {
		return
	}
	give := func(about *directory.Subject) {
		for _, f := range without[about.Key] {
			f.ID = about.ID
		}
	}
	for a := range g.survey.Accounts.All() {
		give(&a.Subject)
	}
	for i := range g.survey.Groups {
		give(&g.survey.Groups[i].Subject)
	}
}

// index finds the accounts and groups that findings and the journal name, and the
// places that rungs put accounts into.
func (g *gathering) index() {
	wanted := map[string]bool{}
	for _, byID := range g.found {
		for id := range byID {
			wanted[id] = true
		}
	}
	for _, w := range g.past.Ways() {
		if id, err := source.ReadIdentity(g.dialect, w.ID); err == nil {
			wanted[id] = true
			if len(w.Steps) > 0 || w.Woke != "" && len(w.Down) > 0 {
				g.taken[id] = w.Ladder
			}
		}
	}
	for _, l := range g.ladders {
		for i := range l.Rungs {
			if to := l.Rungs[i].To; to != "" {
				g.stands[directory.FoldDN(to)] = l.Name
			}
		}
	}
	for a := range g.survey.Accounts.All() {
		if wanted[a.ID] || g.placed(a.DN) != "" {
			g.accounts[a.ID] = a
		}
	}
	for i := range g.survey.Groups {
		if one := &g.survey.Groups[i]; wanted[one.ID] {
			g.groups[one.ID] = one
		}
	}
}

// placed is the ladder that puts accounts into the container that an entry stands
// in, "" where none does.
func (g *gathering) placed(dn string) string {
	if len(g.stands) == 0 {
		return ""
	}
	_, parent := directory.SplitDN(dn)
	return g.stands[directory.FoldDN(parent)]
}

// one judges one ladder.
func (g *gathering) one(i int, l *settings.Ladder) {
	out := &OneLadder{Ladder: l, NotLooked: g.notLooked[audit.LadderCheckName(l.Name)]}
	g.All = append(g.All, out)
	add := func(s *ladder.Standing) {
		if s != nil {
			out.Standings = append(out.Standings, s)
		}
	}
	for _, w := range g.past.Ways() {
		if w.Ladder != l.Name || len(w.Steps) == 0 && len(w.Down) == 0 {
			continue
		}
		id, err := source.ReadIdentity(g.dialect, w.ID)
		if err != nil {
			continue
		}
		if f := g.facts(l, id, w); f != nil {
			add(ladder.Stand(l, w, f, g.AsOf))
			continue
		}
		if !g.survey.Partial || w.Gone() {
			add(g.missing(l, w))
		}
	}
	for _, id := range g.starters(i, l) {
		w := g.past.Of(source.ShowIdentity(g.dialect, id))
		f := g.facts(l, id, w)
		if f == nil {
			continue
		}
		if s := ladder.Stand(l, w, f, g.AsOf); s != nil {
			g.taken[id] = l.Name
			add(s)
		}
	}
	for _, w := range g.past.Ways() {
		id, err := source.ReadIdentity(g.dialect, w.ID)
		if _, on := g.taken[id]; on || err != nil || w.Ladder != l.Name || len(w.Steps) > 0 || len(w.Stays) == 0 {
			continue
		}
		if f := g.facts(l, id, w); f != nil {
			g.taken[id] = l.Name
			add(ladder.Behind(l, w, f, g.AsOf))
		}
	}
	for id, a := range g.accounts {
		if _, on := g.taken[id]; on {
			continue
		}
		w := g.past.Of(source.ShowIdentity(g.dialect, id))
		if w.Waits != 0 && w.WaitsOn == l.Name && w.Halfway != "" {
			// A batch has begun to take it up, and was stopped.
			f := g.facts(l, id, w)
			s := ladder.Stand(l, w, f, g.AsOf)
			if s == nil {
				s = &ladder.Standing{Facts: f, Way: w, Ladder: l.Name, State: ladder.Waiting, At: g.AsOf}
			}
			add(s)
			g.taken[id] = l.Name
			continue
		}
		if g.placed(a.DN) != l.Name {
			continue
		}
		add(&ladder.Standing{Facts: g.facts(l, id, w), Way: w, Ladder: l.Name, State: ladder.Strange,
			Holds: []ladder.Reason{{Why: "it stands in " + parentOf(a.DN) + " without the ladder's having put it there; \"yardbroom ladder adopt\" takes it on"}}})
	}
	slices.SortFunc(out.Standings, func(a, b *ladder.Standing) int {
		ra, _ := l.Rung(a.Rung)
		rb, _ := l.Rung(b.Rung)
		return cmp.Or(cmp.Compare(rb, ra), a.Day.Compare(b.Day), strings.Compare(strings.ToLower(a.Account), strings.ToLower(b.Account)))
	})
}

// missing is the standing of an account that is not in the directory, or not shown.
func (g *gathering) missing(l *settings.Ladder, w *ladder.Way) *ladder.Standing {
	f := &ladder.Facts{ID: w.ID, DN: w.DN, Account: w.Account}
	if w.Gone() {
		return ladder.Stand(l, w, f, g.AsOf)
	}
	return &ladder.Standing{Facts: f, Way: w, Ladder: l.Name, State: ladder.Unknown, Rung: w.Rung(), Since: w.Since,
		Holds: []ladder.Reason{{Why: "it is not in the directory any more, or not shown, and the ladder has not deleted it"}}}
}

// starters are the raw identities of those whom a ladder may take on, sorted.
func (g *gathering) starters(i int, l *settings.Ladder) (ids []string) {
	start := g.found[audit.LadderCheckName(l.Name)]
	if l.Starts.Found != nil {
		start = map[string]*audit.Finding{}
		for _, name := range l.Checks {
			maps.Copy(start, g.found[name])
		}
	}
	for id, f := range start {
		if _, on := g.taken[id]; on || !g.meant(i, l, id, f.DN) {
			continue
		}
		ids = append(ids, id)
	}
	slices.Sort(ids)
	return ids
}

// meant tells whether an entry is one of those whom a ladder is for.
func (g *gathering) meant(i int, l *settings.Ladder, id, dn string) bool {
	folded := directory.FoldDN(dn)
	if slices.ContainsFunc(l.LeaveOut, func(base string) bool { return directory.Under(folded, directory.FoldDN(base)) }) {
		return false
	}
	if g.placed(dn) != "" {
		return false // somebody has put it there by hand
	}
	if len(l.Checks) > 0 && !slices.ContainsFunc(l.Checks, func(name string) bool { return g.found[name][id] != nil }) {
		return false
	}
	if l.Of == nil {
		return true
	}
	if l.Of.Under != "" && !directory.Under(folded, directory.FoldDN(l.Of.Under)) {
		return false
	}
	if _, is := filterOf(l); is {
		return g.found[whomCheck(i)][id] != nil // with the conditions
	}
	a := g.accounts[id]
	return g.where[l.Name] == nil || a != nil && g.where[l.Name](a) == filter.True
}

// conditions are those of a ladder that has no filter, nil where it has none.
func (g *gathering) conditions(l *settings.Ladder) (func(*directory.Account) filter.Truth, error) {
	if _, is := filterOf(l); is || l.Of == nil || l.Of.Where.Empty() {
		return nil, nil
	}
	holds, err := listing.Test(&l.Of.Where, g.survey, g.AsOf, func(name string) (string, error) {
		return audit.GroupNamed(g.survey, name)
	})
	if err != nil {
		return nil, fmt.Errorf("ladder %s: of: %w", l.Name, err)
	}
	return holds, nil
}

// facts are what is known of an entry now, nil where it is not there.
func (g *gathering) facts(l *settings.Ladder, id string, w *ladder.Way) *ladder.Facts {
	f := &ladder.Facts{ID: source.ShowIdentity(g.dialect, id), Start: g.start(l, id)}
	if f.Start == nil {
		f.Untold = strings.Join(g.untold(l), "; ")
	}
	if one := g.groups[id]; one != nil {
		f.DN, f.Account, f.Kind = one.DN, one.Name(), one.Kind.String()
		f.Exempt = g.exemption(one.DN, one.Logon)
		if f.Start == nil && f.Untold == "" && l.Starts.Found != nil {
			f.Over = strings.Join(l.Checks, " and ") + " does not find it any more"
		}
		return f
	}
	a := g.accounts[id]
	if a == nil {
		return nil
	}
	f.DN, f.Account, f.Kind = a.DN, a.Name(), a.Kind.String()
	f.Exempt = g.exemption(a.DN, a.Logon)
	if last := g.survey.LastSignIn(a, g.AsOf); last.Known() {
		f.LastSignIn = last.Time()
	}
	on := g.survey.Enabled(a, g.AsOf)
	f.Enabled = on.Yes && !on.Hidden && (!on.Likely || !g.dialect.EverybodyShowsState)
	if one, is := g.suspended[f.ID]; is {
		f.Suspended, f.SuspendedUntil = "it is suspended "+one.String(), one.Until
	}
	who := g.person(a)
	if who != nil && who.State == roster.Leave {
		f.OnLeave = "its person is on leave, by the roster"
	}
	f.Over = g.over(l, a, f, who)
	if lived := g.survey.PasswordSet(a); f.Over == "" && a.Kind == directory.KindComputer && l.Starts.Idle != nil && len(w.Steps) > 0 &&
		lived.Known() && lived.Time().After(w.Steps[0].At) && !lived.Time().After(g.AsOf) {
		f.Over = "the computer has changed its password on " + lived.Time().Format(time.DateOnly)
	}
	return f
}

// start is the finding of what puts accounts on a ladder.
func (g *gathering) start(l *settings.Ladder, id string) *audit.Finding {
	if l.Starts.Found == nil {
		return g.found[audit.LadderCheckName(l.Name)][id]
	}
	for _, name := range l.Checks {
		if f := g.found[name][id]; f != nil {
			return f
		}
	}
	return nil
}

// untold says why what puts accounts on a ladder was not looked at.
func (g *gathering) untold(l *settings.Ladder) (why []string) {
	if l.Starts.Found == nil {
		return g.notLooked[audit.LadderCheckName(l.Name)]
	}
	for _, name := range l.Checks {
		why = append(why, g.notLooked[name]...)
	}
	return why
}

// exemption says why an entry is left alone, "" where it is not.
func (g *gathering) exemption(dn, logon string) string {
	if len(g.exempt) == 0 {
		return ""
	}
	key := logon + "\n" + dn
	why, known := g.why[key]
	if !known {
		why = audit.Why(g.exempt, g.AsOf, dn, logon)
		g.why[key] = why
	}
	return why
}

// person is whose account it is for sure, nil where nobody knows.
func (g *gathering) person(a *directory.Account) *roster.Person {
	if g.people == nil {
		return nil
	}
	pair := g.people.Pair(a)
	if pair == nil || !pair.Sure {
		return nil
	}
	return &g.people.People[pair.Person]
}

// over says that what put an account on a ladder is so no more, "" where it is, or
// where that is not sure.
func (g *gathering) over(l *settings.Ladder, a *directory.Account, f *ladder.Facts, who *roster.Person) string {
	switch by, _ := l.Starts.By(); by {
	case settings.StartDisabled:
		if f.Enabled {
			return "it is enabled again"
		}
	case settings.StartExpired:
		if !g.survey.Expired(a, g.AsOf).Yes && !a.Expires.Unreadable() && !slices.ContainsFunc(g.dialect.Expiry, a.Hidden.Has) {
			return "it is not past its expiry date any more"
		}
	case settings.StartLeft:
		if who != nil && who.State == roster.Active {
			return "its person is back, by the roster"
		}
	case settings.StartFound:
		if f.Start == nil && f.Untold == "" {
			return strings.Join(l.Checks, " and ") + " does not find it any more"
		}
	}
	return ""
}

func parentOf(dn string) string {
	_, parent := directory.SplitDN(dn)
	return parent
}

// tell finds out who is to be told of what is to come, for those of whom it is
// time to, and judges those again.
func (g *gathering) tell(ctx context.Context) error {
	type asked struct {
		one *OneLadder
		at  int
	}
	var all []asked
	var dns []string
	for _, one := range g.All {
		for at, s := range one.Standings {
			if s.Next == nil || s.Next.Tell == nil {
				continue
			}
			n := s.Next.Tell.WithDefaults()
			if due := n.Before.Before(s.Due); due.After(g.AsOf) {
				continue // there is time
			}
			all, dns = append(all, asked{one, at}), append(dns, s.DN)
		}
	}
	if len(all) == 0 {
		return nil
	}
	book, err := Addresses(ctx, g.p.Source, dns)
	if err != nil {
		return err
	}
	g.book = book
	for _, a := range all {
		s := a.one.Standings[a.at]
		n := s.Next.Tell.WithDefaults()
		s.Recipients, s.Asked = g.recipients(book, s.DN, &n, a.one.LanguageAttr()), true
		a.one.Standings[a.at] = ladder.Stand(a.one.Ladder, s.Way, s.Facts, g.AsOf)
	}
	return nil
}

// compare says what was set otherwise when a ladder was last climbed, and for whom
// that changes their next step.
func (g *gathering) compare() {
	for _, one := range g.All {
		was, known := g.past.Known(one.Name)
		now := ladder.DefinitionOf(one.Ladder)
		if !known || was.Equal(now) {
			continue
		}
		one.Changes = was.Changes(now)
		old := was.Apply(*one.Ladder)
		for _, s := range one.Standings {
			before := ladder.Stand(&old, s.Way, s.Facts, g.AsOf)
			switch {
			case before == nil:
				one.Shifts = append(one.Shifts, Shift{Standing: s})
			case !before.Day.Equal(s.Day) || nextName(before) != nextName(s):
				one.Shifts = append(one.Shifts, Shift{s, before.Day})
			}
		}
	}
}

func nextName(s *ladder.Standing) string {
	if s.Next == nil {
		return ""
	}
	return s.Next.Name
}
