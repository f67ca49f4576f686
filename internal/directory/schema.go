package directory

import (
	"embed"
	"fmt"
	"slices"
	"strings"
	"sync"
)

// Syntax tells how the values of an attribute compare.
type Syntax byte

// The syntaxes, by the letters that stand for them in the tables.
const (
	SyntaxText    Syntax = 't' // characters, case and repeated blanks ignored
	SyntaxPlain   Syntax = 'c' // the same, without equating compatible forms of a character
	SyntaxExact   Syntax = 'e' // characters, case counts
	SyntaxPrecise Syntax = 'v' // octets shown as characters: nothing is ignored
	SyntaxNumber  Syntax = 'i' // integer
	SyntaxTime    Syntax = 'g' // GeneralizedTime
	SyntaxDN      Syntax = 'd'
	SyntaxBoolean Syntax = 'b'
	SyntaxOctets  Syntax = 'o'
	SyntaxUUID    Syntax = 'u'
	SyntaxGUID    Syntax = 'G' // octets that may be asked for in the 8-4-4-4-12 form
	SyntaxSID     Syntax = 'S' // octets that may be asked for in the S-1-… form
	SyntaxPhone   Syntax = 'p' // characters, case, blanks and hyphens ignored
	SyntaxDigits  Syntax = 'n' // digits, blanks ignored
	SyntaxLines   Syntax = 'l' // lines separated by $, as in a postal address
	SyntaxClass   Syntax = 'k' // an object class, or another object identifier
	SyntaxNone    Syntax = 'x' // no two values compare
)

// AttributeType is what a schema says of one attribute (RFC 4512, section
// 4.1.2), as far as filters need it.
type AttributeType struct {
	Name       string
	Syntax     Syntax
	Ordered    bool // has an ordering rule
	Substrings bool // has a substrings rule
	Link       bool // names entries, which name this one back
	FileTime   bool // an integer that counts 100 ns since 1601
	Days       bool // an integer that counts days since 1970
	Single     bool // has one value at most
	Super      string
}

// Schema is the attribute types and object classes that the servers of a
// dialect know without being told.
type Schema struct {
	types   map[string]*AttributeType // by name in lower case
	names   func() map[*AttributeType][]string
	classes map[string]string // an object class and the one it derives from, in lower case
	// categories are the names that objectCategory has for object classes.
	categories map[string]string
	numbers    map[string]string // of object classes, and their names
}

//go:embed schema/*.txt
var schemas embed.FS

// readSchema reads a table: one attribute a line with its names and number, the letter
// of its syntax, and marks: < for ordering, * for substrings, & for a link,
// @ for a file time, # for days, 1 for a single value; "class" lines name an object class and its
// superior, "category" lines one and its objectCategory, both its number.
func readSchema(name string) *Schema {
	text, err := schemas.ReadFile("schema/" + name + ".txt")
	if err != nil {
		panic(err)
	}
	lines := strings.Count(string(text), "\n")
	s := &Schema{
		types:      make(map[string]*AttributeType, 2*lines),
		classes:    map[string]string{},
		categories: map[string]string{},
		numbers:    map[string]string{},
	}
	types := make([]AttributeType, 0, lines)
	for line := range strings.Lines(string(text)) {
		fields := strings.Fields(line)
		switch {
		case len(fields) >= 3 && (fields[0] == "class" || fields[0] == "category"):
			class := strings.ToLower(fields[1])
			if fields[0] == "class" {
				s.classes[class] = strings.ToLower(fields[2])
			} else {
				s.categories[class] = fields[2]
			}
			for _, number := range fields[3:] {
				s.numbers[number] = class
			}
		case len(fields) >= 2 && !strings.HasPrefix(line, "#"):
			first, _, _ := strings.Cut(fields[0], ",")
			types = append(types, AttributeType{Name: first, Syntax: Syntax(fields[1][0])})
			t := &types[len(types)-1]
			for _, mark := range fields[1][1:] {
				switch mark {
				case '<':
					t.Ordered = true
				case '*':
					t.Substrings = true
				case '&':
					t.Link = true
				case '@':
					t.FileTime = true
				case '#':
					t.Days = true
				case '1':
					t.Single = true
				default:
					panic(fmt.Sprintf("schema %s: %q", name, line))
				}
			}
			if len(fields) > 2 {
				t.Super = fields[2]
			}
			for n := range strings.SplitSeq(strings.ToLower(fields[0]), ",") {
				s.types[n] = t
			}
		}
	}
	s.names = sync.OnceValue(s.namesByType)
	return s
}

var (
	schemaAD       = sync.OnceValue(func() *Schema { return readSchema("ad") })
	schemaStandard = sync.OnceValue(func() *Schema { return readSchema("standard") })
)

// Schema returns what the dialect's servers know without being told.
func (d *Dialect) Schema() *Schema {
	if d == AD {
		return schemaAD()
	}
	return schemaStandard()
}

// Type returns what is known of an attribute by one of its names, options
// left aside; nil where it is not known.
func (s *Schema) Type(name string) *AttributeType {
	name, _, _ = strings.Cut(name, ";")
	return s.types[bareNumber(strings.ToLower(name))]
}

// bareNumber takes away what may stand before a number (RFC 2253, section 4).
func bareNumber(lower string) string { return strings.TrimPrefix(lower, "oid.") }

// class returns an object class by its name or number, in lower case.
func (s *Schema) class(name string) string {
	name = strings.ToLower(name)
	if IsOID(name) {
		if class, ok := s.numbers[bareNumber(name)]; ok {
			return class
		}
	}
	return name
}

// AttributeNames are the names of all attributes, as the schema spells them, sorted.
func (s *Schema) AttributeNames() []string {
	names := make([]string, 0, len(s.types))
	for _, t := range s.types {
		names = append(names, t.Name)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Names returns all names that the values of an attribute, or of one derived
// from it, may stand under, in lower case.
func (s *Schema) Names(t *AttributeType) []string { return s.names()[t] }

// namesByType finds out what Names returns.
func (s *Schema) namesByType() map[*AttributeType][]string {
	names := make(map[*AttributeType][]string, len(s.types))
	for name, t := range s.types {
		for up := t; up != nil; up = s.types[strings.ToLower(up.Super)] {
			names[up] = append(names[up], name)
		}
	}
	return names
}

// Category returns the leaf value of the name that stands in objectCategory
// for an object class (MS-ADTS 3.1.1.3.1.3.5), "" where there is none.
func (s *Schema) Category(class string) string { return s.categories[s.class(class)] }

// KnowsClass tells whether an object class is one that the servers know
// without being told.
func (s *Schema) KnowsClass(class string) bool {
	return strings.EqualFold(class, "top") || s.classes[s.class(class)] != "" || len(superiors(class)) > 0
}

// DerivesFrom tells whether an object class is another one, or derives from
// it, ignoring case.
func (s *Schema) DerivesFrom(class, super string) bool {
	class, super = s.class(class), s.class(super)
	if super == "top" || s.derives(class, super) {
		return true
	}
	for _, one := range superiors(class) {
		if s.derives(one, super) {
			return true
		}
	}
	return false
}

// derives is DerivesFrom by what the servers know without being told.
func (s *Schema) derives(class, super string) bool {
	for range len(s.classes) + 1 {
		if class == super {
			return true
		}
		if class = s.classes[class]; class == "" {
			return false
		}
	}
	return false
}
