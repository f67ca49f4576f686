package roster

import (
	"cmp"
	_ "embed"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode"

	"golang.org/x/text/unicode/norm"

	"yardbroom/internal/directory"
)

//go:embed headers.txt
var headersText string

// usualHeaders are what columns are usually called, folded, in many languages.
type usualHeaders struct {
	fields    map[string]Field
	ambiguous map[string]bool // words for one of the names or for all of them
}

var headers = sync.OnceValue(func() usualHeaders {
	fields, open := map[string]Field{}, map[string]bool{}
	for meaning, word := range wordLists(headersText) {
		if meaning == "a-name" {
			open[foldHeader(word)] = true
			continue
		}
		f, err := ParseField(meaning)
		if err != nil {
			panic(err) // the file is part of the program
		}
		fields[foldHeader(word)] = f
	}
	return usualHeaders{fields, open}
})

// wordLists goes through lines such as "meaning: word, word".
func wordLists(text string) iter.Seq2[string, string] {
	return func(yield func(string, string) bool) {
		for line := range strings.Lines(text) {
			meaning, words, ok := strings.Cut(strings.TrimSpace(line), ":")
			if !ok || line[0] == '#' {
				continue
			}
			for word := range strings.SplitSeq(words, ",") {
				if !yield(meaning, word) {
					return
				}
			}
		}
	}
}

// foldHeader makes headers that mean the same equal: case, diacritics,
// punctuation and repeated blanks left aside, and words run together parted.
func foldHeader(h string) string {
	var b strings.Builder
	lower := false
	for _, r := range norm.NFKC.String(strings.TrimPrefix(h, "\ufeff")) {
		if unicode.In(r, unicode.Mn, unicode.Cf) {
			continue // an accent by itself, a mark of direction
		}
		if unicode.IsUpper(r) && lower {
			b.WriteByte(' ')
		}
		lower = unicode.IsLower(r)
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			b.WriteRune(unicode.ToLower(r))
		} else {
			b.WriteByte(' ')
		}
	}
	words := strings.Fields(b.String())
	for i, w := range words {
		words[i] = directory.FoldText(w)
	}
	return strings.Join(words, " ")
}

// named returns the field that a header means. A word for one of the names or
// for all means the whole name; nameOf says which where other columns tell.
func named(header string, more map[Field][]string) (f Field, known bool) {
	folded := foldHeader(header)
	for f := range fieldCount {
		if slices.ContainsFunc(more[f], func(h string) bool { return foldHeader(h) == folded }) {
			return f, true
		}
	}
	if headers().ambiguous[folded] {
		return FullName, true
	}
	f, known = headers().fields[folded]
	return f, known
}

// nameOf returns the name that a word means beside the columns that are known:
// where only the other one has a column of its own, this one.
func nameOf(header string, beside map[Field]int) Field {
	_, given := beside[Given]
	_, family := beside[Family]
	switch {
	case !headers().ambiguous[foldHeader(header)], given == family:
		return FullName
	case given:
		return Family
	}
	return Given
}

// Unclear is the error where what the columns mean cannot be told: what was
// seen of each.
type Unclear struct {
	Source, Form string
	Columns      []Seen
	Err          error
}

// Seen is what is seen of a column whose meaning is not known yet.
type Seen struct {
	Header string // as it is written; "" where the file seems to have none
	Value  string // of the first row that has one
	May    string // the field that the header means or that all values look like; "" where neither tells
}

func (u *Unclear) Error() string { return u.Source + ": " + u.Err.Error() }
func (u *Unclear) Unwrap() error { return u.Err }

// mostSeen is how many columns are told of.
const mostSeen = 100

