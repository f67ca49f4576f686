package source

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
)

// muddled writes a directory as many programs write it: comments, blank lines and
// references between the records, folded lines, names in base64, ends of lines of two
// kinds, records that are added, and one entry twice.
func muddled(r *rand.Rand) (text []byte, names []string) {
	end := []string{"\n", "\r\n"}[r.IntN(2)]
	var b strings.Builder
	line := func(name, value string) {
		switch r.IntN(6) {
		case 0:
			fmt.Fprintf(&b, "%s:: %s%s", name, base64.StdEncoding.EncodeToString([]byte(value)), end)
		case 1:
			cut := r.IntN(len(value)-1) + 1
			for value[cut]&0xC0 == 0x80 {
				cut--
			}
			fmt.Fprintf(&b, "%s: %s%s %s%s", name, value[:cut], end, value[cut:], end)
		default:
			fmt.Fprintf(&b, "%s: %s%s", name, value, end)
		}
	}
	if r.IntN(2) == 0 {
		b.WriteString("\ufeff")
	}
	if r.IntN(2) == 0 {
		b.WriteString("version: 1" + end + end)
	}
	line("dn", "dc=x")
	line("objectClass", "domain")
	line("entryUUID", "ffffffff-0000-4000-8000-000000000000")
	places := []string{"dc=x"}
	for i := range 300 {
		switch r.IntN(10) {
		case 0:
			b.WriteString(end + end + "# a comment" + end)
		case 1:
			b.WriteString(end + "ref: ldap://elsewhere.example/dc=y" + end)
		}
		b.WriteString(end)
		leaf := fmt.Sprintf("n%d", i)
		if r.IntN(5) == 0 {
			leaf = []string{`Müller\, A`, "  x", `a\+b`}[r.IntN(3)] + leaf
		}
		dn := "CN=" + leaf + []string{",", ", "}[r.IntN(2)] + places[r.IntN(len(places))]
		if r.IntN(20) == 0 && len(names) > 0 {
			dn = names[r.IntN(len(names))]
		}
		names = append(names, dn)
		line("dn", dn)
		if r.IntN(10) == 0 {
			b.WriteString("changetype: add" + end)
		}
		line("objectClass", []string{"person", "groupOfNames", "organizationalUnit"}[r.IntN(3)])
		line("uid", fmt.Sprintf("u%d", r.IntN(200)))
		for _, attr := range []string{"manager", "member", "uniqueMember", "seeAlso", "roleOccupant"} {
			if r.IntN(3) == 0 {
				line(attr, names[r.IntN(len(names))])
			}
		}
		if r.IntN(4) == 0 {
			line("memberUid", fmt.Sprintf("u%d", r.IntN(200)))
		}
		if r.IntN(8) == 0 {
			places = append(places, dn)
		}
		line("entryUUID", fmt.Sprintf("%08x-0000-4000-8000-000000000000", i))
	}
	if r.IntN(2) == 0 {
		b.WriteString(end)
	}
	return []byte(b.String()), names
}

