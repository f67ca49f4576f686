package cli

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/listing"
	"yardbroom/internal/privilege"
	"yardbroom/internal/render"
	"yardbroom/internal/settings"
	"yardbroom/internal/sheet"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
	"yardbroom/internal/whole"
)

func (a *app) stageCommand() *cli.Command {
	return &cli.Command{
		Name: "stage", Usage: "make a batch: choose accounts and what to do with them", ArgsUsage: "ACTION[,ACTION…] [ACCOUNT…]",
		Description: "The actions are " + strings.Join(batch.ActionNames, ", ") + ",\nseveral with commas between them, in their order. Accounts come from findings (--check), from names on the command line,\nfrom a file with a column of names or DNs (--file), or by an exact attribute value (--match).\nNothing is changed: the batch is shown, kept, and carried out by \"yardbroom apply\".\n\nExamples:\n  stage disable,describe,leave-groups,move --check leaver-enabled --text '{reason}, {date}; was: {old}' --to OU=Parked,…\n  stage disable,leave-groups --until 2027-02-15 ACCOUNT   taken back on that date, by \"yardbroom due\"\n  stage delete --check group-empty                         groups, units and policies too\n\nMore actions stand alone:\n  stage set ATTRIBUTE=VALUE ACCOUNT…        gives an attribute a value\n  stage add ATTRIBUTE=VALUE ACCOUNT…        gives it one more\n  stage clear ATTRIBUTE[=VALUE] ACCOUNT…    takes all its values away, or one\n  stage set [ATTRIBUTE] --check value-variant  corrects misspelt values, of all accounts or those named\n  stage set [ATTRIBUTE] --check roster-drift   writes what the roster says\n  stage fill ATTRIBUTE RULE ACCOUNT…        fills a blank; {attribute} in the rule stands for another's value\n  stage fill employeeID '{roster.person-id}'  fills it from the roster, where whose the account is is sure\n  stage rename ACCOUNT --family NAME …      changes a name, and what follows from it\n  stage archive-home [ACCOUNT…]             archives and removes home folders that set-home-aside took away, when they were held long enough",
		Flags: append(slices.Concat(fromFlags(), conditionFlags(), rosterFlags()), asOfFlag(), activityFlag(), noRosterFlag(),
			&cli.StringSliceFlag{Name: "check", Usage: "the accounts that the check `NAME` finds"},
			&cli.StringFlag{Name: "kind", Usage: "with conditions: which `KIND` of entries, as \"list\" calls it: " + strings.Join(listing.KindNames, ", ") + " (default: users)"},
			&cli.StringFlag{Name: "file", Usage: "the accounts named in a CSV `FILE`, one a row"},
			&cli.StringFlag{Name: "column", Usage: "the `NAME` of the column in --file (default: dn, account, or the only one)"},
			&cli.StringSliceFlag{Name: "match", Usage: "the accounts with `ATTRIBUTE=VALUE`; with several, those with all of them"},
			&cli.StringFlag{Name: "given", Usage: "for rename: the new given `NAME`"},
			&cli.StringFlag{Name: "family", Usage: "for rename: the new family `NAME`"},
			&cli.StringFlag{Name: "display", Usage: "for rename: the new display `NAME` (default: follows)"},
			&cli.StringFlag{Name: "logon", Usage: "for rename: the new logon `NAME` (default: stays)"},
			&cli.StringFlag{Name: "mail", Usage: "for rename: the new `ADDRESS` (default: follows; the old one stays as a second)"},
			&cli.StringFlag{Name: "principal", Usage: "for rename: the new sign-in `NAME` (default: follows)"},
			&cli.StringFlag{Name: "to", Usage: "the container `DN` for move"},
			&cli.StringFlag{Name: "text", Usage: "for describe: the new description, a `TEXT` with {date}, {batch}, {reason} and {old}"},
			&cli.StringFlag{Name: "expires", Usage: "for expire: the last `DATE` on which the account may be used"},
			&cli.StringSliceFlag{Name: "group", Usage: "for join-group and leave-group: a `GROUP`, by name or DN"},
			&cli.BoolFlag{Name: "unlock", Usage: "for reset-password: lift a lock too"},
			&cli.StringFlag{Name: "until", Usage: "the `DATE` on which the batch is to be taken back"},
			&cli.BoolFlag{Name: "even-enabled", Usage: "for delete: also what is enabled, or has not been disabled for long; the batch then needs a signature"},
			&cli.StringFlag{Name: "why", Usage: "a `TEXT` to keep with the batch"},
			&cli.StringFlag{Name: "on-collision", Usage: "append-account: where a name is taken at the target, put the logon name into it"},
			&cli.BoolFlag{Name: "include-likely", Usage: "also stage findings that are likely, not sure"},
			&cli.BoolFlag{Name: "whole-roster", Usage: "the roster is whole, though by it more than a tenth of the directory would have to go"},
			&cli.StringFlag{Name: "refused", Usage: "write what cannot be staged, and why, as CSV into a `FILE`"},
			&cli.IntFlag{Name: "max-lines", Usage: "allow this many lines in the batch"},
			&cli.IntFlag{Name: "max-share", Usage: "allow this share of the yard's accounts, in per cent"},
		),
		Action: a.stage,
	}
}

