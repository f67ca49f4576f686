package conformance

import (
	"context"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/privilege"
	"yardbroom/internal/realserver"
)

// named gives a person the attributes that a rename changes.
func (st *story) named(dn, given, family string) {
	st.t.Helper()
	got := modify(st.c, dn, func(r *ldap.ModifyRequest) {
		r.Replace("givenName", []string{given})
		r.Replace("sn", []string{family})
		r.Replace("displayName", []string{given + " " + family})
		r.Replace("title", []string{"night observer"})
		if st.s.dialect == directory.AD {
			r.Replace("userPrincipalName", []string{given + "." + family + "@larkmoor.example"})
			r.Replace("proxyAddresses", []string{"SMTP:aquill@larkmoor.example", "sip:ada@larkmoor.example"})
		}
	})
	require.Zero(st.t, got)
}

func TestValuesAreCorrectedAndPutBack(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
		st.named(ada, "Ada", "Quill")
		before := st.picture()
		// A spelling that differs in case only is a change all the same.
		b, refusals, err := st.stageOrder(batch.Order{Actions: []string{batch.Set}}, []batch.Assignment{{Attr: "title", Old: "night observer", New: "Night Observer"}}, ada, bram)
		require.NoError(t, err)
		require.Len(t, refusals, 1, "Bram has no title to correct")
		res, _ := st.apply(b)
		assert.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts)
		assert.Equal(t, []string{"Night Observer"}, s.entry(t, st.c, ada).Get("title"))

		fill, refusals, err := st.stageOrder(batch.Order{Actions: []string{batch.Fill}}, []batch.Assignment{{Attr: "description", New: "{cn}, {mail}"}}, ada, bram)
		require.NoError(t, err)
		require.Empty(t, refusals)
		res, kept := st.apply(fill)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts, kept.Lines[0].Note)
		assert.Equal(t, "Ada Quill, aquill@larkmoor.example", s.entry(t, st.c, ada).First("description"))
		st.undo(fill)
		st.undo(b)
		assert.Equal(t, before, st.picture())
		st.verify()
	})
}

func TestARenameTakesEverythingAlongAndBack(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
		st.named(ada, "Ada", "Quill")
		crew := s.group(t, st.c, "Crew", ada, bram)
		before := st.picture()
		id := s.dialect.Identity.String()
		was := s.entry(t, st.c, ada)

		b, refusals, err := st.stageOrder(batch.Order{Actions: []string{batch.Rename}, Name: batch.NewName{Family: "Marlowe", Logon: "amarlowe"}}, nil, ada)
		require.NoError(t, err, "%v", refusals)
		res, kept := st.apply(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, kept.Lines[0].Note)
		now := s.entry(t, st.c, s.DN("Ada Marlowe", "Staff"))
		require.NotNil(t, now)
		assert.Equal(t, was.First(id), now.First(id))
		assert.Equal(t, was.First("objectSid"), now.First("objectSid"))
		assert.Equal(t, "amarlowe", now.First(s.dialect.Logon.String()))
		assert.Equal(t, "Ada Marlowe", now.First("displayName"))
		assert.Equal(t, "Marlowe", now.First("sn"))
		assert.Contains(t, now.Get("mail"), "amarlowe@larkmoor.example")
		if s.dialect == directory.AD {
			assert.ElementsMatch(t, []string{"SMTP:amarlowe@larkmoor.example", "smtp:aquill@larkmoor.example", "sip:ada@larkmoor.example"}, now.Get("proxyAddresses"))
			assert.Equal(t, "Ada.marlowe@larkmoor.example", now.First("userPrincipalName"))
		} else {
			assert.Contains(t, now.Get("mail"), "aquill@larkmoor.example", "the old address stays")
		}
		assert.ElementsMatch(t, []string{now.DN, bram}, s.entry(t, st.c, crew).Get("member"))

		// The names are taken now.
		_, refusals, err = st.stageOrder(batch.Order{Actions: []string{batch.Rename}, Name: batch.NewName{Logon: "amarlowe"}}, nil, bram)
		require.ErrorIs(t, err, batch.ErrNothing)
		assert.Contains(t, refusals[0].Why, "has the logon name amarlowe")
		_, refusals, err = st.stageOrder(batch.Order{Actions: []string{batch.Rename}, Name: batch.NewName{Display: "Ada Marlowe"}}, nil, bram)
		require.ErrorIs(t, err, batch.ErrNothing)
		assert.Contains(t, refusals[0].Why, "has an entry named")

		res, _ = st.undo(b)
		assert.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts)
		assert.Equal(t, before, st.picture())
		st.verify()
	})
}

