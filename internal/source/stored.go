package source

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// StoredNames returns the names of all attributes that the entries of a
// query carry or may carry, secrets left out: what to ask for when everything
// is wanted. No value of another attribute is asked for to find that out.
func (s *Server) StoredNames(ctx context.Context, q Query) ([]string, error) {
	names := map[string]bool{}
	add := func(name string) {
		base, _, _ := strings.Cut(name, ";range=")
		if !directory.IsSecret(base) {
			names[base] = true
		}
	}
	var err error
	if s.Dialect == directory.AD {
		err = s.allowedNames(ctx, q, add)
	} else {
		q.NamesOnly, q.Attributes = true, []string{"*", "+"}
		_, err = s.Search(ctx, q, func(page []directory.Entry) error {
			for i := range page {
				for _, a := range page[i].Attrs {
					add(a.Name)
				}
			}
			return nil
		})
	}
	if err != nil {
		return nil, err
	}
	for name := range names {
		secret, err := s.Secret(ctx, name)
		if err != nil {
			return nil, err
		}
		if secret {
			delete(names, name)
		}
	}
	return slices.Sorted(maps.Keys(names)), nil
}

// allowedNames asks one entry of each class which attributes the schema
// allows it, since servers of the `ad` schema send values even where only
// names are asked for. What was found out is kept for the connection.
func (s *Server) allowedNames(ctx context.Context, q Query, add func(string)) error {
	examples := map[string][]string{}
	q.Attributes = []string{"objectClass"}
	_, err := s.Search(ctx, q, func(page []directory.Entry) error {
		for i := range page {
			classes := strings.Join(page[i].Get("objectClass"), " ")
			if len(examples[classes]) < mostExamples {
				examples[classes] = append(examples[classes], page[i].DN)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	for classes, dns := range examples {
		if err := s.askAllowed(ctx, classes, dns, q.ShowDeleted); err != nil {
			return err
		}
		for _, name := range append(s.allowed[classes], s.Dialect.Attributes(s.target.Keep)...) {
			// Of what is deleted, some that are worked out make the whole search fail.
			if lower := strings.ToLower(name); !computed[lower] && !(q.ShowDeleted && computedOfAccounts[lower]) {
				add(name)
			}
		}
		add("isDeleted")
		add("lastKnownParent")
	}
	return nil
}

// mostExamples is how many entries of a class may be gone before one is asked what it is
// allowed.
const mostExamples = 8

// askAllowed asks one of some entries, the first that is still there, which attributes its
// classes allow. Nothing is known of a class whose entries are all gone.
func (s *Server) askAllowed(ctx context.Context, classes string, dns []string, deleted bool) error {
	for _, dn := range dns {
		if s.allowed[classes] != nil {
			return nil
		}
		q := Query{Base: dn, Scope: ldap.ScopeBaseObject, Attributes: []string{"allowedAttributes"}, ShowDeleted: deleted}
		_, err := s.Search(ctx, q, func(page []directory.Entry) error {
			for i := range page {
				s.allowed[classes] = page[i].Get("allowedAttributes")
			}
			return nil
		})
		if err != nil && !errors.Is(err, ErrNotFound) {
			return err
		}
	}
	return nil
}

// computedOfAccounts are those that are worked out and asked for of accounts all
// the same, in lower case.
var computedOfAccounts = map[string]bool{
	"msds-resultantpso":                   true,
	"msds-user-account-control-computed":  true,
	"msds-userpasswordexpirytimecomputed": true,
	"msds-maximumpasswordage":             true,
	"msds-minimumpasswordage":             true,
}

// computed are attributes that a server works out on demand, some of them
// only for a single entry, in lower case; and the access list, which an
// image does not hold.
var computed = func() map[string]bool {
	m := map[string]bool{}
	for _, name := range []string{"tokenGroups", "tokenGroupsGlobalAndUniversal", "tokenGroupsNoGCAcceptable", "allowedAttributes",
		"allowedAttributesEffective", "allowedChildClasses", "allowedChildClassesEffective", "canonicalName", "sDRightsEffective",
		"primaryGroupToken", "possibleInferiors", "fromEntry", "createTimeStamp", "modifyTimeStamp", "subSchemaSubEntry", "structuralObjectClass",
		"attributeTypes", "objectClasses", "extendedAttributeInfo", "extendedClassInfo", "dITContentRules", "nTSecurityDescriptor",
		"replPropertyMetaData", "repsFrom", "repsTo", "parentGUID", "msDS-memberOfTransitive", "msDS-memberTransitive", "msDS-TokenGroupNames",
		"msDS-TokenGroupNamesGlobalAndUniversal", "msDS-TokenGroupNamesNoGCAcceptable", "msDS-Approx-Immed-Subordinates", "msDS-Auxiliary-Classes",
		"msDS-ReplAttributeMetaData", "msDS-ReplValueMetaData", "msDS-NCReplCursors", "msDS-NCReplInboundNeighbors", "msDS-NCReplOutboundNeighbors",
		"msDS-LocalEffectiveDeletionTime", "msDS-LocalEffectiveRecycleTime", "msDS-RevealedList", "msDS-RevealedListBL", "msDS-IsUserCachableAtRodc",
		"msDS-QuotaEffective", "msDS-QuotaUsed", "msDS-TopQuotaUsage", "msDS-KeyVersionNumber", "msDS-PrincipalName", "msDS-isGC", "msDS-isRODC",
		"msDS-SiteName", "msDS-PromotionSettings", "entryTTL"} {
		m[strings.ToLower(name)] = true
	}
	return m
}()

// whole reads the entries that a query selects with all they hold but
// secrets: first which attributes there are, then their values, so that no
// secret is ever asked for.
func (s *Server) whole(ctx context.Context, q Query) ([]directory.Entry, error) {
	names, err := s.StoredNames(ctx, q)
	if err != nil || len(names) == 0 {
		return nil, err
	}
	var all []directory.Entry
	q.NamesOnly, q.Attributes = false, names
	_, err = s.Search(ctx, q, func(page []directory.Entry) error {
		all = append(all, page...)
		return nil
	})
	return all, err
}
