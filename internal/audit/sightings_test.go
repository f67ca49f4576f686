package audit

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/logs"
	"yardbroom/internal/settings"
	"yardbroom/internal/tracing"
)

// watch is what some events say of the accounts of a survey.
func watch(t *testing.T, s *directory.Survey, events ...[]logs.Event) *tracing.Watch {
	t.Helper()
	c := &tracing.Collector{Book: &tracing.Book{Realms: []string{"x"}, Base: "dc=x"}, Everybody: true}
	var accounts []*directory.Account
	for a := range s.Accounts.All() {
		c.Book.Add(len(accounts), tracing.Names{Logon: a.Logon, DN: a.DN})
		accounts = append(accounts, a)
	}
	for _, some := range events {
		for i := range some {
			require.NoError(t, c.Take(&some[i]))
		}
	}
	return c.Watch(accounts, func(*directory.Account, *tracing.Trace) {})
}

// times are events of one kind, some minutes apart, the first so many hours ago.
func times(n int, who, from string, hours, apart float64, change func(*logs.Event)) (all []logs.Event) {
	for i := range n {
		e := logs.Event{At: asOf.Add(-time.Duration(hours*float64(time.Hour)) + time.Duration(float64(i)*apart*float64(time.Minute))), What: logs.Refused, Why: logs.WrongPassword,
			Name: who, Kind: "4625", Machine: from}
		if a, err := netip.ParseAddr(from); err == nil {
			e.Address, e.Machine = a, ""
		}
		if change != nil {
			change(&e)
		}
		all = append(all, e)
	}
	return all
}

func signedIn(who, from string, hours float64, of logs.LogonType) []logs.Event {
	return times(1, who, from, hours, 0, func(e *logs.Event) { e.What, e.Type = logs.SignedIn, of })
}

func why(w logs.Why) func(*logs.Event) { return func(e *logs.Event) { e.Why = w } }

func TestChecksFromLogs(t *testing.T) {
	s := survey(directory.AD, domain, user("guessed"), user("nine"), user("elsewhere"), user("late"), user("off", "userAccountControl=514"), user("was-off", "userAccountControl=514"),
		user("fine"), user("expired", "accountExpires="+ticks(30)), user("twice"), user("rarely"), user("one-lock"), user("svc-scan"), user("web", "servicePrincipalName=http/web.x"), user("svc-net"),
		user("human"))
	locked := func(e *logs.Event) { e.What = logs.Locked }
	w := watch(t, s,
		times(10, "guessed", "10.0.0.9", 5, 3, nil), signedIn("guessed", "10.0.0.9", 4.4, logs.Network),
		times(9, "nine", "10.0.0.8", 5, 3, nil), signedIn("nine", "10.0.0.8", 4.4, logs.Network),
		times(10, "elsewhere", "10.0.0.7", 5, 3, nil), signedIn("elsewhere", "10.0.1.7", 4.4, logs.Network),
		times(10, "late", "10.0.0.6", 9, 3, nil), signedIn("late", "10.0.0.6", 2, logs.Network),

		times(2, "off", "PC1", 7, 60, why(logs.AccountDisabled)), times(1, "was-off", "PC2", 7, 0, nil), times(1, "fine", "PC3", 7, 0, nil), times(1, "expired", "PC4", 7, 0, why(logs.AccountExpired)),

		times(2, "twice", "", 30, 23*60, locked), times(2, "rarely", "", 60, 25*60, locked), times(2, "one-lock", "", 20, 1, locked), times(3, "twice", "PC5", 30, 2, nil),

		signedIn("svc-scan", "PC6", 8, logs.RemoteInteractive), signedIn("web", "PC7", 8, logs.Interactive), signedIn("svc-net", "PC8", 8, logs.Service), signedIn("human", "PC9", 8, logs.Interactive),

		times(3, "gone.task", "SRV1", 9, 60, why(logs.NoSuchAccount)), times(2, "typo", "SRV1", 9, 60, why(logs.NoSuchAccount)))
	r := run(t, s, nil, Options{Logs: w})
	assert.Equal(t, []string{"guessed"}, who(r, "guessed-in"))
	assert.Equal(t, []string{"source=10.0.0.9", "refused within an hour=10", "signed in=" + asOf.Add(-264*time.Minute).Format(time.RFC3339)}, proof(r, "guessed-in", "guessed"))
	assert.Equal(t, []string{"expired sure 0", "off sure 0", "was-off likely 0"}, found(r, "barred-tried"))
	assert.Equal(t, []string{"refused=2, since it is disabled", "source=PC1", "last=" + asOf.Add(-6*time.Hour).Format(time.RFC3339)}, proof(r, "barred-tried", "off"))
	assert.Equal(t, []string{"twice"}, who(r, "locks-again"), "25 hours apart, or told by two servers, is not again")
	assert.Equal(t, []string{"svc-scan", "web"}, who(r, "service-interactive"), "a service that starts, or a person, is as it should be")
	assert.Equal(t, []string{"gone.task"}, who(r, "unknown-name"), "twice is a typing mistake")
	assert.Empty(t, who(r, "guessing-source"))

	exempted := run(t, s, nil, Options{Logs: w, Exemptions: []Exemption{{Exemption: settings.Exemption{Match: settings.Match{Account: "twice"}}}, {Exemption: settings.Exemption{Match: settings.Match{Account: "gone.task"}}}}})
	assert.Empty(t, who(exempted, "locks-again"))
	assert.Empty(t, who(exempted, "unknown-name"))

	without := run(t, s, nil, Options{})
	for _, c := range logChecks {
		for _, sum := range without.Summary {
			if sum.Check == c.Name {
				assert.False(t, sum.Looked, c.Name)
				assert.NotEmpty(t, sum.NotLooked, c.Name)
			}
		}
	}
}

