package source

import (
	"bytes"
	"context"
	"errors"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/demo"
	"yardbroom/internal/directory"
	"yardbroom/internal/practice"
	"yardbroom/internal/settings"
)

// observatory serves the demo yard under a host name and returns its URL.
func observatory(t *testing.T, host string, text []byte, change func(*practice.Directory)) string {
	t.Helper()
	dir := practice.New(demo.Base, demo.SID, time.Now)
	require.NoError(t, dir.Load(bytes.NewReader(text)))
	if change != nil {
		change(dir)
	}
	server := &practice.Server{Dir: dir, Account: "keeper", Password: "keeper-secret", Host: host}
	url, err := server.Listen(t.Context(), "127.0.0.1:0")
	require.NoError(t, err)
	return url
}

func demoText(t *testing.T) []byte {
	t.Helper()
	var text bytes.Buffer
	require.NoError(t, (&demo.Yard{People: 30, AsOf: time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)}).WriteLDIF(&text))
	return text.Bytes()
}

func connectTo(t *testing.T, avoid string, urls ...string) *Server {
	t.Helper()
	password := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(password, []byte("keeper-secret\n"), 0o600))
	yard := settings.Yard{Servers: urls, Bind: settings.Bind{DN: "keeper", PasswordFile: password}}
	if avoid != "" {
		yard.Avoid = []string{avoid}
	}
	s, err := Connect(context.Background(), Target{Yard: yard})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func TestServersAreFoundInTheDirectoryInDNSAndInTheSettings(t *testing.T) {
	text := demoText(t)
	dc1, dc2 := observatory(t, "dc1.larkmoor.example", text, nil), observatory(t, "dc2.larkmoor.example", text, nil)
	lookup := func(_ context.Context, service, proto, name string) (string, []*net.SRV, error) {
		assert.Equal(t, "ldap tcp dc._msdcs.larkmoor.example", service+" "+proto+" "+name)
		return "", []*net.SRV{{Target: "DC1.larkmoor.example."}, {Target: "dc3.larkmoor.example."}}, nil
	}
	known, err := connectTo(t, "dc3.larkmoor.example", dc1, dc2, "ldap://127.0.0.1:1").Servers(context.Background(), lookup)
	require.NoError(t, err)
	require.Len(t, known, 4)
	silent := known[0]
	assert.Equal(t, "127.0.0.1", silent.Host)
	assert.Error(t, silent.Silent)
	assert.Equal(t, KnownServer{Host: "dc1.larkmoor.example", Site: "Larkmoor", Listed: true, InDNS: true, URL: dc1, Connected: true}, known[1])
	assert.Equal(t, KnownServer{Host: "dc2.larkmoor.example", Site: "Larkmoor", Listed: true, URL: dc2}, known[2])
	assert.Equal(t, KnownServer{Host: "dc3.larkmoor.example", InDNS: true, Avoided: true}, known[3])

	known, err = connectTo(t, "", dc1).Servers(context.Background(), func(context.Context, string, string, string) (string, []*net.SRV, error) {
		return "", nil, errors.New("nobody home")
	})
	assert.ErrorContains(t, err, "DNS has no answer for _ldap._tcp.dc._msdcs.larkmoor.example")
	assert.Len(t, known, 2, "what the directory lists is told all the same")
}

func TestDomainOf(t *testing.T) {
	for base, want := range map[string]string{"DC=larkmoor,dc=Example": "larkmoor.example", "o=larkmoor": "", "ou=x,dc=y": "", "": "", "dc=a+dc=b": "", "=": ""} {
		assert.Equal(t, want, DomainOf(base), base)
	}
}

