package audit

import (
	"time"

	"yardbroom/internal/directory"
)

// The kinds of accounts, by what checks are about.
var (
	people   = []directory.Kind{directory.KindUser, directory.KindService}
	users    = []directory.Kind{directory.KindUser}
	services = []directory.Kind{directory.KindService}
	machines = []directory.Kind{directory.KindComputer}
	accounts = []directory.Kind{directory.KindUser, directory.KindService, directory.KindComputer}
	anything = []directory.Kind{directory.KindOther}
)

var activity = []*Check{
	{
		Name: "stale", Severity: Medium, Short: "enabled account without a sign-in for a long time",
		because: []string{"no sign-in for %s"},
		Suggest: []string{"disable", "move"}, Kinds: people, DisprovedBy: LaterOnes,
		Guard: restsOn(logonAttrs),
		needs: func(d *directory.Dialect) [][]directory.AttrID { return append(enabledNeeds(d), d.LastLogon) },
		judge: stale,
	},
	{
		Name: "stale-computer", Severity: Medium, Short: "enabled computer without a sign-in for a long time",
		because: []string{"no sign of life for %s"},
		Suggest: []string{"disable", "move"}, Kinds: machines, DisprovedBy: LaterOnes,
		Guard: restsOn(logonAttrs, passwordAttrs),
		needs: func(d *directory.Dialect) [][]directory.AttrID { return append(enabledNeeds(d), d.LastLogon) },
		judge: staleComputer,
	},
	{
		Name: "never-used", Severity: Medium, Short: "enabled account that was never signed in to",
		because: []string{"never signed in, made %s ago"},
		Suggest: []string{"disable", "move"}, Kinds: people, DisprovedBy: AnySignIns,
		Guard: restsOn(logonAttrs),
		needs: func(d *directory.Dialect) [][]directory.AttrID {
			return append(enabledNeeds(d), d.LastLogon, []directory.AttrID{d.Created})
		},
		judge: neverUsed,
	},
	{
		Name: "unjoined-computer", Severity: Low, Short: "computer account that was never joined",
		Suggest: []string{"disable", "delete"}, Kinds: machines, DisprovedBy: AnySignIns,
		Guard: restsOn(logonAttrs, passwordAttrs),
		needs: func(d *directory.Dialect) [][]directory.AttrID {
			return append(enabledNeeds(d), d.LastLogon, []directory.AttrID{d.Created}, d.PasswordSet)
		},
		judge: unjoined,
	},
	{
		Name: "must-change-overdue", Severity: Low, Short: "account whose initial password was never changed",
		Suggest: []string{"disable"}, Kinds: users,
		Guard: restsOn(func(d *directory.Dialect) []directory.AttrID { return d.MustChange }),
		needs: func(d *directory.Dialect) [][]directory.AttrID {
			return append(enabledNeeds(d), d.MustChange, []directory.AttrID{d.Created})
		},
		judge: mustChangeOverdue,
	},
	{
		Name: "expired", Severity: Low, Short: "expired account that was never disabled",
		because: []string{"expired %s ago"},
		Suggest: []string{"disable"}, Kinds: accounts,
		Guard: restsOn(),
		needs: func(d *directory.Dialect) [][]directory.AttrID {
			if d.EverybodyShowsState {
				return [][]directory.AttrID{d.Enabled, d.Expiry}
			}
			return [][]directory.AttrID{d.Expiry}
		},
		judge: expired,
	},
	{
		Name: "expiring", Severity: Info, Short: "account that will expire soon", Off: true,
		Kinds: users, Guard: restsOn(),
		needs: func(d *directory.Dialect) [][]directory.AttrID { return append(enabledNeeds(d), d.Expiry) },
		judge: expiring,
	},
	{
		Name: "password-expiring", Severity: Info, Short: "account whose password will expire soon", Off: true,
		Kinds: users, Guard: restsOn(passwordAttrs),
		needs: func(d *directory.Dialect) [][]directory.AttrID {
			return append(
				enabledNeeds(d),
				append(
					[]directory.AttrID{directory.AttrPasswordExpiryComputed, directory.AttrPasswordExpirationTime},
					d.PasswordSet...),
			)
		},
		judge: passwordExpiring,
	},
	{
		Name: "early", Severity: Medium, Short: "account enabled before the person's first day",
		Suggest: []string{"disable"}, Kinds: users, AlsoByRoster: true,
		Guard: func(d *directory.Dialect) []directory.AttrID { return enabledAttrs(d) },
		needs: enabledNeeds,
		wants: func(p *pass) string {
			if p.people != nil {
				return "" // the roster tells
			}
			if p.rules.start == directory.AttrUnknown {
				return "no roster was given, and the settings name no attribute with the first day (audit: start_attribute)"
			}
			if !p.Shows(directory.KindUser, p.rules.start) && p.Count[directory.KindUser] > 0 {
				return "users: none shows " + p.rules.start.String()
			}
			return ""
		},
		judge: early,
	},
}

