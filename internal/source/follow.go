package source

import (
	"context"
	"encoding/base64"
	"errors"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"
	"golang.org/x/sync/errgroup"

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
	for _, find := range []func(context.Context) error{f.findChanged, f.findRestless, f.findOthers, f.findFixed, f.findGone, f.settle} {
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
	q.Base, q.Scope, q.Attributes = from.Base, ldap.ScopeWholeSubtree, []string{from.Dialect.Identity.String(), stamp(from.Dialect)}
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
// may see it.
func (f *follower) findChanged(ctx context.Context) error {
	if f.since.Mark.How == ByCookie {
		return f.findSynced(ctx)
	}
	q := Query{Filter: f.since.Mark.changedFilter(f.server.replicatesWithin())}
	if f.server.Dialect == directory.AD {
		var err error
		if f.seesGone, err = f.seesDeleted(ctx); err != nil {
			return err
		}
		q.ShowDeleted = f.seesGone
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

// seesDeleted tells whether the bound account may see what was deleted.
func (f *follower) seesDeleted(ctx context.Context) (sees bool, err error) {
	if f.see == nil || f.see.reader == nil {
		return false, nil
	}
	_, err = f.server.Search(ctx, Query{Base: "CN=Deleted Objects," + f.server.Top(), Scope: ldap.ScopeBaseObject,
		Attributes: []string{"nTSecurityDescriptor"}, ShowDeleted: true, AccessList: true}, func(page []directory.Entry) error {
		for i := range page {
			sight := f.see.reader.Sight(page[i].First("nTSecurityDescriptor"), "")
			sees = sight.Known && sight.Children
		}
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
	return f.wantOld(ctx, restless)
}

// wantOld asks for entries of the survey to be read anew, by their identities.
func (f *follower) wantOld(ctx context.Context, ids map[string]bool) error {
	found, err := f.old.Identified(ctx, hashesOf(ids), func(e *directory.Entry) bool { return ids[f.key(e)] })
	f.wantAll(found)
	return err
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

// findGone compares which entries there are with those that there were, where nobody says
// what was deleted.
func (f *follower) findGone(ctx context.Context) error {
	s := f.server
	if f.seesGone {
		return nil
	}
	if f.synced != nil && !f.synced.presents {
		return nil
	}
	there := make(map[uint64]bool, f.old.Entries())
	f.old.Identities(func(hash uint64) { there[hash] = false })
	if f.synced != nil {
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
	names := map[uint64]directory.Entry{}
	_, err := s.Search(ctx, Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Filter: s.everything(""),
		Attributes: []string{s.Dialect.Identity.String()}}, func(page []directory.Entry) error {
		for i := range page {
			id := f.key(&page[i])
			hash := kept.Hash(id)
			if _, known := there[hash]; !known {
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
	touched, left, linked := map[string]bool{}, map[string]*directory.Entry{}, map[string]bool{}
	for id := range todo {
		if err := f.compare(ctx, id, touched, left, linked); err != nil {
			return err
		}
	}
	if bound := directory.FoldDN(f.server.Bound); bound != "" && linked[bound] {
		return wholly("the groups of %s have changed", f.server.Bound)
	}
	found, err := f.old.Named(ctx, touched)
	if err != nil {
		return err
	}
	for i := range found {
		if f.policies && IsGroup(&found[i]) && linked[directory.FoldDN(found[i].DN)] {
			return wholly("what %s is in has changed, and password settings hold for groups", found[i].DN)
		}
		f.want(f.key(&found[i]), found[i].DN)
	}
	if found, err = f.old.Mentioning(ctx, asSet(left)); err != nil {
		return err
	}
	for i := range found {
		f.want(f.key(&found[i]), movedWith(found[i].DN, left))
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

// compare finds out what has become of an entry. Touched takes the names of entries that
// may have changed with it; left the names that are no longer, with what bears another;
// linked those that a group mentions newly, or no longer.
func (f *follower) compare(ctx context.Context, id string, touched map[string]bool, left map[string]*directory.Entry, linked map[string]bool) error {
	was, is := f.was[id], f.is[id]
	if f.wasChanging(id, is) {
		f.raced = true
		for _, e := range []*directory.Entry{was, is} {
			if e == nil {
				continue
			}
			left[nameOf(e)] = is
			for m := range mentionedBy(e) {
				touched[m.name] = true
			}
		}
	}
	if was == nil && is == nil || was != nil && is != nil && sameEntry(was, is) {
		return nil
	}
	for _, e := range []*directory.Entry{was, is} {
		if e != nil && slices.ContainsFunc(e.Get(directory.AttrHidden.String()), isMembership) && !directory.IsOwnPlace(e.DN, f.server.Top()) {
			return wholly("%s has changed, and does not show who is in it", e.DN)
		}
	}
	f.change[id] = is
	if err := f.followable(ctx, was, is); err != nil {
		return err
	}
	before, now := nameOf(was), nameOf(is)
	if before != now {
		for _, name := range []string{before, now} {
			if _, parent := directory.SplitDN(name); name != "" {
				touched[parent] = true
			}
		}
		if before != "" {
			left[before] = is
		}
		if now != "" {
			touched[now] = true // somebody else may have borne that name
		}
	}
	group := was != nil && IsGroup(was) || is != nil && IsGroup(is)
	for name := range differing(was, is) {
		touched[name] = true
		if group {
			linked[name] = true
		}
	}
	return nil
}

// wasChanging tells whether an entry changed, or may have, while the survey was taken.
func (f *follower) wasChanging(id string, is *directory.Entry) bool {
	mark, told := f.told[id]
	if !told {
		return false
	}
	if f.since.Mark.How == ByCookie {
		_, changed := slices.BinarySearch(f.since.Mark.Changing, id)
		return changed
	}
	if mark == "" && is != nil {
		mark = is.First(stamp(f.server.Dialect))
	}
	if f.since.Mark.How == ByNumber {
		n, err := strconv.ParseUint(mark, 10, 64)
		until, _ := strconv.ParseUint(f.since.Mark.Until, 10, 64)
		return err != nil || n <= until
	}
	t, err := directory.ParseGeneralizedTime(mark)
	return err != nil || t.After(f.since.Mark.Time.Add(-clockSkew)) && t.Before(f.since.Finished.Add(clockSkew))
}

// isMembership tells of an attribute, or of that which says what an entry is, that where it
// is hidden nobody can tell who is in the entry.
func isMembership(name string) bool {
	return slices.ContainsFunc([]string{"member", "uniqueMember", "objectClass"}, func(n string) bool { return strings.EqualFold(n, name) })
}

func nameOf(e *directory.Entry) string {
	if e == nil {
		return ""
	}
	return directory.FoldDN(e.DN)
}

// differing are the names that one of two versions of an entry mentions, by some
// attribute, and the other does not, by the same: a manager may be a member too. Where the
// entry has another name they are all, since the other ends show that one.
func differing(was, is *directory.Entry) map[string]bool {
	before, now := mentionedBy(was), mentionedBy(is)
	renamed := nameOf(was) != nameOf(is)
	all := map[string]bool{}
	for m := range before {
		if renamed || !now[m] {
			all[m.name] = true
		}
	}
	for m := range now {
		if renamed || !before[m] {
			all[m.name] = true
		}
	}
	return all
}

// mentioned is a name and the attribute, in lower case, that mentions it.
type mentioned struct{ attr, name string }

func mentionedBy(e *directory.Entry) map[mentioned]bool {
	all := map[mentioned]bool{}
	if e == nil {
		return all
	}
	for attr, name := range kept.MentionedBy(e) {
		all[mentioned{strings.ToLower(attr), name}] = true
	}
	return all
}

// sameEntry tells whether two readings of an entry are alike, in whatever order its
// values come.
func sameEntry(a, b *directory.Entry) bool {
	if a.DN != b.DN || len(a.Attrs) != len(b.Attrs) {
		return false
	}
	for i := range a.Attrs {
		have := a.Attrs[i].Values
		other := b.Get(a.Attrs[i].Name)
		if len(have) != len(other) {
			return false
		}
		if !slices.Equal(have, other) && !slices.Equal(slices.Sorted(slices.Values(have)), slices.Sorted(slices.Values(other))) {
			return false
		}
	}
	return true
}

// followable is an error where a change works on entries that nobody can tell.
func (f *follower) followable(ctx context.Context, was, is *directory.Entry) error {
	for _, e := range []*directory.Entry{was, is} {
		switch {
		case e == nil:
		case e.HasClass("msDS-PasswordSettings") || e.HasClass("pwdPolicy") || e.HasClass("passwordPolicy"):
			return wholly("the password policy %s has changed", e.DN)
		case e.HasClass("ldapsubentry") || e.HasClass("nsRoleDefinition") || e.HasClass("cosSuperDefinition") || e.HasClass("cosTemplate"):
			return wholly("%s has changed, which gives values to other entries", e.DN)
		}
	}
	if was == nil || is == nil {
		return nil
	}
	if err := f.rulesAsBefore(ctx, was, is); err != nil {
		return err
	}
	if was.HasClass("domainDNS") {
		for _, name := range []string{"maxPwdAge", "lockoutDuration", "lockoutThreshold", "lockOutObservationWindow"} {
			if was.First(name) != is.First(name) {
				return wholly("the password policy of the domain has changed")
			}
		}
	}
	return nil
}

// rulesAsBefore is an error where the rules have changed, or may have, by which a 389
// Directory Server lets what stands below an entry be read: it keeps them there.
func (f *follower) rulesAsBefore(ctx context.Context, was, is *directory.Entry) error {
	s := f.server
	if s.Dialect != directory.NS389 || IsAccount(is) || IsGroup(is) {
		return nil
	}
	before, now := slices.Sorted(slices.Values(was.Get("aci"))), slices.Sorted(slices.Values(is.Get("aci")))
	seen := len(before) > 0
	if len(before)+len(now) == 0 { // has it none, or may they not be seen?
		_, err := s.Search(ctx, Query{Base: is.DN, Scope: ldap.ScopeBaseObject, Filter: s.everything("(|(aci=*)(!(aci=*)))"),
			Attributes: []string{"1.1"}}, func(page []directory.Entry) error {
			seen = len(page) > 0
			return nil
		})
		if err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
	}
	if !seen || !slices.Equal(before, now) {
		return wholly("the access rules of %s have changed, or may have", is.DN)
	}
	return nil
}

// readNew reads entries as they are now. One that is found nowhere in the base is gone.
func (f *follower) readNew(ctx context.Context, ids map[string]string) error {
	var ask []string
	for id := range ids {
		switch fixed, was := f.fixed[id], f.was[id]; {
		case fixed != nil:
			f.is[id] = fixed
		case was != nil && !directory.Under(directory.FoldDN(was.DN), directory.FoldDN(f.server.Base)):
			f.is[id] = nil // of the configuration, which was read
		default:
			ask = append(ask, id)
			f.is[id] = nil
		}
	}
	slices.Sort(ask)
	take := func(page []directory.Entry) error {
		for i := range page {
			id := f.key(&page[i])
			if _, wanted := ids[id]; !wanted {
				f.want(id, page[i].DN) // another one under that name
				continue
			}
			if !directory.Under(directory.FoldDN(page[i].DN), directory.FoldDN(f.server.Base)) {
				continue
			}
			e := page[i].Clone()
			f.carry(f.was[id], &e)
			f.is[id] = &e
		}
		return nil
	}
	if f.server.Dialect != directory.AD {
		return f.byName(ctx, ask, ids, take)
	}
	hidden := slices.DeleteFunc(slices.Clone(ask), func(id string) bool { return !strings.HasPrefix(id, nameless) })
	if err := f.byName(ctx, hidden, ids, take); err != nil {
		return err
	}
	shown := slices.DeleteFunc(slices.Clone(ask), func(id string) bool { return strings.HasPrefix(id, nameless) })
	for some := range slices.Chunk(shown, 100) {
		if err := f.byIdentity(ctx, some, take); err != nil {
			return err
		}
	}
	return f.containersAsBefore(ctx, shown)
}

// byIdentity reads entries wherever they stand.
func (f *follower) byIdentity(ctx context.Context, ids []string, take func([]directory.Entry) error) error {
	s := f.server
	among := anyIdentity(s.Dialect, ids)
	changes, err := s.flagChanges(ctx, among)
	if err != nil {
		return err
	}
	return f.read(ctx, Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Filter: s.everything(among)},
		func(page []directory.Entry) error {
			for i := range page {
				takeFlagChange(&page[i], changes)
			}
			return take(page)
		})
}

// byName reads entries under the names where they are thought to stand, since not every
// server finds identities quickly, and looks for the rest by identity.
func (f *follower) byName(ctx context.Context, ask []string, names map[string]string, take func([]directory.Entry) error) error {
	answers, err := f.askByName(ctx, ask, names)
	if err != nil {
		return err
	}
	var lost []string
	for i, id := range ask {
		there := answers[i].entries
		if err := f.hand(ctx, &answers[i], take); err != nil {
			return err
		}
		if !(len(there) == 1 && f.key(&there[0]) == id) && !strings.HasPrefix(id, nameless) {
			lost = append(lost, id)
		}
	}
	for some := range slices.Chunk(lost, 100) {
		if err := f.byIdentity(ctx, some, take); err != nil {
			return err
		}
	}
	return nil
}

// askedAtOnce is how many questions for single entries are on their way at the same time.
const askedAtOnce = 8

// askByName asks for each of some identities what stands under its name, if it has one.
func (f *follower) askByName(ctx context.Context, ids []string, names map[string]string) ([]gathered, error) {
	answers := make([]gathered, len(ids))
	atOnce := 1 // what classes allow is found out by one after the other
	if f.server.Dialect != directory.AD {
		atOnce = askedAtOnce
		if _, err := f.server.Defined(ctx, ""); err != nil { // which is read once, by whoever needs it first
			return nil, err
		}
	}
	asking, ctx := errgroup.WithContext(ctx)
	asking.SetLimit(atOnce)
	for i, id := range ids {
		if names[id] == "" {
			continue
		}
		asking.Go(func() (err error) {
			answers[i], err = f.ask(ctx, Query{Base: names[id], Scope: ldap.ScopeBaseObject, Filter: f.server.everything("")})
			if errors.Is(err, ErrNotFound) {
				return nil
			}
			return err
		})
	}
	return answers, asking.Wait()
}

// gathered is what a query gave; whole says that it is known to hide nothing.
type gathered struct {
	query   Query
	entries []directory.Entry
	whole   bool
}

// read reads entries with all that a full reading would have read of them.
func (f *follower) read(ctx context.Context, q Query, take func([]directory.Entry) error) error {
	a, err := f.ask(ctx, q)
	if err != nil {
		return err
	}
	return f.hand(ctx, &a, take)
}

// ask asks for entries, of which it is still to be found out what they hide.
func (f *follower) ask(ctx context.Context, q Query) (a gathered, err error) {
	if q.Attributes, a.whole, err = f.attributes(ctx, q); err != nil {
		return a, err
	}
	a.query = q
	_, err = f.server.Search(ctx, f.see.ask(q), func(page []directory.Entry) error {
		a.entries = append(a.entries, page...)
		return nil
	})
	return a, err
}

// hand hands over what was asked for, with what it hides written down.
func (f *follower) hand(ctx context.Context, a *gathered, take func([]directory.Entry) error) error {
	if len(a.entries) == 0 {
		return nil
	}
	if !a.whole {
		if err := f.look(ctx, &a.query, a.entries); err != nil {
			return err
		}
	}
	return take(a.entries)
}

// attributes are those that a full reading would have asked for of the entries of a query;
// whole says that these are known to hide nothing.
func (f *follower) attributes(ctx context.Context, q Query) (names []string, whole bool, err error) {
	if f.asksWhatIsHidden() && q.Scope == ldap.ScopeBaseObject {
		// What an entry holds that hides nothing is told by the question whether it does.
		same := q
		same.Filter = f.hidingNothing(&q)
		if names, err = f.server.StoredNames(ctx, same); err != nil || len(names) > 0 {
			return f.server.andComputed(names), true, err
		}
	}
	names, err = f.server.namesToKeep(ctx, q)
	return names, false, err
}

// asksWhatIsHidden tells that only questions tell what entries hide, as elsewhere than on
// the `ad` schema.
func (f *follower) asksWhatIsHidden() bool { return f.see != nil && f.see.reader == nil }

// hidingNothing selects, of the entries of a query, those that hide nothing.
func (f *follower) hidingNothing(q *Query) string {
	return f.see.hidesNothing(q.Filter, directory.KindUser, directory.KindGroup, directory.KindOU)
}

// look writes down what is hidden of entries; of several, those that hide nothing are told
// by one question.
func (f *follower) look(ctx context.Context, q *Query, page []directory.Entry) error {
	if !f.asksWhatIsHidden() {
		return f.see.look(ctx, page)
	}
	if q.Scope != ldap.ScopeBaseObject {
		err := f.see.findWhole(ctx, f.server, Query{Base: q.Base, Scope: q.Scope, Filter: f.hidingNothing(q)})
		if err != nil {
			return err
		}
	}
	err := f.see.byFilter(ctx, page)
	clear(f.see.whole)
	return err
}

// carry takes over from the entry before what only other servers know, and what they say now.
func (f *follower) carry(was, is *directory.Entry) {
	if len(f.since.Asked) < 2 {
		return
	}
	if was != nil {
		own := directory.AD.Account(is)
		before := directory.AD.Account(was)
		if latest := was.First(directory.AttrLatestLogon.String()); latest != "" && before.LastLogon.After(own.LastLogon) {
			is.Set(directory.AttrLatestLogon.String(), latest)
		}
		takeLater(is, "lastLogonTimestamp", &own.LastLogonTS, before.LastLogonTS)
		takeLater(is, "pwdLastSet", &own.PasswordSet, before.PasswordSet)
	}
	addLogons(is, f.others)
}

// containersAsBefore is an error where the access list of a container has changed: what
// may be read of all below it may be something else now.
func (f *follower) containersAsBefore(ctx context.Context, ids []string) error {
	since, err := strconv.ParseUint(f.since.Mark.At, 10, 64)
	if err != nil {
		return err
	}
	var containers []string
	for _, id := range ids {
		was, is := f.was[id], f.is[id]
		if was == nil || is == nil || sameEntry(was, is) {
			continue
		}
		switch directory.AD.Account(is).Kind {
		case directory.KindOU, directory.KindDomain, directory.KindOther:
			containers = append(containers, id)
		}
	}
	for some := range slices.Chunk(containers, 100) {
		_, err := f.server.Search(ctx, Query{Base: f.server.Base, Scope: ldap.ScopeWholeSubtree, Filter: anyIdentity(directory.AD, some),
			Attributes: []string{"replPropertyMetaData"}}, func(page []directory.Entry) error {
			for i := range page {
				if directory.AccessListChangedSince(page[i].First("replPropertyMetaData"), since) {
					return wholly("the access list of %s has changed, or may have", page[i].DN)
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// sampled is of how many places an entry of each kind is compared that should be as it was.
const sampled = 200

// sample compares entries that nobody says have changed with what the survey holds, one of
// each kind below each container: a server that was restored, or rights that are others
// now, would show there. Rights that hold for a single entry may not, where the server does
// not count them as a change of it, as slapd does not.
func (f *follower) sample(ctx context.Context) error {
	some, err := f.old.Sample(ctx, sampled, uint64(f.since.Taken.UnixNano()), func(e *directory.Entry) bool {
		_, read := f.is[f.key(e)]
		return !read
	})
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
