package source

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// Retention is what a directory does with entries that are deleted.
type Retention struct {
	Keeps bool
	Days  int // for how long
	// Whole tells that all attributes are kept, not only what identifies the
	// entry.
	Whole bool
}

// Defaults of the `ad` schema where nothing is set (MS-ADTS 6.1.1.2.4.1.1).
const defaultTombstoneDays = 60

func (r Retention) String() string {
	switch {
	case !r.Keeps:
		return "this directory keeps nothing of what is deleted: only the journal's image comes back"
	case r.Whole:
		return fmt.Sprintf("this directory keeps deleted entries whole for %d days", r.Days)
	}
	return fmt.Sprintf(
		"this directory keeps the identity of deleted entries for %d days; the rest comes back from the journal's image",
		r.Days,
	)
}

// Retention reads for how long the directory keeps deleted entries. Servers
// other than those of the `ad` schema keep nothing that a client can bring
// back.
func (s *Server) Retention(ctx context.Context) (Retention, error) {
	if s.Dialect != directory.AD {
		return Retention{}, nil
	}
	r := Retention{Keeps: true, Days: defaultTombstoneDays}
	if s.Root.Config == "" {
		return r, nil
	}
	deleted := 0
	read := func(dn string, take func(e *directory.Entry), attributes ...string) error {
		_, err := s.Search(
			ctx,
			Query{Base: dn, Scope: ldap.ScopeBaseObject, Attributes: attributes},
			func(page []directory.Entry) error {
				for i := range page {
					take(&page[i])
				}
				return nil
			},
		)
		if hidden(err) {
			return nil
		}
		return err
	}
	number := func(into *int, text string) {
		if n, err := strconv.Atoi(text); err == nil && n > 0 {
			*into = n
		}
	}
	err := read("CN=Directory Service,CN=Windows NT,CN=Services,"+s.Root.Config, func(e *directory.Entry) {
		number(&r.Days, e.First("tombstoneLifetime"))
		number(&deleted, e.First("msDS-DeletedObjectLifetime"))
	}, "tombstoneLifetime", "msDS-DeletedObjectLifetime")
	if err != nil {
		return r, err
	}
	err = read("CN=Partitions,"+s.Root.Config, func(e *directory.Entry) {
		for _, v := range e.Get("msDS-EnabledFeature") {
			r.Whole = r.Whole || strings.EqualFold(directory.LeafValue(v), "Recycle Bin Feature")
		}
	}, "msDS-EnabledFeature")
	if r.Whole && deleted > 0 {
		r.Days = deleted
	}
	return r, err
}

// Knows tells whether the schema that the server publishes (RFC 4512, section
// 4.2) has an attribute that clients may write. A server that publishes none
// is taken to know it: it will refuse what it does not.
func (s *Server) Knows(ctx context.Context, attr string) (bool, error) {
	d, err := s.Defined(ctx, attr)
	return len(s.schema) == 0 || d != nil && !d.ReadOnly, err
}

// readSchema reads the schema that the server publishes. What was read in part counts for
// nothing: without a schema nobody could tell what is hidden, or secret.
func (s *Server) readSchema(ctx context.Context) error {
	schema := map[string]*directory.Definition{}
	var types []*directory.Definition
	where := ""
	_, err := s.Search(
		ctx,
		Query{Base: "", Scope: ldap.ScopeBaseObject, Attributes: []string{"subschemaSubentry"}},
		func(page []directory.Entry) error {
			for i := range page {
				where = page[i].First("subschemaSubentry")
			}
			return nil
		},
	)
	if err != nil {
		return err
	}
	if where == "" {
		s.schema = schema
		return nil
	}
	_, err = s.Search(
		ctx,
		Query{
			Base:       where,
			Scope:      ldap.ScopeBaseObject,
			Filter:     "(objectClass=*)",
			Attributes: []string{"attributeTypes", "objectClasses"},
		},
		func(page []directory.Entry) error {
			for i := range page {
				s.declareClasses(page[i].Get("objectClasses"))
				for _, text := range page[i].Get("attributeTypes") {
					d, ok := directory.ParseDefinition(text)
					if !ok {
						continue
					}
					types = append(types, &d)
					for _, name := range append(d.Names, d.OID) {
						schema[strings.ToLower(name)] = &d
					}
				}
			}
			return nil
		},
	)
	if err != nil && !hidden(err) {
		return err
	}
	s.schema, s.secrets, s.unshown = schema, directory.SecretBySchema(types), len(types) == 0
	return nil
}

