package cli

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/urfave/cli/v3"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/render"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/trust"
	"yardbroom/internal/whole"
)

// rosterFlags say which list of people to compare with, and how to read it.
func rosterFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "roster", Usage: "HR's list of people: a `FILE` (CSV, TSV, XLSX, JSON or SCIM; - for standard input), or the https:// address of a SCIM service (default: the last one of the yard)"},
		&cli.StringFlag{Name: "roster-token-file", Usage: "`FILE` whose first line is the bearer token for the service"},
		&cli.StringSliceFlag{Name: "map", Usage: "`FIELD=COLUMN`: which column is what, by header or number; the fields are " + roster.FieldNames},
		&cli.StringFlag{Name: "sheet", Usage: "the `NAME` of the sheet, in a workbook (default: the first)"},
		&cli.StringFlag{Name: "encoding", Usage: "the `ENCODING` of a text file, such as windows-1251 (default: found out)"},
		&cli.StringFlag{Name: "dates", Usage: "how dates are written where they leave it open: `ORDER` day-first, month-first or year-first"},
	}
}

// noRosterFlag keeps the last roster of the yard out.
func noRosterFlag() cli.Flag {
	return &cli.BoolFlag{Name: "no-roster", Usage: "do not compare with the last roster of the yard"}
}

// people is a roster together with where it came from.
type people struct {
	roster *roster.Roster
	about  roster.Kept
	fresh  bool // it was read now, not kept from an earlier run
}

// rosterOptions are what settings and command line say of rosters.
func (a *app) rosterOptions(cmd *cli.Command) (opt roster.Options, err error) {
	set := &a.set.Roster
	opt = roster.Options{Map: map[roster.Field]string{}, Names: map[roster.Field][]string{}, Words: map[string]roster.Word{}, Sheet: cmd.String("sheet"), Encoding: cmp.Or(cmd.String("encoding"), set.Encoding),
		Limits: roster.Limits{Octets: int64(set.MaxSize) << 20, Rows: set.MaxRows, Columns: set.MaxColumns}, Within: time.Duration(set.FetchWithin)}
	for name, headers := range set.Columns {
		f, err := roster.ParseField(name)
		if err != nil {
			return opt, usage("settings: roster: columns: %w", err)
		}
		opt.Names[f] = headers
	}
	for name, words := range set.Status {
		word := roster.Word(name)
		if !slices.Contains([]roster.Word{roster.SaysActive, roster.SaysLeave, roster.SaysLeft, roster.SaysFuture}, word) {
			return opt, usage("settings: roster: status: %q is none of active, leave, left and future", name)
		}
		for _, w := range words {
			opt.Words[w] = word
		}
	}
	where := "settings: roster: dates"
	order := set.Dates
	if cmd.IsSet("dates") {
		where, order = "--dates", cmd.String("dates")
	}
	if opt.Dates = roster.DateOrder(order); !slices.Contains([]roster.DateOrder{"", roster.ISO, roster.DayFirst, roster.MonthFirst, roster.YearFirst}, opt.Dates) {
		return opt, usage("%s: %q is none of iso, day-first, month-first and year-first", where, order)
	}
	for _, text := range cmd.StringSlice("map") {
		name, column, ok := strings.Cut(text, "=")
		if !ok || column == "" {
			return opt, usage("--map: %q is not FIELD=COLUMN, such as person-id=\"Badge no\"", text)
		}
		f, err := roster.ParseField(name)
		if err != nil {
			return opt, usage("--map: %w", err)
		}
		if opt.Map[f] != "" {
			return opt, usage("--map: %s is given twice", name)
		}
		opt.Map[f] = column
	}
	return opt, nil
}

