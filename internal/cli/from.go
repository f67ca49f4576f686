package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/audit"
	"yardbroom/internal/calendar"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/render"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

// fromFlags choose a source, and how to reach a server that is not in the
// settings.
func fromFlags() []cli.Flag {
	return append([]cli.Flag{
		&cli.StringFlag{Name: "from", Usage: "`WHERE` entries come from: a yard of the settings, an LDIF file (plain, gzip or zstd; - for standard input), an ldap://, ldaps:// or ldapi:// URL, or a kept survey"},
		&cli.BoolFlag{Name: "keep-going", Usage: "leave out records of a file that cannot be read; the exit status tells"},
	}, serverFlags()...)
}

func serverFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "dialect", Usage: "read entries as `NAME`: " + directory.DialectNames + " (default: found out)"},
		&cli.StringFlag{Name: "base", Usage: "the `DN` to read from, for a URL"},
		&cli.StringFlag{Name: "bind", Usage: "the `NAME` to sign in with, for a URL"},
		&cli.StringFlag{Name: "password-file", Usage: "`FILE` whose first line is the password"},
		&cli.StringFlag{Name: "password-env", Usage: "environment `VARIABLE` that holds the password"},
		&cli.StringFlag{Name: "password-command", Usage: "`COMMAND` that prints the password"},
		&cli.BoolFlag{Name: "kerberos", Usage: "sign in with the tickets of the credential cache"},
		&cli.StringFlag{Name: "ca-file", Usage: "`FILE` with the certificate of the authority that signed the server's"},
		&cli.BoolFlag{Name: "starttls", Usage: "encrypt an ldap:// connection with StartTLS"},
	}
}

// place is an opened source with what the settings say of it.
type place struct {
	source.Source
	yard   settings.Yard
	name   string // of the yard, or the URL or file
	broken int

	identity *source.Identity // once it was asked for: telling it takes a file a whole reading
}

// Identity tells which directory this is.
func (p *place) Identity(ctx context.Context) (source.Identity, error) {
	if p.identity != nil {
		return *p.identity, nil
	}
	id, err := p.Source.Identity(ctx)
	if err == nil {
		p.identity = &id
	}
	return id, err
}

// location is the yard's time zone.
func (p *place) location() *time.Location {
	loc, err := p.yard.Location()
	if err != nil {
		return time.UTC // the settings were checked when they were read
	}
	return loc
}

// zone is the time zone to show times in: the yard's where it has one, else
// the one of this machine.
func (p *place) zone() *time.Location {
	if p.yard.TimeZone == "" {
		return time.Local
	}
	return p.location()
}

// server returns the live server behind the source.
func (p *place) server() (*source.Server, bool) {
	s, ok := p.Source.(*source.Server)
	return s, ok
}

// open finds out what --from means and opens it.
func (a *app) open(ctx context.Context, cmd *cli.Command) (*place, error) {
	return a.openNamed(ctx, cmd, cmd.String("from"))
}

func (a *app) openNamed(ctx context.Context, cmd *cli.Command, from string) (*place, error) {
	if from == "" {
		if from = a.set.Default; from == "" {
			return nil, usage("say where to read from with --from, or name a default yard in the settings")
		}
	}
	keep, err := audit.Attributes(a.set)
	if err != nil {
		return nil, &exitError{exitUsage, err}
	}
	a.keep = keep
	if yard, ok := a.set.Yards[from]; ok {
		return a.connect(ctx, from, yard)
	}
	if strings.Contains(from, "://") {
		return a.openURL(ctx, cmd, from)
	}
	p := &place{name: from}
	f, err := source.OpenKept(a.surveys(), from)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if err != nil {
		if _, statErr := os.Stat(from); from != "-" && errors.Is(statErr, fs.ErrNotExist) {
			return nil, usage("--from %s: no yard of the settings, no file and no kept survey is called so", from)
		}
		if f, err = source.OpenFile(from, a.in); err != nil {
			return nil, err
		}
	}
	p.Source = f
	if y, ok := a.set.Yards[a.set.Default]; ok {
		p.yard.Scope, p.yard.LeaveOut, p.yard.TimeZone, p.yard.DefaultPolicy = y.Scope, y.LeaveOut, y.TimeZone, y.DefaultPolicy
	}
	f.DefaultPolicy, f.Keep, f.Progress = p.yard.DefaultPolicy, a.keep, a.progress.report
	if name := cmd.String("dialect"); name != "" {
		if f.Dialect, err = directory.DialectNamed(name); err != nil {
			return nil, usage("--dialect: %w", err)
		}
	}
	if cmd.Bool("keep-going") {
		f.Broken = func(err error) {
			p.broken++
			if p.broken <= 20 {
				a.note("left out: %v", err)
			}
		}
	}
	return p, nil
}

