package listing

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

// conditions returns a function that tells whether an entry fulfils all of
// the query's conditions, as Test does.
func (q *Query) conditions(
	ctx context.Context, from source.Source, frame *directory.Survey,
) (func(*view) filter.Truth, error) {
	holds, err := Test(&q.When, frame, q.AsOf, func(name string) (string, error) { return findGroup(ctx, from, name) })
	if err != nil {
		return nil, err
	}
	return func(v *view) filter.Truth {
		if v.acc.Key == (directory.Key{}) {
			v.acc.Key = directory.KeyOf(v.acc.DN)
		}
		return holds(v.acc)
	}, nil
}

// Test returns a function that tells whether an account of a survey fulfils all
// of some conditions at a time; Undefined where that cannot be told, since what
// tells may not be read. A group is found by its name with find. What is no
// account fulfils only those on when it was made, and on its groups.
func Test(
	c *settings.Conditions, frame *directory.Survey, asOf time.Time, find func(name string) (dn string, err error),
) (func(*directory.Account) filter.Truth, error) {
	if c.Enabled && c.Disabled {
		return nil, wrong("enabled and disabled exclude each other")
	}
	all, err := testsOf(c, frame, asOf, find)
	if err != nil || c.Not == nil {
		return all.hold, err
	}
	if c.Not.Not != nil {
		return nil, wrong("not: cannot hold another not")
	}
	for _, one := range c.Not.Each() {
		none, err := testsOf(&one, frame, asOf, find)
		if err != nil {
			return nil, err
		}
		if one.New == nil && one.CreatedBefore == nil && one.HereFor == nil && one.MemberOf == "" {
			all = append(all, isAccount)
		}
		all = append(all, func(a *directory.Account) filter.Truth { return filter.True - none.hold(a) })
	}
	return all.hold, nil
}

// testsOf are the tests of conditions, without those that must not be fulfilled.
func testsOf(
	c *settings.Conditions, frame *directory.Survey, asOf time.Time, find func(name string) (dn string, err error),
) (all tests, err error) {
	d := frame.Dialect
	all.answer(c.Enabled, frame.Enabled, asOf)
	all.answer(c.Disabled, frame.Disabled, asOf)
	all.answer(c.Expired, frame.Expired, asOf)
	all.answer(c.Locked, frame.LockedOut, asOf)
	all.ofAccounts(c.Locked, nil, func(a *directory.Account) bool { return !frame.Disabled(a, asOf).Yes })
	all.ofAccounts(c.Used, nil, func(a *directory.Account) bool { return frame.LastSignIn(a, asOf).Known() })
	if c.UsedWithin != nil {
		line := c.UsedWithin.Before(asOf)
		all.ofAccounts(true, nil, func(a *directory.Account) bool {
			last := frame.LastSignIn(a, asOf)
			return last.Known() && last.Time().After(line)
		})
	}
	if c.NeverUsed {
		all.unless(
			func(a *directory.Account) bool { return frame.LastSignIn(a, asOf).Known() },
			d.LastLogon,
			func(a *directory.Account) bool {
				return !frame.LastSignIn(a, asOf).Unreadable()
			},
		)
	}
	if c.Idle != nil {
		line := c.Idle.Before(asOf)
		since := func(a *directory.Account) bool {
			last := frame.LastSignIn(a, asOf)
			return last.Known() && last.Time().After(line)
		}
		all.unless(since, d.LastLogon, func(a *directory.Account) bool {
			last := frame.LastSignIn(a, asOf)
			return last.Known() || !last.Unreadable() && notAfter(a.Created, line)
		})
	}
	if c.PasswordOlder != nil {
		line := c.PasswordOlder.Before(asOf)
		all.ofAccounts(true, d.PasswordSet,
			func(a *directory.Account) bool { return notAfter(frame.PasswordSet(a), line) })
	}
	if c.ExpiresIn != nil {
		line := c.ExpiresIn.After(asOf)
		all.ofAccounts(true, d.Expiry,
			func(a *directory.Account) bool { return notAfter(a.Expires, line) && a.Expires.Time().After(asOf) })
	}
	if c.New != nil {
		line := c.New.Before(asOf)
		all.add([]directory.AttrID{d.Created},
			func(a *directory.Account) bool { return a.Created.Known() && !a.Created.Time().Before(line) })
	}
	if c.CreatedBefore != nil {
		line := c.CreatedBefore.At(asOf)
		all.add([]directory.AttrID{d.Created},
			func(a *directory.Account) bool { return a.Created.Known() && a.Created.Time().Before(line) })
	}
	if c.DisabledFor != nil {
		all.answer(true, frame.Disabled, asOf)
		all.dated(frame.DisabledSince, c.DisabledFor.Before(asOf), asOf)
	}
	if c.HereFor != nil {
		all.dated(frame.HereSince, c.HereFor.Before(asOf), asOf)
	}
	if c.MemberOf != "" {
		top, err := find(c.MemberOf)
		if err != nil {
			return nil, err
		}
		in, err := members(frame, top)
		if err != nil {
			return nil, err
		}
		all.add(nil, in)
	}
	return all, nil
}

