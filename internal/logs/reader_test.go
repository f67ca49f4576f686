package logs

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write what is read of testdata anew")

var written = time.Date(2026, 11, 29, 23, 0, 0, 0, time.UTC)

// readAll reads a text as one log.
func readAll(t testing.TB, text string, o *Options, only *Only) ([]Event, *Report) {
	t.Helper()
	var all []Event
	report := &Report{}
	r := NewReader(only, func(e *Event) error { all = append(all, *e); return nil })
	if o.Written.IsZero() {
		o.Written = written
	}
	require.NoError(t, r.Read(t.Context(), strings.NewReader(text), o, report))
	require.NoError(t, r.End())
	return all, report
}

// told is an event in one line, with what it has.
func told(e *Event) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%d %s %s", e.Line, e.At.Format("2006-01-02T15:04:05.000Z"), e.What)
	if e.What == Refused {
		fmt.Fprintf(&b, " (%s: %s)", e.Why, e.Code)
	}
	for _, part := range []struct{ name, value string }{{"name", e.Name}, {"domain", e.Domain}, {"sid", e.SID}, {"machine", e.Machine},
		{"via", e.Via}, {"server", e.Server}, {"by", e.By}, {"change", e.Change}, {"kind", e.Kind}} {
		if part.value != "" {
			fmt.Fprintf(&b, " %s=%q", part.name, part.value)
		}
	}
	if e.Address.IsValid() {
		fmt.Fprintf(&b, " from %s", e.Address)
	}
	if e.Type != 0 {
		fmt.Fprintf(&b, " type %d", e.Type)
	}
	return b.String()
}

// The logs in testdata were written by the servers themselves, as
// conformance.TestTraces makes them sign people in, and refuse them.
func TestLogsOfRealServers(t *testing.T) {
	files, err := filepath.Glob("testdata/*.log")
	require.NoError(t, err)
	require.Len(t, files, 6)
	for _, path := range files {
		t.Run(filepath.Base(path), func(t *testing.T) {
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			events, report := readAll(t, string(text), &Options{}, nil)
			assert.Zero(t, report.Broken, report.Fault)
			var b strings.Builder
			for _, e := range events {
				b.WriteString(told(&e) + "\n")
			}
			golden := strings.TrimSuffix(path, ".log") + ".events"
			if *update {
				require.NoError(t, os.WriteFile(golden, []byte(b.String()), 0o644))
			}
			want, err := os.ReadFile(golden)
			require.NoError(t, err)
			assert.Equal(t, string(want), b.String())

			// Who asks for one account is given all of it, and nothing that is not there.
			for _, name := range []string{"ada quill", "ada.quill", "bo off", "bo.off", "nobody"} {
				some, _ := readAll(t, string(text), &Options{}, NewOnly(name))
				assert.Equal(t, naming(events, name), naming(some, name), name)
			}
			// A server writes on while the log is read, and a line may end in a later piece.
			whole, _ := readAll(t, string(text), &Options{}, nil)
			assert.Equal(t, events, whole)
			for _, head := range []string{"Nov 29 22:50:00 dc1 forwarder[12]: ", "<134>1 2026-11-29T22:50:00.5Z dc1 forwarder 12 - - "} {
				if strings.HasPrefix(string(text), "{") {
					behind := head + strings.ReplaceAll(strings.TrimSuffix(string(text), "\n"), "\n", "\n"+head)
					under, _ := readAll(t, behind, &Options{}, nil)
					assert.Equal(t, events, under, "behind a header of syslog")
				}
			}
		})
	}
}

func naming(events []Event, name string) []string {
	var all []string
	for _, e := range events {
		if strings.Contains(strings.ToLower(e.Name), name) {
			all = append(all, told(&e))
		}
	}
	return all
}

