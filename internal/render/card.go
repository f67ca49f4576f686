package render

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/roster"
	"yardbroom/internal/sheet"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// AccountCard is everything to show of one account, and what to do about it.
type AccountCard struct {
	*work.Card
	Command string // that would clear the first finding
	// Act gives the command for an action on the account, "" where there is
	// none.
	Act func(action string) string
	// All shows everything, and not only what fits a screen.
	All bool
}

// Open is the batch in which an action on the account waits already, nil where none
// does.
func (c *AccountCard) Open(action string) *batch.Batch {
	for _, one := range c.Known.Waiting {
		if one.Has(action) {
			return one.Batch
		}
	}
	return nil
}

// hurdle is an obstacle to signing in as people want to read it.
type hurdle struct {
	directory.Obstacle
	text string // what, why and since when
	help string // what to do
	run  string // the command, where there is one
}

// hurdles are all obstacles of the account.
func (c *AccountCard) hurdles(st Style) []hurdle {
	var out []hurdle
	for _, o := range c.Survey.Obstacles(c.Account, c.AsOf) {
		h := hurdle{Obstacle: o}
		since, on := "", ""
		if o.Since.Known() {
			when := wording.Moment(o.Since.Time(), st.Zone) + ", " + ago(o.Since.Time(), c.AsOf)
			since, on = " since "+when, " on "+when
		}
		by := " (" + o.By.String() + ")"
		switch o.What {
		case directory.ObstacleDisabled:
			h.text = "disabled" + since + by
			h.help, h.run = "To enable it, if it is to be used", c.Act("enable")
			if c.Role != "" {
				h.text = "disabled" + since + " by the role " + Visible(c.Role)
				h.help, h.run = "To enable it, take it out of that role (its nsRoleDN, with the server's own tools), if it is to be used.", ""
			}
			if c.NotToBeEnabled != "" {
				h.text, h.help = h.text+"; it is not to be enabled: "+c.NotToBeEnabled, ""
			}
		case directory.ObstacleExpired:
			h.text = "expired" + on + by
			h.help = "The expiry date has to be changed, if the account is to be used."
		case directory.ObstacleLocked:
			h.text = "locked out by wrong passwords" + since + by
			if o.Until.Known() {
				h.text += "; it ends by itself " + wording.Moment(o.Until.Time(), st.Zone)
			} else {
				h.text += "; until somebody unlocks it"
			}
			h.help, h.run = "To unlock it", c.Act("unlock")
		case directory.ObstacleNotBegun:
			h.text = "not to be used before " + wording.Moment(o.Until.Time(), st.Zone) + by
			h.help = "The first day has to be changed, if it is to be used earlier."
		case directory.ObstacleMustChange:
			h.text = "the password has to be changed at the next logon" + by + "; until then only a logon that can ask for a new one works"
			h.help = "Sign in once at a place that asks for a new password, not by mail or VPN."
		case directory.ObstaclePassword:
			h.text = "the password expired" + on + by
			h.help = "Sign in at a place that asks for a new password, or have it reset."
		}
		if h.run == "" && h.help != "" && !strings.HasSuffix(h.help, ".") && c.Known.Exempt != "" {
			h.help = "It is exempt, so nothing is changed: \"yardbroom exempt list\" shows the exemptions."
		}
		if h.run == "" && h.help != "" && !strings.HasSuffix(h.help, ".") {
			h.help = "It is built in, and such entries are never changed from here: use the server's own tools."
		}
		if o.Likely {
			h.text += "; likely, not sure, since the policy in force cannot be read"
		}
		out = append(out, h)
	}
	return out
}