// restsOn returns the attributes that a decision about enabled accounts
// rests on, with more of them.
func restsOn(more ...func(*directory.Dialect) []directory.AttrID) func(*directory.Dialect) []directory.AttrID {
	return func(d *directory.Dialect) []directory.AttrID {
		all := enabledAttrs(d)
		for _, m := range more {
			all = append(all, m(d)...)
		}
		return all
	}
}

func logonAttrs(d *directory.Dialect) []directory.AttrID    { return d.LastLogon }
func passwordAttrs(d *directory.Dialect) []directory.AttrID { return d.PasswordSet }

// enabledNeeds are the attributes without which "enabled" cannot be told. On
// the `ad` schema every account carries them. Elsewhere a healthy directory
// may carry none, so there a finding becomes likely instead.
func enabledNeeds(d *directory.Dialect) [][]directory.AttrID {
	if d.EverybodyShowsState {
		return [][]directory.AttrID{d.Enabled, d.Expiry}
	}
	return nil
}

func enabledAttrs(d *directory.Dialect) []directory.AttrID {
	return append(append([]directory.AttrID{}, d.Enabled...), d.Expiry...)
}

// atOrBefore tells whether a moment is known and not after a time.
func atOrBefore(m directory.Moment, t time.Time) bool { return m.Known() && !m.Time().After(t) }

// enabled returns a finding for an enabled account, to be filled; nil for
// any other.
func (p *pass) enabled(a *directory.Account) *Finding {
	on := p.Enabled(a, p.asOf)
	if !on.Yes {
		return nil
	}
	return &Finding{Confidence: confidence(on)}
}

func stale(p *pass, a *directory.Account) *Finding {
	last := p.LastSignIn(a, p.asOf)
	if !atOrBefore(last.Moment, p.lines.stale) {
		return nil
	}
	f := p.enabled(a)
	if f == nil {
		return nil
	}
	f.Since, f.Evidence = last.Time(), p.logonEvidence(a, last)
	if !p.everySignInShown(a, last.Time(), p.lines.stale) {
		f.Confidence = Likely
	}
	return f
}

func staleComputer(p *pass, a *directory.Account) *Finding {
	last, set := p.LastSignIn(a, p.asOf), p.PasswordSet(a)
	if set.Known() && set.Time().After(p.asOf) {
		return nil // no sign of when it lived, and unreadable-value says so
	}
	since, by := last.Time(), p.logonEvidence(a, last)
	if set.After(last.Moment) {
		since = set.Time()
		by = append([]Evidence{evidence(set)}, by...)
	}
	if since.IsZero() || since.After(p.lines.staleComputer) {
		return nil
	}
	f := p.enabled(a)
	if f == nil {
		return nil
	}
	f.Since, f.Evidence = since, by
	if !p.everySignInShown(a, since, p.lines.staleComputer) {
		f.Confidence = Likely
	}
	return f
}

// everySignInShown tells whether a last logon is proved to be the last: all
// servers were asked, or it is so long before the line that even the
// replicated value, which comes late, would show a later one.
func (p *pass) everySignInShown(a *directory.Account, last, line time.Time) bool {
	if p.allAsked && (p.Dialect != directory.AD || p.Shows(a.Kind, directory.AttrLastLogon)) {
		return true
	}
	return p.replicated(a) && !last.After(line.Add(-p.Domain.LogonLag))
}

// replicated tells whether the directory keeps the replicated last logon.
func (p *pass) replicated(a *directory.Account) bool {
	return p.Domain.LogonLag > 0 && p.Shows(a.Kind, directory.AttrLastLogonTimestamp)
}

func (p *pass) logonEvidence(a *directory.Account, last directory.LastSignIn) []Evidence {
	if last.Elsewhere != "" {
		return []Evidence{{"activity", last.Time().Format(time.RFC3339)}, {"source", last.Elsewhere}}
	}
	if !last.Known() {
		return []Evidence{{p.Dialect.LastLogon[0].String(), never}}
	}
	out := []Evidence{evidence(last.Moment)}
	if server := p.LogonServer(a); last.Attr() == directory.AttrLastLogon && server != "" {
		out = append(out, Evidence{"server", server})
	}
	return out
}