func (a *app) connect(ctx context.Context, name string, yard settings.Yard) (*place, error) {
	s, err := source.Connect(ctx, source.Target{Yard: yard, Keep: a.keep, Ask: a.ask(), Now: a.now, Progress: a.progress.report})
	if err != nil {
		return nil, err
	}
	for _, skipped := range s.Skipped {
		a.note("left aside: %v", skipped)
	}
	return &place{Source: s, yard: yard, name: name}, nil
}

func (a *app) openURL(ctx context.Context, cmd *cli.Command, url string) (*place, error) {
	if scheme, _, _ := strings.Cut(url, "://"); scheme != "ldap" && scheme != "ldaps" && scheme != "ldapi" {
		return nil, usage("%s is not an ldap://, ldaps:// or ldapi:// URL", url)
	}
	yard := settings.Yard{
		Servers: []string{url}, Base: cmd.String("base"), CAFile: cmd.String("ca-file"), StartTLS: cmd.Bool("starttls"), Dialect: cmd.String("dialect"),
		Bind: settings.Bind{DN: cmd.String("bind"), PasswordFile: cmd.String("password-file"), PasswordEnv: cmd.String("password-env"),
			PasswordCommand: cmd.String("password-command"), Kerberos: cmd.Bool("kerberos")},
	}
	b := &yard.Bind
	b.Ask = b.DN != "" && b.PasswordFile == "" && b.PasswordEnv == "" && b.PasswordCommand == "" && !b.Kerberos
	// A server of a yard keeps the yard's scope and its way to sign in.
	for name, y := range a.set.Yards {
		if slices.Contains(y.Servers, url) && b.DN == "" && !b.Kerberos {
			y.Servers = []string{url}
			return a.connect(ctx, name, y)
		}
	}
	if err := yard.Check(); err != nil {
		return nil, usage("%w", err)
	}
	return a.connect(ctx, url, yard)
}

// surveys is the folder of kept surveys.
func (a *app) surveys() string { return filepath.Join(a.state, "surveys") }

// asOf is the time that --as-of fixes, else the survey's own, else now.
func (a *app) asOf(cmd *cli.Command, loc *time.Location, s *directory.Survey) (time.Time, error) {
	if text := cmd.String("as-of"); text != "" {
		t, err := calendar.ParseTime(text, loc)
		if err != nil {
			return t, usage("--as-of: %w", err)
		}
		return t, nil
	}
	if s != nil && !s.Taken.IsZero() {
		return s.Taken, nil
	}
	return a.now().UTC(), nil
}

func asOfFlag() cli.Flag {
	return &cli.StringFlag{Name: "as-of", Usage: "judge for this `TIME`: a date (its end) or an RFC 3339 time (default: the survey's own, or now)"}
}

// judge surveys a source and runs checks over it.
func (a *app) judge(ctx context.Context, cmd *cli.Command, p *place, checks []string) (*audit.Report, error) {
	for _, name := range checks {
		if _, err := a.catalog.Named(name); err != nil {
			return nil, usage("--check: %w", err)
		}
	}
	survey, err := p.Survey(ctx)
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
	people, err := a.matched(ctx, cmd, p, survey, asOf, checks)
	if err != nil {
		return nil, err
	}
	return a.run(ctx, p, survey, people, asOf, checks, "")
}

// run runs checks over a survey of a place, and over who has which account
// where that is known. Where within is given, filters of the settings look only
// at what fulfils it too.
func (a *app) run(ctx context.Context, p *place, survey *directory.Survey, people *reconcile.Result, asOf time.Time, checks []string, within string) (*audit.Report, error) {
	exempt, err := a.exemptions(ctx, p)
	if err != nil {
		return nil, err
	}
	selected, err := a.selected(ctx, p, survey.Dialect, asOf, checks, within)
	if err != nil {
		return nil, err
	}
	suspended, err := a.suspended(ctx, p, survey.Dialect, people)
	if err != nil {
		return nil, err
	}
	report, err := audit.Run(survey, a.set, audit.Options{Suspended: suspended, AsOf: asOf, Checks: checks, Scope: p.yard.Scope, LeaveOut: p.yard.LeaveOut, Exemptions: exempt, Selected: selected, People: people})
	if err != nil {
		return nil, &exitError{exitUsage, err}
	}
	return report, nil
}