// Card writes an account for people: first whether it can sign in, and if
// not why, since when and what to do; then the rest.
func Card(w io.Writer, c *AccountCard, st Style) {
	fmt.Fprintf(w, "%s: %s\n\n", st.paint(c.title(), text.Bold), st.state(c))
	hurdles := c.hurdles(st)
	for _, h := range hurdles {
		fmt.Fprintln(w, st.wrapped(st.paint("Cannot sign in: ", text.FgRed, text.Bold), "Cannot sign in: ", h.text))
		if h.run != "" {
			fmt.Fprintf(w, "  %s:  %s\n", h.help, Visible(h.run))
		} else if h.help != "" {
			fmt.Fprintf(w, "  %s\n", h.help)
		}
	}
	untold := c.untold()
	if len(untold) > 0 {
		fmt.Fprintln(
			w,
			st.wrapped(st.paint("Cannot tell: ", text.FgYellow, text.Bold), "Cannot tell: ",
				"whether it is "+strings.Join(untold, ", or ")+"."),
		)
	}
	if len(hurdles) == 0 && len(untold) == 0 && c.canSignIn() {
		fmt.Fprintln(
			w,
			st.wrapped(
				st.paint("Can sign in: ", text.FgGreen, text.Bold),
				"Can sign in: ",
				"nothing in the directory keeps it from that. If it fails, look at the password typed, the machine, the network.",
			),
		)
	}
	fmt.Fprintln(w)
	for i, group := range c.facts(st) {
		if i > 0 && len(group) > 0 {
			fmt.Fprintln(w)
		}
		for _, f := range group {
			value := f.Value
			if !strings.Contains(value, "  ") { // blanks may be what matters
				value = hanging(value, st.Width, len("  ")+17)
			}
			fmt.Fprintf(w, "  %-16s %s\n", f.Label, value)
		}
	}
	c.groups(w, st)
	c.known(w, st)
	fmt.Fprintln(w)
	c.findings(w, st)
	if len(c.Elsewhere) > 0 {
		fmt.Fprintln(w,
			Wrap("Only an audit of all accounts shows: "+strings.Join(c.Elsewhere, ", ")+".", st.Width, "  "))
	}
}

// untold are what may keep the account from signing in and cannot be told, and
// why.
func (c *AccountCard) untold() (out []string) {
	for _, o := range c.Survey.Untold(c.Account, c.AsOf) {
		what := o.What
		if what == directory.ObstacleMustChange {
			what = "held up by a password that has to be changed"
		}
		out = append(out, what+" ("+c.hidden(o.By)+")")
	}
	return out
}

// hidden says that an attribute is not to be seen.
func (c *AccountCard) hidden(id directory.AttrID) string {
	if c.Survey.RightsRead {
		return id.String() + " may not be read"
	}
	return id.String() + " is not shown there, as it is elsewhere"
}

// hiddenOf names the first of some attributes that is hidden, "" where none is.
func (c *AccountCard) hiddenOf(ids ...directory.AttrID) string {
	for _, id := range ids {
		if c.Account.Hidden.Has(id) {
			return "cannot tell: " + c.hidden(id)
		}
	}
	return ""
}

func (c *AccountCard) title() string {
	name := cmp.Or(c.Entry.First("displayName"), c.Entry.First("cn"), directory.LeafValue(c.Account.DN))
	return fmt.Sprintf("%s (%s), %s", Visible(name), Visible(c.Account.Name()), c.Account.Kind)
}

// canSignIn tells whether the directory shows the account to be usable.
func (c *AccountCard) canSignIn() bool { return c.Survey.Enabled(c.Account, c.AsOf).Yes }

// wrapped writes a text behind a painted label.
func (st Style) wrapped(painted, label, s string) string {
	return painted + strings.TrimPrefix(Wrap(label+s, st.Width, "  "), label)
}

// hanging wraps a text that begins some columns from the left.
func hanging(s string, width, left int) string {
	return strings.ReplaceAll(Wrap(s, max(width-left, 20), ""), "\n", "\n"+strings.Repeat(" ", left))
}

// fewGroups is how many groups are named where not everything is shown.
const fewGroups = 8