// saidWhich makes sure that it is said, in one way only, which accounts are
// meant. Conditions become a check of this one staging.
func (a *app) saidWhich(cmd *cli.Command, what *staging) error {
	asked, err := a.conditions(cmd)
	if err != nil {
		return err
	}
	chosen := asked.Filter != "" || !asked.Where.Empty()
	if asked.Kind = cmp.Or(cmd.String("kind"), asked.Kind, "users"); cmd.IsSet("kind") && !chosen {
		return usage("--kind goes with conditions, such as --idle or --filter")
	}
	switch {
	case chosen && (len(what.names) > 0 && !what.values() || len(checkNames(cmd)) > 0 || cmd.String("file") != "" || len(cmd.StringSlice("match")) > 0 || what.byRoster()):
		return usage("conditions choose the accounts by themselves: give no names, --check, --file or --match with them")
	case !chosen && asked.Under != "":
		return usage("--under goes with another condition, such as --enabled, --idle or --filter")
	case !chosen && !what.byRoster() && len(what.names) == 0 && len(checkNames(cmd)) == 0 && cmd.String("file") == "" && len(cmd.StringSlice("match")) == 0:
		return usage("say which accounts: by name, --check, --file, --match, or by conditions such as --idle 120d")
	}
	if what.chosen = chosen; chosen {
		return a.checkAsked(asked)
	}
	return nil
}

