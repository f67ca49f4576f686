package conformance

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/practice"
	"yardbroom/internal/settings"
)

// faultAt lets one request fail, counted from now on, and tells whether it
// came that far.
func (s *subject) faultAt(n int, f practice.Fault) *atomic.Bool {
	var hit atomic.Bool
	var count atomic.Int32
	s.server.SetFault(func(practice.Operation) practice.Fault {
		if int(count.Add(1)) == n {
			hit.Store(true)
			return f
		}
		return practice.Fault{}
	})
	return &hit
}

func TestALostConnectionAnywhereDoesNotStopABatch(t *testing.T) {
	if testing.Short() {
		t.Skip("too long for a short run")
	}
	works := map[string]struct {
		order  batch.Order
		values []batch.Assignment
		attrs  map[string]string
	}{
		"disable and move": {order: batch.Order{Actions: []string{batch.Disable, batch.Move}}, attrs: map[string]string{"userAccountControl": "514"}},
		"rename":           {order: batch.Order{Actions: []string{batch.Rename}, Name: batch.NewName{Display: "Ada Marlowe", Family: "Marlowe"}}, attrs: map[string]string{"sn": "Marlowe", "displayName": "Ada Marlowe"}},
		"a change of case": {order: batch.Order{Actions: []string{batch.Set}}, values: []batch.Assignment{{Attr: "department", Old: "Archive", New: "ARCHIVE"}}, attrs: map[string]string{"department": "ARCHIVE"}},
	}
	for what, work := range works {
		for name, fault := range map[string]practice.Fault{"before": {DropBefore: true}, "after": {DropAfter: true}} {
			t.Run(what+", "+name, func(t *testing.T) {
				s := practiceSubject(t)
				for n := 1; ; n++ {
					st := newStory(t, s)
					ada := s.person(t, st.c, fmt.Sprintf("Ada Quill %d", n), fmt.Sprintf("aquill%d", n))
					crew := s.group(t, st.c, fmt.Sprintf("Crew %d", n), ada)
					order, place, leaf := work.order, "Staff", fmt.Sprintf("Ada Quill %d", n)
					if slices.Contains(order.Actions, batch.Move) {
						order.To, place = s.container("Parked"), "Parked"
					}
					if order.Name.Display != "" {
						order.Name.Display = fmt.Sprintf("%s %d", order.Name.Display, n)
						leaf = order.Name.Display
					}
					b, refusals, err := st.stageOrder(order, work.values, ada)
					require.NoError(t, err, "%v", refusals)
					hit := s.faultAt(n, fault)
					res, kept := st.apply(b)
					s.server.SetFault(nil)
					require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, "request %d: %s %s", n, res.Halted, kept.Lines[0].Note)
					now := s.DN(leaf, place)
					require.Equal(t, []string{now}, s.entry(t, st.c, crew).Get("member"))
					for attr, want := range work.attrs {
						require.True(t, strings.HasPrefix(s.entry(t, st.c, now).First(attr), want), "%s: %v", attr, s.entry(t, st.c, now).Get(attr))
					}
					st.verify()
					if !hit.Load() {
						require.Greater(t, n, 6)
						return
					}
				}
			})
		}
	}
}

func TestARefusedWriteHaltsOrCounts(t *testing.T) {
	for code, halts := range map[uint16]bool{ldap.LDAPResultInsufficientAccessRights: true, ldap.LDAPResultUnwillingToPerform: true, ldap.LDAPResultInvalidCredentials: true} {
		t.Run(ldap.LDAPResultCodeMap[code], func(t *testing.T) {
			s := practiceSubject(t)
			st := newStory(t, s)
			ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
			before := st.picture()
			b := st.mustStage("disable", "", ada, bram)
			s.server.SetFault(func(op practice.Operation) practice.Fault {
				if op.Name == "modify" {
					return practice.Fault{Code: code}
				}
				return practice.Fault{}
			})
			res, kept := st.apply(b)
			s.server.SetFault(nil)
			assert.Equal(t, halts, res.Halted != "", "one failure is the limit of two lines")
			refused, applied := map[batch.LineState]int{batch.Refused: 1, batch.Waiting: 1}, map[batch.LineState]int{batch.Refused: 1, batch.Applied: 1}
			if code != ldap.LDAPResultUnwillingToPerform { // somebody can give the right, or the password
				refused, applied = map[batch.LineState]int{batch.Waiting: 2}, map[batch.LineState]int{batch.Applied: 2}
			}
			assert.Equal(t, refused, res.Counts)
			assert.NotEmpty(t, kept.Lines[0].Note)
			assert.Equal(t, before, st.picture(), "nothing is half done")
			assert.Equal(t, batch.Begun, state(t, st, b.ID), "it can go on")
			res, _ = st.apply(b)
			assert.Equal(t, applied, res.Counts)
			st.verify()
		})
	}
}

