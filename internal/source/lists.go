package source

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// MatchedValuesOID is the matched values control of RFC 3876.
const MatchedValuesOID = "1.2.826.0.1.3344810.2.3"

// Value is a value of an attribute that is looked for. The values that are
// compared are names and logon names.
type Value struct{ Attr, Value string }

func (v Value) filter() string { return "(" + v.Attr + "=" + ldap.EscapeFilter(v.Value) + ")" }

// Lists reads of an entry which of some values it has, so that a group of a
// hundred thousand members need not be read to know whether somebody is one.
// What comes back holds the identity and those values; as the entry spells
// them, where the server can tell. ErrNotFound is the error for an entry that
// is not there.
func (s *Server) Lists(ctx context.Context, id string, values ...Value) (*directory.Entry, error) {
	found, err := s.listing(ctx,
		Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Filter: IdentityFilter(s.Dialect, id)}, values)
	switch {
	case err != nil:
		return nil, err
	case len(found) == 1:
		return &found[0], nil
	case len(found) == 0:
		return nil, fmt.Errorf("%w with %s %s", ErrNotFound, s.Dialect.Identity, ShowIdentity(s.Dialect, id))
	}
	return nil, fmt.Errorf("%d entries with %s %s", len(found), s.Dialect.Identity, ShowIdentity(s.Dialect, id))
}

// ListsAt is Lists for the entry of a name.
func (s *Server) ListsAt(ctx context.Context, dn string, values ...Value) (*directory.Entry, error) {
	found, err := s.listing(ctx, Query{Base: dn, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)"}, values)
	switch {
	case err != nil:
		return nil, err
	case len(found) == 0:
		return nil, fmt.Errorf("%w: %s on %s", ErrNotFound, dn, s.URL)
	}
	return &found[0], nil
}

// Listing returns the entries of the whole directory that have any of some
// values, as Lists returns one.
func (s *Server) Listing(ctx context.Context, values ...Value) ([]directory.Entry, error) {
	return s.listing(ctx, Query{Base: s.Top(), Scope: ldap.ScopeWholeSubtree, Filter: anyOf(values)}, values)
}

// anyOf selects the entries that have any of some values.
func anyOf(values []Value) string {
	var filter strings.Builder
	filter.WriteString("(|")
	for _, v := range values {
		filter.WriteString(v.filter())
	}
	filter.WriteString(")")
	return filter.String()
}

// WhatItIs are the attributes that tell which entry one is, and what: of a group, as
// much as tells what power it gives.
func WhatItIs(d *directory.Dialect) []string {
	names := []string{d.Identity.String(), "objectClass", "cn", d.Logon.String()}
	if d == directory.AD {
		names = append(names, "objectSid", "groupType", "isCriticalSystemObject", "userAccountControl", "primaryGroupID",
			"msDS-SecondaryKrbTgtNumber")
	}
	return names
}

// listing runs a query for nothing but what entries are, and some values. Servers
// without the control are asked once more for each list of members, by a
// filter; on the `ad` schema names are spelt in one way only, elsewhere the
// lists are read whole.
func (s *Server) listing(ctx context.Context, q Query, values []Value) ([]directory.Entry, error) {
	long := func(Value) bool { return false }
	switch {
	case s.Root.Controls[MatchedValuesOID]:
		q.Only = values
	case s.Dialect == directory.AD:
		long = func(v Value) bool { return strings.EqualFold(v.Attr, "member") }
	}
	id := s.Dialect.Identity.String()
	q.Whole = WhatItIs(s.Dialect)
	q.Attributes = slices.Clone(q.Whole)
	for _, v := range values {
		if !long(v) {
			q.Attributes = append(q.Attributes, v.Attr)
		}
	}
	found, err := s.all(ctx, q)
	if err != nil || len(found) == 0 {
		return found, err
	}
	at := map[string]*directory.Entry{}
	for i := range found {
		keepOnly(&found[i], values)
		at[found[i].First(id)] = &found[i]
	}
	return found, s.fillLong(ctx, q, at, slices.DeleteFunc(slices.Clone(values), func(v Value) bool { return !long(v) }))
}

// fillLong asks for each of the values which of the entries, by identity, have it. One
// question is about all values, and so about one moment: an entry that does not answer
// it has none of them. One that does, and then none of them alone, was read while it
// changed, and is asked again.
func (s *Server) fillLong(ctx context.Context, q Query, at map[string]*directory.Entry, values []Value) error {
	if len(values) == 0 {
		return nil
	}
	id := s.Dialect.Identity.String()
	having := func(filter string) ([]directory.Entry, error) {
		one := q
		one.Filter, one.Attributes = "(&"+q.Filter+filter+")", []string{id}
		return s.all(ctx, one)
	}
	for tries := 0; ; tries++ {
		any, err := having(anyOf(values))
		if err != nil || len(any) == 0 {
			return err
		}
		seen := map[string]bool{}
		for _, v := range values {
			members, err := having(v.filter())
			if err != nil {
				return err
			}
			for i := range members {
				if e := at[members[i].First(id)]; e != nil && !slices.Contains(e.Get(v.Attr), v.Value) {
					e.Set(v.Attr, append(e.Get(v.Attr), v.Value)...)
				}
				seen[members[i].First(id)] = true
			}
		}
		lost := slices.IndexFunc(any, func(e directory.Entry) bool { return !seen[e.First(id)] })
		if lost < 0 || at[any[lost].First(id)] == nil {
			return nil
		}
		if tries == asksOften {
			return fmt.Errorf("%s changes while it is read", any[lost].DN)
		}
		time.Sleep(askPause)
	}
}

// asksOften is how often an entry is asked again that changed while it was read, and
// askPause how long is waited before.
const (
	asksOften = 20
	askPause  = 50 * time.Millisecond
)

// keepOnly takes the other values of the same attributes out of an entry.
func keepOnly(e *directory.Entry, values []Value) {
	for _, v := range values {
		e.Set(v.Attr, slices.DeleteFunc(slices.Clone(e.Get(v.Attr)), func(have string) bool {
			return !slices.ContainsFunc(values, func(w Value) bool { return w.Attr == v.Attr && w.names(have) })
		})...)
	}
}

// names compares as names and logon names are compared.
func (v Value) names(have string) bool {
	return strings.EqualFold(have, v.Value) ||
		strings.Contains(have, "=") && directory.FoldDN(have) == directory.FoldDN(v.Value)
}

// matchedValues makes the control by which a server returns only some values
// (RFC 3876, section 2), and what has the given attributes whole.
func matchedValues(only []Value, whole ...string) (ldap.Control, error) {
	items := ber.NewSequence("ValuesReturnFilter")
	add := func(filter string) error {
		item, err := ldap.CompileFilter(filter)
		if err == nil {
			items.AppendChild(item)
		}
		return err
	}
	for _, v := range only {
		if err := add(v.filter()); err != nil {
			return nil, err
		}
	}
	for _, name := range whole {
		if err := add("(" + name + "=*)"); err != nil {
			return nil, err
		}
	}
	return ldap.NewControlString(MatchedValuesOID, true, string(items.Bytes())), nil
}
