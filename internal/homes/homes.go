// Package homes finds the home folders that a directory names, sets them
// aside, puts them back, and archives them.
//
// A directory's homeDirectory is often wrong: it is empty, or the share
// itself, or leads elsewhere by ".." or a link, or two accounts have the same
// one. A folder is therefore only ever touched if its path is mapped by the
// settings, lies strictly below the mapped folder, follows no link, ends in
// the account's logon name, lies on the same file system, and neither equals,
// contains nor lies in the home of another account. Setting aside is one
// rename within the mapped folder, so nothing is copied and nothing is lost.
package homes

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"yardbroom/internal/pattern"
)

// Share says which folder of this machine a path in the directory is, and
// where homes in it go.
type Share struct {
	// Path is what homes of the directory begin with, such as
	// \\files.larkmoor.example\homes or /home.
	Path string `yaml:"path"`
	// Folder is that folder as this machine sees it.
	Folder string `yaml:"folder"`
	// Holding is the name of a folder in Folder, into which homes are set
	// aside; .set-aside where it is not named.
	Holding string `yaml:"holding"`
	// Archive is the folder that archives of homes are written into.
	Archive string `yaml:"archive"`
}

func (s *Share) holding() string {
	if s.Holding == "" {
		return ".set-aside"
	}
	return s.Holding
}

// Check refuses a mapping that would be dangerous.
func (s *Share) Check() error {
	if _, err := split(s.Path); err != nil {
		return fmt.Errorf("path: %w", err)
	}
	if !filepath.IsAbs(s.Folder) || filepath.Dir(filepath.Clean(s.Folder)) == filepath.Clean(s.Folder) {
		return fmt.Errorf("folder: %q is not the full path of a folder below the root", s.Folder)
	}
	if h := s.holding(); h == "." || h == ".." || strings.ContainsAny(h, `/\`) || !plainElement(h) {
		return fmt.Errorf("holding: %q is not the name of a folder in %s", h, s.Folder)
	}
	if s.Archive == "" {
		return nil
	}
	if !filepath.IsAbs(s.Archive) {
		return fmt.Errorf("archive: %q is not a full path", s.Archive)
	}
	if within(s.Archive, s.Folder) || within(s.Folder, s.Archive) {
		return fmt.Errorf("archive: %s and %s must not lie in each other", s.Archive, s.Folder)
	}
	return nil
}

// CheckAll refuses mappings that do not go together.
func CheckAll(all []Share) error {
	for i := range all {
		if err := all[i].Check(); err != nil {
			return err
		}
		for j := range all[:i] {
			a, b := filepath.Clean(all[i].Folder), filepath.Clean(all[j].Folder)
			if a != b && (within(a, b) || within(b, a)) {
				return fmt.Errorf("folder: %s and %s must not lie in each other", a, b)
			}
			if a == b && (all[i].holding() != all[j].holding() || all[i].Archive != all[j].Archive) {
				return fmt.Errorf("folder: %s is mapped twice, with different holding folders or archives", a)
			}
		}
	}
	return nil
}

// within tells whether a path is another, or lies below it.
func within(path, above string) bool {
	rel, err := filepath.Rel(filepath.Clean(above), filepath.Clean(path))
	return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
}

// Home is a home folder that the settings map.
type Home struct {
	Value    string // as the directory names it
	share    *Share
	elements []string // below the mapped folder, at least one
	windows  bool     // the directory names it in the manner of Windows, where case does not count
}

// fullPath is a path in the manner of Windows or of POSIX, taken apart.
type fullPath struct {
	elements []string
	windows  bool
}

var shortName = pattern.Lazy(`~[0-9]`)

// split takes a full path apart. It refuses whatever might mean another
// folder than it says.
func split(value string) (fullPath, error) {
	var p fullPath
	rest := value
	switch {
	case value == "":
		return p, errors.New("it is empty")
	case !utf8.ValidString(value):
		return p, errors.New("it is not valid UTF-8")
	case strings.HasPrefix(value, `\\`), strings.HasPrefix(value, "//"):
		p.windows, rest = true, value[2:]
	case len(value) > 2 && value[1] == ':' && (value[2] == '\\' || value[2] == '/') && unicode.IsLetter(rune(value[0])):
		p.windows, p.elements, rest = true, []string{value[:2]}, value[3:]
	case value[0] == '/':
		rest = value[1:]
	default:
		return p, fmt.Errorf("%s is not a full path", value)
	}
	if p.windows {
		rest = strings.ReplaceAll(rest, `\`, "/")
	}
	rest = strings.TrimSuffix(rest, "/")
	if rest == "" {
		return p, fmt.Errorf("%s names no folder", value)
	}
	for element := range strings.SplitSeq(rest, "/") {
		switch {
		case element == "":
			return p, fmt.Errorf("%s has an empty part", value)
		case element == "." || element == "..":
			return p, fmt.Errorf("%s has the part \"%s\"", value, element)
		case !plainElement(element):
			return p, fmt.Errorf("%s has characters that do not belong into a path", value)
		case p.windows && (strings.ContainsAny(element, `<>:"|?*%`) || strings.TrimRight(element, ". ") != element || shortName().MatchString(element)):
			return p, fmt.Errorf("%s has a part that may mean another folder, \"%s\"", value, element)
		}
		p.elements = append(p.elements, element)
	}
	return p, nil
}

