package work

import (
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode"

	"yardbroom/internal/directory"
	"yardbroom/internal/whole"
)

// What can be named of a yard is kept in a file of its own, so that a shell that completes
// a name need not read a directory, nor a whole survey: sorted lines of kind, folded
// name, name, and what it is, with tabs between them, in which one name is found by
// halving. It is a help for typing and proves nothing.

// Nameable is something of a directory that commands are told by its name.
type Nameable struct{ Name, About string }

// NameKind is a kind of what can be named.
type NameKind string

// The kinds of names.
const (
	AccountNames NameKind = "a"
	GroupNames   NameKind = "g"
	UnitNames    NameKind = "o"
)

// namesAge is how old the names of a yard may be before the next reading of all of it
// writes them anew.
const namesAge = 12 * time.Hour

func (s *Session) namesFile(yard string) string {
	return filepath.Join(s.State, "names", yard+".txt")
}

// rememberNames keeps what can be named of a yard that was read whole. It is not worth
// an error: nothing but completion rests on it.
func (s *Session) rememberNames(yard string, survey *directory.Survey) {
	if survey.Partial || !s.namesAreOld(yard) || os.MkdirAll(filepath.Dir(s.namesFile(yard)), 0o700) != nil {
		return
	}
	lines := nameLines(survey)
	_ = whole.Write(s.namesFile(yard), func(w io.Writer) error {
		for _, l := range lines {
			if _, err := io.WriteString(w, l); err != nil {
				return err
			}
		}
		return nil
	})
}

// namesAreOld tells whether the names of a yard are to be kept anew. Where there is no
// state folder, none is made for them.
func (s *Session) namesAreOld(yard string) bool {
	_, known := s.Settings.Yards[yard]
	if _, err := os.Stat(s.State); err != nil || !known || filepath.Base(yard) != yard {
		return false
	}
	info, err := os.Stat(s.namesFile(yard))
	return err != nil || s.now().Sub(info.ModTime()).Abs() >= namesAge
}

// nameLines are the lines of the file, in their order.
func nameLines(survey *directory.Survey) (lines []string) {
	add := func(kind NameKind, name, about string) {
		odd := func(r rune) bool { return !unicode.IsPrint(r) }
		if name != "" && !strings.ContainsFunc(name, odd) {
			about = strings.Map(func(r rune) rune {
				if odd(r) {
					return -1
				}
				return r
			}, about)
			lines = append(lines, string(kind)+strings.ToLower(name)+"\t"+name+"\t"+about+"\n")
		}
	}
	for a := range survey.Accounts.All() {
		add(AccountNames, a.Name(), aboutEntry(&a.Subject))
	}
	for i := range survey.Groups {
		if g := &survey.Groups[i]; g.Kind == directory.KindGroup {
			add(GroupNames, g.Name(), aboutEntry(&g.Subject))
		}
	}
	times := map[string]int{}
	for i := range survey.Units {
		times[strings.ToLower(directory.LeafValue(survey.Units[i].DN))]++
	}
	for i := range survey.Units {
		u := &survey.Units[i]
		name, about := directory.LeafValue(u.DN), u.DN
		if times[strings.ToLower(name)] > 1 {
			name, about = u.DN, ""
		}
		add(UnitNames, name, about)
	}
	slices.Sort(lines)
	return slices.Compact(lines)
}

// aboutEntry is what tells an entry from others besides its logon name.
func aboutEntry(of *directory.Subject) string {
	if leaf := directory.LeafValue(of.DN); leaf != of.Name() {
		return leaf
	}
	_, parent := directory.SplitDN(of.DN)
	return directory.LeafValue(parent)
}

// Names are what can be named of a yard and begins with some text, in any case, as the
// last reading of all of it knows it; at most so many, none where it was not read.
func (s *Session) Names(yard string, kind NameKind, begins string, most int) (all []Nameable, err error) {
	if filepath.Base(yard) != yard {
		return nil, nil
	}
	f, err := os.Open(s.namesFile(yard))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	key := []byte(string(kind) + strings.ToLower(begins))
	lines := &sortedLines{f, info.Size()}
	for at := lines.first(key); len(all) < most; {
		line, next := lines.at(at)
		if !bytes.HasPrefix(line, key) {
			break
		}
		if parts := strings.Split(string(line), "\t"); len(parts) == 3 {
			all = append(all, Nameable{parts[1], parts[2]})
		}
		at = next
	}
	return all, nil
}

// sortedLines is a file of sorted lines.
type sortedLines struct {
	file io.ReaderAt
	size int64
}

// longestLine is longer than any line is.
const longestLine = 8 << 10

// first is where the first line begins that is not before a key.
func (l *sortedLines) first(key []byte) int64 {
	low, high := int64(0), l.size // a line begins at low; those from high on are not before the key
	for low < high {
		middle := l.begin(low, (low+high)/2)
		line, next := l.at(middle)
		if bytes.Compare(line, key) < 0 {
			low = next
		} else {
			high = middle
		}
	}
	return low
}

// begin is where the line begins that holds an octet, not before low, where one does.
func (l *sortedLines) begin(low, at int64) int64 {
	from := max(low, at-longestLine)
	buf := make([]byte, at-from)
	n, _ := l.file.ReadAt(buf, from)
	if i := bytes.LastIndexByte(buf[:n], '\n'); i >= 0 {
		return from + int64(i) + 1
	}
	return low
}

// at is the line that begins at an octet, without its end, and where the next one
// begins; nothing at the end of the file.
func (l *sortedLines) at(at int64) (line []byte, next int64) {
	buf := make([]byte, min(longestLine, max(l.size-at, 0)))
	n, _ := l.file.ReadAt(buf, at)
	if i := bytes.IndexByte(buf[:n], '\n'); i >= 0 {
		return buf[:i], at + int64(i) + 1
	}
	return buf[:n], l.size
}
