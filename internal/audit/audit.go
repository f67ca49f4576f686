// Package audit judges a survey. A check is a value: its name, its severity,
// what it needs, its text for people, and one pure function. Findings depend
// on the survey, the settings and the time of the audit, and on nothing else.
package audit

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/parallel"
	"yardbroom/internal/privilege"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/settings"
	"yardbroom/internal/tracing"
	"yardbroom/internal/wording"
)

// Report is the result of an audit.
type Report struct {
	AsOf     time.Time
	Survey   *directory.Survey
	Catalog  Catalog // what the names of checks mean
	Findings []Finding
	Summary  []Summary
	Exempted int // findings that exemptions left out
	Notes    []string
	// People is who has which account, Roster counts it; nil without a roster.
	People *reconcile.Result
	Roster *RosterSummary
	// Fresh counts the findings that the last remembered audit did not have, nil where
	// nothing is remembered.
	Fresh *Fresh
	// Chosen says in words about whom the findings are, "" where they are about all.
	Chosen string
	// Earlier says what was left out, nil where nothing was.
	Earlier *Earlier
}

// Fresh is how many findings are new since a remembered audit.
type Fresh struct {
	Count int
	Since time.Time
}

// Summary is what became of one check.
type Summary struct {
	Check    string   `json:"check"`
	Severity Severity `json:"severity"`
	Findings int      `json:"findings"`
	Likely   int      `json:"likely"`   // of the findings
	Exempted int      `json:"exempted"` // left out by exemptions, not among the findings
	Looked   bool     `json:"looked_at"`
	Off      bool     `json:"-"` // not asked for: switched off, or not switched on
	// NotLooked says for what the check was not looked at, and why.
	NotLooked []string `json:"not_looked_at,omitempty"`
}

// count counts a finding.
func (s *Summary) count(f *Finding) {
	s.Findings++
	if f.Confidence == Likely {
		s.Likely++
	}
}

// Options choose what an audit does.
type Options struct {
	AsOf       time.Time
	Checks     []string // names; none means all
	Scope      []string // DNs; none means everything
	LeaveOut   []string
	Exemptions []Exemption
	// Selected are the entries that the filters of the settings select, by the
	// name of the check; one without is not looked at.
	Selected map[string][]directory.Entry
	// People is who has which account by a roster, nil where there is none.
	People *reconcile.Result
	// Logs are what logs of sign-ins say, nil where none were given.
	Logs *tracing.Watch
	// Suspended are the accounts that a batch has switched off until a date, by
	// raw identity, and which.
	Suspended map[string]string
	// About is the DN of the one account that is asked for, as the survey spells it; of
	// others there are only findings that belong to no account alone. "" means all.
	About string
	// More are checks besides those that the settings make, which run where they
	// are named.
	More []*Check
}

// pass is one run of the checks.
type pass struct {
	*directory.Survey
	asOf      time.Time
	only      string // the DN of the one account to judge, "" for all
	set       settings.Audit
	people    *reconcile.Result // nil where no roster was given
	suspended map[string]string
	logs      *tracing.Watch // nil where no logs were given
	exempt    *exemptions
	parking   []string
	lines     lines
	rules     rules
	selected  map[string][]directory.Entry
	// allAsked says that every server's own sign-ins are in the survey.
	allAsked bool

	byPersonID func() map[string]int
	byKey      func() map[directory.Key]*directory.Account
	graph      func() *privilege.Graph
	guessing   func() map[string]bool // sources that try many accounts
	disabled   func() map[directory.Key]*directory.Account
	// hiding and hidingUnits are the places where entries, or units, may stand
	// that were not shown.
	hiding, hidingUnits func() []string
	entitled            map[directory.Key][]*directory.Group // that disabled users are listed in
	variants            variants
	malformed           []bool // words
	duplicates          map[sharedValue]*sharers
	sharing             map[*directory.Account]bool // who has a value of duplicates
}

// lines are moments that thresholds draw: what happened at or before one of
// them was long enough ago.
type lines struct {
	stale, staleComputer, fresh, password, keyPassword, overdue, soon time.Time
}

