package conformance

import (
	"context"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// groups reads groups by name, as an order wants them.
func (st *story) groups(dns ...string) []directory.Entry {
	st.t.Helper()
	found, err := st.c.Get(context.Background(), dns)
	require.NoError(st.t, err)
	require.Len(st.t, found, len(dns))
	return found
}

func TestWhatLeavesAndJoinsAndDescribesIsUndoneWithoutATrace(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
		crew, tower := s.group(t, st.c, "Crew", ada, bram), s.group(t, st.c, "Tower", bram, ada)
		if s.dialect != directory.AD {
			s.add(t, st.c, s.DN("Posix", "Groups"), map[string][]string{"objectClass": {"posixGroup"}, "cn": {"Posix"}, "gidNumber": {"700"}, "memberUid": {"aquill"}})
		}
		dome := s.group(t, st.c, "Dome", bram)
		before := normal(st.picture())
		expires := time.Now().AddDate(0, 2, 0).UTC().Truncate(24 * time.Hour)

		actions := []string{batch.Disable, batch.Describe, batch.LeaveGroups, batch.JoinGroup, batch.Move}
		if s.dialect == directory.AD {
			actions = append(actions, batch.Expire)
		}
		b, refusals, err := st.stageOrder(batch.Order{Actions: actions, To: s.container("Parked"), Text: "{reason} {date} ({batch}); was: {old}", Why: "left",
			Expires: expires, Groups: st.groups(dome)}, nil, ada)
		require.NoError(t, err, "%v", refusals)
		res, kept := st.apply(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, kept.Lines[0].Note)
		records, err := st.Store.Journal(t.Context(), b.ID, 1)
		require.NoError(t, err)
		for _, r := range records {
			assert.NotContains(t, strings.ToLower(string(r.Body)), "cn=bram tern", "the other members of a group, of which there may be very many, are no part of the journal")
		}
		now := s.entry(t, st.c, s.DN("Ada Quill", "Parked"))
		assert.Equal(t, "left "+b.Created.Format(time.DateOnly)+" (1)", now.First("description"))
		assert.Equal(t, []string{strings.ToLower(bram)}, lower(s.entry(t, st.c, crew).Get("member")))
		assert.Equal(t, []string{strings.ToLower(bram)}, lower(s.entry(t, st.c, tower).Get("member")))
		assert.Len(t, s.entry(t, st.c, dome).Get("member"), 2)
		if s.dialect == directory.AD {
			assert.Equal(t, directory.FormatFileTime(expires), now.First("accountExpires"))
		} else {
			assert.Empty(t, s.entry(t, st.c, s.DN("Posix", "Groups")).Get("memberUid"))
		}

		res, back := st.undo(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, back.Lines[0].Note)
		assert.Equal(t, before, normal(st.picture()))
		st.verify()

		// Twice is harmless.
		done, err := batch.Load(context.Background(), st.Store, b.ID)
		require.NoError(t, err)
		_, again, err := carry.Inverse(context.Background(), st.Store, done, nil, "tester", time.Now())
		require.ErrorIs(t, err, carry.ErrNothingToUndo)
		require.Len(t, again, 1)
		assert.Contains(t, again[0].Why, "batch 2 has taken that back already")
		assert.Equal(t, before, normal(st.picture()))
	})
}

func lower(dns []string) (out []string) {
	for _, dn := range canonical(dns) {
		out = append(out, strings.ToLower(dn))
	}
	return out
}

func TestAGroupJoinedMeanwhileStopsWhoLeavesAll(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
		s.group(t, st.c, "Crew", ada, bram)
		b := st.mustStage(batch.LeaveGroups, "", ada)
		tower := s.group(t, st.c, "Tower", bram, ada)
		res, kept := st.apply(b)
		assert.Equal(t, map[batch.LineState]int{batch.Drifted: 1}, res.Counts)
		assert.Contains(t, kept.Lines[0].Note, "it is in Tower now")
		assert.Len(t, s.entry(t, st.c, tower).Get("member"), 2)
	})
}

