package source

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
)

// Find returns whole entries by a filter.
func (s *Server) Find(ctx context.Context, filter string) (found []directory.Entry, err error) {
	if err := s.keepSecrets(ctx, filter, nil); err != nil {
		return nil, err
	}
	err = s.retry(ctx, func() error {
		found, err = s.whole(ctx, Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Filter: filter})
		return err
	})
	return found, err
}

// all returns what a query finds.
func (s *Server) all(ctx context.Context, q Query) (found []directory.Entry, err error) {
	err = s.retry(ctx, func() error {
		found = nil
		_, err := s.Search(ctx, q, func(page []directory.Entry) error {
			found = append(found, page...)
			return nil
		})
		return err
	})
	return found, err
}

// Select returns the named attributes of the entries that a filter selects,
// in the whole directory: groups and references may stand outside the base.
func (s *Server) Select(ctx context.Context, filter string, attributes []string) (found []directory.Entry, err error) {
	return s.all(ctx, Query{Base: s.Top(), Scope: ldap.ScopeWholeSubtree, Filter: filter, Attributes: attributes})
}

// SelectConfiguration is Select in the configuration partition of the `ad`
// schema, where sites and servers stand. Other directories have none.
func (s *Server) SelectConfiguration(
	ctx context.Context, filter string, attributes []string,
) ([]directory.Entry, error) {
	if s.Root.Config == "" {
		return nil, nil
	}
	return s.all(ctx, Query{Base: s.Root.Config, Scope: ldap.ScopeWholeSubtree, Filter: filter, Attributes: attributes})
}

// keepSecrets refuses a question about secrets: whoever asks often enough whether
// a value is one would know it.
func (s *Server) keepSecrets(ctx context.Context, text string, attributes []string) error {
	names := attributes
	if text != "" {
		asked, err := filter.Parse(text)
		if err != nil {
			return err
		}
		if asked.AnyAttribute() {
			return fmt.Errorf("%s names no attribute, so it would ask about secrets too: name one", text)
		}
		names = append(asked.Attributes(), names...)
	}
	for _, name := range names {
		secret, err := s.Secret(ctx, name)
		if err != nil {
			return err
		}
		if secret {
			return directory.SecretError(name)
		}
	}
	return nil
}

// weaken takes conditions out of a query that the server's schema has no rule
// for: it would take them for undefined, and select nothing, without a word.
// What they say is evaluated here, by what is returned; nil where nothing is.
func (s *Server) weaken(ctx context.Context, q *Query) (*filter.Matcher, error) {
	if s.Dialect != directory.OpenLDAP || q.Filter == "" {
		return nil, nil // the others evaluate all
	}
	asked, err := filter.Parse(q.Filter)
	if err != nil {
		return nil, err
	}
	var failed error
	weaker, changed, err := asked.Weaken(func(attr string, ordering bool) (there, here bool) {
		able, err := s.evaluates(ctx, attr, ordering)
		failed = errors.Join(failed, err)
		return able, ordering && filter.OrdersHere(s.Dialect, attr)
	})
	if err != nil || failed != nil || !changed {
		return nil, errors.Join(err, failed)
	}
	q.Filter = weaker.String()
	if len(q.Attributes) > 0 {
		q.Attributes = append(q.Attributes[:len(q.Attributes):len(q.Attributes)], asked.Attributes()...)
	}
	carried := map[string]bool{}
	for _, name := range asked.Attributes() {
		carried[strings.ToLower(name)] = true
	}
	return asked.For(s.Dialect, carried)
}

// evaluates tells whether the server's schema has a rule to order an attribute's
// values by, or to compare parts of them; what is not known is taken to have.
func (s *Server) evaluates(ctx context.Context, attr string, ordering bool) (bool, error) {
	d, err := s.Defined(ctx, attr)
	if err != nil || d == nil {
		return true, err
	}
	for range len(s.schema) {
		if ordering && d.Ordering != "" || !ordering && d.Substrings != "" {
			return true, nil
		}
		if d = s.schema[strings.ToLower(d.Super)]; d == nil {
			return false, nil
		}
	}
	return false, nil
}

// Each lets the server evaluate the selection.
func (s *Server) Each(
	ctx context.Context, sel Selection, begin func(), make func(*directory.Entry) any, keep func(any),
) error {
	if err := s.keepSecrets(ctx, sel.Filter, sel.Attributes); err != nil {
		return err
	}
	q := Query{
		Base:       cmp.Or(sel.Under, s.Base),
		Scope:      ldap.ScopeWholeSubtree,
		Filter:     sel.Filter,
		Attributes: sel.Attributes,
	}
	fulfils, err := s.weaken(ctx, &q)
	if err != nil {
		return err
	}
	return s.retry(ctx, func() (err error) {
		begin()
		var v *seer
		if sel.Rights {
			if v, err = s.sees(ctx, sel.Filter, directory.KindUser, directory.KindGroup, directory.KindOU); err != nil {
				return err
			}
		}
		if len(q.Attributes) == 0 {
			// All that is stored is asked for by name, so that no secret is.
			if q.Attributes, err = s.StoredNames(ctx, q); err != nil || len(q.Attributes) == 0 {
				return err
			}
		}
		_, err = s.Search(ctx, v.ask(q), func(page []directory.Entry) error {
			if err := v.look(ctx, page); err != nil {
				return err
			}
			for i := range page {
				if fulfils == nil || fulfils.Match(&page[i]) == filter.True {
					keep(make(&page[i]))
				}
			}
			return nil
		})
		if ldap.IsErrorWithCode(err, ldap.LDAPResultOperationsError) && strings.Contains(sel.Filter, "~=") {
			err = fmt.Errorf("the server cannot evaluate ~= in %s: use = and, for a part of a value, *: %w", sel.Filter,
				err)
		}
		return err
	})
}
