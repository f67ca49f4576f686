package tracing

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/logs"
	"yardbroom/internal/source"
)

// What is said of each cause, as somebody reads it.
func TestWordsOfJudgements(t *testing.T) {
	const ada = "ada.quill"
	kind := func(all []logs.Event, of logs.LogonType, via string) []logs.Event {
		for i := range all {
			all[i].Type, all[i].Via = of, via
		}
		return all
	}
	var spray []logs.Event
	for _, name := range []string{"root", "admin", "test", "bo.off", "cleo", ada} {
		spray = append(spray, try(1, name, "203.0.113.9", logs.WrongPassword))
	}
	for _, c := range []struct {
		name   string
		c      *Case
		events [][]logs.Event
		want   string
	}{
		{"stored", &Case{PasswordSet: day.Add(-5 * time.Minute), MaxFailures: 5, Window: time.Hour}, [][]logs.Event{{in(-60, ada, "PHONE-7")}, kind(every(10, 8, ada, "PHONE-7"), logs.Network, "network")},
			`A stored password on PHONE-7 (sure).
It comes every 10 minutes. It began within 5 minutes of the new password (2026-11-20 07:55 UTC), and signed in until then.
Set the new password in the device or program on PHONE-7, or remove it there; then unlock.
Unlocking will not last: it is still going on, and would lock the account again within 50 minutes.`},
		{"service", &Case{}, [][]logs.Event{kind(every(7, 2, ada, "SRV2"), logs.Service, "service, services.exe")},
			`A stored password on SRV2 (likely).
A service signs in by itself.
Set the new password for the service on SRV2, or remove it there; then unlock.
Unlocking will not last: it is still going on.`},
		{"over LDAP", &Case{PasswordSet: day.Add(-5 * time.Minute), From: day.AddDate(0, 0, -3), To: day.AddDate(0, 0, 1)}, [][]logs.Event{every(10, 5, ada, "10.1.2.3")},
			`A stored password on 10.1.2.3 (sure).
It comes every 10 minutes. It began within 5 minutes of the new password (2026-11-20 07:55 UTC), and the logs show nothing of it before.
Set the new password for the program on 10.1.2.3 that signs in over LDAP, or remove it there; then unlock.
Unlocking helps: it is not going on.`},
		{"typing", &Case{}, [][]logs.Event{{try(0, ada, "PC1", logs.WrongPassword), in(2, ada, "PC1")}},
			`Somebody typing at PC1 (sure).
1 mistake, unevenly spaced. Then signed in at 2026-11-20 08:02 UTC.
Nothing, or help with a new password.
Unlocking helps: it is not going on.`},
		{"guessing", &Case{}, [][]logs.Event{spray, {try(1.1, ada, "203.0.113.9", logs.WrongPassword)}},
			`Guessing from 203.0.113.9 (likely).
It tried 6 names, 3 of which no account has. Nobody signed in from there.
Block 203.0.113.9.
Unlocking will not last: it is still going on.`},
		{"guessed", &Case{}, [][]logs.Event{spray, {try(1.1, ada, "203.0.113.9", logs.WrongPassword), in(2, "cleo", "203.0.113.9")}},
			`Guessing from 203.0.113.9 (likely).
It tried 6 names, 3 of which no account has. 1 account then signed in from there: look at these first.
Block 203.0.113.9, and look at who signed in from there.
Unlocking will not last: it is still going on.`},
		{"an old password", &Case{MaxFailures: 5, Servers: []source.Failures{{Server: "dc1"}}}, [][]logs.Event{every(7, 3, ada, "PHONE-7")},
			`An old password on PHONE-7 (likely).
It is refused as wrong, but none of the servers has counted it (1 server asked), as happens with one of the last passwords.
Set the new password for the program on PHONE-7 that signs in over LDAP, or remove it there.
Unlocking changes nothing.`},
		{"clock", &Case{}, [][]logs.Event{{try(0, ada, "PC1", logs.ClockSkew)}},
			`Clocks that differ on PC1 (sure).
1 sign-in refused because of the time, not of the password.
Set the clock of PC1 right: Kerberos allows five minutes.
Unlocking changes nothing.`},
		{"disabled", &Case{}, [][]logs.Event{{try(0, ada, "PC1", logs.AccountDisabled)}},
			`The account itself: it is disabled (sure).
That is what the servers answered; the password may be right.
Find out what still signs in on PC1, and stop it there.
Unlocking changes nothing.`},
		{"must change", &Case{}, [][]logs.Event{{try(0, ada, "PC1", logs.MustChange)}},
			`The account itself: its password must be changed first (sure).
That is what the servers answered; the password may be right.
A new password is needed.
Unlocking changes nothing.`},
		{"not known", &Case{}, [][]logs.Event{every(7, 3, ada, "PHONE-7")},
			`What it is cannot be told.
Most come from PHONE-7, but too few, or too unevenly, to say more.
Look at PHONE-7, or trace again with the log of the server that it signs in to.
Whether unlocking lasts cannot be said.`},
		{"nothing", &Case{}, [][]logs.Event{{in(0, ada, "PC1")}}, "Nobody was refused, as far as the logs go.\n\n\nWhether unlocking lasts cannot be said."},
	} {
		t.Run(c.name, func(t *testing.T) {
			kase := *c.c
			_, j := tell(t, &kase, c.events...)
			var because []string
			for _, b := range j.Because(&kase, time.UTC) {
				because = append(because, strings.ToUpper(b[:1])+b[1:]+".")
			}
			assert.Equal(t, c.want, strings.Join([]string{j.Sentence(), strings.Join(because, " "), j.Do(), j.Unlocking()}, "\n"))
		})
	}
}

func TestSpans(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "1 second", 89 * time.Second: "89 seconds", 90 * time.Second: "2 minutes", 10*time.Minute + 10*time.Second: "10 minutes",
		89 * time.Minute: "89 minutes", 90 * time.Minute: "2 hours", 47 * time.Hour: "47 hours", 72 * time.Hour: "3 days"} {
		assert.Equal(t, want, Span(d), d)
	}
}
