package work

import (
	"cmp"
	"context"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/logs"
	"yardbroom/internal/tracing"
)

// TraceQuestion says which accounts are looked at: all that were refused, those that
// are locked out, or those that one machine or address tried.
type TraceQuestion struct {
	LogsFrom
	Locked bool
	Source string // a machine or an address, "" for any
}

// Traces are what keeps refusing accounts, the most of it first.
type Traces struct {
	Survey *directory.Survey
	AsOf   time.Time
	All    []*TracedAccount
	// Guessing are the sources that try many accounts, the most of them first.
	Guessing []*tracing.Origin
	// Origin is what was asked for by TraceQuestion.Source, nil where nothing came from
	// there.
	Origin *tracing.Origin
	Logs
}

// TracedAccount is one account, or a name that no account has, in short.
type TracedAccount struct {
	Account  *directory.Account // nil for a name that no account has
	Name     string
	Out      bool      // it is locked out now
	Locked   time.Time // since when, where that can be told
	Refused  int       // from the source that was asked for, or from any
	SignedIn int
	Source   *tracing.Source // that it is refused from most
	Last     time.Time
	Case     tracing.Case
	Judged   tracing.Judgement
}

// TraceAll looks for what keeps refusing accounts, over a whole directory.
func (s *Session) TraceAll(ctx context.Context, p *Place, q *TraceQuestion) (*Traces, error) {
	out := &Traces{}
	all, err := s.logsFor(p, &q.LogsFrom, &out.AsOf, &out.Logs)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return nil, Wrong("no logs are named: add them to the settings (logs), or name one with --log")
	}
	if out.Survey, err = p.Survey(ctx); err != nil {
		return nil, err
	}
	if out.AsOf, err = s.asOf(q.AsOf, p.Location(), out.Survey); err != nil {
		return nil, err
	}
	book, accounts, err := s.bookOf(ctx, p, out.Survey)
	if err != nil {
		return nil, err
	}
	c := &tracing.Collector{Book: book, Everybody: true, Since: out.Since}
	only := (*logs.Only)(nil)
	if q.Source != "" {
		if only, err = s.machine(ctx, all, q.Source); err != nil {
			return nil, err
		}
	}
	if err := s.readLogs(ctx, all, only, c, &out.Logs); err != nil {
		return nil, err
	}
	origins := c.Origins()
	for _, o := range origins {
		if o.Guesses() {
			out.Guessing = append(out.Guessing, o)
		}
	}
	slices.SortFunc(out.Guessing, func(a, b *tracing.Origin) int {
		return cmp.Or(cmp.Compare(b.Accounts+b.Strangers, a.Accounts+a.Strangers), strings.Compare(a.Name, b.Name))
	})
	seen := map[int]bool{}
	c.Each(func(t *tracing.Trace) {
		one := out.short(t, q)
		if t.Number >= 0 {
			one.Account = accounts[t.Number]
			seen[t.Number] = true
		}
		one.know(out, origins)
		if one.Judged = t.Judge(&one.Case); (one.Refused > 0 || q.Source != "" && one.SignedIn > 0) && (!q.Locked || one.Out) {
			out.All = append(out.All, one)
			if q.Source != "" {
				out.Origin = origins[one.Source.Name()]
			}
		}
	})
	if q.Locked {
		for n, a := range accounts {
			if one := (&TracedAccount{Account: a}); !seen[n] {
				if one.know(out, origins); one.Out {
					out.All = append(out.All, one)
				}
			}
		}
	}
	slices.SortStableFunc(out.All, func(a, b *TracedAccount) int {
		return cmp.Or(cmp.Compare(b.Refused, a.Refused), cmp.Compare(b.SignedIn, a.SignedIn), strings.Compare(a.Name, b.Name))
	})
	return out, nil
}