// groups lists the groups, as many to a line as fit.
func (c *AccountCard) groups(w io.Writer, st Style) {
	if len(c.Groups) == 0 {
		return
	}
	var names []string
	for _, dn := range c.Groups {
		names = append(names, Visible(directory.LeafValue(dn)))
	}
	if more := len(names) - fewGroups; more > 0 && !c.All {
		names = append(names[:fewGroups], fmt.Sprintf("%d more (--all names them)", more))
	}
	const label = "  Groups           "
	fmt.Fprintln(w, label+hanging(strings.Join(names, ", "), st.Width, len(label)))
}

// fewDone is how many of our own changes are told where not everything is shown.
const fewDone = 3

// known writes what the state folder knows of the account.
func (c *AccountCard) known(w io.Writer, st Style) {
	tell := func(label, text string) {
		fmt.Fprintf(w, "  %-16s %s\n", label, hanging(Visible(text), st.Width, len("  ")+17))
	}
	if why, is := strings.CutPrefix(c.Known.Exempt, "it is exempt: "); is {
		tell("Exempt", why)
	}
	if s := c.Known.Suspended; s != nil {
		tell("Suspended", fmt.Sprintf("until %s, by batch %d", wording.Moment(s.Until, st.Zone), s.Batch))
	}
	for _, one := range c.Known.Waiting {
		tell("Waiting", fmt.Sprintf("batch %d, staged %s by %s: %s", one.Batch.ID, Day(one.Created, st.Zone), one.By, LineChanges(one.Line)))
	}
	for _, l := range c.Known.Links {
		text := string(l.Verdict) + " as " + l.Name
		if l.Verdict == work.Rejected {
			text = "not " + l.Name
		}
		tell("Link", fmt.Sprintf("%s (%s), by %s on %s", text, l.Person, l.By, Day(l.At, st.Zone)))
	}
	for i, one := range c.Known.Done {
		if i == fewDone && !c.All {
			tell("", fmt.Sprintf("%d earlier changes (--all shows them)", len(c.Known.Done)-i))
			break
		}
		label := ""
		if i == 0 {
			label = "Changed by us"
		}
		text := fmt.Sprintf("%s: %s (batch %d, %s)", Day(one.At, st.Zone), LineChanges(one.Line), one.Batch.ID, one.By)
		if one.Undone != 0 {
			text += fmt.Sprintf(", undone by batch %d", one.Undone)
		}
		tell(label, text)
	}
}

// fewFindings is how many findings are told where not everything is shown.
const fewFindings = 6

func (c *AccountCard) findings(w io.Writer, st Style) {
	if len(c.Findings) == 0 {
		fmt.Fprintln(w, "No findings.")
		return
	}
	fmt.Fprintln(w, st.paint(wording.Count(len(c.Findings), "finding"), text.Bold))
	for i := range c.Findings {
		if i == fewFindings && !c.All {
			fmt.Fprintf(w, "  … and %d more: --all shows them\n", len(c.Findings)-i)
			break
		}
		f := &c.Findings[i]
		days := ""
		if f.Days > 0 {
			days = ", " + wording.Count(f.Days, "day")
		}
		fmt.Fprintf(
			w,
			"  %s %s\n",
			st.severity(f.Severity),
			Wrap(fmt.Sprintf("%s (%s%s): %s", f.Check, f.Confidence, days, Visible(spokenEvidence(f, st.Zone))),
				st.Width-9, "      "),
		)
	}
	told := slices.ContainsFunc(c.hurdles(st), func(h hurdle) bool { return h.run == c.Command })
	if c.Command != "" && !told {
		fmt.Fprintf(w, "\nTo act on it: %s\n", Visible(c.Command))
	}
}

