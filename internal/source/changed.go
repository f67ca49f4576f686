package source

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
	"yardbroom/internal/kept"
)

// compare finds out what has become of an entry. Touched takes the names of entries that
// may have changed with it; left the names that are no longer, with what bears another;
// linked those that a group mentions newly, or no longer.
func (f *follower) compare(ctx context.Context, id string, touched map[string]bool, left map[string]*directory.Entry, linked map[string]bool) error {
	was, is := f.was[id], f.is[id]
	if f.wasChanging(id, is) {
		f.raced = true
		for _, e := range []*directory.Entry{was, is} {
			if e == nil {
				continue
			}
			left[nameOf(e)] = is
			for m := range mentionedBy(e) {
				touched[m.name] = true
			}
		}
	}
	if was == nil && is == nil || was != nil && is != nil && sameEntry(was, is) {
		return nil
	}
	for _, e := range []*directory.Entry{was, is} {
		switch {
		case e == nil || directory.IsOwnPlace(e.DN, f.server.Top()):
		case e.Hides(membership):
			return wholly("%s has changed, and does not show who is in it", e.DN)
		case f.server.Dialect == directory.AD && e.Hides(managers):
			return wholly("%s has changed, and does not show its manager", e.DN)
		}
	}
	f.change[id] = is
	if err := f.followable(ctx, was, is); err != nil {
		return err
	}
	before, now := nameOf(was), nameOf(is)
	if before != now {
		for _, name := range []string{before, now} {
			if _, parent := directory.SplitDN(name); name != "" {
				touched[parent] = true
			}
		}
		if before != "" {
			left[before] = is
		}
		if now != "" {
			touched[now] = true // somebody else may have borne that name
		}
	}
	group := was != nil && IsGroup(was) || is != nil && IsGroup(is)
	for name := range differing(was, is) {
		touched[name] = true
		if group {
			linked[name] = true
		}
	}
	return nil
}

// wasChanging tells whether an entry changed, or may have, while the survey was taken.
func (f *follower) wasChanging(id string, is *directory.Entry) bool {
	mark, told := f.told[id]
	if !told {
		return false
	}
	if f.since.Mark.How == ByCookie {
		_, changed := slices.BinarySearch(f.since.Mark.Changing, id)
		return changed
	}
	if mark == "" && is != nil {
		mark = is.First(stamp(f.server.Dialect))
	}
	if f.since.Mark.How == ByNumber {
		n, err := strconv.ParseUint(mark, 10, 64)
		until, _ := strconv.ParseUint(f.since.Mark.Until, 10, 64)
		return err != nil || n <= until
	}
	t, err := directory.ParseGeneralizedTime(mark)
	return err != nil || t.After(f.since.Mark.Time.Add(-clockSkew)) && t.Before(f.since.Finished.Add(clockSkew))
}

var (
	// membership are the attributes that say who is in an entry, and that which says what it
	// is: where one is hidden nobody can tell who is in it.
	membership = directory.Attrs(directory.AttrMember, directory.AttrUniqueMember, directory.AttrObjectClass)
	// managers name somebody who names the entry back, on servers that count that as no
	// change of theirs.
	managers = directory.Attrs(directory.AttrManager, directory.AttrManagedBy)
)

func nameOf(e *directory.Entry) string {
	if e == nil {
		return ""
	}
	return directory.FoldDN(e.DN)
}

// differing are the names that one of two versions of an entry mentions, by some
// attribute, and the other does not, by the same: a manager may be a member too. Where the
// entry has another name they are all, since the other ends show that one.
func differing(was, is *directory.Entry) map[string]bool {
	before, now := mentionedBy(was), mentionedBy(is)
	renamed := nameOf(was) != nameOf(is)
	all := map[string]bool{}
	for m := range before {
		if renamed || !now[m] {
			all[m.name] = true
		}
	}
	for m := range now {
		if renamed || !before[m] {
			all[m.name] = true
		}
	}
	return all
}

// mentioned is a name and the attribute, in lower case, that mentions it.
type mentioned struct{ attr, name string }

func mentionedBy(e *directory.Entry) map[mentioned]bool {
	all := map[mentioned]bool{}
	if e == nil {
		return all
	}
	for attr, name := range kept.MentionedBy(e) {
		all[mentioned{strings.ToLower(attr), name}] = true
	}
	return all
}

// sameEntry tells whether two readings of an entry are alike, in whatever order its
// values come.
func sameEntry(a, b *directory.Entry) bool {
	if a.DN != b.DN || len(a.Attrs) != len(b.Attrs) {
		return false
	}
	for i := range a.Attrs {
		have := a.Attrs[i].Values
		other := b.Get(a.Attrs[i].Name)
		if len(have) != len(other) {
			return false
		}
		if !slices.Equal(have, other) && !slices.Equal(slices.Sorted(slices.Values(have)), slices.Sorted(slices.Values(other))) {
			return false
		}
	}
	return true
}

// followable is an error where a change works on entries that nobody can tell.
func (f *follower) followable(ctx context.Context, was, is *directory.Entry) error {
	for _, e := range []*directory.Entry{was, is} {
		switch {
		case e == nil:
		case e.HasClass("msDS-PasswordSettings") || e.HasClass("pwdPolicy") || e.HasClass("passwordPolicy"):
			return wholly("the password policy %s has changed", e.DN)
		case e.HasClass("ldapsubentry") || e.HasClass("nsRoleDefinition") || e.HasClass("cosSuperDefinition") || e.HasClass("cosTemplate"):
			return wholly("%s has changed, which gives values to other entries", e.DN)
		}
	}
	if was == nil || is == nil {
		return nil
	}
	if err := f.rulesAsBefore(ctx, was, is); err != nil {
		return err
	}
	if was.HasClass("domainDNS") {
		for _, name := range []string{"maxPwdAge", "lockoutDuration", "lockoutThreshold", "lockOutObservationWindow"} {
			if was.First(name) != is.First(name) {
				return wholly("the password policy of the domain has changed")
			}
		}
	}
	return nil
}

// rulesAsBefore is an error where the rules have changed, or may have, by which a 389
// Directory Server lets what stands below an entry be read: it keeps them there.
func (f *follower) rulesAsBefore(ctx context.Context, was, is *directory.Entry) error {
	s := f.server
	if s.Dialect != directory.NS389 || IsAccount(is) || IsGroup(is) {
		return nil
	}
	before, now := slices.Sorted(slices.Values(was.Get("aci"))), slices.Sorted(slices.Values(is.Get("aci")))
	seen := len(before) > 0
	if len(before)+len(now) == 0 { // has it none, or may they not be seen?
		_, err := s.Search(ctx, Query{Base: is.DN, Scope: ldap.ScopeBaseObject, Filter: s.everything("(|(aci=*)(!(aci=*)))"),
			Attributes: []string{"1.1"}}, func(page []directory.Entry) error {
			seen = len(page) > 0
			return nil
		})
		if err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
	}
	if !seen || !slices.Equal(before, now) {
		return wholly("the access rules of %s have changed, or may have", is.DN)
	}
	return nil
}