func (a *app) stage(ctx context.Context, cmd *cli.Command) error {
	what, err := parseStaging(cmd)
	if err != nil {
		return err
	}
	if c := cmd.String("on-collision"); c != "" && c != "append-account" {
		return usage("--on-collision: %q is not append-account", c)
	}
	if what.is(batch.ArchiveHome) {
		return a.stageArchives(ctx, cmd, what.names)
	}
	if err := a.saidWhich(cmd, what); err != nil {
		return err
	}
	p, err := a.open(ctx, cmd)
	if err != nil {
		return err
	}
	defer p.Close()
	stager, order, err := a.stager(ctx, cmd, p)
	if err != nil {
		return err
	}
	if order.JudgedFor, err = a.judgedFor(cmd, p); err != nil {
		return err
	}
	order.Actions, order.Name = what.actions, what.name
	if err := a.orderOf(ctx, cmd, p, order); err != nil {
		return err
	}
	if err := a.named(ctx, p, nil, true); err != nil {
		return err
	}
	candidates, err := a.candidates(ctx, cmd, p, stager, order, what)
	if err != nil {
		return err
	}
	if p.broken > 0 {
		return fmt.Errorf("%s: %s could not be read; nothing is staged from a file that is not whole", p.Where(), render.Count(p.broken, "record"))
	}
	s, err := a.openStore(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	b, refusals, err := stager.Stage(ctx, *order, candidates)
	if err == nil {
		var more []batch.Refusal
		more, err = a.withoutBarred(ctx, s, b)
		refusals = append(refusals, more...)
		if err == nil && len(b.Lines) == 0 {
			err = batch.ErrNothing
		}
	}
	a.tellRefusals("staged", refusals)
	switch file := cmd.String("refused"); {
	case file != "":
		if err := writeRefusals(file, refusals); err != nil {
			return err
		}
	case len(refusals) > fewRefusals:
		a.note("--refused FILE writes all of them, with the reasons, as CSV")
	}
	if err != nil {
		return err
	}
	if err := b.Save(ctx, s); err != nil {
		return err
	}
	if err := a.tellStaged(ctx, s, b); err != nil {
		return err
	}
	a.tellForeseen(ctx, p, stager, b)
	return nil
}

// tellForeseen says what will keep a batch that is staged from being carried out
// as things are.
func (a *app) tellForeseen(ctx context.Context, p *place, stager *batch.Stager, b *batch.Batch) {
	not, err := stager.Foreseen(ctx, b)
	if err != nil {
		a.note("note: whether all of it may be done could not be found out: %v", err)
	}
	if server, live := p.server(); live && len(not) > 0 { // marked, not refused: another account may carry it out
		reasons, names := byReason(not)
		slices.Sort(reasons)
		for _, why := range reasons {
			a.note("note: %s %s, %s: %s; apply it with an account that may", server.Bound, why, render.Count(len(names[why]), "line"), someOf(names[why]))
		}
	}
	if stager.Unencrypted(b) {
		a.note("note: passwords are set over an encrypted connection only, and this one is not: give the yard an ldaps:// address, or starttls")
	}
}

// chosenCheck is the name of the check that the conditions of one staging are.
// What they choose is judged, proved and guarded as any finding is.
const chosenCheck = "chosen"

// checkAsked makes a check of the conditions of the command line.
func (a *app) checkAsked(asked settings.Filter) error {
	set := *a.set
	set.Audit.Filters = maps.Clone(set.Audit.Filters)
	if set.Audit.Filters == nil {
		set.Audit.Filters = map[string]settings.Filter{}
	}
	asked.Text = "chosen by " + asked.Describe()
	plain := asked
	if plain.Filter = ""; asked.Filter != "" {
		plain.Filter = "a filter" // which may be long; the evidence has its values
	}
	asked.Reason = "chosen by " + plain.Describe()
	set.Audit.Filters[chosenCheck] = asked
	catalog, err := audit.NewCatalog(&set.Audit)
	if err != nil {
		return &exitError{exitUsage, err}
	}
	a.set, a.catalog = &set, catalog
	return nil
}

// judgedFor is the time for which findings are judged, where that is still to
// come. On a live yard nothing is staged for such a time, since nothing that it
// shows can be true then; what is staged from a file waits for it.
func (a *app) judgedFor(cmd *cli.Command, p *place) (time.Time, error) {
	text := cmd.String("as-of")
	if text == "" {
		return time.Time{}, nil
	}
	t, err := calendar.ParseTime(text, p.location())
	if err != nil {
		return t, usage("--as-of: %w", err)
	}
	if !t.After(a.now()) {
		return time.Time{}, nil
	}
	if _, live := p.server(); live {
		return t, usage("--as-of %s is still to come: what a live directory shows now proves nothing for then; leave it out", text)
	}
	return t.UTC(), nil
}

// glance is the style for a batch that is shown on the way to something else.
func (a *app) glance() render.Style {
	st := a.style(time.Local)
	st.Limit = 40
	return st
}

// tellStaged shows a batch that was just made, and how to go on with it.
func (a *app) tellStaged(ctx context.Context, s *store.Store, b *batch.Batch) error {
	unproved := a.prove(ctx, s, b)
	agreed, err := b.Agreement(ctx, s, a.set, a.now().UTC())
	if err != nil {
		return err
	}
	if len(agreed.Unproved) > 0 && unproved != nil {
		a.note("note: staged by an unproved name, %s: %v", b.By, unproved)
	}
	render.Batch(a.out, b, agreed, a.glance())
	fmt.Fprintf(a.out, "\nNothing is changed yet. Take lines out: yardbroom batch pick %d, or batch drop %d ACCOUNT…\n", b.ID, b.ID)
	if !agreed.Enough() {
		fmt.Fprintf(a.out, "Another person signs it: yardbroom batch sign %d\n", b.ID)
	}
	fmt.Fprintf(a.out, "Try it on a copy: yardbroom apply %d --rehearse; against the directory: yardbroom apply %d --dry-run\nCarry it out: yardbroom apply %d\n", b.ID, b.ID, b.ID)
	return nil
}

// orderOf reads the options of single actions.
func (a *app) orderOf(ctx context.Context, cmd *cli.Command, p *place, o *batch.Order) error {
	o.Text, o.Unlock, o.EvenEnabled = cmd.String("text"), cmd.Bool("unlock"), cmd.Bool("even-enabled")
	for _, goes := range [][2]string{{"text", batch.Describe}, {"expires", batch.Expire}, {"unlock", batch.ResetPassword}, {"even-enabled", batch.Delete}} {
		if cmd.IsSet(goes[0]) && !slices.Contains(o.Actions, goes[1]) {
			return usage("--%s goes with %s", goes[0], goes[1])
		}
	}
	grouped := slices.Contains(o.Actions, batch.JoinGroup) || slices.Contains(o.Actions, batch.LeaveGroup)
	switch {
	case grouped && !cmd.IsSet("group"):
		return usage("say which group with --group")
	case !grouped && cmd.IsSet("group"):
		return usage("--group goes with join-group and leave-group")
	case slices.Contains(o.Actions, batch.Describe) && o.Text == "":
		return usage("say with --text what to write: describe fills in {date}, {batch}, {reason} and {old}")
	case slices.Contains(o.Actions, batch.Expire) && !cmd.IsSet("expires"):
		return usage("say with --expires on which date")
	}
	if err := batch.CheckText(o.Text); err != nil {
		return usage("--text: %w", err)
	}
	for flag, into := range map[string]*time.Time{"expires": &o.Expires, "until": &o.Until} {
		if text := cmd.String(flag); text != "" {
			t, err := calendar.ParseTime(text, p.location())
			if err != nil {
				return usage("--%s: %w", flag, err)
			}
			*into = t.UTC()
		}
	}
	for _, name := range cmd.StringSlice("group") {
		g, err := findGroup(ctx, p, name)
		if err != nil {
			return err
		}
		o.Groups = append(o.Groups, *g)
	}
	return nil
}

// findGroup finds one group by its name or DN.
func findGroup(ctx context.Context, src source.Source, name string) (*directory.Entry, error) {
	var found []directory.Entry
	var err error
	if isDN(name) {
		found, err = src.Get(ctx, []string{name})
	} else {
		n := source.EscapeFilter(name)
		found, err = src.Find(ctx, "(&"+source.GroupFilter+"(|(cn="+n+")(sAMAccountName="+n+")))")
	}
	switch {
	case err != nil:
		return nil, err
	case len(found) == 0:
		return nil, usage("--group: there is no group %q", name)
	case len(found) > 1:
		return nil, usage("--group: %d groups are called %q, such as %s and %s: give a DN", len(found), name, found[0].DN, found[1].DN)
	}
	return &found[0], nil
}

// stager collects what staging needs to know of the yard.
func (a *app) stager(ctx context.Context, cmd *cli.Command, p *place) (*batch.Stager, *batch.Order, error) {
	id, err := p.Identity(ctx)
	if err != nil {
		return nil, nil, err
	}
	d, err := directory.DialectNamed(id.Dialect)
	if err != nil {
		return nil, nil, err
	}
	now := a.now().UTC() // --as-of is for judging; what is staged is staged now
	holders, err := privilege.Read(ctx, p.Source, d, privilege.RulesFor(id, a.set.Audit.PrivilegedGroups), now)
	if err != nil {
		return nil, nil, err
	}
	protection, err := a.protection(ctx, p)
	if err != nil {
		return nil, nil, err
	}
	s := &batch.Stager{From: p.Source, Identity: id, Dialect: d, Settings: a.set, Privilege: holders, Catalog: a.catalog, DefaultPolicy: p.yard.DefaultPolicy,
		Protection: protection, Homes: p.yard.Homes}
	o := &batch.Order{To: cmd.String("to"), AppendAccount: cmd.String("on-collision") != "", IncludeLikely: cmd.Bool("include-likely"),
		MaxLines: cmd.Int("max-lines"), MaxShare: cmd.Int("max-share"), Why: cmd.String("why"), By: actor(), At: now, Source: p.Where()}
	if _, ok := a.set.Yards[p.name]; ok {
		o.Yard = p.name
	} else if _, live := p.server(); live {
		o.Yard = p.Where()
	}
	if server, ok := p.server(); ok {
		o.Server = server.HostName()
		if s.Returns, err = a.seenReturn(ctx, id, server.HostName()); err != nil {
			return nil, nil, err
		}
	}
	return s, o, nil
}

func (a *app) protection(ctx context.Context, p *place) (batch.Protection, error) {
	exempt, err := a.exemptions(ctx, p)
	if err != nil {
		return batch.Protection{}, err
	}
	id, err := p.Identity(ctx)
	if err != nil {
		return batch.Protection{}, err
	}
	bound := []string{p.yard.Bind.DN}
	if server, ok := p.server(); ok {
		bound = append(bound, server.Bound)
	}
	return batch.NewProtection(ctx, p.Source, id, &p.yard, a.set.Audit.PrivilegedGroups, exempt, a.now().UTC(), bound...)
}

// candidates collects the entries that were chosen, however they were.
func (a *app) candidates(ctx context.Context, cmd *cli.Command, p *place, s *batch.Stager, o *batch.Order, what *staging) ([]batch.Candidate, error) {
	if what.byRoster() {
		return a.fromRoster(ctx, cmd, p, s, o, what)
	}
	var all []batch.Candidate
	names := what.names
	checks := checkNames(cmd)
	if what.chosen {
		checks = []string{chosenCheck}
	}
	if len(checks) > 0 {
		found, err := a.fromFindings(ctx, cmd, p, s, o, checks, what)
		if err != nil {
			return nil, err
		}
		all = append(all, found...)
		if what.values() {
			names = nil // they chose among the findings
		}
	}
	named, err := findAll(ctx, p.Source, s.Dialect, names)
	if err != nil {
		return nil, err
	}
	for i := range named {
		all = append(all, batch.Candidate{Entry: named[i]})
	}
	if file := cmd.String("file"); file != "" {
		listed, err := readNames(file, cmd.String("column"), a.in)
		if err != nil {
			return nil, err
		}
		found, err := findAll(ctx, p.Source, s.Dialect, listed)
		if err != nil {
			return nil, err
		}
		for i := range found {
			all = append(all, batch.Candidate{Entry: found[i], Listed: true})
		}
		a.note("note: a list of names does not say why they are on it, so the batch holds only while each account's place, state and last sign-in are as they are now; conditions given to stage itself (--idle, --enabled, --filter …) are tested again")
	}
	if match := cmd.StringSlice("match"); len(match) > 0 {
		found, err := matching(ctx, p, match)
		if err != nil {
			return nil, err
		}
		for i := range found {
			all = append(all, batch.Candidate{Entry: found[i]})
		}
	}
	for i := range all {
		if all[i].Values == nil && what.attr != "" {
			all[i].Values = []batch.Assignment{{Attr: what.attr, New: what.value}}
		}
	}
	if s.Accounts == 0 && len(all) > 10 {
		survey, err := p.Survey(ctx)
		if err != nil {
			return nil, err
		}
		s.Accounts = survey.Accounts.Len()
	}
	return all, nil
}

func (a *app) fromFindings(ctx context.Context, cmd *cli.Command, p *place, s *batch.Stager, o *batch.Order, checks []string, what *staging) ([]batch.Candidate, error) {
	report, err := a.judge(ctx, cmd, p, checks)
	if err != nil {
		return nil, err
	}
	for _, sum := range report.Summary {
		for _, why := range sum.NotLooked {
			a.note("note: %s not looked at: %s", sum.Check, why)
		}
	}
	if err := a.wholeRoster(ctx, cmd, p, report, checks); err != nil {
		return nil, err
	}
	s.Accounts = report.Survey.Accounts.Len()
	if report.Survey.Server != "" {
		o.Server = report.Survey.Server
	}
	if len(report.Survey.Asked) > 1 {
		o.Others = report.Survey.Asked[1:]
	}
	byDN := map[string]*audit.Finding{}
	var dns []string
	fixes := map[string][]batch.Assignment{}
	for i := range report.Findings {
		f := &report.Findings[i]
		if !what.takes(f) {
			continue
		}
		key := directory.FoldDN(f.DN)
		if fix := f.Fix(); fix != nil && what.is(batch.Set) && what.value == "" {
			if f.Confidence == audit.Likely && !o.IncludeLikely {
				fix = nil
			}
			if fix != nil {
				fixes[key] = append(fixes[key], batch.Assignment{Attr: fix.Attr, Old: fix.Old, New: fix.New})
			}
		}
		if byDN[key] == nil || byDN[key].Confidence == audit.Likely {
			if byDN[key] == nil {
				dns = append(dns, f.DN)
			}
			byDN[key] = f
		}
	}
	if len(dns) == 0 {
		return nil, fmt.Errorf("%s: no findings, so %w", strings.Join(checks, ", "), batch.ErrNothing)
	}
	entries, err := p.Get(ctx, dns)
	if err != nil {
		return nil, err
	}
	last := map[directory.Key]directory.Moment{}
	for _, dn := range dns {
		last[directory.KeyOf(dn)] = 0
	}
	for acc := range report.Survey.Accounts.All() {
		if _, chosen := last[acc.Key]; chosen {
			last[acc.Key] = acc.LastLogon
		}
	}
	var all []batch.Candidate
	for i := range entries {
		c := batch.Candidate{Entry: entries[i], Finding: byDN[directory.FoldDN(entries[i].DN)], LastLogon: last[directory.KeyOf(entries[i].DN)],
			Values: fixes[directory.FoldDN(entries[i].DN)]}
		c.NotNow = signedInMeanwhile(report.Survey, &c)
		all = append(all, c)
	}
	return all, nil
}

// signedInMeanwhile tells of an entry, read again for staging, that it shows
// a later sign-in than the survey its finding rests on.
func signedInMeanwhile(s *directory.Survey, c *batch.Candidate) string {
	a := s.Dialect.Account(&c.Entry)
	last := s.LastLogon(&a, farFuture)
	rests := c.Finding.Check == "stale" || c.Finding.Check == "never-used"
	if rests && last.Known() && (c.Finding.Check == "never-used" || last.Time().After(c.Finding.Since)) {
		return "it has signed in since it was judged"
	}
	return ""
}

var farFuture = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)

