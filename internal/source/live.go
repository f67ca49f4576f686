package source

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
)

// Controls for entries that were deleted and are still kept (MS-ADTS
// 3.1.1.3.4.1.14).
const ShowDeletedOID = "1.2.840.113556.1.4.417"

// AssertionOID is the assertion control of RFC 4528.
const AssertionOID = "1.3.6.1.1.12"

// partSize is how many accounts of a live survey stand together, so that
// several processors can judge them.
const partSize = 1000

// mostBarren is how many pages in a row may bring nothing new.
const mostBarren = 100

// attempts is how often a read is begun before a lossy connection is given up.
const attempts = 3

// convert takes an entry over from the protocol package.
func convert(e *ldap.Entry) directory.Entry {
	out := directory.Entry{DN: e.DN, Attrs: make([]directory.Attribute, 0, len(e.Attributes))}
	for _, a := range e.Attributes {
		if !directory.IsSecret(a.Name) {
			out.Attrs = append(out.Attrs, directory.Attribute{Name: a.Name, ID: directory.LookupAttr(a.Name), Values: a.Values})
		}
	}
	return out
}

// Query is one search.
type Query struct {
	Base        string
	Scope       int
	Filter      string
	Attributes  []string
	NamesOnly   bool
	ShowDeleted bool
	FirstPage   bool // no more than one page
	AccessList  bool // of nTSecurityDescriptor, the discretionary list only, which needs no special right
	// Only are the values that are returned, besides all those of the attributes
	// in Whole, where the server offers the control for that.
	Only  []Value
	Whole []string
}

// Search runs a query in pages and hands each page over as it comes. It
// returns how many references to other servers it met, none of which it
// follows. A search that ends early is an error, whatever it gave.
func (s *Server) Search(ctx context.Context, q Query, page func([]directory.Entry) error) (referrals int, err error) {
	size := s.target.Yard.PageSize
	if size == 0 {
		size = defaultPageSize
	}
	paging := ldap.NewControlPaging(uint32(size))
	controls := []ldap.Control{paging}
	if q.Scope == ldap.ScopeBaseObject {
		controls = nil
	}
	if q.AccessList {
		flags := ldap.NewControlMicrosoftSDFlags()
		flags.ControlValue = 4
		controls = append(controls, flags)
	}
	if q.ShowDeleted {
		controls = append(controls, ldap.NewControlString(ShowDeletedOID, true, ""))
	}
	if len(q.Only) > 0 {
		control, err := matchedValues(q.Only, q.Whole...)
		if err != nil {
			return 0, err
		}
		controls = append(controls, control)
	}
	if q.Filter == "" {
		q.Filter = "(objectClass=*)"
	}
	req := ldap.NewSearchRequest(q.Base, q.Scope, ldap.NeverDerefAliases, 0, 0, q.NamesOnly, q.Filter, q.Attributes, controls)
	ctx, stop := context.WithTimeoutCause(ctx, s.within(), fmt.Errorf("%s did not give everything within %s (read_within of the yard)", s.URL, s.within()))
	defer stop()
	began, read, barren := time.Now(), 0, 0
	step := "reading from " + s.URL
	defer func() {
		s.target.Progress.tell(step, Over, 0)
		slog.DebugContext(ctx, "searched", "server", s.URL, "base", q.Base, "scope", q.Scope, "filter", q.Filter, "attributes", len(q.Attributes), "entries", read, "took", time.Since(began).Round(time.Millisecond))
	}()
	for {
		if ctx.Err() != nil {
			return referrals, context.Cause(ctx)
		}
		var entries []directory.Entry
		res, err := s.wire.search(ctx, req, s.patience(), func(e *directory.Entry) error {
			entries = append(entries, *e)
			return nil
		})
		if err != nil {
			if ctx.Err() != nil {
				return referrals, context.Cause(ctx)
			}
			if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
				return referrals, notFound(err, q.Base, s.URL)
			}
			return referrals, s.searchError(err)
		}
		for _, where := range res.references {
			if !s.ownPartition(where) {
				referrals++
			}
		}
		read += len(entries)
		s.target.Progress.tell(step, int64(read), 0)
		for i := range entries {
			if err := s.complete(ctx, &entries[i]); err != nil {
				return referrals, err
			}
		}
		if err := page(entries); err != nil {
			return referrals, err
		}
		if len(res.cookie) == 0 || q.FirstPage {
			return referrals, nil
		}
		if barren++; len(entries) > 0 {
			barren = 0
		}
		if barren >= mostBarren {
			return referrals, fmt.Errorf("%s goes on paging and gives no entries: stopped after %d empty pages", s.URL, barren)
		}
		paging.SetCookie(res.cookie)
	}
}

