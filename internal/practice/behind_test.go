package practice

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
)

// library is what stands behind, and looks at every entry for each question.
type library struct {
	dialect *directory.Dialect
	entries []directory.Entry
	handed  int
	fails   error
}

func (l *library) where(test func(e *directory.Entry) bool) (found []directory.Entry, err error) {
	for i := range l.entries {
		if test(&l.entries[i]) {
			found = append(found, l.entries[i].Clone())
		}
	}
	l.handed += len(found)
	return found, l.fails
}

func (l *library) Named(name string) ([]directory.Entry, error) {
	return l.where(func(e *directory.Entry) bool { return directory.FoldDN(e.DN) == name })
}

func (l *library) Below(name string) ([]directory.Entry, error) {
	return l.where(func(e *directory.Entry) bool {
		_, parent := directory.SplitDN(directory.FoldDN(e.DN))
		return parent == name
	})
}

func (l *library) Fulfilling(cond filter.Filter) ([]directory.Entry, error) {
	m, err := cond.For(l.dialect, nil)
	if err != nil {
		return nil, err
	}
	return l.where(func(e *directory.Entry) bool { return m.Match(e) == filter.True })
}

// crowd makes a directory of people, groups and units below each other, who name each other.
func crowd(r *rand.Rand, d *directory.Dialect) (all []directory.Entry) {
	var places, dns []string
	add := func(e directory.Entry, n int) {
		if d == directory.AD {
			e.Set("objectGUID", fmt.Sprintf("%016d", n))
			e.Set("whenCreated", "20200101000000.0Z")
		} else {
			e.Set(d.Identity.String(), fmt.Sprintf("%08d-0000-4000-8000-000000000000", n))
		}
		all = append(all, e)
		dns = append(dns, e.DN)
	}
	add(*entry("DC=x", "objectClass", "domainDNS"), 0)
	places = append(places, "DC=x")
	for n := 1; n <= 60; n++ {
		parent := places[r.IntN(len(places))]
		switch kind := r.IntN(6); {
		case kind == 0:
			add(*entry(fmt.Sprintf("OU=o%d,%s", n, parent), "objectClass", "organizationalUnit"), n)
			places = append(places, dns[len(dns)-1])
		case kind == 1:
			e := entry(fmt.Sprintf("CN=g%d,%s", n, parent), "objectClass", "group", d.Logon.String(), fmt.Sprintf("g%d", n))
			if members := some(r, dns); len(members) > 0 {
				e.Set("member", members...)
			}
			add(*e, n)
		default:
			e := entry(fmt.Sprintf("CN=p%d,%s", n, parent), "objectClass", "user", d.Logon.String(), fmt.Sprintf("p%d", n), "userAccountControl", "512")
			if r.IntN(2) == 0 {
				e.Set("manager", dns[r.IntN(len(dns))])
			}
			add(*e, n)
		}
	}
	return all
}

func entry(dn string, pairs ...string) *directory.Entry {
	e := &directory.Entry{DN: dn}
	for i := 0; i < len(pairs); i += 2 {
		e.Set(pairs[i], pairs[i+1])
	}
	return e
}

func some(r *rand.Rand, dns []string) (out []string) {
	for range r.IntN(4) {
		if dn := dns[r.IntN(len(dns))]; !slices.Contains(out, dn) {
			out = append(out, dn)
		}
	}
	return out
}

