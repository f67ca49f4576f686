package audit

import (
	"slices"
	"strings"

	"yardbroom/internal/directory"
)

var privilegeChecks = []*Check{
	{
		Name: "privileged", Severity: Info, Short: "account with power over the directory, and the groups it comes by",
		Kinds: people, builtIn: administrator,
		Guard: enabledAttrs, wants: wantsPrivilege, judge: privileged,
	},
	{
		Name: "privileged-residue", Severity: Medium, Short: "entry still marked as privileged that is so no longer",
		Kinds: []directory.Kind{directory.KindUser, directory.KindGroup},
		Guard: func(*directory.Dialect) []directory.AttrID { return []directory.AttrID{directory.AttrAdminCount} },
		wants: func(p *pass) string {
			if p.Dialect != directory.AD {
				return "this kind of directory keeps no such mark"
			}
			return wantsPrivilege(p)
		},
		gather: privilegedResidue,
	},
	{
		Name: "privileged-daily", Severity: High, Short: "privileged account that is used for daily work and mail",
		Kinds: users, Guard: enabledAttrs, wants: wantsPrivilege,
		needs: func(d *directory.Dialect) [][]directory.AttrID {
			return append(enabledNeeds(d), []directory.AttrID{directory.AttrMail})
		},
		judge: privilegedDaily,
	},
	{
		Name: "privileged-idle", Severity: High, Short: "privileged account that nobody uses, or with an old password",
		Suggest: []string{"disable"}, Kinds: users, builtIn: administrator,
		Guard: restsOn(logonAttrs, passwordAttrs),
		wants: func(p *pass) string {
			if why := wantsPrivilege(p); why != "" {
				return why
			}
			if !slices.ContainsFunc(idleChecks, func(c *Check) bool { return p.missing(c, directory.KindUser) == "" }) {
				return "users: neither sign-ins nor passwords can be judged"
			}
			return ""
		},
		judge: privilegedIdle,
	},
	{
		Name: "privileged-everyone", Severity: High, Short: "an identity that stands for many has power over the directory",
		Kinds: []directory.Kind{directory.KindForeign, directory.KindGroup}, overAll: true,
		wants: wantsPrivilege, gather: privilegedEveryone,
	},
}

// graph is who belongs to the privileged groups. Nesting is resolved from
// each privileged group downwards, once, so that loops do no harm.
type graph struct {
	groups     []directory.Group
	byKey      map[directory.Key]int
	byRID      map[uint32]int // of the domain's own groups
	privileged []int
	unknown    []string // named in the settings and not found
	// above is, for each privileged group and each group nested in it, the
	// next group on the shortest path up.
	above   []map[int]int
	depth   []map[int]int
	members map[directory.Key][]int // who is listed in a group that is, or is nested in, a privileged one
	logons  map[string][]int        // the same by logon name (memberUid)
	partial []string                // privileged groups with members that the source does not show
}

// reach is one privileged group that somebody reaches, and how.
type reach struct {
	group   string
	path    []string // the groups in between, from the account upwards
	primary bool     // the first step is the account's primary group
}

