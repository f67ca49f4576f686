package settings

import (
	"io/fs"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const yardAndMail = `default: observatory
yards:
  observatory:
    servers: [ldaps://dc1.larkmoor.example]
    time_zone: Europe/Dublin
mail: {server: mail.larkmoor.example:587, from: Yard Broom <yardbroom@larkmoor.example>}
`

func TestARoundMayReadEverything(t *testing.T) {
	s, err := load(t, yardAndMail+"rounds:\n  weekly: {at: \"06:00\", steps: [survey]}\n  nightly: {at: \"06:00\", steps: [{survey: {full: true}}]}\n")
	require.NoError(t, err)
	assert.False(t, s.Rounds["weekly"].Steps[0].Survey.Full)
	assert.True(t, s.Rounds["nightly"].Steps[0].Survey.Full)
}

func TestARoundIsReadAsItIsWritten(t *testing.T) {
	s, err := load(t, yardAndMail+`rounds:
  nightly:
    at: "06:00"
    days: [mon-fri]
    roster: {from: people.csv}
    steps:
      - survey
      - audit:
      - reconcile: {new: true}
      - list: {title: Idle, of: {where: {idle: 60d}}, columns: [account, mail]}
      - stage: {actions: disable, checks: [leaver-enabled], until: 30d}
      - due
      - apply: {connections: 2}
    apply: true
    tell:
      - to: admins@larkmoor.example
        attach: [html]
      - {each: manager, to: desk@larkmoor.example, when: always}
    folder: {path: /srv/www/yard, mode: "0640"}
    metrics: yard.prom
`)
	require.NoError(t, err)
	r := s.Rounds["nightly"]
	assert.Equal(t, Words{"06:00"}, r.At)
	assert.Equal(t, filepath.Join(filepath.Dir(s.File), "people.csv"), r.Roster.From, "relative to the settings")
	require.Len(t, r.Steps, 7)
	assert.Equal(t, Step{Survey: &SurveyStep{}}, r.Steps[0])
	assert.Equal(t, Step{Audit: &AuditStep{}}, r.Steps[1], "a step without anything more")
	assert.True(t, r.Steps[2].Reconcile.New)
	assert.Equal(t, Words{"disable"}, r.Steps[4].Stage.Actions)
	assert.Equal(t, 2, r.Steps[6].Apply.Connections)
	file, folder := r.Folder.FileMode()
	assert.Equal(t, []fs.FileMode{0o640, 0o750}, []fs.FileMode{file, folder})
	when, planned, err := r.Schedule(s)
	require.NoError(t, err)
	assert.True(t, planned)
	assert.Equal(t, "2027-03-29T05:00:00Z", // Monday, in summer time
		when.Next(time.Date(2027, 3, 26, 12, 0, 0, 0, time.UTC)).UTC().Format(time.RFC3339))
}

func TestAWrongRoundIsRefusedWithItsPlaceInTheFile(t *testing.T) {
	for text, want := range map[string]string{
		"  a: {steps: [{audti: {}}]}":                        `line 8, column 23: rounds: a: steps: 1: audti: there is no such key here (did you mean audit?)`,
		"  a: {steps: [audti]}":                              `line 8, column 15: "audti" is not a step`,
		"  a: {steps: [{audit: {}, list: {}}]}":              "line 8, column 15: rounds: a: steps: 1: a step is one of",
		"  a:\n    steps:\n      - audit\n      - reconcile": "line 11, column 9: rounds: a: steps: 2: reconcile: the round has no roster",
		"  a: {steps: [apply]}":                              "apply: true",
		"  a: {yards: elsewhere, steps: [audit]}":            `line 8, column 14: rounds: a: yards: "elsewhere" is none of the yards`,
		"  a: {steps: []}":                                   "name at least one",
		"  a: {at: 25:00, steps: [audit]}":                   "line 8, column 11: rounds: a: at: \"25:00\" is not a time of day",
		"  a: {days: mon, steps: [audit]}":                   "at is missing",
		"  a: {cron: 0 6 31 2 *, steps: [audit]}":            "never comes",
		"  a: {cron: 0 6 * * *, at: 06:00, steps: [audit]}":  "give cron, or at and days",
		"  a b: {steps: [audit]}":                            "a round's name is of letters",
		"  a: {steps: [audit], tell: [{to: admins}]}":        "line 8, column 30: rounds: a: tell: 1: to: \"admins\" is not a mail address",
		"  a: {steps: [audit], tell: [{when: new}]}":         "who is told",
		"  a: {steps: [audit], tell: [{each: boss}]}":        "neither manager nor owner",
		"  a: {steps: [{list: {title: All, of: {kind: users}}}], tell: [{each: manager, lists: All}]}":           "each gets only their own",
		"  a: {steps: [audit], tell: [{to: a@b.c, when: x}]}":                                                    "none of always, new and failure",
		"  a: {steps: [audit], tell: [{to: a@b.c, under: x}]}":                                                   "not a distinguished name",
		"  a: {steps: [audit], tell: [{to: a@b.c, attach: x}]}":                                                  "none of html, xlsx and csv",
		"  a: {steps: [audit], folder: {mode: '0644'}}":                                                          "path is missing",
		"  a: {steps: [audit], folder: {path: x, mode: '777'}}":                                                  "not a mode for files",
		"  a: {steps: [audit], folder: {path: x}}\n  b: {steps: [audit], folder: {path: ./x}}":                   "the round a writes",
		"  a: {steps: [audit], folder: {path: x}}\n  b: {steps: [audit], folder: {path: x/y}}":                   "it is in the folder of the round a",
		"  a: {steps: [audit], post: [{url: 'http://chat.larkmoor.example/x'}]}":                                 "not encrypted",
		"  a: {steps: [audit], post: [{url: 'https://chat.larkmoor.example/x', token_file: a, secret_file: b}]}": "give token_file or secret_file",
		"  a: {steps: [audit], brake: {share: 120}}":                                                             "shares from 0 to 100",
		"  a: {steps: [{stage: {checks: [stale]}}]}":                                                             "actions are missing",
		"  a: {steps: [{stage: {actions: [disable]}}]}":                                                          "say of whom",
		"  a: {steps: [{stage: {actions: [disable], checks: [stale], of: {where: {idle: 90d}}}}]}":               "not both",
	} {
		_, err := load(t, yardAndMail+"rounds:\n"+text+"\n")
		assert.ErrorContains(t, err, want, text)
	}
	for text, want := range map[string]string{
		"mail: {server: mail.larkmoor.example, from: a@larkmoor.example}":                          "not a host and a port",
		"mail: {server: 'mail.larkmoor.example:25', from: nobody}":                                 "not a mail address",
		"mail: {server: 'mail.larkmoor.example:25', from: a@larkmoor.example, tls: none}":          "only for a server on this machine",
		"mail: {server: 'mail.larkmoor.example:25', from: a@larkmoor.example, name: x}":            "a name needs one of",
		"mail: {server: 'mail.larkmoor.example:25', from: a@larkmoor.example, password_env: x}":    "a password needs a name",
		"default: a\nyards: {a: {servers: [x]}}\nrounds: {b: {steps: [audit], tell: [{to: a@b}]}}": "no mail server is set",
		"keep: {surveys: {days: -1}}": "0 or more",
	} {
		_, err := load(t, text)
		assert.ErrorContains(t, err, want, text)
	}
}
