package conformance

import (
	"context"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/listing"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

// TestListsAreTheSameLiveAndFromAFile asks a server and a file of its entries
// the everyday questions.
func TestListsAreTheSameLiveAndFromAFile(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c := s.connect(t)
		ada, bram := s.person(t, c, "Ada Quill", "aquill"), s.person(t, c, "Bram Tern", "btern")
		inner := s.group(t, c, "inner", ada)
		s.group(t, c, "outer", inner, bram)
		require.Zero(t, modify(c, ada, func(r *ldap.ModifyRequest) { r.Replace("givenName", []string{"Ada"}) }))
		ctx := context.Background()
		file, _ := fileOf(t, c)
		day := calendar.Days(1)
		for _, q := range []listing.Query{
			{What: "users", Columns: []string{"account", "name", "kind", "ou", "mail", "created", "id"}},
			{What: "people", Columns: []string{"account"}},
			{What: "groups", Columns: []string{"account", "members", "dn"}, Sort: "-members"},
			{What: "users", When: settings.Conditions{MemberOf: "outer"}, Columns: []string{"account", "groups"}},
			{What: "users", When: settings.Conditions{New: &day}, Columns: []string{"account"}},
			{What: "units", Columns: []string{"dn"}},
			{What: "accounts", Under: s.container("Staff"), Columns: []string{"account", "state"}},
			{Filter: "(&(mail=*)(!(mail=btern*)))", Columns: []string{"account", "mail", "objectClass"}},
		} {
			q.AsOf, q.Fixed, q.Zone = time.Now().Add(time.Hour), true, time.UTC
			q.Scope = directory.FoldAll([]string{s.base})
			live, err := listing.Run(ctx, c, q)
			require.NoError(t, err, "%+v", q)
			local, err := listing.Run(ctx, file, q)
			require.NoError(t, err, "%+v", q)
			assert.Equal(t, local.Sheet, live.Sheet, "%+v", q)
			assert.NotEmpty(t, live.Sheet.Rows, "%+v", q)
		}
		_, err := listing.Run(ctx, c, listing.Query{What: "users", Under: s.container("Nowhere"), AsOf: time.Now(), Zone: time.UTC})
		assert.Error(t, err)
		whole, err := listing.Run(ctx, c, listing.Query{What: "users", Under: s.container("Staff"), Columns: []string{listing.All}, AsOf: time.Now(), Zone: time.UTC, Whole: true})
		require.NoError(t, err)
		for _, e := range whole.Entries {
			for _, a := range e.Attrs {
				assert.False(t, directory.IsSecret(a.Name), a.Name)
			}
		}
	})
}

// slapd's schema has no rule to order shadowExpire by: it finds nothing, and says
// nothing.
func TestWhatSlapdCannotOrderIsOrderedHere(t *testing.T) {
	s := slapdSubject(t)
	c := s.connect(t)
	for logon, day := range map[string]string{"ada": "19000", "bram": "21000"} {
		s.add(t, c, s.DN(logon, "Staff"), map[string][]string{"objectClass": {"inetOrgPerson", "shadowAccount"}, "cn": {logon}, "sn": {logon}, "uid": {logon}, "shadowExpire": {day}})
	}
	ask := func(text string) (found []string, err error) {
		err = c.Each(t.Context(), source.Selection{Filter: text, Attributes: []string{"uid"}}, func() { found = nil }, func(e *directory.Entry) any { return e.First("uid") }, func(made any) { found = append(found, made.(string)) })
		return found, err
	}
	plain, err := c.Select(t.Context(), "(shadowExpire<=20000)", []string{"uid"})
	require.NoError(t, err)
	require.Empty(t, plain, "this is what the rule is for")
	found, err := ask("(&(shadowExpire<=20000)(uid=*))")
	require.NoError(t, err)
	assert.Equal(t, []string{"ada"}, found)
	_, err = ask("(!(shadowExpire<=20000))")
	assert.ErrorContains(t, err, "what is negated cannot be told")
	_, err = ask("(uidNumber=1*)")
	assert.ErrorContains(t, err, "no rule to evaluate (uidNumber=1*) by")
	_, err = ask("(&(createTimestamp>=20200101000000Z)(cn=a*))")
	assert.NoError(t, err)
}