// namesAtOnce is how many logon names one search asks for.
const namesAtOnce = 100

// findAll finds one account for each name. Most lists hold logon names or
// DNs, which are looked up many at once; what is neither is looked up by
// itself.
func findAll(ctx context.Context, src source.Source, d *directory.Dialect, names []string) ([]directory.Entry, error) {
	known, err := lookUp(ctx, src, d, names)
	if err != nil {
		return nil, err
	}
	var all []directory.Entry
	for _, name := range names {
		found := known[nameKey(name)]
		if len(found) == 0 {
			if found, err = findAccounts(ctx, src, name); err != nil {
				return nil, err
			}
		}
		if len(found) > 1 {
			return nil, ambiguous(name, found)
		}
		all = append(all, found[0])
	}
	return all, nil
}

// nameKey makes names that mean the same equal.
func nameKey(name string) string {
	if isDN(name) {
		return directory.FoldDN(name)
	}
	return strings.ToLower(name)
}

func isDN(name string) bool {
	levels, err := directory.ParseDN(name)
	return err == nil && len(levels) > 1
}

// lookUp finds accounts by logon name and by DN, under the keys of their
// names.
func lookUp(ctx context.Context, src source.Source, d *directory.Dialect, names []string) (map[string][]directory.Entry, error) {
	logon := d.Logon.String()
	var dns, logons []string
	for _, name := range names {
		if isDN(name) {
			dns = append(dns, name)
		} else {
			logons = append(logons, name)
		}
	}
	byName := map[string][]directory.Entry{}
	keep := func(entries []directory.Entry, key func(*directory.Entry) string) {
		for i := range entries {
			// A DN names what it names; whether it may be changed is judged later.
			if k := key(&entries[i]); isDN(k) || !notAccount(entries[i]) || entries[i].HasClass("group") {
				byName[k] = append(byName[k], entries[i])
			}
		}
	}
	if len(dns) > 0 {
		found, err := src.Get(ctx, dns)
		if err != nil {
			return nil, err
		}
		keep(found, func(e *directory.Entry) string { return directory.FoldDN(e.DN) })
	}
	for chunk := range slices.Chunk(logons, source.AtOnce(src, namesAtOnce, len(logons))) {
		filter := "(|"
		for _, name := range chunk {
			filter += "(" + logon + "=" + source.EscapeFilter(name) + ")"
		}
		found, err := src.Find(ctx, filter+")")
		if err != nil {
			return nil, err
		}
		keep(found, func(e *directory.Entry) string { return strings.ToLower(e.First(logon)) })
	}
	return byName, nil
}

