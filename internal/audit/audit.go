// Package audit judges a survey. A check is a value: its name, its severity,
// what it needs, its text for people, and one pure function. Findings depend
// on the survey, the settings and the time of the audit, and on nothing else.
package audit

import (
	"cmp"
	"embed"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

// Severity orders findings by how soon somebody should look.
type Severity int

// The severities, from least to most urgent.
const (
	Info Severity = iota
	Low
	Medium
	High
)

var severityNames = []string{"info", "low", "medium", "high"}

func (s Severity) String() string { return severityNames[s] }

// MarshalText writes the severity's name.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// ParseSeverity reads a severity's name.
func ParseSeverity(name string) (Severity, error) {
	if i := slices.Index(severityNames, name); i >= 0 {
		return Severity(i), nil
	}
	return 0, fmt.Errorf("%q is not a severity: use info, low, medium or high", name)
}

// Confidence tells whether the survey proves a finding.
type Confidence string

// The two confidences.
const (
	Sure   Confidence = "sure"
	Likely Confidence = "likely"
)

// Finding is one entry that one check reports. Times are in UTC.
type Finding struct {
	Check      string
	Severity   Severity
	Kind       string
	DN         string
	Account    string
	Confidence Confidence
	Since      time.Time // when the condition began; zero where unknown
	Days       int       // whole days from Since to the time of the audit
	Evidence   []Evidence
	Suggest    []string
	ID         string // raw identity of the entry
}

// Evidence is one attribute that proves a finding, in readable form.
type Evidence struct{ Attr, Value string }

// Check is one rule.
type Check struct {
	Name     string
	Severity Severity
	Short    string   // one line: what it reports
	Suggest  []string // the actions that would clear a finding
	Kinds    []directory.Kind
	// Guard names the attributes that a decision resting on a finding of
	// this check rests on.
	Guard func(d *directory.Dialect) []directory.AttrID
	// Administrator includes the built-in Administrator, whom most checks
	// leave out with the other built-in entries.
	Administrator bool
	// needs are sets of attributes of which one must be carried by some
	// entry of the kind.
	needs func(d *directory.Dialect) [][]directory.AttrID
	// wants says which setting is missing, "" where none is.
	wants func(s *settings.Settings) string
	judge func(p *pass, a *directory.Account) *Finding
}

//go:embed doc/*.md
var docs embed.FS

// Doc returns the check's full text for people, in Markdown.
func (c *Check) Doc() string {
	text, err := docs.ReadFile("doc/" + c.Name + ".md")
	if err != nil {
		panic(err) // each check has one; a test says so
	}
	return string(text)
}

// Checks are all checks, in the order of reports.
var Checks = slices.Concat(activity, state)

// Named returns a check by its name.
func Named(name string) (*Check, error) {
	for _, c := range Checks {
		if c.Name == name {
			return c, nil
		}
	}
	return nil, fmt.Errorf("no check is called %q; \"yardbroom checks\" lists them", name)
}

// Report is the result of an audit.
type Report struct {
	AsOf     time.Time
	Survey   *directory.Survey
	Findings []Finding
	Summary  []Summary
	Notes    []string
}

// Summary is what became of one check.
type Summary struct {
	Check    string   `json:"check"`
	Severity Severity `json:"severity"`
	Findings int      `json:"findings"`
	Likely   int      `json:"likely"` // of the findings
	Looked   bool     `json:"looked_at"`
	// NotLooked says for what the check was not looked at, and why.
	NotLooked []string `json:"not_looked_at,omitempty"`
}

// Options choose what an audit does.
type Options struct {
	AsOf     time.Time
	Checks   []string // names; none means all
	Scope    []string // DNs; none means everything
	LeaveOut []string
}

// pass is one run of the checks.
type pass struct {
	*directory.Survey
	asOf      time.Time
	set       settings.Audit
	parking   []string
	staleLine time.Time // a last logon at or before it is stale
	freshLine time.Time // an account created after it is new
}

// Run judges a survey.
func Run(s *directory.Survey, set *settings.Settings, opt Options) (*Report, error) {
	chosen, severities, summaries, err := choose(set, opt.Checks)
	if err != nil {
		return nil, err
	}
	p := &pass{Survey: s, asOf: opt.AsOf, set: set.Audit, parking: directory.FoldAll(set.Audit.Parking),
		staleLine: set.Audit.StaleAfter.Before(opt.AsOf), freshLine: set.Audit.NewAccountGrace.Before(opt.AsOf)}
	looked := make([][]bool, len(chosen))
	for i, c := range chosen {
		looked[i] = p.lookedAt(c, set, &summaries[i])
	}
	inScope := scope(opt)
	findings := eachAccount(s.Accounts.Parts(), func(a *directory.Account, out *[]Finding) {
		if a.Kind == directory.KindTrust || a.Kind == directory.KindResource {
			return
		}
		for i, c := range chosen {
			if !looked[i][a.Kind] || a.BuiltIn && !(c.Administrator && a.RID == 500) {
				continue
			}
			f := c.judge(p, a)
			if f == nil || !inScope(a) {
				continue
			}
			p.fill(f, c, severities[i], a)
			*out = append(*out, *f)
		}
	})
	for i := range findings {
		at := slices.IndexFunc(summaries, func(s Summary) bool { return s.Check == findings[i].Check })
		summaries[at].Findings++
		if findings[i].Confidence == Likely {
			summaries[at].Likely++
		}
	}
	order := map[string]int{}
	for i, c := range Checks {
		order[c.Name] = i
	}
	slices.SortFunc(findings, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(b.Severity, a.Severity), cmp.Compare(order[a.Check], order[b.Check]),
			cmp.Compare(b.Days, a.Days), strings.Compare(a.Account, b.Account), strings.Compare(a.DN, b.DN))
	})
	return &Report{AsOf: opt.AsOf, Survey: s, Findings: findings, Summary: summaries, Notes: p.notes()}, nil
}

