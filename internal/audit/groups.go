package audit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
)

var (
	groupKind  = []directory.Kind{directory.KindGroup}
	policyKind = []directory.Kind{directory.KindPolicyContainer}
	unitKind   = []directory.Kind{directory.KindOU}
)

var groupChecks = []*Check{
	{
		Name: "group-empty", Severity: Low, Short: "group without members",
		because: []string{"empty group"},
		Suggest: []string{"delete"}, Kinds: groupKind, overAll: true, overEntries: true, Guard: restsOnNothing,
		needs: func(d *directory.Dialect) [][]directory.AttrID { return [][]directory.AttrID{{d.Created}} },
		wants: func(p *pass) string {
			if why := wantsMembers(p); why != "" && p.Count[directory.KindGroup] > 0 {
				return why
			}
			if p.Dialect == directory.AD && p.Accounts.Len() > 0 && !p.showsOnAccounts(directory.AttrPrimaryGroupID) {
				return "no account shows primaryGroupID"
			}
			return ""
		},
		gather: groupEmpty,
	},
	{
		Name: "group-loop", Severity: Low, Short: "group nested in itself",
		Kinds: groupKind, overAll: true, wants: wantsMembers, gather: groupLoop,
	},
	{
		Name: "policy-unlinked", Severity: Low, Short: "group policy that is linked nowhere",
		Suggest: []string{"delete"}, Kinds: policyKind, overAll: true, overUnits: true, Guard: restsOnNothing,
		wants: func(p *pass) string {
			switch {
			case p.Count[directory.KindPolicyContainer] == 0:
				return ""
			case p.Domain.DN == "":
				return "the entry of the domain itself was not read"
			case p.Count[directory.KindOU] == 0:
				return "no OU was read"
			case p.Sites == 0 && p.Server != "":
				return "the sites, which policies may be linked to, cannot be read"
			case !slices.ContainsFunc(p.PolicyLinks, func(l directory.PolicyLink) bool { return l.Links != "" }):
				return "no entry shows gPLink"
			}
			return ""
		},
		gather: policyUnlinked,
	},
	{
		Name: "ou-empty", Severity: Low, Short: "empty OU",
		Suggest: []string{"delete"}, Kinds: unitKind, overAll: true, overChildren: true, Guard: restsOnNothing,
		absent: func(*pass) []directory.AttrID { return []directory.AttrID{directory.AttrGPLink} },
		needs:  func(d *directory.Dialect) [][]directory.AttrID { return [][]directory.AttrID{{d.Created}} },
		gather: ouEmpty,
	},
	{
		Name: "dangling-reference", Severity: Low, Short: "reference to an entry that is gone, or to a disabled manager",
		Kinds: anything, overAll: true,
		gather: danglingReference,
	},
	{
		Name: "unreadable-value", Severity: Medium, Short: "value that cannot be read, or an impossible time",
		Kinds: anything, gather: unreadableValue,
	},
}

// showsOnAccounts tells whether an account of any kind carries an attribute.
func (p *pass) showsOnAccounts(id directory.AttrID) bool {
	return slices.ContainsFunc(accounts, func(k directory.Kind) bool { return p.Shows(k, id) })
}

func groupEmpty(p *pass, report func(*directory.Subject, Finding)) {
	placeholders := p.placeholders()
	gidsShown := p.showsOnAccounts(directory.AttrGIDNumber)
	for i := range p.Groups {
		g := &p.Groups[i]
		if g.Kind != directory.KindGroup || g.BuiltIn || g.Dynamic || g.Incomplete ||
			!atOrBefore(g.Created, p.lines.fresh) {
			continue
		}
		if p.Dialect == directory.AD && (g.RID < 1000 || p.PrimaryOfSomebody(g.RID)) {
			continue
		}
		if g.Posix && (!gidsShown || p.GIDInUse(g.GID)) {
			continue
		}
		others := slices.ContainsFunc(g.Members, func(k directory.Key) bool { return k != g.Key && !placeholders[k] })
		if p.Dialect == directory.AD {
			others = len(g.Members) > 0
		}
		if others || len(g.Logons) > 0 {
			continue
		}
		f := Finding{Evidence: []Evidence{{"members", "none"}, evidence(g.Created)}}
		if len(g.Members) > 0 {
			f.Evidence[0].Value = "only itself or a placeholder"
		}
		report(&g.Subject, f)
	}
}

// placeholders are the names that stand for nobody in groups which must have a
// member.
func (p *pass) placeholders() map[directory.Key]bool {
	all := map[directory.Key]bool{directory.KeyOf(""): true}
	for _, dn := range p.set.PlaceholderMembers {
		all[directory.KeyOf(dn)] = true
	}
	return all
}