// facts are what else is to say of the account, label by label: of signing
// in, of the person, of the entry.
func (c *AccountCard) facts(st Style) [][]Fact {
	a := c.Account
	out, part := make([][]Fact, 3), 0
	add := func(label, value string) {
		if value != "" {
			out[part] = append(out[part], Fact{Label: label, Value: value})
		}
	}
	add("Last logon", logonText(c, st))
	add("Wrong passwords", c.wrongPasswords(st))
	if refused, unlocking := c.refused(st); refused != "" {
		add("Refused", refused)
		add("Unlocking", unlocking)
	}
	add("Locked", lockText(c, st))
	add(
		"Password set",
		cmp.Or(momentText(a.PasswordSet, c.AsOf, st, "must change at next logon"),
			c.hiddenOf(c.Survey.Dialect.PasswordSet...)),
	)
	add("Password expires", c.passwordExpires(st))
	add("Account expires", expiryText(c, st))
	add("Ladder", c.ladder(st))
	part = 1
	add("Person", c.person())
	for _, attr := range []struct{ label, name string }{{"Sign-in name", "userPrincipalName"}, {"Mail", "mail"}, {"Telephone", "telephoneNumber"}, {"Mobile", "mobile"},
		{"Employee id", "employeeID"}, {"Employee number", "employeeNumber"}, {"Department", "department"}, {"Title", "title"}, {"Office", "physicalDeliveryOfficeName"}, {"Manager", "manager"}} {
		if !c.All && slices.Contains(lessOften, attr.name) {
			continue
		}
		v := c.Entry.First(attr.name)
		if attr.name == "manager" && v != "" {
			v = directory.LeafValue(v)
		}
		add(attr.label, Visible(v))
	}
	add("Description", Visible(c.Entry.First("description")))
	part = 2
	add("Created", momentText(a.Created, c.AsOf, st, ""))
	add("Last changed", momentText(a.Changed, c.AsOf, st, ""))
	add("Place", Place(a.DN))
	add("DN", Visible(a.DN))
	if a.BuiltIn {
		add("Built in", "yes: it takes part in few checks and is never changed")
	}
	add("Read from", Visible(c.Survey.Source)+", as of "+wording.Moment(c.AsOf, st.Zone))
	return out
}

// lessOften are the attributes that are shown only where everything is.
var lessOften = []string{"mobile", "telephoneNumber", "physicalDeliveryOfficeName", "employeeNumber"}

// refused says what keeps refusing the account by the logs, and whether unlocking helps.
func (c *AccountCard) refused(st Style) (what, unlocking string) {
	t := c.Trace
	if t == nil || t.Trace.Refused == 0 {
		return "", ""
	}
	what = fmt.Sprintf("%s since %s, last %s: %s", times(t.Trace.Refused), wording.Moment(t.Trace.FirstRefused(), st.Zone),
		ago(t.Trace.LastRefused(), c.AsOf), Visible(lowered(t.Judged.Sentence())))
	return what + " More: yardbroom trace " + Visible(c.Account.Name()), strings.TrimPrefix(t.Judged.Unlocking(), "Unlocking ")
}

// lowered begins a sentence with a small letter, to go on with.
func lowered(s string) string { return strings.ToLower(s[:1]) + s[1:] }

// ladder says where the account stands on a ladder, and what comes next.
func (c *AccountCard) ladder(st Style) string {
	if c.Ladder == nil {
		return ""
	}
	s := c.Ladder.Standing
	text := c.Ladder.Ladder.Name + ", " + rungName(s.Rung) + " since " + Day(s.Since, st.Zone)
	if s.Rung == "" {
		text = c.Ladder.Ladder.Name + " since " + Day(s.Since, st.Zone) + ", before the first rung"
	}
	if s.Next != nil {
		text += "; next " + s.Next.Name
		if day := Day(s.Day, st.Zone); day != "" {
			text += " not before " + day
		}
	}
	for _, more := range remarks(c.Ladder.Ladder, s, st.Zone) {
		text += "; " + more
	}
	return Visible(text)
}

