package settings

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func aNewYard() *NewYard {
	return &NewYard{Name: "observatory", About: "ad, 12 accounts", Parking: []string{"OU=Parked,DC=larkmoor,DC=example"},
		CouldScope: []string{"OU=Staff,DC=larkmoor,DC=example"}, CouldLeaveOut: []string{`OU=A "b", c: #d,DC=larkmoor,DC=example`},
		Yard: Yard{Servers: []string{"ldaps://dc1.larkmoor.example"}, Base: "DC=larkmoor,DC=example", CAFile: "observatory-ca.pem",
			Bind: Bind{DN: "auditor@larkmoor.example", PasswordFile: "observatory.password"}}}
}

func TestAYardIsWrittenIntoNewSettings(t *testing.T) {
	file := filepath.Join(t.TempDir(), "settings.yaml")
	left, err := AddYard(file, aNewYard())
	require.NoError(t, err)
	assert.Empty(t, left)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, `# The settings of yardbroom; docs/settings.md tells what else there is.
default: observatory
yards:
  observatory: # ad, 12 accounts
    servers: ["ldaps://dc1.larkmoor.example"]
    base: "DC=larkmoor,DC=example"
    # only these OUs get findings and may be changed; without it, all below the base
    # scope: ["OU=Staff,DC=larkmoor,DC=example"]
    # accounts of services: they get no findings and are never changed
    # leave_out: ["OU=A \"b\", c: #d,DC=larkmoor,DC=example"]
    bind: {dn: "auditor@larkmoor.example", password_file: observatory.password}
    ca_file: observatory-ca.pem # whose certificates are trusted
audit:
  # where disabled accounts are kept until they are deleted
  parking: ["OU=Parked,DC=larkmoor,DC=example"]
`, string(text))
	s, err := Load(file)
	require.NoError(t, err)
	assert.Equal(t, "auditor@larkmoor.example", s.Yards["observatory"].Bind.DN)
	assert.Equal(t, filepath.Join(filepath.Dir(file), "observatory.password"), s.Yards["observatory"].Bind.PasswordFile)
}

func TestAYardIsAddedToSettingsThatStayAsTheyAre(t *testing.T) {
	for name, c := range map[string]struct{ was, want, left string }{
		"the only yard stays the default": {
			"# ours\nyards: # all\n    a: # first\n        servers: ['ldap://a']\nbatch: {max_lines: 7} # few\n",
			"default: a\n# ours\nyards: # all\n    observatory: # ad, 12 accounts\n", "",
		},
		"parking is there already": {
			"default: a\naudit: {parking: ['ou=parked,dc=larkmoor,dc=example']}\nyards:\n  a: {servers: ['ldap://a']}\n",
			"default: a\naudit: {parking: ['ou=parked,dc=larkmoor,dc=example']}\nyards:\n  observatory: # ad", "",
		},
		"an audit of its own": {"audit:\n  stale_after: 30d\n", "audit:\n  stale_after: 30d\nyards:\n  observatory:", `audit: {parking: ["OU=Parked,DC=larkmoor,DC=example"]}`},
	} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "settings.yaml")
			require.NoError(t, os.WriteFile(file, []byte(c.was), 0o600))
			left, err := AddYard(file, aNewYard())
			require.NoError(t, err)
			assert.Equal(t, c.left, left)
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.Contains(t, string(text), c.want)
			s, err := Load(file)
			require.NoError(t, err)
			assert.Contains(t, s.Yards, "observatory")
		})
	}
}

func TestSettingsThatWouldBeWrongAreLeftAsTheyAre(t *testing.T) {
	for _, c := range []struct{ was, want string }{
		{"yards: {a: {servers: ['ldap://a']}}\n", "by hand"},
		{"yards:\n  observatory:\n    servers: ['ldap://a']\n", "already defined"},
		{"yards:\n  b: [\n", "line 2"},
	} {
		dir := t.TempDir()
		file := filepath.Join(dir, "settings.yaml")
		require.NoError(t, os.WriteFile(file, []byte(c.was), 0o600))
		_, err := AddYard(file, aNewYard())
		require.ErrorContains(t, err, c.want)
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, c.was, string(text))
		all, err := os.ReadDir(dir)
		require.NoError(t, err)
		assert.Len(t, all, 1, "nothing else is left")
	}
}
