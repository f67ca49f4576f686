package conformance

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/practice"
	"yardbroom/internal/realserver"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

func connect(t *testing.T, yard settings.Yard) (*source.Server, error) {
	t.Helper()
	c, err := source.Connect(context.Background(), source.Target{Yard: yard})
	if err == nil {
		t.Cleanup(func() { c.Close() })
	}
	return c, err
}

func TestWaysToConnect(t *testing.T) {
	server := realserver.OpenLDAP(t)
	with := func(change func(*settings.Yard)) settings.Yard {
		y := server.Yard
		change(&y)
		return y
	}
	stranger := t.TempDir()
	realserver.Certificate(t, stranger, "localhost")
	for _, c := range []struct {
		name string
		yard settings.Yard
		want string // in the error, "" for success
	}{
		{"ldaps with the authority", with(func(y *settings.Yard) { y.Servers = []string{server.TLSURL} }), ""},
		{"StartTLS", with(func(y *settings.Yard) { y.StartTLS = true }), ""},
		{"a unix socket", with(func(y *settings.Yard) { y.Servers = []string{server.SocketURL} }), ""},
		{"a unix socket, signing in by it", with(func(y *settings.Yard) {
			y.Servers, y.Bind = []string{server.SocketURL}, settings.Bind{}
		}), ""},
		{"anonymous", with(func(y *settings.Yard) { y.Bind = settings.Bind{} }), ""},
		{"password from a command", with(func(y *settings.Yard) {
			y.Bind = settings.Bind{DN: y.Bind.DN, PasswordCommand: "printf 'admin-secret\nmore'"}
		}), ""},
		{"another server in reserve", with(func(y *settings.Yard) { y.Servers = []string{"ldap://127.0.0.1:1", server.TLSURL} }), ""},
		{"no TLS where the server wants it", with(func(y *settings.Yard) {
			y.Servers = []string{strings.Replace(server.TLSURL, "ldaps:", "ldap:", 1)}
		}), "closed before the server had answered: is it ldap:// or ldaps:// there?"},
		{"TLS where the server wants none", with(func(y *settings.Yard) {
			y.Servers = []string{strings.Replace(server.Yard.Servers[0], "ldap:", "ldaps:", 1)}
		}), "closed before the server had answered: is it ldap:// or ldaps:// there?"},
		{"an unknown authority", with(func(y *settings.Yard) {
			y.Servers, y.CAFile = []string{server.TLSURL}, filepath.Join(stranger, "ca.pem")
		}), "signed by nobody known here"},
		{"no authority at all", with(func(y *settings.Yard) { y.Servers, y.CAFile = []string{server.TLSURL}, "" }), "signed by nobody known here"},
		{"another name", with(func(y *settings.Yard) {
			y.Servers = []string{strings.Replace(server.TLSURL, "127.0.0.1", "127.0.0.2", 1)}
		}), "cannot connect|another name"},
		{"an unknown authority with StartTLS", with(func(y *settings.Yard) { y.StartTLS, y.CAFile = true, filepath.Join(stranger, "ca.pem") }), "signed by nobody known here"},
		{"a wrong password", with(func(y *settings.Yard) {
			y.Bind = settings.Bind{DN: y.Bind.DN, PasswordCommand: "echo wrong"}
		}), "refuses the name or the password"},
		{"an empty password", with(func(y *settings.Yard) {
			y.Bind = settings.Bind{DN: y.Bind.DN, PasswordCommand: "true"}
		}), "is empty"},
		{"nobody to ask", with(func(y *settings.Yard) { y.Bind = settings.Bind{DN: y.Bind.DN, Ask: true} }), "no terminal"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, err := connect(t, c.yard)
			if c.want == "" {
				require.NoError(t, err)
				assert.Equal(t, directory.OpenLDAP, s.Dialect)
				return
			}
			require.Error(t, err)
			assert.NotContains(t, err.Error(), "\n", "one line")
			assert.Regexp(t, c.want, err.Error())
		})
	}
}

