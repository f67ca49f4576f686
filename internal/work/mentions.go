package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/listing"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
)

// Mention is something of a directory that the settings name, and whether it is there.
type Mention struct {
	Setting string // the keys that lead to it
	Name    string
	Wrong   string // why it is not what was meant, "" where it is
}

// mention is one that is to be looked up.
type mention struct {
	setting, name string
	look          func(ctx context.Context, l *lookup, name string) (wrong string, err error)
}

// lookup is where mentions are looked up.
type lookup struct {
	s       *Session
	p       *Place
	dialect *directory.Dialect
	people  []roster.Person // of the last roster
	roster  bool            // there is one
}

// Mentions looks up every entry, group, attribute, account and person that the settings
// name for a yard.
func (s *Session) Mentions(ctx context.Context, p *Place) (all []Mention, err error) {
	l := &lookup{s: s, p: p}
	if _, l.dialect, err = p.Dialect(ctx); err != nil {
		return nil, err
	}
	list, err := s.keptRoster(ctx, p)
	if err != nil {
		return nil, err
	}
	if list != nil {
		l.roster, l.people = true, s.peopleOn(list, s.now(), p)
	}
	seen := map[string]string{} // what was found of a name, by how it was looked up
	for _, m := range s.mentionsOf(p) {
		key := fmt.Sprintf("%p %s", m.look, m.name)
		wrong, known := seen[key]
		if !known {
			if wrong, err = m.look(ctx, l, m.name); err != nil {
				return nil, err
			}
			seen[key] = wrong
		}
		all = append(all, Mention{m.setting, m.name, wrong})
	}
	return all, nil
}

// mentionsOf collects what the settings name for a yard.
func (s *Session) mentionsOf(p *Place) []mention {
	m := &mentions{s: s, p: p}
	m.ofYard(&p.Yard)
	m.ofChecks(&s.Settings.Audit)
	m.add(lookAttribute, "roster: id_attributes", s.Settings.Roster.IDAttributes...)
	m.add(lookAttribute, "roster: location_attribute", s.Settings.Roster.LocationAttribute)
	m.add(lookAttribute, "batch: attributes", s.Settings.Batch.Attributes...)
	for i := range s.Settings.Exemptions {
		m.ofExemption("exemptions: "+strconv.Itoa(i+1), &s.Settings.Exemptions[i].Match)
	}
	for _, name := range slices.Sorted(maps.Keys(s.Settings.Rounds)) {
		if r := s.Settings.Rounds[name]; slices.Contains(r.Yards, p.Name) || len(r.Yards) == 0 && p.Name == s.Settings.Default {
			m.ofRound("rounds: "+name, &r)
		}
	}
	for i := range s.Settings.Ladders {
		if one := &s.Settings.Ladders[i]; cmp.Or(one.Yard, s.Settings.Default) == p.Name {
			m.ofLadder("ladders: "+one.Name, one)
		}
	}
	return m.all
}

// mentions collects what the settings name for a yard.
type mentions struct {
	s   *Session
	p   *Place
	all []mention
}

func (m *mentions) add(look func(context.Context, *lookup, string) (string, error), setting string, names ...string) {
	for _, name := range names {
		if name != "" {
			m.all = append(m.all, mention{setting, name, look})
		}
	}
}

// here tells whether a name is one of the yard; of another one they are looked up there.
func (m *mentions) here(dn string) bool { return dn == "" || m.s.isBelow(m.p, dn) }

func (m *mentions) ofFilter(setting string, f *settings.Filter) {
	if f == nil {
		return
	}
	m.add(lookContainer, setting+": under", append([]string{f.Under}, f.NotUnder...)...)
	m.add(lookAttribute, setting+": filter", filterAttributes(f.Filter)...)
	m.add(lookGroup, setting+": where: member_of", f.Where.MemberOf)
}

func (m *mentions) ofYard(y *settings.Yard) {
	m.add(lookEntry, "scope", y.Scope...)
	m.add(lookEntry, "leave_out", y.LeaveOut...)
	m.add(lookEntry, "default_policy", y.DefaultPolicy)
}

