package demo

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Logs are where the demo's logs are, in its folder.
const Logs = "logs"

// traced is somebody about whom the logs tell a story.
type traced struct{ logon, name, dn, sid string }

func (y *Yard) remember(p *person) traced {
	return traced{p.logon, p.given + " " + p.family, p.dn, p.sid}
}

// logLine is a line of a log, to be sorted by time.
type logLine struct {
	at   time.Time
	text string
}

// logBook writes the logs of the yard's last week.
type logBook struct {
	*Yard
	dice               *rand.Rand
	controller, server []logLine // the domain controller, and a member server
	gateway            []logLine // where people come in from outside
}

// WriteLogs writes the logs of the week before AsOf into a folder: of the domain
// controller, of a server, of the gateway. WriteLDIF comes first. Among the everyday
// they tell five stories: a stored password, a scheduled task with an old one, somebody
// who guesses, somebody who mistypes, and a clock that is wrong.
func (y *Yard) WriteLogs(dir string) error {
	b := &logBook{Yard: y, dice: rand.New(rand.NewPCG(y.Seed, 11))}
	b.everyday()
	if len(y.locked) < 4 {
		return fmt.Errorf("%d people are too few for the stories that logs tell", y.People)
	}
	b.storedPassword(y.locked[0])
	b.guessing(y.locked[1])
	b.scheduledTask(y.locked[2])
	b.shared(y.locked[3])
	b.typing(b.somebody(31))
	b.wrongClock(b.somebody(50))
	if err := os.MkdirAll(filepath.Join(dir, Logs), 0o700); err != nil {
		return err
	}
	old, now := split(b.controller, y.ago(2))
	files := map[string]struct {
		text    []byte
		written time.Time
	}{
		"dc1.json.1.gz": {compress(old), y.ago(2)},
		"dc1.json":      {now, y.AsOf},
		"lark-srv2.xml": {slices.Concat([]byte("<Events>\n"), text(b.server), []byte("</Events>\n")), y.AsOf},
		"gateway.csv":   {append([]byte("When,User,Client,Outcome\n"), text(b.gateway)...), y.AsOf},
	}
	for name, f := range files {
		path := filepath.Join(dir, Logs, name)
		if err := os.WriteFile(path, f.text, 0o600); err != nil {
			return err
		}
		if err := os.Chtimes(path, f.written, f.written); err != nil {
			return err
		}
	}
	return nil
}

func compress(text []byte) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = z.Write(text) // memory takes everything
	_ = z.Close()
	return b.Bytes()
}

func text(lines []logLine) []byte {
	slices.SortStableFunc(lines, func(a, b logLine) int { return a.at.Compare(b.at) })
	var b bytes.Buffer
	for _, l := range lines {
		b.WriteString(l.text + "\n")
	}
	return b.Bytes()
}

// split parts a log at a time, as a rotation does.
func split(lines []logLine, at time.Time) (before, after []byte) {
	var old, now []logLine
	for _, l := range lines {
		if l.at.Before(at) {
			old = append(old, l)
		} else {
			now = append(now, l)
		}
	}
	return text(old), text(now)
}

// ordinary tells of somebody of whom the directory tells no story.
func (b *logBook) ordinary(i int) bool { return b.story(i) == nil && !b.people[i].disabled }

// somebody is the next ordinary one.
func (b *logBook) somebody(i int) traced {
	for i %= len(b.people); !b.ordinary(i) && i+1 < len(b.people); i++ {
	}
	p := b.people[i]
	return b.remember(&p)
}

func (b *logBook) seconds(most int) time.Duration {
	return time.Duration(b.dice.IntN(most*1000)) * time.Millisecond
}

// asked is a sign-in as the domain controller writes it down.
func (b *logBook) asked(at time.Time, who traced, status, service, machine, address string) {
	if at.After(b.AsOf) {
		return
	}
	id := 4624
	if status != "NT_STATUS_OK" {
		id = 4625
	}
	line, err := json.Marshal(map[string]any{"timestamp": at.UTC().Format("2006-01-02T15:04:05.000000-0700"), "type": "Authentication",
		"Authentication": map[string]any{"version": map[string]int{"major": 1, "minor": 2}, "eventId": id, "logonType": 3, "status": status,
			"localAddress": "ipv4:10.20.0.10:88", "remoteAddress": fmt.Sprintf("ipv4:%s:%d", address, 49152+b.dice.IntN(16000)), "serviceDescription": service,
			"clientDomain": "LARKMOOR", "clientAccount": who.logon, "workstation": machine, "becameSid": who.sid}})
	if err != nil {
		panic(err) // texts and numbers
	}
	b.controller = append(b.controller, logLine{at, string(line)})
}

