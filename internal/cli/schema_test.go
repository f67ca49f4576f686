package cli

import (
	"bytes"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/docs/schema"
	"yardbroom/internal/demo"
	"yardbroom/internal/doctor"
	"yardbroom/internal/rounds"
)

// described compiles a shipped schema.
func described(t *testing.T, name string) *jsonschema.Schema {
	t.Helper()
	text, err := schema.Named(name)
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	require.NoError(t, c.AddResource(name, doc))
	s, err := c.Compile(name)
	require.NoError(t, err)
	return s
}

// TestWhatIsWrittenIsAsDescribed holds the output of the built program
// against the schemas that are shipped with it.
func TestWhatIsWrittenIsAsDescribed(t *testing.T) {
	dir := t.TempDir()
	in := filepath.Join(dir, "in.ldif")
	require.NoError(t, os.WriteFile(in, demoLDIF(t), 0o600))
	env := []string{"YARDBROOM_STATE=" + dir, "YARDBROOM_CONFIG=" + os.DevNull}
	run := func(args ...string) []byte {
		t.Helper()
		cmd := program(t, env, args...)
		var errOut bytes.Buffer
		cmd.Stderr = &errOut
		out, err := cmd.Output()
		require.NoError(t, err, "%v: %s", args, errOut.String())
		return out
	}
	yard := demo.Yard{AsOf: scriptTime}
	require.NoError(t, yard.WriteLDIF(io.Discard))
	require.NoError(t, yard.WriteLogs(dir))
	people := filepath.Join(dir, "people.csv")
	require.NoError(t, os.WriteFile(people, demoRoster(t), 0o600))
	at := "--as-of=" + scriptTime.Format(time.RFC3339)
	run("survey", "--from", in, "--name", "before")
	run("stage", "disable", "--from", in, "--check", "stale", "--include-likely", at)
	run("reconcile", "--from", in, "--roster", people, at)
	for _, c := range []struct {
		schema string
		args   []string
	}{
		{"audit", []string{"audit", "--format", "json"}},
		{"finding", []string{"audit", "--format", "jsonl"}},
		{"reconcile", []string{"reconcile", "--format", "json"}},
		{"reconcile", []string{"reconcile", "--format", "json", "--since", "last", "--strict"}},
		{"finding", []string{"audit", "--since", "before", "--format", "jsonl"}},
		{"compare", []string{"audit", "--since", "before", "--format", "json"}},
		{"list", []string{"list", "users", "--format", "json", "--columns", "account,state,enabled,last-logon,idle-days,memberOf,proxyAddresses,groups"}},
		{"list", []string{"list", "--filter", "objectClass=*", "--format", "json", "--columns", "all"}},
		{"account", []string{"show", "--format", "json", "Administrator"}},
		{"account", []string{"show", "--format", "json", "jcastell", "--log", dir + "/logs/dc1.json*"}},
		{"trace", []string{"trace", "--format", "json", "jcastell", "--log", dir + "/logs/dc1.json*", "--log", dir + "/logs/lark-srv2.xml"}},
		{"trace", []string{"trace", "--format", "json", "helpdesk", "--log", dir + "/logs"}},
		{"traces", []string{"trace", "--format", "json", "--log", dir + "/logs"}},
		{"traces", []string{"trace", "--format", "json", "--source", "203.0.113.77", "--log", dir + "/logs"}},
		{"account-changes", []string{"trace", "--format", "json", "--changes", "jcastell", "--log", dir + "/logs"}},
		{"finding", []string{"audit", "--format", "jsonl", "--log", dir + "/logs"}},
		{"account", []string{"show", "--format", "json", "nivarsen"}},
		{"account", []string{"show", "--format", "json", "divarsen"}},
		{"account", []string{"show", "--format", "json", "svc-plate-scanner"}},
	} {
		out := run(append(c.args, "--from", in, at)...)
		documents := [][]byte{out}
		if c.schema == "finding" {
			documents = bytes.Split(bytes.TrimSpace(out), []byte("\n"))
			require.Greater(t, len(documents), 100)
		}
		s := described(t, c.schema)
		for _, d := range documents {
			doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(d))
			require.NoError(t, err, "%v", c.args)
			assert.NoError(t, s.Validate(doc), "%v", c.args)
		}
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(run("batch", "show", "1", "--format", "json")))
	require.NoError(t, err)
	assert.NoError(t, described(t, "batch").Validate(doc))
	for name, made := range map[string]any{
		"run":    &rounds.Run{Schema: rounds.RunSchema, Yards: []*rounds.YardRun{{Steps: []*rounds.StepRun{{Batches: []rounds.BatchRun{{Actions: []string{"disable"}}}}}}}},
		"rounds": rounds.ListOf([]*rounds.Status{{Name: "nightly"}}),
		"doctor": doctor.ShapeOf([]doctor.Sign{{}}),
	} {
		text, err := json.Marshal(made)
		require.NoError(t, err)
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		require.NoError(t, err)
		assert.NoError(t, described(t, name).Validate(doc), name)
	}
	// A schema that takes anything would prove nothing.
	assert.Error(t, described(t, "finding").Validate(map[string]any{"check": "stale"}))
	assert.Error(t, described(t, "batch").Validate(doc.(map[string]any)["lines"]))
}

func TestTheDocumentedSettingsAreAsDescribed(t *testing.T) {
	text, err := os.ReadFile("../../docs/settings.md")
	require.NoError(t, err)
	var lines []byte
	for line := range bytes.Lines(text) {
		if code, ok := bytes.CutPrefix(line, []byte("    ")); ok {
			lines = append(lines, code...)
		}
	}
	var doc any
	require.NoError(t, yaml.Unmarshal(lines, &doc))
	s := described(t, "settings")
	assert.NoError(t, s.Validate(doc))
	assert.Error(t, s.Validate(map[string]any{"audit": map[string]any{"stale_aftr": "90d"}}))
}