// job is a check that runs, with the severity the settings give it.
type job struct {
	*Check
	severity *Severity // of the settings, nil where they say nothing
	looked   []bool    // by kind
	summary  *Summary
}

// Run judges a survey.
func Run(s *directory.Survey, set *settings.Settings, opt Options) (*Report, error) {
	catalog, err := NewCatalog(&set.Audit)
	if err != nil {
		return nil, err
	}
	catalog = append(catalog, opt.More...)
	jobs, off, err := choose(catalog, set, opt.Checks)
	if err != nil {
		return nil, err
	}
	p, err := newPass(s, set, catalog, &opt)
	if err != nil {
		return nil, err
	}
	for i := range jobs {
		j := &jobs[i]
		if j.looked = p.lookedAt(j.Check, j.summary); j.summary.Looked && j.prepare != nil {
			j.prepare(p)
		}
	}
	r := &Report{AsOf: opt.AsOf, Survey: s, Catalog: catalog}
	inScope := scope(opt)
	byKind := jobsByKind(jobs)
	findings := eachAccount(s.Accounts.Parts(),
		func(a *directory.Account, out *[]*Finding) {
			if p.asked(a) {
				p.judge(byKind[a.Kind], a, inScope, out)
			}
		})
	findings = append(findings, p.gather(jobs, inScope))
	p.summarise(findings, jobs)
	for i := range jobs {
		r.Summary = append(r.Summary, *jobs[i].summary)
		r.Exempted += jobs[i].summary.Exempted
	}
	r.Summary = append(r.Summary, off...)
	r.Findings = catalog.sorted(findings)
	r.Notes = append(p.notes(), p.hiddenNotes(r.Findings)...)
	for i := range jobs {
		if j := &jobs[i]; j.own != nil && j.summary.Looked {
			if note := j.ownNote(p); note != "" {
				r.Notes = append(r.Notes, note)
			}
		}
	}
	if p.people != nil {
		r.People, r.Roster = p.people, p.rosterSummary()
		r.Notes = append(r.Notes, p.people.Notes...)
	}
	return r, nil
}

// asked tells whether findings of an account are.
func (p *pass) asked(a *directory.Account) bool { return p.only == "" || p.only == a.DN }

// newPass makes ready what all checks go by.
func newPass(s *directory.Survey, set *settings.Settings, catalog Catalog, opt *Options) (*pass, error) {
	a := &set.Audit
	p := &pass{
		Survey:    s,
		asOf:      opt.AsOf,
		only:      opt.About,
		set:       set.Audit,
		parking:   directory.FoldAll(a.Parking),
		allAsked:  s.EveryServerAsked(),
		selected:  opt.Selected,
		people:    opt.People,
		suspended: opt.Suspended,
		logs:      opt.Logs,
	}
	var err error
	if p.rules, err = compileRules(set); err != nil {
		return nil, err
	}
	for _, e := range opt.Exemptions {
		for _, name := range e.Checks {
			if _, err := catalog.Named(name); err != nil {
				return nil, fmt.Errorf("exemption of %s: %w", e.Match, err)
			}
		}
	}
	p.exempt = newExemptions(opt.Exemptions, opt.AsOf)
	p.lines = lines{
		stale:         a.StaleAfter.Before(p.asOf),
		staleComputer: a.StaleComputerAfter.Before(p.asOf),
		fresh:         a.NewAccountGrace.Before(p.asOf),
		password:      a.PasswordMaxAge.Before(p.asOf),
		keyPassword:   a.KeyPasswordMaxAge.Before(p.asOf),
		overdue:       a.DeleteAfter.Before(p.asOf),
		soon:          a.Soon.After(p.asOf),
	}
	p.byPersonID, p.byKey = sync.OnceValue(p.findPersonIDs), sync.OnceValue(p.findByKey)
	p.graph = sync.OnceValue(func() *privilege.Graph { return privilege.NewGraph(s, a.PrivilegedGroups) })
	p.disabled, p.guessing = sync.OnceValue(p.findDisabled), sync.OnceValue(p.findGuessing)
	p.hiding, p.hidingUnits = sync.OnceValue(s.Hiding), sync.OnceValue(s.HidingUnits)
	return p, nil
}