// changed is a change as the domain controller writes it down.
func (b *logBook) changed(at time.Time, who traced, by, attr, value string) {
	if at.After(b.AsOf) {
		return
	}
	line, err := json.Marshal(map[string]any{"timestamp": at.UTC().Format("2006-01-02T15:04:05.000000-0700"), "type": "dsdbChange",
		"dsdbChange": map[string]any{"version": map[string]int{"major": 1, "minor": 0}, "status": "Success", "operation": "Modify", "userSid": by, "dn": who.dn,
			"attributes": map[string]any{attr: map[string]any{"actions": []any{map[string]any{"action": "replace", "values": []any{map[string]string{"value": value}}}}}}}})
	if err != nil {
		panic(err)
	}
	b.controller = append(b.controller, logLine{at, string(line)})
}

func (b *logBook) lockedOut(at time.Time, who traced) {
	b.changed(at, who, "S-1-5-18", "lockoutTime", ticks(at))
}

// everyday is people who come in the morning.
func (b *logBook) everyday() {
	for days := 7; days >= 0; days-- {
		morning := b.AsOf.AddDate(0, 0, -days).Truncate(24 * time.Hour).Add(8 * time.Hour)
		for i := 0; i < min(len(b.people), 160); i += 1 + b.dice.IntN(3) {
			if p := b.people[i]; b.ordinary(i) {
				b.asked(morning.Add(b.seconds(7200)), traced{logon: p.logon}, "NT_STATUS_OK", "Kerberos KDC", fmt.Sprintf("LARK-%03d", 100+i), fmt.Sprintf("10.20.4.%d", 1+i))
			}
		}
	}
}

// storedPassword is a phone that goes on with the password of before.
func (b *logBook) storedPassword(who traced) {
	changed := b.ago(2.1)
	phone, address := "PHONE-"+strings.ToUpper(who.logon[:min(5, len(who.logon))]), "10.20.9.41"
	for at := b.ago(6.8); at.Before(changed); at = at.Add(3*time.Hour + b.seconds(600)) {
		b.asked(at, who, "NT_STATUS_OK", "SamLogon", phone, address)
	}
	for _, days := range []float64{5.3, 4.3, 2.05, 1.05} {
		b.asked(b.ago(days), who, "NT_STATUS_OK", "Kerberos KDC", "LARK-214", "10.20.4.115")
	}
	// Five wrong ones lock the account for half an hour; at the end it is locked.
	end := b.AsOf.Add(-90 * time.Second)
	var tries []time.Time
	for at := end; at.After(changed.Add(9 * time.Minute)); at = at.Add(-10*time.Minute + b.seconds(20) - 10*time.Second) {
		tries = append(tries, at)
	}
	slices.Reverse(tries)
	last := b.ago(0.008)
	locked, wrong := time.Time{}, 0
	for _, at := range tries {
		if at.Sub(locked) < 30*time.Minute || at.After(last) {
			b.asked(at, who, "NT_STATUS_ACCOUNT_LOCKED_OUT", "SamLogon", phone, address)
			continue
		}
		b.asked(at, who, "NT_STATUS_WRONG_PASSWORD", "SamLogon", phone, address)
		if wrong++; wrong == 5 {
			locked, wrong = at, 0
			b.lockedOut(at, who)
			if hour := at.Hour(); hour >= 8 && hour < 17 { // somebody rings, and is helped
				b.changed(at.Add(17*time.Minute), who, b.somebody(5).sid, "lockoutTime", "0")
			}
		}
	}
	b.asked(last, who, "NT_STATUS_WRONG_PASSWORD", "SamLogon", phone, address)
	b.lockedOut(last, who)
}

