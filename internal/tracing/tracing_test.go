package tracing

import (
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/logs"
	"yardbroom/internal/source"
)

var day = time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)

func minutes(n float64) time.Time { return day.Add(time.Duration(n * float64(time.Minute))) }

// book knows four accounts.
func book() *Book {
	b := &Book{Realms: []string{"larkmoor.example", "LARKMOOR"}, SID: "S-1-5-21-1-2-3", Base: "dc=larkmoor,dc=example"}
	for i, n := range []string{"ada.quill", "bo.off", "cleo", "svc-scan"} {
		b.Add(i, Names{Logon: n, Also: []string{n + "@larkmoor.example"}, DN: "CN=" + n + ",OU=Staff,DC=larkmoor,DC=example", SID: "S-1-5-21-1-2-3-" + string(rune('5'+i))})
	}
	b.Add(4, Names{Logon: "PC1$", DN: "CN=PC1,DC=larkmoor,DC=example", SID: "S-1-5-21-1-2-3-1200"})
	return b
}

func TestNamesAreJoinedToAccounts(t *testing.T) {
	b := book()
	for _, c := range []struct {
		e      logs.Event
		number int
		m      Match
	}{
		{logs.Event{Name: "ada.quill"}, 0, Known},
		{logs.Event{Name: "ADA.Quill", Domain: "larkmoor"}, 0, Known},
		{logs.Event{Name: `LARKMOOR\ada.quill`}, 0, Known},
		{logs.Event{Name: `.\ada.quill`}, 0, Known},
		{logs.Event{Name: "ada.quill@larkmoor.example"}, 0, Known},
		{logs.Event{Name: "ada.quill@LARKMOOR"}, 0, Known},
		{logs.Event{Name: "cn=Ada.Quill, ou=staff, dc=larkmoor, dc=example"}, 0, Known},
		{logs.Event{Name: "whatever", SID: "S-1-5-21-1-2-3-6"}, 1, Known},
		{logs.Event{Name: "PC1$", Domain: "LARKMOOR"}, 4, Known},
		{logs.Event{Name: "ada.quill", Domain: "PC1"}, 0, Elsewhere}, // an account of that machine only
		{logs.Event{Name: `OTHER\ada.quill`}, 0, Elsewhere},
		{logs.Event{Name: "ada.quill@other.example"}, 0, Elsewhere},
		{logs.Event{Name: "ada.quill", SID: "S-1-5-21-9-9-9-5"}, 0, Elsewhere},
		{logs.Event{Name: "gone", SID: "S-1-5-21-1-2-3-777"}, 0, Nobody}, // a deleted account
		{logs.Event{Name: "ghost", Domain: "LARKMOOR"}, 0, Nobody},
		{logs.Event{Name: "cn=ghost,dc=larkmoor,dc=example"}, 0, Nobody},
		{logs.Event{Name: "cn=admin,dc=other,dc=example"}, 0, Elsewhere},
		{logs.Event{Name: "a=b"}, 0, Elsewhere},
		{logs.Event{Name: "PC1"}, 0, Nobody},
	} {
		number, m := b.Find(&c.e)
		assert.Equal(t, c.m, m, "%+v", c.e)
		assert.Equal(t, c.number, number, "%+v", c.e)
	}
	b.Add(9, Names{Logon: "bo.off", DN: "uid=bo.off,ou=other,dc=larkmoor,dc=example"})
	_, m := b.Find(&logs.Event{Name: "bo.off"})
	assert.Equal(t, Several, m, "two of a name are nobody's")
	number, m := b.Find(&logs.Event{Name: "uid=bo.off,ou=other,dc=larkmoor,dc=example"})
	assert.Equal(t, Known, m)
	assert.Equal(t, 9, number)
}

// try is an event of a story: when, in minutes, who, from where and what came of it.
func try(at float64, who, from string, why logs.Why) logs.Event {
	e := logs.Event{At: minutes(at), What: logs.Refused, Why: why, Name: who, Via: "LDAP", Kind: "slapd"}
	if a, err := netip.ParseAddr(from); err == nil {
		e.Address = a
	} else {
		e.Machine = from
	}
	return e
}

func in(at float64, who, from string) logs.Event {
	e := try(at, who, from, 0)
	e.What = logs.SignedIn
	return e
}

