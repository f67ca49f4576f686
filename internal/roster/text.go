package roster

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

// mostOctets is how large a roster may be: a million people with a kilobyte
// each.
const mostOctets = 1 << 30

// Read reads a roster, whatever it is: what the file holds is told by looking
// at it. An error names the source and, where there is one, the row.
func Read(in io.Reader, source string, opt Options) (*Roster, error) {
	raw, err := io.ReadAll(io.LimitReader(in, mostOctets+1))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", source, err)
	}
	switch {
	case len(raw) > mostOctets:
		return nil, fmt.Errorf("%s is larger than a roster can be (%d MB)", source, mostOctets>>20)
	case bytes.HasPrefix(raw, []byte("PK\x03\x04")):
		return readWorkbook(raw, source, opt)
	case bytes.HasPrefix(raw, []byte("\xd0\xcf\x11\xe0")):
		return nil, fmt.Errorf("%s is a workbook of the old kind (xls): save it as xlsx or CSV", source)
	}
	text, encoding, err := decode(raw)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", source, err)
	}
	switch trimmed := strings.TrimLeft(text, " \t\r\n"); {
	case trimmed == "":
		return nil, fmt.Errorf("%s is empty", source)
	case trimmed[0] == '[' || trimmed[0] == '{':
		return readJSON(trimmed, source, opt)
	}
	t, err := readSeparated(text, encoding)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", source, err)
	}
	return t.understand(source, opt)
}

// decode turns octets into text and tells their encoding: by a byte order
// mark, by the zeros of UTF-16, as UTF-8 if they are, else as Windows-1252.
func decode(raw []byte) (text, encoding string, err error) {
	order := unicode.LittleEndian
	switch {
	case bytes.HasPrefix(raw, []byte("\xef\xbb\xbf")):
		raw, encoding = raw[3:], "UTF-8"
	case bytes.HasPrefix(raw, []byte("\xff\xfe")):
		encoding = "UTF-16"
	case bytes.HasPrefix(raw, []byte("\xfe\xff")):
		encoding, order = "UTF-16", unicode.BigEndian
	case len(raw) > 3 && raw[1] == 0 && raw[3] == 0 && raw[0] != 0:
		encoding = "UTF-16"
	case len(raw) > 3 && raw[0] == 0 && raw[2] == 0 && raw[1] != 0:
		encoding, order = "UTF-16", unicode.BigEndian
	}
	switch {
	case encoding == "UTF-16":
		decoded, err := unicode.UTF16(order, unicode.UseBOM).NewDecoder().Bytes(raw)
		if err == nil && (len(raw)%2 != 0 || bytes.IndexByte(decoded, 0) >= 0) {
			err = errors.New("it looks like UTF-16 and holds zero characters or half a one: it is not whole, or no text")
		}
		return string(decoded), encoding, err
	case bytes.IndexByte(raw, 0) >= 0:
		return "", "", errors.New("it holds zero octets, so it is no text")
	case utf8.Valid(raw):
		return string(raw), "UTF-8", nil
	case encoding == "UTF-8":
		return "", "", errors.New("it says that it is UTF-8 and is not")
	}
	decoded, err := charmap.Windows1252.NewDecoder().Bytes(raw)
	return string(decoded), "Windows-1252", err
}

// separators are the delimiters that are looked for, and their names.
var separators = []struct {
	r    rune
	name string
}{{',', "commas"}, {';', "semicolons"}, {'\t', "tabs"}, {'|', "bars"}}

// readSeparated reads text whose cells stand between delimiters (RFC 4180,
// with other delimiters too).
func readSeparated(text, encoding string) (*table, error) {
	separator, name := delimiter(text)
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord, r.LazyQuotes = separator, -1, false
	r.TrimLeadingSpace = separator != '\t'
	t := &table{form: encoding}
	if name != "" {
		t.form += ", separated by " + name
	}
	for n := 1; ; n++ {
		cells, err := r.Read()
		if err == io.EOF {
			return t, nil
		}
		if err != nil {
			return nil, fmt.Errorf("row %d: %w", n, err)
		}
		t.rows = append(t.rows, line{n, cells})
	}
}

// delimiter finds the delimiter by the first lines: the one that stands
// equally often in most of them, outside quotes.
func delimiter(text string) (rune, string) {
	var lines []string
	for l := range strings.Lines(text) {
		if strings.TrimSpace(l) != "" {
			lines = append(lines, l)
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
