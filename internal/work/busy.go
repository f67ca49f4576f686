package work

import (
	"context"
	"errors"
	"time"

	"yardbroom/internal/store"
)

// IsBusy tells whether an error says that somebody else is at work, so that the
// same may succeed when they have ended.
func IsBusy(err error) bool {
	return errors.Is(err, store.ErrBusy) || errors.Is(err, store.ErrInUse) || errors.Is(err, store.ErrRunning)
}

// asksAgain is how often a lock is tried while it is waited for.
const asksAgain = 200 * time.Millisecond

// Await takes a lock, for which it waits so long.
func Await(ctx context.Context, most time.Duration, lock func() (func(), error)) (unlock func(), err error) {
	late := time.After(most)
	for {
		if unlock, err = lock(); err == nil || !IsBusy(err) || most <= 0 {
			return unlock, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-late:
			return nil, err
		case <-time.After(asksAgain):
		}
	}
}
