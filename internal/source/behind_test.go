package source

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/ldif"
)

// uneven is a directory of several blocks in whose units some attributes are shown by many
// and others by nobody, so that what is hidden there hangs on a few entries.
func uneven(r *rand.Rand) []directory.Entry {
	var all []directory.Entry
	add := func(dn string, class ...string) *directory.Entry {
		all = append(all, directory.Entry{DN: dn})
		e := &all[len(all)-1]
		e.Set("objectClass", class...)
		e.Set("entryUUID", fmt.Sprintf("%08x-0000-4000-8000-000000000000", len(all)))
		return e
	}
	add("dc=x", "domain")
	var names []string
	for unit := range 12 {
		place := fmt.Sprintf("ou=Unit %d,dc=x", unit)
		add(place, "organizationalUnit")
		for i := range 150 {
			name := fmt.Sprintf("p%d-%d", unit, i)
			e := add("cn="+name+","+place, "inetOrgPerson")
			e.Set("uid", name)
			e.Set("description", strings.Repeat("x", r.IntN(8000)))
			e.Set("title", fmt.Sprint("Observer ", r.IntN(5)))
			if unit%3 > 0 {
				e.Set("mail", name+"@larkmoor.example")
			}
			if unit > 6 || unit == 6 && i < 74 { // nearly half: with two more, who shows none hides it
				e.Set("employeeNumber", fmt.Sprint(len(all)))
			}
			if len(names) > 0 && r.IntN(3) == 0 {
				e.Set("manager", names[r.IntN(len(names))])
			}
			names = append(names, e.DN)
		}
		group := add(fmt.Sprintf("cn=team,%s", place), "groupOfNames")
		group.Set("member", names[r.IntN(len(names))], names[r.IntN(len(names))])
	}
	return all
}

// TestASurveyWithChangesIsAsOneThatIsReadAnew holds a survey that is made of the parts of
// another against one for which all is read again, where entries are gone, moved, changed and
// new, and what none of a place has shown, or all have, is so no more.
func TestASurveyWithChangesIsAsOneThatIsReadAnew(t *testing.T) {
	ctx := context.Background()
	ofParts := 0
	for seed := range uint64(10) {
		r := rand.New(rand.NewPCG(seed, 1))
		all := uneven(r)
		var text []byte
		for i := range all {
			text = ldif.AppendEntry(text, &all[i])
		}
		f := write(t, "a.ldif", append(text, "\nref: ldap://elsewhere.example/dc=y\n"...))
		f.ChangesAhead()
		before, err := f.Survey(ctx)
		require.NoError(t, err)
		require.Greater(t, len(f.places.parts), 2)
		as := told(before)
		hidden := before.HiddenAttributes(directory.Attrs(directory.AttrMail))
		require.NotEmpty(t, hidden)
		require.NotContains(t, as.texts, "unknown")

		instead := map[directory.Key]*directory.Entry{}
		for i := range all {
			e := all[i].Clone()
			_, unit := directory.SplitDN(e.DN)
			switch {
			case e.Has("mail") && unit == "ou=Unit 7,dc=x":
				e.Set("mail")
			case e.First("uid") == "p6-100" || e.First("uid") == "p6-101":
				e.Set("employeeNumber", "x"+e.First("uid"))
			case seed%2 == 0 && e.First("uid") == "p6-7":
				e.Set("mail", "somebody@larkmoor.example")
			case r.IntN(1+int(seed)*100) != 1:
				continue
			case r.IntN(2) == 0:
				instead[directory.KeyOf(e.DN)] = nil
				continue
			case r.IntN(2) == 0:
				e.DN = "cn=moved " + directory.LeafValue(e.DN) + ",ou=Unit 2,dc=x"
			}
			instead[directory.KeyOf(all[i].DN)] = &e
		}
		more := directory.Entry{DN: "cn=new,ou=Unit 6,dc=x"}
		more.Set("objectClass", "inetOrgPerson")
		more.Set("uid", "new")
		more.Set("title", "Guest")

		fast, err := f.With(instead, []directory.Entry{more})
		require.NoError(t, err)
		slow, err := f.With(instead, []directory.Entry{more})
		require.NoError(t, err)
		slow.before = nil
		got, err := fast.Survey(ctx)
		require.NoError(t, err)
		if fast.before != nil {
			ofParts++
		}
		want, err := slow.Survey(ctx)
		require.NoError(t, err)
		for _, one := range []*directory.Survey{got, want} {
			one.ShareParts() // which is no part of what it tells
		}
		same(t, told(want), told(got))
		require.NotEqual(t, hidden, got.HiddenAttributes(directory.Attrs(directory.AttrMail)), "seed %d", seed)
		same(t, as, told(before)) // it is as it was
	}
	require.Greater(t, ofParts, 2)
	require.Less(t, ofParts, 10, "where much has changed, all is read")
}

// reading is what a survey tells, with the texts of its accounts as they are read, whatever
// the numbers of its words.
type reading struct {
	accounts []directory.Account
	texts    []string
	rest     directory.Survey
}

func told(s *directory.Survey) (r reading) {
	words := maps.Collect(s.Words.All())
	r.rest = *s
	r.rest.Accounts, r.rest.Words = directory.Accounts{}, nil
	for a := range s.Accounts.All() {
		for id, v := range a.Text.Values(directory.AttrSet{^uint64(0), ^uint64(0)}) {
			r.texts = append(r.texts, a.DN+" "+id.String()+"="+v.Text())
			if n, ok := v.Word(); ok && words[n] != (directory.Word{Attr: id, Text: v.Text()}) {
				r.texts = append(r.texts, "unknown")
			}
		}
		r.accounts = append(r.accounts, *a)
		r.accounts[len(r.accounts)-1].Text = directory.Texts{}
	}
	return r
}

func same(t *testing.T, want, got reading) {
	t.Helper()
	require.Equal(t, want.texts, got.texts)
	require.Equal(t, want.accounts, got.accounts)
	require.True(t, assert.ObjectsAreEqual(want.rest, got.rest), "another survey: %+v, want %+v", got.rest, want.rest)
}