// unclear says what there is to see.
func (t *table) unclear(source string, opt Options, err error) *Unclear {
	u := &Unclear{Source: source, Form: t.form, Err: err}
	first, body := t.rows[0].cells, t.rows
	foreign := !hasNames(first, opt) && len(opt.Map) == 0 && len(body) > 1 &&
		!slices.ContainsFunc(first, looksLikeValue) &&
		slices.ContainsFunc(body[1].cells, looksLikeValue)
	header := foreign || hasNames(first, opt)
	if header {
		body = body[1:]
	}
	if foreign {
		u.Err = errors.New(
			"none of its headers is known: say which column is what, such as --map person-id=1 --map name=2, or in the settings (roster: columns)",
		)
	}
	for i := range first[:min(len(first), mostSeen)] {
		var s Seen
		if header {
			s.Header = strings.TrimSpace(first[i])
			if f, ok := named(s.Header, opt.Names); ok {
				s.May = f.String()
			}
		}
		for _, l := range body {
			if i < len(l.cells) && strings.TrimSpace(l.cells[i]) != "" {
				s.Value = tidied(l.cells[i])
				break
			}
		}
		if f, ok := columnLooks(body, i+1); ok && s.May == "" {
			s.May = f.String()
		}
		u.Columns = append(u.Columns, s)
	}
	return u
}

// hasNames tells of a first row that it is a header: it has names of fields
// and nothing that looks like a value.
func hasNames(first []string, opt Options) bool {
	return slices.ContainsFunc(first, func(h string) bool { _, ok := named(h, opt.Names); return ok }) &&
		!slices.ContainsFunc(first, looksLikeValue)
}

// mapColumns finds out which column is which field: as asked, by header, or,
// where there is none, by position.
func mapColumns(rows []line, opt Options) (columns []Mapped, hasHeader bool, err error) {
	first := rows[0].cells
	hasHeader = hasNames(first, opt)
	for _, asked := range opt.Map {
		if _, err := strconv.Atoi(asked); err != nil {
			hasHeader = true // somebody knows its names
		}
	}
	taken := map[int]Field{}
	add := func(f Field, at int, how string) error {
		if other, ok := taken[at]; ok {
			return fmt.Errorf("column %d is asked for as %s and as %s", at, other, f)
		}
		m := Mapped{Field: f, Column: at, How: how}
		if hasHeader && at <= len(first) {
			m.Header = strings.TrimSpace(strings.TrimPrefix(first[at-1], "\ufeff"))
		}
		taken[at] = f
		columns = append(columns, m)
		return nil
	}
	for _, f := range slices.Sorted(maps.Keys(opt.Map)) {
		at, err := columnAsked(opt.Map[f], first)
		if err == nil {
			err = add(f, at, "as asked")
		}
		if err != nil {
			return nil, false, err
		}
	}
	if hasHeader {
		err = byName(first, opt, taken, add)
	} else if len(opt.Map) == 0 {
		err = byPosition(rows, add)
	}
	if err != nil {
		return nil, false, err
	}
	slices.SortFunc(columns, func(a, b Mapped) int { return cmp.Compare(a.Field, b.Field) })
	return columns, hasHeader, usable(columns, first, hasHeader)
}

// byName maps the columns whose headers say what they are.
func byName(first []string, opt Options, taken map[int]Field, add func(Field, int, string) error) error {
	at := map[Field]int{}
	for f := range opt.Map {
		at[f] = 0
	}
	take := func(f Field, i int) error {
		if other, twice := at[f]; twice && other > 0 {
			return fmt.Errorf("columns %d (%s) and %d (%s) may both be the %s: say which with --map %s=…", other,
				first[other-1], i+1, first[i], f, f)
		} else if twice {
			return nil // as asked
		}
		at[f] = i + 1
		return add(f, i+1, "by its name")
	}
	var open []int
	for i, h := range first {
		f, ok := named(h, opt.Names)
		switch _, used := taken[i+1]; {
		case !ok || used:
		case f == FullName && headers().ambiguous[foldHeader(h)]:
			open = append(open, i)
		default:
			if err := take(f, i); err != nil {
				return err
			}
		}
	}
	for _, i := range open {
		if err := take(nameOf(first[i], at), i); err != nil {
			return err
		}
	}
	return nil
}