func TestSambaTakesPasswordsOverTLSOnlyAndSaysSo(t *testing.T) {
	server := sambaServer(t)
	y := server.Yard
	y.Servers = []string{"ldap://127.0.0.1"}
	_, err := connect(t, y)
	assert.ErrorContains(t, err, "takes a password only over TLS: use ldaps://, or starttls")
	y.StartTLS = true
	_, err = connect(t, y)
	assert.NoError(t, err)
}

func TestKerberosTicketsSignIn(t *testing.T) {
	server := sambaServer(t)
	cache, conf := server.Kinit(t, "administrator", server.Password)
	t.Setenv("KRB5_CONFIG", conf)
	y := server.Yard
	y.Bind = settings.Bind{Kerberos: true, CredentialCache: cache, Service: "ldap/dc1.larkmoor.example"}
	s, err := connect(t, y)
	require.NoError(t, err)
	assert.Equal(t, "administrator@LARKMOOR.EXAMPLE", s.Bound)
	_, err = s.Identity(context.Background())
	require.NoError(t, err)

	y.Bind.CredentialCache = filepath.Join(t.TempDir(), "none")
	_, err = connect(t, y)
	assert.ErrorContains(t, err, "sign in with kinit first")
	y.Bind.CredentialCache, y.Bind.Service = cache, ""
	_, err = connect(t, y)
	assert.ErrorContains(t, err, "kerberos knows services by name")
	y.Bind.CredentialCache, _ = server.Kinit(t, "administrator", server.Password, "-l", "1s")
	time.Sleep(1100 * time.Millisecond)
	_, err = connect(t, y)
	assert.ErrorContains(t, err, "expired")
	assert.ErrorContains(t, err, "get a new one")
}

func TestProbeTellsWhatTheAccountCanDo(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c := s.connect(t)
		s.person(t, c, "Ada Quill", "aquill")
		p, err := c.Probe(context.Background())
		require.NoError(t, err)
		assert.True(t, p.Paging)
		assert.True(t, p.ClockOK())
		rights := map[string]bool{}
		for _, r := range p.Rights {
			rights[r.What] = r.OK
			assert.NotEmpty(t, r.Text)
		}
		if s.dialect == directory.AD {
			assert.True(t, rights["Reads deleted"])
			assert.True(t, rights["Reads sign-ins"])
		} else {
			assert.True(t, rights["Guarded writes"])
			assert.False(t, rights["Reads sign-ins"], "nobody has signed in yet")
		}
	})
}

func TestRealSignInsAndLocksAreJudged(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.dir != nil {
			t.Skip("the practice directory records no sign-ins")
		}
		c := s.connect(t)
		ada, bram := s.person(t, c, "Ada Quill", "aquill"), s.person(t, c, "Bram Tern", "btern")
		require.True(t, s.bind(t, by(s, "aquill@larkmoor.example", ada), "Right-secret1"))
		s.lock(t, bram, "btern")
		survey, err := c.Survey(context.Background())
		require.NoError(t, err)
		survey.DefaultPolicy = directory.FoldDN(s.yard.DefaultPolicy)
		set, checks := settings.Defaults(), []string{"stale", "never-used", "expired", "disabled", "locked-out"}
		report, err := audit.Run(survey, set, audit.Options{AsOf: survey.Taken, Scope: []string{s.base}, Checks: checks})
		require.NoError(t, err)
		got := map[string]string{}
		for _, f := range report.Findings {
			got[f.Account] += f.Check + " "
		}
		assert.Equal(t, map[string]string{"btern": "locked-out "}, got)

		// Two hundred days from now Ada has not been seen for long, and Bram never.
		later := survey.Taken.AddDate(0, 0, 200)
		report, err = audit.Run(survey, set, audit.Options{AsOf: later, Scope: []string{s.base}, Checks: checks})
		require.NoError(t, err)
		got = map[string]string{}
		for _, f := range report.Findings {
			got[f.Account] += f.Check + " " + string(f.Confidence) + " "
		}
		want := map[string]string{"aquill": "stale sure ", "btern": "never-used sure "}
		if s.dialect == directory.NS389 { // nobody there is disabled, so that could not be seen
			want = map[string]string{"aquill": "stale likely ", "btern": "never-used likely "}
		}
		if s.dialect == directory.OpenLDAP { // there the lock lasts until somebody ends it
			want["btern"] += "locked-out sure "
			want["btern"] = "never-used sure locked-out sure "
		}
		assert.Equal(t, want, got)
	})
}

