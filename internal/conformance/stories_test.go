package conformance

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/privilege"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// story is a state folder and a connection, and what one does with them.
type story struct {
	t *testing.T
	s *subject
	c *source.Server
	*store.Store
	set    *settings.Settings
	yard   settings.Yard // its scope and what is left out
	exempt []audit.Exemption
}

func newStory(t *testing.T, s *subject) *story {
	t.Helper()
	st, err := store.Open(context.Background(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	set := settings.Defaults()
	set.Batch.DeleteMinDisabled = calendar.Span{}
	set.Signing.Needed = map[string]int{batch.Delete: 0}
	set.Signing.Proved = []string{} // those of signing_test.go prove who they are
	return &story{t: t, s: s, c: s.connect(t), Store: st, set: set}
}

func (st *story) stage(actions string, to string, dns ...string) (*batch.Batch, []batch.Refusal, error) {
	st.t.Helper()
	list, err := batch.ParseActions(actions)
	require.NoError(st.t, err)
	return st.stageOrder(batch.Order{Actions: list, To: to, Text: "by {reason}", Why: "a test"}, nil, dns...)
}

// stageOrder stages any order, with the values that set and fill give.
func (st *story) stageOrder(o batch.Order, values []batch.Assignment, dns ...string) (*batch.Batch, []batch.Refusal, error) {
	st.t.Helper()
	ctx := context.Background()
	id, err := st.c.Identity(ctx)
	require.NoError(st.t, err)
	holders, err := privilege.Read(ctx, st.c, st.s.dialect, privilege.RulesFor(id, st.set.Audit.PrivilegedGroups), time.Now())
	require.NoError(st.t, err)
	require.NoError(st.t, holders.See(ctx, st.c))
	entries, err := st.c.Get(ctx, dns)
	require.NoError(st.t, err)
	var candidates []batch.Candidate
	for i := range entries {
		candidates = append(candidates, batch.Candidate{Entry: entries[i], Values: values})
	}
	stager := &batch.Stager{From: st.c, Identity: id, Dialect: st.s.dialect, Settings: st.set, Privilege: holders, Catalog: audit.Checks, DefaultPolicy: st.s.yard.DefaultPolicy,
		Protection: st.protection()}
	o.By, o.At, o.Server = "tester", time.Now().UTC(), st.c.HostName()
	b, refusals, err := stager.Stage(ctx, o, candidates)
	if err == nil {
		require.NoError(st.t, b.Save(ctx, st.Store))
	}
	return b, refusals, err
}

func (st *story) protection() batch.Protection {
	st.t.Helper()
	id, err := st.c.Identity(context.Background())
	require.NoError(st.t, err)
	p, err := batch.NewProtection(context.Background(), st.c, id, &st.yard, st.set.Audit.PrivilegedGroups, st.exempt, time.Now().UTC(), st.c.Bound)
	require.NoError(st.t, err)
	return p
}

func (st *story) mustStage(actions string, to string, dns ...string) *batch.Batch {
	st.t.Helper()
	b, refusals, err := st.stage(actions, to, dns...)
	require.NoError(st.t, err, "%v", refusals)
	require.Empty(st.t, refusals)
	return b
}

func (st *story) job(b *batch.Batch) *carry.Job {
	return &carry.Job{Store: st.Store, Batch: b, Server: st.c, Protection: st.protection(),
		DefaultPolicy: st.s.yard.DefaultPolicy, By: "tester", Now: time.Now, Settings: st.set}
}

// apply carries a kept batch out, loaded anew as another process would.
func (st *story) apply(b *batch.Batch) (carry.Result, *batch.Batch) {
	st.t.Helper()
	kept, err := batch.Load(context.Background(), st.Store, b.ID)
	require.NoError(st.t, err)
	res, err := st.job(kept).Run(context.Background(), carry.Pace{})
	require.NoError(st.t, err)
	return res, kept
}

func (st *story) undo(b *batch.Batch) (carry.Result, *batch.Batch) {
	st.t.Helper()
	kept, err := batch.Load(context.Background(), st.Store, b.ID)
	require.NoError(st.t, err)
	back, _, err := carry.Inverse(context.Background(), st.Store, kept, nil, "tester", time.Now().UTC())
	require.NoError(st.t, err)
	require.NoError(st.t, back.Save(context.Background(), st.Store))
	if agreed, err := back.Agreement(context.Background(), st.Store, st.set, time.Now()); assert.NoError(st.t, err) && !agreed.Enough() {
		st.sign(back)
	}
	return st.apply(back)
}

func (st *story) verify() {
	st.t.Helper()
	_, err := st.Verify(context.Background(), "")
	require.NoError(st.t, err)
}

// picture is everything below the test's container, without the attributes
// that every write changes.
func (st *story) picture() map[string]map[string][]string {
	st.t.Helper()
	entries, err := st.c.Find(context.Background(), "(objectClass=*)")
	require.NoError(st.t, err)
	out := map[string]map[string][]string{}
	for i := range entries {
		if !directory.Under(directory.FoldDN(entries[i].DN), directory.FoldDN(st.s.base)) {
			continue
		}
		attrs := map[string][]string{}
		for _, a := range entries[i].Attrs {
			switch a.Name {
			case "whenChanged", "uSNChanged", "modifyTimestamp", "entryCSN", "modifiersName":
			default:
				attrs[a.Name] = slices.Sorted(slices.Values(a.Values))
			}
		}
		out[entries[i].DN] = attrs
	}
	return out
}

func TestDisableAndMoveAreUndoneWithoutATrace(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, `Bram "Tern", the 2nd`, "btern")
		s.group(t, st.c, "Crew", ada, bram)
		before := st.picture()

		b := st.mustStage("disable,move", s.container("Parked"), ada, bram)
		res, _ := st.apply(b)
		assert.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts)
		moved := s.entry(t, st.c, s.DN("Ada Quill", "Parked"))
		require.NotNil(t, moved)
		survey := directory.NewSurvey(s.dialect)
		a := s.dialect.Account(moved)
		assert.True(t, survey.Disabled(&a, time.Now()).Yes)
		crew := s.entry(t, st.c, s.DN("Crew", "Groups"))
		assert.ElementsMatch(t, []string{s.DN("Ada Quill", "Parked"), s.DN(`Bram "Tern", the 2nd`, "Parked")}, canonical(crew.Get("member")), "references follow")

		res, _ = st.undo(b)
		assert.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts)
		assert.Equal(t, normal(before), normal(st.picture()))
		st.verify()
	})
}