// TestValuesForALanguageAreNotThePlainOnes changes the title of somebody who has
// one for a language only, which filters take for a title.
func TestValuesForALanguageAreNotThePlainOnes(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.dialect == directory.AD {
			return // the schema has no options for languages
		}
		st := newStory(t, s)
		ada := s.person(t, st.c, "Ada Quill", "aquill")
		st.tell(ada, func(r *ldap.ModifyRequest) { r.Add("title;lang-de", []string{"Sternwartin"}) })
		set := func(action, attr, value string) *batch.Batch {
			b, refusals, err := st.stageOrder(batch.Order{Actions: []string{action}}, []batch.Assignment{{Attr: attr, New: value}}, ada)
			require.NoError(t, err, "%v", refusals)
			res, kept := st.apply(b)
			require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, kept.Lines[0].Note)
			return b
		}
		b := set(batch.Set, "title", "Astronomer")
		st.undo(b)
		e := s.entry(t, st.c, ada)
		assert.Empty(t, e.Get("title"))
		assert.Equal(t, []string{"Sternwartin"}, e.Get("title;lang-de"))

		set(batch.Set, "title", "Astronomer")
		b = set(batch.Clear, "title", "")
		res, kept := st.undo(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, kept.Lines[0].Note)
		assert.Equal(t, []string{"Astronomer"}, s.entry(t, st.c, ada).Get("title"))

		_, refusals, err := st.stageOrder(batch.Order{Actions: []string{batch.Set}}, []batch.Assignment{{Attr: "title;lang-de", New: "Astronomin"}}, ada)
		require.ErrorIs(t, err, batch.ErrNothing)
		assert.Contains(t, refusals[0].Why, "not among the attributes that batches may change")
		st.set.Batch.Attributes = []string{"title;lang-de"}
		b = set(batch.Set, "title;lang-de", "Astronomin")
		e = s.entry(t, st.c, ada)
		assert.Equal(t, []string{"Astronomin"}, e.Get("title;lang-de"))
		assert.Equal(t, []string{"Astronomer"}, e.Get("title"))
		st.undo(b)
		assert.Equal(t, []string{"Sternwartin"}, s.entry(t, st.c, ada).Get("title;lang-de"))
	})
}

// TestAServerWithoutPoliciesAndSignInsIsWrittenToAllTheSame stages what rests on
// sign-ins that this server's schema does not even know.
func TestAServerWithoutPoliciesAndSignInsIsWrittenToAllTheSame(t *testing.T) {
	server := realserver.OpenLDAPWith(t)
	s := &subject{name: "slapd", yard: server.Yard, base: server.Base, dialect: directory.OpenLDAP, real: server}
	s.fresh(t)
	st := newStory(t, s)
	ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
	crew := s.group(t, st.c, "Crew", ada, bram)
	id, err := st.c.Identity(context.Background())
	require.NoError(t, err)
	holders, err := privilege.Read(context.Background(), st.c, s.dialect, privilege.RulesFor(id, nil), time.Now())
	require.NoError(t, err)
	stager := &batch.Stager{From: st.c, Identity: id, Dialect: s.dialect, Settings: st.set, Privilege: holders, Catalog: audit.Checks, Protection: st.protection()}
	entries, err := st.c.Get(context.Background(), []string{ada, bram})
	require.NoError(t, err)
	rests := []string{"authTimestamp", "pwdLastSuccess", "pwdAccountLockedTime"}
	b, refusals, err := stager.Stage(context.Background(), batch.Order{Actions: []string{batch.Move}, To: s.container("Parked"), By: "tester", At: time.Now().UTC(), Server: st.c.HostName()},
		[]batch.Candidate{{Entry: entries[0], Reason: "stale", Rests: rests}, {Entry: entries[1], Reason: "stale", Rests: rests}})
	require.NoError(t, err, "%v", refusals)
	require.NoError(t, b.Save(context.Background(), st.Store))
	require.Subset(t, batch.Attributes(b.Lines[0].Guard), rests, "guards that the schema has no attributes for")
	res, kept := st.apply(b)
	require.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts, "%+v", kept.Lines)
	assert.ElementsMatch(t, []string{s.DN("Ada Quill", "Parked"), s.DN("Bram Tern", "Parked")}, s.entry(t, st.c, crew).Get("member"))
}