// columnAsked finds a column by number or by header.
func columnAsked(want string, first []string) (int, error) {
	if n, err := strconv.Atoi(want); err == nil {
		if n < 1 || n > len(first) {
			return 0, fmt.Errorf("there is no column %d: there are %d", n, len(first))
		}
		return n, nil
	}
	folded := foldHeader(want)
	found := 0
	for i, h := range first {
		if foldHeader(h) == folded {
			if found > 0 {
				return 0, fmt.Errorf("columns %d and %d are both called %q: give the number", found, i+1, want)
			}
			found = i + 1
		}
	}
	if found == 0 {
		return 0, fmt.Errorf("no column is called %q: there are %s", want, strings.Join(first, ", "))
	}
	return found, nil
}

// byPosition maps the columns of a file without a header: what looks like
// mail addresses is mail, a column of numbers all different is the person id,
// and of the words the first is the family name, the next the given name.
func byPosition(rows []line, add func(Field, int, string) error) error {
	width := 0
	for _, l := range rows {
		width = max(width, len(l.cells))
	}
	names := []Field{Family, Given}
	used := map[Field]bool{}
	take := func(f Field, at int) error {
		if used[f] {
			return fmt.Errorf(
				"the file has no header, and columns before %d look like %s too: say what is what with --map", at, f)
		}
		used[f] = true
		return add(f, at, "by position")
	}
	for at := 1; at <= width; at++ {
		var err error
		switch looks, ok := columnLooks(rows, at); {
		case ok && looks != FullName:
			err = take(looks, at)
		case ok && len(names) > 0:
			err = take(names[0], at)
			names = names[1:]
		default:
			err = fmt.Errorf("the file has no header, and what column %d means cannot be told: say with --map", at)
		}
		if err != nil {
			return err
		}
	}
	if width == 1 && used[Family] { // one column of whole names
		return fmt.Errorf(
			"the file has one column without a header: say what it is with --map name=1, or mail=1, or person-id=1")
	}
	return nil
}

// columnLooks tells what all values of a column look like: mail addresses,
// different numbers, or words, which may be names.
func columnLooks(rows []line, at int) (f Field, ok bool) {
	seen := map[string]bool{}
	mail, number, word := true, true, true
	for _, l := range rows {
		if at > len(l.cells) || strings.TrimSpace(l.cells[at-1]) == "" {
			continue
		}
		v := strings.TrimSpace(l.cells[at-1])
		_, err := strconv.ParseUint(v, 10, 64)
		mail = mail && isMail(v)
		number = number && err == nil && !seen[v]
		word = word && !strings.ContainsFunc(v, unicode.IsDigit) && !strings.Contains(v, "@")
		seen[v] = true
	}
	switch {
	case len(seen) == 0:
		return 0, false
	case mail:
		return Mail, true
	case number:
		return PersonID, true
	case word:
		return FullName, true
	}
	return 0, false
}

func isMail(v string) bool {
	local, domain, ok := strings.Cut(v, "@")
	return ok && local != "" && strings.Contains(domain, ".") && !strings.ContainsAny(v, " ,;")
}

// looksLikeValue tells of a cell that it is no header.
func looksLikeValue(cell string) bool {
	v := strings.TrimSpace(cell)
	_, err := strconv.ParseFloat(v, 64)
	_, date := readWritten(v)
	return err == nil || isMail(v) || date
}

// usable refuses a mapping by which nobody could be found.
func usable(columns []Mapped, first []string, hasHeader bool) error {
	for _, m := range columns {
		switch m.Field {
		case PersonID, Mail, Logon, FullName, Family:
			return nil
		}
	}
	if !hasHeader {
		return fmt.Errorf("no column tells who is meant")
	}
	return fmt.Errorf(
		"no column tells who is meant: there are %s; say which with --map person-id=…, mail=…, or family=… and given=…",
		strings.Join(first, ", "))
}

func headerOf(columns []Mapped, f Field) string {
	for _, m := range columns {
		if m.Field == f {
			return m.Header
		}
	}
	return ""
}