// TestEntriesAreFoundByTheirPlacesAsByReadingAll holds what is found in a plain file that was
// surveyed against what is found in the same file, compressed, which has to be read anew
// for each question.
func TestEntriesAreFoundByTheirPlacesAsByReadingAll(t *testing.T) {
	ctx := context.Background()
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 0))
		text, names := muddled(r)
		var gz bytes.Buffer
		w := gzip.NewWriter(&gz)
		_, err := w.Write(text)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		plain, slow := write(t, "plain.ldif", text), write(t, "slow.ldif.gz", gz.Bytes())
		for _, f := range []*File{plain, slow} {
			f.SurveyAhead()
			_, err := f.Survey(ctx)
			require.NoError(t, err)
		}
		_, err = Keep(ctx, plain, Keeping{Dir: filepath.Dir(plain.path), Name: "kept", Now: time.Now})
		require.NoError(t, err)
		kept, err := OpenKept(filepath.Dir(plain.path), "kept")
		require.NoError(t, err)
		require.NotNil(t, plain.places)
		require.Nil(t, slow.places)

		same := func(what string, got, want any, err, wantErr error) {
			require.NoError(t, wantErr, what)
			require.NoError(t, err, what)
			require.Equal(t, fmt.Sprintf("%+v", want), fmt.Sprintf("%+v", got), "seed %d: %s", seed, what)
		}
		dns := []string{"cn=nobody,dc=x", "DC=X"}
		for range 8 {
			dns = append(dns, strings.ToUpper(names[r.IntN(len(names))]))
		}
		got, err := plain.Get(ctx, dns)
		want, wantErr := slow.Get(ctx, dns)
		same("names", got, want, err, wantErr)
		children, err := plain.Children(ctx, dns)
		wantChildren, wantErr := slow.Children(ctx, dns)
		same("children", children, wantChildren, err, wantErr)
		children, err = kept.Children(ctx, dns)
		same("children of a kept one", children, wantChildren, err, wantErr)
		name, other := EscapeFilter(names[r.IntN(len(names))]), EscapeFilter(names[r.IntN(len(names))])
		for _, filter := range []string{
			"(member=" + name + ")", "(|(member=" + name + ")(uniqueMember=" + other + ")(memberUid=u7))",
			"(&" + GroupFilter + "(|(member=" + name + ")(memberUid=u9)))", "(uid=U12)", "(!(member=" + name + "))",
			"(|(seeAlso=" + name + ")(roleOccupant=" + name + ")(manager=" + other + "))", "(uid=u1*)", "(member=*)",
			"(entryUUID=0000000a-0000-4000-8000-000000000000)", "(&(uid=u3)(manager=*))", "(manager=no name)",
		} {
			got, err := plain.Find(ctx, filter)
			want, wantErr := slow.Find(ctx, filter)
			same(filter, got, want, err, wantErr)
			got, err = kept.Find(ctx, filter)
			same("kept: "+filter, namesOf(got), namesOf(want), err, wantErr)
		}
		among := map[directory.Key]bool{}
		for _, dn := range dns {
			among[directory.KeyOf(dn)] = true
		}
		var some, all []string
		for f, into := range map[*File]*[]string{plain: &some, slow: &all} {
			err := f.Each(ctx, Selection{Filter: "(uid=*)", Under: "dc=x", Among: among}, func() {},
				func(e *directory.Entry) any { return strings.Clone(e.DN) },
				func(made any) {
					if among[directory.KeyOf(made.(string))] {
						*into = append(*into, made.(string))
					}
				})
			require.NoError(t, err)
		}
		same("among", some, all, nil, nil)
	}
}

// TestWhatStandsBehindACopyIsTheFile holds the answers of Behind against a reading of all.
func TestWhatStandsBehindACopyIsTheFile(t *testing.T) {
	ctx := context.Background()
	for seed := range uint64(6) {
		r := rand.New(rand.NewPCG(seed, 2))
		text, names := muddled(r)
		f, slow := write(t, "plain.ldif", text), write(t, "slow.ldif", text)
		behind, err := f.Behind(ctx)
		require.NoError(t, err)
		same := func(what string, got, want []directory.Entry, err, wantErr error) {
			require.NoError(t, err, what)
			require.NoError(t, wantErr, what)
			require.Equal(t, fmt.Sprintf("%+v", want), fmt.Sprintf("%+v", got), "seed %d: %s", seed, what)
		}
		for range 3 {
			name := names[r.IntN(len(names))]
			folded := directory.FoldDN(name)
			got, err := behind.Named(folded)
			want, wantErr := slow.Get(ctx, []string{name})
			same(name, got, want, err, wantErr)
			got, err = behind.Below(folded)
			want, wantErr = slow.pick(ctx, noOthers, func(e *directory.Entry) bool { return standsBelow(e, map[string]bool{folded: true}) })
			same("below "+name, got, want, err, wantErr)
			dn := EscapeFilter(name)
			for _, text := range []string{
				"(member=" + dn + ")", "(|(manager=" + dn + ")(uid=u3))", "(&(objectClass=person)(uid=u7))", "(uid=u1*)", "(objectClass=groupOfNames)",
				"(|(objectClass=person)(objectClass=device))", "(!(objectClass=person))", "(objectClass=*)", "(&(objectClass=person)(objectClass=groupOfNames))",
			} {
				cond, err := filter.Parse(text)
				require.NoError(t, err)
				got, err = behind.Fulfilling(cond)
				want, wantErr = slow.Find(ctx, text)
				same(text, got, want, err, wantErr)
			}
		}
		others, err := behind.Others()
		require.NoError(t, err)
		survey, err := f.Survey(ctx)
		require.NoError(t, err)
		require.Equal(t, survey.Entries, len(others)+survey.Accounts.Len(), "seed %d", seed)
		require.NoError(t, f.Close())
	}
}

