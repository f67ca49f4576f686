package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
	"yardbroom/internal/source"
)

func (a *app) showCommand() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "one account: its state, and everything that matters about it", ArgsUsage: "ACCOUNT",
		Description: "ACCOUNT is a logon name, a user principal name, a mail address, an employee id, a DN, or a part of the display name that only one account has.",
		Flags:       slices.Concat(fromFlags(), []cli.Flag{asOfFlag(), activityFlag()}, outputFlags(allFormats)),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 1 {
				return usage("give one account; \"%s --help\" shows how", cmd.FullName())
			}
			targets, err := a.targets(cmd, allFormats)
			if err != nil {
				return err
			}
			p, err := a.open(ctx, cmd)
			if err != nil {
				return err
			}
			defer p.Close()
			found, err := findAccounts(ctx, p, cmd.Args().First())
			if err != nil {
				return err
			}
			if len(found) > 1 {
				return ambiguous(cmd.Args().First(), found)
			}
			card, err := a.card(ctx, cmd, p, &found[0])
			if err != nil {
				return err
			}
			return a.deliver(targets, a.cardResult(card, a.style(p.zone())))
		},
	}
}

// cardResult writes an account.
func (a *app) cardResult(c *render.AccountCard, st render.Style) *result {
	parts := func() []sheet.Sheet { return render.CardSheets(c, st.Zone) }
	return &result{parts: parts, write: map[string]func(io.Writer) error{
		formatTable: func(w io.Writer) error { render.Card(w, c, st); return nil },
		formatCSV:   func(w io.Writer) error { return render.SheetCSV(w, &parts()[0]) },
		formatTSV:   func(w io.Writer) error { return render.SheetTSV(w, &parts()[0]) },
		formatJSON:  func(w io.Writer) error { return render.JSON(w, c.Shape()) },
		formatJSONL: func(w io.Writer) error { return render.JSONLine(w, c.Shape()) },
		formatXLSX:  func(w io.Writer) error { return render.XLSX(w, parts(), st) },
		formatHTML:  func(w io.Writer) error { return render.CardPage(c, st.Zone, a.now()).Write(w) },
	}}
}

// findAccounts finds accounts by what people call them.
func findAccounts(ctx context.Context, src source.Source, name string) ([]directory.Entry, error) {
	var found []directory.Entry
	var err error
	if isDN(name) {
		found, err = src.Get(ctx, []string{name})
	} else {
		v := source.EscapeFilter(name)
		found, err = src.Find(ctx, "(|(sAMAccountName="+v+")(sAMAccountName="+v+"$)(uid="+v+")(userPrincipalName="+v+")(mail="+v+")(employeeID="+v+")(employeeNumber="+v+"))")
		found = slices.DeleteFunc(found, notAccount)
		if err == nil && len(found) == 0 {
			found, err = src.Find(ctx, "(|(displayName=*"+v+"*)(cn=*"+v+"*))")
		}
	}
	if err != nil {
		return nil, err
	}
	if found = slices.DeleteFunc(found, notAccount); len(found) == 0 {
		return nil, fmt.Errorf("no account is called %q in %s", name, src.Where())
	}
	return found, nil
}

func notAccount(e directory.Entry) bool {
	for _, class := range []string{"user", "computer", "inetOrgPerson", "posixAccount", "account"} {
		if e.HasClass(class) {
			return false
		}
	}
	return true
}

func ambiguous(name string, found []directory.Entry) error {
	var b strings.Builder
	fmt.Fprintf(&b, "%q may be any of %d accounts; say which by logon name or DN:", name, len(found))
	for i := range found {
		if i == 10 {
			fmt.Fprintf(&b, "\n  … and %d more", len(found)-i)
			break
		}
		logon := found[i].First("sAMAccountName")
		if logon == "" {
			logon = found[i].First("uid")
		}
		fmt.Fprintf(&b, "\n  %-20s %s", logon, found[i].DN)
	}
	return errors.New(b.String())
}

