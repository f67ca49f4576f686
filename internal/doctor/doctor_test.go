package doctor

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/practice"
	"yardbroom/internal/realserver"
	"yardbroom/internal/rounds"
	"yardbroom/internal/settings"
	"yardbroom/internal/work"
)

const base = "DC=larkmoor,DC=example"

var now = time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)

// installed is an installation with a yard of one keeper, and more settings.
func installed(t *testing.T, yard, more string) (*rounds.Runner, *practice.Directory) {
	t.Helper()
	dir := practice.New(base, "S-1-5-21-1-2-3", func() time.Time { return now })
	keeper := directory.Entry{DN: "CN=Keeper,CN=Users," + base}
	for name, value := range map[string]string{"objectClass": "user", "sAMAccountName": "keeper", "userAccountControl": "512", "lockoutTime": "0", "lastLogon": directory.FormatFileTime(now),
		"pwdLastSet": directory.FormatFileTime(now.AddDate(0, 0, -3))} {
		keeper.Set(name, value)
	}
	require.NoError(t, dir.Add(keeper))
	url, err := (&practice.Server{Dir: dir, Account: "keeper", Password: "practice only"}).Listen(t.Context(), "127.0.0.1:0")
	require.NoError(t, err)
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(folder+"/password", []byte("practice only\n"), 0o600))
	file := folder + "/settings.yaml"
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, `default: small
yards:
  small:
    servers: ["%s"]
    bind: {dn: keeper@larkmoor.example, password_file: password}
    %s
%s
`, url, yard, more), 0o600))
	set, err := settings.Load(file)
	require.NoError(t, err)
	s, err := work.New(set)
	require.NoError(t, err)
	s.State, s.By, s.Now = filepath.Join(folder, "state"), "tester", func() time.Time { return now }
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	return &rounds.Runner{Session: s, Host: "here"}, dir
}

// wrongs are what is wrong, by area.
func wrongs(t *testing.T, r *rounds.Runner, req Request) map[string]string {
	t.Helper()
	signs, err := Look(t.Context(), r, &req)
	require.NoError(t, err)
	out := map[string]string{}
	for _, s := range signs {
		if !s.OK {
			assert.NotEmpty(t, s.Do, "what to do: %s", s.Text)
			out[s.Area] = strings.TrimPrefix(out[s.Area]+"\n"+s.Text, "\n")
		}
	}
	return out
}

func TestNothingIsWrongWithWhatIsInOrder(t *testing.T) {
	r, _ := installed(t, "", "")
	assert.Empty(t, wrongs(t, r, Request{}))
}

func TestWhatIsWrongIsSaidWithWhatToDo(t *testing.T) {
	r, dir := installed(t, `scope: ["OU=Staf,`+base+`"]`, `exemptions:
  - {match: {account: nobody}, reason: gone, owner: kay}
  - {match: {account: keeper}, reason: over, owner: kay, until: 2026-11-01}
  - {match: {account: keeper}, reason: nearly over, owner: kay, until: 2026-12-01}
rounds:
  nightly: {at: 06:00, steps: [survey]}`)
	require.NoError(t, os.Chmod(r.Settings.File, 0o666))
	require.NoError(t, os.Chmod(r.Settings.Yards["small"].Bind.PasswordFile, 0o600))
	dir.Edit("CN=Keeper,CN=Users,"+base, func(e *directory.Entry) {
		e.Set("msDS-UserPasswordExpiryTimeComputed", directory.FormatFileTime(now.AddDate(0, 0, 9)))
	})
	p, err := r.Open(t.Context(), work.From{})
	require.NoError(t, err)
	defer p.Close()
	_, err = r.ImportLinks(t.Context(), strings.NewReader("account_id,dialect,account,person,name,verdict,why,by,at\n"+
		"00000000-0000-0000-0000-000000000001,ad,ghost,17,Gil Host,confirmed,,kay,2026-01-01T00:00:00Z\n"), "links.csv")
	require.NoError(t, err)
	got := wrongs(t, r, Request{Late: time.Hour})
	assert.Contains(t, got["Settings"], "others may change")
	assert.Contains(t, got["Yard small"], "scope names OU=Staf,"+base)
	assert.Contains(t, got["Yard small"], "the password of keeper@larkmoor.example, which is bound, expires at 2026-11-29")
	assert.Contains(t, got["Exemptions"], "(gone) is for the account nobody, which is in no yard")
	assert.Contains(t, got["Exemptions"], "(over) ended on 2026-11-01")
	assert.Contains(t, got["Exemptions"], "(nearly over) ends on 2026-12-01")
	assert.Contains(t, got["Links"], "about the account ghost")
	assert.Contains(t, got["Round nightly"], "it has never run")
}

func TestAServerThatDoesNotAnswerHidesNothingElse(t *testing.T) {
	r, _ := installed(t, "", `exemptions: [{match: {account: nobody}, reason: gone, owner: kay}]`)
	yard := r.Settings.Yards["small"]
	yard.Servers = []string{"ldap://127.0.0.1:1"}
	r.Settings.Yards["small"] = yard
	got := wrongs(t, r, Request{})
	assert.Contains(t, got["Yard small"], "ldap://127.0.0.1:1")
	assert.NotContains(t, got, "Exemptions", "who is in no yard cannot be said while one does not answer")
	assert.Empty(t, wrongs(t, r, Request{Quick: true}))
}

func TestACertificateThatEndsSoonIsSaid(t *testing.T) {
	server := realserver.OpenLDAP(t) // whose certificate is for two days
	r, _ := installed(t, "", "")
	r.Now = time.Now
	yard := server.Yard
	yard.Servers, yard.CAFile = []string{server.TLSURL}, filepath.Join(server.Dir, "tls", "ca.pem")
	r.Settings.Yards["small"] = yard
	assert.Contains(t, wrongs(t, r, Request{})["Yard small"], "a certificate ends at")
}

func TestLogsThatAreNotWrittenAnyMoreAreSaid(t *testing.T) {
	folder := t.TempDir()
	for name, hours := range map[string]int{"now.log": 1, "old.log": 49} {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte("x\n"), 0o600))
		at := now.Add(-time.Duration(hours) * time.Hour)
		require.NoError(t, os.Chtimes(path, at, at))
	}
	for path, want := range map[string]string{"now.log": "", "*.log": "", "old.log": "old.log was last written to on 2026-11-18", "none.log": "none.log: there is no such file"} {
		r, _ := installed(t, "logs: [{path: \""+filepath.Join(folder, path)+"\"}]", "")
		got := wrongs(t, r, Request{Quick: true})["Logs of small"]
		if want == "" {
			assert.Empty(t, got, path)
		} else {
			assert.Contains(t, got, want, path)
		}
	}
}
