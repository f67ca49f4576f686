package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/realserver"
)

// From nothing: a server whose certificate nobody here knows, on a terminal.
func TestAYardIsAddedByAnsweringQuestions(t *testing.T) {
	server := realserver.OpenLDAP(t)
	dir := t.TempDir()
	config := filepath.Join(dir, "yardbroom", "settings.yaml")
	add := func() *terminal {
		return onTerminal(t, program(t, []string{"YARDBROOM_CONFIG=" + config, "YARDBROOM_STATE=" + filepath.Join(dir, "state")}, "yard", "add"), 100)
	}
	no := add()
	no.answer("Server, or the domain", server.TLSURL)
	no.answer("Trust the authority that signed it", "")
	assert.Equal(t, exitFailed, no.wait())
	assert.Contains(t, no.text(), "the certificate is not trusted: nothing was written")
	assert.NoFileExists(t, config)

	wrong := add()
	wrong.answer("Server, or the domain", server.TLSURL)
	wrong.answer("Trust the authority that signed it", "yes")
	wrong.answer("What to call it", "")
	wrong.answer("Sign in as", server.Yard.Bind.DN)
	wrong.answer("Password for", "not it")
	assert.Equal(t, exitFailed, wrong.wait())
	assert.Contains(t, wrong.text(), "refuses the name or the password")
	assert.NoDirExists(t, filepath.Dir(config))

	yes := add()
	yes.answer("Server, or the domain", server.TLSURL)
	yes.answer("Trust the authority that signed it", "yes")
	yes.answer("What to call it", "observatory")
	yes.answer("Sign in as", server.Yard.Bind.DN)
	yes.answer("Password for", server.Password)
	yes.answer("Is that where they belong", "")
	yes.answer("Keep the password in a file", "")
	assert.Equal(t, exitDone, yes.wait(), yes.text())
	assert.Contains(t, yes.text(), "SHA-256  ")
	assert.Contains(t, yes.text(), "certificate verified")
	assert.Contains(t, yes.text(), "Look what is there: yardbroom audit\r\n")
	assert.NotContains(t, yes.text(), server.Password)
	for _, name := range []string{"settings.yaml", "observatory.password", "observatory-ca.pem"} {
		info, err := os.Stat(filepath.Join(filepath.Dir(config), name))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), name)
	}

	out, err := program(t, []string{"YARDBROOM_CONFIG=" + config, "YARDBROOM_STATE=" + filepath.Join(dir, "state")}, "audit").CombinedOutput()
	require.NoError(t, err, string(out))
}

// By options alone, as a script does it.
func TestAYardIsAddedByOptions(t *testing.T) {
	y := newSmallYard(t)
	url := strings.TrimSuffix(strings.Fields(y.mustRun(t, "yard", "test", "--quick"))[2], ",")
	config := filepath.Join(t.TempDir(), "settings.yaml")
	y.env[0] = "YARDBROOM_CONFIG=" + config
	for _, c := range []struct {
		args []string
		want string
	}{
		{nil, "say which directory with --server"},
		{[]string{"--server", url}, "say with --bind as whom"},
		{[]string{"--server", url, "--bind", "keeper@larkmoor.example"}, "where the password of keeper@larkmoor.example is"},
		{[]string{"--server", url, "--bind", "keeper@larkmoor.example", "--password-env", "YARD_PASSWORD", "a b"}, "cannot name a yard"},
	} {
		out, status := y.run(t, append([]string{"yard", "add"}, c.args...)...)
		assert.Equal(t, exitUsage, status, out)
		assert.Contains(t, out, c.want)
	}
	out, status := y.run(t, "yard", "add", "--server", url, "--bind", "keeper@larkmoor.example", "--password-env", "NOT_SET")
	assert.Equal(t, exitFailed, status, out)
	assert.NoFileExists(t, config)

	out = y.mustRun(t, "yard", "add", "--server", url, "--bind", "keeper@larkmoor.example", "--password-env", "YARD_PASSWORD", "--parking", "OU=Parked,"+smallBase)
	assert.Contains(t, out, "the yard larkmoor")
	assert.Contains(t, out, "all of them known")
	assert.Contains(t, y.mustRun(t, "audit"), "never-used")
	text, err := os.ReadFile(config)
	require.NoError(t, err)
	assert.Contains(t, string(text), `bind: {dn: "keeper@larkmoor.example", password_env: YARD_PASSWORD}`)
	assert.NotContains(t, string(text), "practice only")
	out, status = y.run(t, "yard", "add", "--server", url, "--bind", "keeper@larkmoor.example", "--password-env", "YARD_PASSWORD")
	assert.Equal(t, exitUsage, status)
	assert.Contains(t, out, "there is a yard larkmoor already")
}

func TestYardTestLooksUpWhatTheSettingsName(t *testing.T) {
	y := newSmallYard(t)
	assert.Contains(t, y.mustRun(t, "yard", "test", "--quick"), "ok    Settings")
	y.set(t, `
audit:
  parking: ["OU=Nowhere,DC=larkmoor,DC=example"]
  filters: {odd: {filter: "(favouriteColour=red)"}}
exemptions:
  - {match: {account: nobodyhere}, reason: a robot, owner: workshop}
  - {match: {person: "17"}, reason: a robot, owner: workshop}
  - {match: {account: adaquill}, reason: known, owner: workshop}
rounds:
  nightly:
    steps:
      - stage: {actions: "disable,move", checks: stale, to: Parkd}
      - stage: {actions: join-group, checks: stale, groups: crews}
`)
	out, status := y.run(t, "yard", "test", "--quick")
	assert.Equal(t, exitDone, status)
	for _, want := range []string{
		"LOOK  Settings         audit: parking names OU=Nowhere,DC=larkmoor,DC=example: there is no such entry",
		"audit: filters: odd: filter names favouriteColour: no entry of ",
		"exemptions: 1 names nobodyhere: no entry is called so",
		"exemptions: 2: person names 17: no roster of this yard is kept",
		`rounds: nightly: steps: 1: to names Parkd: no OU is called "Parkd" (did you mean Parked?)`,
		`rounds: nightly: steps: 2: groups names crews: there is no group "crews" (did you mean Crew?)`,
	} {
		assert.Contains(t, out, want)
	}
	assert.NotContains(t, out, "adaquill")
}
