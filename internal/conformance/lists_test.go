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
			live, err := listing.Run(ctx, c, q, false)
			require.NoError(t, err, "%+v", q)
			local, err := listing.Run(ctx, file, q, false)
			require.NoError(t, err, "%+v", q)
			assert.Equal(t, local.Sheet, live.Sheet, "%+v", q)
			assert.NotEmpty(t, live.Sheet.Rows, "%+v", q)
		}
		_, err := listing.Run(ctx, c, listing.Query{What: "users", Under: s.container("Nowhere"), AsOf: time.Now(), Zone: time.UTC}, false)
		assert.Error(t, err)
		whole, err := listing.Run(ctx, c, listing.Query{What: "users", Under: s.container("Staff"), Columns: []string{listing.All}, AsOf: time.Now(), Zone: time.UTC}, true)
		require.NoError(t, err)
		for _, e := range whole.Entries {
			for _, a := range e.Attrs {
				assert.False(t, directory.IsSecret(a.Name), a.Name)
			}
		}
	})
}
