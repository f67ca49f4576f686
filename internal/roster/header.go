package roster

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"yardbroom/internal/directory"
)

// headers are the usual English headers of each field, folded.
var headers = map[Field][]string{
	PersonID: {"person id", "personid", "employee id", "employeeid", "emp id", "empid", "employee number", "employee no", "employeenumber", "emp no", "staff id", "staff number", "staff no",
		"personnel number", "personnel no", "payroll number", "payroll no", "badge no", "badge number", "badge", "hr id", "worker id", "id", "person number", "pers no", "associate id"},
	Given:      {"first name", "firstname", "given name", "givenname", "given", "forename", "forenames", "first names", "preferred name", "first"},
	Family:     {"last name", "lastname", "family name", "familyname", "surname", "family", "last", "sn", "second name"},
	FullName:   {"name", "full name", "fullname", "display name", "displayname", "employee name", "employee", "worker", "person", "staff name"},
	Mail:       {"mail", "email", "e mail", "mail address", "email address", "e mail address", "work email", "work e mail", "business email", "company email", "email work", "primary email"},
	Logon:      {"logon", "login", "logon name", "login name", "username", "user name", "user", "user id", "userid", "account", "account name", "network id", "samaccountname", "uid"},
	Department: {"department", "dept", "department name", "org unit", "organisational unit", "organizational unit", "team", "division", "cost centre name", "cost center name"},
	Title:      {"title", "job title", "jobtitle", "position", "position title", "role", "job", "job name", "function", "post"},
	Location:   {"location", "site", "office", "work location", "city", "town", "workplace", "building"},
	Manager:    {"manager", "manager id", "managerid", "supervisor", "supervisor id", "reports to", "line manager", "line manager id", "manager employee id", "manager number", "manager badge no"},
	Start:      {"start", "start date", "startdate", "hire date", "hired", "date of hire", "join date", "joined", "date joined", "joining date", "employment start", "first day", "from", "contract start"},
	End: {"end", "end date", "enddate", "termination date", "terminated on", "leave date", "leaving date", "date left", "left on", "last day", "last working day", "exit date",
		"employment end", "to", "until", "contract end"},
	Status: {"status", "employment status", "employee status", "state", "worker status", "active", "is active", "enabled", "employed", "current", "active status"},
}

// foldHeader makes headers that mean the same equal: case, diacritics,
// punctuation and repeated blanks left aside, and words run together parted.
func foldHeader(h string) string {
	var b strings.Builder
	lower := false
	for _, r := range strings.TrimPrefix(h, "\ufeff") {
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

// named returns the field that a header means.
func named(header string, more map[Field][]string) (f Field, known bool) {
	folded := foldHeader(header)
	for f := range fieldCount {
		if slices.ContainsFunc(more[f], func(h string) bool { return foldHeader(h) == folded }) {
			return f, true
		}
	}
	for f := range fieldCount {
		if slices.Contains(headers[f], folded) {
			return f, true
		}
	}
	return 0, false
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
	foreign := !hasNames(first, opt) && len(opt.Map) == 0 && len(body) > 1 && !slices.ContainsFunc(first, looksLikeValue) && slices.ContainsFunc(body[1].cells, looksLikeValue)
	header := foreign || hasNames(first, opt)
	if header {
		body = body[1:]
	}
	if foreign {
		u.Err = errors.New("none of its headers is known: say which column is what, such as --map person-id=1 --map name=2, or in the settings (roster: columns)")
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
	return slices.ContainsFunc(first, func(h string) bool { _, ok := named(h, opt.Names); return ok }) && !slices.ContainsFunc(first, looksLikeValue)
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
	for i, h := range first {
		f, ok := named(h, opt.Names)
		_, asked := opt.Map[f]
		if _, used := taken[i+1]; !ok || asked || used {
			continue
		}
		if other, twice := at[f]; twice {
			return fmt.Errorf("columns %d (%s) and %d (%s) may both be the %s: say which with --map %s=…", other, first[other-1], i+1, h, f, f)
		}
		at[f] = i + 1
		if err := add(f, i+1, "by its name"); err != nil {
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
			return fmt.Errorf("the file has no header, and columns before %d look like %s too: say what is what with --map", at, f)
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
		return fmt.Errorf("the file has one column without a header: say what it is with --map name=1, or mail=1, or person-id=1")
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
	return err == nil || isMail(v) || isoDate.MatchString(v) || slashDate.MatchString(v)
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
	return fmt.Errorf("no column tells who is meant: there are %s; say which with --map person-id=…, mail=…, or family=… and given=…", strings.Join(first, ", "))
}

func headerOf(columns []Mapped, f Field) string {
	for _, m := range columns {
		if m.Field == f {
			return m.Header
		}
	}
	return ""
}