// roster returns the roster that the command line names, else the last one of
// the yard, nil where there is none.
func (a *app) roster(ctx context.Context, cmd *cli.Command, p *place) (*people, error) {
	from := cmd.String("roster")
	switch {
	case cmd.Bool("no-roster") && from != "":
		return nil, usage("--roster and --no-roster exclude each other")
	case cmd.Bool("no-roster"):
		return nil, nil
	case from == "":
		return a.keptRoster(ctx, p)
	case from == "-" && cmd.String("from") == "-":
		return nil, usage("standard input can be the directory or the roster, not both")
	}
	if a.read[from] != nil {
		return a.read[from], nil // a comparison asks twice
	}
	opt, err := a.rosterOptions(cmd)
	if err != nil {
		return nil, err
	}
	r, err := a.readRoster(ctx, cmd, from, opt)
	if err != nil {
		return nil, err
	}
	for i, bad := range r.Bad {
		if i == 20 {
			a.note("… and %d rows more that could not be read", len(r.Bad)-i)
			break
		}
		a.note("%s: row %d could not be read: %s", r.Source, bad.N, bad.Why)
	}
	if len(r.Rows) == 0 {
		return nil, fmt.Errorf("%s: no row could be read", r.Source)
	}
	now := a.now().UTC()
	if from != "-" {
		if info, err := os.Stat(from); err == nil {
			now = info.ModTime().UTC()
		}
	}
	a.read[from] = &people{r, r.About(now), true}
	return a.read[from], nil
}

func (a *app) readRoster(ctx context.Context, cmd *cli.Command, from string, opt roster.Options) (*roster.Roster, error) {
	if strings.Contains(from, "://") {
		token := ""
		if file := cmd.String("roster-token-file"); file != "" {
			text, err := trust.ReadSecret(file)
			if err != nil {
				return nil, fmt.Errorf("--roster-token-file: %w", err)
			}
			token, _, _ = strings.Cut(string(text), "\n")
			token = strings.TrimSpace(token)
		}
		return roster.Fetch(ctx, from, token, opt)
	}
	if from == "-" {
		return roster.Read(a.in, "standard input", opt)
	}
	in, err := os.Open(from)
	if err != nil {
		return nil, fmt.Errorf("--roster %s: %w", from, errors.Unwrap(err))
	}
	defer in.Close()
	return roster.Read(in, from, opt)
}

// rosterFile is where a directory's last roster is kept, and beside it, with
// another ending, who was found to have which account.
func (a *app) rosterFile(id source.Identity, ending string) string {
	return filepath.Join(a.state, "rosters", yardKey(id)+ending)
}

const (
	rosterEnding = ".roster.zst"
	pairsEnding  = ".pairs.zst"
)

// yardKey stands for a directory in names of files.
func yardKey(id source.Identity) string {
	sum := sha256.Sum256([]byte(id.Dialect + "\x00" + directory.FoldDN(id.Base) + "\x00" + id.ID))
	return hex.EncodeToString(sum[:12])
}

// remembers tells whether any roster is kept at all, without which nothing has
// to be asked of a directory.
func (a *app) remembers() bool {
	_, err := os.Stat(filepath.Join(a.state, "rosters"))
	return err == nil
}

// rosterOf tells by which directory to look for a kept roster; not ok where
// none is kept, or where nobody can tell which directory this is.
func (a *app) rosterOf(ctx context.Context, p *place) (id source.Identity, ok bool) {
	if !a.remembers() {
		return id, false
	}
	id, err := p.Identity(ctx)
	if err != nil {
		slog.Debug("no roster, since which directory this is cannot be told", "why", err)
	}
	return id, err == nil
}

// keptRoster returns the last roster of the yard, nil where there is none.
func (a *app) keptRoster(ctx context.Context, p *place) (*people, error) {
	id, ok := a.rosterOf(ctx, p)
	if !ok {
		return nil, nil
	}
	var err error
	path := a.rosterFile(id, rosterEnding)
	if a.read[path] == nil {
		if a.read[path], err = readKept(path, nil); err != nil {
			return nil, err
		}
	}
	return a.read[path], nil
}

