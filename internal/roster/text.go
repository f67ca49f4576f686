package roster

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"io/fs"
	"strings"

	"yardbroom/internal/workbook"
)

// Limits bound what is taken for a roster.
type Limits struct {
	Octets  int64 // unpacked
	Rows    int
	Columns int
}

// DefaultLimits are a million people twice, with half a kilobyte each.
var DefaultLimits = Limits{Octets: 1 << 30, Rows: 2_000_000, Columns: 1_000}

// Read reads a roster, whatever it is: what the file holds is told by looking
// at it. An error names the source and, where there is one, the row.
func Read(in io.Reader, source string, opt Options) (*Roster, error) {
	opt.Limits = opt.Limits.orDefault()
	raw, err := readText(in, opt.Limits.Octets)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", source, err)
	}
	if why := workbook.Kind(raw); why != "" {
		return nil, fmt.Errorf("%s %s", source, why)
	}
	if workbook.IsZip(raw) {
		return readWorkbook(raw, source, opt)
	}
	for _, no := range notText {
		if strings.HasPrefix(raw, no.begins) {
			return nil, fmt.Errorf("%s is %s", source, no.is)
		}
	}
	d, err := decode(raw, opt)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", source, err)
	}
	r, err := readDecoded(d.text, d.name, source, opt)
	if err == nil && d.guessed {
		r.Guessed, r.others = true, d.others
		r.again = func(name string) (*Roster, error) {
			o := opt
			o.Encoding = name
			return Read(strings.NewReader(raw), source, o)
		}
	}
	return r, err
}

// readDecoded reads a roster that is text: JSON, or a table.
func readDecoded(text, encoding, source string, opt Options) (*Roster, error) {
	switch trimmed := strings.TrimLeft(text, " \t\r\n"); {
	case trimmed == "":
		return nil, fmt.Errorf("%s is empty", source)
	case trimmed[0] == '[' || trimmed[0] == '{':
		return readJSON(trimmed, source, opt)
	}
	t, err := readSeparated(text, encoding, opt.Limits)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", source, err)
	}
	return t.understand(source, opt)
}

func (l Limits) orDefault() Limits {
	return Limits{
		cmp.Or(l.Octets, DefaultLimits.Octets),
		cmp.Or(l.Rows, DefaultLimits.Rows),
		cmp.Or(l.Columns, DefaultLimits.Columns),
	}
}

func (l Limits) tooManyRows() error {
	return fmt.Errorf(
		"it has more rows than the %d that a roster may have; roster: max_rows of the settings raises that", l.Rows)
}

// notText are the beginnings of files that are often sent instead of a roster.
var notText = []struct{ begins, is string }{
	{"\x1f\x8b", "packed with gzip: unpack it first"},
	{"\x28\xb5\x2f\xfd", "packed with zstd: unpack it first"},
	{"%PDF-", "a PDF: ask for the table itself, as CSV or a workbook"},
	{"<", "a page or XML: save it as CSV or a workbook"},
}

// readText reads all there is, in one piece that is not copied again.
func readText(in io.Reader, most int64) (string, error) {
	var b strings.Builder
	if file, ok := in.(interface{ Stat() (fs.FileInfo, error) }); ok {
		if info, err := file.Stat(); err == nil && info.Mode().IsRegular() {
			b.Grow(int(min(info.Size(), most) + bytes.MinRead))
		}
	}
	n, err := io.Copy(&b, io.LimitReader(in, most+1))
	if err == nil && n > most {
		err = fmt.Errorf(
			"it is larger than %d MB, which no roster is; raise roster: max_size of the settings if it is one",
			most>>20)
	}
	return b.String(), err
}

// add puts a row into the table, unless there is no room for it.
func (t *table) add(n int, cells []string, most Limits) error {
	switch {
	case len(cells) > most.Columns:
		return fmt.Errorf(
			"row %d has %d columns, more than the %d that a roster may have; roster: max_columns of the settings raises that",
			n,
			len(cells),
			most.Columns,
		)
	case len(t.rows) > most.Rows: // one of them may be a header
		return most.tooManyRows()
	}
	t.rows = append(t.rows, line{n, cells})
	return nil
}

// separators are the delimiters that are looked for, and their names.
var separators = []struct {
	r    rune
	name string
}{{',', "commas"}, {';', "semicolons"}, {'\t', "tabs"}, {'|', "bars"}}

// delimiter finds the delimiter by the first lines: the one that stands
// equally often in most of them, outside quotes.
func delimiter(text string) (rune, string) {
	var lines []string
	for l := range strings.Lines(text) {
		if strings.TrimSpace(l) != "" {
			lines = append(lines, l[:min(len(l), mostRecord)])
		}
		if len(lines) == 50 {
			break
		}
	}
	best, name, score := ',', "", 0
	for _, s := range separators {
		counts := map[int]int{}
		for _, l := range lines {
			counts[outsideQuotes(l, s.r)]++
		}
		for n, in := range counts {
			if value := in * 100 / len(lines) * min(n, 20); n > 0 && value > score {
				best, name, score = s.r, s.name, value
			}
		}
	}
	return best, name
}

func outsideQuotes(line string, r rune) (n int) {
	quoted := false
	for _, c := range line {
		switch {
		case c == '"':
			quoted = !quoted
		case c == r && !quoted:
			n++
		}
	}
	return n
}