func TestSyslogHeaders(t *testing.T) {
	const message = `conn=7 op=0 BIND dn="uid=ada,ou=people,dc=larkmoor,dc=example" method=128`
	const result = `conn=7 op=0 RESULT tag=97 err=49 text=`
	const accept = `conn=7 fd=12 ACCEPT from IP=10.1.2.3:40000 (IP=0.0.0.0:389)`
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	for _, c := range []struct {
		name, header string
		o            Options
		at           string
		server       string
	}{
		{"RFC 3164", "Nov  3 08:00:01 ldap1 slapd[812]: ", Options{}, "2026-11-03T08:00:01Z", "ldap1"},
		{"RFC 3164 with a priority", "<167>Nov 13 08:00:01 ldap1 slapd[812]: ", Options{}, "2026-11-13T08:00:01Z", "ldap1"},
		{"of another zone", "Nov  3 08:00:01 ldap1 slapd[812]: ", Options{Zone: berlin}, "2026-11-03T07:00:01Z", "ldap1"},
		{"of last year", "Dec 31 23:59:59 ldap1 slapd[812]: ", Options{Written: time.Date(2026, 1, 1, 0, 5, 0, 0, time.UTC)}, "2025-12-31T23:59:59Z", "ldap1"},
		{"written in January, ahead in its zone", "Jan  1 00:00:01 ldap1 slapd[812]: ", Options{Written: time.Date(2025, 12, 31, 23, 30, 0, 0, time.UTC)}, "2026-01-01T00:00:01Z", "ldap1"},
		{"a leap day", "Feb 29 12:00:00 ldap1 slapd[812]: ", Options{}, "2024-02-29T12:00:00Z", "ldap1"},
		{"RFC 5424", "<167>1 2026-11-03T08:00:01.25+01:00 ldap1 slapd 812 - - ", Options{}, "2026-11-03T07:00:01.25Z", "ldap1"},
		{"RFC 5424 with data", `<167>1 2026-11-03T08:00:01Z ldap1 slapd 812 - [x@1 a="b] \" c"][y@2 d="e"] `, Options{}, "2026-11-03T08:00:01Z", "ldap1"},
		{"ISO", "2026-11-03T08:00:01.000001+00:00 ldap1 slapd[812]: ", Options{}, "2026-11-03T08:00:01.000001Z", "ldap1"},
		{"ISO, the settings name the server", "2026-11-03T08:00:01Z ldap1 slapd[812]: ", Options{Server: "the main one"}, "2026-11-03T08:00:01Z", "the main one"},
		{"of slapd itself", "69085581.00000000 0x7f67f0ffd6c0 ", Options{}, "2025-11-03T07:10:57Z", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			events, report := readAll(t, c.header+accept+"\n"+c.header+message+"\r\n"+c.header+result, &c.o, nil)
			require.Len(t, events, 1, "%+v", report)
			e := events[0]
			assert.Equal(t, c.at, e.At.Format(time.RFC3339Nano))
			assert.Equal(t, c.server, e.Server)
			assert.Equal(t, "10.1.2.3", e.Address.String())
			assert.Equal(t, WrongOrLocked, e.Why)
		})
	}
}

