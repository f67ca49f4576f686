// Package privilege knows who has power over a directory: which groups are
// privileged, who reaches them and how, and who would be left in them. The
// audit, staging, carrying out and undo all ask this one model.
//
// Privileged groups are found by SID, never by name, since names are
// localised and renamed; on dialects without SIDs, and besides, by the names
// that the settings give. A path counts only through groups that give rights
// (MS-ADTS 2.2.12). Members are listed by member, uniqueMember and memberUid,
// and belong to the group of their primaryGroupID or gidNumber.
package privilege

import (
	"maps"
	"slices"
	"strconv"
	"strings"

	"yardbroom/internal/directory"
)

// Rules say which groups are privileged.
type Rules struct {
	Domain string   // SID of the domain, in its S-1-… form; "" where there is none, or it is not known
	Named  []string // DNs of the groups that the settings name
}

// privileged tells whether a group is one of those, by its SID or its name.
func (r *Rules) privileged(g *directory.Group, named map[directory.Key]string) bool {
	_, isNamed := named[g.Key]
	return isNamed || directory.PrivilegedSID(g.SID) && (r.own(g.SID) || directory.IsBuiltinSID(g.SID))
}

// own tells whether an identity is of the domain itself.
func (r *Rules) own(sid string) bool { return r.Domain == "" || strings.HasPrefix(sid, r.Domain+"-") }

func (r *Rules) names() map[directory.Key]string {
	want := map[directory.Key]string{}
	for _, n := range r.Named {
		want[directory.KeyOf(n)] = n
	}
	return want
}

// Graph is who belongs to the privileged groups. Nesting is resolved from
// each privileged group downwards, once, so that loops do no harm.
type Graph struct {
	groups     []directory.Group
	byKey      map[directory.Key]int
	byRID      map[uint32]int   // of the domain's own groups, those that are reached
	byGID      map[uint32][]int // posixGroup, by gidNumber, those that are reached
	privileged []int
	unknown    []string // named in the settings and not found
	// above is, for each privileged group and each group nested in it, the
	// next group on the shortest path up.
	above   []map[int]int
	depth   []map[int]int
	reached []int                   // the groups that are, or are nested in, a privileged one
	members map[directory.Key][]int // who is listed in one of those
	logons  map[string][]int        // the same by logon name (memberUid)
	partial []string                // privileged groups with members that the source does not show
}

// Reach is one privileged group that somebody reaches, and how.
type Reach struct {
	Group   string
	Path    []string // the groups in between, from the account upwards
	Primary bool     // the first step is the account's primary group, or that of its gidNumber
	key     directory.Key
}

// NewGraph follows the nesting of a survey's groups. Named are the groups that
// the settings call privileged.
func NewGraph(s *directory.Survey, named []string) *Graph {
	rules := Rules{Named: named}
	if sid, err := directory.ParseSID(s.Domain.SID); err == nil {
		rules.Domain = sid
	}
	return newGraph(s.Groups, rules)
}

func newGraph(groups []directory.Group, rules Rules) *Graph {
	g := &Graph{
		groups:  groups,
		byKey:   map[directory.Key]int{},
		byRID:   map[uint32]int{},
		byGID:   map[uint32][]int{},
		members: map[directory.Key][]int{},
		logons:  map[string][]int{},
	}
	want := rules.names()
	missing := rules.names()
	for i := range groups {
		one := &groups[i]
		g.byKey[one.Key] = i
		if rules.own(one.SID) && one.RID != 0 && !directory.IsBuiltinSID(one.SID) && one.Kind == directory.KindGroup {
			g.byRID[one.RID] = i
		}
		if gid, err := strconv.ParseUint(one.GID, 10, 32); one.Posix && err == nil {
			g.byGID[uint32(gid)] = append(g.byGID[uint32(gid)], i)
		}
		if rules.privileged(one, want) {
			g.privileged = append(g.privileged, i)
		}
		delete(missing, one.Key)
	}
	for _, n := range missing {
		g.unknown = append(g.unknown, n)
	}
	slices.Sort(g.unknown)
	slices.SortFunc(g.privileged, func(a, b int) int { return strings.Compare(g.groups[a].DN, g.groups[b].DN) })
	reached := map[int]bool{}
	for _, top := range g.privileged {
		g.descend(top, reached)
	}
	for i := range reached {
		one := &g.groups[i]
		g.reached = append(g.reached, i)
		for _, k := range one.Members {
			g.members[k] = append(g.members[k], i)
		}
		for _, logon := range one.Logons {
			g.logons[logon] = append(g.logons[logon], i)
		}
		if one.Incomplete {
			g.partial = append(g.partial, one.Name())
		}
	}
	maps.DeleteFunc(g.byRID, func(_ uint32, i int) bool { return !reached[i] })
	for gid, all := range g.byGID {
		g.byGID[gid] = slices.DeleteFunc(all, func(i int) bool { return !reached[i] })
	}
	slices.Sort(g.reached)
	slices.Sort(g.partial)
	return g
}

