package privilege

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// RulesFor are the rules of one directory: of the groups that the settings
// name, those of other directories are left out.
func RulesFor(id source.Identity, named []string) Rules {
	r := Rules{}
	if id.Dialect == directory.AD.Name {
		r.Domain = id.ID
	}
	for _, dn := range named {
		if directory.Under(directory.FoldDN(dn), directory.FoldDN(id.Base)) {
			r.Named = append(r.Named, dn)
		}
	}
	return r
}

// Reader reads entries: a source, or a server.
type Reader interface {
	Select(ctx context.Context, filter string, attributes []string) ([]directory.Entry, error)
	Get(ctx context.Context, dns []string) ([]directory.Entry, error)
}

// Holders are the members of the privileged groups of a directory, and whether
// they can sign in.
type Holders struct {
	graph   *Graph
	dialect *directory.Dialect
	// Judged tells whether the groups could be read at all. On the `ad`
	// schema those of the administrators (RID 512 and 544) must be there.
	Judged  bool
	holders map[directory.Key]*holder
	closed  []string
}

type holder struct {
	groups  []string
	enabled bool
}

// Read reads the groups, and the accounts that reach privileged ones. At says
// for which time it is told whether they can sign in.
func Read(ctx context.Context, from Reader, d *directory.Dialect, rules Rules, at time.Time) (*Holders, error) {
	survey, lists, err := readGroups(ctx, from, d)
	if err != nil {
		return nil, err
	}
	h := newHolders(survey, rules)
	if h.graph.None() {
		return h, nil
	}
	accounts, err := h.graph.candidates(ctx, from, d, lists)
	if err != nil {
		return nil, fmt.Errorf("reading the members of privileged groups: %w", err)
	}
	for i := range accounts {
		a := d.Account(&accounts[i])
		a.Key = directory.KeyOf(a.DN)
		h.add(survey, &a, at)
	}
	return h, nil
}

// Surveyed is what Read finds out, by a survey of everything.
func Surveyed(s *directory.Survey, rules Rules, at time.Time) *Holders {
	h := newHolders(s, rules)
	if !h.graph.None() {
		for a := range s.Accounts.All() {
			h.add(s, a, at)
		}
	}
	for _, i := range h.graph.reached {
		if one := &s.Groups[i]; s.RightsRead && one.Hidden.Overlaps(directory.MemberLists) {
			h.closed = append(h.closed, one.Name())
		}
	}
	return h
}

func newHolders(s *directory.Survey, rules Rules) *Holders {
	g := newGraph(s.Groups, rules)
	return &Holders{
		graph:   g,
		dialect: s.Dialect,
		holders: map[directory.Key]*holder{},
		Judged:  s.Dialect != directory.AD || g.Holds(512) && g.Holds(544),
	}
}

// add takes an account in that reaches privileged groups.
func (h *Holders) add(s *directory.Survey, a *directory.Account, at time.Time) {
	if names := groupsOf(h.graph.Of(a)); len(names) > 0 && a.Kind.IsAccount() {
		h.holders[a.Key] = &holder{groups: names, enabled: s.Enabled(a, at).Yes}
	}
}

// readGroups reads all groups, with the policies that tell whether somebody
// can sign in, and their lists of members as they are spelt.
func readGroups(
	ctx context.Context, from Reader, d *directory.Dialect,
) (*directory.Survey, map[directory.Key][]string, error) {
	found, err := from.Select(
		ctx,
		"(|"+source.GroupFilter+"(objectClass=foreignSecurityPrincipal)(objectClass=pwdPolicy)(objectClass=msDS-PasswordSettings)(objectClass=domainDNS))",
		d.Attributes(directory.AttrSet{}),
	)
	if err != nil {
		return nil, nil, fmt.Errorf("reading the groups: %w", err)
	}
	survey := directory.NewSurvey(d)
	part := survey.NewPart(len(found), directory.AttrSet{})
	lists := map[directory.Key][]string{}
	for i := range found {
		e := &found[i]
		part.Add(d, e)
		lists[directory.KeyOf(e.DN)] = slices.Concat(e.Get("member"), e.Get("uniqueMember"))
	}
	survey.Merge(part)
	return survey, lists, nil
}