func TestTheLastMemberOfAGroupThatMustHaveOneStays(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
		crew := s.group(t, st.c, "Crew", ada, bram)
		b, refusals, err := st.stage(batch.LeaveGroups, "", ada, bram)
		if s.dialect == directory.OpenLDAP {
			require.ErrorIs(t, err, batch.ErrNothing)
			require.Len(t, refusals, 2)
			assert.Contains(t, refusals[0].Why, "no member left")
			return
		}
		require.NoError(t, err)
		res, _ := st.apply(b)
		assert.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts)
		assert.Empty(t, s.entry(t, st.c, crew).Get("member"))
		res, _ = st.undo(b)
		assert.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts)
		assert.Len(t, s.entry(t, st.c, crew).Get("member"), 2)
	})
}

func TestValuesAreAddedAndClearedAndComeBack(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada := s.person(t, st.c, "Ada Quill", "aquill")
		modify := ldap.NewModifyRequest(ada, nil)
		modify.Replace("otherTelephone", []string{"+49 30 55501", "+49 30 55502"})
		attr := "otherTelephone"
		if s.dialect != directory.AD {
			modify = ldap.NewModifyRequest(ada, nil)
			modify.Replace("telephoneNumber", []string{"+49 30 55501", "+49 30 55502"})
			attr = "telephoneNumber"
		}
		require.NoError(t, st.c.Conn().Modify(modify))
		before := normal(st.picture())
		for action, c := range map[string]struct {
			value string
			want  []string
		}{batch.Add: {"+49 30 55503", []string{"+49 30 55501", "+49 30 55502", "+49 30 55503"}}, batch.Clear: {"", nil}} {
			b, refusals, err := st.stageOrder(batch.Order{Actions: []string{action}}, []batch.Assignment{{Attr: attr, New: c.value}}, ada)
			require.NoError(t, err, "%v", refusals)
			res, _ := st.apply(b)
			require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts)
			assert.ElementsMatch(t, c.want, s.entry(t, st.c, ada).Get(attr), action)
			res, _ = st.undo(b)
			require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts)
			assert.Equal(t, before, normal(st.picture()), action)
		}
		b, _, err := st.stageOrder(batch.Order{Actions: []string{batch.Clear}}, []batch.Assignment{{Attr: attr, New: "+49 30 55502"}}, ada)
		require.NoError(t, err)
		st.apply(b)
		assert.Equal(t, []string{"+49 30 55501"}, s.entry(t, st.c, ada).Get(attr))
	})
}

func TestEmptyGroupsAndUnitsAreDeletedAndRestored(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
		full := s.group(t, st.c, "Full", ada)
		outer := s.container("Outer")
		inner := strings.Replace(s.container("Inner"), ","+s.base, ","+outer, 1)
		for _, dn := range []string{outer, inner} {
			s.add(t, st.c, dn, map[string][]string{"objectClass": {"organizationalUnit"}, "description": {"of the old dome"}})
		}
		targets := []string{full, outer, inner}
		empty := s.DN("Hollow", "Groups")
		if s.dialect == directory.OpenLDAP {
			s.add(t, st.c, empty, map[string][]string{"objectClass": {"posixGroup"}, "cn": {"Hollow"}, "gidNumber": {"701"}, "description": {"nobody"}})
		} else {
			s.group(t, st.c, "Hollow")
		}
		targets = append(targets, empty)
		if s.dialect != directory.OpenLDAP {
			s.group(t, st.c, "Holder", empty, bram)
		}
		before := normal(st.picture())
		b, refusals, err := st.stage(batch.Delete, "", targets...)
		require.NoError(t, err)
		require.Len(t, refusals, 1, "%v", refusals)
		assert.Contains(t, refusals[0].Why, "it has 1 member;")
		require.Len(t, b.Lines, 3)
		res, kept := st.apply(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 3}, res.Counts, "%v", kept.Lines)
		for _, dn := range []string{outer, inner, empty} {
			assert.Nil(t, s.entry(t, st.c, dn))
		}
		res, back := st.undo(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 3}, res.Counts, "%+v", back.Lines)
		for i := range back.Lines {
			assert.NotContains(t, back.Lines[i].Note, "password", "which groups and units have none of")
		}
		for _, dn := range []string{outer, inner, empty} {
			e := s.entry(t, st.c, dn)
			assert.False(t, e.Has("pwdAccountLockedTime") || e.Has("nsAccountLock") || e.Has("userAccountControl"), "only accounts come back locked: %s", dn)
		}
		after := normal(st.picture())
		assert.Equal(t, keysOf(before), keysOf(after))
		for dn, attrs := range before {
			for name, values := range attrs {
				switch name {
				case "description", "cn", "ou", "objectClass", "gidNumber":
					assert.Equal(t, values, after[dn][name], "%s of %s", name, dn)
				}
				if strings.HasPrefix(name, "member") {
					assert.Equal(t, values, after[dn][name], "%s of %s", name, dn)
				}
			}
		}
		st.verify()
	})
}

