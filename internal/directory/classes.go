package directory

import (
	"maps"
	"slices"
	"strings"
	"sync/atomic"
)

// classes are the object classes that servers have told of and what they derive
// from, in lower case.
var classes atomic.Pointer[map[string][]string]

// DeclareClasses says what object classes of a server derive from, so that
// people of a class of the house's own are people. It adds to what was declared
// before.
func DeclareClasses(supers map[string][]string) {
	all := map[string][]string{}
	if known := classes.Load(); known != nil {
		maps.Copy(all, *known)
	}
	for class, from := range supers {
		lower := make([]string, len(from))
		for i, name := range from {
			lower[i] = strings.ToLower(name)
		}
		all[strings.ToLower(class)] = lower
	}
	classes.Store(&all)
}

// superiors returns the classes that a class derives from, as servers have
// told: those of its own and theirs, the nearest first.
func superiors(class string) (all []string) {
	known := classes.Load()
	if known == nil {
		return nil
	}
	next := (*known)[strings.ToLower(class)]
	for len(next) > 0 {
		one := next[0]
		next = next[1:]
		if !slices.Contains(all, one) {
			all = append(all, one)
			next = append(slices.Clip(next), (*known)[one]...)
		}
	}
	return all
}

// Class is an object class, as far as anybody asks: its names, those of the
// classes that it derives from, and the attributes that its entries must have.
type Class struct{ Names, Supers, Must []string }

// ParseClass reads one value of objectClasses (RFC 4512, section 4.1.1). It is
// false for what is none.
func ParseClass(text string) (c Class, ok bool) {
	words := definitionWords(text)
	if len(words) < 3 || words[0] != "(" {
		return c, false
	}
	for i := 2; i < len(words); i++ {
		switch strings.ToUpper(words[i]) {
		case "NAME":
			c.Names, i = listAt(words, i+1)
		case "SUP":
			c.Supers, i = listAt(words, i+1)
		case "MUST":
			c.Must, i = listAt(words, i+1)
		case "DESC":
			i++ // a text, which may be any word
		}
	}
	return c, true
}

// listAt reads one name, or several in parentheses, and returns where it ends.
func listAt(words []string, at int) (names []string, end int) {
	if at >= len(words) {
		return nil, at
	}
	if words[at] != "(" {
		return []string{strings.Trim(words[at], "'")}, at
	}
	for at++; at < len(words) && words[at] != ")"; at++ {
		if words[at] != "$" {
			names = append(names, strings.Trim(words[at], "'"))
		}
	}
	return names, at
}

// GuessedClass is the class that an entry seems to be of whose own classes
// nothing is known of, by what it carries, as in a file that comes without its
// server's schema: "inetOrgPerson", "groupOfNames", "groupOfUniqueNames" or
// "posixGroup". It is "" where a class is known, or where nothing tells.
func (d *Dialect) GuessedClass(e *Entry) string {
	classes := e.Get("objectClass")
	if d == AD || len(classes) == 0 || d.knownAmong(classes) {
		return ""
	}
	switch {
	case e.Has("uniqueMember"):
		return "groupOfUniqueNames"
	case e.Has("member"):
		return "groupOfNames"
	case e.Has("memberUid"):
		return "posixGroup"
	case e.Has("uid") && (e.Has("sn") || e.Has("mail") || e.Has("uidNumber") || e.Has("givenName")):
		return "inetOrgPerson"
	}
	return ""
}

// knownAmong tells whether anything but top is known of an entry's classes.
func (d *Dialect) knownAmong(classes []string) bool {
	return slices.ContainsFunc(classes,
		func(class string) bool { return !equalFoldASCII(class, "top") && d.Schema().KnowsClass(class) })
}

// ForeignClass is how many entries there are of a class of which nothing is
// known, and how many of them have a kind by what they carry.
type ForeignClass struct{ Entries, Guessed int }

// addForeign counts the classes of an entry that is of no known one.
func (s *Survey) addForeign(d *Dialect, a *Account, e *Entry) {
	classes := e.Get("objectClass")
	if d == AD || len(classes) == 0 || d.knownAmong(classes) {
		return
	}
	for _, class := range classes {
		if equalFoldASCII(class, "top") {
			continue
		}
		n := ForeignClass{Entries: 1}
		if a.Guessed {
			n.Guessed = 1
		}
		s.countForeign(class, n)
	}
}

// mostForeign is how many classes are told apart; the others are counted under
// "others".
const mostForeign = 20

func (s *Survey) countForeign(class string, n ForeignClass) {
	if _, counted := s.Foreign[class]; !counted && len(s.Foreign) >= mostForeign {
		class = "others"
	}
	of := s.Foreign[class]
	s.Foreign[strings.Clone(class)] = ForeignClass{of.Entries + n.Entries, of.Guessed + n.Guessed}
}