// canonical writes names as the tests do, whatever escapes a server prefers.
func canonical(dns []string) []string {
	out := make([]string, len(dns))
	for i, dn := range dns {
		levels, _ := directory.ParseDN(dn)
		parts := make([]string, len(levels))
		for j, l := range levels {
			parts[j] = l.String()
		}
		out[i] = strings.Join(parts, ",")
	}
	return out
}

func normal(picture map[string]map[string][]string) map[string]map[string][]string {
	for _, attrs := range picture {
		for _, name := range []string{"member", "memberOf"} {
			if attrs[name] != nil {
				values := canonical(attrs[name])
				set := map[string]bool{}
				for _, v := range values {
					set[strings.ToLower(v)] = true
				}
				attrs[name] = nil
				for v := range set {
					attrs[name+" "+v] = []string{"yes"}
				}
			}
		}
	}
	return picture
}

func TestADeletedAccountComesBackDisabledWithItsGroups(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
		crew := s.group(t, st.c, "Crew", ada, bram)
		if s.dialect == directory.OpenLDAP {
			require.Zero(t, modify(st.c, ada, func(r *ldap.ModifyRequest) { r.Add("pwdPolicySubentry", []string{s.yard.DefaultPolicy}) }))
		}
		b := st.mustStage("disable", "", ada)
		st.apply(b)
		before := s.entry(t, st.c, ada)

		b = st.mustStage("delete", "", ada)
		res, _ := st.apply(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts)
		require.Nil(t, s.entry(t, st.c, ada))
		assert.Equal(t, []string{bram}, s.entry(t, st.c, crew).Get("member"), "no reference dangles")

		deleted, err := carry.FindDeleted(context.Background(), st.Store, "aquill")
		require.NoError(t, err)
		require.Len(t, deleted, 1)
		back, err := carry.Return(b.Identity, "", &deleted[0], nil, "tester", time.Now().UTC())
		require.NoError(t, err)
		require.NoError(t, back.Save(context.Background(), st.Store))
		res, kept := st.apply(back)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, kept.Lines[0].Note)

		after := s.entry(t, st.c, ada)
		require.NotNil(t, after)
		for _, name := range []string{"mail", "displayName", "department", "departmentNumber", "sn", "uid", "sAMAccountName", "cn", "pwdPolicySubentry"} {
			assert.Equal(t, before.Get(name), after.Get(name), name)
		}
		if s.dialect == directory.AD {
			assert.Equal(t, before.First("objectGUID"), after.First("objectGUID"))
			assert.Equal(t, before.First("objectSid"), after.First("objectSid"))
		} else {
			assert.Contains(t, kept.Lines[0].Note, "new entry")
		}
		a := s.dialect.Account(after)
		assert.True(t, directory.NewSurvey(s.dialect).Disabled(&a, time.Now()).Yes, "until somebody enables it")
		assert.ElementsMatch(t, []string{ada, bram}, s.entry(t, st.c, crew).Get("member"))
		st.verify()
	})
}

