package directory

import "strings"

// Definition is the description of an attribute type as a server publishes it
// (RFC 4512, section 4.1.2).
type Definition struct {
	OID    string
	Names  []string
	Super  string // its supertype, by name or number
	Syntax string // the number of its syntax, without the length
	// Ordering and Substrings are the rules by which values are ordered and parts
	// of them compared; "" where there is none, or the supertype has it.
	Ordering, Substrings string
	// ReadOnly tells that clients may not write it, Operational that it serves
	// the directory itself.
	ReadOnly, Operational bool
}

// ParseDefinition reads one value of attributeTypes. It is false for what is
// none.
func ParseDefinition(text string) (d Definition, ok bool) {
	words := definitionWords(text)
	if len(words) < 3 || words[0] != "(" {
		return d, false
	}
	d.OID = strings.ToLower(words[1])
	for i := 2; i < len(words); i++ {
		next := ""
		if i+1 < len(words) {
			next = words[i+1]
		}
		switch strings.ToUpper(words[i]) {
		case "NAME":
			if next != "(" {
				d.Names = []string{strings.Trim(next, "'")}
				i++
				continue
			}
			for i += 2; i < len(words) && words[i] != ")"; i++ {
				d.Names = append(d.Names, strings.Trim(words[i], "'"))
			}
		case "SUP":
			d.Super = strings.Trim(next, "'")
			i++
		case "ORDERING":
			d.Ordering = strings.Trim(next, "'")
			i++
		case "SUBSTR":
			d.Substrings = strings.Trim(next, "'")
			i++
		case "SYNTAX":
			d.Syntax, _, _ = strings.Cut(strings.Trim(next, "'"), "{")
			i++
		case "USAGE":
			d.Operational = !strings.EqualFold(next, "userApplications")
			i++
		case "NO-USER-MODIFICATION":
			d.ReadOnly = true
		}
	}
	return d, true
}

// definitionWords divides a description at blanks and parentheses; a text in
// quotes is one word.
func definitionWords(text string) (words []string) {
	for len(text) > 0 {
		switch c := text[0]; {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			text = text[1:]
		case c == '(' || c == ')':
			words, text = append(words, text[:1]), text[1:]
		case c == '\'':
			end := strings.IndexByte(text[1:], '\'')
			if end < 0 {
				return append(words, text)
			}
			words, text = append(words, text[:end+2]), text[end+2:]
		default:
			end := strings.IndexAny(text, " \t\n\r()'")
			if end < 0 {
				end = len(text)
			}
			words, text = append(words, text[:end]), text[end:]
		}
	}
	return words
}

// plainValue tells whether the syntax holds a number, a time, a truth, a name
// or an identifier (RFC 4517, section 3.3): no secret by itself.
func (d *Definition) plainValue() bool {
	switch d.Syntax {
	case "1.3.6.1.4.1.1466.115.121.1.7", "1.3.6.1.4.1.1466.115.121.1.12", "1.3.6.1.4.1.1466.115.121.1.24",
		"1.3.6.1.4.1.1466.115.121.1.27", "1.3.6.1.4.1.1466.115.121.1.38", "1.2.840.113556.1.4.906":
		return true
	}
	return false
}