// choose returns the checks to run, with their severities and empty
// summaries. A check that the settings switch off is summarised only, unless
// it was asked for by name.
func choose(set *settings.Settings, names []string) (chosen []*Check, severities []Severity, summaries []Summary, err error) {
	for _, name := range names {
		if _, err := Named(name); err != nil {
			return nil, nil, nil, err
		}
	}
	for name := range set.Audit.Checks {
		if _, err := Named(name); err != nil {
			return nil, nil, nil, fmt.Errorf("settings: audit: checks: %w", err)
		}
	}
	var off []Summary
	for _, c := range Checks {
		if len(names) > 0 && !slices.Contains(names, c.Name) {
			continue
		}
		severity, word := c.Severity, set.Audit.Checks[c.Name]
		if word == "off" || word == "false" {
			if len(names) == 0 {
				off = append(off, Summary{Check: c.Name, Severity: severity, NotLooked: []string{"switched off in the settings"}})
				continue
			}
			word = ""
		}
		if word != "" && word != "on" && word != "true" {
			if severity, err = ParseSeverity(word); err != nil {
				return nil, nil, nil, fmt.Errorf("settings: audit: checks: %s: %w, or off", c.Name, err)
			}
		}
		chosen, severities = append(chosen, c), append(severities, severity)
		summaries = append(summaries, Summary{Check: c.Name, Severity: severity})
	}
	return chosen, severities, append(summaries, off...), nil
}

// lookedAt tells for each kind whether the check can be looked at, and
// writes into the summary why not.
func (p *pass) lookedAt(c *Check, set *settings.Settings, sum *Summary) []bool {
	yes := make([]bool, 64)
	if c.wants != nil {
		if why := c.wants(set); why != "" {
			sum.NotLooked = append(sum.NotLooked, why)
			return yes
		}
	}
	present := 0
	for _, k := range c.Kinds {
		if p.Count[k] == 0 {
			continue
		}
		present++
		missing := ""
		for _, ids := range c.needs(p.Dialect) {
			if !p.Shows(k, ids...) {
				missing = names(ids)
				break
			}
		}
		if missing != "" {
			sum.NotLooked = append(sum.NotLooked, fmt.Sprintf("%ss: none shows %s (not exported, not readable for this account, or not recorded by the server)", k, missing))
			continue
		}
		yes[k], sum.Looked = true, true
	}
	if present == 0 {
		sum.Looked = true // there is nothing of these kinds that could be missed
	}
	return yes
}

