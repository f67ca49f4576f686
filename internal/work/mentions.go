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
func (s *Session) mentionsOf(p *Place) (all []mention) {
	add := func(look func(context.Context, *lookup, string) (string, error), setting string, names ...string) {
		for _, name := range names {
			if name != "" {
				all = append(all, mention{setting, name, look})
			}
		}
	}
	filtered := func(setting string, f *settings.Filter) {
		if f == nil {
			return
		}
		add(lookContainer, setting+": under", append([]string{f.Under}, f.NotUnder...)...)
		add(lookAttribute, setting+": filter", filterAttributes(f.Filter)...)
		add(lookGroup, setting+": where: member_of", f.Where.MemberOf)
	}
	set, yard := s.Settings, &p.Yard
	here := func(dn string) bool { return dn == "" || s.isBelow(p, dn) }
	add(lookEntry, "scope", yard.Scope...)
	add(lookEntry, "leave_out", yard.LeaveOut...)
	add(lookEntry, "default_policy", yard.DefaultPolicy)
	for _, one := range []struct {
		setting string
		dns     []string
	}{{"audit: parking", set.Audit.Parking}, {"audit: privileged_groups", set.Audit.PrivilegedGroups}, {"audit: placeholder_members", set.Audit.PlaceholderMembers}} {
		for _, dn := range one.dns {
			if here(dn) { // of another yard they are looked up there
				add(lookEntry, one.setting, dn)
			}
		}
	}
	add(lookAttribute, "audit: compare", set.Audit.Compare...)
	add(lookAttribute, "audit: required", set.Audit.Required...)
	add(lookAttribute, "audit: patterns", slices.Sorted(maps.Keys(set.Audit.Patterns))...)
	add(lookAttribute, "audit: values", slices.Sorted(maps.Keys(set.Audit.Values))...)
	add(lookAttribute, "audit: start_attribute", set.Audit.StartAttribute)
	add(lookAttribute, "roster: id_attributes", set.Roster.IDAttributes...)
	add(lookAttribute, "roster: location_attribute", set.Roster.LocationAttribute)
	add(lookAttribute, "batch: attributes", set.Batch.Attributes...)
	for _, name := range slices.Sorted(maps.Keys(set.Audit.Filters)) {
		f := set.Audit.Filters[name]
		filtered("audit: filters: "+name, &f)
	}
	for i := range set.Exemptions {
		e, at := &set.Exemptions[i].Match, "exemptions: "+strconv.Itoa(i+1)
		if here(e.DN) && here(e.Subtree) {
			add(lookEntry, at, e.DN, e.Subtree)
		}
		add(lookAccount, at, e.Account)
		add(lookPerson, at+": person", e.Person)
		add(lookAttribute, at+": filter", filterAttributes(e.Filter)...)
	}
	for _, name := range slices.Sorted(maps.Keys(set.Rounds)) {
		r := set.Rounds[name]
		if !slices.Contains(r.Yards, p.Name) && (len(r.Yards) > 0 || p.Name != set.Default) {
			continue
		}
		for i := range r.Steps {
			at := fmt.Sprintf("rounds: %s: steps: %d", name, i+1)
			if do := r.Steps[i].Stage; do != nil {
				add(lookContainer, at+": to", do.To)
				add(lookGroup, at+": groups", do.Groups...)
				add(lookAttribute, at+": attribute", do.Attr)
				filtered(at+": of", do.Of)
			}
			if list := r.Steps[i].List; list != nil {
				filtered(at+": of", &list.Filter)
				shown := listing.Query{Columns: list.Columns}
				add(lookAttribute, at+": columns", shown.Attributes()...)
			}
		}
		for i := range r.Tell {
			add(lookEntry, fmt.Sprintf("rounds: %s: tell: %d: under", name, i+1), r.Tell[i].Under...)
		}
	}
	for i := range set.Ladders {
		one := &set.Ladders[i]
		if cmp.Or(one.Yard, set.Default) != p.Name {
			continue
		}
		at := "ladders: " + one.Name
		add(lookEntry, at+": leave_out", one.LeaveOut...)
		add(lookAttribute, at+": language", one.Language)
		filtered(at+": of", one.Of)
		for j := range one.Rungs {
			r := &one.Rungs[j]
			at := at + ": " + r.Name
			add(lookContainer, at+": to", r.To)
			add(lookGroup, at+": groups", r.Groups...)
			add(lookAttribute, at+": attribute", r.Attr)
		}
	}
	return all
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