func state(t *testing.T, st *story, id int) batch.State {
	kept, err := batch.Load(context.Background(), st.Store, id)
	require.NoError(t, err)
	return kept.State
}

func TestAChangeBetweenReadingAndWritingStopsTheWrite(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	ada := s.person(t, st.c, "Ada Quill", "aquill")
	b := st.mustStage("disable,move", s.container("Parked"), ada)
	done := false
	s.server.SetFault(func(op practice.Operation) (f practice.Fault) {
		if op.Name == "modify" && !done {
			done = true
			f.Meanwhile = func() {
				s.dir.Edit(ada, func(e *directory.Entry) { e.Set("userAccountControl", "66048") })
			}
		}
		return f
	})
	res, kept := st.apply(b)
	assert.Equal(t, map[batch.LineState]int{batch.Drifted: 1}, res.Counts)
	assert.Equal(t, "changed in the moment before the write: userAccountControl is 66048 (enabled) now, it was 512 (enabled)", kept.Lines[0].Note)
	assert.Equal(t, "66048", s.entry(t, st.c, ada).First("userAccountControl"))
}

func TestANewSignInStopsALineThatRestsOnNone(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	ada := s.person(t, st.c, "Ada Quill", "aquill")
	b := st.mustStage("disable", "", ada)
	b.Lines[0].Guard = append(b.Lines[0].Guard, batch.Guard{Attr: "lastLogon", Rule: batch.NoLater, Values: []batch.Octets{"0"}, Server: st.c.HostName()})
	b.ID = 0
	require.NoError(t, b.Save(context.Background(), st.Store))
	s.dir.Edit(ada, func(e *directory.Entry) { e.Set("lastLogon", directory.FormatFileTime(time.Now())) })
	res, kept := st.apply(b)
	assert.Equal(t, map[batch.LineState]int{batch.Drifted: 1}, res.Counts)
	assert.Contains(t, kept.Lines[0].Note, "signed in since")
}

func TestAGuardOfAnotherServerIsUnprovedWhereThatIsGone(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	ada := s.person(t, st.c, "Ada Quill", "aquill")
	b := st.mustStage("disable", "", ada)
	b.Lines[0].Guard = append(b.Lines[0].Guard, batch.Guard{Attr: "lastLogon", Rule: batch.NoLater, Values: []batch.Octets{"0"}, Server: "dc9.larkmoor.example"})
	b.ID = 0
	require.NoError(t, b.Save(context.Background(), st.Store))
	res, _ := st.apply(b)
	assert.Equal(t, map[batch.LineState]int{batch.Unproved: 1}, res.Counts)
	assert.Contains(t, res.Halted, "first line")
	assert.Equal(t, "512", s.entry(t, st.c, ada).First("userAccountControl"))
}

func TestABatchHaltsAtTheFailureLimit(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	var dns []string
	for i := range 8 {
		dns = append(dns, s.person(t, st.c, fmt.Sprintf("Person %d", i), fmt.Sprintf("person%d", i)))
	}
	b := st.mustStage("disable", "", dns...)
	s.server.SetFault(func(op practice.Operation) (f practice.Fault) {
		if op.Name == "modify" {
			f.Code = ldap.LDAPResultUnwillingToPerform
		}
		return f
	})
	res, _ := st.apply(b)
	assert.Equal(t, map[batch.LineState]int{batch.Refused: 1, batch.Waiting: 7}, res.Counts, "two per cent of eight is none, so at least one")
	assert.Contains(t, res.Halted, "limit")
}

func TestABatchStopsBetweenLinesWhenInterrupted(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
	b := st.mustStage("disable", "", ada, bram)
	kept, err := batch.Load(context.Background(), st.Store, b.ID)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	r := st.job(kept)
	r.Settled = func(*batch.Line) { cancel() }
	res, err := r.Run(ctx, carry.Pace{})
	require.NoError(t, err)
	assert.Equal(t, map[batch.LineState]int{batch.Applied: 1, batch.Waiting: 1}, res.Counts)
	assert.Contains(t, res.Halted, "interrupted")
	res, _ = st.apply(b)
	assert.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts)
}

