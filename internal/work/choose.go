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
	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
	"yardbroom/internal/wording"
)

// Choice says which accounts are meant: by their names, by what a list that was
// made elsewhere calls them, or by conditions. Conditions narrow what names, a list or
// checks choose, and choose by themselves where there are none of these.
type Choice struct {
	Names  []string
	Listed []string
	Where  *settings.Filter
}

// checkChoice makes sure that it is said which accounts are meant, and in ways
// that go together.
func (r *StageRequest) checkChoice() error {
	switch {
	case r.Where != nil && r.ByRoster():
		return Wrong("what is filled from the roster is chosen by the roster, or by name: give no conditions")
	case r.Where == nil && !r.ByRoster() && len(r.Names) == 0 && len(r.Checks) == 0 && r.Listed == nil:
		return Wrong("say which accounts: by name, --check, --file, or by conditions such as --idle 120d")
	}
	return nil
}

// chosenCheck is the name of the check that the conditions of one staging are.
// What they choose is judged, proved and guarded as any finding is.
const chosenCheck = "chosen"

// longFilter is from how many characters on the reason of a line does not repeat the
// filter that chose it.
const longFilter = 60

// asCheck makes a check of conditions: the settings with it, and its name.
func (s *Session) asCheck(asked settings.Filter) (*settings.Settings, string) {
	set := *s.Settings
	set.Audit.Filters = maps.Clone(set.Audit.Filters)
	if set.Audit.Filters == nil {
		set.Audit.Filters = map[string]settings.Filter{}
	}
	asked.Text = "chosen by " + asked.Describe()
	plain := asked
	if len(asked.Filter) > longFilter {
		plain.Filter = "a filter" // the evidence has its values
	}
	asked.Reason = "chosen by " + plain.Describe()
	set.Audit.Filters[chosenCheck] = asked
	return &set, chosenCheck
}

// choose collects the entries that are meant, however they were chosen.
func (s *Session) choose(
	ctx context.Context, p *Place, stager *batch.Stager, o *batch.Order, r *StageRequest,
) ([]batch.Candidate, error) {
	if r.ByRoster() {
		return s.fromRoster(ctx, p, stager, o, r)
	}
	var all []batch.Candidate
	named, err := findAll(ctx, p.Source, stager.Dialect, r.Names)
	if err != nil {
		return nil, err
	}
	listed, err := findAll(ctx, p.Source, stager.Dialect, r.Listed)
	if err != nil {
		return nil, err
	}
	if len(r.Checks) > 0 {
		within := slices.Concat(named, listed)
		if r.Where == nil && !r.SetsValues() {
			within = nil // findings, and those who are named besides
		}
		found, err := s.fromFindings(ctx, p, stager, o, r, within)
		if err != nil {
			return nil, err
		}
		all = append(all, found...)
		if within != nil {
			named, listed = nil, nil
		}
	}
	all = append(all, asCandidates(named)...)
	for _, c := range asCandidates(listed) {
		c.AsItIs = true
		all = append(all, c)
	}
	if len(listed) > 0 {
		s.note(
			"note: a list of names does not say why they are on it, so the batch holds only while each account's place, state and last sign-in are as they are now; conditions given to stage itself (--idle, --enabled, --filter …) are tested again",
		)
	}
	for i := range all {
		if all[i].Values == nil && r.Attr != "" {
			all[i].Values = []batch.Assignment{{Attr: r.Attr, New: r.Value, Rule: !r.Is(batch.Clear)}}
		}
	}
	if stager.Accounts == 0 && len(all) > 10 {
		survey, err := p.Survey(ctx)
		if err != nil {
			return nil, err
		}
		stager.Accounts = survey.Accounts.Len()
	}
	return all, nil
}

func asCandidates(entries []directory.Entry) (all []batch.Candidate) {
	for i := range entries {
		all = append(all, batch.Candidate{Entry: entries[i]})
	}
	return all
}

