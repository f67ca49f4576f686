package work

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

// TestNamesAreFoundByHalving holds the search in the file against looking at each line.
func TestNamesAreFoundByHalving(t *testing.T) {
	s := &Session{Settings: settings.Defaults(), State: t.TempDir()}
	require.NoError(t, os.MkdirAll(filepath.Join(s.State, "names"), 0o700))
	rapid.Check(t, func(t *rapid.T) {
		names := rapid.SliceOfDistinct(rapid.StringMatching(`[a-cA-C]{1,4}|[aä]{300}`), strings.ToLower).Draw(t, "names")
		var lines []string
		for _, n := range names {
			for _, kind := range []NameKind{AccountNames, GroupNames} {
				lines = append(lines, string(kind)+strings.ToLower(n)+"\t"+n+"\tof "+n+"\n")
			}
		}
		slices.Sort(lines)
		require.NoError(t, os.WriteFile(s.namesFile("yard"), []byte(strings.Join(lines, "")), 0o600))
		begins := rapid.StringMatching(`[a-cäA-C]{0,3}`).Draw(t, "begins")
		got, err := s.Names("yard", GroupNames, begins, 1000)
		require.NoError(t, err)
		var want []Nameable
		for _, l := range lines {
			if rest, ok := strings.CutPrefix(l, "g"); ok && strings.HasPrefix(rest, strings.ToLower(begins)) {
				name := strings.Split(l, "\t")[1]
				want = append(want, Nameable{name, "of " + name})
			}
		}
		assert.Equal(t, want, got)
	})
}

func TestWhatCannotBeTypedIsNotOffered(t *testing.T) {
	survey := directory.NewSurvey(directory.AD)
	for _, leaf := range []string{"Staff", "Parked", "Sta\x1bff", "Tab\tbed"} {
		survey.Units = append(survey.Units, directory.Container{Subject: directory.Subject{Kind: directory.KindOU, DN: "OU=" + directory.EscapeDN(leaf) + ",DC=larkmoor,DC=example"}})
	}
	survey.Units = append(survey.Units, directory.Container{Subject: directory.Subject{Kind: directory.KindOU, DN: "OU=Staff,OU=Parked,DC=larkmoor,DC=example"}})
	var got []string
	for _, l := range nameLines(survey) {
		got = append(got, strings.Split(strings.TrimSuffix(l, "\n"), "\t")[1])
	}
	assert.Equal(t, []string{"OU=Staff,DC=larkmoor,DC=example", "OU=Staff,OU=Parked,DC=larkmoor,DC=example", "Parked"}, got, "a name that two bear is a DN")
}

func TestNamesOfNoYardAreNone(t *testing.T) {
	s := &Session{Settings: settings.Defaults(), State: t.TempDir()}
	for _, yard := range []string{"", "nowhere", "../x", "a/b"} {
		got, err := s.Names(yard, AccountNames, "", 10)
		require.NoError(t, err, fmt.Sprintf("%q", yard))
		assert.Empty(t, got)
	}
}