// gather runs the checks that look at the survey as a whole.
func (p *pass) gather(jobs []job, inScope func(*directory.Subject) bool) (findings []*Finding) {
	for i := range jobs {
		j := &jobs[i]
		if j.gather == nil || !j.summary.Looked {
			continue
		}
		j.gather(p, func(about *directory.Subject, f Finding) {
			if about.Kind.IsEntry() && !inScope(about) ||
				!slices.Contains(j.Kinds, directory.KindOther) && !j.looked[about.Kind] {
				return
			}
			p.fill(&f, j, about)
			findings = append(findings, &f)
		})
	}
	return findings
}

// mostKinds is greater than every directory.Kind.
const mostKinds = 64

// jobsByKind returns the checks that look at one account at a time, for accounts of each kind.
func jobsByKind(jobs []job) (byKind [mostKinds][]*job) {
	for i := range jobs {
		for k, looked := range jobs[i].looked {
			if looked && jobs[i].gather == nil {
				byKind[k] = append(byKind[k], &jobs[i])
			}
		}
	}
	return byKind
}

// judge runs the checks that look at one account at a time.
func (p *pass) judge(jobs []*job, a *directory.Account, inScope func(*directory.Subject) bool, out *[]*Finding) {
	for _, j := range jobs {
		if a.BuiltIn && (j.builtIn == nil || !j.builtIn(a)) {
			continue
		}
		if j.judgeMany == nil {
			if f := j.Check.judge(p, a); f != nil && inScope(&a.Subject) {
				p.fill(f, j, &a.Subject)
				*out = append(*out, f)
			}
			continue
		}
		found := j.judgeMany(p, a)
		if len(found) == 0 || !inScope(&a.Subject) {
			continue
		}
		for k := range found {
			p.fill(&found[k], j, &a.Subject)
			*out = append(*out, &found[k])
		}
	}
}

// summarise takes away the findings that exemptions cover, and counts both
// kinds in the summaries of their checks.
func (p *pass) summarise(parts [][]*Finding, jobs []job) {
	byName := map[string]*Summary{}
	for i := range jobs {
		byName[jobs[i].Name] = jobs[i].summary
	}
	exempted := func(f *Finding) bool {
		sum := byName[f.Check]
		if f.Kind != directory.KindExemption.String() && p.exempt.covers(f) {
			sum.Exempted++
			return true
		}
		sum.count(f)
		return false
	}
	for i, part := range parts {
		parts[i] = slices.DeleteFunc(part, exempted)
	}
}

// choose returns the checks to run, with their severities and empty
// summaries. A check that is switched off is summarised only, unless it was
// asked for by name.
func choose(catalog Catalog, set *settings.Settings, names []string) (jobs []job, off []Summary, err error) {
	for _, name := range names {
		if _, err := catalog.Named(name); err != nil {
			return nil, nil, err
		}
	}
	for name := range set.Audit.Checks {
		if _, err := catalog.Named(name); err != nil {
			return nil, nil, settings.Faulty(err, "audit", "checks", name)
		}
	}
	for _, c := range catalog {
		if len(names) > 0 && !slices.Contains(names, c.Name) {
			continue
		}
		j := job{Check: c, summary: &Summary{Check: c.Name, Severity: c.Severity}}
		word := set.Audit.Checks[c.Name]
		switch word {
		case "off", "false":
			if len(names) == 0 {
				j.summary.Off = true
				j.summary.NotLooked = []string{"switched off in the settings"}
				off = append(off, *j.summary)
				continue
			}
		case "":
			if c.Off && len(names) == 0 {
				j.summary.Off = true
				j.summary.NotLooked = []string{"off unless the settings switch it on, or --check names it"}
				off = append(off, *j.summary)
				continue
			}
		case "on", "true":
		default:
			severity, err := ParseSeverity(word)
			if err != nil {
				return nil, nil, settings.Faulty(fmt.Errorf("%w, or on, or off", err), "audit", "checks", c.Name)
			}
			j.severity, j.summary.Severity = &severity, severity
		}
		jobs = append(jobs, j)
	}
	return jobs, off, nil
}