// TestAnUnlinkedPolicyGoesWithItsPartsAndComesBack deletes a group policy that
// nothing links to: its child containers are lines of their own, before it.
func TestAnUnlinkedPolicyGoesWithItsPartsAndComesBack(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.dialect != directory.AD {
			t.Skip("policies of this kind are of the ad schema")
		}
		st := newStory(t, s)
		_, domain := directory.SplitDN(s.base)
		policies := "CN=Policies,CN=System," + domain
		if s.samba == nil {
			for _, dn := range []string{"CN=System," + domain, policies} {
				s.add(t, st.c, dn, map[string][]string{"objectClass": {"container"}})
			}
		}
		policy := func(guid string) string {
			dn := "CN={" + guid + "}," + policies
			s.add(t, st.c, dn, map[string][]string{"objectClass": {"groupPolicyContainer"}, "displayName": {"Dome heating " + guid[:4]},
				"gPCFileSysPath": {`\\larkmoor.example\sysvol\larkmoor.example\Policies\{` + guid + "}"}})
			for _, part := range []string{"Machine", "User"} {
				s.add(t, st.c, "CN="+part+","+dn, map[string][]string{"objectClass": {"container"}})
			}
			return dn
		}
		unused, used := policy("7D2B8A10-0000-4000-8000-000000000001"), policy("9E3C9B21-0000-4000-8000-000000000002")
		t.Cleanup(func() {
			for _, dn := range []string{unused, used} {
				for _, part := range []string{"CN=Machine,", "CN=User,", ""} {
					_ = st.c.Conn().Del(ldap.NewDelRequest(part+dn, nil))
				}
			}
		})
		require.Zero(t, modify(st.c, s.container("Staff"), func(r *ldap.ModifyRequest) { r.Replace("gPLink", []string{"[LDAP://" + used + ";0]"}) }))

		b, refusals, err := st.stage(batch.Delete, "", unused, used)
		require.NoError(t, err, "%v", refusals)
		require.Len(t, b.Lines, 3)
		assert.Equal(t, unused, b.Lines[2].DN, "its parts go before it")
		assert.Contains(t, strings.Join(b.Lines[2].ByHand, "\n"), `sysvol\larkmoor.example\Policies`)
		require.Len(t, refusals, 3)
		for _, r := range refusals {
			assert.Regexp(t, "it is linked to|the policy above it stays", r.Why)
		}

		// Linked by somebody else meanwhile, to a site if there is one, no part of
		// it is touched.
		site := s.container("Staff")
		if s.real != nil {
			site = "CN=Default-First-Site-Name,CN=Sites,CN=Configuration," + s.yard.Base
		}
		link := func(values ...string) {
			require.Zero(t, modify(st.c, site, func(r *ldap.ModifyRequest) { r.Replace("gPLink", values) }))
		}
		link("[LDAP://" + unused + ";0]")
		other, refusals, err := st.stage(batch.Delete, "", unused)
		require.ErrorIs(t, err, batch.ErrNothing, "%v", other)
		assert.Contains(t, refusals[0].Why+refusals[1].Why+refusals[2].Why, "it is linked to "+site)
		res, kept := st.apply(b)
		require.Zero(t, res.Counts[batch.Applied], "%+v", kept.Lines)
		for _, dn := range []string{unused, "CN=Machine," + unused, "CN=User," + unused} {
			assert.NotNil(t, s.entry(t, st.c, dn))
		}
		link()
		b, refusals, err = st.stage(batch.Delete, "", unused)
		require.NoError(t, err, "%v", refusals)

		res, kept = st.apply(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 3}, res.Counts, "%+v", kept.Lines)
		assert.Nil(t, s.entry(t, st.c, unused))
		assert.NotNil(t, s.entry(t, st.c, "CN=User,"+used))

		res, back := st.undo(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 3}, res.Counts, "%+v", back.Lines)
		now := s.entry(t, st.c, unused)
		require.NotNil(t, now)
		assert.Equal(t, "Dome heating 7D2B", now.First("displayName"))
		assert.NotNil(t, s.entry(t, st.c, "CN=Machine,"+unused))
		assert.NotNil(t, s.entry(t, st.c, "CN=User,"+unused))
		st.verify()
	})
}

