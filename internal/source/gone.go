package source

import (
	"context"
	"maps"
	"slices"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
	"yardbroom/internal/kept"
)

// findGone compares which entries there are with those that there were, where nobody says
// what was deleted.
func (f *follower) findGone(ctx context.Context) error {
	s := f.server
	if f.seesGone {
		return nil
	}
	if f.synced != nil && !f.synced.presents && !f.unmarked {
		return f.placesAsBefore(ctx)
	}
	there := make(map[uint64]bool, f.old.Entries())
	f.old.Identities(func(identity, _ uint64) { there[identity] = false })
	if f.synced != nil && !f.unmarked {
		for id := range f.synced.changed {
			there[kept.Hash(id)] = true
		}
		for hash, id := range f.synced.present {
			if _, known := there[hash]; !known {
				f.want(id, "") // it may be seen only now
			}
			there[hash] = true
		}
		return f.missing(ctx, there)
	}
	elsewhere := f.elsewhere()
	names := map[uint64]directory.Entry{}
	_, err := s.Search(ctx, Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Filter: s.everything(""),
		Attributes: []string{s.Dialect.Identity.String()}}, func(page []directory.Entry) error {
		for i := range page {
			id := f.key(&page[i])
			hash := kept.Hash(id)
			if _, known := there[hash]; !known || elsewhere(hash, page[i].DN) {
				names[hash] = page[i]
			}
			there[hash] = true
		}
		return nil
	})
	if err != nil {
		return err
	}
	for hash := range names {
		e := names[hash]
		f.want(f.key(&e), e.DN)
	}
	return f.missing(ctx, there)
}

// elsewhere tells, where it may be unsaid, of an entry by the hash of its identity that it
// stood under another name.
func (f *follower) elsewhere() func(identity uint64, dn string) bool {
	if !f.unmarked {
		return func(uint64, string) bool { return false }
	}
	names := make(map[uint64]uint64, f.old.Entries())
	f.old.Identities(func(identity, name uint64) { names[identity] = name })
	return func(identity uint64, dn string) bool { return names[identity] != kept.Hash(directory.FoldDN(dn)) }
}

// placesAsBefore is an error where an organizational unit is shown that was not, although
// nobody says that it has changed: rights that the server keeps elsewhere are others now,
// and all below may be shown now too.
func (f *follower) placesAsBefore(ctx context.Context) error {
	unsaid := map[uint64]string{}
	err := f.search(ctx, f.server, Query{Filter: kindFilters[directory.KindOU]}, func(e *directory.Entry) {
		id := f.key(e)
		if _, told := f.told[id]; !told {
			unsaid[kept.Hash(id)] = e.DN
		}
	})
	if err != nil || len(unsaid) == 0 {
		return err
	}
	f.old.Identities(func(identity, _ uint64) { delete(unsaid, identity) })
	if len(unsaid) > 0 {
		dn := slices.Min(slices.Collect(maps.Values(unsaid)))
		return wholly("%s was not visible before, and the server does not say that it has changed", dn)
	}
	return nil
}

// missing asks for those of whose identities, by hash, none was seen.
func (f *follower) missing(ctx context.Context, there map[uint64]bool) error {
	for id := range f.fixed {
		there[kept.Hash(id)] = true
	}
	gone := map[uint64]bool{}
	for hash, is := range there {
		if !is {
			gone[hash] = true
		}
	}
	if err := f.bounded(len(gone)); err != nil {
		return err
	}
	found, err := f.old.Identified(ctx, gone, func(e *directory.Entry) bool { return gone[kept.Hash(f.key(e))] })
	f.wantAll(found)
	return err
}
