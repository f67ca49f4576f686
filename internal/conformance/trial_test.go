package conformance

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/practice"
	"yardbroom/internal/store"

	"github.com/go-ldap/ldap/v3"
)

// try tries whether what is deleted comes back.
func (st *story) try() *carry.Trial {
	st.t.Helper()
	apart, err := store.Open(context.Background(), st.t.TempDir())
	require.NoError(st.t, err)
	defer apart.Close()
	r := &carry.Job{Store: apart, Server: st.c, Protection: st.protection(), DefaultPolicy: st.s.yard.DefaultPolicy, By: "tester", Now: time.Now, Settings: st.set}
	tried, err := r.Try(context.Background(), st.s.container("Parked"))
	require.NoError(st.t, err)
	return tried
}

func TestWhetherWhatIsDeletedComesBackIsTried(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		before := st.picture()
		tried := st.try()
		assert.Empty(t, tried.Why)
		assert.Empty(t, tried.Lost)
		assert.Equal(t, s.dialect == directory.AD, tried.Itself, tried)
		assert.Equal(t, before, st.picture(), "nothing is left of it")
		require.NoError(t, tried.Keep(context.Background(), st.Store, "tester"))
		last, err := carry.LastTrial(context.Background(), st.Store, tried.Identity, st.c.HostName())
		require.NoError(t, err)
		assert.Equal(t, tried.String(), last.String())
		other, err := carry.LastTrial(context.Background(), st.Store, tried.Identity, "dc9.larkmoor.example")
		require.NoError(t, err)
		assert.Nil(t, other)
		st.verify()
	})
}

func TestATrialSaysWhatDoesNotComeBack(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	s.server.SetFault(func(op practice.Operation) (f practice.Fault) {
		if op.Name == "modify" && len(op.DN) > 0 && directory.DeletedGUID(op.DN) != "" {
			f.Code = ldap.LDAPResultUnwillingToPerform
		}
		return f
	})
	tried := st.try()
	assert.False(t, tried.Itself)
	assert.Contains(t, tried.String(), "a deleted account does not come back (tried on")
}
