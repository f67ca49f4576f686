package conformance

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/realserver"
)

var (
	refintPeople = flag.Int("refint.people", 200, "how many people make the server of TestReferencesAreAtRest slow; its overlay is late from about 30000 on")
	refintLines  = flag.Int("refint.lines", 40, "how many of them are moved")
)

// TestReferencesAreAtRestWhenABatchIsTakenBack moves people on a server that
// rewrites references a while later, and takes that back at once.
func TestReferencesAreAtRestWhenABatchIsTakenBack(t *testing.T) {
	server := realserver.FilledOpenLDAP(t, *refintPeople, realserver.SlapdLastBind, realserver.SlapdPolicies, realserver.SlapdMemberOf, realserver.SlapdRefint)
	s := &subject{name: "slapd", yard: server.Yard, base: server.Base, dialect: directory.OpenLDAP, real: server}
	s.fresh(t)
	st := newStory(t, s)
	st.set.Signing.Over = 0
	var dns []string
	for i := range *refintLines {
		dns = append(dns, s.person(t, st.c, fmt.Sprintf("Quill %03d", i), fmt.Sprintf("quill%03d", i)))
	}
	for i := range 3 {
		s.group(t, st.c, fmt.Sprintf("Crew %d", i), append([]string{s.yard.Bind.DN}, dns...)...)
	}
	for i, dn := range dns {
		st.tell(dn, func(r *ldap.ModifyRequest) { r.Replace("manager", []string{dns[(i+1)%len(dns)]}) })
	}
	before := normal(st.picture())
	b := st.mustStage("disable,leave-groups,move", s.container("Parked"), dns...)
	res := st.applyOver(8, b)
	assert.Equal(t, map[batch.LineState]int{batch.Applied: len(dns)}, res.Counts)
	back, refusals := st.undoNow(b)
	require.Empty(t, refusals)
	require.NoError(t, back.Save(t.Context(), st.Store))
	res = st.applyOver(8, back)
	assert.Equal(t, map[batch.LineState]int{batch.Applied: len(dns)}, res.Counts)
	assert.Equal(t, before, normal(st.picture()))
	time.Sleep(time.Second + time.Duration(*refintPeople)*time.Millisecond)
	assert.Equal(t, before, normal(st.picture()), "a while later")
}

// TestAnUndoWaitsForTheServersOwnWorkOnReferences makes searches slow, by which
// the time of that work is reckoned where the server's configuration may not be
// read. That of 389 Directory Server may, and says that nothing is late.
func TestAnUndoWaitsForTheServersOwnWorkOnReferences(t *testing.T) {
	behindAProxy(t, func(t *testing.T, s *subject, m *meddler) {
		if s.dialect == directory.AD {
			return // references change within the write
		}
		st := newStory(t, s)
		b := st.mustStage("move", s.container("Parked"), s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern"))
		res, _ := st.apply(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts)
		back, _ := st.undoNow(b)
		require.NoError(t, back.Save(t.Context(), st.Store))
		m.mu.Lock()
		m.slow = "cn=nobody"
		m.mu.Unlock()
		kept, err := batch.Load(context.Background(), st.Store, back.ID)
		require.NoError(t, err)
		r := st.job(kept)
		var told []string
		r.Tell = func(text string) { told = append(told, text) }
		res, err = r.Run(context.Background(), carry.Pace{})
		require.NoError(t, err)
		assert.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts)
		if s.dialect == directory.NS389 {
			assert.Empty(t, told)
			return
		}
		require.Len(t, told, 1)
		assert.Contains(t, told[0], "2 names were changed or deleted a moment ago: waiting")
	})
}

// TestManagersThatTheServerReplacedComeBack deletes a manager on a server that puts
// a name that stands for none in their place.
func TestManagersThatTheServerReplacedComeBack(t *testing.T) {
	server := realserver.OpenLDAPWith(t, realserver.SlapdPolicies, realserver.SlapdMemberOf, realserver.SlapdRefint)
	s := &subject{name: "slapd", yard: server.Yard, base: server.Base, dialect: directory.OpenLDAP, real: server}
	s.fresh(t)
	st := newStory(t, s)
	ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
	st.tell(bram, func(r *ldap.ModifyRequest) { r.Replace("manager", []string{ada}) })
	b := st.mustStage("disable,delete", "", ada)
	st.sign(b)
	res, kept := st.apply(b)
	require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, kept.Lines[0].Note)
	require.Eventually(t, func() bool { return s.entry(t, st.c, bram).First("manager") != ada }, 20*time.Second, 50*time.Millisecond)
	st.tell(bram, func(r *ldap.ModifyRequest) { r.Replace("manager", []string{s.yard.Bind.DN}) }) // as refint_nothing has it
	back, _ := st.undoNow(b)
	require.NoError(t, back.Save(t.Context(), st.Store))
	st.set.Audit.PlaceholderMembers = []string{s.yard.Bind.DN}
	res, kept = st.apply(back)
	require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, kept.Lines[0].Note)
	assert.Equal(t, []string{ada}, s.entry(t, st.c, bram).Get("manager"))
}

// TestADeletionOfAnotherDirectoryIsNotRestored deletes somebody from one of two
// servers of the same base, and asks for them on the other one.
func TestADeletionOfAnotherDirectoryIsNotRestored(t *testing.T) {
	here, there := slapdSubject(t), slapdSubject(t)
	d, other := newDesk(t, here), newDesk(t, there)
	config := strings.TrimPrefix(d.env[1], "YARDBROOM_CONFIG=")
	text, err := os.ReadFile(config)
	require.NoError(t, err)
	text = append(bytes.Replace(text, []byte("batch: {"), []byte("batch: {delete_min_disabled: 0d, "), 1), "signing: {needed: {delete: 0}, proved: []}\n"...)
	require.NoError(t, os.WriteFile(config, text, 0o600))
	here.person(t, here.connect(t), "Ada Quill", "aquill")
	d.must(t, "stage", "disable", "aquill")
	d.must(t, "apply", "1", "--yes")
	d.must(t, "stage", "delete", "aquill")
	d.must(t, "apply", "2", "--yes")
	other.env[2] = d.env[2] // the same state folder
	out, status := other.run(t, "restore", "aquill", "--on", "yard", "--yes")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "0 deleted accounts called")
	assert.NotContains(t, other.must(t, "batch", "list"), "restore", "and nothing is left behind")
	d.must(t, "restore", "aquill", "--on", "yard", "--yes")
}
