package source

import (
	"context"
	"encoding/base64"
	"errors"
	"maps"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
	"yardbroom/internal/kept"
)

// follower brings a kept survey to what the directory holds now, and reads only what
// may have changed. It trusts a server to say which entries were written to, and to
// nothing else: what follows from a change elsewhere is found by the names that entries
// mention. Whoever is renamed or gone has those read anew that mention or stand below
// it; whoever mentions somebody no longer, or newly, has these read anew, since servers
// show both ends of a link and count a change of one.
type follower struct {
	server *Server
	since  *Manifest
	key    func(*directory.Entry) string
	old    *kept.File
	see    *seer
	others []logons // what other servers know of sign-ins since

	// todo are identities still to be read, with the name under which they may stand.
	todo map[string]string
	// was and is are entries that were read, by identity; nil for what is not there.
	was, is map[string]*directory.Entry
	// change is what is not as it was.
	change map[string]*directory.Entry
	// told are those that the server says have changed, with the mark of that where it gives
	// one; raced says that one of them changed while the survey was taken, of which entries
	// that were read before show one side, and others the other.
	told  map[string]string
	raced bool
	// fixed are entries from outside the base, which are read each time.
	fixed map[string]*directory.Entry
	// synced is what the server says itself, where it was asked by a cookie.
	synced *synced
	// unmarked says that some entries do not show by what the server knows that they have
	// changed. Others may not either that are new, or stand elsewhere by now.
	unmarked bool
	// seesGone says that the bound account may see what was deleted.
	seesGone bool
	// policies says that password settings objects are in force, which hold for members of
	// groups, and of groups within these.
	policies bool
}

// mostChanged is the part of all entries from which on everything is read.
const mostChanged = 5

// leastFollowed is how many changes are followed in any case.
const leastFollowed = 1000

// follow finds out what has changed since a survey was kept. A whollyError says why that
// cannot be told, so that everything has to be read.
func (s *Server) follow(ctx context.Context, since *Manifest, old *kept.File) (f *follower, err error) {
	f = &follower{server: s, since: since, key: keyOf(s.Dialect), old: old, todo: map[string]string{}, was: map[string]*directory.Entry{},
		is: map[string]*directory.Entry{}, change: map[string]*directory.Entry{}, fixed: map[string]*directory.Entry{}, told: map[string]string{}}
	if f.see, err = s.seer(ctx, ""); err != nil {
		return nil, err
	}
	if s.Dialect == directory.AD {
		if f.see == nil {
			return nil, s.unlisted()
		}
		f.see.unmanaged = map[directory.Key]bool{}
	}
	if err := f.findAll(ctx); err != nil {
		return nil, err
	}
	if f.raced {
		if err := f.findDangling(ctx); err != nil {
			return nil, err
		}
	}
	return f, f.sample(ctx)
}

// findAll finds what has changed, and what follows from it. What may have changed unsaid
// is asked for beside the rest, since a server may have to look at all entries for that.
func (f *follower) findAll(ctx context.Context) error {
	asking, stop := context.WithCancel(ctx)
	defer stop()
	unsaid, err := f.askUnsaid(asking)
	if err != nil {
		return err
	}
	for _, find := range []func(context.Context) error{f.findChanged, f.findRestless, f.findOthers, f.findFixed, f.findUnseen, f.findGone, f.settle} {
		if err := find(ctx); err != nil {
			stop()
			_ = unsaid() // it still uses the server
			return err
		}
	}
	if err := unsaid(); err != nil {
		return err
	}
	return f.settle(ctx)
}

