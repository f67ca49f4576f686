package render

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardbroom/internal/audit"
	"yardbroom/internal/sheet"
)

func TestVisibleShowsWhatATerminalWouldObey(t *testing.T) {
	for in, want := range map[string]string{
		"Zoë Quill":           "Zoë Quill",
		"\x1b[31mred\x1b[0m":  `\x1b[31mred\x1b[0m`,
		"two\nlines\ttab\r":   `two\nlines\ttab\x0d`,
		"right\u202eleft":     `right\u202eleft`,
		"bad \xff octet":      `bad \xff octet`,
		"zero\u200bwidth":     `zero\u200bwidth`,
		"csi \u009b31m":       `csi \x9b31m`,
		"line\u2028separator": `line\u2028separator`,
		"佐藤 नमस्ते":           "佐藤 नमस्ते",
	} {
		assert.Equal(t, want, Visible(in))
	}
	rapid.Check(t, func(t *rapid.T) {
		out := Visible(string(rapid.SliceOf(rapid.Byte()).Draw(t, "octets")))
		require.True(t, utf8.ValidString(out))
		require.False(t, strings.ContainsFunc(out, unicode.IsControl))
	})
}

func TestCellsAreHarmlessAndReadBack(t *testing.T) {
	for _, formula := range []string{"=1+1", "+1", "-1", "@x", "\tx", "\rx"} {
		assert.Equal(t, "'"+formula, sheet.SafeCell(formula))
	}
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.String().Draw(t, "cell")
		require.Equal(t, s, sheet.UnsafeCell(sheet.SafeCell(s)))
		require.False(t, s != "" && strings.ContainsAny(sheet.SafeCell(s)[:1], "=+-@\t\r"))
	})
}

func TestFindingsCSVIsReadByAnyReader(t *testing.T) {
	var b bytes.Buffer
	f := audit.Finding{Check: "stale", Severity: audit.Medium, Kind: "user", DN: `CN=Tern\, Ada "x",DC=x`, Account: "=cmd", Confidence: audit.Sure,
		Evidence: []audit.Evidence{{Attr: "lastLogon", Value: "never"}}, Suggest: []string{"disable", "move"}}
	require.NoError(t, SheetCSV(&b, FindingsSheet([]audit.Finding{f})))
	rows, err := csv.NewReader(&b).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 2)
	assert.Equal(t, []string{"check", "severity", "kind", "account", "dn", "confidence", "since", "days", "evidence", "suggest"}, rows[0])
	assert.Equal(t, []string{"stale", "medium", "user", "'=cmd", `CN=Tern\, Ada "x",DC=x`, "sure", "", "", "lastLogon=never", "disable move"}, rows[1])
}

func TestPlace(t *testing.T) {
	assert.Equal(t, "Staff/Archive", Place("CN=a,OU=Archive,OU=Staff,DC=x,DC=y"))
	assert.Equal(t, "(top)", Place("CN=a,DC=x"))
}

func TestTablesFitTheirWidth(t *testing.T) {
	var b bytes.Buffer
	rows := [][]string{{"aquill", strings.Repeat("very long evidence ", 20), strings.Repeat("佐", 80)}}
	Table(&b, Style{Width: 60}, []string{"Account", "Evidence", "Name"}, rows, 1, 2)
	for line := range strings.Lines(b.String()) {
		assert.LessOrEqual(t, columnsOf(strings.TrimRight(line, "\n")), 60, line)
	}
	assert.Contains(t, b.String(), "aquill")
}

// What would break words beside the others stands below, with its title.
func TestColumnsWithoutRoomStandBelow(t *testing.T) {
	var b bytes.Buffer
	Table(&b, Style{Width: 40}, []string{"Batch", "Lines", "Yard", "Why"}, [][]string{{"1", "13 done, 1 dropped, 12 undone", "observatory", "yearly cleanup"}, {"2", "1 done", "observatory", ""}}, 3, 2)
	assert.Equal(t, strings.Join([]string{
		"Batch  Lines", "  Why; Yard", strings.Repeat("─", 36),
		"1      13 done, 1 dropped, 12 undone", "  yearly cleanup; Yard: observatory",
		"2      1 done", "  Yard: observatory", "",
	}, "\n"), b.String())
}

func columnsOf(s string) int {
	n := 0
	for _, r := range s {
		n++
		if unicode.Is(unicode.Han, r) {
			n++
		}
	}
	return n
}

func TestWhatHangsUsesTheWholeLine(t *testing.T) {
	assert.Equal(t, "one two three four five six seven\n      eight nine", Hang("one two three four five six seven eight nine", 40, 6))
	assert.Equal(t, "one", Hang("one", 10, 6))
}