func TestAnAccountWithoutRightsIsToldSo(t *testing.T) {
	server := realserver.OpenLDAP(t)
	s := &subject{name: "slapd", yard: server.Yard, base: server.Base, dialect: directory.OpenLDAP}
	s.fresh(t)
	admin := s.connect(t)
	ada := s.person(t, admin, "Ada Quill", "aquill")
	y := server.Yard
	y.Bind = settings.Bind{DN: "uid=reader,ou=people," + server.Base, PasswordCommand: "echo reader-secret"}
	c, err := connect(t, y)
	require.NoError(t, err)
	st := newStory(t, s)
	b := st.mustStage("disable", "", ada)
	st.c = c
	res, kept := st.apply(b)
	assert.Contains(t, res.Halted, "may not write")
	assert.Contains(t, kept.Lines[0].Note, "may not do this")
	assert.Empty(t, s.entry(t, admin, ada).Get("pwdAccountLockedTime"))
	_, err = c.Search(context.Background(), source.Query{Base: "ou=hidden," + server.Base, Scope: ldap.ScopeWholeSubtree, Attributes: []string{"1.1"}}, func([]directory.Entry) error { return nil })
	assert.ErrorIs(t, err, source.ErrNotFound)
}

func TestASurveyIsWholeOrNotThere(t *testing.T) {
	s := practiceSubject(t)
	c := s.connect(t)
	for i := range 40 {
		s.person(t, c, "Person "+strings.Repeat("x", i+1), "person"+strings.Repeat("x", i+1))
	}
	s.yard.PageSize = 7
	for name, fault := range map[string]practice.Fault{"dropped": {DropAfter: true}, "refused": {Code: ldap.LDAPResultSizeLimitExceeded}} {
		t.Run(name, func(t *testing.T) {
			c := s.connect(t)
			want, err := c.Survey(context.Background())
			require.NoError(t, err)
			dir := t.TempDir()
			for n := 1; n < 25; n += 3 {
				hit := s.faultAt(n, fault)
				got, err := c.Survey(context.Background())
				s.server.SetFault(nil)
				if name == "dropped" {
					require.NoError(t, err, "it is read again, from the beginning")
					require.Equal(t, want.Entries, got.Entries, "nothing twice, nothing missing")
					continue
				}
				if hit.Load() {
					require.ErrorContains(t, err, "gives only a part of its entries")
				}
			}
			s.faultAt(5, practice.Fault{Code: ldap.LDAPResultSizeLimitExceeded})
			_, err = source.Keep(context.Background(), c, source.Keeping{Dir: dir, Name: "part", Now: time.Now})
			s.server.SetFault(nil)
			require.Error(t, err)
			left, err := os.ReadDir(dir)
			require.NoError(t, err)
			assert.Empty(t, left, "no half survey lies around")
			m, err := source.Keep(context.Background(), c, source.Keeping{Dir: dir, Name: "whole", Now: time.Now})
			require.NoError(t, err)
			f, err := source.OpenKept(dir, "whole")
			require.NoError(t, err)
			kept, err := f.Survey(context.Background())
			require.NoError(t, err)
			assert.Equal(t, want.Accounts.Len(), kept.Accounts.Len())
			assert.Equal(t, m.Entries, kept.Entries)
		})
	}
}