// Connections are joined although servers write their lines in an order of their own, and
// a number that comes again is another connection.
func TestConnectionsAreJoined(t *testing.T) {
	const h = "2026-11-03T08:00:01Z ldap1 slapd[1]: "
	bind := func(conn, op int, who string) string {
		return fmt.Sprintf("%sconn=%d op=%d BIND dn=\"uid=%s,dc=larkmoor,dc=example\" method=128\n", h, conn, op, who)
	}
	accept := func(conn int, ip string) string {
		return fmt.Sprintf("%sconn=%d fd=9 ACCEPT from IP=%s:5000 (IP=0.0.0.0:389)\n", h, conn, ip)
	}
	result := func(conn, op, err int) string {
		return fmt.Sprintf("%sconn=%d op=%d RESULT tag=97 err=%d text=\n", h, conn, op, err)
	}
	closed := func(conn int) string { return fmt.Sprintf("%sconn=%d fd=9 closed\n", h, conn) }
	for _, c := range []struct {
		name, text string
		want       []string // who, from where, what
	}{
		{"in order", accept(1, "10.0.0.1") + bind(1, 0, "ada") + result(1, 0, 49) + closed(1), []string{"ada 10.0.0.1 refused"}},
		{"the address last", bind(1, 0, "ada") + result(1, 0, 0) + accept(1, "10.0.0.1"), []string{"ada 10.0.0.1 signed in"}},
		{"the answer after the end", accept(1, "10.0.0.1") + bind(1, 0, "ada") + closed(1) + result(1, 0, 49), []string{"ada 10.0.0.1 refused"}},
		{"two at once", accept(1, "10.0.0.1") + accept(2, "10.0.0.2") + bind(2, 0, "bo") + bind(1, 0, "ada") + result(1, 0, 49) + result(2, 0, 0),
			[]string{"ada 10.0.0.1 refused", "bo 10.0.0.2 signed in"}},
		{"again on one connection", accept(1, "10.0.0.1") + bind(1, 0, "ada") + result(1, 0, 49) + bind(1, 1, "bo") + result(1, 1, 0),
			[]string{"ada 10.0.0.1 refused", "bo 10.0.0.1 signed in"}},
		{"a number that comes again", accept(1, "10.0.0.1") + closed(1) + accept(1, "10.0.0.9") + bind(1, 0, "ada") + result(1, 0, 49), []string{"ada 10.0.0.9 refused"}},
		{"a start between, of which one line comes late", accept(1, "10.0.0.1") + h + "slapd starting\n" + bind(1, 0, "ada") + accept(1, "10.0.0.2") + result(1, 0, 49), []string{"ada invalid IP refused"}},
		{"after a start", accept(1, "10.0.0.1") + h + "slapd starting\n" + accept(1, "10.0.0.2") + bind(1, 0, "ada") + result(1, 0, 49), []string{"ada 10.0.0.2 refused"}},
		{"the beginning was rotated away", bind(1, 0, "ada") + result(1, 0, 49), []string{"ada invalid IP refused"}},
		{"an answer to nobody", accept(1, "10.0.0.1") + result(1, 0, 49), nil},
		{"a mechanism that asks for more", accept(1, "10.0.0.1") + strings.Replace(bind(1, 0, "ada"), "method=128", "method=163", 1) + result(1, 0, 14), nil},
		{"anonymous", accept(1, "10.0.0.1") + h + "conn=1 op=0 BIND dn=\"\" method=128\n" + result(1, 0, 0), nil},
		{"other results are no sign-ins", accept(1, "10.0.0.1") + bind(1, 0, "ada") + h + "conn=1 op=0 RESULT tag=103 err=50 text=\n", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			events, _ := readAll(t, c.text, &Options{}, nil)
			var got []string
			for _, e := range events {
				who, _, _ := strings.Cut(strings.TrimPrefix(e.Name, "uid="), ",")
				got = append(got, fmt.Sprintf("%s %s %s", who, e.Address, e.What))
			}
			assert.Equal(t, c.want, got)
		})
	}
}

// Lines of which somebody's name was cut out are about nobody.
func TestLinesThatNameNobody(t *testing.T) {
	const h = "2026-11-29T22:49:24 "
	const mit = "Nov 29 22:49:24 kdc1 krb5kdc[1](info): AS_REQ (1 etypes {18}) 10.0.0.1: PREAUTH_FAILED: %s for krbtgt/LARKMOOR.EXAMPLE@LARKMOOR.EXAMPLE, Preauthentication failed\n"
	for _, line := range []string{h + "Client's key has expired at 2020-01-01T00:00:00 -- %s\n", h + "Failed to decrypt PA-DATA -- %s (enctype aes256) error\n",
		h + "Client (%s) is locked out\n", h + "ENC-TS pre-authentication succeeded -- %s using aes256\n", mit} {
		events, _ := readAll(t, fmt.Sprintf(line, "ada@LARKMOOR.EXAMPLE"), &Options{}, nil)
		assert.Len(t, events, 1, line)
		events, report := readAll(t, fmt.Sprintf(line, ""), &Options{}, nil)
		assert.Empty(t, events, line)
		assert.Zero(t, report.Events)
	}
}

