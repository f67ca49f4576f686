package source

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// Controls for entries that were deleted and are still kept (MS-ADTS
// 3.1.1.3.4.1.14).
const (
	ShowDeletedOID  = "1.2.840.113556.1.4.417"
	showRecycledOID = "1.2.840.113556.1.4.2064" // also those of which nothing can be restored any more
)

// AssertionOID is the assertion control of RFC 4528.
const AssertionOID = "1.3.6.1.1.12"

// discretionaryList is the part of a security descriptor that says who may do what
// (DACL_SECURITY_INFORMATION, MS-ADTS 3.1.1.3.4.1.11).
const discretionaryList = 4

// listOnly is the control by which only that part is read, or written.
func listOnly() ldap.Control {
	flags := ldap.NewControlMicrosoftSDFlags()
	flags.ControlValue = discretionaryList
	return flags
}

// partSize is how many accounts of a live survey stand together, so that
// several processors can judge them.
const partSize = 1000

// attempts is how often a read is begun before a lossy connection is given up.
const attempts = 3

// convert takes an entry over from the protocol package.
func convert(e *ldap.Entry) directory.Entry {
	out := directory.Entry{DN: e.DN, Attrs: make([]directory.Attribute, 0, len(e.Attributes))}
	for _, a := range e.Attributes {
		if !directory.IsSecret(a.Name) {
			out.Attrs = append(out.Attrs,
				directory.Attribute{Name: a.Name, ID: directory.LookupAttr(a.Name), Values: a.Values})
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
	// ShowGone is ShowDeleted that also shows what is kept only so that other servers learn
	// of it, where the server has that.
	ShowGone  bool
	FirstPage bool // no more than one page
	// Unpaged asks for no more than a page, without the control for pages: slapd goes
	// over all entries that it has before it gives a page of what is below one of them.
	// More than a page is an error, of size limit exceeded.
	Unpaged    bool
	AccessList bool // of nTSecurityDescriptor, the discretionary list only, which needs no special right
	// Only are the values that are returned, besides all those of the attributes
	// in Whole, where the server offers the control for that.
	Only  []Value
	Whole []string
}

// request is the query as it is sent, with the control by which its pages are
// asked for.
func (q *Query) request(pageSize int) (*ldap.SearchRequest, *ldap.ControlPaging, error) {
	paging := ldap.NewControlPaging(uint32(pageSize))
	controls := []ldap.Control{paging}
	atMost := 0
	switch {
	case q.Scope == ldap.ScopeBaseObject:
		controls = nil
	case q.Unpaged:
		controls, atMost = nil, pageSize
	}
	if q.AccessList {
		controls = append(controls, listOnly())
	}
	if q.ShowDeleted || q.ShowGone {
		controls = append(controls, ldap.NewControlString(ShowDeletedOID, true, ""))
	}
	if q.ShowGone {
		controls = append(controls, ldap.NewControlString(showRecycledOID, false, ""))
	}
	if len(q.Only) > 0 {
		control, err := matchedValues(q.Only, q.Whole...)
		if err != nil {
			return nil, nil, err
		}
		controls = append(controls, control)
	}
	filter := cmp.Or(q.Filter, "(objectClass=*)")
	return ldap.NewSearchRequest(
		q.Base, q.Scope, ldap.NeverDerefAliases, atMost, 0, q.NamesOnly, filter, q.Attributes, controls), paging, nil
}

// Search runs a query in pages and hands each page over as it comes. It
// returns how many references to other servers it met, none of which it
// follows. A search that ends early is an error, whatever it gave. Whoever takes a page
// may search too.
func (s *Server) Search(ctx context.Context, q Query, take func([]directory.Entry) error) (referrals int, err error) {
	if q.Scope != ldap.ScopeBaseObject && !q.Unpaged {
		if !s.paging.CompareAndSwap(false, true) {
			side, err := s.aside(ctx)
			if err != nil {
				return 0, err
			}
			return side.Search(ctx, q, take)
		}
		defer s.paging.Store(false)
	}
	ctx, stop := context.WithTimeoutCause(ctx, s.within(),
		fmt.Errorf("%s did not give everything within %s (read_within of the yard)", s.URL, s.within()))
	defer stop()
	began, read := time.Now(), 0
	step := "reading from " + s.URL
	defer func() {
		s.target.Progress.tell(step, Over, 0)
		s.logSearch(ctx, &q, read, time.Since(began))
	}()
	all := &pages{server: s}
	defer all.leave(ctx)
	for err = all.begin(ctx, &q, s.pageOf(&q)); err == nil && all.next != nil; {
		var got page
		if got, err = all.get(ctx); err != nil {
			break
		}
		for _, where := range got.references {
			if !s.ownPartition(where) {
				referrals++
			}
		}
		read += len(got.entries)
		s.target.Progress.tell(step, int64(read), 0)
		for i := range got.entries {
			if err := s.complete(ctx, &got.entries[i]); err != nil {
				return referrals, err
			}
		}
		if err := take(got.entries); err != nil {
			return referrals, err
		}
	}
	return referrals, err
}

// pageSize is how many entries of any size are asked for at once.
func (s *Server) pageSize() int { return s.granted(cmp.Or(s.target.Yard.PageSize, defaultPageSize)) }

// granted is how many of so many entries the server gives at once.
func (s *Server) granted(n int) int {
	if most := int(s.most.Load()); most > 0 {
		return min(n, most)
	}
	return n
}

// pageOf is how many entries of a query are asked for at once.
func (s *Server) pageOf(q *Query) int {
	if s.target.Yard.PageSize != 0 || s.Dialect != directory.OpenLDAP || q.Unpaged || q.FirstPage || !q.slim() {
		return s.pageSize()
	}
	return s.granted(slimPageSize)
}

// slim tells that the entries of a query take little memory: all that is asked for is told
// by short values, as those of attributes that the tool looks at are.
func (q *Query) slim() bool {
	return q.NamesOnly || len(q.Attributes) > 0 && !slices.ContainsFunc(q.Attributes, func(name string) bool {
		return name != "1.1" && directory.LookupAttr(name) == directory.AttrUnknown
	})
}

// onePage asks for the next page of a search. An error says why nothing comes any
// more.
func (s *Server) onePage(ctx context.Context, req *ldap.SearchRequest) ([]directory.Entry, result, error) {
	if ctx.Err() != nil {
		return nil, result{}, context.Cause(ctx)
	}
	var entries []directory.Entry
	res, err := s.wire.search(ctx, req, s.patience(), func(e *directory.Entry) error {
		entries = append(entries, *e)
		return nil
	})
	switch {
	case err == nil:
	case ctx.Err() != nil:
		err = context.Cause(ctx)
	case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject):
		err = notFound(err, req.BaseDN, s.URL)
	default:
		err = s.searchError(err)
	}
	return entries, res, err
}

func (s *Server) logSearch(ctx context.Context, q *Query, read int, took time.Duration) {
	slog.DebugContext(ctx, "searched",
		"server", s.URL, "base", q.Base, "scope", q.Scope, "filter", cmp.Or(q.Filter, "(objectClass=*)"),
		"attributes", len(q.Attributes), "entries", read, "took", took.Round(time.Millisecond))
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
		return fmt.Errorf("%s gives only a part of its entries (%w): raise the account's limits",
			s.URL, err)
	case ldap.IsErrorWithCode(err, ldap.LDAPResultOperationsError) && s.Bound == "",
		ldap.IsErrorWithCode(err, ldap.LDAPResultInsufficientAccessRights):
		return fmt.Errorf("%s lets %s read nothing: bind with an account that may read (%w)", s.URL, s.boundName(), err)
	}
	var answer *ldap.Error
	if errors.As(err, &answer) && answer.Err != nil { // the server's own words are one line
		err = &ldap.Error{
			ResultCode: answer.ResultCode,
			MatchedDN:  answer.MatchedDN,
			Err:        errors.New(strings.Join(strings.Fields(directory.OneLine(answer.Err.Error())), " ")),
		}
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
			res, err := s.conn.Search(
				ldap.NewSearchRequest(e.DN, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false,
					"(objectClass=*)", []string{fmt.Sprintf("%s;range=%d-*", name, last+1)}, nil),
			)
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