// tests all have to hold.
type tests []func(*directory.Account) filter.Truth

// add adds a test; of an entry that hides what it rests on nobody can tell.
func (t *tests) add(rests []directory.AttrID, test func(*directory.Account) bool) {
	*t = append(*t, func(a *directory.Account) filter.Truth {
		if slices.ContainsFunc(rests, a.Hidden.Has) {
			return filter.Undefined
		}
		return filter.TruthOf(test(a))
	})
}

// ofAccounts adds a test, if it is asked for, that only accounts can pass.
func (t *tests) ofAccounts(asked bool, rests []directory.AttrID, test func(*directory.Account) bool) {
	if asked {
		*t = append(*t, isAccount)
		t.add(rests, test)
	}
}

// unless adds a test of accounts that what is shown may disprove, whatever else
// is hidden.
func (t *tests) unless(
	disproved func(*directory.Account) bool, rests []directory.AttrID, test func(*directory.Account) bool,
) {
	*t = append(*t, isAccount, func(a *directory.Account) filter.Truth { return filter.TruthOf(!disproved(a)) })
	t.add(rests, test)
}

// answer adds, if it is asked for, that the survey says yes to a question about
// an account.
func (t *tests) answer(asked bool, question func(*directory.Account, time.Time) directory.Answer, asOf time.Time) {
	if !asked {
		return
	}
	*t = append(*t, isAccount, func(a *directory.Account) filter.Truth {
		is := question(a, asOf)
		if is.Hidden {
			return filter.Undefined
		}
		return filter.TruthOf(is.Yes)
	})
}

// dated adds that something was so at a line at the latest. Where nothing dates it, an
// entry that was last changed before the line proves it; else nobody can tell.
func (t *tests) dated(since func(*directory.Account, time.Time) directory.Moment, line, asOf time.Time) {
	*t = append(*t, func(a *directory.Account) filter.Truth {
		switch m := since(a, asOf); {
		case m.Known():
			return filter.TruthOf(notAfter(m, line))
		case notAfter(a.Changed, line):
			return filter.True
		case a.Created.Known() && a.Created.Time().After(line):
			return filter.False
		}
		return filter.Undefined
	})
}

func isAccount(a *directory.Account) filter.Truth { return filter.TruthOf(a.Kind.IsAccount()) }

func (t tests) hold(a *directory.Account) filter.Truth {
	out := filter.True
	for _, holds := range t {
		if out = min(out, holds(a)); out == filter.False {
			break
		}
	}
	return out
}

// RestsOn are the attributes that conditions rest on.
func RestsOn(asked *settings.Conditions, d *directory.Dialect) []directory.AttrID {
	c := asked.Looked()
	var all []directory.AttrID
	for _, one := range []struct {
		asked bool
		ids   []directory.AttrID
	}{
		{c.Enabled || c.Disabled || c.Locked || c.Expired || c.DisabledFor != nil, d.Enabled}, {c.Enabled || c.Expired || c.ExpiresIn != nil, d.Expiry},
		{c.Locked, d.Locked}, {c.AskSignIns(), d.LastLogon}, {c.PasswordOlder != nil, d.PasswordSet}, {c.New != nil || c.CreatedBefore != nil, []directory.AttrID{d.Created}},
	} {
		if one.asked {
			all = append(all, one.ids...)
		}
	}
	return all
}