// settle reads what has to be read until nothing more follows.
func (f *follower) settle(ctx context.Context) error {
	for len(f.todo) > 0 {
		if err := f.step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// findDangling reads what mentions names that nobody has: of an entry that was renamed
// while the survey was taken, others may have been read with its name of before.
func (f *follower) findDangling(ctx context.Context) error {
	found, err := f.old.Dangling(ctx, directory.FoldDN(f.server.Base))
	if err != nil {
		return err
	}
	f.wantAll(found)
	return f.settle(ctx)
}

// want asks for an entry to be read; name is where it may stand.
func (f *follower) want(id, name string) {
	if _, read := f.is[id]; !read && id != "" {
		f.todo[id] = name
	}
}

// wantAll asks for entries of the survey to be read anew.
func (f *follower) wantAll(entries []directory.Entry) {
	for i := range entries {
		f.want(f.key(&entries[i]), entries[i].DN)
	}
}

// search asks for the entries that a filter selects, and hands each over as far as it says
// which it is and when it changed.
func (f *follower) search(ctx context.Context, from *Server, q Query, take func(*directory.Entry)) error {
	q.Base, q.Scope, q.Attributes = from.Base, ldap.ScopeWholeSubtree, append(q.Attributes, from.Dialect.Identity.String(), stamp(from.Dialect))
	q.Filter = from.everything(q.Filter)
	_, err := from.Search(ctx, q, func(page []directory.Entry) error {
		for i := range page {
			take(&page[i])
		}
		return nil
	})
	return err
}

// findChanged asks for what was written to since. What was deleted shows only to those who
// may see it; and where something hides what stands below it, entries may be gone that were
// not deleted.
func (f *follower) findChanged(ctx context.Context) error {
	if f.since.Mark.How == ByCookie {
		return f.findSynced(ctx)
	}
	q := Query{Filter: f.since.Mark.changedFilter(f.server.replicatesWithin())}
	if f.server.Dialect == directory.AD {
		q.ShowGone = true
		sees, err := f.seesDeleted(ctx)
		if err != nil {
			return err
		}
		f.seesGone = sees && f.since.Hidden == 0
	}
	return f.search(ctx, f.server, q, func(e *directory.Entry) {
		f.want(f.key(e), e.DN)
		f.told[f.key(e)] = e.First(stamp(f.server.Dialect))
	})
}

// findSynced asks for what has changed since a cookie.
func (f *follower) findSynced(ctx context.Context) error {
	cookie, err := base64.StdEncoding.DecodeString(f.since.Mark.At)
	if err != nil || len(cookie) == 0 {
		return wholly("the cookie of the survey %s cannot be read", f.since.Name)
	}
	y, err := f.server.refresh(ctx, cookie)
	if err != nil {
		if Lost(err) || ctx.Err() != nil {
			return err
		}
		return wholly("the server does not go on from the survey %s: %v", f.since.Name, err)
	}
	f.synced = y
	for id, name := range y.changed {
		f.want(id, name)
		f.told[id] = ""
	}
	for id := range y.gone {
		f.told[id] = ""
	}
	return f.wantOld(ctx, y.gone)
}

// seesDeleted tells whether the bound account may see what was deleted: it may list the
// container, whose access list is shown to hardly anybody, if it lists anything.
func (f *follower) seesDeleted(ctx context.Context) (sees bool, err error) {
	_, err = f.server.Search(ctx, Query{Base: "CN=Deleted Objects," + f.server.Top(), Scope: ldap.ScopeSingleLevel,
		Filter: "(isDeleted=TRUE)", Attributes: []string{"1.1"}, ShowGone: true, FirstPage: true}, func(page []directory.Entry) error {
		sees = sees || len(page) > 0
		return nil
	})
	if errors.Is(err, ErrNotFound) || hidden(err) {
		return false, nil
	}
	return sees, err
}

// askUnsaid asks for what may have changed without a word. The function that it returns
// waits for the answer.
func (f *follower) askUnsaid(ctx context.Context) (wait func() error, err error) {
	s := f.server
	ages, policies, err := s.passwordSettings(ctx)
	if err != nil {
		return nil, err
	}
	f.policies = policies
	filter, err := s.unsaidFilter(ctx, f.since.Mark, s.target.now(), ages)
	if err != nil {
		return nil, err
	}
	found := map[string]string{}
	answered := s.beside(ctx, func(ctx context.Context, from *Server) error {
		return f.search(ctx, from, Query{Filter: filter}, func(e *directory.Entry) { found[f.key(e)] = e.DN })
	})
	return func() error {
		err := answered()
		for id, name := range found {
			f.want(id, name)
		}
		return err
	}, nil
}

// findRestless asks for those whose values may change at any time.
func (f *follower) findRestless(ctx context.Context) error {
	restless := map[string]bool{}
	for _, id := range f.old.Restless() {
		restless[id] = true
	}
	found, err := f.identified(ctx, restless)
	f.unmarked = slices.ContainsFunc(found, func(e directory.Entry) bool { return unmarked(f.server.Dialect, f.since.Mark, &e) })
	f.wantAll(found)
	return err
}

// wantOld asks for entries of the survey to be read anew, by their identities.
func (f *follower) wantOld(ctx context.Context, ids map[string]bool) error {
	found, err := f.identified(ctx, ids)
	f.wantAll(found)
	return err
}

// identified are entries of the survey, by their identities.
func (f *follower) identified(ctx context.Context, ids map[string]bool) ([]directory.Entry, error) {
	return f.old.Identified(ctx, hashesOf(ids), func(e *directory.Entry) bool { return ids[f.key(e)] })
}

// hashesOf are what the survey's index knows identities by.
func hashesOf[V any](ids map[string]V) map[uint64]bool {
	hashes := make(map[uint64]bool, len(ids))
	for id := range ids {
		hashes[kept.Hash(id)] = true
	}
	return hashes
}

// findOthers asks the other servers for the sign-ins that only they know of.
func (f *follower) findOthers(ctx context.Context) error {
	s := f.server
	asked := []string{f.server.HostName()}
	for _, o := range s.askOthers(ctx, "(|(lastLogon>="+directory.FormatFileTime(f.since.Mark.Time.Add(-clockSkew))+")(whenChanged>="+
		generalizedAD(f.since.Mark.Time.Add(-s.replicatesWithin()))+"))")() {
		if o.err != nil {
			continue
		}
		asked = append(asked, o.name)
		f.others = append(f.others, o)
		for id := range o.known {
			f.want(id, "")
		}
	}
	if !slices.Equal(asked, f.since.Asked) {
		return wholly("sign-ins come from %s, and came from %s", strings.Join(asked, ", "), strings.Join(f.since.Asked, ", "))
	}
	return nil
}

// findFixed reads the sites and servers of the configuration.
func (f *follower) findFixed(ctx context.Context) error {
	return f.server.configuration(ctx, f.see, func(e *directory.Entry) error {
		one := e.Clone()
		f.fixed[f.key(e)] = &one
		f.want(f.key(e), e.DN)
		return nil
	})
}

// bounded is an error where so much has changed that reading everything costs no more.
func (f *follower) bounded(n int) error {
	all := f.old.Entries()
	if n > max(leastFollowed, all/mostChanged) {
		return wholly("%d of %d entries have changed, or may have", n, all)
	}
	return nil
}

// step reads what is still to be read, and finds out what follows from it.
func (f *follower) step(ctx context.Context) error {
	if err := f.bounded(len(f.is) + len(f.todo)); err != nil {
		return err
	}
	todo := f.todo
	f.todo = map[string]string{}
	for id, name := range todo {
		if strings.HasPrefix(id, nameless) && !directory.IsOwnPlace(name, f.server.Top()) {
			return wholly("%s does not show which entry it is, nor whether it has changed", name)
		}
	}
	if err := f.readOld(ctx, todo); err != nil {
		return err
	}
	if err := f.readNew(ctx, todo); err != nil {
		return err
	}
	then := consequences{touched: map[string]bool{}, left: map[string]*directory.Entry{}, linked: map[string]bool{}}
	for id := range todo {
		if err := f.compare(ctx, id, &then); err != nil {
			return err
		}
	}
	if bound := directory.FoldDN(f.server.Bound); bound != "" && then.linked[bound] {
		return wholly("the groups of %s have changed", f.server.Bound)
	}
	if err := f.wantManagers(ctx, then.unnamed); err != nil {
		return err
	}
	found, err := f.old.Named(ctx, then.touched)
	if err != nil {
		return err
	}
	for i := range found {
		if f.policies && IsGroup(&found[i]) && then.linked[directory.FoldDN(found[i].DN)] {
			return wholly("what %s is in has changed, and password settings hold for groups", found[i].DN)
		}
		f.want(f.key(&found[i]), found[i].DN)
	}
	if found, err = f.old.Mentioning(ctx, asSet(then.left)); err != nil {
		return err
	}
	for i := range found {
		f.want(f.key(&found[i]), movedWith(found[i].DN, then.left))
	}
	return nil
}

func asSet[V any](m map[string]V) map[string]bool {
	set := make(map[string]bool, len(m))
	for name := range m {
		set[name] = true
	}
	return set
}

// movedWith is the name of an entry whose container has another one now.
func movedWith(dn string, left map[string]*directory.Entry) string {
	_, parent := directory.SplitDN(dn)
	if now := left[directory.FoldDN(parent)]; now != nil {
		return directory.Rebased(dn, parent, now.DN)
	}
	return dn
}

// readOld takes what the survey holds of some entries.
func (f *follower) readOld(ctx context.Context, ids map[string]string) error {
	found, err := f.old.Identified(ctx, hashesOf(ids), func(e *directory.Entry) bool {
		_, wanted := ids[f.key(e)]
		return wanted
	})
	for i := range found {
		f.was[f.key(&found[i])] = &found[i]
	}
	return err
}

// sampled is of how many places an entry of each kind is compared that should be as it was.
const sampled = 200

// sample compares entries that nobody says have changed with what the survey holds, one of
// each kind below each container: a server that was restored, or rights that are others
// now, would show there. Rights that hold for a single entry may not, where the server does
// not count them as a change of it, as slapd does not.
func (f *follower) sample(ctx context.Context) error {
	some, err := f.old.Sample(ctx, sampled, uint64(f.since.Taken.UnixNano()), hashesOf(f.is))
	if err != nil {
		return err
	}
	ids := map[string]string{}
	for i := range some {
		id := f.key(&some[i])
		ids[id], f.was[id] = some[i].DN, &some[i]
	}
	if err := f.readNew(ctx, ids); err != nil {
		return err
	}
	for _, id := range slices.Sorted(maps.Keys(ids)) {
		if f.is[id] == nil || !sameEntry(f.was[id], f.is[id]) {
			return wholly("%s is not as it was, and the server does not say that it has changed", ids[id])
		}
	}
	return nil
}