func every(step float64, n int, who, from string) (all []logs.Event) {
	for i := range n {
		all = append(all, try(float64(i)*step, who, from, logs.WrongPassword))
	}
	return all
}

// tell is the trace of the first account, with what comes from its sources.
func tell(t *testing.T, c *Case, events ...[]logs.Event) (*Trace, Judgement) {
	t.Helper()
	collector := &Collector{Book: book(), Everybody: true}
	for _, some := range events {
		for i := range some {
			require.NoError(t, collector.Take(&some[i]))
		}
	}
	var found *Trace
	collector.Each(func(tr *Trace) {
		if tr.Number == 0 {
			found = tr
		}
	})
	require.NotNil(t, found)
	if c.To.IsZero() {
		c.To = collector.Last
	}
	if c.From.IsZero() {
		c.From = collector.First
	}
	c.Origins = collector.Origins()
	return found, found.Judge(c)
}

func TestJudgements(t *testing.T) {
	const ada = "ada.quill"
	asService := func(all []logs.Event) []logs.Event {
		for i := range all {
			all[i].Type, all[i].Via = logs.Service, "service"
		}
		return all
	}
	spray := func(n int) (all []logs.Event) {
		for i := range n {
			all = append(all, try(float64(i)/10, "made-up-"+string(rune('a'+i)), "203.0.113.9", logs.NoSuchAccount))
		}
		return append(all, try(1, "bo.off", "203.0.113.9", logs.WrongPassword), try(1.1, "cleo", "203.0.113.9", logs.WrongPassword))
	}
	many := func(n int, step float64) (all []logs.Event) {
		for i := range n {
			all = append(all, try(float64(i)*step, ada, fmt.Sprintf("10.9.9.%d", i+1), logs.WrongPassword))
		}
		return all
	}
	nights := []logs.Event{}
	for _, m := range []float64{0, 13, 200, 290, 411, 640, 700, 980, 1100, 1240} {
		nights = append(nights, try(m, ada, "PHONE-7", logs.WrongPassword))
	}
	locking := &Case{MaxFailures: 5, Window: 30 * time.Minute}
	counted := func(wrong int) *Case {
		return &Case{MaxFailures: 5, Servers: []source.Failures{{Server: "dc1"}, {Server: "dc2", Wrong: wrong}}}
	}
	for _, c := range []struct {
		name   string
		c      *Case
		events [][]logs.Event
		want   string
		sure   bool
		unlock Unlock
	}{
		{"a phone every ten minutes, after a new password", &Case{PasswordSet: day.Add(-5 * time.Minute), From: day.AddDate(0, 0, -3)},
			[][]logs.Event{every(10, 8, ada, "PHONE-7")}, "a stored password on PHONE-7", true, UnlockWillNotLast},
		{"the same, that signed in before", &Case{PasswordSet: day.Add(-5 * time.Minute)},
			[][]logs.Event{{in(-60, ada, "PHONE-7")}, every(10, 8, ada, "PHONE-7")}, "a stored password on PHONE-7", true, UnlockWillNotLast},
		{"the same, with logs that begin with it", &Case{PasswordSet: day.Add(-5 * time.Minute)},
			[][]logs.Event{every(10, 8, ada, "PHONE-7")}, "a stored password on PHONE-7", false, UnlockWillNotLast},
		{"the same, with an old password", &Case{PasswordSet: day.AddDate(0, -3, 0), From: day.AddDate(0, 0, -3)},
			[][]logs.Event{every(10, 8, ada, "PHONE-7")}, "a stored password on PHONE-7", false, UnlockWillNotLast},
		{"it has stopped", &Case{To: day.Add(5 * time.Hour)}, [][]logs.Event{every(10, 8, ada, "PHONE-7")}, "a stored password on PHONE-7", false, UnlockHelps},
		{"now and then a try is missing", locking, [][]logs.Event{every(10, 5, ada, "PHONE-7"), {try(60, ada, "PHONE-7", logs.WrongPassword), try(70, ada, "PHONE-7", logs.AccountLocked)}},
			"a stored password on PHONE-7", false, UnlockWillNotLast},
		{"three tries are too few for a rhythm", locking, [][]logs.Event{every(10, 3, ada, "PHONE-7")}, "not known", false, UnlockUnknown},
		{"uneven, day and night", locking, [][]logs.Event{nights}, "a stored password on PHONE-7", false, UnlockWillNotLast},
		{"uneven, by day only", locking, [][]logs.Event{nights[:8]}, "not known", false, UnlockUnknown},
		{"a service asks twice", locking, [][]logs.Event{asService([]logs.Event{try(0, ada, "SRV2", logs.WrongPassword), try(33, ada, "SRV2", logs.WrongPassword)})},
			"a stored password on SRV2", false, UnlockWillNotLast},

		{"three mistakes and in", locking, [][]logs.Event{{try(0, ada, "PC1", logs.WrongPassword), try(0.3, ada, "PC1", logs.WrongPassword), try(1, ada, "PC1", logs.WrongPassword), in(2, ada, "PC1")}},
			"somebody typing at PC1", true, UnlockHelps},
		{"in from another machine", locking, [][]logs.Event{{try(0, ada, "PC1", logs.WrongPassword), in(2, ada, "PC2")}}, "somebody typing at PC1", false, UnlockHelps},
		{"in from elsewhere first, and then from there", locking, [][]logs.Event{{try(0, ada, "PC1", logs.WrongPassword), in(2, ada, "PC2"), in(3, ada, "PC1")}}, "somebody typing at PC1", true, UnlockHelps},
		{"mistakes like clockwork, and in", locking, [][]logs.Event{every(0.5, 6, ada, "PC1"), {in(4, ada, "PC2")}}, "a stored password on PC1", false, UnlockWillNotLast},
		{"in the next day", locking, [][]logs.Event{{try(0, ada, "PC1", logs.WrongPassword), in(1440, ada, "PC1")}}, "not known", false, UnlockUnknown},
		{"eleven mistakes and in", locking, [][]logs.Event{every(0.4, 11, ada, "PC1"), {in(6, ada, "PC2")}}, "a stored password on PC1", false, UnlockWillNotLast},

		{"many names from one address", locking, [][]logs.Event{spray(8), {try(2, ada, "203.0.113.9", logs.WrongPassword)}}, "guessing from 203.0.113.9", true, UnlockWillNotLast},
		{"five names", locking, [][]logs.Event{spray(2), {try(2, ada, "203.0.113.9", logs.WrongPassword)}}, "guessing from 203.0.113.9", false, UnlockWillNotLast},
		{"four names", locking, [][]logs.Event{spray(1), {try(2, ada, "203.0.113.9", logs.WrongPassword)}}, "not known", false, UnlockUnknown},
		{"a gateway, where most sign in", locking, [][]logs.Event{spray(2), {try(2, ada, "203.0.113.9", logs.WrongPassword), in(3, "bo.off", "203.0.113.9"), in(3, "cleo", "203.0.113.9")}},
			"not known", false, UnlockUnknown},
		{"a guesser besides, who is not most of it", locking, [][]logs.Event{spray(8), {try(2, ada, "203.0.113.9", logs.WrongPassword)}, every(10, 5, ada, "PHONE-7")},
			"a stored password on PHONE-7", false, UnlockWillNotLast},
		{"five machines in an hour", locking, [][]logs.Event{many(5, 9)}, "guessing from 5 sources", false, UnlockWillNotLast},
		{"five machines in exactly an hour", locking, [][]logs.Event{many(5, 15)}, "guessing from 5 sources", false, UnlockWillNotLast},
		{"five machines in more than an hour", locking, [][]logs.Event{many(5, 15.1)}, "not known", false, UnlockUnknown},
		{"twenty machines in an hour", locking, [][]logs.Event{many(20, 2)}, "guessing from 20 sources", true, UnlockWillNotLast},
		{"four machines in an hour", locking, [][]logs.Event{many(4, 9)}, "not known", false, UnlockUnknown},
		{"five machines in a day", locking, [][]logs.Event{many(5, 200)}, "not known", false, UnlockUnknown},

		{"wrong, and never counted", counted(0), [][]logs.Event{every(7, 3, ada, "PHONE-7")}, "an old password on PHONE-7", false, UnlockChangesNothing},
		{"wrong, and counted by one server", counted(1), [][]logs.Event{every(7, 3, ada, "PHONE-7")}, "not known", false, UnlockUnknown},
		{"wrong, and one server has not answered", &Case{MaxFailures: 5, Servers: []source.Failures{{Server: "dc1"}, {Server: "dc2", Err: assert.AnError}}}, [][]logs.Event{every(7, 3, ada, "PHONE-7")},
			"not known", false, UnlockUnknown},
		{"wrong, where nothing locks", &Case{Servers: []source.Failures{{Server: "dc1"}}}, [][]logs.Event{every(7, 3, ada, "PHONE-7")}, "not known", false, UnlockUnknown},
		{"signed in after it, which clears the count", &Case{MaxFailures: 5, SignedIn: minutes(60), Servers: []source.Failures{{Server: "dc1"}}}, [][]logs.Event{every(7, 3, ada, "PHONE-7")},
			"not known", false, UnlockUnknown},

		{"clocks", locking, [][]logs.Event{{try(0, ada, "PC1", logs.ClockSkew), try(9, ada, "PC1", logs.ClockSkew), try(10, ada, "PC1", logs.WrongPassword)}}, "clocks that differ on PC1", true, UnlockChangesNothing},
		{"encryption", locking, [][]logs.Event{{try(0, ada, "NAS", logs.Encryption)}}, "no encryption that both sides know on NAS", true, UnlockChangesNothing},
		{"one of clocks among wrong ones", locking, [][]logs.Event{{try(7.01, ada, "PC1", logs.ClockSkew)}, every(7, 5, ada, "PC1")}, "a stored password on PC1", false, UnlockWillNotLast},
		{"disabled", locking, [][]logs.Event{{try(0, ada, "PC1", logs.AccountDisabled), try(50, ada, "PC1", logs.AccountDisabled)}}, "the account itself: it is disabled", true, UnlockChangesNothing},
		{"disabled at last, wrong before", locking, [][]logs.Event{every(33, 3, ada, "PC1"), {try(250, ada, "PC1", logs.AccountDisabled)}}, "not known", false, UnlockUnknown},
		{"never refused", locking, [][]logs.Event{{in(0, ada, "PC1")}}, "nobody was refused", false, UnlockUnknown},
	} {
		t.Run(c.name, func(t *testing.T) {
			kase := *c.c
			tr, j := tell(t, &kase, c.events...)
			assert.Equal(t, c.want, j.Verdict())
			assert.Equal(t, c.sure, j.Sure, "sure")
			assert.Equal(t, c.unlock, j.Unlock)
			if j.Settled() {
				kase.Origins = nil
				assert.Equal(t, j, tr.Judge(&kase), "what its source does elsewhere changes nothing")
			}
			if j.Cause != None {
				assert.NotEmpty(t, j.Because(&kase, time.UTC))
				assert.NotEmpty(t, j.Do())
			}
		})
	}
}

