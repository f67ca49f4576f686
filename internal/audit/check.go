package audit

import (
	"embed"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/listing"
	"yardbroom/internal/settings"
	"yardbroom/internal/wording"
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

// UnmarshalText reads a severity's name.
func (s *Severity) UnmarshalText(text []byte) (err error) {
	*s, err = ParseSeverity(string(text))
	return err
}

// ParseSeverity reads a severity's name.
func ParseSeverity(name string) (Severity, error) {
	if i := slices.Index(severityNames, name); i >= 0 {
		return Severity(i), nil
	}
	return 0, fmt.Errorf("%q is not a severity%s: use info, low, medium or high", name, wording.DidYouMean(name, severityNames))
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
	// Unconfirmed says that the finding rests on a person's having this account,
	// which is likely and not sure. Nothing is staged on that.
	Unconfirmed bool
	// Hidden says that the finding rests on the absence of something that may
	// be there and not be shown.
	Hidden bool
	// Change is new, still or gone in a comparison, "" elsewhere.
	Change string

	severity *Severity // its own, where a check has several
	bundle   string    // findings of one check that belong together stand together
	fix      *Fix
}

// Because says of a finding why something is done about it, for people who know
// nothing of checks: "no sign-in for 410 days".
func (c *Check) Because(f *Finding) string {
	if c.own != nil {
		return c.Reason()
	}
	for _, text := range c.because {
		if f.Days > 0 || !strings.Contains(text, "%s") {
			return strings.Replace(text, "%s", wording.Count(f.Days, "day"), 1)
		}
	}
	if f.Days > 0 {
		return c.Short + ", for " + wording.Count(f.Days, "day")
	}
	return c.Short
}

// Fix is the value that a finding wants an attribute to have instead of
// another.
type Fix struct{ Attr, Old, New string }

// Fix returns what would clear the finding, nil where it is not the change
// of one value to a known other.
func (f *Finding) Fix() *Fix { return f.fix }

// Evidence is one attribute that proves a finding, in readable form.
type Evidence struct{ Attr, Value string }

// evidenceMissing is evidence of attributes that an entry lacks, named with
// commas between them.
const evidenceMissing = "missing"

// About tells whether the finding is about an attribute: about its value, or
// about there being none.
func (f *Finding) About(attr string) bool {
	return slices.ContainsFunc(f.Evidence, func(e Evidence) bool {
		return strings.EqualFold(e.Attr, attr) ||
			e.Attr == evidenceMissing &&
				slices.ContainsFunc(strings.Split(e.Value, ", "),
					func(name string) bool { return strings.EqualFold(name, attr) })
	})
}

// AboutEntry tells whether the finding is about an entry of the directory, which
// a person of the roster and an exemption are not.
func (f *Finding) AboutEntry() bool { return f.DN != "" && f.Kind != directory.KindExemption.String() }

// The values of evidence that there is nothing.
const (
	never  = "never"
	absent = "absent"
)

// Absent tells whether the evidence is that there is no value.
func (e Evidence) Absent() bool { return e.Value == never || e.Value == absent }

// evidenceLocked is evidence that wrong passwords have locked an account.
const evidenceLocked = "locked out"

// Obvious tells whether evidence says what a table shows in any case: where the
// entry stands and what it is called, the server that was asked, and that who is
// reported as locked out is.
func (e Evidence) Obvious() bool {
	return e.Attr == "server" || e.Attr == "container" || e.Attr == "name" || e.Value == evidenceLocked
}

// SignIns are some of the sign-ins of an account.
type SignIns int

// The sign-ins that a finding may be disproved by.
const (
	NoSignIns  SignIns = iota // it does not rest on them
	LaterOnes                 // any after Finding.Since
	AnySignIns                // any at all
)

// The names of checks that results are laid out by.
const (
	LeaverEnabled = "leaver-enabled"
	NoPerson      = "no-person"
)

// Check is one rule.
type Check struct {
	Name     string
	Severity Severity
	Short    string   // one line: what it reports
	Suggest  []string // the actions that would clear a finding
	because  []string // why something is done about a finding, with the days as %s; the first that can be said counts, none for Short
	Kinds    []directory.Kind
	// Off says that the check runs only where it is asked for.
	Off bool
	// ByRoster says that the check compares with a roster, and looks at nothing
	// where there is none; AlsoByRoster that it finds more where there is one.
	ByRoster, AlsoByRoster bool
	// Leavers says that it finds accounts whose people have left; ByAbsence that
	// somebody is found by not being on the roster.
	Leavers, ByAbsence bool
	// GivesValues says that a finding has the value that an attribute is to have
	// (Finding.Fix).
	GivesValues bool
	// DisprovedBy tells which sign-ins, seen later than the survey, show that a
	// finding holds no more.
	DisprovedBy SignIns
	// Filter is the filter of a check that the settings define; its times may
	// be relative.
	Filter     string
	attributes []string         // that the filter looks at
	own        *settings.Filter // what the settings say, nil for a built-in check
	// Guard names the attributes that a decision resting on a finding of
	// this check rests on.
	Guard func(d *directory.Dialect) []directory.AttrID
	// builtIn includes some of the built-in entries, which most checks
	// leave out.
	builtIn func(a *directory.Account) bool
	// overAll says that entries are compared with each other, so that a
	// survey of some of them is not enough.
	overAll bool
	// needs are sets of attributes of which one must be carried by some
	// entry of the kind.
	needs func(d *directory.Dialect) [][]directory.AttrID
	// absent names more attributes whose absence a finding rests on.
	absent func(p *pass) []directory.AttrID
	// overEntries says that a finding rests on there being no other entry than
	// those read, overUnits on there being no other unit, overChildren on there
	// being nothing right below.
	overEntries, overUnits, overChildren bool
	// wants says what else is missing for the check, in the settings or in
	// the survey, "" where nothing is.
	wants func(p *pass) string
	// prepare works out what judging single accounts needs to know of all.
	prepare func(p *pass)
	// One of these does the work: for one account, for one account that may
	// give several findings, or for whatever else the survey holds.
	judge     func(p *pass, a *directory.Account) *Finding
	judgeMany func(p *pass, a *directory.Account) []Finding
	gather    func(p *pass, report func(*directory.Subject, Finding))
}

// IsOff tells whether the check does not run unless it is asked for by name.
func (c *Check) IsOff(set *settings.Audit) bool {
	switch set.Checks[c.Name] {
	case "off", "false":
		return true
	case "":
		return c.Off
	}
	return false
}

// RestsOn names the attributes that a decision resting on a finding of the
// check rests on. What any change of an entry changes too is not among them.
func (c *Check) RestsOn(d *directory.Dialect, set *settings.Settings) []string {
	if c.own != nil {
		names := slices.DeleteFunc(c.shown(), func(name string) bool {
			return slices.ContainsFunc(byServer, func(s string) bool { return strings.EqualFold(s, name) })
		})
		for _, id := range listing.RestsOn(&c.own.Where, d) {
			names = append(names, id.String())
		}
		return names
	}
	var names []string
	if c.Guard == nil {
		return nil
	}
	for _, id := range c.Guard(d) {
		names = append(names, id.String())
	}
	if c.ByRoster && c.Guard(d) != nil {
		names = append(names, PairKeys(set)...)
	}
	return names
}

// ComparesAll tells whether the check compares accounts with all others, so
// that it says nothing where only some were read.
func (c *Check) ComparesAll() bool { return c.overAll && c.judge == nil && c.gather == nil }

//go:embed doc/*.md
var docs embed.FS

// Doc returns the check's full text for people, in Markdown.
func (c *Check) Doc() string {
	if c.own != nil {
		return fmt.Sprintf("%s\n\n**What it looks at.** Entries that fulfil %s. Built-in entries are left out.\n",
			c.Short, c.own.Describe())
	}
	text, err := docs.ReadFile("doc/" + c.Name + ".md")
	if err != nil {
		panic(err) // each check has one; a test says so
	}
	return string(text)
}

// Checks are all built-in checks, in the order of reports.
var Checks = slices.Concat(activity, state, signIn, privilegeChecks, groupChecks, valueChecks, rosterChecks,
	logChecks, exemptionChecks)

func byName(checks []*Check, name string) *Check {
	if i := slices.IndexFunc(checks, func(c *Check) bool { return c.Name == name }); i >= 0 {
		return checks[i]
	}
	return nil
}