// lookedAt tells for each kind whether the check can be looked at, and
// writes into the summary why not.
func (p *pass) lookedAt(c *Check, sum *Summary) []bool {
	yes := make([]bool, mostKinds)
	if c.overAll && p.Partial {
		sum.NotLooked = append(sum.NotLooked, "it compares all entries, and only some were read")
		return yes
	}
	if c.wants != nil {
		if why := c.wants(p); why != "" {
			sum.NotLooked = append(sum.NotLooked, why)
			return yes
		}
	}
	present := 0
	for _, k := range c.Kinds {
		if k == directory.KindOther { // the check is about entries of any kind
			yes[k], sum.Looked = true, true
			present++
		}
		if p.Count[k] == 0 {
			continue
		}
		present++
		if missing := p.missing(c, k); missing != "" {
			sum.NotLooked = append(
				sum.NotLooked,
				fmt.Sprintf(
					"%s: none shows %s (not exported, not readable for this account, or not recorded by the server)",
					wording.Plural(k.String()), missing),
			)
			continue
		}
		yes[k], sum.Looked = true, true
	}
	if present == 0 {
		sum.Looked = true // there is nothing of these kinds that could be missed
	}
	return yes
}

// missing names the attributes that no entry of a kind shows, though the
// check needs them; "" where it has all.
func (p *pass) missing(c *Check, k directory.Kind) string {
	if c.needs == nil {
		return ""
	}
	for _, ids := range c.needs(p.Dialect) {
		if !p.Shows(k, ids...) {
			return directory.AttrNames(ids)
		}
	}
	return ""
}

// notes are what a reader of the report has to know about the survey.
func (p *pass) notes() []string {
	var notes []string
	note := func(n int, one, many string) {
		switch {
		case n == 1:
			notes = append(notes, one)
		case n > 1:
			notes = append(notes, fmt.Sprintf(many, n))
		}
	}
	note(p.NoClass, "one entry shows no objectClass; nothing can be said of it",
		"%d entries show no objectClass; nothing can be said of them")
	if len(p.Fewer) > 0 {
		notes = append(
			notes,
			"fewer members are listed than say in memberOf that they are members, so the lists are not whole: "+listed(
				p.Fewer),
		)
	}
	for _, class := range slices.Sorted(maps.Keys(p.Foreign)) {
		n := p.Foreign[class]
		note(n.Entries, "one entry is of the class "+class+", of which nothing is known",
			"%d entries are of the class "+strings.ReplaceAll(class, "%", "%%")+", of which nothing is known")
		note(n.Guessed, "one of these is judged as a user or a group, by what it carries",
			"%d of these are judged as users or groups, by what they carry")
	}
	note(p.Broken, "one record could not be read and was left out", "%d records could not be read and were left out")
	note(p.Outside, "one entry that the server gave stands outside the base and was left out",
		"%d entries that the server gave stand outside the base and were left out")
	note(p.Twice, "one entry came twice, so something moved while the rest was read: what follows may not be all",
		"%d entries came twice, so something moved while the rest was read: what follows may not be all")
	note(p.Referrals, "one reference to another server was not followed",
		"%d references to other servers were not followed")
	for i, name := range p.Silent {
		notes = append(notes,
			fmt.Sprintf("%s did not tell its sign-ins, so later ones may be known there: %s", name, p.SilentWhy[i]))
	}
	if len(p.Asked) > 0 && len(p.Silent) == 0 && !p.allAsked {
		var unasked []string
		for _, host := range p.Unasked() {
			unasked = append(unasked, cmp.Or(host, "a server without a name"))
		}
		if len(unasked) > 0 {
			notes = append(
				notes,
				"not asked for sign-ins of their own: "+listed(
					unasked)+" (not among the yard's servers, or to be avoided)",
			)
		}
	}
	if p.Dialect != directory.AD && !p.Shows(directory.KindUser, p.Dialect.Enabled...) &&
		p.Count[directory.KindUser] > 0 {
		notes = append(
			notes,
			"no user shows "+directory.AttrNames(
				p.Dialect.Enabled)+": that all are enabled is assumed, so findings that need it are likely, not sure",
		)
	}
	if partial := p.graph().Partial(); len(partial) > 0 {
		notes = append(notes,
			"the members of "+listed(partial)+" were not read whole, so more accounts than these may be privileged")
	}
	return notes
}