func keysOf(m map[string]map[string][]string) map[string]bool {
	out := map[string]bool{}
	for k := range m {
		out[strings.ToLower(k)] = true
	}
	return out
}

func TestANewPasswordWorksAndLocksNobodyIn(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.dialect == directory.NS389 {
			// It takes the operation of RFC 3062 over TLS or within the machine only.
			s.yard.Servers = []string{s.real.SocketURL}
		}
		st := newStory(t, s)
		ada := s.person(t, st.c, "Ada Quill", "aquill")
		bram := s.person(t, st.c, "Bram Tern", "btern")
		if s.dialect != directory.AD {
			b := st.mustStage(batch.Disable, "", bram)
			st.apply(b)
		}
		b, refusals, err := st.stageOrder(batch.Order{Actions: []string{batch.ResetPassword}, Unlock: true}, nil, ada, bram)
		require.NoError(t, err, "%v", refusals)
		got := map[string]string{}
		loaded, err := batch.Load(context.Background(), st.Store, b.ID)
		require.NoError(t, err)
		st.sign(loaded)
		r := st.job(loaded)
		r.Deliver = func(l *batch.Line, password string) error { got[l.Account] = password; return nil }
		res, err := r.Run(context.Background(), carry.Pace{})
		require.NoError(t, err)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts, "%+v", loaded.Lines)
		require.Len(t, got, 2)
		assert.NotEqual(t, got["aquill"], got["btern"])
		records, err := st.Journal(context.Background(), 0, 0)
		require.NoError(t, err)
		for _, rec := range records {
			for _, p := range got {
				assert.NotContains(t, string(rec.Body), p, "no password enters the journal")
			}
		}
		now := s.entry(t, st.c, ada)
		switch s.dialect {
		case directory.AD:
			assert.Equal(t, "0", now.First("pwdLastSet"))
		case directory.NS389:
			assert.Equal(t, "true", s.entry(t, st.c, bram).First("nsAccountLock"), "who was disabled stays so")
		default:
			assert.Equal(t, "TRUE", now.First("pwdReset"))
			assert.Equal(t, directory.PermanentLockValue, s.entry(t, st.c, bram).First("pwdAccountLockedTime"), "who was disabled stays so")
		}
		if s.dir == nil {
			yard := s.yard
			conn, err := source.Connect(context.Background(), source.Target{Yard: yard})
			require.NoError(t, err)
			defer conn.Close()
			err = conn.Conn().Bind(ada, got["aquill"])
			if s.dialect == directory.AD {
				assert.ErrorContains(t, err, "773", "the password is right, and must be changed")
			} else {
				assert.NoError(t, err)
				assert.Error(t, conn.Conn().Bind(bram, got["btern"]))
			}
		}
		_, _, err = st.stageOrder(batch.Order{Actions: []string{batch.ResetPassword}, Until: time.Now().AddDate(0, 1, 0)}, nil, ada)
		assert.ErrorContains(t, err, "no inverse")
		st.verify()
	})
}