func TestEveryServerIsAskedForItsOwnSignIns(t *testing.T) {
	text := demoText(t)
	seen := time.Now().Add(-time.Hour).UTC().Truncate(time.Second)
	dn := "CN=svc-dome,OU=Service Accounts," + demo.Base
	dc1 := observatory(t, "dc1.larkmoor.example", text, nil)
	dc2 := observatory(t, "dc2.larkmoor.example", text, func(d *practice.Directory) {
		d.Edit(dn, func(e *directory.Entry) {
			e.Set("lastLogon", directory.FormatFileTime(seen))
			e.Set("pwdLastSet", directory.FormatFileTime(seen)) // replication has not brought it yet
		})
	})
	account := func(s *directory.Survey) *directory.Account {
		for a := range s.Accounts.All() {
			if a.Logon == "svc-dome" {
				return a
			}
		}
		return nil
	}
	survey, err := connectTo(t, "", dc1, dc2).Survey(context.Background())
	require.NoError(t, err)
	assert.Equal(t, []string{"dc1.larkmoor.example", "dc2.larkmoor.example"}, survey.Asked)
	assert.True(t, survey.EveryServerAsked())
	assert.Equal(t, seen, account(survey).LastLogon.Time())
	assert.Equal(t, "dc2.larkmoor.example", survey.LogonServer(account(survey)))
	assert.Equal(t, seen, account(survey).PasswordSet.Time())

	// The same server under two names is one, and proves nothing more.
	survey, err = connectTo(t, "", dc1, strings.Replace(dc1, "127.0.0.1", "localhost", 1)).Survey(context.Background())
	require.NoError(t, err)
	assert.Equal(t, []string{"dc1.larkmoor.example"}, survey.Asked)
	assert.False(t, survey.EveryServerAsked())

	survey, err = connectTo(t, dc2, dc1, dc2).Survey(context.Background())
	require.NoError(t, err)
	assert.Empty(t, survey.Silent, "who is avoided is not silent")
	assert.False(t, survey.EveryServerAsked())

	hiding := observatory(t, "dc2.larkmoor.example", text, func(d *practice.Directory) {
		for _, e := range d.Dump() {
			d.Edit(e.DN, func(e *directory.Entry) { e.Set("lastLogon") })
		}
	})
	survey, err = connectTo(t, "", dc1, hiding).Survey(context.Background())
	require.NoError(t, err)
	assert.Equal(t, []string{"dc2.larkmoor.example"}, survey.Silent, "what is hidden proves nothing")
	assert.False(t, survey.EveryServerAsked())

	// One account alone is judged by the same rule: a server that shows no
	// sign-in of it has been asked, one that hides them all has not.
	around := func(others ...string) *directory.Survey {
		c := connectTo(t, "", others...)
		found, err := c.Get(context.Background(), []string{dn})
		require.NoError(t, err)
		s, err := c.Around(context.Background(), &found[0])
		require.NoError(t, err)
		return s
	}
	one := around(dc1, dc2)
	assert.Equal(t, seen, account(one).LastLogon.Time())
	assert.True(t, one.EveryServerAsked())
	unseen := observatory(t, "dc2.larkmoor.example", text, func(d *practice.Directory) {
		d.Edit(dn, func(e *directory.Entry) { e.Set("lastLogon") })
	})
	assert.True(t, around(dc1, unseen).EveryServerAsked())
	one = around(dc1, hiding)
	assert.Equal(t, []string{"dc2.larkmoor.example"}, one.Silent)
	assert.False(t, one.EveryServerAsked())

	survey, err = connectTo(t, "", dc1, "ldap://127.0.0.1:1").Survey(context.Background())
	require.NoError(t, err)
	assert.Equal(t, []string{"127.0.0.1"}, survey.Silent)
	assert.False(t, survey.EveryServerAsked())
}

// A quote that is never closed, or a line without an end, is not gathered up.
func TestSignInsSeenElsewhereHaveBounds(t *testing.T) {
	for name, text := range map[string]string{
		"an open quote": "account,time\n\"ada,2026-01-02\n" + strings.Repeat("bram,2026-01-02\n", 100_000),
		"columns":       "account,time" + strings.Repeat(",x", 1_000_000) + "\n",
		"an open line":  `{"account":"` + strings.Repeat("a", 2<<20),
	} {
		_, err := ReadActivity(strings.NewReader(text), "vpn", time.UTC)
		assert.ErrorContains(t, err, "is longer than 1024 KB, or a quote in it is never closed", name)
	}
	got, err := ReadActivity(strings.NewReader(`{"account":"a\"da","time":"2026-01-02"}`+"\n"+strings.Repeat(`{"account":"bram","time":"2026-01-02"}`+"\n", 40_000)), "vpn", time.UTC)
	require.NoError(t, err)
	assert.Len(t, got, 2)
	got, err = ReadActivity(strings.NewReader("account,time\n"+strings.Repeat("\"bram\",2026-01-02\n", 80_000)), "vpn", time.UTC)
	require.NoError(t, err)
	assert.Len(t, got, 1)
}

