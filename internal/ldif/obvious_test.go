package ldif

import (
	"context"
	"encoding/base64"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardbroom/internal/directory"
)

// obvious reads entries as one would who has all the time: the whole text at once, line by
// line. Of each record it returns what flat does, or which line is wrong.
func obvious(text string, onlyKnown bool) (out []string) {
	type line struct {
		number int
		text   string
	}
	var records [][]line
	inRecord := false
	comment := false
	for i, l := range strings.Split(strings.TrimSuffix(text, "\n"), "\n") {
		l = strings.TrimSuffix(l, "\r")
		switch {
		case strings.HasPrefix(l, " ") && comment:
			continue
		case strings.HasPrefix(l, " ") && inRecord:
			last := records[len(records)-1]
			last[len(last)-1].text += l[1:]
			continue
		}
		if comment = strings.HasPrefix(l, "#"); comment {
			continue
		}
		if l == "" {
			inRecord = false
			continue
		}
		if !inRecord {
			records = append(records, nil)
		}
		inRecord = true
		records[len(records)-1] = append(records[len(records)-1], line{i + 1, l})
	}
	for _, lines := range records {
		rec := Record{Line: lines[0].number}
		wrong := 0
		for i, l := range lines {
			label, value, _ := strings.Cut(l.text, ":")
			value, broken := obviousValue(value)
			if i == 0 && label == "dn" && !broken && strings.Contains(value, "=") {
				rec.DN = value
				continue
			}
			if wrong = l.number; i == 0 || broken || strings.EqualFold(label, "dn") {
				break
			}
			wrong = 0
			name := label
			id := directory.LookupAttr(name)
			if id == directory.AttrUnknown {
				name = directory.PlainName(label)
				id = directory.LookupAttr(name)
			}
			if id == directory.AttrUnknown && (onlyKnown || directory.IsSecret(name)) {
				continue
			}
			at := -1
			for k := range rec.Attrs {
				if strings.EqualFold(rec.Attrs[k].Name, name) {
					at = k
				}
			}
			if at < 0 {
				at = len(rec.Attrs)
				rec.Attrs = append(rec.Attrs, directory.Attribute{Name: name, ID: id})
			}
			rec.Attrs[at].Values = append(rec.Attrs[at].Values, value)
		}
		if wrong > 0 {
			out = append(out, fmt.Sprintf("line %d is wrong", wrong))
			continue
		}
		out = append(out, flat([]Record{rec})...)
	}
	return out
}

func obviousValue(text string) (value string, broken bool) {
	if rest, is := strings.CutPrefix(text, ":"); is {
		b, err := base64.StdEncoding.DecodeString(strings.Trim(rest, " "))
		return string(b), err != nil
	}
	return strings.TrimLeft(text, " "), strings.HasPrefix(text, "<")
}

// Files as many programs write them, and some that none should.
func TestWhatIsReadFastIsWhatIsThere(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		labels := []string{"objectClass", "objectclass", "cn", "commonName", "2.5.4.3", "mail", "mail;lang-en", "member", "member;range=0-9",
			"unknownAttribute", "unknown;option", "userPassword", "unicodePwd", "dn", "sAMAccountName", "objectGUID", "ref2"}
		values := []string{": text", ": ", ":", ":  two", ":text", ": colon: in it", ": tail ", ":: dGV4dA==", "::dGV4dA==", ":: dGV4dA== ", "::", ":: broken", ":< file:///x"}
		usual := rapid.SliceOfN(rapid.SampledFrom(labels[:len(labels)-4]), 3, 6).Draw(t, "order")
		end := rapid.SampledFrom([]string{"\n", "\r\n"}).Draw(t, "end")
		var text strings.Builder
		write := func(l string) {
			for len(l) > 3 && rapid.IntRange(0, 19).Draw(t, "fold") == 0 {
				at := rapid.IntRange(1, len(l)-1).Draw(t, "where")
				text.WriteString(l[:at] + end)
				l = " " + l[at:]
			}
			text.WriteString(l + end)
		}
		for n := range rapid.IntRange(1, 12).Draw(t, "entries") {
			write(fmt.Sprintf("dn: cn=entry %d", n))
			for _, label := range usual {
				for range rapid.SampledFrom([]int{0, 1, 1, 1, 2, 4}).Draw(t, "times") {
					write(label + rapid.SampledFrom(values[:11]).Draw(t, "value"))
				}
				switch rapid.IntRange(0, 29).Draw(t, "besides") {
				case 0:
					write("# a comment: no value")
				case 1:
					write(rapid.SampledFrom(labels).Draw(t, "label") + rapid.SampledFrom(values).Draw(t, "odd"))
				}
			}
			text.WriteString(end)
		}
		for _, c := range []struct {
			others    func(string) bool
			work      func([]Record) []string
			onlyKnown bool
		}{{nil, flat, false}, {none, flat, true}, {none, flatWhole, false}} {
			var got []string
			err := Each(context.Background(), strings.NewReader(text.String()),
				Options{Others: c.others, Broken: func(e *Error) error { got = append(got, fmt.Sprintf("line %d is wrong", e.Line)); return nil }},
				c.work, func(p []string) error { got = append(got, p...); return nil })
			require.NoError(t, err)
			require.ElementsMatch(t, obvious(text.String(), c.onlyKnown), got, text.String())
		}
	})
}

// flatWhole is flat, of entries with all their attributes.
func flatWhole(records []Record) []string {
	for i := range records {
		records[i].Entry = records[i].Whole()
	}
	return flat(records)
}