func TestATamperedBatchIsRefused(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
	b := st.mustStage("disable", "", ada, bram)
	ctx := context.Background()
	// A dropped line that comes back behind the journal's back.
	_, err := b.Drop(ctx, st.Store, []string{"btern"}, "tester", time.Now())
	require.NoError(t, err)
	_, err = batch.Load(ctx, st.Store, b.ID)
	require.NoError(t, err)
	db, err := sql.Open("sqlite", filepath.Join(st.Dir(), "yardbroom.db"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.ExecContext(ctx, "UPDATE lines SET state = '' WHERE n = 2")
	require.NoError(t, err)
	_, err = batch.Load(ctx, st.Store, b.ID)
	assert.ErrorIs(t, err, batch.ErrTampered)
}

func TestLongMemberListsComeWhole(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	first := s.person(t, st.c, "Person", "person")
	crew := s.group(t, st.c, "Crew", first)
	want := []string{first}
	s.dir.Edit(crew, func(e *directory.Entry) {
		for i := range 3400 {
			want = append(want, fmt.Sprintf("CN=Guest %d,%s", i, s.container("Staff")))
		}
		e.Set("member", want...)
	})
	got := s.entry(t, st.c, crew)
	assert.Equal(t, want, got.Get("member"))
	assert.False(t, got.Incomplete("member"))
}

func TestAServerThatGoesDownInTheMiddleOfAStepLeavesItToBeSettled(t *testing.T) {
	for name, done := range map[string]bool{"before": false, "after": true} {
		t.Run(name, func(t *testing.T) {
			s := practiceSubject(t)
			st := newStory(t, s)
			ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
			b := st.mustStage("disable", "", ada, bram)
			addr, server := strings.TrimPrefix(s.yard.Servers[0], "ldap://"), s.server
			server.SetFault(func(op practice.Operation) practice.Fault {
				if op.Name != "modify" {
					return practice.Fault{}
				}
				return practice.Fault{Meanwhile: func() { go server.Close() }, DropBefore: !done, DropAfter: done, Stall: 500 * time.Millisecond}
			})
			res, kept := st.apply(b)
			assert.Equal(t, map[batch.LineState]int{batch.Unknown: 1, batch.Waiting: 1}, res.Counts)
			assert.Contains(t, res.Halted, "when the server is back", kept.Lines[0].Note)

			s.server = &practice.Server{Dir: s.dir, Account: "keeper", Password: "keeper-secret"}
			_, err := s.server.Listen(t.Context(), addr)
			require.NoError(t, err)
			st.c = s.connect(t)
			res, _ = st.apply(b)
			assert.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts)
			assert.Equal(t, "514", s.entry(t, st.c, ada).First("userAccountControl"))
			st.verify()
		})
	}
}

func TestNobodyIsSwitchedOffWherePrivilegeCannotBeJudged(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	ada := s.person(t, st.c, "Ada Quill", "aquill")
	b := st.mustStage("disable", "", ada)
	s.dir.Edit("CN=Administrators,CN=Builtin,DC=larkmoor,DC=example", func(e *directory.Entry) { e.Set("objectSid") })
	kept, err := batch.Load(context.Background(), st.Store, b.ID)
	require.NoError(t, err)
	_, err = st.job(kept).Run(context.Background(), carry.Pace{})
	assert.ErrorContains(t, err, "cannot be judged")
	assert.Equal(t, "512", s.entry(t, st.c, ada).First("userAccountControl"))
}

func TestAnAccountWhoseDeletedObjectIsOfNoUseComesBackAsANewEntry(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	ada := s.person(t, st.c, "Ada Quill", "aquill")
	crew := s.group(t, st.c, "Crew", ada)
	before := s.entry(t, st.c, ada)
	b := st.mustStage("disable,delete", "", ada)
	st.apply(b)
	s.server.SetFault(func(op practice.Operation) (f practice.Fault) {
		if op.Name == "modify" && strings.Contains(op.DN, "DEL:") {
			f.Code = ldap.LDAPResultUnwillingToPerform
		}
		return f
	})
	back, refusals := st.undoNow(b)
	require.Empty(t, refusals)
	assert.False(t, back.Lines[0].Anew, "it is there to be brought back")
	require.NoError(t, back.Save(context.Background(), st.Store))
	res, kept := st.apply(back)
	require.Equal(t, map[batch.LineState]int{batch.Refused: 1}, res.Counts)
	assert.Contains(t, kept.Lines[0].Note, "--anew", "nobody has agreed to another SID")
	assert.Nil(t, s.entry(t, st.c, ada))

	back, _ = st.undoNow(b)
	back.AllowAnew("")
	require.NoError(t, back.Save(context.Background(), st.Store))
	_, err := st.job(back).Run(context.Background(), carry.Pace{})
	require.ErrorIs(t, err, batch.ErrNotSigned)
	st.sign(back)
	res, kept = st.apply(back)
	s.server.SetFault(nil)
	require.Equal(t, map[batch.LineState]int{batch.InPart: 1}, res.Counts, kept.Lines[0].Note)
	assert.Contains(t, kept.Lines[0].Note, "its SID and GUID are new")
	assert.Equal(t, 1, res.NotDone())
	after := s.entry(t, st.c, ada)
	require.NotNil(t, after)
	assert.NotEqual(t, before.First("objectSid"), after.First("objectSid"))
	assert.Equal(t, before.First("mail"), after.First("mail"))
	assert.Equal(t, "514", after.First("userAccountControl"))
	assert.Equal(t, []string{ada}, s.entry(t, st.c, crew).Get("member"))
}

func TestADirectoryThatDisablesOnReturnNeverShowsTheAccountEnabled(t *testing.T) {
	s := practiceSubject(t)
	s.dir.ChangeOnReturn = true
	st := newStory(t, s)
	ada := s.person(t, st.c, "Ada Quill", "aquill")
	b := st.mustStage("disable,delete", "", ada)
	st.apply(b)
	enabled := false
	s.server.SetFault(func(practice.Operation) (f practice.Fault) {
		if e := s.dir.Entry(ada); e != nil && e.First("userAccountControl") != "514" {
			enabled = true
		}
		return f
	})
	res, kept := st.undo(b)
	s.server.SetFault(nil)
	require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts)
	assert.False(t, enabled)
	assert.NotContains(t, kept.Lines[0].Note, "right after")
	assert.Equal(t, "514", s.entry(t, st.c, ada).First("userAccountControl"))
}

