package batch

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// MemberAttributes are the attributes by which groups list their members.
var MemberAttributes = []string{"member", "uniqueMember", "memberUid"}

// MemberAttributesOf are those of a dialect.
func MemberAttributesOf(d *directory.Dialect) []string {
	if d == directory.AD {
		return MemberAttributes[:1]
	}
	return MemberAttributes
}

// manyAtOnce is how many entries one search for their groups asks for.
const manyAtOnce = 50

// MemberValue is how a group lists an entry in one of its attributes.
func MemberValue(attr string, e *directory.Entry) string {
	if strings.EqualFold(attr, "memberUid") {
		return e.First("uid")
	}
	return e.DN
}

// ReadMemberships returns the groups that list each of the entries, sorted by
// name, under their folded DNs. Primary groups are not among them.
func ReadMemberships(
	ctx context.Context, from Reader, d *directory.Dialect, entries []*directory.Entry, powers Powers, p *Protection,
) (map[string][]Membership, error) {
	all := map[string][]Membership{}
	for chunk := range slices.Chunk(entries, source.AtOnce(from, manyAtOnce, len(entries))) {
		byDN, byUID := map[string]string{}, map[string][]string{}
		var b strings.Builder
		b.WriteString("(|")
		for _, e := range chunk {
			dn := source.EscapeFilter(e.DN)
			fmt.Fprintf(&b, "(member=%s)", dn)
			key := directory.FoldDN(e.DN)
			byDN[key] = key
			if d == directory.AD {
				continue
			}
			fmt.Fprintf(&b, "(uniqueMember=%s)", dn)
			if uid := e.First("uid"); uid != "" {
				fmt.Fprintf(&b, "(memberUid=%s)", source.EscapeFilter(uid))
				byUID[uid] = append(byUID[uid], key)
			}
		}
		b.WriteString(")")
		groups, err := from.Select(ctx, b.String(), append(source.WhatItIs(d), MemberAttributes...))
		if err != nil {
			return nil, fmt.Errorf("reading groups: %w", err)
		}
		for i := range groups {
			g := &groups[i]
			for _, attr := range MemberAttributes {
				if !g.Has(attr) {
					continue
				}
				m, err := membershipIn(ctx, g, attr, d, powers, p)
				if err != nil {
					return nil, err
				}
				for _, v := range g.Get(attr) {
					if attr == "memberUid" {
						for _, key := range byUID[v] {
							all[key] = append(all[key], m)
						}
					} else if key := byDN[directory.FoldDN(v)]; key != "" {
						all[key] = append(all[key], m)
					}
				}
			}
		}
	}
	for _, list := range all {
		slices.SortFunc(list, func(a, b Membership) int {
			return strings.Compare(directory.FoldDN(a.DN)+a.Attr, directory.FoldDN(b.DN)+b.Attr)
		})
	}
	return all, nil
}

func membershipIn(
	ctx context.Context, g *directory.Entry, attr string, d *directory.Dialect, powers Powers, p *Protection,
) (m Membership, err error) {
	m = Membership{DN: g.DN, ID: source.ShowIdentity(d, g.First(d.Identity.String())), Attr: attr}
	if p != nil {
		m.protected = p.Written(g, attr)
	}
	if powers != nil {
		m.Privileged, err = powers.LeadsTo(ctx, g.DN)
	}
	return m, err
}

// memberAttribute is the attribute by which a group lists its members, ""
// for an entry that is no group.
func memberAttribute(d *directory.Dialect, g *directory.Entry) string {
	switch {
	case d == directory.AD && g.HasClass("group"), g.HasClass("groupOfNames"):
		return "member"
	case g.HasClass("groupOfUniqueNames"):
		return "uniqueMember"
	case g.HasClass("posixGroup"):
		return "memberUid"
	}
	return ""
}

// readGroups reads, once, the groups that the order names and those that the
// candidates are in.
func (s *Stager) readGroups(ctx context.Context, o *Order, candidates []Candidate) error {
	joins, leaves := slices.Contains(o.Actions, JoinGroup), slices.Contains(o.Actions, LeaveGroup)
	switch {
	case len(o.Groups) > 0 && !joins && !leaves:
		return errors.New("--group goes with join-group and leave-group")
	case len(o.Groups) == 0 && (joins || leaves):
		return errors.New("say which group with --group")
	case !joins && !leaves && !slices.Contains(o.Actions, LeaveGroups):
		return nil
	}
	for _, g := range o.Groups {
		attr := memberAttribute(s.Dialect, &g)
		if attr == "" {
			return fmt.Errorf("--group: %s is not a group that lists its members", g.DN)
		}
		m, err := membershipIn(ctx, &g, attr, s.Dialect, s.powers(), &s.Protection)
		if err != nil {
			return err
		}
		s.groups = append(s.groups, m)
	}
	entries := make([]*directory.Entry, len(candidates))
	for i := range candidates {
		entries[i] = &candidates[i].Entry
	}
	var err error
	s.memberOf, err = ReadMemberships(ctx, s.From, s.Dialect, entries, s.powers(), &s.Protection)
	return err
}

