package conformance

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// code is the result of an operation, 0 for success.
func code(err error) uint16 {
	var refused *ldap.Error
	if errors.As(err, &refused) {
		return refused.ResultCode
	}
	return 0
}

// by chooses an expectation by dialect.
func by[T any](s *subject, ad, openldap T) T {
	if s.dialect == directory.AD {
		return ad
	}
	return openldap
}

func modify(c *source.Server, dn string, fill func(*ldap.ModifyRequest), controls ...ldap.Control) uint16 {
	req := ldap.NewModifyRequest(dn, controls)
	fill(req)
	return code(c.Conn().Modify(req))
}

func TestAModifyWithAWrongOldValueChangesNothing(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c := s.connect(t)
		dn := s.person(t, c, "Ada Quill", "aquill")
		got := modify(c, dn, func(r *ldap.ModifyRequest) {
			r.Delete("mail", []string{"other@larkmoor.example"})
			r.Add("mail", []string{"new@larkmoor.example"})
		})
		assert.Equal(t, uint16(ldap.LDAPResultNoSuchAttribute), got)
		assert.Equal(t, []string{"aquill@larkmoor.example"}, s.entry(t, c, dn).Get("mail"))

		got = modify(c, dn, func(r *ldap.ModifyRequest) {
			r.Delete("mail", []string{"aquill@larkmoor.example"})
			r.Add("mail", []string{"new@larkmoor.example"})
		})
		assert.Zero(t, got)
		assert.Equal(t, []string{"new@larkmoor.example"}, s.entry(t, c, dn).Get("mail"))
	})
}

// A server of the ad schema may take a swap of the flags from a wrong value, if
// they are already what they are to become. Whoever does the same at the same
// moment then believes that it was theirs; the directory is right all the same.
func TestFlagsSwappedToWhatTheyAreAlready(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.dialect != directory.AD {
			t.Skip("there any other attribute does")
		}
		c := s.connect(t)
		dn := s.person(t, c, "Ada Quill", "aquill")
		swap := func(from, to string) uint16 {
			return modify(c, dn, func(r *ldap.ModifyRequest) {
				r.Delete("userAccountControl", []string{from})
				r.Add("userAccountControl", []string{to})
			})
		}
		require.Zero(t, swap("512", "514"))
		assert.NotZero(t, swap("66048", "66050"))
		got := swap("512", "514")
		assert.Equal(t, s.real != nil, got == 0, "%d", got)
		assert.Equal(t, []string{"514"}, s.entry(t, c, dn).Get("userAccountControl"))
	})
}

func TestFlagsCanBeRewrittenToThemselves(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.dialect != directory.AD {
			t.Skip("there the assertion control guards")
		}
		c := s.connect(t)
		dn := s.person(t, c, "Ada Quill", "aquill")
		for _, value := range []string{"512", "514"} {
			got := modify(c, dn, func(r *ldap.ModifyRequest) {
				r.Delete("userAccountControl", []string{value})
				r.Add("userAccountControl", []string{value})
			})
			assert.Equal(t, value == "512", got == 0, "rewriting %s: %d", value, got)
		}
	})
}

func TestWritesByGUIDReachTheEntryWhereverItIs(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.dialect != directory.AD {
			t.Skip("the form belongs to the ad schema")
		}
		c := s.connect(t)
		dn := s.person(t, c, "Ada Quill", "aquill")
		guid, err := directory.FormatGUID(s.entry(t, c, dn).First("objectGUID"))
		require.NoError(t, err)
		moved := s.DN("Ada Quill", "Parked")
		require.NoError(t, c.Conn().ModifyDN(ldap.NewModifyDNRequest("<GUID="+guid+">", "CN=Ada Quill", true, s.container("Parked"))))
		require.NotNil(t, s.entry(t, c, moved))
		assert.Zero(t, modify(c, "<GUID="+guid+">", func(r *ldap.ModifyRequest) { r.Replace("mail", []string{"m@larkmoor.example"}) }))
		assert.Equal(t, "m@larkmoor.example", s.entry(t, c, moved).First("mail"))
		require.NoError(t, c.Conn().Del(ldap.NewDelRequest("<GUID="+guid+">", nil)))
		assert.Nil(t, s.entry(t, c, moved))
	})
}