func TestWhenItWillBeLockedAgain(t *testing.T) {
	for _, c := range []struct {
		name   string
		max    int
		window time.Duration
		step   float64
		want   time.Duration
	}{
		{"five tries of ten minutes", 5, time.Hour, 10, 50 * time.Minute},
		{"the count is reset before", 5, 9 * time.Minute, 10, 0},
		{"how many lock is not known", 0, 0, 10, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, j := tell(t, &Case{MaxFailures: c.max, Window: c.window}, every(c.step, 8, "ada.quill", "PHONE-7"))
			assert.Equal(t, c.want, j.Again)
			assert.True(t, j.Going)
		})
	}
}

// What begins within a day of a new password began with it.
func TestBeganWithTheNewPassword(t *testing.T) {
	for hours, want := range map[float64]bool{0.1: true, 24: true, 24.1: false, -0.01: true, -1: false} {
		c := &Case{PasswordSet: day.Add(-time.Duration(hours * float64(time.Hour))), From: day.AddDate(0, -1, 0)}
		_, j := tell(t, c, every(10, 8, "ada.quill", "PHONE-7"))
		assert.Equal(t, want, j.Began, "%v hours", hours)
	}
}

func TestRhythms(t *testing.T) {
	for name, c := range map[string]struct {
		minutes []float64
		want    string
	}{
		"three":                      {[]float64{0, 10, 20}, ""},
		"four":                       {[]float64{0, 10, 20, 30}, "every 10 min"},
		"each asked twice":           {[]float64{0, 0.05, 10, 10.05, 20, 20.05, 30, 30.05}, "every 10 min"},
		"two left out":               {[]float64{0, 10, 20, 50, 60}, "every 10 min"},
		"give or take a fifth":       {[]float64{0, 10, 22, 30, 40}, "every 10 min"},
		"more than that":             {[]float64{0, 10, 23, 30, 44}, "uneven"},
		"by day":                     {[]float64{0, 50, 80, 200, 330, 390, 500, 520, 600}, "uneven"},
		"with the night":             {[]float64{0, 50, 300, 420, 700, 900, 1000, 1250, 1300}, "day and night"},
		"with a night of five hours": {[]float64{0, 50, 80, 200, 330, 631, 900, 1000, 1250}, "uneven"},
	} {
		t.Run(name, func(t *testing.T) {
			var times []time.Time
			for _, m := range c.minutes {
				times = append(times, minutes(m))
			}
			assert.Equal(t, c.want, rhythmOf(times).Describe())
		})
	}
}

