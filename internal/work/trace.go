package work

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/logs"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/tracing"
)

// LogsFrom says which logs are read, and what of them counts.
type LogsFrom struct {
	// Paths are files, folders, patterns, or "-"; none stands for those of the yard.
	Paths []string
	// Since is a span before now, or a time; "" is all.
	Since string
	// None reads none, whatever the yard has.
	None bool
	// AsOf is a date or an RFC 3339 time for which states are judged; "" is the
	// survey's own, or now.
	AsOf string
}

// Logs are what was read, and how that went.
type Logs struct {
	Reports []*logs.Report
	// From and To are between which times they are, zero where they hold none.
	From, To time.Time
	// Covered is since when all logs are there.
	Covered time.Time
	Since   time.Time // what was asked for, zero for all
	Floor   time.Time // before which they were too much to keep, zero where all was kept
	Several int       // events of names that more than one account has
}

// AccountTrace is what keeps refusing one account, and who signs in with it.
type AccountTrace struct {
	// Name is what was asked for; Account, Entry and Survey are nil where no account
	// is called so.
	Name    string
	Entry   *directory.Entry
	Account *directory.Account
	Survey  *directory.Survey
	AsOf    time.Time
	// Out tells that it is locked out now; Locked is since when and Ends until when,
	// Began the server at which that began, where these can be told.
	Out          bool
	Locked, Ends time.Time
	Began        string
	Case         tracing.Case
	Trace        *tracing.Trace
	Judged       tracing.Judgement
	Changed      []source.LastChange // what the replication metadata says
	Logs
}

// Trace finds out where the refused sign-ins of an account come from.
func (s *Session) Trace(ctx context.Context, p *Place, name string, from *LogsFrom) (*AccountTrace, error) {
	t := &AccountTrace{Name: name}
	all, err := s.logsFor(p, from, &t.AsOf, &t.Logs)
	if err != nil {
		return nil, err
	}
	book, names, err := s.begin(ctx, p, t, from)
	if err != nil {
		return nil, err
	}
	return t, s.read(ctx, all, book, names, t)
}

// begin finds the account of a trace, if there is one of its name, what the directory
// knows of it, and what it is called in logs.
func (s *Session) begin(ctx context.Context, p *Place, t *AccountTrace, from *LogsFrom) (book *tracing.Book, names tracing.Names, err error) {
	names = tracing.Names{Logon: t.Name}
	if t.Entry, err = s.LookAccountUp(ctx, p, t.Name); err != nil && !errors.Is(err, ErrNoAccount) {
		return nil, names, err
	}
	if t.Entry != nil {
		if t.Survey, err = p.Around(ctx, t.Entry); err != nil {
			return nil, names, err
		}
		if t.AsOf, err = s.asOf(from.AsOf, p.Location(), t.Survey); err != nil {
			return nil, names, err
		}
		if err := t.know(ctx, p); err != nil {
			return nil, names, err
		}
		if err := t.date(ctx, p); err != nil {
			return nil, names, err
		}
		names = namesOf(t.Entry)
	}
	if book, err = s.bookFor(ctx, p, t.Survey); err != nil {
		return nil, names, err
	}
	book.Add(0, names)
	return book, names, nil
}

// read reads what the logs say of the account of a trace, and judges it.
func (s *Session) read(ctx context.Context, all []*logs.Log, book *tracing.Book, names tracing.Names, t *AccountTrace) error {
	c := &tracing.Collector{Book: book, Since: t.Since}
	if err := s.readLogs(ctx, all, logs.NewOnly(needles(names)...), c, &t.Logs); err != nil {
		return err
	}
	return s.judge(ctx, all, c, t)
}

// judge makes of what was gathered what it most likely is.
func (s *Session) judge(ctx context.Context, all []*logs.Log, c *tracing.Collector, t *AccountTrace) (err error) {
	t.Trace = &tracing.Trace{}
	c.Each(func(one *tracing.Trace) {
		if one.Number == 0 {
			t.Trace = one
		}
	})
	t.Case.From, t.Case.To = t.Covered, t.To
	if t.Judged = t.Trace.Judge(&t.Case); t.Judged.Settled() {
		return nil
	}
	if t.Case.Origins, err = s.origins(ctx, all, c.Book, t.Trace, t.Since); err != nil {
		return err
	}
	t.Judged = t.Trace.Judge(&t.Case)
	return nil
}

