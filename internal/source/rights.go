package source

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// everyEntry selects entries that hide their classes too, on servers that take
// what may not be read for absent.
const everyEntry = "(|(objectClass=*)(!(objectClass=*)))"

// seer finds out what the bound account may not read of entries, and writes it
// down with them. On the `ad` schema access lists say so. Elsewhere a filter
// does: "(!(mail=*))" is true only where the server may tell this account that
// there is no mail; it is Undefined where the account has no right to know
// (RFC 4511 4.5.1.7), and was so on OpenLDAP and 389 Directory Server.
type seer struct {
	server *Server
	reader *directory.Reader // ad
	// whole are the entries of which nothing is hidden that tells something.
	whole map[directory.Key]struct{}
	told  directory.AttrSet // attributes of which the server tells whether an entry has them
	find  func(ctx context.Context, from *Server) error

	// often are attributes that were found hidden. Others hide mostly the same, so that
	// these are asked for apart, and all the rest in one question.
	often directory.AttrSet
	asked int           // how many entries that may hide something were met
	spent time.Duration // on asking for them by their identities
	took  time.Duration // a question of all entries
	all   string        // selects all entries that may be met, "" where these change meanwhile
	// shown is what entries show, of those that show all but what is often hidden; nil
	// until so many may hide something that all are asked at once.
	shown map[directory.Key]directory.AttrSet

	// unmanaged are, on the `ad` schema, the entries of which it is hidden who manages them,
	// also those where that tells nothing else; nil where nobody asks for them.
	unmanaged map[directory.Key]bool
}

// sees makes a seer, nil where rights cannot be told, and finds out first which
// entries of some kinds, among those that a filter selects, hide nothing.
func (s *Server) sees(ctx context.Context, among string, kinds ...directory.Kind) (*seer, error) {
	v, err := s.seer(ctx, among, kinds...)
	if err == nil && v != nil && v.find != nil {
		err = v.find(ctx, s)
	}
	return v, err
}

// seer is sees that has found out nothing yet.
func (s *Server) seer(ctx context.Context, among string, kinds ...directory.Kind) (*seer, error) {
	if s.Dialect == directory.AD {
		reader, err := s.newReader(ctx)
		if reader == nil {
			return nil, err
		}
		return &seer{server: s, reader: reader}, nil
	}
	told, err := s.toldOf(ctx, s.telling(directory.KindUser, directory.KindGroup, directory.KindOU))
	if err != nil || told == (directory.AttrSet{}) {
		return nil, err
	}
	v := &seer{server: s, whole: map[directory.Key]struct{}{}, told: told}
	whole := v.hidesNothing(among, kinds...)
	v.find = func(ctx context.Context, from *Server) error {
		began := time.Now()
		defer func() { v.took = time.Since(began) }()
		return v.findWhole(ctx, from, Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Filter: whole})
	}
	if len(kinds) > 0 {
		v.all = ofKinds(among, kinds, func(directory.Kind) string { return "" })
	}
	return v, nil
}

// toldOf are those of some attributes of which the server may tell whether an entry has
// them: those that its schema has or, where it shows that to somebody else only, those of
// which it tells of any entry at all.
func (s *Server) toldOf(ctx context.Context, attrs directory.AttrSet) (told directory.AttrSet, err error) {
	for id := range attrs.All() {
		d, err := s.Defined(ctx, id.String())
		if err != nil {
			return told, err
		}
		// Every schema has these, and they say who is privileged.
		tells := d != nil || s.unshown && (id == directory.AttrMember || id == directory.AttrUniqueMember)
		if !tells && s.unshown {
			_, err = s.Search(ctx, Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Filter: eitherWay(id), Attributes: []string{"1.1"}, FirstPage: true},
				func(page []directory.Entry) error {
					tells = tells || len(page) > 0
					return nil
				})
			if err != nil {
				return told, err
			}
		}
		if tells {
			told.Add(id)
		}
	}
	return told, nil
}

// Closed returns, of groups with some names, those of which the bound account may not see
// who is in them, as far as the server tells what it hides.
func (s *Server) Closed(ctx context.Context, groups []string) (closed []string, err error) {
	err = s.retry(ctx, func() error {
		closed = nil
		v, err := s.seer(ctx, "")
		if err != nil || v == nil {
			return err
		}
		for _, dn := range groups {
			switch open, err := v.showsMembers(ctx, dn); {
			case errors.Is(err, ErrNotFound): // it is gone
			case err != nil:
				return err
			case !open:
				closed = append(closed, dn)
			}
		}
		return nil
	})
	return closed, err
}

