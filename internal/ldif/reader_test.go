package ldif

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardbroom/internal/directory"
)

// flat writes records as "line dn name=value|value …" for comparing.
func flat(recs []Record) []string {
	var out []string
	for _, r := range recs {
		text := fmt.Sprintf("%d %s", r.Line, r.DN)
		for _, a := range r.Attrs {
			text += " " + a.Name + "=" + strings.Join(a.Values, "|")
		}
		if r.Change != nil {
			text += fmt.Sprintf(" %+v", *r.Change)
		}
		out = append(out, text)
	}
	return out
}

func readAll(t *testing.T, text string) ([]string, []string) {
	t.Helper()
	var recs []Record
	var errs []string
	r := NewReader(strings.NewReader(text))
	for {
		rec, err := r.Next()
		if err == io.EOF {
			return flat(recs), errs
		}
		if err != nil {
			errs = append(errs, err.Error())
			continue
		}
		recs = append(recs, *rec)
	}
}

func TestReader(t *testing.T) {
	for _, c := range []struct {
		name, text string
		want       []string
		errs       []string
	}{
		{"plain", "version: 1\n\ndn: cn=a\ncn: a\nsn: b\n\ndn: cn=b\ncn: b\n", []string{"3 cn=a cn=a sn=b", "7 cn=b cn=b"}, nil},
		{"version beside the first entry", "version: 1\ndn: cn=a\ncn: a\n", []string{"2 cn=a cn=a"}, nil},
		{"carriage returns", "dn: cn=a\r\ncn: a\r\n\r\ndn: cn=b\r\ncn: b\r\n", []string{"1 cn=a cn=a", "4 cn=b cn=b"}, nil},
		{"folded name, value and comment", "# a comment\n that goes on\ndn: cn=a,ou=S\n taff\ncn: a\n b\n  c\n", []string{"3 cn=a,ou=Staff cn=ab c"}, nil},
		{"base64", "dn:: Y249w7Y=\ncn:: w7Y=\nempty:\nalso::\n", []string{"1 cn=ö cn=ö empty= also="}, nil},
		{"comments anywhere", "dn: cn=a\n# one\ncn: a\n# two\nsn: b\n\n# three\n\n\n\ndn: cn=b\n", []string{"1 cn=a cn=a sn=b", "11 cn=b"}, nil},
		{"values of one attribute apart, and in other case", "dn: cn=a\nmail: 1\ncn: a\nMAIL: 2\nmail: 3\ncn: b\n", []string{"1 cn=a mail=1|2|3 cn=a|b"}, nil},
		{"options", "dn: cn=a\ncn;lang-fr: a\nmember;range=0-1: x\n", []string{"1 cn=a cn;lang-fr=a member;range=0-1=x"}, nil},
		{"byte order mark", "\ufeffdn: cn=a\ncn: a\n", []string{"1 cn=a cn=a"}, nil},
		{"root entry", "dn:\nobjectClass: top\n", []string{"1  objectClass=top"}, nil},
		{"secrets are dropped", "dn: cn=a\nuserPassword: x\nunicodePwd:: eA==\nms-Mcs-AdmPwd: y\nUserPassword;x: z\ncn: a\n", []string{"1 cn=a cn=a"}, nil},
		{"no end of line at the end", "dn: cn=a\ncn: a", []string{"1 cn=a cn=a"}, nil},
		{"trailer of a search tool", "dn: cn=a\ncn: a\n\n# search result\nsearch: 2\nresult: 0 Success\n\n# numEntries: 1\n", []string{"1 cn=a cn=a"}, nil},
		{"incomplete by its own word", "dn: cn=a\n\nsearch: 2\nresult: 4 Size limit exceeded\n", []string{"1 cn=a"},
			[]string{"line 4: the export says that it is not complete: result 4 Size limit exceeded"}},
		{"goes on behind broken records", "dn: cn=a\ncn:: !!\n\ncn: lost\n\nnonsense\n\ndn: cn=b\ncn: b\n", []string{"8 cn=b cn=b"}, []string{
			`line 2, entry "cn=a": broken base64 in the value of cn`, `line 4: a record must start with "dn:", not "cn"`, `line 6: no "name: value" in "nonsense"`}},
		{"a second name in one entry", "dn: cn=a\ncn: a\ndn: cn=b\ncn: b\n\ndn: cn=c\n", []string{"6 cn=c"}, []string{`line 3, entry "cn=a": a second "dn:" in one entry: the line before a new entry must be empty`}},
		{"a line of one blank between entries", "dn: cn=a\ncn: a\n \nDN: cn=b\ncn: b\n", nil, []string{`line 4, entry "cn=a": a second "dn:" in one entry: the line before a new entry must be empty`}},
		{"references are no entries", "dn: cn=a\ncn: a\n\n# search reference\nref: ldap://other/cn=b\nref: ldap://third/cn=b\n\ndn: cn=c\nref: not one\n", []string{"1 cn=a cn=a", "8 cn=c ref=not one"}, nil},
		{"ends of lines of old systems", "dn: cn=a\rcn: a\r\rdn: cn=b\r", nil, []string{"line 1: lines end in a carriage return alone: convert the file, so that they end in a line feed"}},
		{"URL", "dn: cn=a\njpegPhoto:< file:///etc/shadow\n", nil, []string{`line 2, entry "cn=a": the value of jpegPhoto is behind a URL; values from other files are not read`}},
		{"bad attribute name", "dn: cn=a\nc n: a\n", nil, []string{`line 2, entry "cn=a": "c n" is not an attribute name`}},
		{"version 2", "version: 2\n\ndn: cn=a\n", []string{"3 cn=a"}, []string{`line 1: LDIF version "2"; only 1 exists`}},
		{"modify", "dn: cn=a\ncontrol: 1.2.3 true\nchangetype: modify\nreplace: sn\nsn: b\n-\ndelete: mail\n-\nadd: userPassword\nuserPassword: x\n-\n",
			[]string{"1 cn=a {Type:modify Mods:[{Op:replace Name:sn Values:[b]} {Op:delete Name:mail Values:[]} {Op:add Name:userPassword Values:[]}] NewRDN: DeleteOldRDN:false NewSuperior: HasSuperior:false Controls:[1.2.3 true]}"}, nil},
		{"moddn", "dn: cn=a\nchangetype: modrdn\nnewrdn: cn=b\ndeleteoldrdn: 1\nnewsuperior: ou=x\n",
			[]string{"1 cn=a {Type:modrdn Mods:[] NewRDN:cn=b DeleteOldRDN:true NewSuperior:ou=x HasSuperior:true Controls:[]}"}, nil},
		{"unknown change", "dn: cn=a\nchangetype: explode\n", nil, []string{`line 2, entry "cn=a": unknown changetype "explode"`}},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, errs := readAll(t, c.text)
			assert.Equal(t, c.want, got)
			assert.Equal(t, c.errs, errs)
		})
	}
}