// traceOf is the trace of an account that was read already, nil where there are no logs.
// What it tells of sign-ins counts in the survey.
func (s *Session) traceOf(ctx context.Context, p *Place, e *directory.Entry, survey *directory.Survey, asOf time.Time, from *LogsFrom) (*AccountTrace, error) {
	t := &AccountTrace{Entry: e, Survey: survey, AsOf: asOf}
	if !from.None {
		if err := s.countRemembered(ctx, p, survey); err != nil {
			return nil, err
		}
	}
	all, since, err := s.logsOf(p, from, t.AsOf)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	t.Since = since
	if err := t.know(ctx, p); err != nil {
		return nil, err
	}
	book, err := s.bookFor(ctx, p, survey)
	if err != nil {
		return nil, err
	}
	book.Add(0, namesOf(e))
	if err := s.read(ctx, all, book, namesOf(e), t); err != nil {
		return nil, err
	}
	s.noteFaults(p, &t.Logs)
	seen := t.Trace.Seen()
	p.watched = &tracing.Watch{From: t.From, To: t.To, Accounts: map[directory.Key]*tracing.Seen{t.Account.Key: seen},
		Origins: slices.Collect(maps.Values(t.Case.Origins))}
	countSignIn(survey, t.Account, &seen.In)
	return t, nil
}

// know reads what the directory itself knows of an account.
func (t *AccountTrace) know(ctx context.Context, p *Place) (err error) {
	if t.Account = accountOf(t.Survey, t.Entry); t.Account == nil {
		return fmt.Errorf("%s vanished while it was read", t.Entry.DN)
	}
	if server, live := p.Server(); live {
		t.Case.Servers = server.Failures(ctx, t.Entry)
	}
	if set := t.Survey.PasswordSet(t.Account); set.Known() {
		t.Case.PasswordSet = set.Time()
	}
	if in := t.Survey.LastLogon(t.Account, t.AsOf); in.Known() {
		t.Case.SignedIn = in.Time()
	}
	if t.Out = t.Survey.LockedOut(t.Account, t.AsOf).Yes; t.Out {
		t.Locked, t.Ends = t.Account.LockedAt.Time(), t.Account.Further().LockEnds.Time()
		for _, f := range t.Case.Servers {
			if f.Locked.After(t.Locked) {
				t.Locked = f.Locked
			}
		}
	}
	t.Case.MaxFailures, t.Case.Window = counting(ctx, p, t.Survey, t.Account)
	return ctx.Err()
}

// date reads when an account was changed last, and where: the lock, too. Whoever may not
// read that is told the rest.
func (t *AccountTrace) date(ctx context.Context, p *Place) (err error) {
	server, live := p.Server()
	if !live {
		return nil
	}
	if t.Changed, err = server.Changes(ctx, t.Entry); err != nil && ctx.Err() != nil {
		return err
	}
	for _, c := range t.Changed {
		if t.Out && c.Attr == directory.AttrLockoutTime.String() {
			t.Began = c.Server
		}
	}
	return nil
}

// accountOf is the account of an entry in a survey, nil where it is not there.
func accountOf(survey *directory.Survey, e *directory.Entry) *directory.Account {
	key := directory.KeyOf(e.DN)
	for one := range survey.Accounts.All() {
		if one.Key == key {
			return one
		}
	}
	return nil
}

// counting is how many wrong passwords lock an account, and for how long each counts;
// 0 where that is not known, since the policy may not be read, and where none locks.
func counting(ctx context.Context, p *Place, survey *directory.Survey, a *directory.Account) (most int, window time.Duration) {
	policy := a.Further().Policy
	if policy == "" {
		policy = survey.DefaultPolicy
	}
	if policy == "" && survey.Dialect.DomainPolicy {
		policy = survey.Domain.Name
	}
	if policy == "" {
		return 0, 0
	}
	found, err := p.Get(ctx, []string{policy})
	if err != nil || len(found) == 0 {
		return 0, 0
	}
	e := &found[0]
	first := func(names ...string) int {
		for _, name := range names {
			if n, err := strconv.Atoi(e.First(name)); err == nil {
				return n
			}
		}
		return 0
	}
	most = first("lockoutThreshold", "msDS-LockoutThreshold", "pwdMaxFailure", "passwordMaxFailure")
	window = time.Duration(first("pwdFailureCountInterval", "passwordResetFailureCount")) * time.Second
	if ticks := first("lockOutObservationWindow", "msDS-LockoutObservationWindow"); ticks < 0 {
		window = time.Duration(-ticks) * 100
	}
	return most, window
}