func TestReadActivity(t *testing.T) {
	at := time.Date(2026, 11, 19, 8, 0, 0, 0, time.UTC)
	for _, text := range []string{
		"account,time,source\nAda,2026-11-19T08:00:00Z,vpn\nada,2026-11-01,mail\n",
		"\ufeffTime,Source,Account\r\n2026-11-01,mail,ADA\r\n2026-11-19T09:00:00+01:00,vpn, ada \r\n",
		"{\"account\":\"ada\",\"time\":\"2026-11-19T08:00:00Z\",\"source\":\"vpn\"}\n\n{\"account\":\"Ada\",\"time\":\"2026-11-01\",\"source\":\"mail\"}\n",
	} {
		got, err := ReadActivity(strings.NewReader(text), "a", time.UTC)
		require.NoError(t, err, text)
		assert.Equal(t, map[directory.Key]directory.SignIn{directory.TextKey("ada"): {At: at, Source: "vpn"}}, got, text)
	}
	for text, want := range map[string]string{
		"":                               "a is empty",
		"account,source\nada,vpn\n":      "must name the columns",
		"account,time\nada,soon\n":       `a: line 2, account "ada": "soon" is not a time`,
		"account,time\n ,2026-11-01\n":   "line 2 has no account",
		"account,time\nada\n":            "wrong number of fields",
		"account,time\n\"ada,2026-11-01": "a: ",
		"{\"account\":\"ada\"}":          "is not a time",
		"{\"account\":7}":                "line 1 is not a JSON object",
		"{\"account\":\"a\",\"time\":\"2026-11-01\"}\nx": "line 2 is not a JSON object",
		"{" + strings.Repeat("x", 2<<20):                 "a: ",
	} {
		_, err := ReadActivity(strings.NewReader(text), "a", time.UTC)
		assert.ErrorContains(t, err, want)
	}
}

func TestTheServersOfADomainComeFromDNS(t *testing.T) {
	records := map[string][]*net.SRV{
		"ldap dc._msdcs.larkmoor.example": {{Target: "dc1.larkmoor.example."}, {Target: "dc2.larkmoor.example."}},
		"ldap larkmoor.example":           {{Target: "any.larkmoor.example."}},
		"ldaps dome.example":              {{Target: "tls.dome.example."}},
		"ldap dome.example":               {{Target: "plain.dome.example."}},
	}
	lookup := func(_ context.Context, service, proto, name string) (string, []*net.SRV, error) {
		assert.Equal(t, "tcp", proto)
		if found := records[service+" "+name]; found != nil {
			return "", found, nil
		}
		return "", nil, errors.New("no such host")
	}
	assert.Equal(t, []string{"dc1.larkmoor.example", "dc2.larkmoor.example"}, DomainServers(t.Context(), lookup, "larkmoor.example"), "domain controllers before any server")
	assert.Equal(t, []string{"tls.dome.example"}, DomainServers(t.Context(), lookup, "dome.example"), "those that speak TLS first")
	assert.Empty(t, DomainServers(t.Context(), lookup, "nowhere.example"))
}

// What is read beside something else is read on the one connection where a server takes
// no second one, or loses it.
func TestWhatIsReadBesideIsReadInAnyCase(t *testing.T) {
	dir := practice.New(demo.Base, demo.SID, time.Now)
	require.NoError(t, dir.Load(bytes.NewReader(demoText(t))))
	server := &practice.Server{Dir: dir, Account: "keeper", Password: "keeper-secret"}
	url, err := server.Listen(t.Context(), "127.0.0.1:0")
	require.NoError(t, err)
	s := connectTo(t, "", url)
	for name, c := range map[string]struct {
		fault   practice.Fault
		on      string
		own     bool
		entries int
	}{
		"a second connection": {own: false, entries: 1},
		"no second one":       {fault: practice.Fault{Code: 51}, on: "bind", own: true, entries: 1}, // busy
		"one that is lost":    {fault: practice.Fault{DropBefore: true}, on: "search", own: true, entries: 1},
	} {
		failed := false
		server.SetFault(func(op practice.Operation) practice.Fault {
			if op.Name != c.on || failed || op.Name == "search" && !strings.EqualFold(op.DN, "CN=Users,"+demo.Base) {
				return practice.Fault{}
			}
			failed = true
			return c.fault
		})
		var found int
		var from *Server
		wait := s.beside(t.Context(), func(ctx context.Context, on *Server) error {
			found, from = 0, on
			_, err := on.Search(ctx, Query{Base: "CN=Users," + demo.Base, Attributes: []string{"cn"}}, func(page []directory.Entry) error {
				found += len(page)
				return nil
			})
			return err
		})
		require.NoError(t, wait(), name)
		assert.Equal(t, c.entries, found, name)
		assert.Equal(t, c.own, from == s, name)
	}
	server.SetFault(nil)
	wait := s.beside(t.Context(), func(context.Context, *Server) error { return errors.New("it cannot be read") })
	assert.EqualError(t, wait(), "it cannot be read")
}