// person says whose the account is.
func (c *AccountCard) person() string {
	if c.People == nil {
		return ""
	}
	if p := c.People.Pair(c.Account); p != nil {
		who := &c.People.People[p.Person]
		text := audit.PersonName(who) + ", " + personState(who)
		for _, f := range []roster.Field{roster.Title, roster.Department} {
			if v := who.Values[f]; v != "" {
				text += ", " + v
			}
		}
		sure := "sure"
		if !p.Sure {
			sure = "likely"
		}
		return Visible(fmt.Sprintf("%s (%s, by %s)", text, sure, p.By))
	}
	if d := c.People.Doubt(c.Account); d != nil {
		var names []string
		for _, one := range d.Candidates {
			names = append(names, audit.PersonName(&c.People.People[one.Person]))
		}
		return Visible("in doubt, since " + d.Why + ": " + strings.Join(names, " or "))
	}
	if l, gone := c.People.Gone[c.Account]; gone {
		return Visible("linked to " + l.Person + ", who is no longer on the roster")
	}
	return "nobody on the last roster, as far as the last reconciliation knew"
}

// personState says what somebody is to their employer.
func personState(who *roster.Person) string {
	switch who.State {
	case roster.Left:
		if !who.LeftOn.IsZero() {
			return "left on " + who.LeftOn.Format(time.DateOnly)
		}
	case roster.Future:
		if !who.Start.IsZero() {
			return "begins on " + who.Start.Format(time.DateOnly)
		}
	case roster.Leave:
		return "on leave"
	}
	return string(who.State)
}

// wrongPasswords says how often in a row and when last a wrong password was
// given, on the server that was asked.
func (c *AccountCard) wrongPasswords(st Style) string {
	n, err := strconv.Atoi(c.Entry.First("badPwdCount"))
	if failures := c.Entry.Get("pwdFailureTime"); err != nil && len(failures) > 0 {
		last := slices.Max(failures)
		if t, err := directory.ParseGeneralizedTime(last); err == nil {
			return fmt.Sprintf("%d in a row, the last %s", len(failures), wording.Moment(t, st.Zone))
		}
	}
	if err != nil {
		return ""
	}
	if t, err := directory.ParseFileTime(c.Entry.First("badPasswordTime")); err == nil && !t.IsZero() {
		return fmt.Sprintf("%d in a row, the last %s, %s", n, wording.Moment(t, st.Zone), ago(t, c.AsOf))
	}
	return fmt.Sprintf("%d in a row", n)
}

func (c *AccountCard) passwordExpires(st Style) string {
	if c.Survey.Dialect == directory.AD && c.Account.Flags&directory.UACPasswordNeverExpires != 0 {
		return "never (a flag of this account)"
	}
	expires := c.Survey.PasswordExpires(c.Account)
	switch {
	case !expires.Known():
		return ""
	case expires.Time().After(c.AsOf):
		return wording.Moment(expires.Time(), st.Zone) + ", in " + wording.Count(
			int(expires.Time().Sub(c.AsOf)/(24*time.Hour)), "day")
	}
	return wording.Moment(expires.Time(), st.Zone) + ", " + ago(expires.Time(), c.AsOf)
}

// state says in a few words whether the account can sign in.
func (st Style) state(c *AccountCard) string {
	a, s := c.Account, c.Survey
	switch {
	case s.Disabled(a, c.AsOf).Yes:
		return st.paint("disabled", text.FgRed)
	case s.Expired(a, c.AsOf).Yes:
		return st.paint("expired on "+Day(a.Expires.Time(), st.Zone), text.FgRed)
	case s.LockedOut(a, c.AsOf).Yes:
		return st.paint("enabled, but locked out", text.FgRed)
	case !c.canSignIn():
		return "its state cannot be told"
	case len(c.Survey.Untold(a, c.AsOf)) > 0:
		return "not all of its state can be told"
	}
	return st.paint("enabled", text.FgGreen)
}

// lockText says that the account is not locked, and whether it was.
func lockText(c *AccountCard, st Style) string {
	a := c.Account
	switch {
	case c.Survey.LockedOut(a, c.AsOf).Yes:
		return "" // said above
	case a.LockedAt.Known():
		return "no; it was, from " + wording.Moment(a.LockedAt.Time(), st.Zone) + " on"
	}
	return cmp.Or(c.hiddenOf(c.Survey.Dialect.Locked...), "no")
}

