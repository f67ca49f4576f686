package rounds

import (
	"encoding/json"
	"encoding/xml"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/realserver"
	"yardbroom/internal/settings"
)

// publishing is a round that writes into a folder.
func publishing(t *testing.T, folder, more string) *yard {
	t.Helper()
	return newYard(t, `  nightly:
    at: 06:00
    steps: [{audit: {checks: stale}}]
    folder: {path: "`+folder+`"`+more+`}
    metrics: "`+folder+`.txt"
`)
}

func TestTheFolderHoldsTheKeptDays(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "www")
	y := publishing(t, folder, `, keep: 3d, mode: "0640", address: "https://intranet.larkmoor.example/yard/"`)
	for range 5 {
		y.run(t, "nightly")
		y.tomorrow()
	}
	days, err := filepath.Glob(folder + "/2026-*")
	require.NoError(t, err)
	assert.Len(t, days, 4, "of today and the three days before")
	index := readFile(t, folder+"/index.html")
	assert.Contains(t, index, `href="2026-11-24-run-5/small-audit.html"`)
	assert.NotContains(t, index, "2026-11-20-run-1")
	assert.Contains(t, index, "<svg", "there is a trend to show")
	var latest Run
	require.NoError(t, json.Unmarshal([]byte(readFile(t, folder+"/latest.json")), &latest))
	assert.Equal(t, 5, latest.ID)
	var feed struct {
		Entries []struct {
			ID   string `xml:"id"`
			Link struct {
				Href string `xml:"href,attr"`
			} `xml:"link"`
		} `xml:"entry"`
	}
	require.NoError(t, xml.Unmarshal([]byte(readFile(t, folder+"/feed.xml")), &feed))
	require.Len(t, feed.Entries, 4)
	assert.Equal(t, "tag:yardbroom,2026:round/nightly/5", feed.Entries[0].ID)
	assert.Equal(t, "https://intranet.larkmoor.example/yard/2026-11-24-run-5/small-audit.html", feed.Entries[0].Link.Href)
	modes(t, folder, 0o640, 0o750)
}

// modes holds all in a folder against the modes that files and folders are to have.
func modes(t *testing.T, folder string, file, dir fs.FileMode) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		info, err := d.Info()
		require.NoError(t, err)
		want := file
		if d.IsDir() {
			want = dir
		}
		assert.Equal(t, want, info.Mode().Perm(), path)
		return nil
	}))
}

func TestNothingOfSomebodyElseIsTouched(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "www")
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(outside+"/victim", []byte("mine"), 0o600))
	y := publishing(t, folder, `, keep: 1d`)
	y.run(t, "nightly")
	require.NoError(t, os.WriteFile(folder+"/2026-11-20-run-1/notes.txt", []byte("mine"), 0o600))
	require.NoError(t, os.Mkdir(folder+"/2020-01-01-run-9", 0o700))
	// Somebody who may write in the folder names files elsewhere.
	var list map[string]any
	require.NoError(t, json.Unmarshal([]byte(readFile(t, folder+"/runs.json")), &list))
	list["days"] = append(list["days"].([]any), map[string]any{"run": 7, "at": "2020-01-01T00:00:00Z", "folder": "../" + filepath.Base(outside),
		"files": []string{"victim"}}, map[string]any{"run": 8, "at": "2020-01-01T00:00:00Z", "folder": "2020-01-01-run-8",
		"files": []string{"victim"}})
	text, err := json.Marshal(list)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(folder+"/runs.json", text, 0o600))
	require.NoError(t, os.Symlink(outside, folder+"/2020-01-01-run-8"))
	for range 3 {
		y.tomorrow()
	}
	run := y.run(t, "nightly")
	assert.FileExists(t, outside+"/victim")
	assert.Equal(t, Failed, run.Outcome, "a way out of the folder is not gone, and said")
	require.NoError(t, os.Remove(folder+"/2020-01-01-run-8"))
	y.tomorrow()
	assert.Equal(t, Done, y.run(t, "nightly").Outcome)
	assert.FileExists(t, folder+"/2026-11-20-run-1/notes.txt")
	assert.NoFileExists(t, folder+"/2026-11-20-run-1/run.json")
	assert.DirExists(t, folder+"/2020-01-01-run-9")
}

func TestAFolderOfSomebodyElseIsRefused(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(folder+"/index.html", []byte("our wiki"), 0o600))
	y := publishing(t, folder, "")
	run := y.run(t, "nightly")
	assert.Equal(t, Failed, run.Outcome)
	assert.Contains(t, run.Error, "an index.html that no round has written")
	assert.Equal(t, "our wiki", readFile(t, folder+"/index.html"))
	require.ErrorContains(t, checkFolder("nightly", &settings.Folder{Path: folder}), "index.html")

	other := filepath.Join(t.TempDir(), "www")
	publishing(t, other, "").run(t, "nightly")
	require.ErrorContains(t, checkFolder("weekly", &settings.Folder{Path: other}), `the folder of the round "nightly"`)
}

func TestMetricsAreThoseOfTheRun(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "www")
	y := publishing(t, folder, "")
	y.run(t, "nightly")
	text := readFile(t, folder+".txt")
	for _, want := range []string{
		`yardbroom_findings{yard="small",check="stale",severity="medium"} 1.0`,
		`yardbroom_findings_new{yard="small",severity="medium"} 1.0`,
		`yardbroom_accounts{yard="small",kind="user",state="enabled"} 23.0`,
		`yardbroom_round_outcome{round="nightly",outcome="done"} 1.0`,
		`yardbroom_round_outcome{round="nightly",outcome="failed"} 0.0`,
		`yardbroom_round_held{round="nightly"} 0.0`,
	} {
		assert.Contains(t, text, want+"\n")
	}
	assert.True(t, strings.HasSuffix(text, "# EOF\n"))
	y.tomorrow()
	y.server.Account = "nobody"
	y.run(t, "nightly")
	assert.Contains(t, readFile(t, folder+".txt"), `yardbroom_round_outcome{round="nightly",outcome="failed"} 1.0`)
	assert.Contains(t, readFile(t, folder+".txt"), "yardbroom_round_success_timestamp_seconds{round=\"nightly\"} 1.7951544e+09\n")
}

func TestACollectorTakesTheMetrics(t *testing.T) {
	promtool := realserver.Program(t, "promtool", "prometheus")
	folder := filepath.Join(t.TempDir(), "www")
	y := publishing(t, folder, "")
	y.run(t, "nightly")
	cmd := exec.Command(promtool, "check", "metrics")
	cmd.Stdin = strings.NewReader(readFile(t, folder+".txt"))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Empty(t, string(out), "there is no warning")
}

func readFile(t *testing.T, path string) string {
	t.Helper()
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(text)
}