func TestALineWhoseGuardNoLongerHoldsIsLeftAlone(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
		off := st.mustStage("disable", "", ada, bram)
		st.apply(off)
		b := st.mustStage("enable", "", ada, bram)
		// A colleague enables Ada meanwhile, and notes it.
		attr := s.dialect.Enabled[0].String()
		got := modify(st.c, ada, func(r *ldap.ModifyRequest) {
			if s.dialect == directory.AD {
				r.Replace(attr, []string{"512"})
			} else {
				r.Delete(attr, nil)
			}
		})
		require.Zero(t, got)
		res, kept := st.apply(b)
		assert.Equal(t, map[batch.LineState]int{batch.Applied: 1, batch.Drifted: 1}, res.Counts)
		assert.Contains(t, kept.Lines[0].Note, attr)
		assert.Equal(t, 1, res.NotDone())
		st.verify()
	})
}

func TestUndoLeavesAloneWhatChangedSince(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada := s.person(t, st.c, "Ada Quill", "aquill")
		b := st.mustStage("disable,move", s.container("Parked"), ada)
		st.apply(b)
		// Somebody moves her on.
		rdn, _ := directory.SplitDN(ada)
		require.NoError(t, st.c.Conn().ModifyDN(ldap.NewModifyDNRequest(s.DN("Ada Quill", "Parked"), rdn, true, s.container("Groups"))))
		res, kept := st.undo(b)
		assert.Equal(t, map[batch.LineState]int{batch.Drifted: 1}, res.Counts)
		assert.Contains(t, kept.Lines[0].Note, "it is in")
		assert.NotNil(t, s.entry(t, st.c, s.DN("Ada Quill", "Groups")))
	})
}

func TestUndoTwiceDoesNoHarm(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada := s.person(t, st.c, "Ada Quill", "aquill")
		b := st.mustStage("disable,move", s.container("Parked"), ada)
		_, done := st.apply(b)
		late, _, err := carry.Inverse(context.Background(), st.Store, done, nil, "somebody else", time.Now().UTC())
		require.NoError(t, err)
		require.NoError(t, late.Save(context.Background(), st.Store))
		st.undo(b)
		before := st.picture()
		res, _ := st.apply(late)
		assert.Equal(t, map[batch.LineState]int{batch.Drifted: 1}, res.Counts)
		_, _, err = carry.Inverse(context.Background(), st.Store, done, nil, "tester", time.Now().UTC())
		assert.ErrorIs(t, err, carry.ErrNothingToUndo)
		assert.Equal(t, normal(before), normal(st.picture()))
	})
}

func TestUnlockLetsSomebodyInAgain(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada := s.person(t, st.c, "Ada Quill", "aquill")
		s.lock(t, ada, "aquill")
		name := by(s, "aquill@larkmoor.example", ada)
		if s.dir == nil {
			require.False(t, s.bind(t, name, "Right-secret1"), "locked out")
		}
		b := st.mustStage("unlock", "", ada)
		res, _ := st.apply(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts)
		if s.dir == nil {
			assert.True(t, s.bind(t, name, "Right-secret1"))
		}
		_, _, err := carry.Inverse(context.Background(), st.Store, b, nil, "tester", time.Now())
		assert.ErrorIs(t, err, carry.ErrNothingToUndo)
	})
}

func TestADisabledAccountCannotSignIn(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.dir != nil {
			t.Skip("the practice directory keeps no passwords of people")
		}
		st := newStory(t, s)
		ada := s.person(t, st.c, "Ada Quill", "aquill")
		name := by(s, "aquill@larkmoor.example", ada)
		require.True(t, s.bind(t, name, "Right-secret1"))
		b := st.mustStage("disable", "", ada)
		res, _ := st.apply(b)
		// The sign-in above is not what the line rests on.
		require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts)
		assert.False(t, s.bind(t, name, "Right-secret1"))
		st.undo(b)
		assert.True(t, s.bind(t, name, "Right-secret1"))
	})
}

func TestStagingRefusesWhatCannotOrMustNotBeDone(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada := s.person(t, st.c, "Ada Quill", "aquill")
		_, refusals, err := st.stage("delete", "", ada)
		require.ErrorIs(t, err, batch.ErrNothing)
		assert.Contains(t, refusals[0].Why, "disable it first")

		_, _, err = st.stage("move", s.container("Nowhere"), ada)
		assert.ErrorContains(t, err, "does not exist")

		_, refusals, err = st.stage("unlock", "", ada)
		require.ErrorIs(t, err, batch.ErrNothing)
		assert.Contains(t, refusals[0].Why, "not locked")

		_, refusals, err = st.stage("disable", "", s.container("Staff"))
		require.ErrorIs(t, err, batch.ErrNothing)
		assert.Contains(t, refusals[0].Why, "not for an entry of this kind")
	})
}