// readKept reads a roster that keepRoster wrote, or the rows of it that are
// wanted; nil where there is none.
func readKept(path string, want func(*roster.Row) bool) (*people, error) {
	list := &people{}
	err := unpacked(path, func(in io.Reader) error {
		r, kept, err := roster.ReadKept(in, want)
		if err == nil {
			list.roster, list.about = r, *kept
		}
		return err
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the last roster of the yard, %s: %w (\"yardbroom reconcile --roster\" gives it a new one)", path, err)
	}
	return list, nil
}

func unpacked(path string, read func(io.Reader) error) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	z, err := zstd.NewReader(file)
	if err != nil {
		return err
	}
	defer z.Close()
	return read(z)
}

func packed(path string, write func(io.Writer) error) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return whole.Write(path, func(w io.Writer) error {
		z, err := zstd.NewWriter(w)
		if err != nil {
			return err
		}
		return errors.Join(write(z), z.Close())
	})
}

// keepRoster makes a roster the yard's last one, and keeps who was found to
// have which account.
func (a *app) keepRoster(ctx context.Context, p *place, list *people, result *reconcile.Result) error {
	id, err := p.Identity(ctx)
	if err != nil {
		return err
	}
	if list.fresh {
		if err := packed(a.rosterFile(id, rosterEnding), func(w io.Writer) error { return list.roster.Keep(w, list.about.Read) }); err != nil {
			return fmt.Errorf("keeping the roster: %w", err)
		}
	}
	if err := packed(a.rosterFile(id, pairsEnding), result.Keep); err != nil {
		return fmt.Errorf("keeping the pairs: %w", err)
	}
	return nil
}

// matched finds out who has which account, where there is a roster and a check
// that wants to know.
func (a *app) matched(ctx context.Context, cmd *cli.Command, p *place, survey *directory.Survey, asOf time.Time, checks []string) (*reconcile.Result, error) {
	wanted := len(checks) == 0 || slices.ContainsFunc(checks, func(name string) bool {
		c, err := a.catalog.Named(name)
		return err == nil && (c.ByRoster || c.Name == "early")
	})
	if !wanted && cmd.String("roster") == "" {
		return nil, nil
	}
	list, err := a.roster(ctx, cmd, p)
	if err != nil || list == nil {
		return nil, err
	}
	if !list.fresh {
		a.note("note: compared with the roster %s of %s, %s; --no-roster leaves it out", list.about.Source, list.about.Read.In(p.zone()).Format(time.DateOnly), render.Count(list.about.Rows, "row"))
	}
	return a.match(ctx, p, survey, asOf, list, false)
}

func (a *app) match(ctx context.Context, p *place, survey *directory.Survey, asOf time.Time, list *people, strict bool) (*reconcile.Result, error) {
	opt, err := a.matchOptions(ctx, p)
	if err != nil {
		return nil, err
	}
	if list.fresh && list.roster.Guessed {
		if fitting := list.roster.Fitting(reconcile.Familiar(survey)); fitting != list.roster {
			list.roster, list.about = fitting, fitting.About(list.about.Read)
		}
	}
	opt.Strict, opt.Columns = strict, list.roster.Fields()
	result, err := reconcile.Run(a.peopleOn(list, asOf, p), survey, opt)
	switch strange := (*reconcile.StrangeNames)(nil); {
	case errors.As(err, &strange):
		return nil, fmt.Errorf("%s: %w", list.about.Source, err)
	case err != nil:
		return nil, usage("settings: roster: logon_patterns: %w", err)
	}
	return result, nil
}

// peopleOn are the people of a roster on the day of a time, where the yard is.
func (a *app) peopleOn(list *people, asOf time.Time, p *place) []roster.Person {
	y, m, d := asOf.In(p.location()).Date()
	return list.roster.People(time.Date(y, m, d, 0, 0, 0, 0, time.UTC), a.set.Roster.Trust == settings.TrustDates)
}