// matching finds accounts by exact attribute values.
func matching(ctx context.Context, src source.Source, conditions []string) ([]directory.Entry, error) {
	filter := "(&"
	for _, c := range conditions {
		attr, value, ok := strings.Cut(c, "=")
		if !ok || attr == "" || strings.ContainsAny(attr, "()*&|! :<>~") {
			return nil, usage("--match: %q is not ATTRIBUTE=VALUE", c)
		}
		if directory.IsSecret(attr) {
			return nil, usage("--match: %w", directory.SecretError(attr))
		}
		filter += "(" + attr + "=" + source.EscapeFilter(value) + ")"
	}
	found, err := src.Find(ctx, filter+")")
	if err != nil {
		return nil, err
	}
	if found = slices.DeleteFunc(found, notAccount); len(found) == 0 {
		return nil, fmt.Errorf("no account has %s", strings.Join(conditions, " and "))
	}
	return found, nil
}

// readNames reads the column of names of a CSV file.
func readNames(path, column string, stdin io.Reader) ([]string, error) {
	in := stdin
	if path != "-" {
		file, err := os.Open(path)
		if err != nil {
			return nil, fmt.Errorf("--file %s: %w", path, errors.Unwrap(err))
		}
		defer file.Close()
		in = file
	}
	r := csv.NewReader(in)
	r.FieldsPerRecord = -1
	header, err := r.Read()
	if err == io.EOF {
		return nil, fmt.Errorf("--file %s is empty", path)
	}
	if err != nil {
		return nil, fmt.Errorf("--file %s: %w", path, err)
	}
	header[0] = strings.TrimPrefix(header[0], "\ufeff")
	at, isHeader := nameColumn(header, column)
	if at < 0 {
		return nil, usage("--file %s: no column is called %q; there are %s", path, column, strings.Join(header, ", "))
	}
	var names []string
	if !isHeader {
		names = append(names, render.UnsafeCell(strings.TrimSpace(header[at])))
	}
	for {
		row, err := r.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("--file %s: %w", path, err)
		}
		line, _ := r.FieldPos(0)
		if at >= len(row) || strings.TrimSpace(row[at]) == "" {
			return nil, fmt.Errorf("--file %s: line %d has no name", path, line)
		}
		names = append(names, render.UnsafeCell(strings.TrimSpace(row[at])))
	}
	if len(names) == 0 {
		return nil, fmt.Errorf("--file %s names nobody", path)
	}
	return names, nil
}