func (m *mentions) ofChecks(a *settings.Audit) {
	for _, one := range []struct {
		setting string
		dns     []string
	}{{"audit: parking", a.Parking}, {"audit: privileged_groups", a.PrivilegedGroups}, {"audit: placeholder_members", a.PlaceholderMembers}} {
		for _, dn := range one.dns {
			if m.here(dn) {
				m.add(lookEntry, one.setting, dn)
			}
		}
	}
	m.add(lookAttribute, "audit: compare", a.Compare...)
	m.add(lookAttribute, "audit: required", a.Required...)
	m.add(lookAttribute, "audit: patterns", slices.Sorted(maps.Keys(a.Patterns))...)
	m.add(lookAttribute, "audit: values", slices.Sorted(maps.Keys(a.Values))...)
	m.add(lookAttribute, "audit: start_attribute", a.StartAttribute)
	for _, name := range slices.Sorted(maps.Keys(a.Filters)) {
		f := a.Filters[name]
		m.ofFilter("audit: filters: "+name, &f)
	}
}

func (m *mentions) ofExemption(at string, e *settings.Match) {
	if m.here(e.DN) && m.here(e.Subtree) {
		m.add(lookEntry, at, e.DN, e.Subtree)
	}
	m.add(lookAccount, at, e.Account)
	m.add(lookPerson, at+": person", e.Person)
	m.add(lookAttribute, at+": filter", filterAttributes(e.Filter)...)
}

func (m *mentions) ofRound(of string, r *settings.Round) {
	for i := range r.Steps {
		at := fmt.Sprintf("%s: steps: %d", of, i+1)
		if do := r.Steps[i].Stage; do != nil {
			m.add(lookContainer, at+": to", do.To)
			m.add(lookGroup, at+": groups", do.Groups...)
			m.add(lookAttribute, at+": attribute", do.Attr)
			m.ofFilter(at+": of", do.Of)
		}
		if list := r.Steps[i].List; list != nil {
			m.ofFilter(at+": of", &list.Filter)
			shown := listing.Query{Columns: list.Columns}
			m.add(lookAttribute, at+": columns", shown.Attributes()...)
		}
	}
	for i := range r.Tell {
		m.add(lookEntry, fmt.Sprintf("%s: tell: %d: under", of, i+1), r.Tell[i].Under...)
	}
}

func (m *mentions) ofLadder(of string, l *settings.Ladder) {
	m.add(lookEntry, of+": leave_out", l.LeaveOut...)
	m.add(lookAttribute, of+": language", l.Language)
	m.ofFilter(of+": of", l.Of)
	for i := range l.Rungs {
		r := &l.Rungs[i]
		at := of + ": " + r.Name
		m.add(lookContainer, at+": to", r.To)
		m.add(lookGroup, at+": groups", r.Groups...)
		m.add(lookAttribute, at+": attribute", r.Attr)
	}
}

// isBelow tells whether a name stands below the top of a place.
func (s *Session) isBelow(p *Place, dn string) bool {
	server, live := p.Server()
	return !live || directory.Under(directory.FoldDN(dn), directory.FoldDN(server.Top()))
}

func lookEntry(ctx context.Context, l *lookup, dn string) (string, error) {
	found, err := l.p.Get(ctx, []string{dn})
	if err == nil && len(found) == 0 {
		return "there is no such entry, or it is not shown", nil
	}
	return "", err
}

func lookContainer(ctx context.Context, l *lookup, name string) (string, error) {
	dn, err := containerCalled(ctx, l.p, name)
	if err != nil {
		return asWrong(err)
	}
	return lookEntry(ctx, l, dn)
}

func lookGroup(ctx context.Context, l *lookup, name string) (string, error) {
	_, err := groupCalled(ctx, l.p, name)
	return asWrong(err)
}

func lookAttribute(ctx context.Context, l *lookup, name string) (string, error) {
	known, err := attributeKnown(ctx, l.p, l.dialect, directory.PlainName(name))
	if err == nil && !known {
		return unknownAttribute(l.p, l.dialect, name), nil
	}
	return "", err
}

func lookAccount(ctx context.Context, l *lookup, name string) (string, error) {
	found, err := called(ctx, l.p, name, false)
	if err == nil && len(found) == 0 {
		return "no entry is called so", nil
	}
	return "", err
}

func lookPerson(_ context.Context, l *lookup, id string) (string, error) {
	switch {
	case !l.roster:
		return "no roster of this yard is kept to look for the person in; \"yardbroom reconcile --roster FILE\" keeps one", nil
	case !slices.ContainsFunc(l.people, func(who roster.Person) bool { return strings.EqualFold(who.Values[roster.PersonID], id) }):
		return "the roster has no person with this id", nil
	}
	return "", nil
}

// asWrong is what is wrong with a request, where that is all that an error says.
func asWrong(err error) (string, error) {
	if wrong := (RequestError{}); errors.As(err, &wrong) {
		return wrong.Error(), nil
	}
	return "", err
}