// namesOf are what an account is called in logs.
func namesOf(e *directory.Entry) tracing.Names {
	n := tracing.Names{DN: e.DN}
	for _, attr := range []string{"sAMAccountName", "uid"} {
		for _, v := range e.Get(attr) {
			if n.Logon == "" {
				n.Logon = v
			} else if !strings.EqualFold(v, n.Logon) {
				n.Also = append(n.Also, v)
			}
		}
	}
	for _, attr := range []string{"userPrincipalName", "mail", "krbPrincipalName"} {
		n.Also = append(n.Also, e.Get(attr)...)
	}
	if sid, err := directory.ParseSID(e.First("objectSid")); err == nil {
		n.SID = sid
	}
	return n
}

// needles are pieces of an account's names of which every line about it holds one.
func needles(n tracing.Names) []string {
	var all []string
	for _, name := range append([]string{n.Logon, n.SID, directory.LeafValue(n.DN)}, n.Also...) {
		if name, _, _ = strings.Cut(name, "@"); name != "" {
			all = append(all, name)
		}
	}
	return all
}

// bookFor begins the book of names of a directory. What a survey of it says need not be
// read again; it may be nil.
func (s *Session) bookFor(ctx context.Context, p *Place, survey *directory.Survey) (*tracing.Book, error) {
	base, sid := "", ""
	if survey != nil && survey.Domain.Name != "" {
		base = survey.Domain.Name
		sid, _ = directory.ParseSID(survey.Domain.SID) // one that has none joins by names
	} else {
		id, err := p.Identity(ctx)
		if err != nil {
			return nil, err
		}
		if base = id.Base; strings.HasPrefix(id.ID, "S-") {
			sid = id.ID
		}
	}
	b := &tracing.Book{Base: directory.FoldDN(base), SID: sid}
	if domain := source.DomainOf(base); domain != "" {
		label, _, _ := strings.Cut(domain, ".")
		b.Realms = []string{domain, label} // the short name is the first label, unless somebody chose another
	}
	if server, live := p.Server(); live {
		found, err := server.SelectConfiguration(ctx, "(&(objectClass=crossRef)(nETBIOSName=*)(nCName="+source.EscapeFilter(base)+"))", []string{"nETBIOSName"})
		if err != nil {
			return nil, err
		}
		for i := range found {
			b.Realms = append(b.Realms, found[i].Get("nETBIOSName")...)
		}
	}
	return b, nil
}

// logsFor are the logs to read; it notes for which time states are judged, and since when
// what stands in the logs counts.
func (s *Session) logsFor(p *Place, from *LogsFrom, asOf *time.Time, into *Logs) (all []*logs.Log, err error) {
	if *asOf, err = s.asOf(from.AsOf, p.Location(), nil); err != nil {
		return nil, err
	}
	all, into.Since, err = s.logsOf(p, from, *asOf)
	return all, err
}

// logsOf are the logs to read, and since when what stands in them counts.
func (s *Session) logsOf(p *Place, from *LogsFrom, now time.Time) (all []*logs.Log, since time.Time, err error) {
	zone := p.Zone()
	if from.Since != "" {
		if since, err = before(from.Since, now.In(zone)); err != nil {
			return nil, since, Wrong("--since: %w", err)
		}
	}
	for _, path := range from.Paths {
		if path != "-" && !strings.ContainsAny(path, "*?[") {
			if _, err := os.Stat(path); err != nil {
				return nil, since, Wrong("--log %s: %w", path, errors.Unwrap(err))
			}
		}
		all = append(all, s.mapped(p, path, zone))
	}
	if len(from.Paths) > 0 {
		return all, since, nil
	}
	for i := 0; i < len(p.Yard.Logs) && !from.None; i++ {
		all = append(all, logOf(&p.Yard.Logs[i], zone))
	}
	return all, since, nil
}

// before reads a span that has passed, such as 7d or 12h, or a time.
func before(text string, now time.Time) (time.Time, error) {
	if span, err := calendar.ParseSpan(text); err == nil {
		return span.Before(now), nil
	}
	if d, err := time.ParseDuration(text); err == nil && d > 0 {
		return now.Add(-d), nil
	}
	return calendar.ParseRelative(text, now, calendar.First)
}

// mapped is a log that was named by hand: with what the settings say of one of its path.
func (s *Session) mapped(p *Place, path string, zone *time.Location) *logs.Log {
	for i := range p.Yard.Logs {
		l := &p.Yard.Logs[i]
		whole, err := filepath.Abs(path)
		if err != nil {
			break
		}
		if same, err := filepath.Match(l.Path, whole); l.Path == whole || same && err == nil {
			out := logOf(l, zone)
			out.Path = path
			return out
		}
	}
	return &logs.Log{Path: path, Zone: zone}
}