// ownPartition tells of a reference that it leads to a partition of the same
// directory which holds no accounts: those of DNS, the configuration, the
// schema.
func (s *Server) ownPartition(reference string) bool {
	u, err := url.Parse(reference)
	if err != nil {
		return false
	}
	dn := directory.FoldDN(strings.TrimPrefix(u.Path, "/"))
	for _, leaf := range []string{"dc=domaindnszones,", "dc=forestdnszones,"} {
		if strings.HasPrefix(dn, leaf) {
			return true
		}
	}
	return s.Root.Config != "" && directory.Under(dn, directory.FoldDN(s.Root.Config))
}

func (s *Server) searchError(err error) error {
	switch {
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultSizeLimitExceeded, ldap.LDAPResultTimeLimitExceeded, ldap.LDAPResultAdminLimitExceeded):
		return fmt.Errorf("%s gives only a part of its entries (%w): raise the account's limits, or lower page_size", s.URL, err)
	case ldap.IsErrorWithCode(err, ldap.LDAPResultOperationsError) && s.Bound == "",
		ldap.IsErrorWithCode(err, ldap.LDAPResultInsufficientAccessRights):
		return fmt.Errorf("%s lets %s read nothing: bind with an account that may read (%w)", s.URL, s.boundName(), err)
	}
	var answer *ldap.Error
	if errors.As(err, &answer) && answer.Err != nil { // the server's own words are one line
		err = &ldap.Error{ResultCode: answer.ResultCode, MatchedDN: answer.MatchedDN, Err: errors.New(strings.Join(strings.Fields(directory.OneLine(answer.Err.Error())), " "))}
	}
	return fmt.Errorf("%s: %w", s.URL, Answered(err))
}

func (s *Server) boundName() string {
	if s.Bound == "" {
		return "an anonymous reader"
	}
	return s.Bound
}

// complete fetches the rest of lists that the server gives in ranges.
func (s *Server) complete(ctx context.Context, e *directory.Entry) error {
	for i := range e.Attrs {
		a := &e.Attrs[i]
		for {
			span, ranged := directory.RangeOf(a.Name)
			if !ranged {
				break
			}
			name, _, _ := strings.Cut(a.Name, ";")
			_, high, _ := strings.Cut(span, "-")
			if high == "*" {
				a.Name = name
				break
			}
			last, err := strconv.Atoi(high)
			if err != nil {
				return fmt.Errorf("%s: the range of %s of %s cannot be read", s.URL, a.Name, e.DN)
			}
			res, err := s.conn.Search(ldap.NewSearchRequest(e.DN, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false,
				"(objectClass=*)", []string{fmt.Sprintf("%s;range=%d-*", name, last+1)}, nil))
			if err != nil {
				return s.searchError(err)
			}
			if ctx.Err() != nil {
				return ctx.Err()
			}
			var more *ldap.EntryAttribute
			if len(res.Entries) == 1 {
				for _, m := range res.Entries[0].Attributes {
					if base, _, _ := strings.Cut(m.Name, ";"); strings.EqualFold(base, name) {
						more = m
					}
				}
			}
			if more == nil {
				return fmt.Errorf("%s: the list %s of %s changed while it was read", s.URL, name, e.DN)
			}
			a.Values = append(a.Values, more.Values...)
			a.Name = more.Name
		}
	}
	return nil
}

// retry runs a read again after a lost connection, from its beginning.
func (s *Server) retry(ctx context.Context, read func() error) error {
	var err error
	for n := range attempts {
		if n > 0 {
			select {
			case <-time.After(time.Duration(n-1) * time.Second):
			case <-ctx.Done():
				return ctx.Err()
			}
			if again := s.Reconnect(ctx); again != nil {
				err = again
				continue
			}
		}
		if err = read(); !Lost(err) || ctx.Err() != nil {
			return err
		}
	}
	return lostError{fmt.Errorf("the connection was lost %d times: %w", attempts, err)}
}