// big makes a file of many blocks.
func big(n int) string {
	var b strings.Builder
	b.WriteString("version: 1\n")
	for i := range n {
		fmt.Fprintf(&b, "\ndn: cn=Person %d,ou=Staff,dc=larkmoor,dc=example\nobjectClass: user\nsAMAccountName: p%d\nx-note: %s\ncn: Person %d\n", i, i, strings.Repeat("x", i%200), i)
	}
	return b.String()
}

func none(string) bool { return false }

func TestEachKeepsTheOrderAndNumbersOfAFileOfManyBlocks(t *testing.T) {
	text := big(20000)
	want, errs := readAll(t, text)
	require.Empty(t, errs)
	for _, others := range []func(string) bool{nil, none} {
		var got []string
		err := Each(context.Background(), strings.NewReader(text), Options{Others: others}, flat, func(part []string) error {
			got = append(got, part...)
			return nil
		})
		require.NoError(t, err)
		require.Len(t, got, len(want))
		for i := range want {
			if w, _, _ := strings.Cut(want[i], " x-note"); !strings.HasPrefix(got[i], w) {
				t.Fatalf("record %d: %s, want %s", i, got[i], want[i])
			}
		}
	}
}

func TestReferencesAreCounted(t *testing.T) {
	record := "dn: cn=a\ncn: " + strings.Repeat("a", 1000) + "\n\nref: ldap://other/cn=b\n\n"
	told, entries := 0, 0
	err := Each(t.Context(), strings.NewReader(strings.Repeat(record, 3000)), Options{Referrals: func(n int) { told += n }}, func(r []Record) int { return len(r) }, func(n int) error {
		entries += n
		return nil
	})
	require.NoError(t, err)
	assert.Equal(t, [2]int{3000, 3000}, [2]int{entries, told})
	assert.True(t, (&Record{}).IsEntry())
	assert.True(t, (&Record{Change: &Change{Type: "add"}}).IsEntry())
	assert.False(t, (&Record{Change: &Change{Type: "delete"}}).IsEntry())
}

