package render

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"yardbroom/internal/sheet"
)

var when = time.Date(2026, 7, 1, 11, 30, 5, 0, time.UTC)

// sample has a cell of each kind, and hostile ones.
func sample() *sheet.Sheet {
	return &sheet.Sheet{Name: "sample", Title: "Sample", Columns: []sheet.Column{{Name: "account", Title: "Account", Key: true}, {Name: "days", Kind: sheet.Number}, {Name: "since", Kind: sheet.Time},
		{Name: "on", Kind: sheet.Truth}, {Name: "aka", Kind: sheet.Texts, Wide: true}},
		Rows: [][]any{{"aquill", 7, when, true, []string{"a", "b"}}, {"=HYPERLINK(\"x\")", nil, nil, nil, nil}, {"tab\tline\nend\x1b[31m", -3, when, false, []string{"+1"}}}}
}

func TestCSVIsReadBackAsItWas(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, SheetCSV(&b, sample()))
	rows, err := csv.NewReader(&b).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"account", "days", "since", "on", "aka"}, rows[0])
	assert.Equal(t, []string{"aquill", "7", "2026-07-01T11:30:05Z", "true", "a; b"}, rows[1])
	assert.Equal(t, "'=HYPERLINK(\"x\")", rows[2][0])
	assert.Equal(t, "=HYPERLINK(\"x\")", sheet.UnsafeCell(rows[2][0]))
	assert.Equal(t, []string{"tab\tline\nend\x1b[31m", "'-3", "2026-07-01T11:30:05Z", "false", "'+1"}, rows[3])
}

func TestTSVHasALineARow(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, SheetTSV(&b, sample()))
	assert.Equal(t, "account\tdays\tsince\ton\taka\n"+
		"aquill\t7\t2026-07-01T11:30:05Z\ttrue\ta; b\n"+
		"'=HYPERLINK(\"x\")\t\t\t\t\n"+
		"tab\\tline\\nend\x1b[31m\t'-3\t2026-07-01T11:30:05Z\tfalse\t'+1\n", b.String())
}

func TestJSONLKeepsTypesAndOrder(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, SheetJSONL(&b, sample()))
	lines := strings.Split(strings.TrimSpace(b.String()), "\n")
	assert.Equal(t, `{"account":"aquill","days":7,"since":"2026-07-01T11:30:05Z","on":true,"aka":["a","b"]}`, lines[0])
	assert.Equal(t, `{"account":"=HYPERLINK(\"x\")","days":null,"since":null,"on":null,"aka":[]}`, lines[1])
}

func TestAWorkbookHasRealDatesAndNoFormulas(t *testing.T) {
	dublin, err := time.LoadLocation("Europe/Dublin")
	require.NoError(t, err)
	long := sheet.Sheet{Name: "a name that is far too long for a sheet: [x]/?", Columns: []sheet.Column{{Name: "v"}}, Rows: [][]any{{strings.Repeat("佐", 40000)}}}
	other := long
	other.Name = strings.ToUpper(long.Name) // differs in case only, which a workbook does not tell apart
	var b bytes.Buffer
	require.NoError(t, XLSX(&b, []sheet.Sheet{*sample(), long, other, {Name: "Sheet1", Columns: []sheet.Column{{Name: "v"}}}}, Style{Zone: dublin}))
	book, err := excelize.OpenReader(&b)
	require.NoError(t, err)
	defer book.Close()
	names := book.GetSheetList()
	require.Len(t, names, 4)
	for _, n := range names {
		assert.LessOrEqual(t, len([]rune(n)), 31)
	}
	kind, err := book.GetCellType("sample", "A3")
	require.NoError(t, err)
	assert.NotEqual(t, excelize.CellTypeFormula, kind)
	formula, err := book.GetCellFormula("sample", "A3")
	require.NoError(t, err)
	assert.Empty(t, formula)
	for cell, want := range map[string]string{"A1": "Account", "A3": "=HYPERLINK(\"x\")", "A4": `tab\tline\nend\x1b[31m`, "B2": "7", "C2": "2026-07-01 12:30:05", "D2": "TRUE", "E2": "a; b", "C3": ""} {
		got, err := book.GetCellValue("sample", cell)
		require.NoError(t, err)
		assert.Equal(t, want, got, cell)
	}
	raw, err := book.GetCellValue("sample", "C2", excelize.Options{RawCellValue: true})
	require.NoError(t, err)
	assert.Contains(t, raw, "46204.5", "a date is a number, in local time: 12:30 in Dublin")
	panes, err := book.GetPanes("sample")
	require.NoError(t, err)
	assert.True(t, panes.Freeze)
	tables, err := book.GetTables("sample")
	require.NoError(t, err)
	require.Len(t, tables, 1)
	assert.Equal(t, "A1:E4", tables[0].Range, "a table has filters over its columns")
	got, err := book.GetCellValue(names[1], "A2")
	require.NoError(t, err)
	assert.Len(t, []rune(got), mostUnits)
}

func TestATableKeepsTheAccountWhatever(t *testing.T) {
	s := sample()
	s.Rows = [][]any{{strings.Repeat("a-long-logon-name-", 2), 7, when, true, []string{strings.Repeat("wide ", 30)}}}
	for _, width := range []int{40, 60, 80, 120} {
		var b bytes.Buffer
		SheetTable(&b, s, Style{Width: width, Zone: time.UTC})
		assert.Contains(t, b.String(), s.Rows[0][0])
		for line := range strings.Lines(b.String()) {
			if !strings.HasPrefix(line, "No room") {
				assert.LessOrEqual(t, displayWidth(strings.TrimRight(line, " \n")), width, line)
			}
		}
		assert.Equal(t, width < 80, strings.Contains(b.String(), "No room here for"), "at %d:\n%s", width, b.String())
	}
}

func TestRecordsShowEachValueOnItsLine(t *testing.T) {
	var b bytes.Buffer
	Records(&b, sample(), Style{Width: 80, Zone: time.UTC})
	assert.Equal(t, `aquill
  days     7
  since    2026-07-01 11:30
  on       yes
  aka      a
           b

=HYPERLINK("x")

tab\tline\nend\x1b[31m
  days     -3
  since    2026-07-01 11:30
  on       no
  aka      +1
`, b.String())
}

func TestAPageSaysItAllWithoutAScript(t *testing.T) {
	svg, err := BarChart("Findings", []Bar{{"a & b", 3, ToneHigh}, {"none", 0, Plain}}, true)
	require.NoError(t, err)
	p := Page{Title: "Audit <b>", Subtitle: "x", Zone: time.UTC, Made: when, Facts: []Fact{{"3", "high", ToneHigh}}, Charts: []Chart{{"By check", svg}}, Notes: []string{"a note"},
		Sections: []Section{{ID: "sample", Badge: "high", Tone: ToneHigh, Lead: "What it is.", Sheet: *sample()}}}
	var b bytes.Buffer
	require.NoError(t, p.Write(&b))
	page := b.String()
	for _, want := range []string{"<title>Audit &lt;b&gt;</title>", `script-src 'sha256-`, `<details class="section" id="sample">`, "=HYPERLINK(&#34;x&#34;)", `tab\tline\nend\x1b[31m`,
		"a &amp; b", "var(--high)", `aria-label="Findings"`, "<li>a note", "Times are in UTC"} {
		assert.Contains(t, page, want)
	}
	assert.NotContains(t, page, "\x1b")
	assert.NotContains(t, page, "#0102", "every colour comes from the page's style")
}