// fromFindings judges the place by the checks that were asked for, and collects
// those who have findings: all, or those of some entries.
func (s *Session) fromFindings(
	ctx context.Context, p *Place, stager *batch.Stager, o *batch.Order, r *StageRequest, within []directory.Entry,
) ([]batch.Candidate, error) {
	report, err := s.Judge(ctx, p, &r.Question)
	if err != nil {
		return nil, err
	}
	for _, sum := range report.Summary {
		for _, why := range sum.NotLooked {
			s.note("note: %s not looked at: %s", sum.Check, why)
		}
	}
	if !r.WholeRoster {
		if err := s.halfDelivered(ctx, p, report, &r.Question); err != nil {
			return nil, err
		}
	}
	stager.Accounts = report.Survey.Accounts.Len()
	o.Server = cmp.Or(report.Survey.Server, o.Server)
	if len(report.Survey.Asked) > 1 {
		o.Others = report.Survey.Asked[1:]
	}
	found := s.meant(r.narrowed(report.Findings, within), r)
	if len(found.dns) == 0 {
		return nil, r.nothingFound(within)
	}
	entries, err := p.Get(ctx, found.dns)
	if err != nil {
		return nil, err
	}
	last := lastSignIns(report.Survey, found.dns)
	var all []batch.Candidate
	for i := range entries {
		key := directory.FoldDN(entries[i].DN)
		c := batch.Candidate{
			Entry:     entries[i],
			Finding:   found.byDN[key],
			Values:    found.fixes[key],
			LastLogon: last[directory.KeyOf(entries[i].DN)],
		}
		c.NotNow = s.signedInMeanwhile(report.Survey, &c)
		all = append(all, c)
	}
	return all, nil
}

// narrowed are the findings of those who fulfil the conditions, where there are some
// besides the checks, and of some entries, where they are named.
func (r *StageRequest) narrowed(findings []audit.Finding, within []directory.Entry) []audit.Finding {
	chosen, named := map[directory.Key]bool{}, map[directory.Key]bool{}
	for i := range findings {
		if findings[i].Check == chosenCheck {
			chosen[directory.KeyOf(findings[i].DN)] = true
		}
	}
	for i := range within {
		named[directory.KeyOf(within[i].DN)] = true
	}
	byChecks := r.Where != nil && len(r.Checks) > 1
	return slices.DeleteFunc(slices.Clone(findings), func(f audit.Finding) bool {
		key := directory.KeyOf(f.DN)
		return within != nil && !named[key] || byChecks && (f.Check == chosenCheck || !chosen[key])
	})
}

// nothingFound says that nobody is meant, and why.
func (r *StageRequest) nothingFound(within []directory.Entry) error {
	checks := slices.DeleteFunc(slices.Clone(r.Checks), func(name string) bool { return name == chosenCheck })
	what := strings.Join(checks, ", ") + ": no findings"
	if r.Where != nil {
		whom := "no account"
		if within != nil {
			whom = "none of those named"
		}
		if len(checks) > 0 {
			whom += " with findings of " + strings.Join(checks, ", ")
		}
		what = whom + " fulfils the conditions (" + r.Where.Describe() + ")"
	}
	return fmt.Errorf("%s, so %w", what, batch.ErrNothing)
}

// meantFindings are the findings that something is staged from, by folded DN.
type meantFindings struct {
	dns   []string // as they are spelt, in the order of the findings
	byDN  map[string]*audit.Finding
	fixes map[string][]batch.Assignment
}

// meant are the findings that a request takes, the surest of each entry, and
// the values that they give it.
func (s *Session) meant(findings []audit.Finding, r *StageRequest) meantFindings {
	m := meantFindings{byDN: map[string]*audit.Finding{}, fixes: map[string][]batch.Assignment{}}
	valuesFromFindings := r.Is(batch.Set) && r.Value == ""
	for i := range findings {
		f := &findings[i]
		if !r.takes(f) {
			continue
		}
		key := directory.FoldDN(f.DN)
		if fix := f.Fix(); fix != nil && valuesFromFindings && (f.Confidence != audit.Likely || r.IncludeLikely) {
			m.fixes[key] = append(m.fixes[key], batch.Assignment{Attr: fix.Attr, Old: fix.Old, New: fix.New})
		}
		if m.byDN[key] == nil {
			m.dns = append(m.dns, f.DN)
		}
		if m.byDN[key] == nil || m.byDN[key].Confidence == audit.Likely {
			m.byDN[key] = f
		}
	}
	return m
}