// Millions of connections of which the log never tells the end are forgotten.
func TestJoinedConnectionsAreBounded(t *testing.T) {
	joined := newConnections()
	none := func(*Event) {}
	for i := range int64(3 * mostConnections) {
		if i%1000 == 0 {
			joined.next(int(i/1000), make([]turn, 1000), none)
		}
		joined.begin(&bind{connection: connection{1, i}, name: "ada"}, none)
	}
	assert.LessOrEqual(t, joined.turns, mostConnections)
	assert.LessOrEqual(t, len(joined.tables), mostConnections/1000)
	assert.LessOrEqual(t, len(joined.queue), mostWaiting)
	assert.LessOrEqual(t, len(joined.waiting), mostWaiting)
}

// What somebody else can write into a log are values, and what cannot be read is counted.
func TestHostileLines(t *testing.T) {
	const good = `{"timestamp": "2026-11-29T10:00:00+0000", "type": "Authentication", "Authentication": {"status": "NT_STATUS_WRONG_PASSWORD", "clientAccount": "ada", "remoteAddress": "ipv4:10.0.0.1:5"}}` + "\n"
	for _, c := range []struct {
		name, text string
		broken     int
		foreign    int
	}{
		{"half a line", `{"timestamp": "2026-11-29T10:00:00+0000", "type": "Authentication", "Authentication": {"sta` + "\n", 1, 0},
		{"a time that is none", `{"timestamp": "yesterday", "type": "Authentication", "Authentication": {"clientAccount": "bo"}}` + "\n", 1, 0},
		{"a pit of brackets", `{"EventID": 4625, "a": ` + strings.Repeat("[", 100_000) + "\n", 1, 0},
		{"a pit of objects", `{"EventID": 4740, "TimeCreated": "2026-11-29T10:00:00Z", "a": ` + strings.Repeat(`{"a":`, 9000) + "1" + strings.Repeat("}", 9000) + "}\n", 0, 0},
		{"a line of megabytes", `{"type": "Authentication", "Authentication": {"clientAccount": "` + strings.Repeat("x", 5<<20) + "\"}}\n", 1, 0},
		{"octets", "\x00\xff\xfe\x1b[2J\n", 0, 1},
		{"an array", `["4625"]` + "\n", 0, 1},
		{"a number that is too large", `{"EventID": 462546254625462546254625, "TimeCreated": 1}` + "\n", 0, 1},
		{"half an event", "<Event><System><EventID>4625</EventID>\n", 1, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			events, report := readAll(t, good+c.text+good, &Options{}, nil)
			assert.Len(t, events, 2)
			assert.Equal(t, c.broken, report.Broken, report.Fault)
			assert.Equal(t, c.foreign, report.Foreign)
			if c.broken > 0 {
				assert.Equal(t, 2, report.FaultLine)
				assert.NotEmpty(t, report.Fault)
			}
			assert.Equal(t, 3, report.Lines)
		})
	}

	// A forged line end in a name is escaped by whoever writes JSON, and stays in the name.
	events, _ := readAll(t, strings.Replace(good, `"ada"`, `"ada\nNov 29 10:00:00 dc1 forged: \u001b[31m"`, 1), &Options{}, nil)
	require.Len(t, events, 1)
	assert.Equal(t, "ada\nNov 29 10:00:00 dc1 forged: \x1b[31m", events[0].Name)

	// Nor does what reads like chatter in a name, on whatever line of the log, hide who it is.
	const quiet = "2026-11-29T10:00:00Z h slapd[1]: conn=9 op=1 SRCH base=\"\"\n"
	kerberos := "Nov 29 10:00:00 h krb5kdc[1](info): AS_REQ (1 etypes {18}) 10.0.0.1: PREAUTH_FAILED: a: conn=1@X for krbtgt/X@X, failed\n"
	json := strings.Replace(good, `"ada"`, `"ada: conn=1 "`, 1)
	events, _ = readAll(t, quiet+kerberos+json+"Nov 29 10:00:00 h fwd: "+json+quiet, &Options{}, nil)
	require.Len(t, events, 3)
	assert.Equal(t, []string{"a: conn=1@X", "ada: conn=1 ", "ada: conn=1 "}, []string{events[0].Name, events[1].Name, events[2].Name})

	// A name with quotes does not end where it looks as if it did.
	events, _ = readAll(t, `2026-11-29T10:00:00Z h slapd[1]: conn=1 op=0 BIND dn="cn=a\" method=128 conn=2" method=128`+"\n"+
		"2026-11-29T10:00:00Z h slapd[1]: conn=1 op=0 RESULT tag=97 err=49\n", &Options{}, nil)
	require.Len(t, events, 1)
	assert.Equal(t, `cn=a\" method=128 conn=2`, events[0].Name)
}