// TestWhatIsFoundWhileAFileIsSurveyedIsWhole: most attributes are passed over then, but not
// those that are asked for, and of what is found nothing is missing.
func TestWhatIsFoundWhileAFileIsSurveyedIsWhole(t *testing.T) {
	ctx := context.Background()
	text := adText
	for i := range 40 {
		text += fmt.Sprintf("\ndn: CN=P%[1]d,OU=Staff,DC=x\nobjectClass: user\nsAMAccountName: p%[1]d\nroomNumber: %[1]d\ncarLicense: LO %[1]d\nx-dome: %[1]d\n", i)
	}
	long := "(|"
	for i := range 30 {
		long += fmt.Sprintf("(carLicense=LO %d)", i)
	}
	for _, ask := range []string{"(roomNumber=7)", "(sAMAccountName=p7)", "(carLicense=lo 7)", "(x-dome=7)", "(!(roomNumber=7))", long + ")"} {
		ahead, plain := write(t, "a.ldif", []byte(text)), write(t, "b.ldif", []byte(text))
		ahead.Dialect, plain.Dialect = directory.AD, directory.AD
		ahead.SurveyAhead()
		got, err := ahead.Find(ctx, ask)
		require.NoError(t, err)
		require.NotNil(t, ahead.read, "on the way of the survey")
		want, err := plain.Find(ctx, ask)
		require.NoError(t, err)
		require.Nil(t, plain.read)
		require.NotEmpty(t, want, ask)
		assert.Equal(t, want, got, ask)
		last := got[len(got)-1]
		assert.Equal(t, []string{"LO " + last.First("roomNumber"), last.First("roomNumber")}, []string{last.First("carLicense"), last.First("x-dome")}, ask)
	}
}

// TestOthersInThePlaceOfEntries: a file is read as if some of its entries were gone, and
// others written.
func TestOthersInThePlaceOfEntries(t *testing.T) {
	f := write(t, "a.ldif", []byte(adText+"\ndn: CN=Bo,OU=Staff,DC=x\nobjectClass: user\nsAMAccountName: bo\nuserAccountControl: 512\n"))
	other, more := directory.Entry{DN: "CN=Bo,OU=Parked,DC=x"}, directory.Entry{DN: "CN=Cy,DC=x"}
	for _, e := range []*directory.Entry{&other, &more} {
		e.Set("objectClass", "user")
		e.Set("sAMAccountName", strings.ToLower(directory.LeafValue(e.DN)))
	}
	f, err := f.With(map[directory.Key]*directory.Entry{directory.KeyOf("cn=ada,ou=staff,dc=x"): nil, directory.KeyOf("cn=bo,ou=staff,dc=x"): &other}, []directory.Entry{more})
	require.NoError(t, err)
	s, err := f.Survey(context.Background())
	require.NoError(t, err)
	var logons []string
	for a := range s.Accounts.All() {
		logons = append(logons, a.Logon+" "+a.DN)
	}
	assert.Equal(t, []string{"bo CN=Bo,OU=Parked,DC=x", "cy CN=Cy,DC=x"}, logons)
	assert.Equal(t, 3, s.Entries)
	found, err := f.Find(context.Background(), "(sAMAccountName=*)")
	require.NoError(t, err)
	assert.Len(t, found, 2)
}

func namesOf(entries []directory.Entry) (names []string) {
	for i := range entries {
		names = append(names, entries[i].DN)
	}
	slices.Sort(names)
	return names
}

// TestAFileThatIsWrittenToWhileItIsReadIsRefused: its places are those of another text.
func TestAFileThatIsWrittenToWhileItIsReadIsRefused(t *testing.T) {
	ctx := context.Background()
	text := []byte(adText)
	for what, now := range map[string][]byte{
		"longer":         append(bytes.Clone(text), "\ndn: cn=z,dc=x\ncn: z\n"...),
		"another":        bytes.Replace(text, []byte("CN=Ada"), []byte("CN=Bea"), 1),
		"not the record": bytes.Replace(text, []byte("\n\ndn:"), []byte("\n\nDN "), 1),
	} {
		f := write(t, "a.ldif", text)
		f.SurveyAhead()
		_, err := f.Survey(ctx)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(f.path, now, 0o600))
		_, err = f.Get(ctx, []string{"CN=Ada,OU=Staff,DC=x"})
		assert.ErrorIs(t, err, errChanged, what)
	}
}
