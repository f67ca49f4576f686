package directory

import (
	"encoding/base64"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Readable writes a value of an attribute for people: as Plain does, and
// times by RFC 3339 in UTC, "never" for a file time that stands for none.
func Readable(name, value string) string {
	t := AD.Schema().Type(name)
	if t == nil {
		t = OpenLDAP.Schema().Type(name)
	}
	if t == nil {
		return Plain(name, value)
	}
	var at time.Time
	var err error
	switch {
	case t.FileTime:
		at, err = ParseFileTime(value)
	case t.Syntax == SyntaxTime:
		at, err = ParseGeneralizedTime(value)
	default:
		return Plain(name, value)
	}
	switch {
	case err != nil:
		return Plain(name, value)
	case at.IsZero():
		return "never"
	}
	return at.Format(time.RFC3339)
}

// Plain writes a value of an attribute in readable form: identities as their
// servers do, other octets that are no text in base64.
func Plain(name, value string) string {
	if t := AD.Schema().Type(name); t != nil {
		switch t.Syntax {
		case SyntaxSID:
			if sid, err := ParseSID(value); err == nil {
				return sid
			}
		case SyntaxGUID:
			if guid, err := FormatGUID(value); err == nil {
				return guid
			}
		case SyntaxOctets:
			if len(value) == 16 && strings.HasSuffix(strings.ToLower(name), "guid") {
				if guid, err := FormatGUID(value); err == nil {
					return guid
				}
			}
		}
	}
	if !utf8.ValidString(value) || strings.ContainsRune(value, 0) {
		return "base64:" + base64.StdEncoding.EncodeToString([]byte(value))
	}
	return strings.Clone(value)
}

// OneLine puts blanks in the place of control characters, line breaks among
// them.
func OneLine(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, s)
}