func neverUsed(p *pass, a *directory.Account) *Finding {
	last := p.LastSignIn(a, p.asOf)
	if last.Known() || last.Unreadable() || !atOrBefore(a.Created, p.lines.fresh) {
		return nil
	}
	f := p.enabled(a)
	if f == nil {
		return nil
	}
	f.Since, f.Evidence = a.Created.Time(), append(p.logonEvidence(a, last), evidence(a.Created))
	if !p.allAsked && !p.replicated(a) {
		f.Confidence = Likely
	}
	if changed := p.SignInForgotten(a); changed.Known() {
		f.Confidence = Likely
		f.Evidence = append(f.Evidence, evidence(changed),
			Evidence{"note", "this server forgets sign-ins when a password changes"})
	}
	return f
}

// sameDay is how long after its creation an account's password may have been
// set by the one who created it.
const sameDay = 24 * time.Hour

func unjoined(p *pass, a *directory.Account) *Finding {
	last, set := p.LastSignIn(a, p.asOf), p.PasswordSet(a)
	if last.Known() || last.Unreadable() || set.Unreadable() || !atOrBefore(a.Created, p.lines.fresh) {
		return nil
	}
	if set.Known() && set.Time().Sub(a.Created.Time()).Abs() > sameDay {
		return nil
	}
	f := p.enabled(a)
	if f == nil {
		return nil
	}
	f.Since, f.Evidence = a.Created.Time(), append(p.logonEvidence(a, last), evidence(a.Created))
	if set.Present() {
		f.Evidence = append(f.Evidence, evidence(set))
	}
	if !p.allAsked && !p.replicated(a) {
		f.Confidence = Likely
	}
	return f
}

func mustChangeOverdue(p *pass, a *directory.Account) *Finding {
	if !a.MustChange || !atOrBefore(a.Created, p.lines.fresh) {
		return nil
	}
	f := p.enabled(a)
	if f == nil {
		return nil
	}
	mark := Evidence{p.Dialect.MustChange[0].String(), "must change at next logon"}
	f.Since, f.Evidence = a.Created.Time(), []Evidence{mark, evidence(a.Created)}
	return f
}

func expired(p *pass, a *directory.Account) *Finding {
	x, disabled := p.Expired(a, p.asOf), p.Disabled(a, p.asOf)
	if !x.Yes || disabled.Yes || p.Dialect == directory.AD && !a.FlagsKnown {
		return nil
	}
	return &Finding{
		Confidence: confidence(x, disabled),
		Since:      a.Expires.Time(),
		Evidence:   []Evidence{evidence(a.Expires)},
	}
}

// within returns a finding for an enabled account if a moment lies between
// the time of the audit and the end of what is soon.
func (p *pass) within(a *directory.Account, m directory.Moment) *Finding {
	if !m.Known() || !m.Time().After(p.asOf) || m.Time().After(p.lines.soon) {
		return nil
	}
	return p.enabled(a)
}

func expiring(p *pass, a *directory.Account) *Finding {
	for _, m := range []directory.Moment{a.Expires, a.Further().ExpiresAlso} {
		if f := p.within(a, m); f != nil {
			f.Evidence = []Evidence{evidence(m)}
			return f
		}
	}
	return nil
}

func passwordExpiring(p *pass, a *directory.Account) *Finding {
	m := p.PasswordExpires(a)
	f := p.within(a, m)
	if f == nil {
		return nil
	}
	f.Evidence = []Evidence{{"password expires", m.Time().Format(time.RFC3339)}}
	if a.PasswordSet.Known() {
		f.Evidence = append(f.Evidence, evidence(a.PasswordSet))
	}
	return f
}

func early(p *pass, a *directory.Account) *Finding {
	value := ""
	if p.rules.start != directory.AttrUnknown {
		value = a.Text.First(p.rules.start)
	}
	first, err := readDay(value)
	if err != nil || !first.After(p.asOf) {
		return earlyByRoster(p, a)
	}
	f := p.enabled(a)
	if f == nil {
		return nil
	}
	f.Evidence = []Evidence{{p.rules.start.String(), value}}
	return f
}

// readDay reads a day in the forms that directories hold it in: a date, a
// GeneralizedTime, or a file time.
func readDay(value string) (time.Time, error) {
	if t, err := time.Parse(time.DateOnly, value); err == nil {
		return t, nil
	}
	if t, err := time.Parse(time.RFC3339, value); err == nil {
		return t.UTC(), nil
	}
	if t, err := directory.ParseGeneralizedTime(value); err == nil {
		return t, nil
	}
	return directory.ParseFileTime(value)
}