func TestSeen(t *testing.T) {
	at := func(minute float64, who, machine string, kind logs.LogonType) logs.Event {
		e := in(minute, who, machine)
		e.Type = kind
		return e
	}
	lock := func(minute float64) logs.Event {
		e := try(minute, "ada.quill", "", 0)
		e.What = logs.Locked
		return e
	}
	tr, _ := tell(t, &Case{}, []logs.Event{at(0, "ada.quill", "PC1", logs.Interactive), at(5, "ada.quill", "PC1", logs.Interactive), at(6, "ada.quill", "PC1", logs.RemoteInteractive),
		at(7, "ada.quill", "PC2", logs.Interactive), at(8, "ada.quill", "SRV", logs.Service), lock(10), lock(11.5), lock(14), try(20, "ada.quill", "PC3", logs.Revoked), try(30, "ada.quill", "PC4", logs.AccountDisabled)})
	s := tr.Seen()
	assert.Equal(t, []time.Time{minutes(10), minutes(14)}, s.Locks)
	assert.Equal(t, Refusals{Count: 2, Why: logs.AccountDisabled, First: minutes(20), Last: minutes(30), Source: "PC4"}, s.Barred)
	assert.Equal(t, []Use{{Machine: "PC1", Via: "LDAP", Type: logs.Interactive, First: minutes(0), Last: minutes(5), Count: 2},
		{Machine: "PC1", Via: "LDAP", Type: logs.RemoteInteractive, First: minutes(6), Last: minutes(6), Count: 1},
		{Machine: "PC2", Via: "LDAP", Type: logs.Interactive, First: minutes(7), Last: minutes(7), Count: 1}}, s.Uses)
	assert.Equal(t, "SRV", s.In.Machine, "the last of all")
}

