package source

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// Intent is what a change asks of the rights to one entry.
type Intent struct {
	DN     string
	Write  []string // attributes
	Rename bool     // its own name changes, or its place
	Into   string   // the new place, "" where it stays
	Delete bool
	Reset  bool // its password is reset
	Permit bool // its access list changes
}

// Foresight tells what the bound account may do, before it is tried. What it
// has found out of an entry it remembers, so it is for one staging or one dry
// run. It is not safe for use by several goroutines.
type Foresight struct {
	server   *Server
	entries  map[string]*entryRights
	schema   map[string]directory.Property // attributes and object classes as access lists know them
	children map[string]map[string]bool
}

// Foresight returns what tells that.
func (s *Server) Foresight() *Foresight {
	return &Foresight{s, map[string]*entryRights{}, map[string]directory.Property{}, map[string]map[string]bool{}}
}

// TellsRights tells whether the server tells beforehand what may be done.
func (s *Server) TellsRights() bool { return s.Dialect != directory.OpenLDAP }

// entryRights are the rights to one entry. What the server does not tell is
// nil or not known.
type entryRights struct {
	write      map[string]bool // attributes, in lower case
	letters    string          // 389 Directory Server: v, a, d, n; "" where they are not known
	class      string          // the entry's own
	owns       string          // which parts of the security descriptor may be written (MS-ADTS 3.1.1.4.5.22)
	descriptor string
	sid        string
}

// MayNot says what of an intent the bound account may not do, as words that follow
// its name: "may not delete it"; "" where it may all, or where the server does
// not tell, as OpenLDAP does not.
func (f *Foresight) MayNot(ctx context.Context, n *Intent) (string, error) {
	switch f.server.Dialect {
	case directory.AD:
		return f.mayNotAD(ctx, n)
	case directory.NS389:
		return f.mayNotNS389(ctx, n)
	}
	return "", nil
}

func (f *Foresight) mayNotAD(ctx context.Context, n *Intent) (string, error) {
	of, err := f.rightsAD(ctx, n.DN)
	if err != nil || of == nil {
		return "", err
	}
	if why := of.mayNotWrite(n.Write); why != "" {
		return why, nil
	}
	if n.Into != "" {
		classes, err := f.childClasses(ctx, n.Into)
		if err != nil {
			return "", err
		}
		if classes != nil && !classes[strings.ToLower(of.class)] {
			return "may not put " + of.class + " entries into " + n.Into, nil
		}
	}
	if n.Permit && of.owns != "" && !of.writesAccessList() {
		return "may not change the permissions of it", nil
	}
	if !n.Delete && !n.Rename && !n.Reset {
		return "", nil
	}
	reader, err := f.server.newReader(ctx)
	if err != nil || reader == nil || of.descriptor == "" {
		return "", err
	}
	if n.Reset {
		if may, known := reader.MayControl(of.descriptor, of.sid, directory.ForceChangePassword); known && !may {
			return "may not reset its password", nil
		}
	}
	rdn, parent := directory.SplitDN(n.DN)
	if naming, _, _ := strings.Cut(rdn, "="); n.Rename {
		for _, name := range []string{"name", naming} { // which servers write, and so no list of what may be written has them
			p, err := f.property(ctx, name)
			if err != nil {
				return "", err
			}
			if may, known := reader.MayWrite(of.descriptor, of.sid, p); known && !may {
				return "may not rename it", nil
			}
		}
	}
	if n.Delete || n.Into != "" {
		above, err := f.rightsAD(ctx, parent)
		if err != nil || above == nil || above.descriptor == "" {
			return "", err
		}
		class, err := f.property(ctx, of.class)
		if err != nil {
			return "", err
		}
		switch may, known := reader.MayDelete(of.descriptor, of.sid, above.descriptor, class.ID); {
		case may || !known:
		case n.Delete:
			return "may not delete it", nil
		default:
			return "may not move it away", nil
		}
	}
	return "", nil
}

// writesAccessList tells whether the discretionary access list may be written.
func (r *entryRights) writesAccessList() bool {
	parts, err := strconv.ParseUint(r.owns, 10, 32)
	return err == nil && parts&discretionaryList != 0
}

func (r *entryRights) mayNotWrite(names []string) string {
	var not []string
	for _, name := range names {
		base, _, _ := strings.Cut(strings.ToLower(name), ";")
		if r.write != nil && !r.write[base] {
			not = append(not, name)
		}
	}
	if len(not) == 0 {
		return ""
	}
	return "may not write " + strings.Join(not, " and ") + " of it"
}