func TestEachStopsAtABrokenRecordOrGoesOn(t *testing.T) {
	text := big(9000) + "\ndn: cn=x\nbroken\n\ndn: cn=last\n"
	var got int
	err := Each(context.Background(), strings.NewReader(text), Options{}, flat, func(p []string) error { got += len(p); return nil })
	assert.ErrorContains(t, err, `entry "cn=x": no "name: value" in "broken"`)
	assert.Equal(t, 9000, got)

	got = 0
	var broken []string
	err = Each(context.Background(), strings.NewReader(text), Options{Broken: func(e *Error) error { broken = append(broken, e.Error()); return nil }}, flat,
		func(p []string) error { got += len(p); return nil })
	require.NoError(t, err)
	assert.Len(t, broken, 1)
	assert.Equal(t, 9001, got)
}

func TestEachEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	err := Each(ctx, strings.NewReader(big(30000)), Options{}, flat, func([]string) error { cancel(); return nil })
	assert.ErrorIs(t, err, context.Canceled)
}

// endless gives one line that never ends.
type endless struct{}

func (endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'x'
	}
	return len(p), nil
}

func TestAnEndlessLineIsRefusedNotSwallowed(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a quarter of a gigabyte")
	}
	_, err := NewReader(endless{}).Next()
	assert.ErrorContains(t, err, "this is not LDIF, or one entry is too large")
}

// anyEntry draws entries with every kind of octet in their values.
var anyEntry = rapid.Custom(func(t *rapid.T) directory.Entry {
	e := directory.Entry{DN: "cn=" + rapid.StringMatching(`[a-zà-ü ]{1,60}`).Draw(t, "cn") + ",dc=example"}
	for _, name := range rapid.SliceOfNDistinct(rapid.StringMatching(`[a-zA-Z][a-zA-Z0-9-]{0,20}`), 0, 6, func(name string) string { return strings.ToLower(directory.PlainName(name)) }).Draw(t, "names") {
		if directory.IsSecret(name) || slices.Contains([]string{"changetype", "control", "dn", "ref"}, strings.ToLower(name)) {
			continue
		}
		var values []string
		for _, v := range rapid.SliceOfN(rapid.SliceOf(rapid.Byte()), 1, 3).Draw(t, "values") {
			values = append(values, string(v))
		}
		e.Attrs = append(e.Attrs, directory.Attribute{Name: name, ID: directory.LookupAttr(name), Values: values})
	}
	return e
})