func expiryText(c *AccountCard, st Style) string {
	switch x := c.Account.Expires; {
	case x.Unreadable():
		return "the date in " + x.Attr().String() + " cannot be read"
	case x.Beyond():
		return "after " + Day(x.Time(), st.Zone) + " (" + x.Attr().String() + ")"
	case x.Known():
		return wording.Moment(x.Time(), st.Zone) + " (" + x.Attr().String() + ")"
	case x.Present():
		return "never"
	}
	return cmp.Or(c.hiddenOf(c.Survey.Dialect.Expiry...), "no date shown")
}

func logonText(c *AccountCard, st Style) string {
	last := c.Survey.LastSignIn(c.Account, c.AsOf)
	switch {
	case last.Unreadable():
		return "the time in " + last.Attr().String() + " cannot be read, or lies in the future"
	case !last.Known():
		return cmp.Or(c.hiddenOf(c.Survey.Dialect.LastLogon...), "none shown")
	}
	by := last.Attr().String()
	if last.Elsewhere != "" {
		by = last.Elsewhere
	}
	if last.Attr() == directory.AttrLastLogon && c.Survey.LogonServer(c.Account) != "" {
		by += " on " + c.Survey.LogonServer(c.Account)
	}
	out := wording.Moment(last.Time(), st.Zone) + ", " + ago(last.Time(), c.AsOf) + " (" + Visible(by) + ")"
	if !c.Survey.EveryServerAsked() {
		out += "; other servers may know of a later one"
	}
	for _, id := range c.Survey.Dialect.LastLogon {
		if c.Account.Hidden.Has(id) {
			out += "; there may be a later one: " + c.hidden(id)
		}
	}
	return out
}

func momentText(m directory.Moment, asOf time.Time, st Style, never string) string {
	switch {
	case m.Unreadable():
		return "the time in " + m.Attr().String() + " cannot be read"
	case m.Known():
		return wording.Moment(m.Time(), st.Zone) + ", " + ago(m.Time(), asOf)
	case m.Present():
		return never
	}
	return ""
}

func ago(t, now time.Time) string {
	switch since := now.Sub(t); {
	case t.After(now):
		return "still to come"
	case since < time.Minute:
		return "just now"
	case since < 2*time.Hour:
		return wording.Count(int(since/time.Minute), "minute") + " ago"
	case since < 48*time.Hour:
		return wording.Count(int(since/time.Hour), "hour") + " ago"
	default:
		return wording.Count(int(since/(24*time.Hour)), "day") + " ago"
	}
}

// CardSheets are the account as sheets: what there is to say of it, its
// groups and its findings.
func CardSheets(c *AccountCard, zone *time.Location) []sheet.Sheet {
	facts := sheet.Sheet{
		Name:    "account",
		Title:   c.Account.Name(),
		Columns: []sheet.Column{{Name: "fact", Title: "Fact", Key: true}, {Name: "value", Title: "Value", Wide: true}},
	}
	st := Style{Zone: zone}
	facts.Rows = append(facts.Rows, []any{"Account", c.Account.Name()}, []any{"State", st.state(c)})
	for _, h := range c.hurdles(st) {
		facts.Rows = append(facts.Rows, []any{"Cannot sign in", h.text})
	}
	for _, f := range slices.Concat(c.facts(st)...) {
		facts.Rows = append(facts.Rows, []any{f.Label, f.Value})
	}
	groups := sheet.Sheet{
		Name:    "groups",
		Title:   "Groups",
		Columns: []sheet.Column{{Name: "group", Title: "Group", Key: true}, {Name: "dn", Title: "DN", Wide: true}},
	}
	for _, dn := range c.Groups {
		groups.Rows = append(groups.Rows, []any{directory.LeafValue(dn), dn})
	}
	return []sheet.Sheet{facts, groups, *FindingsSheet(c.Findings)}
}