// candidates reads the entries that may reach a privileged group: those that
// are listed, by name or by logon name, and those whose primary group it is.
func (g *Graph) candidates(
	ctx context.Context, from Reader, d *directory.Dialect, lists map[directory.Key][]string,
) ([]directory.Entry, error) {
	names := map[string]string{} // by folded DN
	var terms []string
	for _, i := range g.reached {
		one := &g.groups[i]
		for _, dn := range lists[one.Key] {
			if _, isGroup := g.byKey[directory.KeyOf(dn)]; !isGroup {
				names[directory.FoldDN(dn)] = dn
			}
		}
		for _, logon := range one.Logons {
			terms = append(terms, "(uid="+source.EscapeFilter(logon)+")")
		}
		if one.Posix && one.GID != "" {
			terms = append(terms, "(gidNumber="+source.EscapeFilter(one.GID)+")")
		}
		if d == directory.AD && one.RID != 0 && g.byRID[one.RID] == i {
			terms = append(terms, "(primaryGroupID="+strconv.FormatUint(uint64(one.RID), 10)+")")
		}
	}
	var all []directory.Entry
	if len(names) > 0 {
		dns := slices.Sorted(maps.Values(names))
		found, err := from.Get(ctx, dns)
		if err != nil {
			return nil, err
		}
		all = append(all, found...)
	}
	for chunk := range slices.Chunk(terms, source.AtOnce(from, 50, len(terms))) {
		found, err := from.Select(ctx, "(|"+strings.Join(chunk, "")+")", d.Attributes(directory.AttrSet{}))
		if err != nil {
			return nil, err
		}
		all = append(all, found...)
	}
	return all, nil
}

func groupsOf(reached []Reach) []string {
	var names []string
	for _, r := range reached {
		if !slices.Contains(names, r.Group) {
			names = append(names, r.Group)
		}
	}
	slices.Sort(names)
	return names
}

// Of returns the names of the privileged groups that an entry reaches: as an
// account, or as a group by its membership in others, or since it is one.
func (h *Holders) Of(_ context.Context, e *directory.Entry) ([]string, error) {
	key := directory.KeyOf(e.DN)
	if i, ok := h.graph.byKey[key]; ok {
		return h.graph.leadsTo(i), nil
	}
	a := h.dialect.Account(e)
	a.Key = key
	return groupsOf(h.graph.Of(&a)), nil
}

// LeadsTo returns the names of the privileged groups that the members of a
// group are in by it.
func (h *Holders) LeadsTo(_ context.Context, group string) ([]string, error) {
	i, ok := h.graph.byKey[directory.KeyOf(group)]
	if !ok {
		return nil, nil
	}
	return h.graph.leadsTo(i), nil
}

func (g *Graph) leadsTo(i int) []string {
	names := groupsOf(g.OfGroup(&g.groups[i]))
	if own := g.groups[i].Name(); slices.Contains(g.privileged, i) && !slices.Contains(names, own) {
		names = append(names, own)
		slices.Sort(names)
	}
	return names
}

// Unknown are the groups that the settings name and that were not read.
func (h *Holders) Unknown() []string { return h.graph.Unknown() }

// See asks the server that was read which groups are closed.
func (h *Holders) See(ctx context.Context, from *source.Server) error {
	var names []string
	for _, i := range h.graph.reached {
		if one := &h.graph.groups[i]; one.Kind == directory.KindGroup {
			names = append(names, one.DN)
		}
	}
	closed, err := from.Closed(ctx, names)
	h.closed = nil
	for _, dn := range closed {
		h.closed = append(h.closed, h.graph.groups[h.graph.byKey[directory.KeyOf(dn)]].Name())
	}
	return err
}

// Closed are the privileged groups, and those that lead there, of which whoever reads may
// not see who is in them: nobody can tell then who is privileged. Of a server See finds
// them out, of a survey the rights that were written down with it.
func (h *Holders) Closed() []string { return h.closed }

// Partial are the privileged groups whose members were not read whole.
func (h *Holders) Partial() []string { return h.graph.Partial() }

// Going is an account that some privileged groups are about to lose, as a
// member or as one that can sign in.
type Going struct {
	DN     string
	Groups []string
}

// WouldEmpty returns the names of the privileged groups that would be left
// without an enabled member. One whose members were not all read counts as one
// of these, since nobody can tell.
func (h *Holders) WouldEmpty(going []Going) []string {
	gone := map[directory.Key][]string{}
	for _, g := range going {
		key := directory.KeyOf(g.DN)
		gone[key] = append(gone[key], g.Groups...)
	}
	touched, left := map[string]bool{}, map[string]bool{}
	for key, one := range h.holders {
		if !one.enabled {
			continue
		}
		for _, name := range one.groups {
			if slices.Contains(gone[key], name) {
				touched[name] = true
			} else {
				left[name] = true
			}
		}
	}
	for _, groups := range gone {
		for _, name := range groups {
			if slices.Contains(h.graph.partial, name) {
				touched[name], left[name] = true, false
			}
		}
	}
	var names []string
	for name := range touched {
		if !left[name] {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}
