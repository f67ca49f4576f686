package audit

import (
	"fmt"
	"regexp"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/roster"
	"yardbroom/internal/tracing"
)

// What logs of sign-ins tell. These checks look at nothing where no logs are given.
var logChecks = []*Check{
	{
		Name: "guessed-in", Severity: High, Short: "sign-in after many wrong passwords from the same source",
		Suggest: []string{"disable"}, Kinds: people, Guard: restsOn(enabledAttrs), wants: wantsLogs, judge: guessedIn,
	},
	{
		Name: "guessing-source", Severity: High, Short: "source that tries many accounts with wrong passwords",
		Kinds: anything, overAll: true, Guard: restsOnNothing, wants: wantsLogs, gather: guessingSource,
	},
	{
		Name: "unknown-name", Severity: Low, Short: "unknown account name that is tried again and again",
		Kinds: anything, overAll: true, overEntries: true, Guard: restsOnNothing, wants: wantsLogs, gather: unknownName,
	},
	{
		Name: "barred-tried", Severity: Medium, Short: "sign-in attempts with an account that may not sign in",
		Kinds: accounts, AlsoByRoster: true, Guard: restsOnNothing, wants: wantsLogs, judge: barredTried,
	},
	{
		Name: "locks-again", Severity: Low, Short: "account that was locked out again within a day",
		Kinds: people, Guard: restsOnNothing, wants: wantsLogs, judge: locksAgain,
	},
	{
		Name: "privileged-workstation", Severity: High, Short: "privileged account used at an ordinary computer",
		Kinds: people, Guard: restsOnNothing, wants: wantsAdminMachines, judge: privilegedWorkstation,
		builtIn: func(a *directory.Account) bool { return a.RID == 500 },
	},
	{
		Name: "service-interactive", Severity: Medium, Short: "service account used to sign in at a computer",
		Kinds: people, Guard: restsOnNothing, wants: wantsLogs, judge: serviceInteractive,
	},
}

func wantsLogs(p *pass) string {
	if p.logs == nil {
		return "no logs are given (logs of the settings, or --log)"
	}
	return ""
}

func wantsAdminMachines(p *pass) string {
	if why := wantsLogs(p); why != "" {
		return why
	}
	if len(p.rules.adminMachines) == 0 {
		return "the settings do not say at which machines privileged accounts may sign in (audit: admin_machines)"
	}
	return wantsPrivilege(p)
}

func matchesAny(patterns []*regexp.Regexp, text string) bool {
	for _, one := range patterns {
		if one.MatchString(text) {
			return true
		}
	}
	return false
}

func stampText(t time.Time) string { return t.UTC().Format(time.RFC3339) }

// guessedIn looks for a sign-in that came after many refusals from the same source: more
// than somebody mistypes.
func guessedIn(p *pass, a *directory.Account) *Finding {
	g := p.logs.Of(a).Guessed
	if g == nil || g.Failures < p.set.GuessFailures || g.At.After(p.asOf) {
		return nil
	}
	return &Finding{Since: g.At, Evidence: []Evidence{{"source", g.Source}, {"refused within an hour", fmt.Sprint(g.Failures)}, {"signed in", stampText(g.At)}}}
}

// sourceOf is what a finding about a machine or an address is about, or a name.
func sourceOf(name string) *directory.Subject {
	return &directory.Subject{Kind: directory.KindSource, Logon: name, ID: strings.ToLower(name)}
}

func guessingSource(p *pass, report func(*directory.Subject, Finding)) {
	for _, o := range p.logs.Origins {
		if !p.guessing()[o.Name] || o.First.After(p.asOf) {
			continue
		}
		f := Finding{Since: o.First, Evidence: []Evidence{{"accounts refused", fmt.Sprint(o.Accounts)}, {"names that no account has", fmt.Sprint(o.Strangers)},
			{"accounts signed in", fmt.Sprint(o.In)}, {"last", stampText(o.Last)}}}
		if o.Breached > 0 {
			f.Evidence = append(f.Evidence, Evidence{"signed in after being refused", fmt.Sprint(o.Breached)})
		}
		report(sourceOf(o.Name), f)
	}
}

// findGuessing are the sources that guess: what these have tried is one finding.
func (p *pass) findGuessing() map[string]bool {
	all := map[string]bool{}
	for _, o := range p.logs.Origins {
		all[o.Name] = o.Guesses() && o.Accounts+o.Strangers >= p.set.GuessAccounts
	}
	return all
}