func (a *app) matchOptions(ctx context.Context, p *place) (opt reconcile.Options, err error) {
	opt = reconcile.Options{Patterns: a.set.Roster.LogonPatterns, Zone: p.location()}
	if opt.IDs, err = audit.RosterIDs(a.set); err != nil {
		return opt, &exitError{exitUsage, err}
	}
	if opt.Second, err = regexp.Compile("(?i)" + a.set.Audit.AdminAccountPattern); err != nil {
		return opt, usage("settings: audit: admin_account_pattern: %w", err)
	}
	links, err := a.links(ctx)
	if err != nil {
		return opt, err
	}
	for _, l := range links {
		opt.Links = append(opt.Links, l.link())
	}
	return opt, nil
}

// known is what the last reconciliation found out about one account, nil where
// there was none.
func (a *app) known(ctx context.Context, p *place, acc *directory.Account, asOf time.Time) (*reconcile.Result, error) {
	id, ok := a.rosterOf(ctx, p)
	if !ok {
		return nil, nil
	}
	opt, err := a.matchOptions(ctx, p)
	if err != nil {
		return nil, err
	}
	found, list, err := a.remembered(id, opt.Links, acc.ID)
	if err != nil || list == nil {
		return nil, err
	}
	return found[acc.ID].Again(a.peopleOn(list, asOf, p), acc, opt), nil
}

