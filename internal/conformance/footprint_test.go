package conformance

import (
	"context"
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
)

// tell changes something behind the tool's back.
func (st *story) tell(dn string, change func(*ldap.ModifyRequest)) {
	st.t.Helper()
	req := ldap.NewModifyRequest(dn, nil)
	change(req)
	require.NoError(st.t, st.c.Conn().Modify(req))
}

// undoNow makes the batch that takes another one back as the command does: its
// powers are those of this moment.
func (st *story) undoNow(b *batch.Batch) (*batch.Batch, []batch.Refusal) {
	st.t.Helper()
	ctx := context.Background()
	kept, err := batch.Load(ctx, st.Store, b.ID)
	require.NoError(st.t, err)
	back, refusals, err := carry.Inverse(ctx, st.Store, kept, nil, "tester", time.Now().UTC())
	require.NoError(st.t, err)
	p := st.protection()
	more, err := back.Reassess(ctx, st.c, &privilege.Climber{From: st.c, Dialect: st.s.dialect, Rules: privilege.RulesFor(kept.Identity, st.set.Audit.PrivilegedGroups)}, &p)
	require.NoError(st.t, err)
	return back, append(refusals, more...)
}

// TestWhatAGroupIsTellsItsPower: a group of which only what it is was read leads to the same
// privileged groups as the whole one.
func TestWhatAGroupIsTellsItsPower(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c, ctx := s.connect(t), context.Background()
		ada := s.person(t, c, "Ada Quill", "aquill")
		inner := s.group(t, c, "Inner", ada)
		outer, ordinary := s.group(t, c, "Outer", inner), s.group(t, c, "Ordinary", ada)
		id, err := c.Identity(ctx)
		require.NoError(t, err)
		climber := &privilege.Climber{From: c, Dialect: s.dialect, Rules: privilege.RulesFor(id, []string{outer})}
		groups, called := map[string]bool{inner: true, outer: true, ordinary: false}, "cn"
		if s.dialect == directory.AD {
			called = "sAMAccountName"
			groups["CN=Domain Admins,CN=Users,"+c.Top()] = true
		}
		for dn, powerful := range groups {
			found, err := c.Select(ctx, "("+called+"="+source.EscapeFilter(directory.LeafValue(dn))+")", source.WhatItIs(s.dialect))
			require.NoError(t, err)
			require.Len(t, found, 1, dn)
			got, err := climber.Of(ctx, &found[0])
			require.NoError(t, err)
			want, err := climber.LeadsTo(ctx, dn)
			require.NoError(t, err)
			assert.Equal(t, want, got, dn)
			assert.Equal(t, powerful, len(got) > 0, dn)
		}
	})
}

func TestWhatStandsBelowMovesWithItsReferences(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada := s.person(t, st.c, "Ada Quill", "aquill")
		kid := "cn=Kid," + ada
		class := map[string][]string{"objectClass": {"inetOrgPerson"}, "cn": {"Kid"}, "sn": {"Kid"}, "uid": {"kid"}}
		if s.dialect == directory.AD {
			kid, class = "CN=Kid,"+ada, map[string][]string{"objectClass": {"nTFRSSubscriptions"}}
		}
		s.add(t, st.c, kid, class)
		var members []string
		if s.dialect != directory.AD {
			members = []string{kid}
		}
		kidgroup := s.group(t, st.c, "kidgroup", append(members, ada)...)
		before := st.picture()

		b := st.mustStage(batch.Move, s.container("Parked"), ada)
		assert.Contains(t, b.Lines[0].Also, batch.Touched{DN: s.entry(t, st.c, kid).DN, How: batch.MovesAlong})
		res, kept := st.apply(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, kept.Lines[0].Note)
		for _, member := range s.entry(t, st.c, kidgroup).Get("member") {
			assert.NotNil(t, s.entry(t, st.c, member), "%s names what is there", member)
			assert.True(t, directory.Under(directory.FoldDN(member), directory.FoldDN(s.container("Parked"))), member)
		}
		res, kept = st.undo(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, kept.Lines[0].Note)
		assert.Equal(t, before, st.picture())
		st.verify()
	})
}

