package conformance

import (
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/logs"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/work"
)

// TestTraces signs people in and has them refused, as people and programs do, and traces
// them by what the servers themselves have written down and counted.
func TestTraces(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.real == nil {
			t.Skip("the practice directory writes no log")
		}
		began := time.Now().Add(-time.Second)
		c := s.connect(t)
		ada, bo, cy := s.person(t, c, "Ada Quill", "ada.quill"), s.person(t, c, "Bo Off", "bo.off"), s.person(t, c, "Cy Gone", "cy.gone")
		name := map[string]string{"ada": ada, "bo": bo, "cy": cy, "nobody": strings.Replace(ada, "Ada Quill", "No Body", 1)}
		var disable func(*ldap.ModifyRequest)
		switch s.dialect {
		case directory.AD:
			name = map[string]string{"ada": "ada.quill@larkmoor.example", "bo": `LARKMOOR\bo.off`, "cy": cy, "nobody": "no.body@larkmoor.example"}
			disable = func(r *ldap.ModifyRequest) { r.Replace("userAccountControl", []string{"514"}) }
		case directory.NS389:
			disable = func(r *ldap.ModifyRequest) { r.Replace("nsAccountLock", []string{"true"}) }
		default:
			disable = func(r *ldap.ModifyRequest) { r.Replace("pwdAccountLockedTime", []string{directory.PermanentLockValue}) }
		}
		require.Zero(t, modify(c, bo, disable))
		require.True(t, s.bind(t, name["ada"], "Right-secret1"))
		require.False(t, s.bind(t, name["bo"], "Right-secret1"))
		require.False(t, s.bind(t, name["nobody"], "guessed"))
		require.False(t, s.bind(t, name["cy"], "guessed"))
		if s.samba != nil {
			_, conf := s.samba.Kinit(t, "ada.quill", "Right-secret1")
			for _, who := range []string{"ada.quill", "no.body"} {
				cmd := exec.Command("kinit", "-c", "FILE:"+t.TempDir()+"/cc", who+"@LARKMOOR.EXAMPLE")
				cmd.Env, cmd.Stdin = append(os.Environ(), "KRB5_CONFIG="+conf), strings.NewReader("wrong\n")
				require.Error(t, cmd.Run())
			}
		}
		s.lock(t, ada, "ada.quill")
		require.False(t, s.bind(t, name["ada"], "Right-secret1"), "it is locked")

		set := settings.Defaults()
		yard := s.yard
		yard.Logs = []settings.Log{{Path: s.real.Log}}
		if s.real.SecurityLog != "" {
			yard.Logs = append(yard.Logs, settings.Log{Path: s.real.SecurityLog})
		}
		set.Yards, set.Default = map[string]settings.Yard{"here": yard}, "here"
		session, err := work.New(set)
		require.NoError(t, err)
		session.State = t.TempDir()
		t.Cleanup(func() { require.NoError(t, session.Close()) })
		p, err := session.Open(t.Context(), work.From{})
		require.NoError(t, err)
		defer p.Close()
		trace := func(who string) *work.AccountTrace {
			found, err := session.Trace(t.Context(), p, who, &work.LogsFrom{Since: began.UTC().Format(time.RFC3339)})
			require.NoError(t, err)
			for _, r := range found.Reports {
				require.NoError(t, r.Error)
				require.Zero(t, r.Broken, r.Fault)
			}
			return found
		}

		found := trace("ada.quill")
		assert.GreaterOrEqual(t, found.Trace.Refused, 4)
		assert.GreaterOrEqual(t, found.Trace.SignedIn, 1)
		for _, src := range found.Trace.Sources {
			assert.Equal(t, "127.0.0.1", src.Name())
			assert.Contains(t, []string{"LDAP", "Kerberos"}, src.Via)
		}
		assert.True(t, found.Out, "the directory says that it is locked")
		if s.dialect != directory.NS389 { // which says until when instead
			assert.WithinDuration(t, time.Now(), found.Locked, time.Minute)
		} else {
			assert.WithinDuration(t, time.Now().Add(time.Hour), found.Ends, time.Minute)
		}
		require.Len(t, found.Case.Servers, 1)
		require.NoError(t, found.Case.Servers[0].Err)
		assert.GreaterOrEqual(t, found.Case.Servers[0].Wrong, found.Case.MaxFailures, "%+v", found.Case)
		assert.NotZero(t, found.Case.MaxFailures)
		if s.dialect == directory.NS389 {
			assert.WithinRange(t, found.Case.Servers[0].Resets, began, time.Now().Add(time.Hour))
		}
		if s.samba != nil {
			assert.Equal(t, "DC1", found.Began, "where the lock began")
			assert.Equal(t, 1, found.Trace.Locks, "as the log has it")
		}
		whys := map[logs.Why]int{}
		for _, a := range found.Trace.Attempts {
			whys[a.Why]++
		}
		if s.dialect != directory.OpenLDAP { // which says the same of a wrong password and of a lock
			assert.GreaterOrEqual(t, whys[logs.WrongPassword], 3)
			assert.NotZero(t, whys[logs.AccountLocked], "%v", whys)
		}

		changes, err := session.Changes(t.Context(), p, found)
		require.NoError(t, err)
		said := map[string]string{}
		for _, c := range changes {
			assert.WithinRange(t, c.At, began, time.Now())
			said[string(c.By)+": "+c.What] = c.Who
		}
		switch s.dialect {
		case directory.AD:
			assert.Contains(t, said, "directory: locked or unlocked")
			assert.Equal(t, "Administrator", said["log: created"])
			assert.Equal(t, "Administrator", said["log: password reset"])
		default:
			assert.Contains(t, strings.ToLower(said["directory: created"]), "cn=")
		}

		found = trace("bo.off")
		assert.Equal(t, 1, found.Trace.Refused)
		if s.dialect != directory.OpenLDAP {
			assert.Equal(t, logs.AccountDisabled, found.Trace.Attempts[len(found.Trace.Attempts)-1].Why)
		}
		assert.Equal(t, 1, trace("cy.gone").Trace.Refused)

		all, err := session.TraceAll(t.Context(), p, &work.TraceQuestion{LogsFrom: work.LogsFrom{Since: began.UTC().Format(time.RFC3339)}})
		require.NoError(t, err)
		var strangers []string
		for _, one := range all.All {
			if one.Account == nil {
				strangers = append(strangers, one.Name)
			}
		}
		nobody := directory.FoldDN(name["nobody"])
		if s.dialect == directory.AD {
			nobody = "no.body"
		}
		assert.Equal(t, []string{nobody}, strangers)
	})
}

// Whoever may not read what a server has counted is not told that nothing was.
func TestWrongPasswordsThatAreHiddenAreNotNone(t *testing.T) {
	counted := map[*directory.Dialect][]string{directory.AD: {"badPwdCount", "badPasswordTime"}, directory.OpenLDAP: {"pwdFailureTime"}, directory.NS389: {"passwordRetryCount"}}
	each(t, func(t *testing.T, s *subject) {
		if s.real == nil {
			t.Skip("the practice directory counts none")
		}
		a := s.auditor(t)
		dn := s.person(t, a.keeper, "Dee Fresh", "dee.fresh")
		failures := func() source.Failures {
			c, err := source.Connect(t.Context(), source.Target{Yard: a.yard})
			require.NoError(t, err)
			defer c.Close()
			found, err := c.Get(t.Context(), []string{dn})
			require.NoError(t, err)
			require.Len(t, found, 1)
			return c.Failures(t.Context(), &found[0])[0]
		}
		require.Equal(t, source.Failures{Server: failures().Server}, failures(), "nobody was refused")
		a.deny(t, dn, false, counted[s.dialect]...)
		require.ErrorContains(t, failures().Err, "it does not show wrong passwords to this account")
	})
}