// rightsAD reads which attributes of an entry may be written (MS-ADTS
// 3.1.1.4.5.21), its class and its access list; nil where the entry is not
// shown.
func (f *Foresight) rightsAD(ctx context.Context, dn string) (*entryRights, error) {
	key := directory.FoldDN(dn)
	if known, ok := f.entries[key]; ok {
		return known, nil
	}
	var r *entryRights
	q := Query{
		Base:       dn,
		Scope:      ldap.ScopeBaseObject,
		AccessList: true,
		Attributes: []string{
			"objectClass",
			"objectSid",
			"nTSecurityDescriptor",
			"allowedAttributes",
			"allowedAttributesEffective",
			"sDRightsEffective",
		},
	}
	_, err := f.server.Search(ctx, q, func(page []directory.Entry) error {
		for i := range page {
			e := &page[i]
			r = &entryRights{descriptor: e.First("nTSecurityDescriptor"), sid: e.First("objectSid"), owns: e.First("sDRightsEffective")}
			if classes := e.Get("objectClass"); len(classes) > 0 {
				r.class = classes[len(classes)-1] // from top down
			}
			if !e.Has("allowedAttributes") {
				continue // it does not tell such things
			}
			r.write = map[string]bool{}
			for _, name := range e.Get("allowedAttributesEffective") {
				r.write[strings.ToLower(name)] = true
			}
		}
		return nil
	})
	if err = ignoreHidden(err); err == nil {
		f.entries[key] = r
	}
	return r, err
}

// childClasses reads of which classes entries may be put into a place (MS-ADTS
// 3.1.1.4.5.19), in lower case; nil where that is not told.
func (f *Foresight) childClasses(ctx context.Context, dn string) (map[string]bool, error) {
	key := directory.FoldDN(dn)
	if known, ok := f.children[key]; ok {
		return known, nil
	}
	var classes map[string]bool
	_, err := f.server.Search(
		ctx,
		Query{
			Base:       dn,
			Scope:      ldap.ScopeBaseObject,
			Attributes: []string{"allowedChildClasses", "allowedChildClassesEffective"},
		},
		func(page []directory.Entry) error {
			for i := range page {
				if !page[i].Has("allowedChildClasses") {
					continue
				}
				classes = map[string]bool{}
				for _, name := range page[i].Get("allowedChildClassesEffective") {
					classes[strings.ToLower(name)] = true
				}
			}
			return nil
		},
	)
	if err = ignoreHidden(err); err == nil {
		f.children[key] = classes
	}
	return classes, err
}

// property is what access lists call an attribute or an object class.
func (f *Foresight) property(ctx context.Context, name string) (p directory.Property, err error) {
	key := strings.ToLower(name)
	if known, ok := f.schema[key]; ok {
		return known, nil
	}
	_, err = f.server.Search(
		ctx,
		Query{
			Base:       f.server.Root.Schema,
			Scope:      ldap.ScopeSingleLevel,
			Filter:     "(lDAPDisplayName=" + EscapeFilter(name) + ")",
			Attributes: []string{"schemaIDGUID", "attributeSecurityGUID"},
		},
		func(page []directory.Entry) error {
			for i := range page {
				p = directory.Property{ID: page[i].First("schemaIDGUID"), Set: page[i].First("attributeSecurityGUID")}
			}
			return nil
		},
	)
	if err = ignoreHidden(err); err == nil {
		f.schema[key] = p
	}
	return p, err
}

// mayNotNS389 asks a 389 Directory Server, which does not tell of moves.
func (f *Foresight) mayNotNS389(ctx context.Context, n *Intent) (string, error) {
	names := n.Write[:len(n.Write):len(n.Write)]
	if n.Reset {
		names = append(names, "userPassword")
	}
	rdn, _ := directory.SplitDN(n.DN)
	naming, _, _ := strings.Cut(rdn, "=")
	if n.Rename {
		names = append(names, naming)
	}
	of, err := f.rightsNS389(ctx, n.DN, names)
	if err != nil || of == nil {
		return "", err
	}
	if why := of.mayNotWrite(n.Write); why != "" {
		return why, nil
	}
	switch {
	case n.Reset && of.mayNotWrite([]string{"userPassword"}) != "":
		return "may not reset its password", nil
	case n.Rename && n.Into == "" && of.mayNotWrite([]string{naming}) != "":
		return "may not rename it", nil
	case n.Delete && of.letters != "" && !strings.Contains(of.letters, "d"):
		return "may not delete it", nil
	}
	return "", nil
}

// effectiveRights is the control by which 389 Directory Server tells what an
// account may do with an entry.
const effectiveRights = "1.3.6.1.4.1.42.2.27.9.5.2"

// rightsNS389 reads the letters by which the server tells rights to an entry and
// to some of its attributes, w among them for write.
func (f *Foresight) rightsNS389(ctx context.Context, dn string, attributes []string) (r *entryRights, err error) {
	s := f.server
	control := ldap.NewControlString(effectiveRights, true, "dn: "+s.target.Yard.Bind.DN)
	if len(attributes) == 0 {
		attributes = []string{"objectClass"}
	}
	req := ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)",
		attributes, []ldap.Control{control})
	_, err = s.wire.search(ctx, req, s.patience(), func(e *directory.Entry) error {
		for _, rights := range e.Get("attributeLevelRights") {
			if r == nil {
				r = &entryRights{write: map[string]bool{}, letters: e.First("entryLevelRights")}
			}
			for one := range strings.SplitSeq(rights, ",") {
				name, letters, _ := strings.Cut(strings.TrimSpace(one), ":")
				r.write[strings.ToLower(name)] = strings.Contains(letters, "w") && letters != "none"
			}
		}
		return nil
	})
	if ldap.IsErrorAnyOf(err, ldap.LDAPResultInsufficientAccessRights, ldap.LDAPResultUnavailableCriticalExtension) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("asking for rights to %s: %w", dn, s.searchError(err))
	}
	return r, nil
}