// descend finds the groups nested in a privileged one, nearest first. Only
// groups that give rights lead on.
func (g *Graph) descend(top int, reached map[int]bool) {
	above, depth := map[int]int{top: -1}, map[int]int{top: 0}
	for level := []int{top}; len(level) > 0; {
		var next []int
		for _, i := range level {
			if reached[i] = true; !g.groups[i].Security {
				continue
			}
			for _, k := range g.groups[i].Members {
				n, isGroup := g.byKey[k]
				if !isGroup || !g.groups[n].Security {
					continue
				}
				if at, seen := depth[n]; seen && (at <= depth[i] || g.groups[above[n]].DN <= g.groups[i].DN) {
					continue // another way is shorter, or as short and first by name
				}
				if _, seen := depth[n]; !seen {
					next = append(next, n)
				}
				above[n], depth[n] = i, depth[i]+1
			}
		}
		level = next
	}
	g.above, g.depth = append(g.above, above), append(g.depth, depth)
}

// ways returns the groups that an account is directly in and that lead to a
// privileged one; those of its primary group apart.
func (g *Graph) ways(a *directory.Account) (direct, primary []int) {
	direct = g.members[a.Key]
	if more := g.logons[a.Logon]; len(more) > 0 {
		direct = append(slices.Clone(direct), more...)
	}
	if a.Present.Has(directory.AttrGIDNumber) {
		primary = slices.Clone(g.byGID[a.GID])
	}
	if i, ok := g.byRID[a.PrimaryGroup]; ok {
		primary = append(primary, i)
	}
	return direct, primary
}

// Of returns the privileged groups that an account reaches. Its Key must be
// set.
func (g *Graph) Of(a *directory.Account) []Reach {
	direct, primary := g.ways(a)
	return g.reach(direct, primary)
}

// OfGroup returns the privileged groups that a group reaches through its
// membership in others.
func (g *Graph) OfGroup(one *directory.Group) []Reach {
	if !one.Security {
		return nil
	}
	return g.reach(g.members[one.Key], nil)
}

func (g *Graph) reach(direct, primary []int) []Reach {
	if len(direct) == 0 && len(primary) == 0 {
		return nil
	}
	var all []Reach
	ways := slices.Concat(direct, primary)
	for n, top := range g.privileged {
		best, at := -1, 0
		for _, i := range ways {
			d, ok := g.depth[n][i]
			if ok && g.groups[i].Security && (best < 0 || d < at || d == at && g.groups[i].DN < g.groups[best].DN) {
				best, at = i, d
			}
		}
		if best < 0 {
			continue
		}
		r := Reach{Group: g.groups[top].Name(), Primary: !slices.Contains(direct, best), key: g.groups[top].Key}
		for i := best; i != top; i = g.above[n][i] {
			r.Path = append(r.Path, g.groups[i].Name())
		}
		all = append(all, r)
	}
	return all
}

// Leads tells whether the members of a group have power by it: it is
// privileged itself, or nested in a group that is.
func (g *Graph) Leads(group directory.Key) bool {
	i, ok := g.byKey[group]
	_, reached := slices.BinarySearch(g.reached, i)
	return ok && reached
}

// Privileged tells whether a group is itself one of the privileged ones.
func (g *Graph) Privileged(group directory.Key) bool {
	i, ok := g.byKey[group]
	return ok && slices.Contains(g.privileged, i)
}

// Holds tells whether a privileged group with this last number in its
// identity was read.
func (g *Graph) Holds(rid uint32) bool {
	return slices.ContainsFunc(g.privileged, func(i int) bool { return g.groups[i].RID == rid })
}

// None tells whether no privileged group was read at all.
func (g *Graph) None() bool { return len(g.privileged) == 0 }

// Unknown are the groups that the settings name and that were not read.
func (g *Graph) Unknown() []string { return g.unknown }

// Partial are the privileged groups, and those nested in them, whose members
// were not read whole.
func (g *Graph) Partial() []string { return g.partial }