// card collects everything to show of one account.
func (a *app) card(ctx context.Context, cmd *cli.Command, p *place, e *directory.Entry) (*render.AccountCard, error) {
	survey, err := p.Around(ctx, e)
	if err != nil {
		return nil, err
	}
	asOf, err := a.asOf(cmd, p.location(), survey)
	if err != nil {
		return nil, err
	}
	if err := a.addActivity(cmd, p, survey); err != nil {
		return nil, err
	}
	within := ""
	if survey.Partial {
		within = source.IdentityFilter(survey.Dialect, e.First(survey.Dialect.Identity.String()))
	}
	var acc *directory.Account
	for one := range survey.Accounts.All() {
		if directory.FoldDN(one.DN) == directory.FoldDN(e.DN) {
			acc = one
		}
	}
	if acc == nil {
		return nil, fmt.Errorf("%s vanished while it was read", e.DN)
	}
	people, err := a.known(ctx, p, acc, asOf)
	if err != nil {
		return nil, err
	}
	report, err := a.run(ctx, p, survey, people, asOf, nil, within)
	if err != nil {
		return nil, err
	}
	if err := a.named(ctx, p, report.Survey, false); err != nil {
		return nil, err
	}
	card := &render.AccountCard{Entry: e, Account: acc, Survey: survey, AsOf: asOf, People: people}
	for _, sum := range report.Summary {
		if c, err := a.catalog.Named(sum.Check); survey.Partial && err == nil && c.ComparesAll() {
			card.Elsewhere = append(card.Elsewhere, sum.Check)
		}
	}
	for _, f := range report.Findings {
		if f.DN == acc.DN {
			card.Findings = append(card.Findings, f)
		}
	}
	if server, live := p.server(); live && survey.Disabled(acc, asOf).Yes {
		if card.Role, err = server.LockingRole(ctx, e); err != nil {
			return nil, err
		}
	}
	if card.Groups, err = groupsOf(ctx, p, e); err != nil {
		return nil, err
	}
	if card.NotToBeEnabled, err = a.whyNotEnable(ctx, p, acc); err != nil {
		return nil, err
	}
	card.Act = func(action string) string {
		if card.Account.BuiltIn || action == batch.Enable && card.NotToBeEnabled != "" {
			return "" // it would be refused
		}
		return stageLine([]string{action}, cmd.String("from"), card.Account.Name())
	}
	card.Command = stageCommandFor(card, cmd.String("from"))
	return card, nil
}

// whyNotEnable tells why an account must not be enabled, "" where nothing is
// known against it.
func (a *app) whyNotEnable(ctx context.Context, p *place, acc *directory.Account) (string, error) {
	s, err := a.openKept(ctx)
	if s == nil || err != nil {
		return "", err
	}
	defer s.Close()
	any, err := carry.SuspendsAny(ctx, s, a.now())
	if err != nil || !any && !a.remembers() {
		return "", err
	}
	id, err := p.Identity(ctx)
	if err != nil {
		return "", nil // which directory this is cannot be told, so nothing is known of it
	}
	why, err := a.notToBeEnabled(ctx, s, id, p.name, 0, []string{acc.ID})
	return why[acc.ID], err
}

// stageLine is the command that stages something for an account.
func stageLine(what []string, from, account string) string {
	line := "yardbroom stage " + strings.Join(what, " ")
	if from != "" {
		line += " --from " + quoted([]string{from})
	}
	return line + " " + quoted([]string{account})
}

// stageCommandFor is the command that would clear the first finding.
func stageCommandFor(c *render.AccountCard, from string) string {
	if c.Account.BuiltIn {
		return "" // it would be refused
	}
	for _, f := range c.Findings {
		if len(f.Suggest) > 0 && !f.Hidden && (f.Suggest[0] != batch.Enable || c.NotToBeEnabled == "") {
			what := []string{f.Suggest[0]}
			switch fix := f.Fix(); {
			case f.Suggest[0] == batch.Move:
				what = append(what, "--to OU=…")
			case f.Suggest[0] == batch.Set && fix != nil:
				what = append(what, quoted([]string{fix.Attr + "=" + fix.New}))
			case f.Suggest[0] == batch.Set, f.Suggest[0] == batch.Fill, f.Suggest[0] == batch.Rename:
				continue // what to write only a person knows
			}
			return stageLine(what, from, c.Account.Name())
		}
	}
	return ""
}

