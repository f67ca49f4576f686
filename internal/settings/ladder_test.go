package settings

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestLaddersThatCannotBeMeant(t *testing.T) {
	head := "default: small\nyards: {small: {servers: [\"ldap://localhost\"], bind: {dn: a, ask: true}}}\nladders:\n"
	for text, why := range map[string]string{
		"  - name: Unused\n    starts: {idle: 3d}":                                                                                          `ladders: 1: name: "Unused" cannot name a ladder`,
		"  - name: a\n    starts: {}":                                                                                                       "give one of idle, never_used",
		"  - name: a\n    starts: {idle: 3d, left: 3d}":                                                                                     "give one of idle, never_used",
		"  - name: a\n    starts: {found: 3d}":                                                                                              "found: by which checks",
		"  - name: a\n    starts: {idle: 3d}":                                                                                               "rungs: name at least one",
		"  - name: a\n    yard: large\n    starts: {idle: 3d}":                                                                              `"large" is none of the yards`,
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [move]}]":                                                      "move needs to",
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [disable], to: \"OU=x\"}]":                                     "to goes with move",
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [enable]}]":                                                    "a ladder enables nobody",
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [delete], unattended: true}]":                                  "never carried out unattended",
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [delete], include_likely: true}]":                              "nothing is deleted on likely evidence",
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [delete]}, {name: c, after: 3d, actions: [disable]}]":          "delete is for the last rung",
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [disable]}, {name: b, after: 3d, actions: [disable]}]":         `two rungs are called "b"`,
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [disable]}, {name: c, actions: [hide]}]":                       "after is missing",
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [disable], signature: true}]":                                  "nobody can sign",
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [hide], enable_again: true}]":                                  "enable_again goes with disable",
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [hide], tell: {who: [boss]}}]":                                 `"boss" is neither person`,
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [hide], tell: {before: 3d}}]":                                  "who is missing",
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [hide], tell: {who: [person], text: \"{{.\"}}]":                "text:",
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [hide], tell: {who: [person], languages: {de: [only]}}}]":      "give two texts",
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [hide]}]\n  - name: a\n    starts: {idle: 3d}\n    rungs: []":  `two ladders are called "a"`,
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [hide]}]\nanswers: {server: imap}":                             "is not a host and a port",
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [hide]}]\nanswers: {server: \"imap:993\"}":                     "name is missing",
		"  - name: a\n    starts: {idle: 3d}\n    rungs: [{name: b, actions: [hide]}]\nanswers: {server: \"imap:143\", tls: none, name: a}": "only for a server on this machine",
	} {
		file := filepath.Join(t.TempDir(), "settings.yaml")
		require.NoError(t, os.WriteFile(file, []byte(head+text+"\n"), 0o600))
		_, err := Load(file)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), why)
	}
}
