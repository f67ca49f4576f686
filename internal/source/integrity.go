package source

import (
	"context"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// Integrity is what a server does about names of entries that were renamed or
// deleted, as far as its configuration may be read.
type Integrity struct {
	Known bool
	// Late tells that it works through them a while after the write, and no sooner
	// than Delay.
	Late  bool
	Delay time.Duration
	// Placeholders stand in attributes that would be left without a value.
	Placeholders []string
}

// Integrity reads the referential integrity of a server: that of the refint overlay
// of OpenLDAP, which is always late, and that of the plug-in of 389 Directory
// Server. Servers of the `ad` schema keep references whole within the write.
func (s *Server) Integrity(ctx context.Context) (i Integrity, err error) {
	switch s.Dialect {
	case directory.OpenLDAP:
		err = s.readConfiguration(
			ctx,
			Query{
				Base:       "cn=config",
				Scope:      ldap.ScopeWholeSubtree,
				Filter:     "(objectClass=olcOverlayConfig)",
				Attributes: []string{"olcOverlay", "olcRefintNothing"},
			},
			func(e *directory.Entry) {
				i.Late = i.Late || strings.HasSuffix(strings.ToLower(e.First("olcOverlay")), "refint")
				i.Placeholders = append(i.Placeholders, e.Get("olcRefintNothing")...)
			},
			&i.Known,
		)
	case directory.NS389:
		err = s.readConfiguration(
			ctx,
			Query{
				Base:       "cn=referential integrity postoperation,cn=plugins,cn=config",
				Scope:      ldap.ScopeBaseObject,
				Attributes: []string{"nsslapd-pluginEnabled", "referint-update-delay"},
			},
			func(e *directory.Entry) {
				seconds, err := strconv.Atoi(e.First("referint-update-delay"))
				i.Late = strings.EqualFold(e.First("nsslapd-pluginEnabled"), "on") && (err != nil || seconds > 0)
				i.Delay = time.Duration(max(seconds, 0)) * time.Second
				i.Known = i.Known || e.Has("nsslapd-pluginEnabled")
			},
			nil,
		)
	default:
		i.Known = true
	}
	return i, err
}

// readConfiguration reads entries of the server's own configuration. Read, if it is
// not nil, becomes true where any of it can be read.
func (s *Server) readConfiguration(ctx context.Context, q Query, take func(*directory.Entry), read *bool) error {
	one := func(page []directory.Entry) error {
		for i := range page {
			take(&page[i])
		}
		return nil
	}
	_, err := s.Search(ctx, q, one)
	if hidden(err) {
		return nil
	}
	if err == nil && read != nil {
		_, err = s.Search(
			ctx,
			Query{
				Base:       q.Base,
				Scope:      ldap.ScopeWholeSubtree,
				Filter:     "(objectClass=olcDatabaseConfig)",
				Attributes: []string{"1.1"},
			},
			func(page []directory.Entry) error {
				*read = *read || len(page) > 0
				return nil
			},
		)
		if hidden(err) {
			err = nil
		}
	}
	return err
}