func logOf(l *settings.Log, zone *time.Location) *logs.Log {
	out := &logs.Log{Path: l.Path, Server: l.Server, Zone: zone}
	if own, err := l.Location(); err == nil && own != nil { // the settings were checked when they were read
		out.Zone = own
	}
	if f := l.Fields; f != (settings.LogFields{}) {
		out.Mapping = &logs.Mapping{Time: f.Time, Account: f.Account, Domain: f.Domain, Address: f.Address, Machine: f.Machine, By: f.By, Result: f.Result,
			Success: l.Success, Failure: l.Failure}
	}
	return out
}

// readLogs reads logs into a collector.
func (s *Session) readLogs(ctx context.Context, all []*logs.Log, only *logs.Only, c *tracing.Collector, into *Logs) error {
	reading := &logs.Reading{Logs: all, Stdin: s.Stdin, Now: s.now(), Only: only, Take: c.Take}
	reports, err := reading.All(ctx)
	if err != nil {
		return err
	}
	into.take(reports, c)
	return nil
}

func (l *Logs) take(reports []*logs.Report, c *tracing.Collector) {
	l.Reports, l.Floor, l.Several = reports, c.Floor, c.Several
	for _, r := range reports {
		if r.First.IsZero() {
			continue
		}
		if l.From.IsZero() || r.First.Before(l.From) {
			l.From = r.First
		}
		if r.Last.After(l.To) {
			l.To = r.Last
		}
	}
	if l.From.Before(c.Floor) {
		l.From = c.Floor
	}
	l.Covered = later(covered(reports, l.To), later(c.Floor, l.Since))
}

// covered is when the last log begins: before that, somebody may have been refused where
// no log tells of it. One that cannot be read covers nothing until the end.
func covered(reports []*logs.Report, end time.Time) (since time.Time) {
	first := map[string]time.Time{}
	for _, r := range reports {
		if r.Error != nil {
			return end
		}
		if at, known := first[r.Series]; !r.First.IsZero() && (!known || r.First.Before(at)) {
			first[r.Series] = r.First
		}
	}
	for _, at := range first {
		since = later(since, at)
	}
	return since
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// mostOrigins is how many sources of refused sign-ins are looked at more closely.
const mostOrigins = 6

// origins says what else the sources of an account's refused sign-ins do: the logs are
// read once more, for their names. Standard input cannot be.
func (s *Session) origins(ctx context.Context, all []*logs.Log, book *tracing.Book, t *tracing.Trace, since time.Time) (map[string]*tracing.Origin, error) {
	var machines []string
	var addresses []netip.Addr
	for n, src := range t.Sources {
		if src.Refused == 0 || n == mostOrigins {
			break
		}
		if src.Machine != "" {
			machines = append(machines, src.Machine)
		}
		for _, a := range src.Addresses {
			if !a.IsLoopback() {
				addresses = append(addresses, a)
			}
		}
	}
	files := withoutStdin(all)
	if len(machines)+len(addresses) == 0 || len(files) == 0 {
		return nil, nil
	}
	c := &tracing.Collector{Book: book, Since: since}
	if err := s.readLogs(ctx, files, logs.NewOnlyFrom(machines, addresses), c, &Logs{}); err != nil {
		return nil, err
	}
	return c.Origins(), nil
}

// Faults say of a log what whoever trusts in it should know, each a sentence's end:
// "is empty"; none where nothing is amiss. Since is what was asked for.
func Faults(r *logs.Report, since time.Time, zone *time.Location) (all []string) {
	switch {
	case r.Error != nil:
		return []string{"cannot be read: " + r.Error.Error()}
	case r.Lines == 0:
		return []string{"is empty"}
	case r.Known == 0 && r.Broken == 0:
		return []string{"holds nothing of the kinds that are known: is it another log, or does it need fields in the settings?"}
	}
	if r.Broken > 0 {
		all = append(all, fmt.Sprintf("has %d lines that cannot be read, the first in line %d: %s", r.Broken, r.FaultLine, r.Fault))
	}
	if r.Known > 0 && r.First.IsZero() {
		all = append(all, "tells no time")
	}
	if r.Newest && !r.Last.IsZero() && r.Last.Before(since) {
		all = append(all, "ends before that, on "+r.Last.In(zone).Format(time.DateOnly))
	} else if r.Oldest && !since.IsZero() && r.First.After(since) {
		all = append(all, "begins only on "+r.First.In(zone).Format("2006-01-02 15:04"))
	}
	return all
}