// inGroups plans what a line joins or leaves.
func (s *Stager) inGroups(name string, e *directory.Entry, line *Line) error {
	now := s.memberOf[directory.FoldDN(e.DN)]
	var touched []Membership
	var stays []string
	switch name {
	case LeaveGroups:
		for _, m := range now {
			if m.protected == "" {
				touched = append(touched, m)
				continue
			}
			stays = append(stays, m.DN)
			line.Warnings = append(line.Warnings, fmt.Sprintf("it stays in %s: %s", m.DN, m.protected))
		}
		switch {
		case len(touched) > 0:
		case s.alone && len(stays) > 0:
			return fmt.Errorf("it is only in groups that are left alone: %s", strings.Join(line.Warnings, "; "))
		case s.alone:
			return already("it is in no group but its primary one")
		default:
			return nil // there is more to do with it
		}
	default:
		for _, g := range s.groups {
			in := slices.ContainsFunc(now, func(m Membership) bool { return m.ID == g.ID && m.Attr == g.Attr })
			switch {
			case in && name == JoinGroup:
				return already("it is in %s already", directory.LeafValue(g.DN))
			case !in && name == LeaveGroup:
				return already("it is not in %s", directory.LeafValue(g.DN))
			case MemberValue(g.Attr, e) == "":
				return fmt.Errorf("%s lists members by uid, and it has none", directory.LeafValue(g.DN))
			}
			touched = append(touched, g)
		}
	}
	line.Actions = append(line.Actions, Action{Name: name, Groups: touched, Stays: stays})
	for _, g := range touched {
		if name == JoinGroup {
			line.Changes = append(line.Changes, JoinsGroup(g.DN))
		} else {
			line.Changes = append(line.Changes, LeavesGroup(g.DN))
		}
	}
	return nil
}

func merge(a, b []string) []string {
	out := slices.Clone(a)
	for _, x := range b {
		if !slices.Contains(out, x) {
			out = append(out, x)
		}
	}
	slices.Sort(out)
	return out
}

// keepMembers refuses lines that together would take the last member out of
// a group whose class must have one (RFC 4519, sections 3.5 and 3.6): the
// server would refuse that in the middle of the batch.
func (s *Stager) keepMembers(ctx context.Context, lines []Line, refusals []Refusal) ([]Line, []Refusal, error) {
	if s.Dialect != directory.OpenLDAP {
		return lines, refusals, nil // elsewhere groups may be empty
	}
	leaving := map[string]int{}
	for i := range lines {
		for _, m := range lines[i].left() {
			leaving[m.DN]++
		}
	}
	if len(leaving) == 0 {
		return lines, refusals, nil
	}
	groups, err := s.From.Get(ctx, slices.Sorted(maps.Keys(leaving)))
	if err != nil {
		return nil, nil, err
	}
	emptied := map[string]bool{}
	for i := range groups {
		g := &groups[i]
		must := g.HasClass("groupOfNames") || g.HasClass("groupOfUniqueNames")
		if must && len(g.Get("member"))+len(g.Get("uniqueMember")) <= leaving[g.DN] {
			emptied[g.DN] = true
		}
	}
	kept, refusals := sift(lines, refusals, func(l *Line) string {
		for _, m := range l.left() {
			if emptied[m.DN] {
				return fmt.Sprintf(
					"with this batch %s would have no member left, which its class does not allow; give it another member first",
					m.DN,
				)
			}
		}
		return ""
	})
	return kept, refusals, nil
}

// left are the memberships that a line gives up.
func (l *Line) left() (all []Membership) {
	for _, a := range l.Actions {
		if a.Name == LeaveGroup || a.Name == LeaveGroups {
			all = append(all, a.Groups...)
		}
	}
	return all
}

// Leaves returns the privileged groups that the line takes the account out of.
func (l *Line) Leaves() (groups []string) {
	for _, m := range l.left() {
		groups = merge(groups, m.Privileged)
	}
	return groups
}

// Powerful tells whether the line is about somebody who has power over the
// directory, or gives or takes any.
func (l *Line) Powerful() bool { return l.powers() > 0 }

// GivesUp returns the privileged groups that lose the account as an enabled
// member by the line: all of its where it can no longer sign in.
func (l *Line) GivesUp() (groups []string) {
	if l.SwitchesOff() {
		return l.Privileged
	}
	return l.Leaves()
}

// Joins returns the privileged groups that the line puts the account into.
func (l *Line) Joins() (groups []string) {
	for _, a := range l.Actions {
		if a.Name == JoinGroup {
			for _, m := range a.Groups {
				groups = merge(groups, m.Privileged)
			}
		}
		groups = merge(groups, a.Powers)
	}
	return groups
}
