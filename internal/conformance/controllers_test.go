package conformance

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/realserver"
)

// TestABatchOverTwoControllers lives through one with a domain of two controllers
// that replicate late: sign-ins on either, a batch that is bound to one, that one
// going down, going on on the other, and taking all of it back.
func TestABatchOverTwoControllers(t *testing.T) {
	if !ownNetwork(t) {
		return
	}
	one, two := realserver.Controllers(t)
	both := one.Yard
	both.Servers = []string{one.Yard.Servers[0], two.Yard.Servers[0]}
	both.CAFile = filepath.Join(t.TempDir(), "ca.pem")
	var authorities []byte
	for _, file := range []string{one.Yard.CAFile, two.Yard.CAFile} {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		authorities = append(authorities, text...)
	}
	require.NoError(t, os.WriteFile(both.CAFile, authorities, 0o600))
	s := &subject{name: "samba", yard: both, base: one.Base, dialect: directory.AD, samba: one, real: one}
	at := func(server *realserver.Server) *subject {
		other := *s
		other.yard.Servers = server.Yard.Servers
		return &other
	}
	s.fresh(t)
	st := newStory(t, at(one))
	ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
	crew := s.group(t, st.c, "Crew", ada, bram)
	two.Replicate(t, one)

	// A sign-in that only the second one has seen is found, and says where.
	two.Kinit(t, "aquill", "Right-secret1")
	d := newDesk(t, s)
	assert.Regexp(t, `Last logon +20.*dc2`, d.must(t, "show", "aquill"))

	// Wrong passwords are counted where they were tried, and only there; the lock is known
	// everywhere, and where it began.
	one.Tool(t, "domain", "passwordsettings", "set", "--account-lockout-threshold=3")
	two.Replicate(t, one)
	for range 4 {
		require.False(t, at(two).bind(t, "btern@larkmoor.example", "Wrong-secret1"))
	}
	one.Replicate(t, two)
	traced := d.must(t, "trace", "btern")
	assert.Regexp(t, `(?m)^Bram Tern \(btern\): locked out since .*, which began at DC2$`, traced)
	assert.Regexp(t, `(?m)^dc1.larkmoor.example +0  –`, traced)
	assert.Regexp(t, `(?m)^dc2.larkmoor.example +3  20`, traced)
	assert.Regexp(t, `The log to look at is that of\s+DC2`, traced)
	assert.Regexp(t, `(?m)locked or unlocked \(lockoutTime\) +– +DC2 +directory`, d.must(t, "trace", "btern", "--changes"))

	// It is begun on the first one, which goes down.
	dc1, dc2 := one.Yard.Servers[0], two.Yard.Servers[0]
	d.must(t, "stage", "disable,move", "--to", s.container("Parked"), "aquill", "btern")
	out := d.must(t, "apply", "1", "--yes", "--only", "1")
	assert.Contains(t, out, "1 done, 1 waiting")
	one.Kill()
	out, status := d.run(t, "apply", "1", "--yes")
	assert.Equal(t, 1, status)
	assert.Contains(t, out, "where it was begun, cannot be used: wait for it, or say with --server on which server it is to go on")
	out = d.must(t, "apply", "1", "--yes", "--server", strings.TrimPrefix(dc2, "ldaps://"))
	assert.Contains(t, out, "2 done")
	one.Start(t)
	parked := func(server *realserver.Server, cn string) bool {
		c := at(server).connect(t)
		return s.entry(t, c, s.DN(cn, "Parked")) != nil
	}
	assert.True(t, parked(one, "Ada Quill") && !parked(one, "Bram Tern"), "replication is late")
	assert.True(t, !parked(two, "Ada Quill") && parked(two, "Bram Tern"))

	// Nothing is taken back on a server that does not show what was done.
	out, status = d.run(t, "undo", "1", "--yes", "--server", dc1)
	assert.Equal(t, 4, status, out)
	assert.Contains(t, out, "the lines were not all done on one server: 1 on dc1.larkmoor.example, 1 on dc2.larkmoor.example")
	assert.Contains(t, out, "1 done, 1 drifted")
	assert.Contains(t, out, "(it was done on dc2.larkmoor.example: that may not have reached this server yet)")
	one.Replicate(t, two)
	two.Replicate(t, one)
	out = d.must(t, "undo", "1", "--yes", "--server", dc1)
	assert.Contains(t, out, "1 done")
	two.Replicate(t, one)
	for _, server := range []*realserver.Server{one, two} {
		c := at(server).connect(t)
		for _, dn := range []string{ada, bram} {
			require.NotNil(t, s.entry(t, c, dn), "%s on %s", dn, server.Yard.Servers[0])
			assert.Equal(t, "512", s.entry(t, c, dn).First("userAccountControl"))
		}
		assert.ElementsMatch(t, []string{ada, bram}, s.entry(t, c, crew).Get("member"))
	}

	// Whether a change has arrived is seen by its values.
	d.must(t, "stage", "disable", "aquill")
	out, status = d.run(t, "apply", "4", "--yes", "--server", dc1, "--await-replication", "1s")
	assert.Equal(t, 4, status, out)
	assert.Contains(t, out, "dc2.larkmoor.example does not show everything of 1 line: aquill")
	d.must(t, "journal", "--verify")
}
