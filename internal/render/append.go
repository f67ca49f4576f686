package render

import (
	"strconv"
	"time"
	"unicode/utf8"

	"yardbroom/internal/audit"
)

// Findings are written as lines by the hundred thousand. They are appended by hand to
// one buffer; encoding/json, which writes the same, is the oracle in the tests.

// appendText appends a JSON text as encoder writes it.
func appendText(b []byte, s string) []byte {
	const hex = "0123456789abcdef"
	b = append(b, '"')
	begun := 0 // of what is to be copied as it is
	for i := 0; i < len(s); {
		if i+8 <= len(s) && plainEight(s[i:i+8]) {
			i += 8
			continue
		}
		c := s[i]
		if c >= 0x20 && c != '"' && c != '\\' && c < utf8.RuneSelf {
			i++
			continue
		}
		size := 1
		var instead string
		switch {
		case c == '"' || c == '\\':
			instead = `\` + string(rune(c))
		case c == '\n':
			instead = `\n`
		case c == '\r':
			instead = `\r`
		case c == '\t':
			instead = `\t`
		case c == '\b':
			instead = `\b`
		case c == '\f':
			instead = `\f`
		case c < 0x20:
			instead = `\u00` + hex[c>>4:c>>4+1] + hex[c&15:c&15+1]
		default:
			var r rune
			switch r, size = utf8.DecodeRuneInString(s[i:]); {
			case r == utf8.RuneError && size == 1:
				instead = `\ufffd`
			case r == '\u2028':
				instead = `\u2028`
			case r == '\u2029':
				instead = `\u2029`
			default:
				i += size
				continue
			}
		}
		b = append(append(b, s[begun:i]...), instead...)
		i += size
		begun = i
	}
	return append(append(b, s[begun:]...), '"')
}

// plainEight tells whether eight octets are written as they are: ASCII without
// controls, quotation marks and backslashes. The highest bit of each octet of a
// sum tells what is so of it.
func plainEight(s string) bool {
	const each, high = 0x0101010101010101, 0x8080808080808080
	eight := uint64(s[0]) | uint64(s[1])<<8 | uint64(s[2])<<16 | uint64(s[3])<<24 |
		uint64(s[4])<<32 | uint64(s[5])<<40 | uint64(s[6])<<48 | uint64(s[7])<<56
	zero := func(octets uint64) uint64 { return (octets - each) &^ octets }
	return (eight|(eight-0x20*each)|zero(eight^'"'*each)|zero(eight^'\\'*each))&high == 0
}

// appendFinding appends a finding as FindingShape is written.
func appendFinding(b []byte, f *audit.Finding) []byte {
	field := func(name, text string) {
		b = append(append(append(b, `,"`...), name...), `":`...)
		b = appendText(b, text)
	}
	b = appendText(append(b, `{"check":`...), f.Check)
	field("severity", f.Severity.String())
	field("kind", f.Kind)
	field("dn", f.DN)
	field("account", f.Account)
	field("confidence", string(f.Confidence))
	if f.Since.IsZero() {
		b = append(b, `,"since":null,"days":null`...)
	} else {
		b = f.Since.UTC().AppendFormat(append(b, `,"since":"`...), time.RFC3339Nano)
		b = strconv.AppendInt(append(b, `","days":`...), int64(f.Days), 10)
	}
	b = append(b, `,"evidence":{`...)
	for i, e := range f.Evidence {
		if i > 0 {
			b = append(b, ',')
		}
		b = appendText(append(appendText(b, e.Attr), ':'), e.Value)
	}
	b = append(b, `},"suggest":[`...)
	for i, name := range f.Suggest {
		if i > 0 {
			b = append(b, ',')
		}
		b = appendText(b, name)
	}
	b = append(b, ']')
	if f.Change != "" {
		field("change", f.Change)
	}
	return append(b, '}')
}