// NotOnHidden tells of actions that they are not done on a finding which rests on
// what whoever read the directory may not have been shown.
func NotOnHidden(action string) bool { return action == "delete" || action == "leave-groups" }

// fill completes a finding with what every finding has.
func (p *pass) fill(f *Finding, j *job, about *directory.Subject) {
	f.Check, f.Severity = j.Name, j.Severity
	if f.Suggest == nil {
		f.Suggest = j.Suggest
	}
	switch {
	case j.severity != nil:
		f.Severity = *j.severity
	case f.severity != nil:
		f.Severity = *f.severity
	}
	f.Kind, f.DN, f.Account, f.ID = about.Kind.String(), about.DN, about.Name(), about.ID
	if f.Confidence == "" {
		f.Confidence = Sure
	}
	if hidden := p.hidden(j.Check, about); len(hidden) > 0 {
		f.Confidence, f.Hidden = Likely, true
		f.Evidence = withHidden(f.Evidence, hidden)
		f.Suggest = slices.DeleteFunc(slices.Clone(f.Suggest), NotOnHidden)
	}
	if about.BuiltIn {
		f.Suggest = nil // nothing built in is ever staged
	}
	for i := range f.Evidence {
		f.Evidence[i].Value = clipped(f.Evidence[i].Value)
	}
	if !f.Since.IsZero() {
		f.Days = int(p.asOf.Sub(f.Since) / (24 * time.Hour))
	}
}

// eachAccount runs judge over all accounts on all processors and returns
// what it found, for each part of them.
func eachAccount(parts [][]directory.Account, judge func(*directory.Account, *[]*Finding)) [][]*Finding {
	found := make([][]*Finding, len(parts))
	spread(parts, func(_, part int, a *directory.Account) { judge(a, &found[part]) })
	return found
}

// tally goes over all accounts on all processors; each counts into its own T,
// made by start.
func tally[T any](parts [][]directory.Account, start func() T, count func(*directory.Account, T)) []T {
	all := make([]T, parallel.Workers(len(parts)))
	for w := range all {
		all[w] = start()
	}
	spread(parts, func(worker, _ int, a *directory.Account) { count(a, all[worker]) })
	return all
}

// spread hands every account to one of the workers, with the numbers of the
// worker and of the account's part.
func spread(parts [][]directory.Account, work func(worker, part int, a *directory.Account)) {
	parallel.Do(len(parts), func(worker, part int) {
		for i := range parts[part] {
			work(worker, part, &parts[part][i])
		}
	})
}

func scope(opt Options) func(*directory.Subject) bool {
	in, out := directory.FoldAll(opt.Scope), directory.FoldAll(opt.LeaveOut)
	if len(in) == 0 && len(out) == 0 {
		return func(*directory.Subject) bool { return true }
	}
	return func(s *directory.Subject) bool { return directory.InScope(s.DN, in, out) }
}

// evidence writes a moment for people, with the attribute that shows it.
func evidence(m directory.Moment) Evidence {
	switch {
	case m.Beyond():
		return Evidence{m.Attr().String(), "after " + m.Time().Format(time.DateOnly)}
	case m.Known():
		return Evidence{m.Attr().String(), m.Time().Format(time.RFC3339)}
	case m.Unreadable():
		return Evidence{m.Attr().String(), "cannot be read"}
	case m.Present():
		return Evidence{m.Attr().String(), never}
	}
	return Evidence{m.Attr().String(), absent}
}

// confidence is likely where an answer is.
func confidence(answers ...directory.Answer) Confidence {
	for _, a := range answers {
		if a.Likely {
			return Likely
		}
	}
	return Sure
}