// nameColumn finds the column of names. A single column without a known
// title is a list without a header.
func nameColumn(header []string, want string) (at int, isHeader bool) {
	index := func(title string) int {
		return slices.IndexFunc(header, func(h string) bool { return strings.EqualFold(strings.TrimSpace(h), title) })
	}
	if want != "" {
		return index(want), true
	}
	for _, title := range []string{"dn", "account", "distinguishedName", "sAMAccountName", "uid", "userPrincipalName", "name"} {
		if i := index(title); i >= 0 {
			return i, true
		}
	}
	if len(header) == 1 {
		return 0, false
	}
	return -1, false
}

// fewRefusals is how many refusals are told one by one.
const fewRefusals = 20

// tellRefusals says of which accounts something is not done: one by one where
// they are few, else by reason.
func (a *app) tellRefusals(what string, refusals []batch.Refusal) {
	if len(refusals) <= fewRefusals {
		for _, r := range refusals {
			fmt.Fprintln(a.err, render.Visible(fmt.Sprintf("not %s: %s (%s): %s", what, r.Account, render.Place(r.DN), r.Why)))
		}
		return
	}
	reasons, names := byReason(refusals)
	slices.SortStableFunc(reasons, func(x, y string) int { return len(names[y]) - len(names[x]) })
	for i, why := range reasons {
		if i == fewRefusals {
			a.note("not %s, for other reasons: %d more", what, len(reasons)-i)
			break
		}
		fmt.Fprintln(a.err, render.Visible(fmt.Sprintf("not %s, %s: %s: %s", what, render.Count(len(names[why]), "line"), why, someOf(names[why]))))
	}
}

// byReason returns the reasons of refusals in the order they come, and whom each
// is about.
func byReason(refusals []batch.Refusal) (reasons []string, names map[string][]string) {
	names = map[string][]string{}
	for _, r := range refusals {
		if names[r.Why] == nil {
			reasons = append(reasons, r.Why)
		}
		names[r.Why] = append(names[r.Why], r.Account)
	}
	return reasons, names
}

// someOf writes the first few of some names.
func someOf(names []string) string {
	if len(names) > 3 {
		return strings.Join(names[:3], ", ") + ", …"
	}
	return strings.Join(names, ", ")
}

// writeRefusals keeps what could not be staged, and why, as CSV.
func writeRefusals(path string, refusals []batch.Refusal) error {
	out := sheet.Sheet{Name: "refused", Columns: []sheet.Column{{Name: "account", Kind: sheet.Text}, {Name: "dn", Kind: sheet.Text}, {Name: "why", Kind: sheet.Text}}}
	for _, r := range refusals {
		out.Rows = append(out.Rows, []any{r.Account, r.DN, r.Why})
	}
	return whole.Write(path, func(w io.Writer) error { return render.SheetCSV(w, &out) })
}