// groupLoop finds the groups that are members of themselves by the strongly
// connected components of the nesting (Tarjan), in linear time.
func groupLoop(p *pass, report func(*directory.Subject, Finding)) {
	byKey := map[directory.Key]int{}
	for i := range p.Groups {
		byKey[p.Groups[i].Key] = i
	}
	inside := make([][]int, len(p.Groups)) // groups that are members of each group
	for i := range p.Groups {
		for _, k := range p.Groups[i].Members {
			if n, ok := byKey[k]; ok {
				// The only member of a groupOfNames may have to be itself.
				if n != i || p.Dialect == directory.AD || len(p.Groups[i].Members) > 1 {
					inside[i] = append(inside[i], n)
				}
			}
		}
		slices.SortFunc(inside[i], func(a, b int) int { return strings.Compare(p.Groups[a].DN, p.Groups[b].DN) })
	}
	for _, component := range components(inside) {
		in := map[int]bool{}
		for _, i := range component {
			in[i] = true
		}
		slices.SortFunc(component, func(a, b int) int { return strings.Compare(p.Groups[a].DN, p.Groups[b].DN) })
		told := map[int]bool{}
		for _, i := range component {
			if told[i] {
				continue
			}
			loop := loopThrough(i, inside, in)
			for at, n := range loop {
				if g := &p.Groups[n]; !told[n] && !g.BuiltIn {
					told[n] = true
					report(&g.Subject, Finding{Evidence: []Evidence{{"loop", p.loopText(loop, at)}}})
				}
			}
		}
	}
}

// loopText writes a loop from one of its groups on, the first of many.
func (p *pass) loopText(loop []int, from int) string {
	var names []string
	for i := range min(len(loop), mostListed) {
		names = append(names, p.Groups[loop[(from+i)%len(loop)]].Name())
	}
	if len(loop) > mostListed {
		names = append(names, fmt.Sprintf("(%d more)", len(loop)-mostListed))
	}
	return strings.Join(append(names, p.Groups[loop[from]].Name()), " > ")
}

// components returns the strongly connected components that hold a loop.
func components(inside [][]int) [][]int {
	const unseen = -1
	var all [][]int
	index, low := make([]int, len(inside)), make([]int, len(inside))
	onStack, next := make([]bool, len(inside)), make([]int, len(inside))
	for i := range index {
		index[i] = unseen
	}
	counter := 0
	var stack, path []int
	for root := range inside {
		if index[root] != unseen {
			continue
		}
		path = append(path[:0], root)
		for len(path) > 0 {
			i := path[len(path)-1]
			if index[i] == unseen {
				index[i], low[i] = counter, counter
				counter++
				stack, onStack[i] = append(stack, i), true
			}
			if next[i] < len(inside[i]) {
				n := inside[i][next[i]]
				next[i]++
				if index[n] == unseen {
					path = append(path, n)
				} else if onStack[n] {
					low[i] = min(low[i], index[n])
				}
				continue
			}
			path = path[:len(path)-1]
			if len(path) > 0 {
				up := path[len(path)-1]
				low[up] = min(low[up], low[i])
			}
			if low[i] != index[i] {
				continue
			}
			var component []int
			for {
				top := stack[len(stack)-1]
				stack, onStack[top] = stack[:len(stack)-1], false
				component = append(component, top)
				if top == i {
					break
				}
			}
			if len(component) > 1 || slices.Contains(inside[i], i) {
				all = append(all, component)
			}
		}
	}
	return all
}

// loopThrough returns a shortest loop from a group to itself, by breadth,
// within its component.
func loopThrough(start int, inside [][]int, in map[int]bool) []int {
	from := map[int]int{}
	for level := []int{start}; len(level) > 0; {
		var next []int
		for _, i := range level {
			for _, n := range inside[i] {
				if n == start {
					var loop []int
					for at := i; at != start; at = from[at] {
						loop = append(loop, at)
					}
					slices.Reverse(loop)
					return append([]int{start}, loop...)
				}
				if _, seen := from[n]; !seen && in[n] {
					from[n] = i
					next = append(next, n)
				}
			}
		}
		level = next
	}
	return []int{start}
}

// defaultPolicies are the two that every domain has, whether linked or not.
var defaultPolicies = []string{"{31B2F340-016D-11D2-945F-00C04FB984F9}", "{6AC1786C-016F-11D2-945F-00C04FB984F9}"}