func names(ids []directory.AttrID) string {
	all := make([]string, len(ids))
	for i, id := range ids {
		all[i] = id.String()
	}
	return strings.Join(all, " or ")
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
	note(p.NoClass, "one entry shows no objectClass; nothing can be said of it", "%d entries show no objectClass; nothing can be said of them")
	note(p.Broken, "one record could not be read and was left out", "%d records could not be read and were left out")
	note(p.Referrals, "one reference to another server was not followed", "%d references to other servers were not followed")
	unreadable := 0
	for a := range p.Accounts.All() {
		for _, m := range []directory.Moment{a.LastLogon, a.LastLogonTS, a.LockedAt, a.Created, a.PasswordSet, a.Expires, a.ExpiresAlso, a.StartsAt} {
			if m.Unreadable() {
				unreadable++
				break
			}
		}
	}
	note(unreadable, "one account holds a time that cannot be read; what rests on it was not judged", "%d accounts hold a time that cannot be read; what rests on it was not judged")
	if p.Dialect != directory.AD && !p.Shows(directory.KindUser, p.Dialect.Enabled...) && p.Count[directory.KindUser] > 0 {
		notes = append(notes, "no user shows "+names(p.Dialect.Enabled)+": that all are enabled is assumed, so findings that need it are likely, not sure")
	}
	return notes
}

// fill completes a finding with what every finding has.
func (p *pass) fill(f *Finding, c *Check, severity Severity, a *directory.Account) {
	f.Check, f.Severity, f.Suggest = c.Name, severity, c.Suggest
	f.Kind, f.DN, f.Account, f.ID = a.Kind.String(), a.DN, a.Name(), a.ID
	if f.Confidence == "" {
		f.Confidence = Sure
	}
	if !f.Since.IsZero() {
		f.Days = int(p.asOf.Sub(f.Since) / (24 * time.Hour))
	}
}

// eachAccount runs judge over all accounts on all processors and returns
// what it found in the order of the accounts.
func eachAccount(parts [][]directory.Account, judge func(*directory.Account, *[]Finding)) []Finding {
	found := make([][]Finding, len(parts))
	var next atomic.Int64
	var wg sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(parts)) {
		wg.Go(func() {
			for n := int(next.Add(1)) - 1; n < len(parts); n = int(next.Add(1)) - 1 {
				for i := range parts[n] {
					judge(&parts[n][i], &found[n])
				}
			}
		})
	}
	wg.Wait()
	return slices.Concat(found...)
}

func scope(opt Options) func(*directory.Account) bool {
	in, out := directory.FoldAll(opt.Scope), directory.FoldAll(opt.LeaveOut)
	if len(in) == 0 && len(out) == 0 {
		return func(*directory.Account) bool { return true }
	}
	return func(a *directory.Account) bool { return InScope(a.DN, in, out) }
}

// InScope tells whether a name stands below one of the folded names in, or
// in is empty, and below none of out.
func InScope(dn string, in, out []string) bool {
	dn = directory.FoldDN(dn)
	under := func(base string) bool { return directory.Under(dn, base) }
	return (len(in) == 0 || slices.ContainsFunc(in, under)) && !slices.ContainsFunc(out, under)
}

// evidence writes a moment for people, with the attribute that shows it.
func evidence(m directory.Moment) Evidence {
	switch {
	case m.Known():
		return Evidence{m.Attr.String(), m.Time().Format(time.RFC3339)}
	case m.Present():
		return Evidence{m.Attr.String(), "never"}
	}
	return Evidence{m.Attr.String(), "absent"}
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
