package conformance

import (
	"context"
	"fmt"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
)

// applyOver carries a batch out over several connections.
func (st *story) applyOver(connections int, b *batch.Batch) carry.Result {
	st.t.Helper()
	kept, err := batch.Load(context.Background(), st.Store, b.ID)
	require.NoError(st.t, err)
	r := st.job(kept)
	res, err := r.Run(context.Background(), carry.Pace{Connections: connections, DayLines: 1000, DayShare: 100})
	require.NoError(st.t, err)
	return res
}

// notDone is what the lines of a batch say that were not done.
func (st *story) notDone(b *batch.Batch) (notes []string) {
	st.t.Helper()
	now, err := batch.Load(context.Background(), st.Store, b.ID)
	require.NoError(st.t, err)
	for i := range now.Lines {
		if l := &now.Lines[i]; l.State != batch.Applied {
			notes = append(notes, fmt.Sprintf("%s is %s: %s", l.Account, l.State, l.Note))
		}
	}
	return notes
}

// TestPeopleWhoNameEachOtherMoveAtOnce moves people of whom each is the next
// one's manager, over eight connections: none may be left naming a place that is
// gone, and undo brings every name back.
func TestPeopleWhoNameEachOtherMoveAtOnce(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		var dns []string
		for i := range 40 {
			dns = append(dns, s.person(t, st.c, fmt.Sprintf("Quill %02d", i), fmt.Sprintf("quill%02d", i)))
		}
		for i, dn := range dns {
			st.tell(dn, func(req *ldap.ModifyRequest) { req.Replace("manager", []string{dns[(i+1)%len(dns)]}) })
		}
		before := st.picture()
		b := st.mustStage("move", s.container("Parked"), dns...)
		res := st.applyOver(8, b)
		assert.Equal(t, map[batch.LineState]int{batch.Applied: 40}, res.Counts, "%s; %s", res.Halted, st.notDone(b))
		wrong := 0
		for i := range dns {
			e := s.entry(t, st.c, s.DN(fmt.Sprintf("Quill %02d", i), "Parked"))
			require.NotNil(t, e)
			if e.First("manager") != s.DN(fmt.Sprintf("Quill %02d", (i+1)%len(dns)), "Parked") {
				wrong++
			}
		}
		assert.Zero(t, wrong, "managers name the new places")
		kept, err := batch.Load(context.Background(), st.Store, b.ID)
		require.NoError(t, err)
		back, _, err := carry.Inverse(context.Background(), st.Store, kept, nil, "tester", time.Now().UTC())
		require.NoError(t, err)
		require.NoError(t, back.Save(context.Background(), st.Store))
		res = st.applyOver(8, back)
		assert.Equal(t, map[batch.LineState]int{batch.Applied: 40}, res.Counts)
		assert.Equal(t, normal(before), normal(st.picture()))
	})
}
