package conformance

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/work"
)

// climber climbs the ladder of the tests at a clock of its own.
type climber struct {
	*work.Session
	t  *testing.T
	s  *subject
	c  *source.Server
	at time.Time
}

func newClimber(t *testing.T, s *subject) *climber {
	t.Helper()
	c := s.connect(t)
	for _, ou := range []string{"Shelf", "Attic"} {
		s.add(t, c, "OU="+ou+","+s.container("Staff"), map[string][]string{"objectClass": {"organizationalUnit"}})
	}
	month := calendar.Days(30)
	set := settings.Defaults()
	set.Batch.MaxShare, set.Batch.DayShare, set.Default = 100, 100, "here"
	set.Yards = map[string]settings.Yard{"here": s.yard}
	set.Ladders = []settings.Ladder{{Name: "unused", Starts: settings.Start{NeverUsed: &month},
		Of: &settings.Filter{Kind: "users", Filter: "(mail=*)", Under: s.container("Staff")}, Rungs: []settings.Rung{
			{Name: "shelved", After: calendar.Days(5), Actions: settings.Words{batch.Move}, To: "OU=Shelf," + s.container("Staff"), Unattended: true, IncludeLikely: true},
			{Name: "disabled", After: month, Actions: settings.Words{batch.Disable, batch.LeaveGroups, batch.Move}, To: "OU=Attic," + s.container("Staff"),
				Unattended: true, IncludeLikely: true},
		}}}
	session, err := work.New(set)
	require.NoError(t, err)
	k := &climber{Session: session, t: t, s: s, c: c, at: time.Now()}
	session.State, session.By, session.Now = t.TempDir(), "tester", func() time.Time { return k.at }
	t.Cleanup(func() { require.NoError(t, session.Close()) })
	return k
}

// climb climbs after some days.
func (k *climber) climb(days int) *work.LadderClimb {
	k.t.Helper()
	k.at = k.at.AddDate(0, 0, days)
	p, err := k.Open(context.Background(), work.From{})
	require.NoError(k.t, err)
	defer p.Close()
	c, err := k.Climb(context.Background(), p, &work.ClimbRequest{})
	require.NoError(k.t, err)
	l := c.All[0]
	require.NoError(k.t, l.Error)
	for _, st := range l.Standings {
		k.t.Logf("%s: %s, on %q since %s, %v %v %s", st.Account, st.State, st.Rung, st.Since, st.Holds, st.Start, st.Awake)
	}
	k.t.Log(l.NotLooked)
	for _, b := range l.Batches {
		require.NoError(k.t, b.Error)
		require.Empty(k.t, b.Refusals)
		if b.Batch != nil {
			for i := range b.Batch.Lines {
				require.Equal(k.t, batch.Applied, b.Batch.Lines[i].State, b.Batch.Lines[i].Note)
			}
		}
	}
	return l
}

// in is where somebody stands: the name of the container.
func (k *climber) in(cn string) string {
	k.t.Helper()
	for _, place := range []string{"OU=Shelf,", "OU=Attic,", ""} {
		if k.s.entry(k.t, k.c, "CN="+cn+","+place+k.s.container("Staff")) != nil {
			return place
		}
	}
	return "nowhere"
}

// off tells whether an account is disabled.
func (k *climber) off(dn string) bool {
	k.t.Helper()
	e := k.s.entry(k.t, k.c, dn)
	require.NotNil(k.t, e, dn)
	p, err := k.Open(context.Background(), work.From{})
	require.NoError(k.t, err)
	defer p.Close()
	card, err := k.Show(context.Background(), p, e.DN, &work.Question{})
	require.NoError(k.t, err)
	return card.Survey.Disabled(card.Account, k.at).Yes
}

// TestALadderIsClimbedAndComeDownFrom lives through the ladder on each server: nobody
// steps early, who signs in or is enabled by somebody comes back with their groups, and
// who is exempt comes back as they are.
func TestALadderIsClimbedAndComeDownFrom(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		k := newClimber(t, s)
		ada, ben := s.person(t, k.c, "Ada Quill", "adaquill"), s.person(t, k.c, "Ben Tern", "bentern")
		s.person(t, k.c, "Cleo Birk", "cleobirk")
		k.signsIn(s.person(t, k.c, "Dov Ekholm", "dovekholm")) // so that it can be seen that others have not
		readers := s.group(t, k.c, "chart readers", ada, ben)

		k.climb(34)
		assert.Equal(t, "", k.in("Ada Quill"), "35 days are not over")
		k.climb(2)
		for _, cn := range []string{"Ada Quill", "Ben Tern", "Cleo Birk"} {
			assert.Equal(t, "OU=Shelf,", k.in(cn), cn)
		}
		k.climb(29)
		assert.Equal(t, "OU=Shelf,", k.in("Ben Tern"))

		woke := "CN=Ada Quill,OU=Shelf," + s.container("Staff")
		k.signsIn(woke)
		l := k.climb(2)
		require.Len(t, l.Woke, 1, "who has signed in")
		assert.Equal(t, "adaquill", l.Woke[0].Account)
		assert.Equal(t, "", k.in("Ada Quill"), "is back")
		assert.Equal(t, "OU=Attic,", k.in("Ben Tern"))
		assert.True(t, k.off("CN=Ben Tern,OU=Attic,"+s.container("Staff")))
		assert.NotContains(t, folded(s.entry(t, k.c, readers).Get("member")), directory.FoldDN("CN=Ben Tern,OU=Attic,"+s.container("Staff")))
		assert.Contains(t, folded(s.entry(t, k.c, readers).Get("member")), directory.FoldDN(ada))

		k.enable("CN=Ben Tern,OU=Attic," + s.container("Staff"))
		_, err := k.Exempt(t.Context(), settings.Exemption{Match: settings.Match{Account: "cleobirk"}, Reason: "needed", Owner: "kay@larkmoor.example"})
		require.NoError(t, err)
		l = k.climb(1)
		require.Len(t, l.Woke, 2)
		assert.Equal(t, "", k.in("Ben Tern"))
		assert.False(t, k.off(ben), "somebody has enabled it")
		assert.Contains(t, folded(s.entry(t, k.c, readers).Get("member")), directory.FoldDN(ben))
		assert.Equal(t, "", k.in("Cleo Birk"))
		assert.True(t, k.off(s.DN("Cleo Birk", "Staff")), "a ladder enables nobody by itself")
		assert.Empty(t, k.climb(1).Batches, "and that is all")
	})
}

func folded(dns []string) (out []string) {
	for _, dn := range dns {
		out = append(out, directory.FoldDN(dn))
	}
	return out
}

// signsIn lets somebody sign in.
func (k *climber) signsIn(dn string) {
	k.t.Helper()
	if k.s.real == nil {
		k.s.dir.Edit(dn, func(e *directory.Entry) { e.Set("lastLogon", directory.FormatFileTime(k.at)) })
		return
	}
	require.True(k.t, k.s.signsIn(k.t, dn, "Right-secret1"))
}

// enable is a colleague's hand.
func (k *climber) enable(dn string) {
	k.t.Helper()
	p, err := k.Open(context.Background(), work.From{})
	require.NoError(k.t, err)
	defer p.Close()
	staged, err := k.Stage(context.Background(), p, &work.StageRequest{Choice: work.Choice{Names: []string{dn}}, Actions: []string{batch.Enable}, Why: "by hand"})
	require.NoError(k.t, err, "%v", staged.Refusals)
	done, err := k.Apply(context.Background(), staged.Batch, &work.CarryRequest{})
	require.NoError(k.t, err)
	require.False(k.t, done.NotDone())
}