func newGraph(s *directory.Survey, named []string) *graph {
	g := &graph{groups: s.Groups, byKey: map[directory.Key]int{}, byRID: map[uint32]int{}, members: map[directory.Key][]int{}, logons: map[string][]int{}}
	domain := ""
	if sid, err := directory.ParseSID(s.Domain.SID); err == nil {
		domain = sid + "-"
	}
	want := map[directory.Key]string{}
	for _, n := range named {
		want[directory.KeyOf(n)] = n
	}
	for i := range s.Groups {
		one := &s.Groups[i]
		g.byKey[one.Key] = i
		own := domain == "" || strings.HasPrefix(one.SID, domain)
		if own && one.RID != 0 && !directory.IsBuiltinSID(one.SID) && one.Kind == directory.KindGroup {
			g.byRID[one.RID] = i
		}
		_, isNamed := want[one.Key]
		if isNamed || directory.PrivilegedSID(one.SID) && (own || directory.IsBuiltinSID(one.SID)) {
			g.privileged = append(g.privileged, i)
		}
		delete(want, one.Key)
	}
	for _, n := range want {
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
	slices.Sort(g.partial)
	return g
}

// descend finds the groups nested in a privileged one, nearest first. Only
// groups that give rights lead on.
func (g *graph) descend(top int, reached map[int]bool) {
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

// ways returns the groups that somebody is directly in and that lead to a
// privileged one.
func (g *graph) ways(k directory.Key, logon string, primary uint32) (direct []int, byPrimary int) {
	direct = g.members[k]
	if more := g.logons[logon]; len(more) > 0 {
		direct = append(slices.Clone(direct), more...)
	}
	byPrimary = -1
	if i, ok := g.byRID[primary]; ok && primary != 0 {
		byPrimary = i
	}
	return direct, byPrimary
}

// reachedBy returns the privileged groups that an account reaches.
func (g *graph) reachedBy(a *directory.Account) []reach {
	direct, primary := g.ways(a.Key, a.Logon, a.PrimaryGroup)
	return g.reached(direct, primary)
}

// reachedByGroup returns the privileged groups that a group reaches through
// its membership in others.
func (g *graph) reachedByGroup(one *directory.Group) []reach {
	if !one.Security {
		return nil
	}
	return g.reached(g.members[one.Key], -1)
}

func (g *graph) reached(direct []int, primary int) []reach {
	if len(direct) == 0 && primary < 0 {
		return nil
	}
	var all []reach
	for n, top := range g.privileged {
		best, at := -1, 0
		consider := func(i int) {
			d, ok := g.depth[n][i]
			if ok && g.groups[i].Security && (best < 0 || d < at || d == at && g.groups[i].DN < g.groups[best].DN) {
				best, at = i, d
			}
		}
		for _, i := range direct {
			consider(i)
		}
		if primary >= 0 {
			consider(primary)
		}
		if best < 0 {
			continue
		}
		r := reach{group: g.groups[top].Name(), primary: best == primary && !slices.Contains(direct, best)}
		for i := best; i != top; i = g.above[n][i] {
			r.path = append(r.path, g.groups[i].Name())
		}
		all = append(all, r)
	}
	return all
}

// reachEvidence writes what is reached, and how.
func reachEvidence(all []reach) []Evidence {
	var out []Evidence
	for _, r := range all {
		how := "member"
		switch {
		case len(r.path) == 0 && r.primary:
			how = "primary group"
		case r.primary:
			how = "through its primary group " + strings.Join(r.path, " > ")
		case len(r.path) > 0:
			how = "through " + strings.Join(r.path, " > ")
		}
		out = append(out, Evidence{r.group, how})
	}
	return out
}

// wantsPrivilege says why nothing can be said of privilege, "" where it
// can.
func wantsPrivilege(p *pass) string {
	if why := wantsMembers(p); why != "" {
		return why
	}
	if p.Dialect != directory.AD {
		if len(p.set.PrivilegedGroups) == 0 {
			return "the settings name no privileged groups (audit: privileged_groups)"
		}
		if g := p.graph(); len(g.privileged) == 0 {
			return "none of the privileged groups of the settings was read"
		}
		return ""
	}
	if p.Domain.DN == "" {
		return "the entry of the domain itself was not read"
	}
	g := p.graph()
	for _, rid := range []string{"512", "544"} {
		if !slices.ContainsFunc(g.privileged, func(i int) bool { return strings.HasSuffix(g.groups[i].SID, "-"+rid) }) {
			return "the administrators' groups (RID 512 and 544) were not read"
		}
	}
	return ""
}

func privileged(p *pass, a *directory.Account) *Finding {
	reached := p.graph().reachedBy(a)
	if len(reached) == 0 {
		return nil
	}
	f := &Finding{Evidence: reachEvidence(reached)}
	if d := p.Disabled(a, p.asOf); d.Yes {
		f.Evidence = append(f.Evidence, p.disabledEvidence(a, d.By))
	}
	return f
}

func privilegedResidue(p *pass, report func(*directory.Subject, Finding)) {
	g := p.graph()
	mark := Finding{Evidence: []Evidence{{directory.AttrAdminCount.String(), "1"}, {"privileged groups", "none"}}}
	for a := range p.Accounts.All() {
		if a.Kind == directory.KindUser && a.Marked && !a.BuiltIn && len(g.reachedBy(a)) == 0 {
			report(&a.Subject, mark)
		}
	}
	for i := range g.groups {
		one := &g.groups[i]
		if !one.Marked || one.BuiltIn || one.Kind != directory.KindGroup || slices.Contains(g.privileged, i) ||
			one.RID == 516 || one.RID == 517 || one.RID == 521 || len(g.reachedByGroup(one)) > 0 {
			continue
		}
		report(&one.Subject, mark)
	}
}

func privilegedDaily(p *pass, a *directory.Account) *Finding {
	reached := p.graph().reachedBy(a)
	if len(reached) == 0 || p.rules.admin.MatchString(a.Logon) {
		return nil
	}
	mail := a.Text.First(directory.AttrMail)
	if strings.TrimSpace(mail) == "" {
		return nil
	}
	f := p.enabled(a)
	if f != nil {
		f.Evidence = append([]Evidence{{directory.AttrMail.String(), mail}}, reachEvidence(reached)...)
	}
	return f
}

// idleChecks are the signs that nobody uses an account.
var idleChecks = []*Check{byName(activity, "stale"), byName(activity, "never-used"), byName(signIn, "password-old")}

func privilegedIdle(p *pass, a *directory.Account) *Finding {
	reached := p.graph().reachedBy(a)
	if len(reached) == 0 {
		return nil
	}
	var out *Finding
	for _, c := range idleChecks {
		if p.missing(c, a.Kind) != "" {
			continue
		}
		f := c.judge(p, a)
		switch {
		case f == nil:
		case out == nil:
			out = f
			out.Evidence = append([]Evidence{{"idle", c.Name}}, out.Evidence...)
		default:
			out.Evidence[0].Value += ", " + c.Name
			out.Evidence = append(out.Evidence, f.Evidence...)
			if f.Confidence == Sure {
				out.Confidence = Sure
			}
			if f.Since.Before(out.Since) {
				out.Since = f.Since
			}
		}
	}
	if out != nil {
		out.Evidence = append(out.Evidence, reachEvidence(reached)...)
	}
	return out
}

func privilegedEveryone(p *pass, report func(*directory.Subject, Finding)) {
	g := p.graph()
	for i := range g.groups {
		one := &g.groups[i]
		who := directory.Everybody(one.SID)
		if who == "" && one.Kind == directory.KindForeign {
			who = "somebody outside the domain"
		}
		if who == "" {
			continue
		}
		reached := g.reachedByGroup(one)
		if slices.Contains(g.privileged, i) {
			continue // it is named privileged; that everybody is in it is what the settings say
		}
		if len(reached) > 0 {
			report(&one.Subject, Finding{Evidence: append([]Evidence{{"objectSid", one.SID}, {"stands for", who}}, reachEvidence(reached)...)})
		}
	}
}
