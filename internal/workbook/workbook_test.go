package workbook

import (
	"archive/zip"
	"bytes"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

var limits = Limits{Octets: 64 << 20, Rows: 1000}

// made is a workbook with one sheet, as excelize writes it.
func made(t *testing.T, fill func(*excelize.File)) string {
	book := excelize.NewFile()
	fill(book)
	var b bytes.Buffer
	require.NoError(t, book.Write(&b))
	return b.String()
}

// with is a workbook in which a part has another content.
func with(t *testing.T, raw, part, content string) string {
	in, err := zip.NewReader(strings.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	var b bytes.Buffer
	out := zip.NewWriter(&b)
	put := func(name string, from io.Reader) {
		w, err := out.Create(name)
		require.NoError(t, err)
		_, err = io.Copy(w, from)
		require.NoError(t, err)
	}
	for _, f := range in.File {
		if f.Name != part {
			r, err := f.Open()
			require.NoError(t, err)
			put(f.Name, r)
		}
	}
	put(part, strings.NewReader(content))
	require.NoError(t, out.Close())
	return b.String()
}

func rows(raw string, limits Limits) (all []string, err error) {
	book, err := Open(raw, limits)
	if err != nil {
		return nil, err
	}
	defer book.Close()
	err = book.Rows("Sheet1", func(_ int, cells []string) error {
		all = append(all, strings.Join(cells, "|"))
		return nil
	})
	return all, err
}

func TestDaysAreReadHoweverTheyAreShown(t *testing.T) {
	day := time.Date(2027, 4, 3, 15, 0, 0, 0, time.UTC)
	forms := []string{"dd.mm.yyyy", "mmm d", "[$-409]d-mmm-yy;@", "yyyy"}
	numbers := []string{"[Red]0", `0 "days"`, `0 \d\a\y\s`, "#,##0.00"}
	raw := made(t, func(f *excelize.File) {
		for i, form := range append(forms, numbers...) {
			style, err := f.NewStyle(&excelize.Style{CustomNumFmt: &form})
			require.NoError(t, err)
			cell, _ := excelize.CoordinatesToCellName(i+1, 1)
			require.NoError(t, f.SetCellValue("Sheet1", cell, day))
			if i >= len(forms) {
				require.NoError(t, f.SetCellValue("Sheet1", cell, 12))
			}
			require.NoError(t, f.SetCellStyle("Sheet1", cell, cell, style))
		}
		require.NoError(t, f.SetCellValue("Sheet1", "A3", "2027"))
	})
	got, err := rows(raw, limits)
	require.NoError(t, err)
	require.Len(t, got, 2, "what holds nothing is no row")
	cells := strings.Split(got[0], "|")
	for i := range forms {
		assert.Equal(t, "2027-04-03", cells[i], forms[i])
	}
	for i, form := range numbers {
		assert.NotContains(t, cells[len(forms)+i], "-", form)
	}
	assert.Equal(t, "2027", got[1])
}

func TestAWorkbookIsBoundedBeforeItIsRead(t *testing.T) {
	plain := made(t, func(f *excelize.File) { require.NoError(t, f.SetSheetRow("Sheet1", "A1", &[]any{"id", 1})) })
	sheet := func(inner string) string {
		return with(t, plain, "xl/worksheets/sheet1.xml", `<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>`+inner+`</sheetData></worksheet>`)
	}
	for name, c := range map[string]struct{ raw, want string }{
		"rows":            {sheet(strings.Repeat("<row/>", 1001)), "more than 1000 rows"},
		"rows, prefixed":  {sheet(strings.Repeat("<x:row></x:row>", 1001)), "more than 1000 rows"},
		"a row far below": {sheet(`<row r="5000"><c r="A5000"><v>1</v></c></row>`), "more than 1000 rows"},
		"cells":           {sheet("<row>" + strings.Repeat("<c/>", 16385) + "</row>"), "a row holds more than 16384 cells"},
		"nesting":         {sheet(strings.Repeat("<a>", 100_000)), "nests more than 64 deep"},
		"one text":        {sheet("<row><c><v>" + strings.Repeat("7", 2<<20) + "</v></c></row>"), "a text that no cell can hold"},
		"one tag":         {sheet("<row " + strings.Repeat(" ", 2<<20) + "/>"), "a text that no cell can hold"},
		"unpacked":        {sheet(strings.Repeat(" ", 65<<20)), "it unpacks to 65 MB, more than the 64"},
		"binary":          {with(t, plain, "xl/workbook.bin", ""), "is a binary workbook (xlsb)"},
		"a document":      {with(t, plain, "content.xml", ""), "an OpenDocument file"},
		"not zip":         {"PK\x03\x04 broken", "broken or cut off"},
		"cut":             {plain[:len(plain)/2], "broken or cut off"},
	} {
		_, err := rows(c.raw, limits)
		assert.ErrorContains(t, err, c.want, name)
	}
	got, err := rows(sheet(strings.Repeat("<row><c><v>7</v></c></row>", 1000)), limits)
	require.NoError(t, err)
	assert.Len(t, got, 1000, "as many as may be")
}