func groupsOf(ctx context.Context, src source.Source, e *directory.Entry) ([]string, error) {
	dn := source.EscapeFilter(e.DN)
	filter := "(|(member=" + dn + ")(uniqueMember=" + dn + ")"
	if uid := e.First("uid"); uid != "" {
		filter += "(memberUid=" + source.EscapeFilter(uid) + ")"
	}
	if gid := e.First("gidNumber"); gid != "" {
		filter += "(&(objectClass=posixGroup)(gidNumber=" + source.EscapeFilter(gid) + "))"
	}
	if sid, err := directory.ParseSID(e.First("objectSid")); err == nil && e.First("primaryGroupID") != "" {
		domain := sid[:strings.LastIndex(sid, "-")+1]
		filter += "(&(objectClass=group)(objectSid=" + source.EscapeFilter(domain+e.First("primaryGroupID")) + "))"
	}
	groups, err := src.Find(ctx, filter+")")
	if err != nil {
		return nil, err
	}
	var names []string
	for i := range groups {
		names = append(names, groups[i].DN)
	}
	slices.Sort(names)
	return names, nil
}

func (a *app) surveyCommand() *cli.Command {
	return &cli.Command{
		Name: "survey", Usage: "read a yard and keep what was read; list the kept surveys",
		Flags: append(fromFlags(),
			&cli.StringFlag{Name: "name", Usage: "keep it under `NAME` (default: the yard and the time)"},
			&cli.BoolFlag{Name: "list", Usage: "list the kept surveys and read nothing"},
		),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if err := noArguments(cmd); err != nil {
				return err
			}
			if cmd.Bool("list") {
				return a.listSurveys()
			}
			p, err := a.open(ctx, cmd)
			if err != nil {
				return err
			}
			defer p.Close()
			name := cmd.String("name")
			if name == "" {
				prefix := "survey"
				if _, ok := a.set.Yards[p.name]; ok {
					prefix = p.name
				}
				name = prefix + "-" + a.now().UTC().Format("20060102-150405")
			}
			m, err := source.Keep(ctx, p.Source, a.surveys(), name, a.now)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "kept %s: %d entries of %s\nread it with: yardbroom audit --from %s\n", m.Name, m.Entries, render.Visible(m.Identity.Base), m.Name)
			if !m.Complete && p.broken == 0 {
				a.note("note: it is not whole: %s", strings.Join(missing(m), ", "))
			}
			if p.broken > 0 {
				return fmt.Errorf("%s: %s could not be read and were left out", p.Where(), render.Count(p.broken, "record"))
			}
			return nil
		},
	}
}

// missing says why a kept survey is not whole.
func missing(m *source.Manifest) (why []string) {
	for _, one := range []struct {
		n    int
		what string
	}{{m.Referrals, "references to other servers were not followed"}, {m.Outside, "entries outside the base were left out"}, {m.Twice, "entries came twice"}, {m.Hidden, "entries do not show all to this account"}} {
		if one.n > 0 {
			why = append(why, fmt.Sprintf("%d %s", one.n, one.what))
		}
	}
	return why
}

func (a *app) listSurveys() error {
	all, err := source.Kept(a.surveys())
	if err != nil {
		return err
	}
	if len(all) == 0 {
		a.note("no survey is kept in %s", a.surveys())
		return nil
	}
	var rows [][]string
	for _, m := range all {
		whole := "no"
		if m.Complete {
			whole = "yes"
		}
		rows = append(rows, []string{m.Name, m.Taken.Format(time.RFC3339), fmt.Sprint(m.Entries), whole, render.Visible(m.Identity.Base), render.Visible(m.Source)})
	}
	render.Table(a.out, a.style(nil), []string{"Survey", "Taken", "Entries", "Whole", "Base", "Source"}, rows, 5, 4)
	return nil
}