// What several servers write of one attempt is one; what one server writes twice is two.
func TestReportsOfOneAttemptAreMerged(t *testing.T) {
	ntlm := logs.Event{At: day, What: logs.Refused, Why: logs.WrongPassword, Code: "0xc000006a", Name: "ada.quill", Machine: `\\PHONE-7`, Via: "NTLM", Kind: "4776", Server: "dc1"}
	member := logs.Event{At: day.Add(time.Second), What: logs.Refused, Why: logs.WrongPassword, Name: "ada.quill", Domain: "LARKMOOR", Machine: "PHONE-7", Address: netip.MustParseAddr("10.1.2.3"),
		Via: "network", Type: logs.Network, Kind: "4625", Server: "srv2"}
	late, elsewhere, other, unsure, nobody := member, member, member, member, member
	unsure.Why, unsure.Code, unsure.Machine, unsure.Kind = logs.WrongOrLocked, "err=49", "", "slapd"
	nobody.Why = logs.NoSuchAccount
	late.At = day.Add(3 * time.Second)
	elsewhere.Machine = "PC1"
	other.What = logs.SignedIn
	for _, c := range []struct {
		name   string
		events []logs.Event
		want   int
	}{
		{"of two servers", []logs.Event{ntlm, member}, 1},
		{"in the other order", []logs.Event{member, ntlm}, 1},
		{"too far apart", []logs.Event{ntlm, late}, 2},
		{"from elsewhere", []logs.Event{ntlm, elsewhere}, 2},
		{"with another outcome", []logs.Event{ntlm, other}, 2},
		{"for another reason", []logs.Event{ntlm, nobody}, 2},
		{"by one that does not know the reason", []logs.Event{ntlm, unsure}, 1},
		{"two of one kind", []logs.Event{ntlm, ntlm}, 2},
		{"two attempts, each told twice", []logs.Event{ntlm, ntlm, member, member}, 2},
	} {
		t.Run(c.name, func(t *testing.T) {
			tr, _ := tell(t, &Case{}, c.events)
			assert.Len(t, tr.Attempts, c.want)
		})
	}
	tr, _ := tell(t, &Case{}, []logs.Event{ntlm, member})
	a := tr.Attempts[0]
	assert.Equal(t, []string{"dc1", "srv2"}, a.Servers)
	assert.Equal(t, "10.1.2.3", a.Address.String())
	assert.Equal(t, "PHONE-7", a.Machine)
	assert.Equal(t, "network", a.Via)
	for _, events := range [][]logs.Event{{ntlm, unsure}, {unsure, ntlm}} { // in either order
		tr, _ := tell(t, &Case{}, events)
		a := tr.Attempts[0]
		assert.Equal(t, []any{logs.WrongPassword, "0xc000006a", "PHONE-7"}, []any{a.Why, a.Code, a.Machine}, "who knows more is believed")
	}
}

