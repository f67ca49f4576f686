// Package workbook reads workbooks (ECMA-376) that somebody else made, within
// bounds: what a file of a few megabytes unpacks to, how many rows it holds and
// how deep it nests is found out before any of it is taken for cells.
package workbook

import (
	"archive/zip"
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/xuri/excelize/v2"

	"yardbroom/internal/pattern"
	"yardbroom/internal/whole"
)

// Limits bound what is read.
type Limits struct {
	Octets int64 // of all sheets and their texts, unpacked
	Rows   int   // of one sheet
}

// What no workbook that people keep comes near to.
const (
	mostParts  = 10_000
	mostOthers = 256 << 20 // octets of pictures, styles and the like
	mostDepth  = 64
	mostText   = 1 << 20 // octets between two tags; a cell holds 32,767 characters
	mostCells  = 16_384  // in one row
)

// Kind tells what a file is that looks like a workbook and cannot be read as
// one, and what to do about it; "" where it may be a workbook, or is something
// else altogether.
func Kind(raw string) string {
	switch {
	case strings.HasPrefix(raw, "\xd0\xcf\x11\xe0") && strings.Contains(raw, wide("EncryptedPackage")):
		return "is a workbook locked with a password: save it without one"
	case strings.HasPrefix(raw, "\xd0\xcf\x11\xe0"):
		return "is a workbook of the old kind (xls): save it as xlsx or CSV"
	case !IsZip(raw):
		return ""
	}
	parts, err := zip.NewReader(strings.NewReader(raw), int64(len(raw)))
	if err != nil {
		return "is a zip file that is broken or cut off: " + err.Error()
	}
	has := func(name string) bool {
		return slices.ContainsFunc(parts.File, func(f *zip.File) bool { return strings.EqualFold(f.Name, name) })
	}
	switch {
	case has("xl/workbook.bin"):
		return "is a binary workbook (xlsb): save it as xlsx or CSV"
	case has("content.xml"):
		return "is an OpenDocument file: save it as xlsx or CSV"
	case has("Index/Document.iwa"):
		return "is a workbook of another program: export it as xlsx or CSV"
	case !has("xl/workbook.xml"):
		return "is a zip file, but not a workbook: unpack it first"
	}
	return ""
}

// wide is a text in UTF-16, as names stand in compound files.
func wide(text string) string {
	var b strings.Builder
	for i := range len(text) {
		b.WriteByte(text[i])
		b.WriteByte(0)
	}
	return b.String()
}

// IsZip tells whether a file begins as zip files, and so workbooks, do.
func IsZip(raw string) bool { return strings.HasPrefix(raw, "PK\x03\x04") }

// Book is an open workbook.
type Book struct {
	*excelize.File
	limits Limits
	dir    string
	gone   func()
}

// Open opens a workbook. It is an error if it goes over the limits, or is none:
// see Kind.
func Open(raw string, limits Limits) (book *Book, err error) {
	defer func() {
		if err != nil && book != nil {
			book, err = nil, errors.Join(err, book.Close())
		}
	}()
	defer recovered(&err)
	if why := Kind(raw); why != "" {
		return nil, errors.New("it " + why)
	}
	if err := limits.check(raw); err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", "yardbroom-*") // for large parts, unpacked
	if err != nil {
		return nil, err
	}
	book = &Book{limits: limits, dir: dir, gone: whole.Passing(dir)}
	book.File, err = excelize.OpenReader(strings.NewReader(raw),
		excelize.Options{UnzipSizeLimit: limits.Octets + mostOthers, TmpDir: dir})
	return book, err
}

// Close removes what was unpacked.
func (b *Book) Close() (err error) {
	if b.File != nil {
		err = b.File.Close()
	}
	err = errors.Join(err, os.RemoveAll(b.dir))
	b.gone()
	return err
}

// Rows gives each row of a sheet that holds something, with its number from 1.
// Cells that show a day hold it as YYYY-MM-DD, however it is shown.
func (b *Book) Rows(sheet string, row func(n int, cells []string) error) (err error) {
	defer recovered(&err)
	if err := b.plainDays(); err != nil {
		return err
	}
	rows, err := b.File.Rows(sheet)
	if err != nil {
		return err
	}
	defer rows.Close()
	for n := 1; rows.Next(); n++ {
		if n > b.limits.Rows {
			return b.limits.tooManyRows()
		}
		cells, err := rows.Columns()
		if err != nil {
			return fmt.Errorf("row %d: %w", n, err)
		}
		if len(cells) > 0 {
			if err := row(n, cells); err != nil {
				return err
			}
		}
	}
	return rows.Error()
}