func TestAPrivilegedGroupIsNotGivenBack(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
	const admins = "CN=Domain Admins,CN=Users,DC=larkmoor,DC=example"
	s.dir.Edit(admins, func(e *directory.Entry) { e.Set("member", ada, bram) })
	b := st.mustStage("disable,delete", "", ada)
	st.sign(b)
	st.apply(b)
	back, _, err := carry.Inverse(context.Background(), st.Store, b, nil, "tester", time.Now())
	require.NoError(t, err)
	_, err = carry.WithoutPrivileged(back, "undo 1")
	require.ErrorIs(t, err, carry.ErrNothingToUndo, "without a signature")
	back, _ = st.undoNow(b)
	assert.Equal(t, []string{"Domain Admins"}, back.Lines[0].Joins(), "which the signature covers")
	left, err := carry.WithoutPrivileged(back, "undo 1")
	require.NoError(t, err)
	assert.Contains(t, left[0].Why, "it would be in Domain Admins again, which needs a signature: stage that with \"yardbroom undo 1 --stage aquill\"")
	require.NoError(t, back.Save(context.Background(), st.Store))
	res, kept := st.apply(back)
	require.Equal(t, map[batch.LineState]int{batch.InPart: 1}, res.Counts)
	assert.Contains(t, kept.Lines[0].Note, "member of "+admins+" was not put back: its members have power over the directory")
	assert.Equal(t, []string{bram}, s.entry(t, st.c, admins).Get("member"))
}