// TestACopyInFrontOfAnotherIsLikeOneOfEverything does the same to a copy that holds
// everything and to one that takes over what it needs: they answer alike, and end alike.
func TestACopyInFrontOfAnotherIsLikeOneOfEverything(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 1))
		d := []*directory.Dialect{directory.AD, directory.OpenLDAP}[seed%2]
		all, logon := crowd(r, d), d.Logon.String()
		lib := &library{dialect: d, entries: all}
		var others, copied []directory.Entry
		for i := range all {
			if copied = append(copied, all[i].Clone()); !all[i].HasClass("user") {
				others = append(others, all[i].Clone())
			}
		}
		id := Identity{Dialect: d, Base: "DC=x", SID: "S-1-5-21-1-2-3"}
		now := func() time.Time { return time.Date(2026, 1, 2, 3, 4, 5, 0, time.UTC) }
		whole := Copy(id, copied, now)
		front, err := CopyOf(id, others, lib, whole.nextRID, now)
		require.NoError(t, err)
		names := []string{"CN=nobody,DC=x", "OU=nowhere,DC=x"}
		for i := range all {
			names = append(names, all[i].DN)
		}
		code := func(err error) string {
			var refusal *ldap.Error
			if errors.As(err, &refusal) {
				return fmt.Sprint(refusal.ResultCode)
			}
			return fmt.Sprint(err)
		}
		for step := range 40 {
			name, other := names[r.IntN(len(names))], names[r.IntN(len(names))]
			do := func(d *Directory) (result string, err error) { return "", nil }
			what := ""
			switch r.IntN(7) {
			case 0, 1:
				text := []string{
					"(member=" + filter.Escape(name) + ")", "(" + logon + "=p" + fmt.Sprint(r.IntN(60)) + ")", "(objectClass=user)",
					"(|(manager=" + filter.Escape(name) + ")(member=" + filter.Escape(other) + "))", "(objectClass=*)", "(!(manager=*))",
					"(memberOf=" + filter.Escape(other) + ")",
				}[r.IntN(7)]
				scope := r.IntN(3)
				if r.IntN(2) == 0 {
					name = "DC=x"
				}
				cond, err := filter.Parse(text)
				require.NoError(t, err)
				what = fmt.Sprintf("find %s %d %s", name, scope, text)
				do = func(d *Directory) (string, error) {
					keys, err := d.find(name, scope, cond, false)
					var views []string
					for _, key := range keys {
						views = append(views, written(d.viewOf(key)))
					}
					slices.Sort(views)
					return strings.Join(views, "\n"), err
				}
			case 2:
				what = "describe " + name
				change := ldap.Change{Operation: ldap.ReplaceAttribute, Modification: ldap.PartialAttribute{Type: "description", Vals: []string{fmt.Sprint(step)}}}
				do = func(d *Directory) (string, error) { return "", d.Modify(name, []ldap.Change{change}, false) }
			case 3:
				operation := uint([]int{ldap.AddAttribute, ldap.DeleteAttribute}[r.IntN(2)])
				what = fmt.Sprintf("members of %s: %d %s", name, operation, other)
				change := ldap.Change{Operation: operation, Modification: ldap.PartialAttribute{Type: "member", Vals: []string{other}}}
				do = func(d *Directory) (string, error) { return "", d.Modify(name, []ldap.Change{change}, false) }
			case 4:
				what = "delete " + name
				do = func(d *Directory) (string, error) { return "", d.Delete(name) }
			case 5:
				rdn, _ := directory.SplitDN(name)
				what = fmt.Sprintf("move %s below %s", name, other)
				do = func(d *Directory) (string, error) { return "", d.ModifyDN(name, rdn, &other) }
				names = append(names, rdn+","+other)
			case 6:
				dn := fmt.Sprintf("CN=new%d,%s", step, name)
				if r.IntN(3) == 0 {
					dn = other
				}
				what = "add " + dn
				e := entry(dn, "objectClass", "user", logon, fmt.Sprintf("p%d", r.IntN(90)), "manager", other)
				do = func(d *Directory) (string, error) { return "", d.Add(e.Clone()) }
				names = append(names, dn)
			}
			want, wantErr := do(whole)
			got, gotErr := do(front)
			require.Equal(t, code(wantErr), code(gotErr), "seed %d: %s", seed, what)
			require.Equal(t, want, got, "seed %d: %s", seed, what)
		}
		require.NoError(t, front.Broken())
		became, came := front.Became()
		var ends []string
		for i := range all {
			e, changed := became[directory.FoldDN(all[i].DN)]
			if !changed {
				e = &all[i]
			}
			if e != nil {
				ends = append(ends, written(e))
			}
		}
		for i := range came {
			ends = append(ends, written(&came[i]))
		}
		var want []string
		for key, e := range whole.entries {
			if !e.Has("isDeleted") && key != directory.FoldDN(whole.deletedObjects()) {
				want = append(want, written(e))
			}
		}
		require.ElementsMatch(t, want, ends, "seed %d", seed)
	}
}

// written is an entry without what depends on when, and how often, something was written
// or on who is asked what it is worked out from.
func written(e *directory.Entry) string {
	e = new(directory.Entry{DN: e.DN, Attrs: slices.Clone(e.Attrs)})
	for _, name := range append([]string{"memberOf", "directReports", "managedObjects", "msDS-User-Account-Control-Computed", "entryUUID", "whenChanged"}, given...) {
		e.Set(name)
	}
	slices.SortFunc(e.Attrs, func(a, b directory.Attribute) int {
		return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
	})
	text := e.DN
	for _, a := range e.Attrs {
		values := slices.Sorted(slices.Values(a.Values))
		text += fmt.Sprintf("; %s=%s", strings.ToLower(a.Name), strings.Join(values, "|"))
	}
	return text
}

// TestACopyTakesOverWhatIsAskedForOnly: of a thousand people one is changed, and another
// asked for.
func TestACopyTakesOverWhatIsAskedForOnly(t *testing.T) {
	lib := &library{dialect: directory.AD}
	top := *entry("DC=x", "objectClass", "domainDNS", "objectGUID", "0000000000000000")
	lib.entries = append(lib.entries, top)
	for n := range 1000 {
		lib.entries = append(lib.entries, *entry(fmt.Sprintf("CN=p%d,DC=x", n), "objectClass", "user", "objectGUID", fmt.Sprintf("%016d", n+1), "sAMAccountName", fmt.Sprintf("p%d", n)))
	}
	d, err := CopyOf(Identity{Dialect: directory.AD, Base: "DC=x", SID: "S-1-5-21-1-2-3"}, []directory.Entry{top}, lib, 0, time.Now)
	require.NoError(t, err)
	change := ldap.Change{Operation: ldap.ReplaceAttribute, Modification: ldap.PartialAttribute{Type: "description", Vals: []string{"x"}}}
	require.NoError(t, d.Modify("CN=p7,DC=x", []ldap.Change{change}, false))
	cond, err := filter.Parse("(sAMAccountName=p9)")
	require.NoError(t, err)
	found, err := d.find("DC=x", ldap.ScopeWholeSubtree, cond, false)
	require.NoError(t, err)
	assert.Len(t, found, 1)
	assert.Less(t, lib.handed, 6)
	became, came := d.Became()
	assert.Empty(t, came)
	require.Len(t, became, 1)
	assert.Equal(t, []string{"x"}, became["cn=p7,dc=x"].Get("description"))

	lib.fails = errors.New("the file is gone")
	_ = d.Modify("CN=p8,DC=x", []ldap.Change{change}, false)
	assert.ErrorIs(t, d.Broken(), lib.fails)
}