func notAfter(m directory.Moment, t time.Time) bool { return m.Known() && !m.Time().After(t) }

// members tells who is in a group, directly, through other groups, or since
// it is the account's primary group.
func members(frame *directory.Survey, top string) (func(*directory.Account) bool, error) {
	byKey := map[directory.Key]*directory.Group{}
	for i := range frame.Groups {
		byKey[frame.Groups[i].Key] = &frame.Groups[i]
	}
	keys, logons, rids := map[directory.Key]bool{}, map[string]bool{}, map[uint32]bool{}
	reached := map[directory.Key]bool{directory.KeyOf(top): true}
	for todo := []directory.Key{directory.KeyOf(top)}; len(todo) > 0; {
		g := byKey[todo[0]]
		if todo = todo[1:]; g == nil {
			continue
		}
		if g.Incomplete {
			return nil, fmt.Errorf("only a part of the members of %s was read", g.Name())
		}
		if g.RID != 0 {
			rids[g.RID] = true
		}
		for _, logon := range g.Logons {
			logons[strings.ToLower(logon)] = true
		}
		for _, m := range g.Members {
			keys[m] = true
			if byKey[m] != nil && !reached[m] {
				reached[m] = true
				todo = append(todo, m)
			}
		}
	}
	return func(a *directory.Account) bool {
		return keys[a.Key] || logons[strings.ToLower(a.Logon)] && a.Kind.IsAccount() ||
			a.PrimaryGroup != 0 && rids[a.PrimaryGroup]
	}, nil
}

// findGroup returns the DN of a group by its DN or one of its names.
func findGroup(ctx context.Context, from source.Source, name string) (string, error) {
	found, err := source.GroupsCalled(ctx, from, name)
	switch {
	case err != nil:
		return "", err
	case len(found) == 0:
		return "", fmt.Errorf("no group is called %q in %s", name, from.Where())
	case len(found) > 1:
		return "", fmt.Errorf("%d groups are called %q; give the DN", len(found), name)
	}
	return found[0].DN, nil
}

// seenEnough refuses to answer from absence where presence could not have
// been seen.
func (c *collector) seenEnough() error {
	when, d := c.query.When.Looked(), c.frame.Dialect
	ask := func(asked bool, option string, ids []directory.AttrID) error {
		if !asked || len(c.kinds) == 0 || len(c.frame.Elsewhere) > 0 {
			return nil
		}
		for kind, n := range c.kinds {
			if !kind.IsAccount() || n == 0 {
				continue
			}
			for _, id := range ids {
				if c.seen[kind].Has(id) || c.frame.Shows(kind, id) {
					return nil
				}
			}
		}
		return fmt.Errorf(
			"%s cannot be told: no account shows %s (not exported, not readable for this account, or not recorded by the server)",
			option,
			directory.AttrNames(ids),
		)
	}
	for _, need := range []struct {
		asked  bool
		option string
		ids    []directory.AttrID
	}{
		{when.Idle != nil, "--idle", d.LastLogon}, {when.NeverUsed, "--never-used", d.LastLogon}, {when.Used, "--used", d.LastLogon},
		{when.UsedWithin != nil, "--used-within", d.LastLogon}, {when.PasswordOlder != nil, "--password-older", d.PasswordSet},
		{when.New != nil, "--new", []directory.AttrID{d.Created}}, {when.CreatedBefore != nil, "--created-before", []directory.AttrID{d.Created}},
		{when.DisabledFor != nil && d.EverybodyShowsState, "--disabled-for", d.Enabled},
		{when.Enabled && d.EverybodyShowsState, "--enabled", d.Enabled}, {when.Disabled && d.EverybodyShowsState, "--disabled", d.Enabled},
	} {
		if err := ask(need.asked, need.option, need.ids); err != nil {
			return err
		}
	}
	return nil
}