func unknownName(p *pass, report func(*directory.Subject, Finding)) {
	for _, s := range p.logs.Strangers {
		if s.Refused < p.set.UnknownNameTries || p.guessing()[s.Source] || s.First.After(p.asOf) {
			continue
		}
		f := Finding{Since: s.First, Evidence: []Evidence{{"refused", fmt.Sprint(s.Refused)}, {"source", s.Source}, {"last", stampText(s.Last)}}}
		if len(p.hiding()) > 0 {
			f.Confidence = Likely
		}
		report(sourceOf(s.Name), f)
	}
}

// barredTried goes by the server's own answer where it says why it has refused somebody,
// else by what the directory, the roster and open batches say of the account now.
func barredTried(p *pass, a *directory.Account) *Finding {
	s := p.logs.Of(a)
	if s.Refused == 0 || s.First.After(p.asOf) || p.guessing()[s.Source] {
		return nil
	}
	last := Evidence{"last", stampText(s.Last)}
	if b := s.Barred; b.Count > 0 {
		return &Finding{Since: b.First, Evidence: []Evidence{{"refused", fmt.Sprintf("%d, since it is %s", b.Count, b.Why)}, {"source", b.Source}, {"last", stampText(b.Last)}}}
	}
	f := &Finding{Since: s.First, Confidence: Likely, Evidence: []Evidence{{"refused", fmt.Sprint(s.Refused)}, {"source", s.Source}, last}}
	switch {
	case p.Disabled(a, p.asOf).Yes:
		f.Evidence = append(f.Evidence, Evidence{"state", "disabled"})
		return f
	case p.Expired(a, p.asOf).Yes:
		f.Evidence = append(f.Evidence, Evidence{"state", "expired"})
		return f
	case p.suspended[a.ID] != "":
		f.Evidence = append(f.Evidence, Evidence{"suspended", p.suspended[a.ID]})
		return f
	}
	if p.people == nil {
		return nil
	}
	pair, who := p.pair(a)
	if pair == nil || who.State != roster.Left && who.State != roster.Leave {
		return nil
	}
	if who.State == roster.Left && !who.LeftOn.IsZero() && s.Last.Before(p.midnight(who.LeftOn).AddDate(0, 0, 1)) {
		return nil // while they still worked here
	}
	f.Evidence = append(f.Evidence, Evidence{"roster", PersonName(who) + ", " + string(who.State)})
	return f
}

// locksAgain takes the last two locks that follow each other within the time of the
// settings.
func locksAgain(p *pass, a *directory.Account) *Finding {
	s := p.logs.Of(a)
	for i := len(s.Locks) - 1; i > 0; i-- {
		first, again := s.Locks[i-1], s.Locks[i]
		if again.After(p.asOf) || again.After(p.set.LocksAgainWithin.After(first)) {
			continue
		}
		f := &Finding{Since: first, Evidence: []Evidence{{"locked out", stampText(first)}, {"again", stampText(again)}, {"times", fmt.Sprint(len(s.Locks))}}}
		if s.Source != "" {
			f.Evidence = append(f.Evidence, Evidence{"source", s.Source})
		}
		return f
	}
	return nil
}

func privilegedWorkstation(p *pass, a *directory.Account) *Finding {
	reached := p.graph().Of(a)
	if len(reached) == 0 {
		return nil
	}
	for _, u := range p.logs.Of(a).Uses {
		if u.Machine != "" && !u.First.After(p.asOf) && !matchesAny(p.rules.adminMachines, u.Machine) {
			return &Finding{Since: u.First, Evidence: append(useEvidence(&u), reachEvidence(reached)...)}
		}
	}
	return nil
}

func useEvidence(u *tracing.Use) []Evidence {
	return []Evidence{{"machine", u.Machine}, {"signed in", u.Via}, {"times", fmt.Sprint(u.Count)}, {"last", stampText(u.Last)}}
}

// serviceInteractive knows service accounts by their class, by a service's name on them,
// or by the pattern of the settings.
func serviceInteractive(p *pass, a *directory.Account) *Finding {
	var why Evidence
	switch {
	case a.Kind == directory.KindService:
		why = Evidence{"kind", "service"}
	case a.Present.Has(directory.AttrServicePrincipalName):
		why = Evidence{directory.AttrServicePrincipalName.String(), "present"}
	case p.rules.service.MatchString(a.Logon):
		why = Evidence{"account", "named as a service account is (service_account_pattern)"}
	default:
		return nil
	}
	for _, u := range p.logs.Of(a).Uses {
		if !u.First.After(p.asOf) {
			return &Finding{Since: u.First, Evidence: append(useEvidence(&u), why)}
		}
	}
	return nil
}
