package work

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/store"
)

func TestALockIsWaitedFor(t *testing.T) {
	s, err := store.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer s.Close()
	unlock, err := s.Lock()
	require.NoError(t, err)
	_, err = Await(t.Context(), 0, s.Lock)
	assert.True(t, IsBusy(err), "without a wait it is refused at once")
	_, err = Await(t.Context(), time.Millisecond, s.Lock)
	assert.True(t, IsBusy(err), "and when the time is over")
	time.AfterFunc(50*time.Millisecond, unlock)
	again, err := Await(t.Context(), time.Minute, s.Lock)
	require.NoError(t, err)
	again()
	_, err = Await(t.Context(), time.Minute, func() (func(), error) { return nil, errors.New("the disk is full") })
	assert.EqualError(t, err, "the disk is full", "nothing else is waited for")
}