// lastSignIns are the last sign-ins that a survey knows of some entries.
func lastSignIns(survey *directory.Survey, dns []string) map[directory.Key]directory.Moment {
	last := map[directory.Key]directory.Moment{}
	for _, dn := range dns {
		last[directory.KeyOf(dn)] = 0
	}
	for acc := range survey.Accounts.All() {
		if _, chosen := last[acc.Key]; chosen {
			last[acc.Key] = acc.LastLogon
		}
	}
	return last
}

// farFuture is later than any sign-in.
var farFuture = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)

// signedInMeanwhile tells of an entry, read again for staging, that it shows a
// sign-in that disproves its finding.
func (s *Session) signedInMeanwhile(survey *directory.Survey, c *batch.Candidate) string {
	check, err := s.Catalog.Named(c.Finding.Check)
	if err != nil {
		return "" // which the report did not come from
	}
	account := survey.Dialect.Account(&c.Entry)
	last := survey.LastLogon(&account, farFuture)
	disproved := check.DisprovedBy == audit.AnySignIns ||
		check.DisprovedBy == audit.LaterOnes && last.Time().After(c.Finding.Since)
	if last.Known() && disproved {
		return "it has signed in since it was judged"
	}
	return ""
}

// tenth is the share of the directory that may have to go by a roster before
// somebody has to say that the roster is whole.
const tenth = 10

// halfDelivered refuses to stage by a roster that looks as if it were not
// whole: the classic way to disable a company.
func (s *Session) halfDelivered(ctx context.Context, p *Place, report *audit.Report, q *Question) error {
	var byAbsence, leavers bool
	for _, name := range q.Checks {
		if c := report.Catalog.Find(name); c != nil {
			byAbsence, leavers = byAbsence || c.ByAbsence, leavers || c.Leavers
		}
	}
	if report.Roster == nil || !byAbsence && !leavers {
		return nil
	}
	list, err := s.ReadRoster(ctx, p, &q.Roster)
	if err != nil {
		return err
	}
	if byAbsence && list.About.Bad > 0 {
		return fmt.Errorf(
			"%s of the roster could not be read, and whoever is in them would seem to be missing: correct them, or say --whole-roster",
			wording.Count(list.About.Bad, "row"),
		)
	}
	if sum := report.Roster; sum.Leaving*tenth > sum.Enabled {
		return fmt.Errorf(
			"by the roster %s, %d of %d enabled accounts would have to go (their people have left, or they have no owner); a roster that is not whole looks like this: look at \"yardbroom reconcile\", and say --whole-roster if it is right",
			list.About.Source,
			sum.Leaving,
			sum.Enabled,
		)
	}
	return nil
}

// fromRoster collects the accounts whose person is sure and that lack what the
// roster gives: all, or those named.
func (s *Session) fromRoster(
	ctx context.Context, p *Place, stager *batch.Stager, o *batch.Order, r *StageRequest,
) ([]batch.Candidate, error) {
	list, err := s.ReadRoster(ctx, p, &r.Roster)
	if err != nil {
		return nil, err
	}
	if list == nil {
		return nil, Wrong("the yard has no roster yet: give one with --roster")
	}
	survey, err := p.Survey(ctx)
	if err != nil {
		return nil, err
	}
	asOf, err := s.asOf(r.AsOf, p.Location(), survey)
	if err != nil {
		return nil, err
	}
	result, err := s.match(ctx, p, survey, asOf, list, byNames)
	if err != nil {
		return nil, err
	}
	stager.Accounts = survey.Accounts.Len()
	o.Server = cmp.Or(survey.Server, o.Server)
	byDN := map[string]*reconcile.Pair{}
	var lacking []string
	for i := range result.Pairs {
		pair := &result.Pairs[i]
		byDN[directory.FoldDN(pair.Account.DN)] = pair
		if pair.Sure && !pair.Second && (r.Is(batch.Set) || !pair.Account.Present.Has(directory.LookupAttr(r.Attr))) {
			lacking = append(lacking, pair.Account.DN)
		}
	}
	var entries []directory.Entry
	if len(r.Names) > 0 {
		entries, err = findAll(ctx, p.Source, stager.Dialect, r.Names)
	} else if entries, err = p.Get(ctx, lacking); err == nil {
		// Surveys do not hold every attribute.
		entries = slices.DeleteFunc(entries, func(e directory.Entry) bool { return r.hasIts(&e, result, byDN[directory.FoldDN(e.DN)]) })
	}
	if err != nil {
		return nil, err
	}
	rests := audit.PairKeys(s.Settings)
	if r.Is(batch.Set) && slices.ContainsFunc(rests, func(attr string) bool { return strings.EqualFold(attr, r.Attr) }) {
		o.Signed = true // who is who is told by it from now on
	}
	var all []batch.Candidate
	for i := range entries {
		c := batch.Candidate{Entry: entries[i], Rests: rests}
		r.fillFrom(&c, result, byDN[directory.FoldDN(entries[i].DN)])
		all = append(all, c)
	}
	if len(all) == 0 {
		if r.Is(batch.Set) {
			return nil, fmt.Errorf("every account whose person is sure has the %s of the roster, so %w", r.Attr, batch.ErrNothing)
		}
		return nil, fmt.Errorf("no account whose person is sure lacks %s, so %w", r.Attr, batch.ErrNothing)
	}
	return all, nil
}

