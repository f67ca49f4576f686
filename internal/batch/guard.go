package batch

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
)

// Drift compares an entry with the guards of its line. It returns what is
// different, for people, "" where every guard holds. The entry must carry
// all attributes that the guards name; done are the changes that the line
// itself has made already.
func Drift(guards []Guard, e *directory.Entry, done []Mod) string {
	known := latest(guards)
	for _, g := range guards {
		switch g.Rule {
		case Container:
			_, parent := directory.SplitDN(e.DN)
			if directory.FoldDN(parent) != directory.FoldDN(string(g.Values[0])) {
				return fmt.Sprintf("it is in %s now, it was in %s", parent, g.Values[0])
			}
		case Groups, IsMember, NotMember: // GroupDrift looks at them
		case Permissions: // PermissionsDrift
		case NoLater:
			if now, ok := signIn(g.Attr, e.First(g.Attr)); !ok {
				return fmt.Sprintf("%s cannot be read: %q", g.Attr, e.First(g.Attr))
			} else if now.After(known) {
				return fmt.Sprintf("it has signed in since: %s is %s, it was %s", g.Attr, Readable(g.Attr, e.First(g.Attr)), readable(g.Attr, g.Values))
			}
		default:
			want := g.Values
			for _, m := range done {
				if strings.EqualFold(m.Attr, g.Attr) {
					want = m.New
				}
			}
			if now := OctetsOf(e.Get(g.Attr)); !sameValues(now, want) {
				return fmt.Sprintf("%s is %s now, it was %s", g.Attr, readable(g.Attr, now), readable(g.Attr, want))
			}
		}
	}
	return ""
}

// latest is the last sign-in that the guards know of, in any attribute: the
// same sign-in may reach the other attributes later.
func latest(guards []Guard) time.Time {
	var t time.Time
	for _, g := range guards {
		if g.Rule == NoLater && len(g.Values) > 0 {
			if u, ok := signIn(g.Attr, string(g.Values[0])); ok && u.After(t) {
				t = u
			}
		}
	}
	return t
}

// signIn reads a sign-in time in the syntax of its attribute. None is the
// zero time.
func signIn(attr, value string) (time.Time, bool) {
	if value == "" {
		return time.Time{}, true
	}
	parse := directory.ParseGeneralizedTime
	switch directory.LookupAttr(attr) {
	case directory.AttrLastLogon, directory.AttrLastLogonTimestamp:
		parse = directory.ParseFileTime
	}
	t, err := parse(value)
	return t, err == nil
}

// sameValues compares lists of values as sets, text without case.
func sameValues(a, b []Octets) bool {
	if len(a) != len(b) {
		return false
	}
	return !slices.ContainsFunc(a, func(x Octets) bool {
		return !slices.ContainsFunc(b, func(y Octets) bool { return x == y || strings.EqualFold(string(x), string(y)) })
	})
}

// Attributes returns the names of the attributes that guards read.
func Attributes(guards []Guard) []string {
	var names []string
	for _, g := range guards {
		if g.ofAttribute() {
			names = append(names, g.Attr)
		}
	}
	return names
}

// GuardsGroups tells whether any guard is about the groups of the entry.
func GuardsGroups(guards []Guard) bool {
	return slices.ContainsFunc(guards, func(g Guard) bool { return g.ofGroups() })
}

// GroupDrift compares the groups that list an entry, by DN, with the guards
// of its line. It returns what is different, "" where every guard holds.
// Joined and left are what the line itself has done already.
func GroupDrift(guards []Guard, now, joined, left []string) string {
	in := func(list []string, dn string) bool {
		return slices.ContainsFunc(list,
			func(other string) bool { return directory.FoldDN(other) == directory.FoldDN(dn) })
	}
	for _, g := range guards {
		if !g.ofGroups() {
			continue
		}
		want := Plain(g.Values)
		for _, dn := range want {
			member := in(now, dn)
			switch {
			case g.Rule == NotMember && member && !in(joined, dn):
				return fmt.Sprintf("it is in %s now", directory.LeafValue(dn))
			case g.Rule != NotMember && !member && !in(left, dn):
				return fmt.Sprintf("it is no longer in %s", directory.LeafValue(dn))
			}
		}
		if g.Rule != Groups {
			continue
		}
		for _, dn := range now {
			if !in(want, dn) && !in(joined, dn) {
				return fmt.Sprintf("it is in %s now, and was not", directory.LeafValue(dn))
			}
		}
	}
	return ""
}