// showsMembers tells whether the bound account may see who is in a group.
func (v *seer) showsMembers(ctx context.Context, dn string) (open bool, err error) {
	q := Query{Base: dn, Scope: ldap.ScopeBaseObject, Attributes: []string{"1.1"}}
	if v.reader != nil {
		q.Attributes = []string{"objectClass", "member"}
	} else {
		q.Filter = "(&" + decidable(v.told.Intersect(directory.MemberLists)) + ")"
	}
	_, err = v.server.Search(ctx, v.ask(q), func(page []directory.Entry) error {
		for i := range page {
			if v.reader != nil {
				v.byAccessList(&page[i])
			}
			open = !page[i].Hides(directory.MemberLists)
		}
		return nil
	})
	return open, err
}

// findWhole notes the entries of a query, which selects such as hide nothing.
func (v *seer) findWhole(ctx context.Context, from *Server, q Query) error {
	return from.keys(ctx, q, func(key directory.Key) { v.whole[key] = struct{}{} })
}

// keys hands over which entries a query finds.
func (s *Server) keys(ctx context.Context, q Query, take func(directory.Key)) error {
	q.Attributes = []string{"1.1"}
	_, err := s.Search(ctx, q, func(page []directory.Entry) error {
		for i := range page {
			take(directory.KeyOf(page[i].DN))
		}
		return nil
	})
	return err
}

// settle writes down in a survey what is hidden of its entries, which were read
// without looking.
func (v *seer) settle(ctx context.Context, s *directory.Survey) error {
	var doubtful []*directory.Subject
	s.Subjects(func(of *directory.Subject) {
		if _, whole := v.whole[of.Key]; !whole {
			doubtful = append(doubtful, of)
		}
	})
	for some := range slices.Chunk(doubtful, partSize) {
		doubts := make([]doubt, len(some))
		for i, of := range some {
			doubts[i] = doubt{of.Key, of.ID}
		}
		shown, err := v.decided(ctx, doubts)
		if err != nil {
			return err
		}
		for _, of := range some {
			of.Hidden = v.telling(of.Kind).Without(shown[of.Key])
		}
	}
	return nil
}

// telling are the attributes of entries of some kinds whose absence says
// something.
func (s *Server) telling(kinds ...directory.Kind) (all directory.AttrSet) {
	for _, k := range kinds {
		all = all.Union(s.Dialect.Telling(k))
	}
	return all
}

// kindFilters select the entries of a kind of servers other than those of the
// `ad` schema.
var kindFilters = map[directory.Kind]string{
	directory.KindUser:  "(|(objectClass=person)(objectClass=account)(objectClass=posixAccount))",
	directory.KindGroup: GroupFilter,
	directory.KindOU:    "(objectClass=organizationalUnit)",
}

// decidable is a condition on entries of which the server may tell whether they have each
// of some attributes.
func decidable(attrs directory.AttrSet) string {
	var b strings.Builder
	for id := range attrs.All() {
		b.WriteString(eitherWay(id))
	}
	return b.String()
}

// hidesNothing is true of entries of some kinds, among those that a filter selects, of
// which the server may tell that of all of them.
func (v *seer) hidesNothing(among string, kinds ...directory.Kind) string {
	return ofKinds(among, kinds, func(k directory.Kind) string { return decidable(v.telling(k)) })
}

// ofKinds selects the entries of some kinds, among those that a filter selects, that fulfil
// the conditions on their kind.
func ofKinds(among string, kinds []directory.Kind, also func(directory.Kind) string) string {
	filter := "(&" + among + "(|"
	for _, k := range kinds {
		filter += "(&" + kindFilters[k] + also(k) + ")"
	}
	return filter + "))"
}

func eitherWay(id directory.AttrID) string { return fmt.Sprintf("(|(%[1]s=*)(!(%[1]s=*)))", id) }

func (v *seer) telling(k directory.Kind) directory.AttrSet {
	all := v.server.Dialect.Telling(k)
	if v.reader != nil {
		return all
	}
	return all.Intersect(v.told)
}

// ask is what a query needs besides, so that its entries can be looked at.
func (v *seer) ask(q Query) Query {
	if v == nil || v.reader == nil {
		return q
	}
	q.Attributes = append(slices.Clip(q.Attributes), "nTSecurityDescriptor")
	q.AccessList = true
	return q
}

// look writes down what is hidden of entries.
func (v *seer) look(ctx context.Context, page []directory.Entry) error {
	if v == nil || v.reader == nil && v.find == nil { // it is looked at in the end
		return nil
	}
	if v.reader != nil {
		for i := range page {
			v.byAccessList(&page[i])
		}
		return nil
	}
	return v.byFilter(ctx, page)
}