// hasIts tells whether an entry has what the roster would give it: for fill any value at
// all, for set the very value.
func (r *StageRequest) hasIts(e *directory.Entry, result *reconcile.Result, pair *reconcile.Pair) bool {
	if r.Is(batch.Fill) {
		return e.Has(r.Attr)
	}
	value, err := rosterRule(r.Value, &result.People[pair.Person])
	if err == nil {
		value, err = batch.Expand(value, e)
	}
	return err != nil || slices.Equal(e.Get(r.Attr), []string{value}) // nothing is known that would be better
}

// fillFrom gives a candidate the value of its person, or says why it gets none.
func (r *StageRequest) fillFrom(c *batch.Candidate, result *reconcile.Result, pair *reconcile.Pair) {
	switch {
	case pair == nil:
		c.NotNow = "its owner is not known; \"yardbroom link confirm\" says who it is"
		return
	case !pair.Sure:
		c.NotNow = "its owner is likely, not sure; confirm it with \"yardbroom link confirm\" first"
		return
	}
	who := &result.People[pair.Person]
	c.Reason = fmt.Sprintf("%s by %s", audit.PersonName(who), pair.By)
	value, err := rosterRule(r.Value, who)
	if err != nil {
		c.NotNow = err.Error()
	}
	c.Values = []batch.Assignment{{Attr: r.Attr, New: value, Rule: true}}
}

// CheckRule refuses a rule that asks the roster for what it does not have, or entries
// for what no schema knows as an attribute.
func CheckRule(rule string) error {
	if _, err := rosterRule(rule, nil); err != nil {
		return err
	}
	names, err := batch.RuleNames(rule)
	if err != nil {
		return Wrong("%w; two braces stand for one: {{", err)
	}
	for _, name := range names {
		known := strings.HasPrefix(name, "roster.")
		for _, d := range directory.Dialects {
			known = known || d.Schema().Type(name) != nil
		}
		if !known {
			return Wrong("{%s}: there is no such attribute%s; in braces stand attributes of the entry ({givenName}) or of the roster ({roster.person-id})",
				name, wording.DidYouMean(name, directory.AD.Schema().AttributeNames()))
		}
	}
	return nil
}

// rosterRule puts a person's values into a rule, in place of {roster.FIELD}.
// Without a person it only reads the rule.
func rosterRule(rule string, who *roster.Person) (string, error) {
	var b strings.Builder
	for {
		before, rest, found := strings.Cut(rule, fromRoster)
		b.WriteString(before)
		if !found {
			return b.String(), nil
		}
		name, after, closed := strings.Cut(rest, "}")
		f, err := roster.ParseField(name)
		if err != nil || !closed {
			return "", Wrong("the rule %q: {roster.FIELD} names one of %s", rule, roster.FieldNames)
		}
		if who != nil {
			if who.Values[f] == "" {
				return "", fmt.Errorf("the roster gives no %s", f)
			}
			b.WriteString(strings.NewReplacer("{", "{{", "}", "}}").Replace(who.Values[f]))
		}
		rule = after
	}
}