func TestBinaryEventLogSaysHowToExport(t *testing.T) {
	r := NewReader(nil, func(*Event) error { return nil })
	err := r.Read(t.Context(), strings.NewReader("ElfFile\x00rest"), &Options{}, &Report{})
	require.ErrorIs(t, err, ErrBinary)
	assert.ErrorContains(t, err, "wevtutil qe FILE /lf:true /f:xml")
}

func TestMapping(t *testing.T) {
	m := &Mapping{Time: "when", Account: "Login", Address: "client", By: "app", Result: "outcome", Success: []string{"OK"}, Failure: []string{"denied"}}
	for name, text := range map[string]string{
		"CSV":        "when,Login,client,app,outcome\n2026-11-29 10:00:00,ada,10.0.0.1,mail,denied\n2026-11-29 10:00:05,ada,10.0.0.1,mail,ok\n2026-11-29 10:00:06,ada,10.0.0.1,mail,other\nnever,x,y,z,denied\n",
		"semicolons": "when;Login;client;app;outcome\n2026-11-29 10:00:00;ada;10.0.0.1;mail;denied\n2026-11-29 10:00:05;ada;10.0.0.1;mail;ok\n2026-11-29 10:00:06;ada;10.0.0.1;mail;other\nnever;x;y;z;denied\n",
		"JSON": `{"when": "2026-11-29 10:00:00", "Login": "ada", "client": "10.0.0.1", "app": "mail", "outcome": "denied"}` + "\n" +
			`{"when": 1795946405, "Login": "ada", "client": "10.0.0.1", "app": "mail", "outcome": "OK"}` + "\n{\"when\": 1795946405}\n{\"when\": true}\n",
	} {
		t.Run(name, func(t *testing.T) {
			events, report := readAll(t, text, &Options{Mapping: m}, nil)
			require.Len(t, events, 2)
			assert.Equal(t, 1, report.Broken)
			assert.Contains(t, told(&events[0]), `2026-11-29T10:00:00.000Z refused (wrong password, or locked: denied) name="ada" via="mail"`)
			assert.Contains(t, told(&events[1]), `2026-11-29T10:00:05.000Z signed in name="ada"`)
			assert.Equal(t, "10.0.0.1", events[0].Address.String())
		})
	}
	r := NewReader(nil, func(*Event) error { return nil })
	err := r.Read(t.Context(), strings.NewReader("when,who\n1,2\n"), &Options{Mapping: m}, &Report{})
	assert.EqualError(t, err, `no column is called "Login": the first line names when, who`)
}

func TestTakeEndsReading(t *testing.T) {
	text, err := os.ReadFile("testdata/samba.log")
	require.NoError(t, err)
	enough := errors.New("enough")
	n := 0
	r := NewReader(nil, func(*Event) error { n++; return enough })
	require.ErrorIs(t, r.Read(t.Context(), bytes.NewReader(text), &Options{}, &Report{}), enough)
	assert.Equal(t, 1, n)
}

func TestReadingEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	n := 0
	r := NewReader(nil, func(*Event) error { n++; cancel(); return nil })
	text, err := os.ReadFile("testdata/samba.log")
	require.NoError(t, err)
	require.ErrorIs(t, r.Read(ctx, io.MultiReader(bytes.NewReader(bytes.Repeat(text, 400))), &Options{}, &Report{}), context.Canceled)
}
