package settings

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/calendar"
)

func load(t *testing.T, text string) (*Settings, error) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "settings.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	return Load(file)
}

func TestLoad(t *testing.T) {
	s, err := load(t, `default: observatory
yards:
  observatory:
    servers: [ldaps://dc1.larkmoor.example]
    base: DC=larkmoor,DC=example
    scope: ["OU=Staff,DC=larkmoor,DC=example"]
    bind: {dn: auditor@larkmoor.example, password_file: auditor}
    time_zone: Europe/Dublin
    timeout: 5s
audit:
  stale_after: 6mo
  parking: ["OU=Parked,DC=larkmoor,DC=example"]
  checks: {expired: off, stale: high}
batch: {max_lines: 20, delete_min_disabled: 2w}
`)
	require.NoError(t, err)
	y := s.Yards["observatory"]
	assert.Equal(t, filepath.Join(filepath.Dir(s.File), "auditor"), y.Bind.PasswordFile, "relative to the settings")
	assert.Equal(t, calendar.Span{Months: 6}, s.Audit.StaleAfter)
	assert.Equal(t, calendar.Days(30), s.Audit.NewAccountGrace, "the default stays")
	assert.Equal(t, Batch{MaxLines: 20, MaxShare: 10, DeleteMinDisabled: calendar.Days(14), HomeHold: calendar.Days(30), KeepDeleted: calendar.Days(365), DayLines: 1000, DayShare: 20}, s.Batch)
	assert.Equal(t, "off", s.Audit.Checks["expired"])
	loc, err := y.Location()
	require.NoError(t, err)
	assert.Equal(t, "Europe/Dublin", loc.String())
}

func TestLoadRefuses(t *testing.T) {
	for text, want := range map[string]string{
		"audit: {stale_aftr: 90d}":                                                                "stale_aftr",
		"audit: {stale_after: soon}":                                                              "not a span",
		"default: nowhere":                                                                        "no yard is called",
		"yards: {a: {base: DC=x}}":                                                                "servers: name at least one",
		"yards: {a: {servers: [x], base: nonsense}}":                                              "not a distinguished name",
		"yards: {a: {servers: [x], dialect: klingon}}":                                            "no dialect is called",
		"yards: {a: {servers: [x], time_zone: Mars/Sea}}":                                         "time_zone",
		"yards: {a: {servers: [x], bind: {dn: a}}}":                                               "needs one of password_file",
		"yards: {a: {servers: [x], bind: {dn: a, ask: true, password_env: B}}}":                   "give one of",
		"roster: {max_rows: -1}":                                                                  "max_rows",
		"batch: {max_share: 0}":                                                                   "max_share",
		"audit: {parking: [parked]}":                                                              "parking",
		"yards: {a: {servers: [x], timeout: never}}":                                              "never",
		"yards: {a: {servers: [x], logs: [{server: dc1}]}}":                                       "logs: 1: path",
		"yards: {a: {servers: [x], logs: [{path: l, time_zone: Mars/Sea}]}}":                      "logs: 1: time_zone",
		"yards: {a: {servers: [x], logs: [{path: l, fields: {time: t}}]}}":                        "fields: time and account are needed",
		"yards: {a: {servers: [x], logs: [{path: l, failure: no}]}}":                              "words of fields.result",
		"yards: {a: {servers: [x], logs: [{path: l, fields: {time: t, account: a, result: r}}]}}": "needs the words",
		"audit: {guess_accounts: 0}":                                                              "guess_accounts: 0: give 1 or more",
	} {
		_, err := load(t, text)
		assert.ErrorContains(t, err, want, text)
	}
}

// Parsers follow nesting by recursion, or copy what stands around it.
func TestSettingsThatNestWithoutEndAreRefusedAtOnce(t *testing.T) {
	deep := func(open, shut string) string { return strings.Repeat(open, 100_000) + strings.Repeat(shut, 100_000) }
	for name, text := range map[string]string{
		"lists":            "default: x\nyards: " + deep("[", "]"),
		"maps":             "default: x\nyards: " + deep("{a: ", "}"),
		"both":             "default: x\nyards: " + deep("[{a: ", "}]"),
		"dashes":           "default: x\n" + deep("- ", ""),
		"brackets by line": "default: x\nyards: " + deep("[\n", "]\n"),
	} {
		_, err := load(t, text)
		assert.ErrorContains(t, err, "nest more than 100 deep", name)
		assert.ErrorContains(t, err, ", line ", name)
	}
	_, err := load(t, "default: '"+strings.Repeat("x", mostOctets)+"'")
	assert.ErrorContains(t, err, "larger than 4 MB")
}