func TestChanges(t *testing.T) {
	change := func(at float64, what logs.What) logs.Event {
		return logs.Event{At: minutes(at), What: what, Name: "ada.quill", By: "bea", Kind: "4725"}
	}
	tr, _ := tell(t, &Case{}, []logs.Event{change(1, logs.Disabled), try(2, "ada.quill", "PC1", logs.AccountDisabled), change(3, logs.Enabled), in(4, "ada.quill", "PC1"), change(5, logs.Locked)})
	var whats []string
	for _, a := range tr.Changes() {
		whats = append(whats, a.What.String())
	}
	assert.Equal(t, []string{"disabled", "enabled", "locked out"}, whats)
	assert.Equal(t, []int{1, 1}, []int{tr.Sources[0].Refused, tr.Sources[0].SignedIn})
}

// Where logs say of an address which machine it is, the machine stands for it; an
// address that several machines had stays what it is.
func TestMachinesOfAddresses(t *testing.T) {
	named := func(at float64, machine string) logs.Event {
		e := try(at, "bo.off", "10.1.2.3", logs.WrongPassword)
		e.Machine = machine
		return e
	}
	tr, _ := tell(t, &Case{}, []logs.Event{try(0, "ada.quill", "10.1.2.3", logs.WrongPassword), named(1, "phone-7.larkmoor.example")})
	assert.Equal(t, "PHONE-7", tr.Sources[0].Name())
	tr, _ = tell(t, &Case{}, []logs.Event{try(0, "ada.quill", "10.1.2.3", logs.WrongPassword), named(1, "PHONE-7"), named(2, "PHONE-8")})
	assert.Equal(t, "10.1.2.3", tr.Sources[0].Name())
}

func TestOriginsTellWhoGotIn(t *testing.T) {
	c := &Collector{Book: book(), Everybody: true}
	for _, e := range []logs.Event{try(0, "ada.quill", "203.0.113.9", logs.WrongPassword), try(1, "ghost", "203.0.113.9", logs.NoSuchAccount), try(2, "bo.off", "203.0.113.9", logs.WrongPassword),
		in(3, "bo.off", "203.0.113.9"), in(4, "cleo", "203.0.113.9"), in(5, "cleo", "10.0.0.1"), in(-1, "ada.quill", "203.0.113.9")} {
		require.NoError(t, c.Take(&e))
	}
	o := c.Origins()["203.0.113.9"]
	assert.Equal(t, &Origin{Name: "203.0.113.9", Accounts: 2, Strangers: 1, In: 3, Refused: 3, SignedIn: 3, First: minutes(-1), Last: minutes(4), Breached: 1}, o)
}

// What is too much to keep is given up from its older end, and said.
func TestCollectorIsBounded(t *testing.T) {
	c := &Collector{Book: book()}
	for i := range mostRecords + 10 {
		e := logs.Event{At: day.Add(time.Duration(i) * time.Second), What: logs.Refused, Name: "ada.quill", Kind: "k"}
		require.NoError(t, c.Take(&e))
	}
	assert.LessOrEqual(t, len(c.records), mostRecords)
	assert.Equal(t, day.Add(time.Duration(mostRecords/2)*time.Second), c.Floor)
	assert.Equal(t, c.Floor, c.First)
	e := logs.Event{At: day, What: logs.Refused, Name: "ada.quill"}
	n := len(c.records)
	require.NoError(t, c.Take(&e))
	assert.Len(t, c.records, n, "older than what was given up")
}
