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

// consequences is what follows from what has become of entries.
type consequences struct {
	touched map[string]bool             // names of entries that may have changed with them
	left    map[string]*directory.Entry // names of which all is read anew that mentions them, or stands below, with what they are of
	linked  map[string]bool             // names that a group mentions newly, or no longer
	unnamed []string                    // names of entries that do not show who manages them
}

// compare finds out what has become of an entry, and adds what follows from that.
func (f *follower) compare(ctx context.Context, id string, then *consequences) error {
	was, is := f.was[id], f.is[id]
	if f.wasChanging(id, is) {
		f.raced = true
		for _, e := range []*directory.Entry{was, is} {
			if e == nil {
				continue
			}
			then.left[nameOf(e)] = is
			for m := range mentionedBy(e) {
				then.touched[m.name] = true
			}
		}
	}
	same := was == nil && is == nil || was != nil && is != nil && sameEntry(was, is)
	if same && !f.mayDiffer(id, is) {
		return nil
	}
	for _, e := range []*directory.Entry{was, is} {
		switch {
		case e == nil || directory.IsOwnPlace(e.DN, f.server.Top()):
		case e.Hides(membership):
			return wholly("%s has changed, and does not show who is in it", e.DN)
		case f.server.Dialect == directory.AD && (e.Hides(managers) || f.see.unmanaged[directory.KeyOf(e.DN)]):
			then.left[nameOf(e)] = is
			then.unnamed = append(then.unnamed, e.DN)
		}
	}
	if same {
		return nil
	}
	f.change[id] = is
	if err := f.followable(ctx, was, is); err != nil {
		return err
	}
	before, now := nameOf(was), nameOf(is)
	if before != now {
		for _, name := range []string{before, now} {
			if _, parent := directory.SplitDN(name); name != "" {
				then.touched[parent] = true
			}
		}
		if before != "" {
			then.left[before] = is
		}
		if now != "" {
			then.touched[now] = true // somebody else may have borne that name
		}
	}
	group := was != nil && IsGroup(was) || is != nil && IsGroup(is)
	for name := range differing(was, is) {
		then.touched[name] = true
		if group {
			then.linked[name] = true
		}
	}
	return nil
}

// mayDiffer tells, of an entry that looks as before, whether it may have changed in what it
// hides: the server says that it has changed since a cookie, or may not say. By times it
// says so for weeks, and the entry shows that of its last change.
func (f *follower) mayDiffer(id string, is *directory.Entry) bool {
	_, told := f.told[id]
	return told && f.since.Mark.How == ByCookie || is != nil && unmarked(f.server.Dialect, f.since.Mark, is)
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
		if !sameValues(a.Attrs[i].Values, b.Get(a.Attrs[i].Name)) {
			return false
		}
	}
	return true
}

func sameValues(a, b []string) bool {
	return len(a) == len(b) &&
		(slices.Equal(a, b) || slices.Equal(slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))))
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
	before, now := was.Get("aci"), is.Get("aci")
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
	if !seen || !sameValues(before, now) {
		return wholly("the access rules of %s have changed, or may have", is.DN)
	}
	return nil
}