// Survey reads the whole base for judging, and from the other servers of the
// yard, at the same time, the sign-ins that only they know of.
func (s *Server) Survey(ctx context.Context) (*directory.Survey, error) {
	others := s.askOthers(ctx, "")
	out, err := s.readAll(ctx, s.Dialect.Attributes(s.target.Keep))
	signIns := others()
	if err != nil {
		return out, err
	}
	takeSignIns(out, signIns)
	return out, s.confirm(ctx, out)
}

// Visibility reads the whole base for what the bound account cannot see, and no
// more of it than that takes.
func (s *Server) Visibility(ctx context.Context) (*directory.Survey, error) {
	names := []string{directory.AttrObjectClass.String(), directory.AttrObjectSID.String(), s.Dialect.Identity.String(), directory.AttrHasSubordinates.String(), directory.AttrNumSubordinates.String()}
	for id := range s.telling(directory.KindUser, directory.KindGroup, directory.KindOU).All() {
		names = append(names, id.String())
	}
	return s.readAll(ctx, names)
}

// readAll surveys the whole base.
func (s *Server) readAll(ctx context.Context, attributes []string) (*directory.Survey, error) {
	var out *directory.Survey
	err := s.retry(ctx, func() error {
		out = s.newSurvey()
		s.readServerPolicy(ctx, out)
		var about Reading
		v, err := s.seer(ctx, "", directory.KindUser, directory.KindGroup, directory.KindOU)
		if err != nil {
			return err
		}
		found := func() error { return nil }
		about.sight = v
		if v != nil && v.find != nil { // what hides nothing is found out beside, and looked at in the end
			found, about.sight = v.beside(ctx), &seer{server: s}
		}
		part := directory.NewPart(partSize, s.target.Keep)
		err = s.All(ctx, attributes, func(e *directory.Entry) error {
			if part.Len() == partSize {
				out.Merge(part)
				part = directory.NewPart(partSize, s.target.Keep)
			}
			part.Add(s.Dialect, e)
			return nil
		}, &about)
		out.Merge(part)
		out.Gaps, out.RightsRead = about.Gaps, about.RightsRead
		if beside := found(); err == nil && beside != nil {
			err = v.find(ctx, s) // the server may not take a second connection
		}
		if err == nil && v != nil && v.find != nil {
			err = v.settle(ctx, out)
		}
		return err
	})
	if err != nil {
		return out, err
	}
	if out.Entries == 0 {
		return out, fmt.Errorf("%s shows no entries below %s to %s", s.URL, s.Base, s.boundName())
	}
	out.Settle()
	return out, nil
}

// confirm asks the server itself for the entries that references name and
// the survey does not hold.
func (s *Server) confirm(ctx context.Context, out *directory.Survey) error {
	asked := map[directory.Key]bool{}
	for _, r := range out.Unresolved() {
		if asked[r.Key] {
			continue
		}
		asked[r.Key] = true
		err := s.retry(ctx, func() error {
			_, err := s.Search(ctx, Query{Base: r.Name, Scope: ldap.ScopeBaseObject, Attributes: []string{"1.1"}}, func([]directory.Entry) error {
				out.Exists(r.Key)
				return nil
			})
			return err
		})
		switch {
		case errors.Is(err, ErrNotFound):
			out.Absent[r.Key] = s.provesAbsence(err)
		case err != nil && (Lost(err) || ctx.Err() != nil):
			return err
		}
	}
	return nil
}

// provesAbsence tells whether an answer that an entry is not there can be
// believed of an account that may not read everything. OpenLDAP gives the same
// answer for what is hidden, but then does not say how far it got (RFC 4511
// 4.1.9, matchedDN); 389 Directory Server answers there with success.
func (s *Server) provesAbsence(err error) bool {
	var missing *missingError
	return s.Dialect != directory.OpenLDAP || errors.As(err, &missing) && missing.matched != ""
}

func (s *Server) newSurvey() *directory.Survey {
	out := directory.NewSurvey(s.Dialect)
	out.Source, out.Server = s.URL, s.HostName()
	out.Asked = []string{out.Server}
	out.DefaultPolicy = directory.FoldDN(s.target.Yard.DefaultPolicy)
	out.Taken = s.target.now().UTC()
	return out
}