// recovered makes an error of a panic: parts that refer to what is not there
// are more than the package that reads them is ready for.
func recovered(err *error) {
	if r := recover(); r != nil {
		*err = fmt.Errorf("it contradicts itself: %v", r)
	}
}

// plainDays gives the styles that show a day the form YYYY-MM-DD.
func (b *Book) plainDays() error {
	format := "yyyy-mm-dd"
	id, err := b.NewStyle(&excelize.Style{CustomNumFmt: &format})
	if err != nil {
		return err
	}
	forms := b.Styles.CellXfs.Xf
	for i := range forms {
		if style, err := b.GetStyle(i); err == nil && showsDay(style) {
			forms[i].NumFmtID = forms[id].NumFmtID
		}
	}
	return nil
}

// showsDay tells whether a number format shows a day (ECMA-376, 18.8.30).
func showsDay(s *excelize.Style) bool {
	switch n := s.NumFmt; {
	case n >= 14 && n <= 17, n == 22, n >= 27 && n <= 31, n == 36, n >= 50 && n <= 54, n == 57, n == 58:
		return true
	case s.CustomNumFmt == nil:
		return false
	}
	return strings.ContainsAny(strings.ToLower(aside().ReplaceAllString(*s.CustomNumFmt, "")), "dy")
}

// aside are the parts of a number format that show no digits of the value:
// colours and languages, quoted and escaped text.
var aside = pattern.Lazy(`\[[^\]]*\]|"[^"]*"|\\.`)

func (l Limits) tooManyRows() error {
	return fmt.Errorf("a sheet holds more than %d rows", l.Rows)
}

// check reads the parts of a workbook once, without making anything of them.
func (l Limits) check(raw string) error {
	parts, err := zip.NewReader(strings.NewReader(raw), int64(len(raw)))
	if err != nil {
		return err
	}
	if len(parts.File) > mostParts {
		return fmt.Errorf("it has %d parts: no workbook has", len(parts.File))
	}
	var sheets, others uint64 // as declared, to which reading holds
	for _, part := range parts.File {
		name := strings.ToLower(part.Name)
		if strings.HasPrefix(name, "xl/worksheets/sheet") || name == "xl/sharedstrings.xml" {
			sheets += part.UncompressedSize64
		} else {
			others += part.UncompressedSize64
		}
	}
	if sheets > uint64(l.Octets) || others > mostOthers {
		return fmt.Errorf("it unpacks to %d MB, more than the %d that it may", (sheets+others)>>20, l.Octets>>20)
	}
	for _, part := range parts.File {
		if name := strings.ToLower(part.Name); !strings.HasSuffix(name, ".xml") && !strings.HasSuffix(name, ".rels") {
			continue
		}
		in, err := part.Open()
		if err != nil {
			return err
		}
		err = l.checkPart(in)
		in.Close()
		if err != nil {
			return fmt.Errorf("%s: %w", part.Name, err)
		}
	}
	return nil
}

// checkPart goes through the tags of one part.
func (l Limits) checkPart(in io.Reader) error {
	r := bufio.NewReaderSize(in, mostText)
	depth, rows, cells := 0, 0, 0
	for {
		text, err := r.ReadSlice('<')
		if err == io.EOF {
			return nil
		}
		tag := []byte(nil)
		if err == nil && len(text) > 0 {
			tag, err = r.ReadSlice('>')
		}
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
			return errors.New("it holds a text that no cell can hold")
		case err == io.EOF:
			return io.ErrUnexpectedEOF
		case err != nil:
			return err
		case tag[0] == '/':
			depth--
			continue
		case tag[0] == '?' || tag[0] == '!' || bytes.HasSuffix(tag, []byte("/>")):
		default:
			depth++
		}
		switch localName(tag) {
		case "row":
			rows, cells = rows+1, 0
		case "c":
			cells++
		}
		switch {
		case depth > mostDepth:
			return fmt.Errorf("it nests more than %d deep", mostDepth)
		case rows > l.Rows:
			return l.tooManyRows()
		case cells > mostCells:
			return fmt.Errorf("a row holds more than %d cells", mostCells)
		}
	}
}

// localName is the name of a tag without its prefix.
func localName(tag []byte) string {
	if end := bytes.IndexAny(tag, " \t\r\n/>"); end >= 0 {
		tag = tag[:end]
	}
	if colon := bytes.IndexByte(tag, ':'); colon >= 0 {
		tag = tag[colon+1:]
	}
	return string(tag)
}
