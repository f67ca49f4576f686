package source

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"
	"golang.org/x/sync/errgroup"

	"yardbroom/internal/directory"
)

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
	return f.listsAsBefore(ctx, shown)
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

// listsAsBefore is an error where the access list of a container has changed: what may be
// read of all below it may be something else now. Of others that are no accounts, whose
// list has changed, it may have been hidden who manages them.
func (f *follower) listsAsBefore(ctx context.Context, ids []string) error {
	since, err := strconv.ParseUint(f.since.Mark.At, 10, 64)
	if err != nil {
		return err
	}
	var asked []string
	containers := map[string]bool{}
	for _, id := range ids {
		was, is := f.was[id], f.is[id]
		if was == nil || is == nil || sameEntry(was, is) {
			continue
		}
		switch kind := directory.AD.Account(is).Kind; {
		case kind == directory.KindOU, kind == directory.KindDomain, kind == directory.KindOther:
			containers[id] = true
			asked = append(asked, id)
		case !kind.IsAccount():
			asked = append(asked, id)
		}
	}
	for some := range slices.Chunk(asked, 100) {
		_, err := f.server.Search(ctx, Query{Base: f.server.Base, Scope: ldap.ScopeWholeSubtree, Filter: anyIdentity(directory.AD, some),
			Attributes: []string{directory.AD.Identity.String(), "replPropertyMetaData"}}, func(page []directory.Entry) error {
			for i := range page {
				if !directory.AccessListChangedSince(page[i].First("replPropertyMetaData"), since) {
					continue
				}
				if containers[f.key(&page[i])] {
					return wholly("the access list of %s has changed, or may have", page[i].DN)
				}
				f.see.unmanaged[directory.KeyOf(page[i].DN)] = true
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}