func TestLinksAreKeptWholeOrRefused(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c := s.connect(t)
		ada, bram := s.person(t, c, "Ada Quill", "aquill"), s.person(t, c, "Bram Tern", "btern")
		crew := s.group(t, c, "Crew", ada)
		add := func(dn string) uint16 {
			return modify(c, crew, func(r *ldap.ModifyRequest) { r.Add("member", []string{dn}) })
		}
		assert.Equal(t, by(s, uint16(ldap.LDAPResultEntryAlreadyExists), ldap.LDAPResultAttributeOrValueExists), add(ada), "a member twice")
		assert.Equal(t, by(s, uint16(ldap.LDAPResultNoSuchObject), 0), add(s.DN("Nobody", "Staff")), "a member that does not exist")
		got := modify(c, crew, func(r *ldap.ModifyRequest) { r.Delete("member", []string{bram}) })
		assert.Equal(t, by(s, uint16(ldap.LDAPResultUnwillingToPerform), ldap.LDAPResultNoSuchAttribute), got, "taking out who is not in")
		if s.dialect == directory.AD {
			assert.Equal(t, []string{crew}, s.entry(t, c, ada).Get("memberOf"))
		}
	})
}

func TestMovingRefusesMissingAndTakenPlaces(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c := s.connect(t)
		ada := s.person(t, c, "Ada Quill", "aquill")
		crew := s.group(t, c, "Crew", ada)
		rdn, _ := directory.SplitDN(ada)
		move := func(to string) uint16 { return code(c.Conn().ModifyDN(ldap.NewModifyDNRequest(ada, rdn, true, to))) }
		assert.Equal(t, by(s, uint16(ldap.LDAPResultOther), ldap.LDAPResultNoSuchObject), move(s.container("Nowhere")))

		taken := s.DN("Ada Quill", "Parked")
		s.add(t, c, taken, by(s, map[string][]string{"objectClass": {"user"}, "sAMAccountName": {"other"}},
			map[string][]string{"objectClass": {"inetOrgPerson"}, "cn": {"Ada Quill"}, "sn": {"Quill"}}))
		assert.Equal(t, uint16(ldap.LDAPResultEntryAlreadyExists), move(s.container("Parked")))
		require.NoError(t, c.Conn().Del(ldap.NewDelRequest(taken, nil)))

		before := s.entry(t, c, ada).First(s.dialect.Identity.String())
		assert.Zero(t, move(s.container("Parked")))
		moved := s.entry(t, c, taken)
		require.NotNil(t, moved)
		assert.Equal(t, before, moved.First(s.dialect.Identity.String()), "the identity stays")
		want := by(s, taken, ada)
		assert.Equal(t, []string{want}, s.entry(t, c, crew).Get("member"), "only the ad schema takes links along")
	})
}

func TestDeletingRefusesParentsAndDropsLinks(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c := s.connect(t)
		ada, bram := s.person(t, c, "Ada Quill", "aquill"), s.person(t, c, "Bram Tern", "btern")
		crew := s.group(t, c, "Crew", ada, bram)
		assert.Equal(t, uint16(ldap.LDAPResultNotAllowedOnNonLeaf), code(c.Conn().Del(ldap.NewDelRequest(s.container("Staff"), nil))))
		require.NoError(t, c.Conn().Del(ldap.NewDelRequest(ada, nil)))
		assert.Nil(t, s.entry(t, c, ada))
		want := by(s, []string{bram}, []string{ada, bram})
		assert.ElementsMatch(t, want, s.entry(t, c, crew).Get("member"), "only the ad schema drops links")
		assert.Equal(t, uint16(ldap.LDAPResultNoSuchObject), code(c.Conn().Del(ldap.NewDelRequest(ada, nil))))
	})
}