// readServerPolicy takes the password policy of the server's own
// configuration, where there is one that the bound account may read.
func (s *Server) readServerPolicy(ctx context.Context, out *directory.Survey) {
	if s.Dialect != directory.NS389 || out.DefaultPolicy != "" {
		return
	}
	_, _ = s.Search(ctx, Query{Base: "cn=config", Scope: ldap.ScopeBaseObject,
		Attributes: []string{"passwordLockout", "passwordMaxFailure", "passwordMaxAge", "passwordExp"}}, func(page []directory.Entry) error {
		if len(page) == 1 && len(page[0].Attrs) > 0 {
			out.ServerPolicy(&page[0])
		}
		return nil
	})
}

// Around reads the entry again, the policies that may be in force for it, all
// groups, and one page of other entries, which shows what the bound account
// can see.
func (s *Server) Around(ctx context.Context, e *directory.Entry) (*directory.Survey, error) {
	id := IdentityFilter(s.Dialect, e.First(s.Dialect.Identity.String()))
	others := s.askOthers(ctx, id)
	out, err := s.frame(ctx, Need{Policies: true, Groups: true},
		Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Filter: "(&(|(objectClass=person)(objectClass=account)(objectClass=posixAccount))(!" + id + "))", FirstPage: true},
		Query{Base: e.DN, Scope: ldap.ScopeBaseObject})
	takeSignIns(out, others())
	return out, err
}

// Frame reads the domain and the policies, and what else is needed.
func (s *Server) Frame(ctx context.Context, need Need) (*directory.Survey, error) {
	others := func() []logons { return nil }
	if need.SignIns {
		others = s.askOthers(ctx, "")
	}
	out, err := s.frame(ctx, need)
	takeSignIns(out, others())
	return out, err
}

// frame surveys the domain and the policies, and what more queries give.
func (s *Server) frame(ctx context.Context, need Need, more ...Query) (*directory.Survey, error) {
	out := s.newSurvey()
	attributes := s.Dialect.Attributes(s.target.Keep)
	queries := more
	if need.Policies {
		queries = append([]Query{{Base: s.Base, Scope: ldap.ScopeBaseObject},
			{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Filter: "(|(objectClass=pwdPolicy)(objectClass=msDS-PasswordSettings)(&(objectClass=passwordPolicy)(objectClass=ldapsubentry)))"}}, more...)
	}
	if need.Groups {
		queries = append(queries, Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Filter: GroupFilter})
	}
	err := s.retry(ctx, func() error {
		*out = *s.newSurvey()
		out.Partial = true
		s.readServerPolicy(ctx, out)
		v, err := s.sees(ctx, "", directory.KindGroup, directory.KindOU)
		if err != nil {
			return err
		}
		out.RightsRead = v != nil
		for _, q := range queries {
			part := directory.NewPart(1, s.target.Keep)
			q.Attributes = attributes
			_, err := s.Search(ctx, v.ask(q), func(page []directory.Entry) error {
				if !q.FirstPage { // others only show what can be seen at all
					if err := v.look(ctx, page); err != nil {
						return err
					}
				}
				for i := range page {
					part.Add(s.Dialect, &page[i])
				}
				return nil
			})
			out.Merge(part)
			if err != nil && !errors.Is(err, ErrNotFound) {
				return err
			}
		}
		if need.Policies {
			part := directory.NewPart(1, s.target.Keep)
			err = s.configuration(ctx, v, func(e *directory.Entry) error { part.Add(s.Dialect, e); return nil })
			out.Merge(part)
		}
		out.Settle()
		return err
	})
	return out, err
}

// takeSignIns takes what other servers said, or that they did not.
func takeSignIns(out *directory.Survey, others []logons) {
	for _, o := range others {
		if o.err != nil {
			out.Silent = append(out.Silent, o.name)
			out.SilentWhy = append(out.SilentWhy, o.err.Error())
			continue
		}
		out.TakeTimes(o.name, o.known)
	}
}

// HostName is what the server calls itself, or its URL.
func (s *Server) HostName() string {
	if s.Root.HostName != "" {
		return s.Root.HostName
	}
	return s.URL
}

// Reading is what is to be said of a reading of everything.
type Reading struct {
	directory.Gaps
	RightsRead bool // what the bound account may not read is written down with each entry

	sight *seer // that looks at the entries, if it is not to be made for them
}

