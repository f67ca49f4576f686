package source

import (
	"context"
	"errors"
	"fmt"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

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
	names := []string{
		directory.AttrObjectClass.String(),
		directory.AttrObjectSID.String(),
		s.Dialect.Identity.String(),
		directory.AttrHasSubordinates.String(),
		directory.AttrNumSubordinates.String(),
	}
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
		asking, stop := context.WithCancel(ctx)
		defer stop()
		found := func() error { return nil }
		about.sight = v
		if v != nil && v.find != nil { // what hides nothing is found out beside, and looked at in the end
			found, about.sight = s.beside(asking, v.find), &seer{server: s}
		}
		part := out.NewPart(partSize, s.target.Keep)
		err = s.All(ctx, attributes, func(e *directory.Entry) error {
			if part.Len() == partSize {
				out.Merge(part)
				part = out.NewPart(partSize, s.target.Keep)
			}
			part.Add(s.Dialect, e)
			return nil
		}, &about)
		out.Merge(part)
		out.Gaps, out.RightsRead = about.Gaps, about.RightsRead
		if err != nil {
			stop()
		}
		if beside := found(); err == nil {
			err = beside
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

// beside reads on a connection of its own, while something else is read. The function it
// returns waits for that, and reads on this connection where the server takes no second one.
func (s *Server) beside(ctx context.Context, read func(context.Context, *Server) error) (wait func() error) {
	ended := make(chan error, 1)
	go func() {
		other, err := s.Another(ctx)
		if err == nil {
			err = read(ctx, other)
			other.Close()
		}
		ended <- err
	}()
	return func() error {
		if err := <-ended; err == nil {
			return nil
		}
		return read(ctx, s)
	}
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
			_, err := s.Search(
				ctx,
				Query{Base: r.Name, Scope: ldap.ScopeBaseObject, Attributes: []string{"1.1"}},
				func([]directory.Entry) error {
					out.Exists(r.Key)
					return nil
				},
			)
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
		Attributes: []string{
			"passwordLockout",
			"passwordMaxFailure",
			"passwordMaxAge",
			"passwordExp",
		}}, func(page []directory.Entry) error {
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
	out, err := s.frame(
		ctx,
		Need{Policies: true, Groups: true},
		Query{
			Base:      s.Base,
			Scope:     ldap.ScopeWholeSubtree,
			Filter:    "(&(|(objectClass=person)(objectClass=account)(objectClass=posixAccount))(!" + id + "))",
			FirstPage: true,
		},
		Query{Base: e.DN, Scope: ldap.ScopeBaseObject},
	)
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
			{
				Base:   s.Base,
				Scope:  ldap.ScopeWholeSubtree,
				Filter: "(|(objectClass=pwdPolicy)(objectClass=msDS-PasswordSettings)(&(objectClass=passwordPolicy)(objectClass=ldapsubentry)))",
			}}, more...)
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
			part := out.NewPart(1, s.target.Keep)
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
			part := out.NewPart(1, s.target.Keep)
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
func (s *Server) All(
	ctx context.Context, attributes []string, take func(*directory.Entry) error, about *Reading,
) error {
	changes, err := s.flagChanges(ctx, "")
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
	q := Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Attributes: attributes, Filter: s.everything("")}
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
			takeFlagChange(&page[i], changes)
			if s.hides(&page[i]) {
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

// everything is a filter that leaves out nothing of what a filter selects that servers
// hide from whoever does not ask for it; "" selects all.
func (s *Server) everything(filter string) string {
	if s.Dialect == directory.NS389 { // which shows subentries to those only who ask for them (RFC 3672)
		return "(&(|(objectClass=*)(objectClass=ldapsubentry))" + filter + ")"
	}
	if filter == "" && s.Dialect == directory.AD {
		return everyEntry
	}
	return filter
}

// takeFlagChange gives an entry the metadata that flagChanges has found for it.
func takeFlagChange(e *directory.Entry, changes map[string]string) {
	if meta := changes[e.DN]; meta != "" && !e.Has("replPropertyMetaData") {
		e.Set("replPropertyMetaData", meta)
	}
}

// hides tells of an entry of which rights were written down that it does not show all.
func (s *Server) hides(e *directory.Entry) bool {
	return (e.Has(directory.AttrHidden.String()) || e.Has(directory.AttrHidesBelow.String())) &&
		!directory.IsOwnPlace(e.DN, s.Top())
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
	_, err := s.Search(
		ctx,
		v.ask(
			Query{
				Base:   "CN=Sites," + s.Root.Config,
				Scope:  ldap.ScopeWholeSubtree,
				Filter: "(|(objectClass=nTDSDSA)(objectClass=server)(objectClass=site))",
				Attributes: []string{
					"objectClass",
					"dNSHostName",
					"gPLink",
					"objectGUID",
				},
			},
		),
		func(page []directory.Entry) error {
			if err := v.look(ctx, page); err != nil {
				return err
			}
			for i := range page {
				if err := take(&page[i]); err != nil {
					return err
				}
			}
			return nil
		},
	)
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

// flagChanges reads the replication metadata of disabled accounts among those that a
// filter selects, which dates the disabling. It is large, so no others are asked for it.
func (s *Server) flagChanges(ctx context.Context, among string) (map[string]string, error) {
	found := map[string]string{}
	if s.Dialect != directory.AD {
		return found, nil
	}
	_, err := s.Search(
		ctx,
		Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree, Filter: "(&" + among + "(userAccountControl:1.2.840.113556.1.4.803:=2))",
			Attributes: []string{"replPropertyMetaData"}},
		func(page []directory.Entry) error {
			for i := range page {
				if meta := page[i].First("replPropertyMetaData"); meta != "" {
					found[page[i].DN] = meta
				}
			}
			return nil
		},
	)
	return found, err
}