func TestADeletedObjectKeepsItsIdentityAndComesBack(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.dialect != directory.AD {
			t.Skip("the server keeps no deleted objects")
		}
		c := s.connect(t)
		ctx := context.Background()
		dn := s.person(t, c, "Ada Quill", "aquill")
		before := s.entry(t, c, dn)
		id := before.First("objectGUID")
		require.NoError(t, c.Conn().Del(ldap.NewDelRequest(dn, nil)))
		_, err := c.ByIdentity(ctx, id)
		require.ErrorIs(t, err, source.ErrNotFound)
		object, err := c.ByIdentityOrDeleted(ctx, id)
		require.NoError(t, err)
		assert.Equal(t, "TRUE", object.First("isDeleted"))
		assert.Equal(t, before.First("objectSid"), object.First("objectSid"))
		assert.Equal(t, "aquill", object.First("sAMAccountName"))
		assert.Equal(t, s.container("Staff"), object.First("lastKnownParent"))
		assert.False(t, object.Has("mail"), "the rest must come from the journal")

		show := ldap.NewControlString(source.ShowDeletedOID, true, "")
		back := func(more bool) uint16 {
			return modify(c, object.DN, func(r *ldap.ModifyRequest) {
				r.Delete("isDeleted", nil)
				r.Replace("distinguishedName", []string{dn})
				if more {
					r.Replace("userAccountControl", []string{"514"})
				}
			}, show)
		}
		assert.Equal(t, uint16(ldap.LDAPResultNoSuchObject), back(true), "flags cannot be changed in the same write")
		assert.Zero(t, back(false))
		again := s.entry(t, c, dn)
		require.NotNil(t, again)
		assert.Equal(t, id, again.First("objectGUID"))
		assert.Equal(t, "512", again.First("userAccountControl"), "it comes back enabled")
		assert.Equal(t, "0", again.First("pwdLastSet"), "and without a password")
	})
}

func TestAttributeNamesCanBeLearntWithoutValues(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c := s.connect(t)
		dn := s.person(t, c, "Ada Quill", "aquill")
		names, err := c.StoredNames(context.Background(), source.Query{Base: dn, Scope: ldap.ScopeBaseObject})
		require.NoError(t, err)
		assert.Subset(t, names, []string{"mail", "objectClass", s.dialect.Identity.String()})
		for _, n := range names {
			assert.False(t, directory.IsSecret(n), n)
		}
		if s.dialect != directory.AD {
			// There a search for names alone sends no values.
			_, err = c.Search(context.Background(), source.Query{Base: dn, Scope: ldap.ScopeBaseObject, NamesOnly: true, Attributes: []string{"*"}},
				func(page []directory.Entry) error {
					require.Len(t, page, 1)
					for _, a := range page[0].Attrs {
						assert.Empty(t, a.Values, a.Name)
					}
					return nil
				})
			require.NoError(t, err)
		}
	})
}

func TestPagesComeWholeAndSecretsNever(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c := s.connect(t)
		for i := range 25 {
			s.person(t, c, fmt.Sprintf("Person %02d", i), fmt.Sprintf("person%02d", i))
		}
		s.yard.PageSize = 4
		c = s.connect(t)
		entries, err := c.Find(context.Background(), "(cn=Person*)")
		require.NoError(t, err)
		assert.Len(t, entries, 25)
		for i := range entries {
			for _, a := range entries[i].Attrs {
				assert.False(t, directory.IsSecret(a.Name), a.Name)
			}
		}
	})
}

// TestChildrenAreAllOfThem however many pages they would fill: servers differ in what they
// say of more than was asked for.
func TestChildrenAreAllOfThem(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c := s.connect(t)
		leaf := s.person(t, c, "Person 0", "person0")
		want := []string{directory.FoldDN(leaf)}
		for i := 1; i <= 9; i++ {
			if slices.Contains([]int{1, 3, 4, 5, 8, 9}, i) {
				s.yard.PageSize = 4
				children, err := s.connect(t).Children(context.Background(), []string{leaf, s.container("Staff")})
				require.NoError(t, err)
				assert.Empty(t, children[leaf])
				var got []string
				for _, dn := range children[s.container("Staff")] {
					got = append(got, directory.FoldDN(dn))
				}
				assert.ElementsMatch(t, want, got)
			}
			want = append(want, directory.FoldDN(s.person(t, c, fmt.Sprintf("Person %d", i), fmt.Sprintf("person%d", i))))
		}
	})
}

func TestSearchBelowNothingIsNotFound(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c := s.connect(t)
		_, err := c.Search(context.Background(), source.Query{Base: s.container("Nowhere"), Scope: ldap.ScopeWholeSubtree, Attributes: []string{"1.1"}},
			func([]directory.Entry) error { return nil })
		if s.dialect == directory.NS389 { // in pages it gives nothing, and calls that success
			assert.NoError(t, err)
			_, err = c.Search(context.Background(), source.Query{Base: s.container("Nowhere"), Scope: ldap.ScopeBaseObject, Attributes: []string{"1.1"}},
				func([]directory.Entry) error { return nil })
		}
		assert.ErrorIs(t, err, source.ErrNotFound)
	})
}