// stillAt are those of some accounts that something still refuses, so that unlocking them
// will not last; none where there are no logs.
func (s *Session) stillAt(ctx context.Context, p *Place, d *directory.Dialect, candidates []batch.Candidate, from *LogsFrom) ([]*TracedAccount, error) {
	all, since, err := s.logsOf(p, from, s.now())
	if err != nil || len(all) == 0 {
		return nil, err
	}
	book, err := s.bookFor(ctx, p, nil)
	if err != nil {
		return nil, err
	}
	var names []string
	accounts := make([]directory.Account, len(candidates))
	for i := range candidates {
		n := namesOf(&candidates[i].Entry)
		book.Add(i, n)
		names = append(names, needles(n)...)
		accounts[i] = d.Account(&candidates[i].Entry)
	}
	c, read := &tracing.Collector{Book: book, Since: since}, Logs{}
	if err := s.readLogs(ctx, all, logs.NewOnly(names...), c, &read); err != nil {
		return nil, err
	}
	var out []*TracedAccount
	c.Each(func(t *tracing.Trace) {
		if t.Number < 0 {
			return
		}
		a := &accounts[t.Number]
		one := &TracedAccount{Account: a, Name: a.Name(), Refused: t.Refused, Last: t.LastRefused(), Case: tracing.Case{From: read.Covered, To: read.To}}
		if a.PasswordSet.Known() {
			one.Case.PasswordSet = a.PasswordSet.Time()
		}
		if one.Judged = t.Judge(&one.Case); one.Judged.Going {
			out = append(out, one)
		}
	})
	return out, nil
}

// bookOf knows all accounts of a survey, by their place in the list that it returns.
func (s *Session) bookOf(ctx context.Context, p *Place, survey *directory.Survey) (*tracing.Book, []*directory.Account, error) {
	book, err := s.bookFor(ctx, p, survey)
	if err != nil {
		return nil, nil, err
	}
	accounts := make([]*directory.Account, 0, survey.Accounts.Len())
	book.Expect(survey.Accounts.Len())
	var also [2]string
	for a := range survey.Accounts.All() {
		also[0], also[1] = a.Text.First(directory.AttrUserPrincipalName), a.Text.First(directory.AttrMail)
		book.Add(len(accounts), tracing.Names{Logon: a.Logon, Key: a.Key, RID: a.RID, Also: also[:]})
		accounts = append(accounts, a)
	}
	return book, accounts, nil
}

// short is a trace in short, or what of it came from one source.
func (t *Traces) short(tr *tracing.Trace, q *TraceQuestion) *TracedAccount {
	one := &TracedAccount{Name: tr.Stranger}
	for _, src := range tr.Sources {
		if q.Source != "" && !src.Is(q.Source) {
			continue
		}
		one.Refused += src.Refused
		one.SignedIn += src.SignedIn
		if one.Source == nil {
			one.Source = src
		}
		for _, at := range []time.Time{src.Last, src.LastSignIn} {
			if at.After(one.Last) {
				one.Last = at
			}
		}
	}
	return one
}

// know adds what the directory knows of an account.
func (one *TracedAccount) know(t *Traces, origins map[string]*tracing.Origin) {
	one.Case = tracing.Case{From: t.Covered, To: t.To, Origins: origins}
	a := one.Account
	if a == nil {
		return
	}
	one.Name = a.Name()
	if set := t.Survey.PasswordSet(a); set.Known() {
		one.Case.PasswordSet = set.Time()
	}
	if in := t.Survey.LastLogon(a, t.AsOf); in.Known() {
		one.Case.SignedIn = in.Time()
	}
	if one.Out = t.Survey.LockedOut(a, t.AsOf).Yes; one.Out {
		one.Locked = a.LockedAt.Time()
	}
}

// machine is what to look for to find all that comes from a machine, or an address: both
// its names, where the logs say that they are the same.
func (s *Session) machine(ctx context.Context, all []*logs.Log, name string) (*logs.Only, error) {
	machines, addresses := []string{}, []netip.Addr{}
	if a, err := netip.ParseAddr(name); err == nil {
		addresses = append(addresses, a.Unmap())
	} else {
		machines = append(machines, tracing.MachineName(name))
	}
	reading := &logs.Reading{Logs: withoutStdin(all), Now: s.now(), Only: logs.NewOnlyFrom(machines, addresses), Take: func(e *logs.Event) error {
		machine := tracing.MachineName(e.Machine)
		same := slices.Contains(machines, machine) || slices.Contains(addresses, e.Address)
		if !same || machine == "" || !e.Address.IsValid() || e.Address.IsLoopback() || len(machines)+len(addresses) > mostAliases {
			return nil
		}
		if !slices.Contains(machines, machine) {
			machines = append(machines, machine)
		}
		if !slices.Contains(addresses, e.Address) {
			addresses = append(addresses, e.Address)
		}
		return nil
	}}
	_, err := reading.All(ctx)
	return logs.NewOnlyFrom(machines, addresses), err
}

// mostAliases names of one machine are looked for.
const mostAliases = 12

// withoutStdin are the logs that can be read twice.
func withoutStdin(all []*logs.Log) []*logs.Log {
	return slices.DeleteFunc(slices.Clone(all), func(l *logs.Log) bool { return l.Path == "-" })
}
