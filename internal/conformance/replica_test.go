package conformance

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/realserver"
	"yardbroom/internal/source"
)

func TestAReplicaIsFoundOutAndNothingIsLostToIt(t *testing.T) {
	server := realserver.OpenLDAPWith(t, realserver.SlapdLastBind, realserver.SlapdReplica, realserver.SlapdPolicies)
	s := &subject{name: "slapd", yard: server.Yard, base: server.Base, dialect: directory.OpenLDAP, real: server}
	st := newStory(t, s)
	no, err := st.c.TakesWrites(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "it sends writes to another server, ldap://primary.larkmoor.example/dc=larkmoor,dc=example", no)
	b := st.mustStage("disable", "", "uid=reader,ou=people,"+s.base)
	_, err = st.job(b).Run(context.Background(), carry.Pace{})
	assert.ErrorContains(t, err, "takes no writes: it sends writes to another server, ldap://primary.larkmoor.example/dc=larkmoor,dc=example; give the writable server's own URL")
	state, note := st.stateOf(b)
	assert.Equal(t, batch.Waiting, state, note)
	kept, err := batch.Load(context.Background(), st.Store, b.ID)
	require.NoError(t, err)
	assert.Equal(t, batch.Staged, kept.State, "not even begun")
}

func TestWhoTakesWritesSaysSo(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		before := s.entry(t, s.connect(t), s.connect(t).Top())
		no, err := s.connect(t).TakesWrites(t.Context())
		require.NoError(t, err)
		assert.Empty(t, no)
		assert.Equal(t, before, s.entry(t, s.connect(t), s.connect(t).Top()), "and nothing was written")
	})
}

// TestSignInsThatOnlyFewHaveAreFound looks at a server of whose many people a few
// have signed in.
func TestSignInsThatOnlyFewHaveAreFound(t *testing.T) {
	server := realserver.FilledOpenLDAP(t, 50, realserver.SlapdLastBind, realserver.SlapdPolicies)
	s := &subject{name: "slapd", yard: server.Yard, base: server.Base, dialect: directory.OpenLDAP, real: server}
	c := s.connect(t)
	right := func() source.Right {
		p, err := c.Probe(context.Background())
		require.NoError(t, err)
		for _, r := range p.Rights {
			if r.What == "Reads sign-ins" {
				return r
			}
		}
		return source.Right{}
	}
	assert.False(t, right().OK, "nobody has signed in")
	require.True(t, s.bind(t, "uid=reader,ou=people,"+s.base, "reader-secret"))
	assert.True(t, right().OK, right().Text)
}