func TestNothingProtectedMovesAlongOrIsWritten(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
		crew := s.group(t, st.c, "crew", ada, bram)
		b := st.mustStage(batch.LeaveGroups, "", ada)
		b2 := st.mustStage(batch.Move, s.container("Parked"), bram)
		before := st.picture()

		// What is left out since then is not touched by what was staged before.
		st.yard.LeaveOut = []string{crew, s.container("Parked")}
		for _, one := range []*batch.Batch{b, b2} {
			res, kept := st.apply(one)
			require.Equal(t, map[batch.LineState]int{batch.Refused: 1}, res.Counts)
			assert.Contains(t, kept.Lines[0].Note, "outside the yard's scope")
		}
		assert.Equal(t, before, st.picture())
		_, refusals, err := st.stage(batch.LeaveGroups, "", ada)
		require.ErrorIs(t, err, batch.ErrNothing)
		assert.Contains(t, refusals[0].Why, "only in groups that are left alone")

		// Nor by what takes a batch back.
		st.yard.LeaveOut = nil
		res, _ := st.apply(st.mustStage(batch.Move, s.container("Parked"), ada))
		require.Equal(t, 1, res.Counts[batch.Applied])
		st.yard.LeaveOut = []string{s.container("Staff")}
		last, err := batch.Heads(context.Background(), st.Store)
		require.NoError(t, err)
		back, refusals := st.undoNow(last[len(last)-1])
		assert.Empty(t, back.Lines)
		require.Len(t, refusals, 1)
		assert.Contains(t, refusals[0].Why, "outside the yard's scope")
	})
}

func TestNoPowerChangesHandsThatNobodyHasSigned(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
		keeper := s.person(t, st.c, "Kee Per", "kper")
		crew, top := s.group(t, st.c, "crew", bram, keeper), s.group(t, st.c, "top", keeper)
		st.set.Audit.PrivilegedGroups = []string{top}
		found, err := st.c.Get(context.Background(), []string{crew})
		require.NoError(t, err)
		join, _, err := st.stageOrder(batch.Order{Actions: []string{batch.JoinGroup}, Groups: found}, nil, ada)
		require.NoError(t, err)
		require.Empty(t, join.Lines[0].Joins())
		leave := st.mustStage(batch.LeaveGroups, "", bram)
		describe := st.mustStage(batch.Describe, "", bram)
		group := st.mustStage(batch.Describe, "", crew)

		// Somebody nests the group into one that has power.
		st.tell(top, func(r *ldap.ModifyRequest) { r.Add("member", []string{crew}) })
		before := st.picture()
		for _, b := range []*batch.Batch{join, leave, describe, group} {
			res, kept := st.apply(b)
			require.Equal(t, map[batch.LineState]int{batch.Refused: 1}, res.Counts, "%v", b.Actions)
			assert.Contains(t, kept.Lines[0].Note, "it is about top now, and was not when this was staged")
		}
		assert.Equal(t, before, st.picture())

		// Staged now, all of these need a signature.
		join, _, err = st.stageOrder(batch.Order{Actions: []string{batch.JoinGroup}, Groups: found}, nil, ada)
		require.NoError(t, err)
		for _, b := range []*batch.Batch{join, st.mustStage(batch.LeaveGroups, "", bram), st.mustStage(batch.Describe, "", crew)} {
			agreed, err := b.Agreement(context.Background(), st.Store, st.set, time.Now())
			require.NoError(t, err)
			assert.Equal(t, 1, agreed.Needed, "%v", b.Actions)
			assert.False(t, agreed.Enough())
		}
	})
}

func TestAnUndoKnowsWhatHasBecomePrivilegedMeanwhile(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada, keeper := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Kee Per", "kper")
		crew, top := s.group(t, st.c, "crew", ada, keeper), s.group(t, st.c, "top", keeper)
		st.set.Audit.PrivilegedGroups = []string{top}
		b := st.mustStage(batch.LeaveGroups, "", ada)
		res, _ := st.apply(b)
		require.Equal(t, 1, res.Counts[batch.Applied])
		stale, _, err := carry.Inverse(context.Background(), st.Store, b, nil, "tester", time.Now().UTC())
		require.NoError(t, err)
		st.tell(top, func(r *ldap.ModifyRequest) { r.Add("member", []string{crew}) })

		back, _ := st.undoNow(b)
		refusals, err := carry.WithoutPrivileged(back, "undo 1")
		require.ErrorIs(t, err, carry.ErrNothingToUndo)
		require.Len(t, refusals, 1)
		assert.Contains(t, refusals[0].Why, "it would be in top again, which needs a signature")

		// And one that was made before that is refused when it is carried out.
		require.NoError(t, stale.Save(context.Background(), st.Store))
		res, kept := st.apply(stale)
		require.Equal(t, map[batch.LineState]int{batch.Refused: 1}, res.Counts, kept.Lines[0].Note)
		assert.NotContains(t, s.entry(t, st.c, crew).Get("member"), ada)
	})
}