func TestWhatIsWrittenReadsBackTheSame(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		entries := rapid.SliceOfN(anyEntry, 1, 5).Draw(t, "entries")
		var b bytes.Buffer
		w := NewWriter(&b)
		for i := range entries {
			require.NoError(t, w.Write(&entries[i]))
		}
		require.NoError(t, w.Flush())
		for line := range strings.Lines(b.String()) {
			require.LessOrEqual(t, len(line), lineWidth+1)
		}
		r := NewReader(&b)
		for i := range entries {
			rec, err := r.Next()
			require.NoError(t, err)
			require.Equal(t, entries[i].DN, rec.DN)
			require.Equal(t, len(entries[i].Attrs), len(rec.Attrs))
			for j, a := range entries[i].Attrs {
				a.Name = directory.PlainName(a.Name)
				a.ID = directory.LookupAttr(a.Name)
				require.Equal(t, a, rec.Attrs[j])
			}
		}
		_, err := r.Next()
		require.Equal(t, io.EOF, err)
	})
}

// Whatever an attribute is called, it is one.
func TestAttributesAreKnownByTheirUsualNames(t *testing.T) {
	rec, err := NewReader(strings.NewReader("dn: cn=a\ncn: a\nmail: a@x\ncommonName: b\n2.5.4.3: c\nOID.2.5.4.12;lang-en: d\n")).Next()
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b", "c"}, rec.Get("cn"))
	require.Len(t, rec.Attrs, 3)
	assert.Equal(t, "title;lang-en", rec.Attrs[2].Name)
}

// FuzzReader feeds anything to both readers, which must agree and end.
func FuzzReader(f *testing.F) {
	f.Add("version: 1\n\ndn: cn=a\ncn:: w7Y=\n b\n\n# c\n d\ndn: cn=b\nchangetype: modify\nadd: x\nx: y\n-\n")
	f.Add("dn: a=b\r")
	f.Add("dn: a=b\r\n\r\nsearch: 2\nresult: 4\n\n \n:\n")
	f.Fuzz(func(t *testing.T, text string) {
		one, errs := readAll(t, text)
		var many []string
		var broken []string
		err := Each(context.Background(), strings.NewReader(text), Options{Broken: func(e *Error) error { broken = append(broken, e.Error()); return nil }},
			flat, func(p []string) error { many = append(many, p...); return nil })
		if errors.Is(err, errCR) { // no record of such a file can be read, so none is broken
			require.Equal(t, []string{errCR.Error()}, errs)
			require.Empty(t, one)
			return
		}
		require.NoError(t, err)
		require.Equal(t, one, many)
		require.Equal(t, errs, broken)
	})
}

func BenchmarkReader(b *testing.B) {
	text := big(50000)
	b.SetBytes(int64(len(text)))
	b.ReportAllocs()
	for b.Loop() {
		n := 0
		err := Each(context.Background(), strings.NewReader(text), Options{Others: none}, func(r []Record) int { return len(r) }, func(k int) error { n += k; return nil })
		if err != nil || n != 50000 {
			b.Fatal(n, err)
		}
	}
}

func TestTheLastBlankLineIsFoundAtAnyEdge(t *testing.T) {
	for _, c := range []struct {
		text string
		from int
		want int
	}{
		{"", 0, 0}, {"\n", 0, 0}, {"a\n", 0, 0},
		{"a\n\n", 0, 3}, {"a\n\nb\n", 0, 3}, {"a\n\nb\n\nc", 0, 6},
		{"a\r\n\r\n", 0, 5}, {"a\r\n\r\nb", 0, 5}, {"a\r\n", 0, 0},
		{"a\n\r\nb", 0, 4}, // one ending of each kind
		{"a\r\r\n", 0, 0},  // a return that ends no line
		{"a\n\nb\n", 3, 0}, // only what ends behind from
		{"\n\r\n", 0, 3}, {"\r\n", 0, 0},
	} {
		if got := lastBlankLine([]byte(c.text), c.from); got != c.want {
			t.Errorf("%q from %d: %d, not %d", c.text, c.from, got, c.want)
		}
	}
}