// named says which entries that the settings or exemptions name do not exist.
// With strict, bounds that do not exist are an error: a misspelt one protects
// nothing, or leaves everything out.
func (a *app) named(ctx context.Context, p *place, survey *directory.Survey, strict bool) error {
	exempt, err := a.exemptions(ctx, p)
	if err != nil {
		return err
	}
	base := ""
	if server, live := p.server(); live {
		base = server.Top()
	} else if survey != nil {
		base = survey.Base
	} else if id, err := p.Identity(ctx); err == nil {
		base = id.Base
	}
	missing, err := audit.Missing(ctx, p.Source, survey, audit.NamedIn(a.set, &p.yard, base, exempt))
	if err != nil {
		return err
	}
	if err := audit.MissingBounds(missing); strict && err != nil {
		return err
	}
	for _, n := range missing {
		a.note("note: %s, which %s does not have, or does not show", n, p.Where())
	}
	return nil
}

// suspended are the accounts that a batch has switched off until a date, where
// a check wants to know.
func (a *app) suspended(ctx context.Context, p *place, d *directory.Dialect, people *reconcile.Result) (map[string]string, error) {
	if people == nil {
		return nil, nil
	}
	s, err := a.openKept(ctx)
	if s == nil || err != nil {
		return nil, err
	}
	defer s.Close()
	if any, err := carry.SuspendsAny(ctx, s, a.now()); err != nil || !any {
		return nil, err
	}
	id, err := p.Identity(ctx)
	if err != nil {
		return nil, nil // which directory this is cannot be told, so nothing is known of it
	}
	known, err := carry.Suspensions(ctx, s, id, a.now().UTC())
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
func (a *app) selected(ctx context.Context, p *place, d *directory.Dialect, asOf time.Time, checks []string, within string) (map[string][]directory.Entry, error) {
	found := map[string][]directory.Entry{}
	for _, c := range a.catalog.Own() {
		if len(checks) > 0 && !slices.Contains(checks, c.Name) || len(checks) == 0 && c.IsOff(&a.set.Audit) {
			continue
		}
		cond, err := filter.Parse(c.Filter)
		if err == nil {
			cond, err = cond.Resolve(d, asOf.In(p.location()))
		}
		if err != nil {
			return nil, &exitError{exitUsage, fmt.Errorf("settings: audit: filters: %s: %w", c.Name, err)}
		}
		sel := source.Selection{Filter: "(&" + cond.String() + within + ")", Attributes: append(cond.Attributes(), d.Attributes(a.keep)...)}
		var entries []directory.Entry
		err = p.Each(ctx, sel, func() { entries = nil }, func(e *directory.Entry) any { return e.Clone() },
			func(made any) { entries = append(entries, made.(directory.Entry)) })
		if err != nil {
			return nil, fmt.Errorf("%s: %w", c.Name, err)
		}
		found[c.Name] = entries
	}
	return found, nil
}

func activityFlag() cli.Flag {
	return &cli.StringFlag{Name: "activity", Usage: "sign-ins that other systems recorded: a CSV `FILE`, or JSON lines, of account, time, source"}
}

// addActivity takes the sign-ins of --activity into the survey.
func (a *app) addActivity(cmd *cli.Command, p *place, survey *directory.Survey) (err error) {
	if survey.Elsewhere, err = a.activity(cmd, p); err != nil || len(survey.Elsewhere) == 0 {
		return err
	}
	known := 0
	for acc := range survey.Accounts.All() {
		if _, ok := survey.Elsewhere[directory.TextKey(acc.Logon)]; ok {
			known++
		}
	}
	a.note("note: %s names %s, %d of them here", cmd.String("activity"), render.Count(len(survey.Elsewhere), "account"), known)
	return nil
}

// activity reads the sign-ins of --activity.
func (a *app) activity(cmd *cli.Command, p *place) (map[directory.Key]directory.SignIn, error) {
	path := cmd.String("activity")
	if path == "" {
		return nil, nil
	}
	in, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("--activity %s: %w", path, errors.Unwrap(err))
	}
	defer in.Close()
	found, err := source.ReadActivity(in, path, p.location())
	if err != nil {
		return nil, fmt.Errorf("--activity %w", err)
	}
	return found, nil
}