func policyUnlinked(p *pass, report func(*directory.Subject, Finding)) {
	enabled, off := map[string]bool{}, map[string][]string{}
	for i := range p.PolicyLinks {
		for _, l := range directory.ParsePolicyLinks(p.PolicyLinks[i].Links) {
			if l.Disabled {
				off[l.GUID] = append(off[l.GUID], p.PolicyLinks[i].DN)
			} else {
				enabled[l.GUID] = true
			}
		}
	}
	closed := p.hidingLinks()
	for i := range p.GroupPolicies {
		g := &p.GroupPolicies[i]
		guid := strings.ToUpper(directory.LeafValue(g.DN))
		if enabled[guid] || slices.Contains(defaultPolicies, guid) {
			continue
		}
		f := Finding{Evidence: []Evidence{{"displayName", cmp.Or(g.Title, absent)}, {"gPLink", "never linked"}}}
		if at := off[guid]; len(at) > 0 {
			f.Evidence[1].Value = "only disabled links: " + listed(at)
		}
		if p.Sites == 0 {
			f.Confidence = Likely
		}
		if len(closed) > 0 {
			f.Confidence, f.Hidden = Likely, true
			f.Evidence = append(f.Evidence, Evidence{"gPLink " + p.hiddenWord(), listed(closed)})
		}
		report(&g.Subject, f)
	}
}

// hidingLinks are the entries that policies may be linked to and that do not
// show it.
func (p *pass) hidingLinks() (dns []string) {
	for i := range p.Units {
		if p.Units[i].Hidden.Has(directory.AttrGPLink) {
			dns = append(dns, p.Units[i].DN)
		}
	}
	for i := range p.PolicyLinks {
		if l := &p.PolicyLinks[i]; l.Kind != directory.KindOU && l.Hidden.Has(directory.AttrGPLink) {
			dns = append(dns, l.DN)
		}
	}
	slices.Sort(dns)
	return dns
}

func ouEmpty(p *pass, report func(*directory.Subject, Finding)) {
	linked := map[directory.Key]bool{}
	for i := range p.PolicyLinks {
		for _, l := range directory.ParsePolicyLinks(p.PolicyLinks[i].Links) {
			if !l.Disabled {
				linked[p.PolicyLinks[i].Key] = true
			}
		}
	}
	parking := map[directory.Key]bool{}
	for _, dn := range p.parking {
		parking[directory.KeyOf(dn)] = true
	}
	for i := range p.Units {
		u := &p.Units[i]
		if u.BuiltIn || p.HasBelow(u.Key) || linked[u.Key] || parking[u.Key] || p.IsWellKnown(u.Key) ||
			!atOrBefore(u.Created, p.lines.fresh) {
			continue
		}
		report(&u.Subject, Finding{Evidence: []Evidence{{"entries below", "none"}, evidence(u.Created)}})
	}
}

func danglingReference(p *pass, report func(*directory.Subject, Finding)) {
	if p.Dialect.KeepsLinks {
		for i := range p.References {
			r := &p.References[i]
			report(r.From,
				Finding{Confidence: Sure, Evidence: []Evidence{{r.Attr.String(), r.Name}, {"entry", "it was deleted"}}})
		}
	} else {
		placeholders := p.placeholders()
		for _, r := range p.Unresolved() {
			if placeholders[r.Key] && (r.Attr == directory.AttrMember || r.Attr == directory.AttrUniqueMember) {
				continue
			}
			f := Finding{Confidence: Likely, Evidence: []Evidence{{r.Attr.String(), r.Name}, {"entry", "there is none in what was read"}}}
			if p.Absent[r.Key] {
				f.Confidence, f.Evidence[1].Value = Sure, "the server says that there is none"
			}
			report(r.From, f)
		}
	}
	info := Info
	off := p.disabled()
	for a := range p.Accounts.All() {
		boss := off[a.Manager]
		if boss == nil || a.BuiltIn || a.Kind == directory.KindResource || a.Kind == directory.KindTrust {
			continue
		}
		d := p.Disabled(boss, p.asOf)
		report(&a.Subject, Finding{severity: &info, Confidence: confidence(d),
			Evidence: []Evidence{
				{directory.AttrManager.String(), boss.DN},
				{"who is disabled", p.disabledEvidence(boss, d.By).Value},
			}})
	}
}

func unreadableValue(p *pass, report func(*directory.Subject, Finding)) {
	for i := range p.Unreadable {
		u := &p.Unreadable[i]
		if !u.BuiltIn && u.Kind != directory.KindResource && u.Kind != directory.KindTrust {
			report(&u.Subject, Finding{Evidence: []Evidence{{u.Attr.String(), fmt.Sprintf("%q", clipped(u.Value))}}})
		}
	}
	now := p.asOf // a time between an earlier "as of" and the reading itself is no error
	if p.Taken.After(now) {
		now = p.Taken
	}
	for a := range p.Accounts.All() {
		if a.BuiltIn || a.Kind == directory.KindResource || a.Kind == directory.KindTrust {
			continue
		}
		for _, m := range a.Times() {
			if m.Known() && m.Time().After(now) {
				report(&a.Subject,
					Finding{Evidence: []Evidence{evidence(m), {"as of", now.UTC().Format(time.RFC3339)}}})
			}
		}
	}
}

// clipped keeps evidence readable, whatever somebody has put into a value.
func clipped(v string) string {
	const most = 1000
	if len(v) <= most {
		return v
	}
	return strings.ToValidUTF8(v[:most], "") + "…"
}