// declareClasses tells what the server's classes derive from, and keeps what
// their entries must have.
func (s *Server) declareClasses(definitions []string) {
	supers := map[string][]string{}
	s.musts = map[string][]string{}
	for _, text := range definitions {
		c, ok := directory.ParseClass(text)
		if !ok {
			continue
		}
		for _, name := range c.Names {
			s.musts[strings.ToLower(name)] = c.Must
			if len(c.Supers) > 0 {
				supers[name] = c.Supers
			}
		}
	}
	directory.DeclareClasses(supers)
}

// Mandatory are the attributes that an entry of some classes must have, by the
// schema that the server publishes.
func (s *Server) Mandatory(ctx context.Context, classes []string) (all []string, err error) {
	if _, err := s.Defined(ctx, ""); err != nil {
		return nil, err
	}
	for _, class := range classes {
		all = append(all, s.musts[strings.ToLower(class)]...)
	}
	return all, nil
}

// Defined returns what the schema that the server publishes says of an
// attribute, by one of its names or its number, options left aside; nil where
// it does not know it, or publishes none.
func (s *Server) Defined(ctx context.Context, attr string) (*directory.Definition, error) {
	if s.schema == nil {
		if err := s.readSchema(ctx); err != nil {
			return nil, err
		}
	}
	name, _, _ := strings.Cut(strings.ToLower(attr), ";")
	return s.schema[name], nil
}

// Lacks tells whether the server's schema is known and has no such attribute:
// a filter that asks for it, even for its absence, then selects nothing
// (RFC 4511 4.5.1.7, Undefined).
func (s *Server) Lacks(ctx context.Context, attr string) (bool, error) {
	d, err := s.Defined(ctx, attr)
	return d == nil && len(s.schema) > 0, err
}

// Covers tells whether an entry has values that a filter on an attribute matches
// though they stand under another name: with options, or of a subtype, as far as the
// server's schema was read.
func (s *Server) Covers(e *directory.Entry, attr string) bool {
	wanted := s.schema[strings.ToLower(attr)]
	for i := range e.Attrs {
		name, _, tagged := strings.Cut(strings.ToLower(e.Attrs[i].Name), ";")
		if len(e.Attrs[i].Values) == 0 {
			continue
		}
		if tagged && strings.EqualFold(name, attr) {
			return true
		}
		for d := s.schema[name]; d != nil && d.Super != "" && wanted != nil; {
			if d = s.schema[strings.ToLower(d.Super)]; d == wanted {
				return true
			}
		}
	}
	return false
}

// Definitions are the attribute types that the server publishes, each once.
func (s *Server) Definitions(ctx context.Context) (all []*directory.Definition, err error) {
	if _, err := s.Defined(ctx, ""); err != nil {
		return nil, err
	}
	for name, d := range s.schema {
		if name == strings.ToLower(d.OID) {
			all = append(all, d)
		}
	}
	return all, nil
}

// Secret tells whether an attribute holds secrets, by its name or by what the
// server's schema derives it from.
func (s *Server) Secret(ctx context.Context, attr string) (bool, error) {
	if directory.IsSecret(attr) {
		return true, nil
	}
	if _, err := s.Defined(ctx, attr); err != nil {
		return false, err
	}
	name, _, _ := strings.Cut(strings.ToLower(attr), ";")
	return s.secrets[name], nil
}

// hidden tells of an error that what was asked for does not exist, or is not
// for the bound account to see.
func hidden(err error) bool {
	return errors.Is(err, ErrNotFound) ||
		ldap.IsErrorAnyOf(err, ldap.LDAPResultNoSuchObject, ldap.LDAPResultInsufficientAccessRights)
}

// Guarded tells whether what is sent cannot be read on the way: the connection
// is encrypted, or does not leave this machine.
func (s *Server) Guarded() bool { return s.secured != nil || s.local }

// TakesPasswords tells whether passwords can be set over this connection: it has
// to be guarded, and a 389 Directory Server takes them encrypted only, also from
// its own machine.
func (s *Server) TakesPasswords() bool {
	return s.secured != nil || s.local && (s.Dialect != directory.NS389 || strings.HasPrefix(s.URL, "ldapi:"))
}