// All hands over every entry of the base with the named attributes and what of
// it may not be read, and on the `ad` schema the list of servers from the
// configuration partition.
func (s *Server) All(ctx context.Context, attributes []string, take func(*directory.Entry) error, about *Reading) error {
	changes, err := s.flagChanges(ctx)
	if err != nil {
		return err
	}
	v := about.sight
	if v == nil {
		if v, err = s.sees(ctx, "", directory.KindUser, directory.KindGroup, directory.KindOU); err != nil {
			return err
		}
	}
	*about = Reading{RightsRead: v != nil}
	q := Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Attributes: attributes}
	switch s.Dialect {
	case directory.AD:
		q.Filter = everyEntry
	case directory.NS389: // which shows subentries to those only who ask for them (RFC 3672)
		q.Filter = "(|(objectClass=*)(objectClass=ldapsubentry))"
	}
	keep := s.keepsOut(about)
	about.Referrals, err = s.Search(ctx, v.ask(q), func(page []directory.Entry) error {
		page, err := keep(page)
		if err == nil {
			err = v.look(ctx, page)
		}
		if err != nil {
			return err
		}
		for i := range page {
			if meta := changes[page[i].DN]; meta != "" && !page[i].Has("replPropertyMetaData") {
				page[i].Set("replPropertyMetaData", meta)
			}
			if (page[i].Has(directory.AttrHidden.String()) || page[i].Has(directory.AttrHidesBelow.String())) && !directory.IsOwnPlace(page[i].DN, s.Top()) {
				about.Hidden++
			}
			if err := take(&page[i]); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return s.configuration(ctx, v, take)
}

// keepsOut takes out of pages what does not stand below the base and what came
// before, and counts both.
func (s *Server) keepsOut(about *Reading) func(page []directory.Entry) ([]directory.Entry, error) {
	base, seen, stale := directory.FoldDN(s.Base), map[directory.Key]struct{}{}, 0
	return func(page []directory.Entry) ([]directory.Entry, error) {
		fresh := page[:0]
		for i := range page {
			key := directory.KeyOf(page[i].DN)
			if _, again := seen[key]; again {
				about.Twice++
				continue
			}
			if !directory.Under(directory.FoldDN(page[i].DN), base) {
				about.Outside++
				continue
			}
			seen[key] = struct{}{}
			fresh = append(fresh, page[i])
		}
		if stale++; len(fresh) > 0 || len(page) == 0 {
			stale = 0
		}
		if stale >= mostBarren {
			return nil, fmt.Errorf("%s gives the same entries again and again, page by page: stopped", s.URL)
		}
		return fresh, nil
	}
}

// configuration hands over the servers and sites that the configuration
// partition of the `ad` schema lists. Where it cannot be read, their number is
// not known.
func (s *Server) configuration(ctx context.Context, v *seer, take func(*directory.Entry) error) error {
	if s.Root.Config == "" {
		return nil
	}
	_, err := s.Search(ctx, v.ask(Query{Base: "CN=Sites," + s.Root.Config, Scope: ldap.ScopeWholeSubtree, Filter: "(|(objectClass=nTDSDSA)(objectClass=server)(objectClass=site))",
		Attributes: []string{"objectClass", "dNSHostName", "gPLink", "objectGUID"}}), func(page []directory.Entry) error {
		if err := v.look(ctx, page); err != nil {
			return err
		}
		for i := range page {
			if err := take(&page[i]); err != nil {
				return err
			}
		}
		return nil
	})
	if errors.Is(err, ErrNotFound) || ldap.IsErrorWithCode(err, ldap.LDAPResultInsufficientAccessRights) {
		return nil
	}
	return err
}

// Metadata returns the replication metadata of one entry, which dates the
// last change of its flags; "" where the server keeps none or hides it.
func (s *Server) Metadata(ctx context.Context, e *directory.Entry) (string, error) {
	if s.Dialect != directory.AD {
		return "", nil
	}
	found, err := s.Select(ctx, IdentityFilter(s.Dialect, e.First("objectGUID")), []string{"replPropertyMetaData"})
	if err != nil || len(found) != 1 {
		return "", err
	}
	return found[0].First("replPropertyMetaData"), nil
}

// flagChanges reads the replication metadata of disabled accounts, which
// dates the disabling. It is large, so no others are asked for it.
func (s *Server) flagChanges(ctx context.Context) (map[string]string, error) {
	found := map[string]string{}
	if s.Dialect != directory.AD {
		return found, nil
	}
	_, err := s.Search(ctx, Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Filter: "(userAccountControl:1.2.840.113556.1.4.803:=2)",
		Attributes: []string{"replPropertyMetaData"}}, func(page []directory.Entry) error {
		for i := range page {
			if meta := page[i].First("replPropertyMetaData"); meta != "" {
				found[page[i].DN] = meta
			}
		}
		return nil
	})
	return found, err
}

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
	examples := map[string]string{}
	q.Attributes = []string{"objectClass"}
	_, err := s.Search(ctx, q, func(page []directory.Entry) error {
		for i := range page {
			examples[strings.Join(page[i].Get("objectClass"), " ")] = page[i].DN
		}
		return nil
	})
	if err != nil {
		return err
	}
	for classes, dn := range examples {
		if s.allowed[classes] == nil {
			_, err := s.Search(ctx, Query{Base: dn, Scope: ldap.ScopeBaseObject, Attributes: []string{"allowedAttributes"}, ShowDeleted: q.ShowDeleted}, func(page []directory.Entry) error {
				for i := range page {
					s.allowed[classes] = page[i].Get("allowedAttributes")
				}
				return nil
			})
			if err != nil {
				return err
			}
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

// computedOfAccounts are those that are worked out and asked for of accounts all
// the same, in lower case.
var computedOfAccounts = map[string]bool{"msds-resultantpso": true, "msds-user-account-control-computed": true, "msds-userpasswordexpirytimecomputed": true,
	"msds-maximumpasswordage": true, "msds-minimumpasswordage": true}

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
func (s *Server) SelectConfiguration(ctx context.Context, filter string, attributes []string) ([]directory.Entry, error) {
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
func (s *Server) Each(ctx context.Context, sel Selection, begin func(), make func(*directory.Entry) any, keep func(any)) error {
	if err := s.keepSecrets(ctx, sel.Filter, sel.Attributes); err != nil {
		return err
	}
	q := Query{Base: cmp.Or(sel.Under, s.Base), Scope: ldap.ScopeWholeSubtree, Filter: sel.Filter, Attributes: sel.Attributes}
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
			err = fmt.Errorf("the server cannot evaluate ~= in %s: use = and, for a part of a value, *: %w", sel.Filter, err)
		}
		return err
	})
}

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
		err := s.retry(ctx, func() error {
			children[dn] = nil
			_, err := s.Search(ctx, Query{Base: dn, Scope: ldap.ScopeSingleLevel, Attributes: []string{"1.1"}}, func(page []directory.Entry) error {
				for i := range page {
					children[dn] = append(children[dn], page[i].DN)
				}
				return nil
			})
			return err
		})
		if err != nil {
			return nil, err
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
		_, err := s.Search(ctx, Query{Base: dn, Scope: ldap.ScopeBaseObject, Attributes: []string{"nTSecurityDescriptor"}, AccessList: true}, func(page []directory.Entry) error {
			for i := range page {
				list = page[i].First("nTSecurityDescriptor")
			}
			return nil
		})
		return err
	})
	if errors.Is(err, ErrNotFound) || ldap.IsErrorWithCode(err, ldap.LDAPResultUnavailableCriticalExtension) {
		return "", nil
	}
	return list, err
}

// ByIdentity reads one whole entry by the identity that renaming, moving and
// deleting leave as it is. A deleted one is found only if asked for.
func (s *Server) ByIdentity(ctx context.Context, id string, deleted bool) (*directory.Entry, error) {
	var found []directory.Entry
	err := s.retry(ctx, func() (err error) {
		found, err = s.whole(ctx, Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Filter: IdentityFilter(s.Dialect, id), ShowDeleted: deleted})
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
func (s *Server) ByIdentities(ctx context.Context, ids []string, names map[string]bool) (map[string]*directory.Entry, error) {
	var filter strings.Builder
	filter.WriteString("(|")
	for _, id := range ids {
		filter.WriteString(IdentityFilter(s.Dialect, id))
	}
	filter.WriteString(")")
	q := Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Filter: filter.String()}
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
		_, err := s.Search(ctx, Query{Base: top, Scope: ldap.ScopeBaseObject, Attributes: []string{"objectSid", s.Dialect.Identity.String()}},
			func(page []directory.Entry) error { found = page; return nil })
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
	e, err := s.ByIdentity(ctx, id, true)
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