func TestARestoreGivesNoPowerAndWritesNothingProtected(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada, keeper := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Kee Per", "kper")
		inner, quiet, open := s.group(t, st.c, "inner", ada, keeper), s.group(t, st.c, "quiet", ada, keeper), s.group(t, st.c, "open", ada, keeper)
		top := s.group(t, st.c, "top", keeper)
		st.set.Audit.PrivilegedGroups = []string{top}
		b := st.mustStage(batch.Disable+","+batch.Delete, "", ada)
		res, kept := st.apply(b)
		require.Equal(t, 1, res.Counts[batch.Applied], kept.Lines[0].Note)
		st.tell(top, func(r *ldap.ModifyRequest) { r.Add("member", []string{inner}) })
		st.exempt = []audit.Exemption{{Exemption: settings.Exemption{Match: settings.Match{DN: quiet}, Reason: "quiet", Owner: "o"}}}
		back, _ := st.undoNow(b)
		_, err := carry.WithoutPrivileged(back, "undo 1")
		require.NoError(t, err)
		require.NoError(t, back.Save(context.Background(), st.Store))
		res, kept = st.apply(back)
		require.Equal(t, 1, res.Counts[batch.InPart], kept.Lines[0].Note)
		assert.NotContains(t, s.entry(t, st.c, inner).Get("member"), ada, "nested in a privileged one meanwhile")
		assert.NotContains(t, s.entry(t, st.c, quiet).Get("member"), ada, "exempt meanwhile")
		assert.Contains(t, s.entry(t, st.c, open).Get("member"), ada)
	})
}

// TestWhatAServerCannotHaveIsAbsent guards an attribute that no schema knows: a
// server without it can still be written to, by lines one at a time and by many
// at once.
func TestWhatAServerCannotHaveIsAbsent(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
		for _, actions := range []string{"disable", "move"} {
			b := st.mustStage(actions, map[string]string{"move": s.container("Parked")}[actions], ada, bram)
			for i := range b.Lines {
				b.Lines[i].Guard = append(b.Lines[i].Guard, batch.Guard{Attr: "larkmoorDomeKey", Rule: batch.Equal, Values: []batch.Octets{}})
			}
			require.NoError(t, b.Save(context.Background(), st.Store))
			res, kept := st.apply(b)
			require.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts, kept.Lines[0].Note)
		}
	})
}

// Names come back in the spelling that they had, of entries and in references.
func TestNamesComeBackAsTheyWereSpelt(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.dialect.KeepsLinks {
			t.Skip("the server writes references itself")
		}
		st := newStory(t, s)
		ada := s.person(t, st.c, "Ada Quill", "aquill")
		was := s.entry(t, st.c, ada).DN
		odd := strings.Replace(strings.ToUpper(was), "ADA QUILL", "ada  Quill", 1)
		group := s.group(t, st.c, "crew", odd)
		spelt := s.entry(t, st.c, group).Get("member")
		b := st.mustStage(batch.Move, s.container("Parked"), ada)
		st.apply(b)
		require.NotEqual(t, spelt, s.entry(t, st.c, group).Get("member"))
		st.undo(b)
		assert.Equal(t, was, s.entry(t, st.c, ada).DN)
		assert.Equal(t, spelt, s.entry(t, st.c, group).Get("member"))
		st.set.Batch.DeleteMinDisabled = calendar.Span{}
		b, refusals, err := st.stageOrder(batch.Order{Actions: []string{batch.Delete}, EvenEnabled: true}, nil, ada)
		require.NoError(t, err, "%v", refusals)
		st.sign(b)
		st.apply(b)
		st.undo(b)
		assert.Equal(t, was, s.entry(t, st.c, ada).DN)
		assert.Equal(t, spelt, s.entry(t, st.c, group).Get("member"), "of a deleted entry too")
	})
}