// plainElement tells whether a part of a path has no control characters and
// no separators of any system.
func plainElement(s string) bool {
	return utf8.ValidString(s) && !strings.ContainsAny(s, `\/`) &&
		!strings.ContainsFunc(s, func(r rune) bool { return unicode.IsControl(r) || r == utf8.RuneError })
}

// ErrUnmapped is the error for a path below none of the mapped ones.
var ErrUnmapped = errors.New("no path in the settings' homes is above it")

// Locate finds the mapped folder that a home lies below.
func Locate(shares []Share, value string) (Home, error) {
	p, err := split(value)
	if err != nil {
		return Home{}, err
	}
	for i := range shares {
		root, err := split(shares[i].Path)
		if err != nil || root.windows != p.windows || len(p.elements) < len(root.elements) {
			continue
		}
		same := func(a, b string) bool { return a == b || p.windows && fold(a) == fold(b) }
		if !slices.EqualFunc(root.elements, p.elements[:len(root.elements)], same) {
			continue
		}
		below := p.elements[len(root.elements):]
		switch {
		case len(below) == 0:
			return Home{}, fmt.Errorf("%s is the folder of all homes itself", value)
		case fold(below[0]) == fold(shares[i].holding()):
			return Home{}, fmt.Errorf("%s lies in the holding folder", value)
		}
		return Home{Value: value, share: &shares[i], elements: below, windows: p.windows}, nil
	}
	return Home{}, fmt.Errorf("%s: %w", value, ErrUnmapped)
}

// fold makes names equal that some file system takes for the same.
func fold(name string) string { return strings.ToLower(norm.NFC.String(name)) }

// key is the same for all paths that may name the same folder, and begins
// with the keys of all folders above it.
func (h Home) key() string {
	out := filepath.Clean(h.share.Folder) + "\x00"
	for _, e := range h.elements {
		out += fold(e) + "/"
	}
	return out
}

// Same tells whether two paths may name the same folder.
func (h Home) Same(o Home) bool { return h.key() == o.key() }

// leaf is the last part of a path, whatever it means.
func leaf(value string) string {
	value = strings.TrimRight(strings.ReplaceAll(value, `\`, "/"), "/")
	return fold(value[strings.LastIndex(value, "/")+1:])
}

// Owners knows whose homes are where.
type Owners struct {
	shares []Share
	mapped []owned // by key
	others []owned // by the last part of what is not mapped
	sorted bool
}

type owned struct{ key, id, name string }

// NewOwners returns an empty index of homes.
func NewOwners(shares []Share) *Owners { return &Owners{shares: shares} }

// Add takes in that an entry has a home: its identity, what to call it, and
// what the directory says.
func (o *Owners) Add(id, name, value string) {
	if strings.TrimSpace(value) == "" {
		return
	}
	o.sorted = false
	if h, err := Locate(o.shares, value); err == nil {
		o.mapped = append(o.mapped, owned{h.key(), id, name})
		return
	}
	o.others = append(o.others, owned{leaf(value), id, name})
}

// Sort makes the index ready for questions, from several goroutines at once.
func (o *Owners) Sort() {
	if o.sorted {
		return
	}
	byKey := func(a, b owned) int { return strings.Compare(a.key, b.key) }
	slices.SortStableFunc(o.mapped, byKey)
	slices.SortStableFunc(o.others, byKey)
	o.sorted = true
}

// Conflict tells why a home is not the entry's alone, "" where it is.
func (o *Owners) Conflict(h Home, id string) string {
	key := h.key()
	root := strings.IndexByte(key, 0) + 1
	// Above it, and the same.
	for at := root; at < len(key); {
		next := strings.IndexByte(key[at:], '/')
		at += next + 1
		for _, other := range beginning(o.mapped, key[:at], false) {
			switch {
			case other.id == id:
			case at == len(key):
				return fmt.Sprintf("%s is the home of %s too", h.Value, other.name)
			default:
				return fmt.Sprintf("%s lies in the home of %s", h.Value, other.name)
			}
		}
	}
	for _, other := range beginning(o.mapped, key, true) {
		if other.id != id {
			return fmt.Sprintf("the home of %s lies in %s", other.name, h.Value)
		}
	}
	for _, other := range beginning(o.others, fold(h.elements[len(h.elements)-1]), false) {
		if other.id != id {
			return fmt.Sprintf(
				"%s has a home of the same name at a path that the settings' homes do not map; whether it is the same folder is not known",
				other.name,
			)
		}
	}
	return ""
}

// beginning returns the part of a sorted list with a key, or beginning with it.
func beginning(list []owned, key string, prefix bool) []owned {
	from, _ := slices.BinarySearchFunc(list, key, func(o owned, k string) int { return strings.Compare(o.key, k) })
	to := from
	for to < len(list) && (list[to].key == key || prefix && strings.HasPrefix(list[to].key, key)) {
		to++
	}
	return list[from:to]
}

// Named tells whether the home ends in the logon name.
func (h Home) Named(logon string) bool {
	last := h.elements[len(h.elements)-1]
	return logon != "" && (last == logon || h.windows && fold(last) == fold(logon))
}