// CardPage is the account as a page.
func CardPage(c *AccountCard, zone *time.Location, made time.Time) *Page {
	st := Style{Zone: zone}
	p := &Page{Title: c.title(), Subtitle: "as of " + wording.Moment(c.AsOf, zone), Zone: zone, Made: made}
	state := Fact{Value: st.state(c), Label: "", Tone: ToneLow}
	if len(c.hurdles(st)) > 0 {
		state.Tone = ToneHigh
	}
	p.Facts = []Fact{state}
	about := Section{ID: "account", Open: true, Sheet: sheet.Sheet{Title: "Account"}}
	for _, h := range c.hurdles(st) {
		about.Pairs = append(about.Pairs, Fact{Label: "Cannot sign in", Value: h.text, Tone: ToneHigh},
			Fact{Label: "What to do", Value: strings.TrimSuffix(h.help+": "+h.run, ": ")})
	}
	about.Pairs = append(about.Pairs, slices.Concat(c.facts(st)...)...)
	sheets := CardSheets(c, zone)
	p.Sections = []Section{
		about,
		{ID: "findings", Open: true, Sheet: evidenceByCheck(c.Findings, zone)},
		{ID: "groups", Open: true, Sheet: sheets[1]},
	}
	if len(c.Elsewhere) > 0 {
		p.Notes = []string{"Only an audit of all accounts shows: " + strings.Join(c.Elsewhere, ", ") + "."}
	}
	return p
}

// evidenceByCheck is findings of several checks about one entry.
func evidenceByCheck(findings []audit.Finding, zone *time.Location) sheet.Sheet {
	s := sheet.Sheet{
		Name:  "findings",
		Title: "Findings",
		Columns: []sheet.Column{{Name: "check", Title: "Check", Key: true}, {Name: "severity", Title: "Severity"},
			{
				Name:  "since",
				Title: "Since",
				Kind:  sheet.Time,
			}, {Name: "confidence", Title: "Confidence"}, {Name: "evidence", Title: "Evidence"}},
	}
	for i := range findings {
		f := &findings[i]
		row := []any{f.Check, f.Severity.String(), nil, string(f.Confidence), spokenEvidence(f, zone)}
		if !f.Since.IsZero() {
			row[2] = f.Since
		}
		s.Rows = append(s.Rows, row)
	}
	return s
}

// ObstacleShape is something that keeps somebody from signing in.
type ObstacleShape struct {
	What       string     `json:"what"`
	By         string     `json:"by"`
	Since      *time.Time `json:"since"      jsonschema:"nullable"`
	Until      *time.Time `json:"until"      jsonschema:"nullable"`
	Confidence string     `json:"confidence"`
}

// PersonShape is whose an account is, by the last roster. Of one that is in
// doubt there are candidates only.
type PersonShape struct {
	Name       string           `json:"name,omitempty"`
	PersonID   string           `json:"person_id,omitempty"`
	State      string           `json:"state,omitempty"` // active, leave, left or future
	Rows       []int            `json:"rows,omitempty"`  // of the roster
	By         string           `json:"by,omitempty"`    // the key that made the pair
	Confidence audit.Confidence `json:"confidence,omitempty"`
	Candidates []string         `json:"candidates,omitempty"` // who it may be, best first
}

// personShape is nil where nothing is known.
func (c *AccountCard) personShape() *PersonShape {
	if c.People == nil {
		return nil
	}
	if p := c.People.Pair(c.Account); p != nil {
		who := &c.People.People[p.Person]
		out := &PersonShape{
			Name:       reconcile.FullName(who),
			PersonID:   who.Values[roster.PersonID],
			State:      string(who.State),
			Rows:       who.Rows,
			By:         string(p.By),
			Confidence: audit.Likely,
		}
		if p.Sure {
			out.Confidence = audit.Sure
		}
		return out
	}
	d := c.People.Doubt(c.Account)
	if d == nil {
		return nil
	}
	out := &PersonShape{}
	for _, one := range d.Candidates {
		out.Candidates = append(out.Candidates, audit.PersonName(&c.People.People[one.Person]))
	}
	return out
}

