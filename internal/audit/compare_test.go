package audit

import (
	"fmt"
	"iter"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

func TestCompare(t *testing.T) {
	report := func(at time.Time, entries ...directory.Entry) *Report {
		r, err := Run(survey(directory.AD, append([]directory.Entry{realm}, entries...)...), settings.Defaults(), Options{AsOf: at, Checks: []string{"stale", "value-malformed"}})
		require.NoError(t, err)
		return r
	}
	was := func(logon, id string, changes ...string) directory.Entry {
		return user(logon, append([]string{"objectGUID=" + id}, changes...)...)
	}
	named := func(e directory.Entry, id string) directory.Entry { e.Set("objectGUID", id); return e }
	old := "lastLogon=" + ticks(300)
	before := report(asOf,
		was("stays", "1", old, "lastLogonTimestamp"), was("moves", "2"), was("renamed", "3"), was("goes", "4", old, "lastLogonTimestamp"), was("off", "5"), was("cured", "6", old, "lastLogonTimestamp"),
		was("mail", "7", "mail=none"),
		named(group("Crew", 1200, in("stays"), in("moves"), in("goes"), in("off")), "g1"), named(group("Domain Admins", 512), "g2"))
	after := report(asOf.Add(24*time.Hour),
		was("stays", "1", old, "lastLogonTimestamp"), was("moves", "2", "dn=CN=moves,OU=Parked,DC=x"), was("newname", "3"), was("off", "5", "userAccountControl=514"), was("cured", "6"),
		was("mail", "7", "mail=none"), was("comes", "8", old, "lastLogonTimestamp"), was("locked", "9", "lockoutTime=1"),
		named(group("Crew", 1200, in("stays"), "CN=moves,OU=Parked,DC=x", in("comes")), "g1"), named(group("Domain Admins", 512, nest("Crew"), in("stays")), "g2"))
	c := Compare(before, after)
	names := func(findings []Finding) (out []string) {
		for _, f := range findings {
			out = append(out, f.Check+" "+f.Account+" "+f.Change)
		}
		return out
	}
	assert.Equal(t, []string{"stale comes new"}, names(c.New))
	assert.Equal(t, []string{"stale stays still", "value-malformed mail still"}, names(c.Still))
	assert.Equal(t, []string{"stale cured gone", "stale goes gone"}, names(c.Gone))
	assert.Equal(t, []AccountChange{
		{"appeared", "user", "comes", in("comes"), "", "enabled"}, {"appeared", "user", "locked", in("locked"), "", "enabled"},
		{"moved", "user", "moves", "CN=moves,OU=Parked,DC=x", in("moves"), "CN=moves,OU=Parked,DC=x"},
		{"moved", "user", "newname", in("newname"), in("renamed"), in("newname")},
		{"state", "user", "off", in("off"), "enabled", "disabled"},
		{"vanished", "user", "goes", in("goes"), "enabled", ""},
	}, c.Accounts)
	assert.Equal(t, []MemberChange{
		{"joined", "comes", in("comes"), "Crew", "CN=Crew,OU=Groups,DC=x", true},
		{"left", "goes", in("goes"), "Crew", "CN=Crew,OU=Groups,DC=x", true},
		{"left", "off", in("off"), "Crew", "CN=Crew,OU=Groups,DC=x", true},
		{"joined", "Crew", "CN=Crew,OU=Groups,DC=x", "Domain Admins", "CN=Domain Admins,OU=Groups,DC=x", true},
		{"joined", "stays", in("stays"), "Domain Admins", "CN=Domain Admins,OU=Groups,DC=x", true},
	}, c.Members, "who only moved has not left")
	assert.Empty(t, Compare(before, before).New)
	assert.Empty(t, Compare(before, before).Accounts)
}

// TestAccountsAreFoundBesideEachOther holds the walk over two lists against a table of all.
func TestAccountsAreFoundBesideEachOther(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		list := func(label string) []directory.Entry {
			var all []directory.Entry
			for _, n := range rapid.SliceOfNDistinct(rapid.IntRange(1, 12), 0, 12, rapid.ID).Draw(t, label) {
				changes := []string{"objectGUID=" + fmt.Sprintf("%016d", n)}
				if n%4 == 0 {
					changes = nil
				}
				all = append(all, user(fmt.Sprint("u", n), changes...))
			}
			return all
		}
		names := func(accounts iter.Seq[*directory.Account]) (all []string) {
			for a := range accounts {
				all = append(all, a.Logon)
			}
			return all
		}
		before, after := survey(directory.AD, list("before")...), survey(directory.AD, list("after")...)
		var shared []string
		gone, came := beside(&before.Accounts, &after.Accounts, func(was, is *directory.Account) {
			require.Equal(t, was.Logon, is.Logon)
			shared = append(shared, is.Logon)
		})
		old, now := names(before.Accounts.All()), names(after.Accounts.All())
		in := func(list []string) func(string) bool { return func(s string) bool { return slices.Contains(list, s) } }
		require.ElementsMatch(t, slices.DeleteFunc(slices.Clone(old), in(now)), names(slices.Values(gone)))
		require.ElementsMatch(t, slices.DeleteFunc(slices.Clone(now), in(old)), names(slices.Values(came)))
		require.Len(t, shared, len(old)-len(gone))
	})
}