// remembered is what the last reconciliation of a directory, and what people
// have decided since, say of some accounts; and those people of its roster who
// are meant. The roster is nil where there was none.
func (a *app) remembered(id source.Identity, links []reconcile.Link, accounts ...string) (map[string]*reconcile.Known, *people, error) {
	var found map[string]*reconcile.Known
	err := unpacked(a.rosterFile(id, pairsEnding), func(in io.Reader) (err error) {
		found, err = reconcile.Recall(in, accounts...)
		return err
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	meant := map[string]bool{}
	for _, account := range accounts {
		found[account] = decidedSince(found[account], account, links)
		for _, who := range found[account].People {
			meant[reconcile.RowKey(who)] = true
		}
	}
	list, err := readKept(a.rosterFile(id, rosterEnding), func(row *roster.Row) bool {
		return meant[reconcile.PersonKey(&roster.Person{Values: row.Values})]
	})
	return found, list, err
}

// leavers tells, of accounts of a directory by raw identity, whose people have
// left by the last roster, where that is sure: who they are.
func (a *app) leavers(ctx context.Context, id source.Identity, yard string, accounts []string) (map[string]*roster.Person, error) {
	if !a.remembers() {
		return nil, nil
	}
	p := &place{yard: a.set.Yards[yard]}
	opt, err := a.matchOptions(ctx, p)
	if err != nil {
		return nil, err
	}
	found, list, err := a.remembered(id, opt.Links, accounts...)
	if err != nil || list == nil {
		return nil, err
	}
	return a.leaversAmong(found, list, p), nil
}

// leaversAmong tells the same of what was remembered already.
func (a *app) leaversAmong(found map[string]*reconcile.Known, list *people, p *place) map[string]*roster.Person {
	byKey := map[string]*roster.Person{}
	everybody := a.peopleOn(list, a.now(), p)
	for i := range everybody {
		byKey[reconcile.PersonKey(&everybody[i])] = &everybody[i]
	}
	out := map[string]*roster.Person{}
	for account, k := range found {
		if !k.Sure && k.By != reconcile.ByLink || len(k.People) == 0 {
			continue
		}
		if who := byKey[k.People[0]]; who != nil && who.State == roster.Left {
			out[account] = who
		}
	}
	return out
}

// decidedSince is what is known of an account after what people have decided.
func decidedSince(k *reconcile.Known, account string, links []reconcile.Link) *reconcile.Known {
	if k == nil {
		k = &reconcile.Known{Account: account}
	}
	for _, l := range links {
		switch {
		case l.Account != account:
		case !l.Rejected:
			k = &reconcile.Known{Account: account, By: reconcile.ByLink, Score: 1, People: []string{l.Person}}
		case k.By != "" && k.By != reconcile.ByLink && slices.Contains(k.People, l.Person):
			k = &reconcile.Known{Account: account}
		}
	}
	return k
}

// tenth is the share of the directory that may have to go by a roster before
// somebody has to say that the roster is whole.
const tenth = 10

// wholeRoster refuses to stage by a roster that looks half delivered: the
// classic way to disable a company.
func (a *app) wholeRoster(ctx context.Context, cmd *cli.Command, p *place, r *audit.Report, checks []string) error {
	byAbsence := slices.Contains(checks, "no-person")
	if r.Roster == nil || cmd.Bool("whole-roster") || !byAbsence && !slices.Contains(checks, "leaver-enabled") {
		return nil
	}
	list, err := a.roster(ctx, cmd, p)
	if err != nil {
		return err
	}
	if byAbsence && list.about.Bad > 0 {
		return fmt.Errorf("%s of the roster could not be read, and whoever is in them would seem to be missing: correct them, or say --whole-roster", render.Count(list.about.Bad, "row"))
	}
	if s := r.Roster; s.Leaving*tenth > s.Enabled {
		return fmt.Errorf("by the roster %s, %d of %d enabled accounts would have to go (their people have left, or they are nobody's); a roster that is not whole looks like this: look at \"yardbroom reconcile\", and say --whole-roster if it is right", list.about.Source, s.Leaving, s.Enabled)
	}
	return nil
}

// fromRoster collects the accounts whose person is sure and that lack what the
// roster gives: all, or those named.
func (a *app) fromRoster(ctx context.Context, cmd *cli.Command, p *place, s *batch.Stager, o *batch.Order, what *staging) ([]batch.Candidate, error) {
	list, err := a.roster(ctx, cmd, p)
	if err != nil {
		return nil, err
	}
	if list == nil {
		return nil, usage("the yard has no roster yet: give one with --roster")
	}
	survey, err := p.Survey(ctx)
	if err != nil {
		return nil, err
	}
	asOf, err := a.asOf(cmd, p.location(), survey)
	if err != nil {
		return nil, err
	}
	result, err := a.match(ctx, p, survey, asOf, list, false)
	if err != nil {
		return nil, err
	}
	s.Accounts = survey.Accounts.Len()
	if survey.Server != "" {
		o.Server = survey.Server
	}
	byDN := map[string]*reconcile.Pair{}
	var dns []string
	for i := range result.Pairs {
		pair := &result.Pairs[i]
		byDN[directory.FoldDN(pair.Account.DN)] = pair
		if pair.Sure && !pair.Second && !pair.Account.Present.Has(directory.LookupAttr(what.attr)) {
			dns = append(dns, pair.Account.DN)
		}
	}
	var entries []directory.Entry
	if len(what.names) > 0 {
		entries, err = findAll(ctx, p.Source, s.Dialect, what.names)
	} else {
		entries, err = p.Get(ctx, dns)
	}
	if err != nil {
		return nil, err
	}
	rests := audit.PairKeys(a.set)
	var all []batch.Candidate
	for i := range entries {
		if len(what.names) == 0 && entries[i].Has(what.attr) {
			continue // an attribute that surveys do not hold
		}
		c := batch.Candidate{Entry: entries[i], Rests: rests}
		switch pair := byDN[directory.FoldDN(entries[i].DN)]; {
		case pair == nil:
			c.NotNow = "whose it is is not known; say so with \"yardbroom link confirm\" first"
		case !pair.Sure:
			c.NotNow = "whose it is is likely, not sure; say so with \"yardbroom link confirm\" first"
		default:
			who := &result.People[pair.Person]
			c.Reason = fmt.Sprintf("%s by %s", audit.PersonName(who), pair.By)
			value, err := rosterRule(what.value, who)
			if err != nil {
				c.NotNow = err.Error()
			}
			c.Values = []batch.Assignment{{Attr: what.attr, New: value}}
		}
		all = append(all, c)
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("no account whose person is sure lacks %s, so %w", what.attr, batch.ErrNothing)
	}
	return all, nil
}
