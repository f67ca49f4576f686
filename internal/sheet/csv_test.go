package sheet

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"
)

func TestTablesAreReadAsSpreadsheetsWriteThem(t *testing.T) {
	want := &Table{[]string{"name", "note"}, []Row{{2, []string{"Müller", "a,b;c"}}, {3, []string{"=ada", ""}}, {5, []string{"short"}}}}
	comma := "name,note\r\nMüller,\"a,b;c\"\r\n'=ada,\r\n\r\nshort\r\n"
	semicolon := "name;note\nMüller;\"a,b;c\"\n'=ada;\n\nshort\n"
	utf16, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(semicolon)
	require.NoError(t, err)
	for name, text := range map[string]string{"commas": comma, "semicolons": semicolon, "a mark": "\ufeff" + comma, "UTF-16": utf16} {
		got, err := ReadCSV(strings.NewReader(text))
		require.NoError(t, err, name)
		assert.Equal(t, want, got, name)
	}
	_, err = ReadCSV(strings.NewReader(""))
	assert.ErrorIs(t, err, ErrEmpty)
	_, err = ReadCSV(strings.NewReader("a,b\n\"c"))
	assert.ErrorContains(t, err, "line 2")
}

// TestACellIsHarmlessAndItselfAgain holds what spreadsheets take for a formula.
func TestACellIsHarmlessAndItselfAgain(t *testing.T) {
	for _, s := range []string{"", "plain", "=1", "+1", "-1", "@x", "\tx", "\rx", "'x", "''x", "'", "a=b"} {
		safe := SafeCell(s)
		assert.False(t, safe != "" && strings.ContainsRune("=+-@\t\r", rune(safe[0])), "%q", safe)
		assert.Equal(t, s, UnsafeCell(safe), "%q", s)
	}
}

func TestTablesComeBackAsSpreadsheetsWriteThem(t *testing.T) {
	for name, raw := range map[string]string{
		"Windows-1252": "account,name\nada,Zo\xeb\n", "semicolons, the separator told": "sep=;\r\naccount;name\r\nada;Zoë\r\n",
		"tabs": "account\tname\nada\tZoë\n", "a mark in front": "\ufeffaccount,name\nada,Zoë\n",
	} {
		table, err := ReadCSV(strings.NewReader(raw))
		require.NoError(t, err, name)
		assert.Equal(t, []string{"account", "name"}, table.Header, name)
		assert.Equal(t, []string{"ada", "Zoë"}, table.Rows[0].Cells, name)
	}
	table, err := ReadCSV(strings.NewReader("sep=;\naccount;name\nada;Zoë\n"))
	require.NoError(t, err)
	assert.Equal(t, 3, table.Rows[0].Line, "lines count as the file has them")
}