func (v *seer) byAccessList(e *directory.Entry) {
	sight := v.reader.Sight(e.First("nTSecurityDescriptor"), e.First("objectSid"))
	e.Attrs = slices.DeleteFunc(e.Attrs,
		func(a directory.Attribute) bool { return strings.EqualFold(a.Name, "nTSecurityDescriptor") })
	account := directory.AD.Account(e)
	telling := v.telling(account.Kind)
	telling.Add(directory.AttrObjectClass)
	hidden := telling
	if sight.Known {
		hidden = telling.Intersect(sight.Hidden)
	}
	if v.unmanaged != nil && (!sight.Known || sight.Hidden.Overlaps(managers)) {
		v.unmanaged[directory.KeyOf(e.DN)] = true
	}
	container := account.Kind == directory.KindOU || account.Kind == directory.KindDomain ||
		account.Kind == directory.KindOther
	e.Hide(hidden, container && !sight.Children)
}

// byFilter asks, of the entries that are not known to show all, for each
// attribute whether the server may tell.
func (v *seer) byFilter(ctx context.Context, page []directory.Entry) error {
	var doubts []doubt
	doubtful := map[directory.Key]*directory.Entry{}
	identity := v.server.Dialect.Identity.String()
	for i := range page {
		e := &page[i]
		key := directory.KeyOf(e.DN)
		if _, whole := v.whole[key]; whole || v.kind(e) == directory.KindOther {
			continue
		}
		doubtful[key] = e
		doubts = append(doubts, doubt{key, e.First(identity)})
	}
	shown, err := v.decided(ctx, doubts)
	for key, e := range doubtful {
		e.Hide(v.telling(v.kind(e)).Without(shown[key]), false)
	}
	return err
}

func (v *seer) kind(e *directory.Entry) directory.Kind { return kindSeen(v.server.Dialect, e) }

// kindSeen is one of the kinds of entries of which it is found out what they hide.
func kindSeen(d *directory.Dialect, e *directory.Entry) directory.Kind {
	switch a := d.Account(e); {
	case a.Kind.IsAccount():
		return directory.KindUser
	case a.Kind == directory.KindGroup || a.Kind == directory.KindOU:
		return a.Kind
	}
	return directory.KindOther
}

// newReader reads what judging by access lists takes: the groups of the bound
// account, and how the schema names attributes in such lists. It is nil where
// any of that, or the list of the base itself, may not be read.
func (s *Server) newReader(ctx context.Context) (*directory.Reader, error) {
	if s.reader != nil {
		return s.reader, nil
	}
	var token []string
	_, err := s.Search(
		ctx,
		Query{Base: "", Scope: ldap.ScopeBaseObject, Attributes: []string{"tokenGroups", "schemaNamingContext"}},
		func(page []directory.Entry) error {
			for i := range page {
				token = page[i].Get("tokenGroups")
				s.Root.Schema = page[i].First("schemaNamingContext")
			}
			return nil
		},
	)
	if err != nil || len(token) == 0 || s.Root.Schema == "" {
		return nil, ignoreHidden(err)
	}
	var names strings.Builder
	all := s.telling(directory.KindUser, directory.KindGroup, directory.KindOU, directory.KindPolicyContainer)
	all.Add(directory.AttrObjectClass)
	for id := range all.All() {
		names.WriteString("(lDAPDisplayName=" + id.String() + ")")
	}
	properties := map[directory.AttrID]directory.Property{}
	_, err = s.Search(ctx, Query{Base: s.Root.Schema, Scope: ldap.ScopeSingleLevel, Filter: "(|" + names.String() + ")",
		Attributes: []string{
			"lDAPDisplayName",
			"schemaIDGUID",
			"attributeSecurityGUID",
			"searchFlags",
		}}, func(page []directory.Entry) error {
		for i := range page {
			e := &page[i]
			flags, _ := directory.ParseFlags(e.First("searchFlags"))
			properties[directory.LookupAttr(e.First("lDAPDisplayName"))] = directory.Property{
				ID:           e.First("schemaIDGUID"),
				Set:          e.First("attributeSecurityGUID"),
				Confidential: flags&confidentialFlag != 0,
			}
		}
		return nil
	})
	if err != nil || properties[directory.AttrObjectClass].ID == "" {
		return nil, ignoreHidden(err)
	}
	reader := directory.NewReader(token, properties)
	known := false
	v := &seer{server: s, reader: reader}
	_, err = s.Search(
		ctx,
		v.ask(Query{Base: s.Base, Scope: ldap.ScopeBaseObject, Attributes: []string{"objectClass"}}),
		func(page []directory.Entry) error {
			for i := range page {
				known = reader.Sight(page[i].First("nTSecurityDescriptor"), "").Known
			}
			return nil
		},
	)
	if err != nil || !known {
		return nil, ignoreHidden(err)
	}
	s.reader, s.token = reader, token
	return reader, nil
}

// confidentialFlag is the bit of searchFlags (MS-ADTS 2.2.9) of attributes that
// take a right of their own to read.
const confidentialFlag = 0x80

// ignoreHidden is no error where something may not be seen.
func ignoreHidden(err error) error {
	if hidden(err) {
		return nil
	}
	return err
}
