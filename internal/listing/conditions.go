package listing

import (
	"context"
	"fmt"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// conditions returns a function that tells whether an entry fulfils all of
// the query's conditions.
func (q *Query) conditions(ctx context.Context, from source.Source, frame *directory.Survey) (func(*view) bool, error) {
	c := &q.When
	if c.Enabled && c.Disabled {
		return nil, wrong("--enabled and --disabled exclude each other")
	}
	var tests []func(*view) bool
	add := func(asked bool, test func(*view) bool) {
		if asked {
			tests = append(tests, func(v *view) bool { return v.acc.Kind.IsAccount() && test(v) })
		}
	}
	add(c.Enabled, func(v *view) bool { return frame.Enabled(v.acc, q.AsOf).Yes })
	add(c.Disabled, func(v *view) bool { return frame.Disabled(v.acc, q.AsOf).Yes })
	add(c.Locked, func(v *view) bool {
		return !frame.Disabled(v.acc, q.AsOf).Yes && frame.LockedOut(v.acc, q.AsOf).Yes
	})
	add(c.Expired, func(v *view) bool { return frame.Expired(v.acc, q.AsOf).Yes })
	add(c.NeverUsed, func(v *view) bool {
		last := frame.LastSignIn(v.acc, q.AsOf)
		return !last.Known() && !last.Unreadable()
	})
	if c.Idle != nil {
		line := c.Idle.Before(q.AsOf)
		add(true, func(v *view) bool {
			if last := frame.LastSignIn(v.acc, q.AsOf); last.Known() || last.Unreadable() {
				return last.Known() && !last.Time().After(line)
			}
			return notAfter(v.acc.Created, line)
		})
	}
	if c.PasswordOlder != nil {
		line := c.PasswordOlder.Before(q.AsOf)
		add(true, func(v *view) bool { return notAfter(frame.PasswordSet(v.acc), line) })
	}
	if c.ExpiresIn != nil {
		line := c.ExpiresIn.After(q.AsOf)
		add(true, func(v *view) bool { return notAfter(v.acc.Expires, line) && v.acc.Expires.Time().After(q.AsOf) })
	}
	if c.New != nil {
		line := c.New.Before(q.AsOf)
		tests = append(tests, func(v *view) bool { return v.acc.Created.Known() && !v.acc.Created.Time().Before(line) })
	}
	if c.MemberOf != "" {
		in, err := members(ctx, from, frame, c.MemberOf)
		if err != nil {
			return nil, err
		}
		tests = append(tests, in)
	}
	return func(v *view) bool {
		for _, holds := range tests {
			if !holds(v) {
				return false
			}
		}
		return true
	}, nil
}

func notAfter(m directory.Moment, t time.Time) bool { return m.Known() && !m.Time().After(t) }

// members tells who is in a group, directly, through other groups, or since
// it is the account's primary group.
func members(ctx context.Context, from source.Source, frame *directory.Survey, name string) (func(*view) bool, error) {
	top, err := findGroup(ctx, from, name)
	if err != nil {
		return nil, err
	}
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
			return nil, fmt.Errorf("only a part of the members of %s is in %s", g.Name(), from.Where())
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
	return func(v *view) bool {
		return keys[directory.KeyOf(v.entry.DN)] || logons[strings.ToLower(v.acc.Logon)] && v.acc.Kind.IsAccount() || v.acc.PrimaryGroup != 0 && rids[v.acc.PrimaryGroup]
	}, nil
}

// findGroup returns the DN of a group by its DN or one of its names.
func findGroup(ctx context.Context, from source.Source, name string) (string, error) {
	var found []directory.Entry
	var err error
	if levels, bad := directory.ParseDN(name); bad == nil && len(levels) > 1 {
		found, err = from.Get(ctx, []string{name})
	} else {
		v := source.EscapeFilter(name)
		found, err = from.Find(ctx, "(&"+selecting["groups"]+"(|(cn="+v+")(sAMAccountName="+v+")))")
	}
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
	when, d := &c.query.When, c.frame.Dialect
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
		return fmt.Errorf("%s cannot be told: no account shows %s (not exported, not readable for this account, or not recorded by the server)", option, directory.AttrNames(ids))
	}
	for _, need := range []struct {
		asked  bool
		option string
		ids    []directory.AttrID
	}{
		{when.Idle != nil, "--idle", d.LastLogon}, {when.NeverUsed, "--never-used", d.LastLogon},
		{when.PasswordOlder != nil, "--password-older", d.PasswordSet}, {when.New != nil, "--new", []directory.AttrID{d.Created}},
		{when.Enabled && d.EverybodyShowsState, "--enabled", d.Enabled}, {when.Disabled && d.EverybodyShowsState, "--disabled", d.Enabled},
	} {
		if err := ask(need.asked, need.option, need.ids); err != nil {
			return err
		}
	}
	return nil
}