func TestAnEndIsSetAndTakenBack(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada := s.person(t, st.c, "Ada Quill", "aquill")
		end := time.Now().AddDate(0, 2, 0).UTC().Truncate(24 * time.Hour)
		order := batch.Order{Actions: []string{batch.Expire}, Expires: end}
		through := func(attr, want string) {
			t.Helper()
			before := normal(st.picture())
			b, refusals, err := st.stageOrder(order, nil, ada)
			require.NoError(t, err, "%v", refusals)
			res, kept := st.apply(b)
			require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, kept.Lines[0].Note)
			assert.Equal(t, want, s.entry(t, st.c, ada).First(attr))
			st.undo(b)
			assert.Equal(t, before, normal(st.picture()))
		}
		switch s.dialect {
		case directory.AD:
			through("accountExpires", directory.FormatFileTime(end))
			return
		case directory.OpenLDAP:
			through("pwdEndTime", end.Format("20060102150405Z"))
		default:
			_, refusals, err := st.stageOrder(order, nil, ada)
			require.ErrorIs(t, err, batch.ErrNothing)
			assert.Contains(t, refusals[0].Why, "it is no shadowAccount")
		}
		require.Zero(t, modify(st.c, ada, func(r *ldap.ModifyRequest) { r.Add("objectClass", []string{"shadowAccount"}) }))
		through("shadowExpire", strconv.FormatInt(end.Unix()/86400, 10))
		require.Zero(t, modify(st.c, ada, func(r *ldap.ModifyRequest) { r.Replace("shadowExpire", []string{"30000"}) }))
		through("shadowExpire", strconv.FormatInt(end.Unix()/86400, 10))
		st.verify()
	})
}

func TestAPrivilegedGroupIsLeftAndGivenBackWithASignatureOnly(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
	const admins = "CN=Domain Admins,CN=Users,DC=larkmoor,DC=example"
	s.dir.Edit(admins, func(e *directory.Entry) { e.Set("member", ada, bram) })
	crew := s.group(t, st.c, "Crew", ada, bram)
	_, refusals, err := st.stage("leave-groups", "", ada, bram)
	require.ErrorIs(t, err, batch.ErrNothing)
	assert.Contains(t, refusals[0].Why, "Domain Admins would have no enabled member left")

	b := st.mustStage("disable,leave-groups", "", ada)
	st.sign(b)
	res, kept := st.apply(b)
	require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, kept.Lines[0].Note)
	assert.Equal(t, []string{bram}, s.entry(t, st.c, admins).Get("member"))

	back, _, err := carry.Inverse(context.Background(), st.Store, b, nil, "tester", time.Now())
	require.NoError(t, err)
	left, err := carry.WithoutPrivileged(back, "undo 1")
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Contains(t, left[0].Why, "Domain Admins again, which needs a signature")
	require.NoError(t, back.Save(context.Background(), st.Store))
	res, kept = st.apply(back)
	require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, kept.Lines[0].Note)
	assert.Equal(t, []string{bram}, s.entry(t, st.c, admins).Get("member"))
	assert.ElementsMatch(t, []string{ada, bram}, s.entry(t, st.c, crew).Get("member"))
	assert.Equal(t, "512", s.entry(t, st.c, ada).First("userAccountControl"))

	// The rest, with a signature.
	full, _, err := carry.Inverse(context.Background(), st.Store, b, nil, "tester", time.Now())
	require.NoError(t, err)
	require.NoError(t, full.Save(context.Background(), st.Store))
	_, err = st.job(full).Run(context.Background(), carry.Pace{})
	require.ErrorIs(t, err, batch.ErrNotSigned)
}
