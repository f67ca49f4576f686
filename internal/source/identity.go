package source

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// Get returns whole entries by name.
func (s *Server) Get(ctx context.Context, dns []string) ([]directory.Entry, error) {
	var all []directory.Entry
	for _, dn := range dns {
		var one []directory.Entry
		err := s.retry(ctx, func() (err error) {
			one, err = s.whole(ctx, Query{Base: dn, Scope: ldap.ScopeBaseObject})
			return err
		})
		if err != nil && !errors.Is(err, ErrNotFound) {
			return nil, err
		}
		all = append(all, one...)
	}
	return all, nil
}

// IdentityAt returns the raw identity of the entry of a name, and whether there is
// one.
func (s *Server) IdentityAt(ctx context.Context, dn string) (id string, there bool, err error) {
	attr := s.Dialect.Identity.String()
	found, err := s.all(ctx, Query{Base: dn, Scope: ldap.ScopeBaseObject, Attributes: []string{attr}})
	if errors.Is(err, ErrNotFound) {
		return "", false, nil
	}
	if err != nil || len(found) == 0 {
		return "", false, err
	}
	return found[0].First(attr), true, nil
}

// Children returns the names of the entries one level below each name.
func (s *Server) Children(ctx context.Context, parents []string) (map[string][]string, error) {
	children := map[string][]string{}
	for _, dn := range parents {
		below := Query{Base: dn, Scope: ldap.ScopeSingleLevel, Attributes: []string{"1.1"}, Unpaged: true}
		found, err := s.all(ctx, below)
		// A page that is full may be all that a server gives, without a word.
		tooMany := ldap.IsErrorAnyOf(err, ldap.LDAPResultSizeLimitExceeded, ldap.LDAPResultAdminLimitExceeded)
		if tooMany || err == nil && len(found) >= s.pageSize() {
			below.Unpaged = false
			found, err = s.all(ctx, below)
		}
		if err != nil {
			return nil, err
		}
		for i := range found {
			children[dn] = append(children[dn], found[i].DN)
		}
	}
	return children, nil
}

// DeniedDelete tells whether the access list of an entry denies everybody to
// delete it. Entries whose list cannot be read, and servers without such
// lists, deny nothing here.
func (s *Server) DeniedDelete(ctx context.Context, dn string) (bool, error) {
	list, err := s.AccessList(ctx, dn)
	if err != nil || list == "" {
		return false, err
	}
	return directory.DeniesDelete(list)
}

// AccessList reads the discretionary access list of an entry, in a security
// descriptor (MS-DTYP 2.4.6); "" where the server has none, or shows none.
func (s *Server) AccessList(ctx context.Context, dn string) (list string, err error) {
	if s.Dialect != directory.AD {
		return "", nil
	}
	err = s.retry(ctx, func() error {
		_, err := s.Search(
			ctx,
			Query{
				Base:       dn,
				Scope:      ldap.ScopeBaseObject,
				Attributes: []string{"nTSecurityDescriptor"},
				AccessList: true,
			},
			func(page []directory.Entry) error {
				for i := range page {
					list = page[i].First("nTSecurityDescriptor")
				}
				return nil
			},
		)
		return err
	})
	if errors.Is(err, ErrNotFound) || ldap.IsErrorWithCode(err, ldap.LDAPResultUnavailableCriticalExtension) {
		return "", nil
	}
	return list, err
}

// ByIdentity reads one whole entry by the identity that renaming and moving leave
// as it is. The error is ErrNotFound also for a deleted one.
func (s *Server) ByIdentity(ctx context.Context, id string) (*directory.Entry, error) {
	return s.oneByIdentity(ctx, id, Query{})
}

// ByIdentityOrDeleted is ByIdentity, and finds a deleted object too, which has the
// identity that the entry had.
func (s *Server) ByIdentityOrDeleted(ctx context.Context, id string) (*directory.Entry, error) {
	return s.oneByIdentity(ctx, id, Query{ShowDeleted: true})
}

func (s *Server) oneByIdentity(ctx context.Context, id string, q Query) (*directory.Entry, error) {
	q.Base, q.Scope, q.Filter = s.Base, ldap.ScopeWholeSubtree, IdentityFilter(s.Dialect, id)
	var found []directory.Entry
	err := s.retry(ctx, func() (err error) {
		found, err = s.whole(ctx, q)
		return err
	})
	if err != nil {
		return nil, err
	}
	switch len(found) {
	case 0:
		return nil, fmt.Errorf("%w with %s %s", ErrNotFound, s.Dialect.Identity, ShowIdentity(s.Dialect, id))
	case 1:
		return &found[0], nil
	}
	return nil, fmt.Errorf("%d entries with %s %s", len(found), s.Dialect.Identity, ShowIdentity(s.Dialect, id))
}