// guessing is somebody outside who tries two passwords on many names.
func (b *logBook) guessing(who traced) {
	const from = "203.0.113.77"
	at := b.ago(0.09)
	names := []string{"admin", "root", "test", "scan", "backup", "helpdesk", "vpn", "info", "guest1"}
	for i := 0; i < 60; i += 3 {
		names = append(names, b.people[i%len(b.people)].logon)
	}
	for round := range 2 {
		for i, name := range names {
			when := at.Add(time.Duration(round)*40*time.Minute + time.Duration(i)*7*time.Second + b.seconds(3))
			status := "NT_STATUS_WRONG_PASSWORD"
			if i < 9 {
				status = "NT_STATUS_NO_SUCH_USER"
			}
			b.asked(when, traced{logon: name}, status, "LDAP", "", from)
			b.gateway = append(b.gateway, logLine{when, fmt.Sprintf("%s,%s,%s,denied", when.UTC().Format(time.RFC3339), name, from)})
		}
	}
	for i := range 5 {
		b.asked(b.ago(0.008).Add(time.Duration(i-4)*8*time.Second), who, "NT_STATUS_WRONG_PASSWORD", "LDAP", "", from)
	}
	b.lockedOut(b.ago(0.008), who)
}

// scheduledTask is a server that does something at night and at day with a password of
// before.
func (b *logBook) scheduledTask(who traced) {
	for at := b.ago(1.4); at.Before(b.AsOf); at = at.Add(15*time.Minute + b.seconds(4)) {
		b.server = append(b.server, logLine{at, windowsEvent(4625, at, "LARK-SRV2.larkmoor.example", "SubjectUserSid", "S-1-5-18", "TargetUserSid", "S-1-0-0",
			"TargetUserName", who.logon, "TargetDomainName", "LARKMOOR", "Status", "0xc000006d", "SubStatus", "0xc000006a", "LogonType", "4",
			"ProcessName", `C:\Windows\System32\svchost.exe`, "WorkstationName", "LARK-SRV2", "IpAddress", "-")})
		b.asked(at.Add(400*time.Millisecond), who, "NT_STATUS_WRONG_PASSWORD", "SamLogon", "LARK-SRV2", "10.20.0.22")
	}
	b.lockedOut(b.ago(0.008), who)
}

// shared is an account that a few machines try now and then: nobody can tell.
func (b *logBook) shared(who traced) {
	for i, hours := range []float64{30, 27.5, 9, 3.1, 0.19} {
		b.asked(b.ago(hours/24), who, "NT_STATUS_WRONG_PASSWORD", "Kerberos KDC", "", fmt.Sprintf("10.20.4.%d", 201+i%3))
	}
	b.lockedOut(b.ago(0.008), who)
}

// typing is somebody back from a holiday.
func (b *logBook) typing(who traced) {
	at := b.ago(0.2)
	for _, s := range []int{0, 21, 64} {
		b.asked(at.Add(time.Duration(s)*time.Second), who, "NT_STATUS_WRONG_PASSWORD", "Kerberos KDC", "LARK-163", "10.20.4.64")
	}
	b.asked(at.Add(142*time.Second), who, "NT_STATUS_OK", "Kerberos KDC", "LARK-163", "10.20.4.64")
}

// wrongClock is a machine that was long off.
func (b *logBook) wrongClock(who traced) {
	for _, days := range []float64{0.31, 0.3, 0.26, 0.18} {
		at := b.ago(days)
		b.server = append(b.server, logLine{at, windowsEvent(4771, at, "dc1.larkmoor.example", "TargetUserName", who.logon, "ServiceName", "krbtgt/LARKMOOR",
			"Status", "0x25", "PreAuthType", "2", "IpAddress", "::ffff:10.20.4.80", "IpPort", "50111")})
	}
}

// windowsEvent is an exported security event.
func windowsEvent(id int, at time.Time, computer string, data ...string) string {
	var b strings.Builder
	fmt.Fprintf(&b, `<Event xmlns="http://schemas.microsoft.com/win/2004/08/events/event"><System><Provider Name="Microsoft-Windows-Security-Auditing"/><EventID>%d</EventID><TimeCreated SystemTime="%s"/><Channel>Security</Channel><Computer>%s</Computer></System><EventData>`,
		id, at.UTC().Format("2006-01-02T15:04:05.0000000Z"), computer)
	for i := 0; i+1 < len(data); i += 2 {
		fmt.Fprintf(&b, `<Data Name="%s">%s</Data>`, data[i], data[i+1])
	}
	b.WriteString("</EventData></Event>")
	return b.String()
}