// TestASignedUndoPutsBackWhatTheSignatureCovered gives a deleted administrator
// the group back that two people agreed to, and no power that came since.
func TestASignedUndoPutsBackWhatTheSignatureCovered(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada, keeper := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Kee Per", "kper")
		rulers, later := s.group(t, st.c, "rulers", ada, keeper), s.group(t, st.c, "later", ada, keeper)
		st.set.Audit.PrivilegedGroups = []string{rulers}
		b := st.mustStage("disable,delete", "", ada)
		st.sign(b)
		res, kept := st.apply(b)
		require.Equal(t, 1, res.Counts[batch.Applied], kept.Lines[0].Note)
		back, refusals := st.undoNow(b)
		require.Empty(t, refusals)
		require.NoError(t, back.Save(context.Background(), st.Store))
		_, err := st.job(back).Run(context.Background(), carry.Pace{})
		require.ErrorIs(t, err, batch.ErrNotSigned)
		st.sign(back)
		st.set.Audit.PrivilegedGroups = append(st.set.Audit.PrivilegedGroups, later)
		res, kept = st.apply(back)
		require.Equal(t, 1, res.Counts[batch.InPart], kept.Lines[0].Note)
		assert.Contains(t, kept.Lines[0].Note, "member of "+later+" was not put back")
		assert.Contains(t, s.entry(t, st.c, rulers).Get("member"), ada)
		assert.NotContains(t, s.entry(t, st.c, later).Get("member"), ada)
	})
}

func TestAServerThatStallsIsGivenUpInTime(t *testing.T) {
	s := practiceSubject(t)
	s.yard.Timeout = settings.Wait(200 * time.Millisecond)
	c := s.connect(t)
	s.server.SetFault(func(practice.Operation) practice.Fault { return practice.Fault{Stall: time.Second} })
	defer s.server.SetFault(nil)
	_, err := c.Survey(context.Background())
	assert.ErrorContains(t, err, "the connection was lost 3 times")
}

func TestEntriesProtectedAgainstDeletionAreRefused(t *testing.T) {
	server := sambaServer(t)
	s := &subject{name: "samba", yard: server.Yard, base: server.Base, dialect: directory.AD, samba: server}
	s.fresh(t)
	t.Cleanup(func() { s.sweep(t) })
	st := newStory(t, s)
	ada := s.person(t, st.c, "Ada Quill", "aquill")
	st.apply(st.mustStage("disable", "", ada))
	b := st.mustStage("delete", "", ada)
	server.Tool(t, "dsacl", "set", "--action=deny", "--objectdn="+ada, "--sddl=(D;;SD;;;WD)", "-H", filepath.Join(server.Dir, "private", "sam.ldb"))
	_, refusals, err := st.stage("delete", "", ada)
	require.ErrorIs(t, err, batch.ErrNothing)
	assert.Contains(t, refusals[0].Why, "protected against accidental deletion")
	res, kept := st.apply(b)
	assert.Equal(t, map[batch.LineState]int{batch.Refused: 1}, res.Counts)
	assert.Contains(t, kept.Lines[0].Note, "protected against accidental deletion")
	assert.NotNil(t, s.entry(t, st.c, ada))
}

// TestAServerThatIsGoneLeavesEveryLineToGoOnWith has the server fall silent for
// good at each request. No line is given up for that.
func TestAServerThatIsGoneLeavesEveryLineToGoOnWith(t *testing.T) {
	if testing.Short() {
		t.Skip("too long for a short run")
	}
	s := practiceSubject(t)
	for n := 9; ; n += 4 {
		st := newStory(t, s)
		ada, bram := s.person(t, st.c, fmt.Sprintf("Ada %d", n), fmt.Sprintf("ada%d", n)), s.person(t, st.c, fmt.Sprintf("Bram %d", n), fmt.Sprintf("bram%d", n))
		s.group(t, st.c, fmt.Sprintf("Crew %d", n), ada, bram)
		b := st.mustStage("move,leave-groups", s.container("Parked"), ada, bram)
		var count atomic.Int32
		s.server.SetFault(func(practice.Operation) practice.Fault {
			return practice.Fault{DropBefore: int(count.Add(1)) >= n}
		})
		kept, err := batch.Load(context.Background(), st.Store, b.ID)
		require.NoError(t, err)
		res, err := st.job(kept).Run(context.Background(), carry.Pace{})
		s.server.SetFault(nil)
		if err == nil && res.NotDone() == 0 {
			require.Greater(t, n, 20)
			return
		}
		require.Zero(t, res.Counts[batch.Refused]+res.Counts[batch.Drifted]+res.Counts[batch.Unproved], "silent from request %d on: %v %s", n, res.Counts, res.Halted)

		st.c = s.connect(t)
		res, kept = st.apply(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts, "silent from request %d on: %+v", n, kept.Lines)
		st.verify()
	}
}