// ByIdentities reads whole entries by their identities, and returns them under
// these; those that are not there are left out. Names, where they are known,
// are all the attributes that the entries carry.
func (s *Server) ByIdentities(
	ctx context.Context, ids []string, names map[string]bool,
) (map[string]*directory.Entry, error) {
	q := Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Filter: anyIdentity(s.Dialect, ids)}
	var found []directory.Entry
	var err error
	if names == nil {
		err = s.retry(ctx, func() error {
			found, err = s.whole(ctx, q)
			return err
		})
	} else {
		q.Attributes = slices.Sorted(maps.Keys(names))
		found, err = s.all(ctx, q)
	}
	if err != nil {
		return nil, err
	}
	byID := make(map[string]*directory.Entry, len(found))
	for i := range found {
		id := found[i].First(s.Dialect.Identity.String())
		if byID[id] != nil {
			return nil, fmt.Errorf("two entries with %s %s", s.Dialect.Identity, ShowIdentity(s.Dialect, id))
		}
		byID[id] = &found[i]
	}
	return byID, nil
}

// IdentityFilter selects the entry with an identity.
func IdentityFilter(d *directory.Dialect, id string) string {
	if d == directory.AD {
		return "(objectGUID=" + EscapeOctets(id) + ")"
	}
	return "(" + d.Identity.String() + "=" + ldap.EscapeFilter(id) + ")"
}

// anyIdentity selects the entries with any of some identities.
func anyIdentity(d *directory.Dialect, ids []string) string {
	var b strings.Builder
	b.WriteString("(|")
	for _, id := range ids {
		b.WriteString(IdentityFilter(d, id))
	}
	b.WriteString(")")
	return b.String()
}

// EscapeOctets writes every octet of a value as an escape (RFC 4515, section 3).
func EscapeOctets(raw string) string {
	var b strings.Builder
	for i := range len(raw) {
		b.WriteString(`\` + hex.EncodeToString([]byte{raw[i]}))
	}
	return b.String()
}

// ShowIdentity writes an identity for people.
func ShowIdentity(d *directory.Dialect, id string) string {
	if d == directory.AD {
		if text, err := directory.FormatGUID(id); err == nil {
			return text
		}
	}
	return id
}

// ReadIdentity is the inverse of ShowIdentity.
func ReadIdentity(d *directory.Dialect, shown string) (string, error) {
	if d == directory.AD {
		return directory.ParseGUID(shown)
	}
	return shown, nil
}

// Top is the naming context that the base stands in.
func (s *Server) Top() string {
	for _, context := range append([]string{s.Root.Default}, s.Root.NamingContexts...) {
		if context != "" && directory.Under(directory.FoldDN(s.Base), directory.FoldDN(context)) {
			return context
		}
	}
	return s.Base
}

// Identity reads the top entry of the base's naming context.
func (s *Server) Identity(ctx context.Context) (Identity, error) {
	top := s.Top()
	var found []directory.Entry
	err := s.retry(ctx, func() error {
		_, err := s.Search(
			ctx,
			Query{
				Base:       top,
				Scope:      ldap.ScopeBaseObject,
				Attributes: []string{"objectSid", s.Dialect.Identity.String()},
			},
			func(page []directory.Entry) error { found = page; return nil },
		)
		return err
	})
	if err != nil {
		return Identity{}, err
	}
	if len(found) == 0 {
		return Identity{}, fmt.Errorf("%s does not show its top entry %s to %s", s.URL, top, s.boundName())
	}
	return identityOf(s.Dialect, &found[0])
}

// DeletedObject reads the deleted object of an identity, nil where there is none that
// could be brought back: with the bin of deleted objects on, what was recycled
// cannot (MS-ADTS 3.1.1.5.5). An entry that exists is returned as it is.
func (s *Server) DeletedObject(ctx context.Context, id string) (*directory.Entry, error) {
	if s.Dialect != directory.AD {
		return nil, nil
	}
	e, err := s.ByIdentityOrDeleted(ctx, id)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	if err != nil || e.First("isRecycled") != "TRUE" {
		return e, err
	}
	if kept, err := s.Retention(ctx); err != nil || kept.Whole {
		return nil, err
	}
	return e, nil
}

// Deleted returns what the directory keeps of deleted accounts with a logon
// name, or of all that had one where name is "". What was recycled, and can
// not come back, is not among them (MS-ADTS 3.1.1.5.5).
func (s *Server) Deleted(ctx context.Context, name string) ([]directory.Entry, error) {
	if s.Dialect != directory.AD {
		return nil, nil
	}
	logon := "*"
	if name != "" {
		logon = ldap.EscapeFilter(name)
	}
	found, err := s.whole(ctx, Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, ShowDeleted: true,
		Filter: "(&(isDeleted=TRUE)(sAMAccountName=" + logon + ")(!(isRecycled=TRUE)))"})
	return found, err
}