func TestDisableIsRefusedWhereALockWouldHaveNoEffect(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.dialect != directory.OpenLDAP {
			t.Skip("password policies of this kind are OpenLDAP's")
		}
		st := newStory(t, s)
		ada := s.person(t, st.c, "Ada Quill", "aquill")
		require.Zero(t, modify(st.c, ada, func(r *ldap.ModifyRequest) {
			r.Add("pwdPolicySubentry", []string{"cn=nolock,ou=policies,dc=larkmoor,dc=example"})
		}))
		_, refusals, err := st.stage("disable", "", ada)
		require.ErrorIs(t, err, batch.ErrNothing)
		assert.Contains(t, refusals[0].Why, "pwdLockout FALSE")

		st.s.yard.DefaultPolicy = ""
		bram := s.person(t, st.c, "Bram Tern", "btern")
		_, refusals, err = st.stage("disable", "", bram)
		require.ErrorIs(t, err, batch.ErrNothing)
		assert.Contains(t, refusals[0].Why, "default_policy")
	})
}

func TestABatchIsNotCarriedOutOnAnotherDirectory(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	b := st.mustStage("disable", "", s.person(t, st.c, "Ada Quill", "aquill"))
	kept, err := batch.Load(context.Background(), st.Store, b.ID)
	require.NoError(t, err)
	kept.Identity.ID = "S-1-5-21-9-9-9"
	require.NoError(t, kept.Save(context.Background(), st.Store))
	_, err = st.job(kept).Run(context.Background(), carry.Pace{})
	assert.ErrorContains(t, err, "nothing was done")
}

func TestABatchOfATimeThatIsStillToComeIsNotCarriedOut(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	ada := s.person(t, st.c, "Ada Quill", "aquill")
	refused := func(r *carry.Job, want string) {
		t.Helper()
		_, err := r.Run(context.Background(), carry.Pace{})
		assert.ErrorContains(t, err, want)
		assert.Equal(t, "512", s.dir.Entry(ada).First("userAccountControl"))
	}
	r := st.job(st.mustStage("disable", "", ada))
	r.Now = func() time.Time { return time.Now().Add(-time.Hour) }
	refused(r, "one of the two clocks was wrong")
	b := st.mustStage("disable", "", ada)
	b.JudgedFor = time.Now().Add(time.Hour)
	require.NoError(t, b.Save(context.Background(), st.Store))
	refused(st.job(b), "was judged for")
}

func TestBuiltInAndBoundAccountsAreProtected(t *testing.T) {
	server := sambaServer(t)
	s := &subject{name: "samba", yard: server.Yard, base: server.Base, dialect: directory.AD, samba: server}
	st := newStory(t, s)
	for _, dn := range []string{"CN=Guest,CN=Users," + server.Base, "CN=krbtgt,CN=Users," + server.Base, "CN=DC1,OU=Domain Controllers," + server.Base, "CN=Administrator,CN=Users," + server.Base} {
		_, refusals, err := st.stage("disable", "", dn)
		require.ErrorIs(t, err, batch.ErrNothing, dn)
		require.Len(t, refusals, 1)
		assert.Contains(t, refusals[0].Why, "built-in or system")
	}
}

func TestTheLastEnabledPrivilegedAccountStays(t *testing.T) {
	server := sambaServer(t)
	s := &subject{name: "samba", yard: server.Yard, base: server.Base, dialect: directory.AD, samba: server}
	s.fresh(t)
	t.Cleanup(func() { s.sweep(t) })
	st := newStory(t, s)
	ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
	operators := "CN=Backup Operators,CN=Builtin," + server.Base
	require.Zero(t, modify(st.c, operators, func(r *ldap.ModifyRequest) { r.Add("member", []string{ada, bram}) }))
	_, refusals, err := st.stage("disable", "", ada, bram)
	require.ErrorIs(t, err, batch.ErrNothing)
	require.Len(t, refusals, 2)
	assert.Contains(t, refusals[0].Why, "Backup Operators would have no enabled member left")

	// One of them may go; but not if the other went meanwhile.
	b := st.mustStage("disable", "", ada)
	assert.Equal(t, []string{"Backup Operators"}, b.Lines[0].Privileged)
	require.Zero(t, modify(st.c, bram, func(r *ldap.ModifyRequest) { r.Replace("userAccountControl", []string{"514"}) }))
	st.sign(b)
	res, kept := st.apply(b)
	assert.Equal(t, map[batch.LineState]int{batch.Refused: 1}, res.Counts)
	assert.Contains(t, kept.Lines[0].Note, "no enabled member left")
}