// AccountShape is an account in JSON. Times are in UTC, absent ones null.
type AccountShape struct {
	Schema          string          `json:"schema"`
	AsOf            time.Time       `json:"as_of"`
	DN              string          `json:"dn"`
	Account         string          `json:"account"`
	Kind            string          `json:"kind"`
	Enabled         bool            `json:"enabled"`
	Disabled        bool            `json:"disabled"`
	Expired         bool            `json:"expired"`
	LockedOut       bool            `json:"locked_out"`
	Obstacles       []ObstacleShape `json:"obstacles"`
	LastLogon       *time.Time      `json:"last_logon"              jsonschema:"nullable"`
	LastLogonBy     string          `json:"last_logon_by,omitempty"`
	Created         *time.Time      `json:"created"                 jsonschema:"nullable"`
	PasswordSet     *time.Time      `json:"password_set"            jsonschema:"nullable"`
	PasswordExpires *time.Time      `json:"password_expires"        jsonschema:"nullable"`
	Expires         *time.Time      `json:"expires"                 jsonschema:"nullable"`
	Groups          []string        `json:"groups"`
	Findings        []FindingShape  `json:"findings"`
	Person          *PersonShape    `json:"person,omitempty"` // where a roster was given and says something of it
	// Ladder is the name of the ladder that it stands on, Standing where and what comes
	// next; absent where it stands on none.
	Ladder   string         `json:"ladder,omitempty"`
	Standing *StandingShape `json:"standing,omitempty"`
	// Refused is what refused sign-ins most likely are, where logs tell of any.
	Refused *JudgementShape `json:"refused,omitempty"`
}

// AccountSchema is the version of the JSON shape of an account.
const AccountSchema = "yardbroom/account/1"

// Shape is the card as JSON shows it.
func (c *AccountCard) Shape() any {
	a, s := c.Account, c.Survey
	at := func(m directory.Moment) *time.Time {
		if !m.Known() {
			return nil
		}
		t := m.Time()
		return &t
	}
	last := s.LastSignIn(a, c.AsOf)
	out := AccountShape{
		AccountSchema,
		c.AsOf.UTC(),
		a.DN,
		a.Name(),
		a.Kind.String(),
		s.Enabled(a, c.AsOf).Yes,
		s.Disabled(a, c.AsOf).Yes,
		s.Expired(a, c.AsOf).Yes,
		s.LockedOut(a, c.AsOf).Yes,
		[]ObstacleShape{},
		at(last.Moment),
		"",
		at(a.Created),
		at(a.PasswordSet),
		at(s.PasswordExpires(a)),
		at(a.Expires),
		append([]string{}, c.Groups...),
		FindingShapes(c.Findings),
		c.personShape(),
		"",
		nil,
		nil,
	}
	if c.Trace != nil && c.Trace.Trace.Refused > 0 {
		j := judgementShape(c.Trace)
		out.Refused = &j
	}
	if c.Ladder != nil {
		one := standingShape(c.Ladder.Ladder, c.Ladder.Standing, time.UTC)
		out.Ladder, out.Standing = c.Ladder.Ladder.Name, &one
	}
	switch {
	case last.Elsewhere != "":
		out.LastLogonBy = last.Elsewhere
	case last.Known():
		out.LastLogonBy = last.Attr().String()
	}
	for _, o := range s.Obstacles(a, c.AsOf) {
		confidence := audit.Sure
		if o.Likely {
			confidence = audit.Likely
		}
		out.Obstacles = append(out.Obstacles,
			ObstacleShape{o.What, o.By.String(), at(o.Since), at(o.Until), string(confidence)})
	}
	return out
}