func TestGuessingSources(t *testing.T) {
	var people []directory.Entry
	for i := range 12 {
		people = append(people, user(fmt.Sprintf("p%d", i)))
	}
	s := survey(directory.AD, append(people, domain)...)
	tries := func(from string, accounts, strangers, in int) (all []logs.Event) {
		for i := range accounts {
			all = append(all, times(1, fmt.Sprintf("p%d", i), from, 5, 0, nil)...)
			if i < in {
				all = append(all, times(1, fmt.Sprintf("p%d", i), from, 4, 0, func(e *logs.Event) { e.What = logs.SignedIn })...)
			}
		}
		for i := range strangers {
			all = append(all, times(4, fmt.Sprintf("made-up-%d-%s", i, from[len(from)-1:]), from, 5, 1, nil)...)
		}
		return all
	}
	w := watch(t, s, tries("203.0.113.9", 6, 4, 0), tries("203.0.113.8", 6, 3, 0), tries("10.0.0.1", 12, 0, 4), tries("203.0.113.7", 12, 0, 3))
	r := run(t, s, nil, Options{Logs: w})
	assert.Equal(t, []string{"203.0.113.7", "203.0.113.9"}, who(r, "guessing-source"), "nine names are too few, and a gateway lets many in")
	assert.Equal(t, []string{"accounts refused=6", "names that no account has=4", "accounts signed in=0", "last=" + asOf.Add(-297*time.Minute).Format(time.RFC3339)}, proof(r, "guessing-source", "203.0.113.9"))
	assert.Contains(t, proof(r, "guessing-source", "203.0.113.7"), "signed in after being refused=3")
	assert.NotContains(t, who(r, "unknown-name"), "made-up-0-9", "what a source guesses is no finding of its own")
}

func TestPrivilegedAccountsAtOrdinaryMachines(t *testing.T) {
	s := survey(directory.AD, domain, user("a-ada"), user("ada"),
		entry("CN=Domain Admins,DC=x", "objectClass=group", "objectSid="+rid(512), "sAMAccountName=Domain Admins", "groupType=-2147483646", "member=CN=a-ada,OU=Staff,DC=x"),
		entry("CN=Administrators,DC=x", "objectClass=group", "objectSid="+sid("S-1-5-32-544"), "sAMAccountName=Administrators", "groupType=-2147483643"))
	patterns := func(set *settings.Settings) { set.Audit.AdminMachines = []string{"^DC", "^PAW-"} }
	for name, c := range map[string]struct {
		events []logs.Event
		want   []string
	}{
		"at an ordinary one":          {signedIn("a-ada", "PC1", 4, logs.Interactive), []string{"a-ada"}},
		"at a desk for that":          {signedIn("a-ada", "PAW-3", 4, logs.Interactive), nil},
		"over the network":            {signedIn("a-ada", "PC1", 4, logs.Network), nil},
		"somebody without privileges": {signedIn("ada", "PC1", 4, logs.Interactive), nil},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.want, who(run(t, s, patterns, Options{Logs: watch(t, s, c.events)}), "privileged-workstation"))
		})
	}
	assert.Empty(t, who(run(t, s, nil, Options{Logs: watch(t, s, signedIn("a-ada", "PC1", 4, logs.Interactive))}), "privileged-workstation"), "not looked at without the setting")
}

func TestWhoHasLeftAndStillTries(t *testing.T) {
	s := survey(directory.AD, domain, user("gone", "employeeID=1"), user("last-day", "employeeID=2"), user("away", "employeeID=3"), user("here", "employeeID=4"))
	w := watch(t, s, times(2, "gone", "PHONE", 4, 10, nil), times(1, "last-day", "PHONE2", 24*4-2, 0, nil), times(1, "away", "PHONE3", 4, 0, nil), times(1, "here", "PHONE4", 4, 0, nil))
	r := withRoster(t, s, nil, Options{Logs: w}, "1|Quill|Ada|||||||2026-11-18|left", "2|Tern|Bram|||||||2026-11-20|left", "3|Birk|Clara||||||||leave", "4|Hollis|Dov||||||||active")
	assert.Equal(t, []string{"away likely 0", "gone likely 0"}, found(r, "barred-tried"))
	assert.Contains(t, proof(r, "barred-tried", "gone"), "roster=Quill, Ada (1), left")
}
