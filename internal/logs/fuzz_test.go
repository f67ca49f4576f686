package logs

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// FuzzReader reads anything as a log: it ends, counts every line once, and who asks for
// one account is told the same of it as who asks for all.
func FuzzReader(f *testing.F) {
	files, err := filepath.Glob("testdata/*.log")
	require.NoError(f, err)
	for _, path := range files {
		text, err := os.ReadFile(path)
		require.NoError(f, err)
		f.Add(string(text[len(text)-min(len(text), 3000):]))
	}
	for _, shape := range shapes {
		f.Add(shape(&windowsEvents[0]) + "\n" + shape(&windowsEvents[7]) + "\n")
	}
	f.Fuzz(func(t *testing.T, text string) {
		var all, some []Event
		read := func(only *Only, into *[]Event) *Report {
			report := &Report{}
			r := NewReader(only, func(e *Event) error { *into = append(*into, *e); return nil })
			if err := r.Read(t.Context(), strings.NewReader(text), &Options{Written: written}, report); err != nil {
				report.Error = err
			}
			require.NoError(t, r.End())
			return report
		}
		report := read(nil, &all)
		read(NewOnly("ada.quill"), &some)
		assert.LessOrEqual(t, report.Looked, max(report.Lines, 1))
		for _, e := range all {
			assert.NotZero(t, e.What)
			assert.False(t, e.Name == "" && e.SID == "")
		}
		if report.Error == nil {
			assert.GreaterOrEqual(t, len(naming(all, "ada.quill")), len(naming(some, "ada.quill")))
		}
	})
}

// FuzzMapping reads anything as a table or as lines with a mapping.
func FuzzMapping(f *testing.F) {
	f.Add("when,who,how\n2026-11-29 10:00:00,ada,no\n")
	f.Add(`{"when": 1795946405, "who": "ada", "how": "no"}` + "\n")
	m := &Mapping{Time: "when", Account: "who", Result: "how", Failure: []string{"no"}}
	f.Fuzz(func(t *testing.T, text string) {
		r := NewReader(nil, func(e *Event) error { assert.NotEmpty(t, e.Name); return nil })
		_ = r.Read(t.Context(), strings.NewReader(text), &Options{Written: written, Mapping: m}, &Report{})
		require.NoError(t, r.End())
	})
}
