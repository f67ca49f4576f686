package source

import (
	"context"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// realOnly is the control by which 389 Directory Server leaves out attributes
// that roles and classes of service give an entry.
const realOnly = "2.16.840.1.113730.3.4.17"

// Stored returns, of some attributes, those that stand in an entry itself. On
// servers without roles that is all the entry shows.
func (s *Server) Stored(ctx context.Context, e *directory.Entry, names ...string) (map[string]bool, error) {
	stored := map[string]bool{}
	keep := func(of *directory.Entry) error {
		for _, name := range names {
			stored[name] = stored[name] || of.Has(name)
		}
		return nil
	}
	if s.Dialect != directory.NS389 {
		return stored, keep(e)
	}
	req := ldap.NewSearchRequest(e.DN, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)",
		names, []ldap.Control{ldap.NewControlString(realOnly, true, "")})
	if _, err := s.wire.search(ctx, req, s.patience(), keep); err != nil {
		return nil, s.searchError(err)
	}
	return stored, nil
}

// LockingRole returns the role by which an account of a 389 Directory Server is
// disabled; "" where it is enabled, or disabled by an attribute of its own. It is
// the role that the account itself is put into, where that can be told, else the
// one that disables.
func (s *Server) LockingRole(ctx context.Context, e *directory.Entry) (string, error) {
	if s.Dialect != directory.NS389 || !strings.EqualFold(e.First("nsAccountLock"), "true") {
		return "", nil
	}
	stored, err := s.Stored(ctx, e, "nsAccountLock")
	if err != nil || stored["nsAccountLock"] {
		return "", err
	}
	own, every := map[string]string{}, ""
	_, err = s.Search(
		ctx,
		Query{Base: e.DN, Scope: ldap.ScopeBaseObject, Attributes: []string{"nsRole", "nsRoleDN"}},
		func(page []directory.Entry) error {
			for i := range page {
				for _, dn := range page[i].Get("nsRoleDN") {
					own[directory.FoldDN(dn)] = dn
				}
				every = strings.Join(page[i].Get("nsRole"), "; ")
			}
			return nil
		},
	)
	if err != nil {
		return "", err
	}
	// A template of a class of service gives nsAccountLock to those in the role
	// that it is named after.
	templates, err := s.Select(ctx, "(&(|(objectClass=cosTemplate)(objectClass=ldapsubentry))(nsAccountLock=true))",
		[]string{"cn"})
	if err != nil {
		return "", err
	}
	for i := range templates {
		for _, role := range templates[i].Get("cn") {
			if levels, err := directory.ParseDN(role); err != nil || len(levels) < 2 {
				continue
			}
			if dn := own[directory.FoldDN(role)]; dn != "" {
				return dn, nil
			}
			inner, err := s.Get(ctx, []string{role})
			if err != nil {
				return "", err
			}
			for j := range inner {
				for _, nested := range inner[j].Get("nsRoleDN") {
					if dn := own[directory.FoldDN(nested)]; dn != "" {
						return dn, nil
					}
				}
			}
		}
	}
	if every == "" {
		every = "one that is not shown"
	}
	return every, nil
}
