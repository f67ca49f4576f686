package source

import (
	"context"
	"slices"

	"yardbroom/internal/directory"
)

// backLinks are the attributes that a server fills in with what names an entry, and counts as
// no change of it.
func backLinks(d *directory.Dialect) []string {
	if d == directory.AD {
		return []string{"memberOf", "directReports", "managedObjects"}
	}
	return []string{"memberOf"}
}

// findUnseen asks whom entries name that are not shown, such as groups in a container that
// is hidden: nothing tells when they do so newly, or no longer.
func (f *follower) findUnseen(ctx context.Context) error {
	unseen := map[string]bool{}
	for _, name := range f.since.Mark.Unseen {
		unseen[name] = true
	}
	if len(unseen) > mostUnseen {
		return wholly("entries name %d groups or managers that are hidden, more than are asked about", len(unseen))
	}
	mentioning, err := f.old.Mentioning(ctx, unseen)
	if err != nil {
		return err
	}
	links := backLinks(f.server.Dialect)
	named := func(e *directory.Entry) bool {
		return slices.ContainsFunc(links, func(attr string) bool {
			return slices.ContainsFunc(e.Get(attr), func(v string) bool { return unseen[directory.FoldDN(v)] })
		})
	}
	before := map[string]*directory.Entry{}
	for i := range mentioning {
		if e := &mentioning[i]; named(e) {
			before[f.key(e)] = e
		}
	}
	still := map[string]bool{}
	for some := range slices.Chunk(f.since.Mark.Unseen, 50) {
		var values []Value
		for _, name := range some {
			for _, attr := range links {
				values = append(values, Value{attr, name})
			}
		}
		err := f.search(ctx, f.server, Query{Filter: anyOf(values), Attributes: links}, func(e *directory.Entry) {
			id := f.key(e)
			still[id] = true
			if was := before[id]; was == nil || slices.ContainsFunc(links, func(attr string) bool {
				return !sameValues(was.Get(attr), e.Get(attr))
			}) {
				f.want(id, e.DN)
			}
		})
		if err != nil {
			return err
		}
	}
	for id, e := range before {
		if !still[id] {
			f.want(id, e.DN)
		}
	}
	return nil
}

// mostUnseen is of how many names it is asked who is named by them.
const mostUnseen = 200

// wantManagers asks for those to be read anew who name entries as managed by them, where
// these do not show it themselves.
func (f *follower) wantManagers(ctx context.Context, managed []string) error {
	for some := range slices.Chunk(managed, 50) {
		var named []Value
		for _, dn := range some {
			named = append(named, Value{"directReports", dn}, Value{"managedObjects", dn})
		}
		err := f.search(ctx, f.server, Query{Filter: anyOf(named)}, func(e *directory.Entry) { f.want(f.key(e), e.DN) })
		if err != nil {
			return err
		}
	}
	return nil
}
