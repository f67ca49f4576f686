package conformance

import (
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
)

// permissions are the access list of an entry, as its descriptor has it.
func (st *story) permissions(dn string) string {
	st.t.Helper()
	list, err := st.c.AccessList(st.t.Context(), dn)
	require.NoError(st.t, err)
	require.NotEmpty(st.t, list)
	return list
}

// permit writes the access list of an entry behind the tool's back.
func (st *story) permit(dn, list string) {
	st.t.Helper()
	flags := ldap.NewControlMicrosoftSDFlags()
	flags.ControlValue = 4
	req := ldap.NewModifyRequest(dn, []ldap.Control{flags})
	req.Replace(directory.AttrSecurityDescriptor, []string{list})
	require.NoError(st.t, st.c.Conn().Modify(req))
}

// mark makes an entry as the directory makes members of its protected groups: the mark,
// and the closed access list of the domain's own template.
func (st *story) mark(dn string) {
	st.t.Helper()
	st.tell(dn, func(r *ldap.ModifyRequest) { r.Replace("adminCount", []string{"1"}) })
	if st.s.dir == nil { // the practice directory closes it by itself
		closed, err := directory.InheritPermissions(st.permissions("CN=AdminSDHolder,CN=System,"+st.s.samba.Base), false)
		require.NoError(st.t, err)
		st.permit(dn, closed)
	}
}

func (st *story) inherits(dn string) bool {
	st.t.Helper()
	yes, err := directory.InheritsPermissions(st.permissions(dn))
	require.NoError(st.t, err)
	return yes
}

func eachAD(t *testing.T, test func(t *testing.T, st *story)) {
	each(t, func(t *testing.T, s *subject) {
		if s.dialect != directory.AD {
			t.Skip("it keeps no mark of privileged entries")
		}
		test(t, newStory(t, s))
	})
}

func TestTheMarkOfAPrivilegedEntryIsTakenOffAndPutBack(t *testing.T) {
	eachAD(t, func(t *testing.T, st *story) {
		ada := st.s.person(t, st.c, "Ada Quill", "aquill")
		crew := st.s.group(t, st.c, "Crew", ada)
		open := map[string]string{ada: st.permissions(ada), crew: st.permissions(crew)}
		for dn := range open {
			st.mark(dn)
			require.False(t, st.inherits(dn))
		}
		before := map[string]map[string][]string{ada: st.everything(ada), crew: st.everything(crew)}
		closed := map[string]string{ada: st.permissions(ada), crew: st.permissions(crew)}

		b := st.mustStage("unmark-privileged", "", ada, crew)
		assert.Equal(t, []batch.Change{{What: "adminCount", Old: "1", New: "(none)"}, {What: "permissions", Old: "not inherited", New: "inherited"}}, b.Lines[0].Changes)
		kept, err := batch.Load(t.Context(), st.Store, b.ID)
		require.NoError(t, err)
		_, err = st.job(kept).Run(t.Context(), carry.Pace{})
		require.ErrorIs(t, err, batch.ErrNotSigned, "a second person must agree")
		st.sign(b)
		res, kept := st.apply(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts, kept.Lines[0].Note)
		for dn := range open {
			assert.False(t, st.s.entry(t, st.c, dn).Has("adminCount"))
			assert.True(t, st.inherits(dn))
			want, err := directory.InheritPermissions(closed[dn], true)
			require.NoError(t, err)
			assert.True(t, directory.SamePermissions(want, st.permissions(dn)), "each rule of its own is as it was")
			after := st.everything(dn)
			for _, name := range differing(before[dn], after) {
				assert.Contains(t, []string{"adminCount", "nTSecurityDescriptor", "whenChanged", "uSNChanged", "dSCorePropagationData"}, name)
			}
		}

		res, kept = st.undo(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts, kept.Lines[0].Note)
		for dn := range open {
			for _, name := range differing(before[dn], st.everything(dn)) {
				assert.Contains(t, []string{"whenChanged", "uSNChanged", "dSCorePropagationData"}, name, "the whole descriptor is as it was, octet by octet")
			}
			assert.Equal(t, closed[dn], st.permissions(dn))
		}
		st.verify()
	})
}

func TestPermissionsThatWereChangedSinceStayAsTheyAre(t *testing.T) {
	eachAD(t, func(t *testing.T, st *story) {
		ada := st.s.person(t, st.c, "Ada Quill", "aquill")
		st.mark(ada)
		b := st.mustStage("unmark-privileged", "", ada)
		st.sign(b)
		now, err := directory.InheritPermissions(st.permissions(ada), true)
		require.NoError(t, err)
		st.permit(ada, now)
		before := st.everything(ada)
		res, kept := st.apply(b)
		assert.Equal(t, map[batch.LineState]int{batch.Drifted: 1}, res.Counts)
		assert.Equal(t, "its permissions are inherited now, they were not inherited", kept.Lines[0].Note)
		assert.Equal(t, before, st.everything(ada))
	})
}

func TestWhoIsPrivilegedKeepsTheMark(t *testing.T) {
	eachAD(t, func(t *testing.T, st *story) {
		ada, bram := st.s.person(t, st.c, "Ada Quill", "aquill"), st.s.person(t, st.c, "Bram Tern", "btern")
		st.mark(ada)
		st.mark(bram)
		power := st.s.group(t, st.c, "Power", bram)
		st.set.Audit.PrivilegedGroups = []string{power}
		b, refusals, err := st.stage("unmark-privileged", "", ada, bram)
		require.NoError(t, err)
		require.Len(t, refusals, 1)
		assert.Contains(t, refusals[0].Why, "it is privileged by Power, and the directory would mark it again")

		st.sign(b)
		st.tell(power, func(r *ldap.ModifyRequest) { r.Add("member", []string{ada}) })
		res, kept := st.apply(b)
		assert.Equal(t, map[batch.LineState]int{batch.Refused: 1}, res.Counts)
		assert.Contains(t, kept.Lines[0].Note, "it is privileged by Power")
		assert.False(t, st.inherits(ada))
	})
}

func TestOnlyTheMarkOfSomebodyOnceIsTakenOff(t *testing.T) {
	eachAD(t, func(t *testing.T, st *story) {
		ada := st.s.person(t, st.c, "Ada Quill", "aquill")
		_, refusals, err := st.stage("unmark-privileged", "", ada)
		require.ErrorIs(t, err, batch.ErrNothing)
		assert.Equal(t, "it is not marked as privileged, and inherits permissions", refusals[0].Why)
		closed, err := directory.InheritPermissions(st.permissions(ada), false)
		require.NoError(t, err)
		st.permit(ada, closed)
		_, refusals, err = st.stage("unmark-privileged", "", ada)
		require.ErrorIs(t, err, batch.ErrNothing)
		assert.True(t, strings.HasPrefix(refusals[0].Why, "it is not marked as privileged; "), refusals[0].Why)
	})
}

func TestOtherDirectoriesKeepNoMark(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.dialect == directory.AD {
			t.Skip("it does")
		}
		st := newStory(t, s)
		_, refusals, err := st.stage("unmark-privileged", "", s.person(t, st.c, "Ada Quill", "aquill"))
		require.ErrorIs(t, err, batch.ErrNothing)
		assert.Equal(t, "this kind of directory keeps no mark of privileged entries", refusals[0].Why)
	})
}
