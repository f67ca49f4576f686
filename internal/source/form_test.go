package source_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardbroom/internal/audit"
	"yardbroom/internal/demo"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

// rewrite writes an LDIF text in another form that means the same.
func rewrite(text string, r *rand.Rand, width int, crlf, upper, coded, comments bool) string {
	records := strings.Split(strings.TrimSpace(strings.ReplaceAll(text, "\n ", "")), "\n\n")
	version := strings.HasPrefix(records[0], "version:")
	if version {
		records = records[1:]
	}
	r.Shuffle(len(records), func(i, j int) { records[i], records[j] = records[j], records[i] })
	var b strings.Builder
	end := "\n"
	if crlf {
		end = "\r\n"
	}
	for _, rec := range records {
		lines := strings.Split(rec, "\n")
		r.Shuffle(len(lines)-1, func(i, j int) { lines[i+1], lines[j+1] = lines[j+1], lines[i+1] })
		for i, line := range lines {
			name, value, _ := strings.Cut(line, ":")
			if upper && i > 0 {
				name = strings.ToUpper(name)
			}
			if coded && !strings.HasPrefix(value, ":") {
				value = ": " + base64.StdEncoding.EncodeToString([]byte(strings.TrimPrefix(value, " ")))
			}
			line = name + ":" + value
			if comments {
				b.WriteString("# " + name + end)
			}
			for len(line) > width {
				b.WriteString(line[:width] + end + " ")
				line = line[width:]
			}
			b.WriteString(line + end)
		}
		b.WriteString(end)
	}
	return b.String()
}

func TestTheFormOfAFileNeverChangesAResult(t *testing.T) {
	asOf := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	var text bytes.Buffer
	require.NoError(t, (&demo.Yard{AsOf: asOf}).WriteLDIF(&text))
	set := settings.Defaults()
	set.Audit.Parking = []string{"OU=Parked," + demo.Base}
	dir := t.TempDir()
	findings := func(t require.TestingT, text string) []string {
		path := filepath.Join(dir, "a.ldif")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		f, err := source.OpenFile(path, nil)
		require.NoError(t, err)
		s, err := f.Survey(context.Background())
		require.NoError(t, err)
		rep, err := audit.Run(s, set, audit.Options{AsOf: asOf})
		require.NoError(t, err)
		var out []string
		for _, one := range rep.Findings {
			out = append(out, fmt.Sprint(one.Check, one.Account, one.Confidence, one.Days, one.Evidence))
		}
		return out
	}
	want := findings(t, text.String())
	require.Greater(t, len(want), 200)
	rapid.Check(t, func(t *rapid.T) {
		b := rapid.Bool()
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "order"), 3))
		got := findings(t, rewrite(text.String(), r, rapid.IntRange(5, 300).Draw(t, "width"), b.Draw(t, "crlf"), b.Draw(t, "upper"), b.Draw(t, "coded"), b.Draw(t, "comments")))
		require.Equal(t, want, got)
	})
}