func TestAKeptSurveyJudgesAsTheServerDid(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c := s.connect(t)
		ada := s.person(t, c, "Ada Quill", "aquill")
		s.person(t, c, "Bram Tern", "btern")
		s.lock(t, ada, "aquill")
		ctx := context.Background()
		live, err := c.Survey(ctx)
		require.NoError(t, err)
		dir := t.TempDir()
		_, err = source.Keep(ctx, c, source.Keeping{Dir: dir, Name: "now", Now: time.Now})
		require.NoError(t, err)
		f, err := source.OpenKept(dir, "now")
		require.NoError(t, err)
		f.DefaultPolicy = s.yard.DefaultPolicy
		kept, err := f.Survey(ctx)
		require.NoError(t, err)
		later := time.Now().AddDate(0, 0, 300)
		judge := func(survey *directory.Survey) []audit.Finding {
			r, err := audit.Run(survey, settings.Defaults(), audit.Options{AsOf: later})
			require.NoError(t, err)
			for i := range r.Findings {
				r.Findings[i].Evidence = nil // names the server or not
			}
			return r.Findings
		}
		assert.Equal(t, judge(live), judge(kept))
		assert.NotEmpty(t, judge(kept))
	})
}

// TestAServerThatWantsSmallPagesGetsThem: slapd refuses more than it may give at once, with
// the code that it has for too much work too.
func TestAServerThatWantsSmallPagesGetsThem(t *testing.T) {
	server := realserver.FilledOpenLDAP(t, 400, realserver.SlapdSmallPages, realserver.SlapdLastBind, realserver.SlapdPolicies)
	y := server.Yard
	y.Bind = settings.Bind{DN: "uid=reader,ou=people," + server.Base, PasswordCommand: "echo reader-secret"}
	refusals := func() int {
		log, err := os.ReadFile(server.Log)
		require.NoError(t, err)
		return strings.Count(string(log), "illegal pagedResults page size")
	}
	for _, size := range []int{0, 400} {
		y.PageSize = size
		c, err := source.Connect(t.Context(), source.Target{Yard: y})
		require.NoError(t, err)
		before := refusals()
		survey, err := c.Survey(t.Context())
		require.NoError(t, err)
		assert.Equal(t, 401, survey.Accounts.Len(), "the reader too")
		refused := refusals() - before
		assert.NotZero(t, refused)
		names := map[string]bool{}
		_, err = c.Search(t.Context(), source.Query{Base: server.Base, Scope: ldap.ScopeWholeSubtree, Filter: "(uid=filler*)"},
			func(page []directory.Entry) error {
				for i := range page {
					names[page[i].DN] = true
				}
				return nil
			})
		require.NoError(t, err)
		assert.Len(t, names, 400)
		assert.Equal(t, refused, refusals()-before, "it is known then")
		c.Close()
	}
}

// TestAServerThatHoldsALimitAgainstEachPageIsReadWhole: 389 Directory Server gives what it
// may, and then an error, though smaller pages would all be within the limit.
func TestAServerThatHoldsALimitAgainstEachPageIsReadWhole(t *testing.T) {
	s := ns389Subject(t)
	a := s.auditor(t)
	for i := range 130 {
		s.person(t, a.keeper, fmt.Sprint("Limited ", i), fmt.Sprint("limited", i))
	}
	require.Zero(t, modify(a.keeper, a.dn, func(r *ldap.ModifyRequest) { r.Replace("nsSizeLimit", []string{"60"}) }))
	a.yard.PageSize = 400
	c, err := source.Connect(t.Context(), source.Target{Yard: a.yard})
	require.NoError(t, err)
	defer c.Close()
	seen := map[string]int{}
	_, err = c.Search(t.Context(), source.Query{Base: s.base, Scope: ldap.ScopeWholeSubtree, Filter: "(uid=limited*)"},
		func(page []directory.Entry) error {
			for i := range page {
				seen[page[i].DN]++
			}
			return nil
		})
	require.NoError(t, err)
	assert.Len(t, seen, 130)
	for dn, times := range seen {
		assert.Equal(t, 1, times, dn)
	}
}