func TestAMissingFileGivesTheDefaultsOnlyWhereItMay(t *testing.T) {
	s, err := LoadIfAny(filepath.Join(t.TempDir(), "none"))
	require.NoError(t, err)
	assert.Equal(t, Defaults(), s)
	for _, empty := range []string{"", "\n", "# only a comment\n"} {
		s, err := load(t, empty)
		require.NoError(t, err)
		assert.Equal(t, Defaults().Batch, s.Batch)
	}
	_, err = Load(filepath.Join(t.TempDir(), "none"))
	assert.Error(t, err)
}

func TestTheDocumentedSettingsAreTheRealOnes(t *testing.T) {
	for _, doc := range []string{"../../docs/settings.md", "../../README.md"} {
		text, err := os.ReadFile(doc)
		require.NoError(t, err)
		_, rest, ok := strings.Cut(string(text), "    default: observatory")
		require.True(t, ok, doc)
		yaml := "default: observatory"
		for line := range strings.Lines(rest) {
			if line != "\n" && !strings.HasPrefix(line, "    ") && !strings.HasPrefix(line, " ") {
				break
			}
			yaml += strings.TrimPrefix(line, "    ")
		}
		s, err := load(t, yaml)
		require.NoError(t, err, doc)
		assert.Equal(t, calendar.Days(90), s.Audit.StaleAfter)
		assert.NotEmpty(t, s.Yards["observatory"].Servers)
	}
}

func TestSigning(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "settings.yaml")
	require.NoError(t, os.WriteFile(file, []byte("signing: {allowed_signers: signers, key: ~/.ssh/id, needed: {delete: 2, disable: 1}}\n"), 0o600))
	set, err := Load(file)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(dir, "signers"), set.Signing.AllowedSigners)
	assert.True(t, filepath.IsAbs(set.Signing.Key))
	assert.Equal(t, []int{2, 1, 0, 100}, []int{set.Signing.For("delete"), set.Signing.For("disable"), set.Signing.For("move"), set.Signing.Over})
	assert.Equal(t, 1, Defaults().Signing.For("delete"))
	for _, bad := range []string{"signing: {over: -1}", "signing: {needed: {delete: 10}}", "batch: {day_lines: 0}", "batch: {day_share: 101}", "signing: {nonsense: 1}"} {
		require.NoError(t, os.WriteFile(file, []byte(bad+"\n"), 0o600))
		_, err := Load(file)
		assert.Error(t, err, bad)
	}
}

func TestWhatIsWrongIsSaidByItsKeyAndLine(t *testing.T) {
	yard := "yards:\n  a:\n    servers: ['ldap://x']\n"
	for text, want := range map[string]string{
		"default: nowhere\n" + yard:                          `line 1, column 10: default: no yard is called "nowhere"`,
		"yards:\n  a:\n    servrs: [x]\n":                    "line 3, column 13: yards: a: servrs: there is no such key here (did you mean servers?); there are servers, avoid, base",
		"yards:\n  a:\n    servers: ldap://x\n":              `line 3, column 14: yards: a: servers: give a list, ["ldap://x"], not "ldap://x" alone`,
		"yards:\n  a:\n    servers: {a: b}\n":                "line 3, column 14: yards: a: servers: give a list, […], not keys with values",
		"yards:\n  a: {servers: [ldap://h:1]}\n":             `line 2, column 25: yards: a: servers: 1: give one value, not keys with values; a text with a colon in it stands in quotes: "ldap://h:1"`,
		"yards: a\n":                                         `line 1, column 8: yards: give keys with their values, not "a" alone`,
		yard + "    scope: [Staff]\n":                        `line 4, column 13: yards: a: scope: 1: "Staff" is not a distinguished name`,
		yard + "    starttls: perhaps\n":                     `line 4, column 15: yards: a: starttls: give true or false, not "perhaps"`,
		yard + "    timeout: 5\n":                            `line 4, column 14: yards: a: timeout: "5" is not a time to wait: write 30s or 5m`,
		yard + "    bind: [x]\n":                             "line 4, column 11: yards: a: bind: give keys with their values, not a list",
		"audit:\n  stale_after: 9q\n":                        `line 2, column 16: audit: stale_after: "9q" is not a span of time`,
		"audit:\n  stale_after: [1]\n":                       "line 2, column 16: audit: stale_after: give one value, not a list",
		"audit:\n  guess_accounts: many\n":                   `line 2, column 19: audit: guess_accounts: give a whole number, not "many"`,
		"exemptions:\n  - match: {account: a}\n    owner: b": "line 2, column 10: exemptions: 1: a: a reason is missing",
		"signing: {needed: {delete: 12}}\n":                  "line 1, column 28: signing: needed: delete: 12 is not a number of people",
		"default: a\ndefault: b\n":                           `line 2, column 1: mapping key "default" already defined`,
	} {
		_, err := load(t, text)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), "settings.yaml, "+want)
		assert.NotContains(t, err.Error(), "Go ", text)
	}
}
