package work

import (
	"context"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/tracing"
	"yardbroom/internal/wording"
)

// watch reads the logs of a place, where it has any: what they say of accounts goes to the
// checks, and the last sign-in of each counts as one that another system has recorded.
// It is done once for a place.
func (s *Session) watch(ctx context.Context, p *Place, from *LogsFrom, survey *directory.Survey) error {
	all, since, err := s.logsOf(p, from, s.now())
	if err != nil || len(all) == 0 {
		return err
	}
	if p.watched == nil {
		book, accounts, err := s.bookOf(ctx, p, survey)
		if err != nil {
			return err
		}
		var read Logs
		read.Since = since
		c := &tracing.Collector{Book: book, Everybody: true, Since: since}
		if err := s.readLogs(ctx, all, nil, c, &read); err != nil {
			return err
		}
		for _, r := range read.Reports {
			for _, fault := range Faults(r, since, p.Zone()) {
				s.note("note: log %s %s", r.Name, fault)
			}
		}
		w := c.Watch(accounts)
		p.watched = w
		s.note("note: %s name %s and %s that no account has", wording.Count(len(read.Reports), "log"), wording.Count(len(w.Accounts), "account"),
			wording.Count(len(w.Strangers), "name"))
	}
	return s.countSignIns(p.watched, survey)
}

// countSignIns takes the last sign-ins that logs tell for those of another system.
func (s *Session) countSignIns(w *tracing.Watch, survey *directory.Survey) error {
	for a := range survey.Accounts.All() {
		seen := w.Accounts[a.Key]
		if seen == nil || seen.In.Last.IsZero() || a.Logon == "" {
			continue
		}
		if survey.Elsewhere == nil {
			survey.Elsewhere = map[directory.Key]directory.SignIn{}
		}
		k := directory.TextKey(a.Logon)
		if seen.In.Last.After(survey.Elsewhere[k].At) {
			survey.Elsewhere[k] = directory.SignIn{At: seen.In.Last, Source: usedFrom(&seen.In)}
		}
	}
	return nil
}

// usedFrom is where a sign-in came from, and by what, as evidence has it.
func usedFrom(u *tracing.Use) string {
	if u.Machine == "" {
		return "log, " + u.Via
	}
	return strings.TrimSuffix(u.Machine+", "+u.Via, ", ")
}