func TestAssertionsAreCheckedWhereTheyAreOffered(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c := s.connect(t)
		assert.Equal(t, s.dialect == directory.OpenLDAP, c.Root.Controls[source.AssertionOID])
		if s.dialect != directory.OpenLDAP {
			return
		}
		dn := s.person(t, c, "Ada Quill", "aquill")
		assertion := func(filter string) ldap.Control {
			p, err := ldap.CompileFilter(filter)
			require.NoError(t, err)
			return ldap.NewControlString(source.AssertionOID, true, string(p.Bytes()))
		}
		change := func(r *ldap.ModifyRequest) { r.Replace("mail", []string{"x@larkmoor.example"}) }
		assert.Equal(t, uint16(ldap.LDAPResultAssertionFailed), modify(c, dn, change, assertion("(mail=other@larkmoor.example)")))
		assert.Zero(t, modify(c, dn, change, assertion("(&(mail=aquill@larkmoor.example)(!(pwdAccountLockedTime=*)))")))
		del := ldap.NewDelRequest(dn, []ldap.Control{assertion("(mail=other@larkmoor.example)")})
		assert.Equal(t, uint16(ldap.LDAPResultAssertionFailed), code(c.Conn().Del(del)))
	})
}

func TestLockoutsAppearAndCanBeTakenOff(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c := s.connect(t)
		dn := s.person(t, c, "Ada Quill", "aquill")
		attr := s.dialect.Locked[0].String()
		s.lock(t, dn, "aquill")
		e := s.entry(t, c, dn)
		locked := e.First(attr)
		require.NotEmpty(t, locked)
		if s.dialect == directory.AD {
			assert.Equal(t, "16", e.First("msDS-User-Account-Control-Computed"))
		}
		got := modify(c, dn, func(r *ldap.ModifyRequest) {
			r.Delete(attr, []string{locked})
			if s.dialect == directory.AD {
				r.Add(attr, []string{"0"})
			}
		})
		assert.Zero(t, got)
		e = s.entry(t, c, dn)
		assert.Equal(t, by(s, "0", ""), e.First(attr))
	})
}

// TestListsTellsAMemberWithoutReadingTheOthers holds on servers with and
// without the matched values control.
func TestListsTellsAMemberWithoutReadingTheOthers(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c := s.connect(t)
		ada, bram, cleo := s.person(t, c, "Ada (Quill)", "aquill"), s.person(t, c, "Bram Tern", "btern"), s.person(t, c, "Cleo Ray", "cray")
		crew, tower := s.group(t, c, "Crew", ada, bram), s.group(t, c, "Tower", bram)
		id := s.entry(t, c, crew).First(s.dialect.Identity.String())
		member := func(dns ...string) (values []source.Value) {
			for _, dn := range dns {
				values = append(values, source.Value{Attr: "member", Value: dn})
			}
			return values
		}
		e, err := c.Lists(t.Context(), id, member(strings.ToUpper(ada), cleo)...)
		require.NoError(t, err)
		require.Len(t, e.Get("member"), 1)
		assert.True(t, strings.EqualFold(ada, e.First("member")))
		if s.dialect != directory.AD {
			assert.Equal(t, ada, e.First("member"), "as it is spelt there")
		}
		assert.Equal(t, []string{crew, id}, []string{e.DN, e.First(s.dialect.Identity.String())})

		e, err = c.ListsAt(t.Context(), crew, member(cleo)...)
		require.NoError(t, err)
		assert.Empty(t, e.Get("member"))
		found, err := c.Listing(t.Context(), append(member(ada), source.Value{Attr: "manager", Value: ada})...)
		require.NoError(t, err)
		require.Len(t, found, 1)
		assert.Len(t, found[0].Get("member"), 1)
		found, err = c.Listing(t.Context(), member(bram)...)
		require.NoError(t, err)
		assert.ElementsMatch(t, []string{crew, tower}, []string{found[0].DN, found[1].DN})

		_, err = c.ListsAt(t.Context(), s.DN("Nobody", "Staff"), member(ada)...)
		require.ErrorIs(t, err, source.ErrNotFound)
		id = s.entry(t, c, tower).First(s.dialect.Identity.String())
		require.NoError(t, c.Conn().Del(ldap.NewDelRequest(tower, nil)))
		_, err = c.Lists(t.Context(), id, member(ada)...)
		require.ErrorIs(t, err, source.ErrNotFound)
	})
}
