package carry

import (
	"context"
	"fmt"
	"slices"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// Suspension is an account that a batch has switched off until a time.
type Suspension struct {
	Batch int
	Until time.Time
}

func (s Suspension) String() string {
	return fmt.Sprintf("until %s, by batch %d", s.Until.Format(time.DateOnly), s.Batch)
}

// Suspensions returns the accounts of a directory that are switched off until a
// time after at, and not back yet, by their identities in the readable form.
func Suspensions(ctx context.Context, s *store.Store, id source.Identity, at time.Time) (map[string]Suspension, error) {
	all := map[string]Suspension{}
	err := eachUntil(ctx, s, func(head *batch.Batch) bool {
		return head.Until.After(at) && head.Identity.Same(id) &&
			slices.Contains([]batch.State{batch.Done, batch.Begun, batch.Discarded}, head.State)
	}, func(b *batch.Batch, standing []*batch.Line) {
		for _, l := range standing {
			if l.SwitchesOff() {
				all[l.ID] = Suspension{b.ID, b.Until}
			}
		}
	})
	return all, err
}

// eachUntil loads the batches that are wanted, by their heads, and tells which
// of their lines were done and not taken back yet.
func eachUntil(
	ctx context.Context, s *store.Store, wanted func(head *batch.Batch) bool,
	take func(b *batch.Batch, standing []*batch.Line),
) error {
	heads, err := batch.Heads(ctx, s)
	if err != nil {
		return err
	}
	for _, head := range heads {
		if !wanted(head) {
			continue
		}
		b, err := batch.Load(ctx, s, head.ID)
		if err != nil {
			return err
		}
		back, err := takenBack(ctx, s, heads, b)
		if err != nil {
			return err
		}
		var standing []*batch.Line
		for i := range b.Lines {
			l := &b.Lines[i]
			if _, over := back[l.ID]; !over && l.State.Touched() {
				standing = append(standing, l)
			}
		}
		take(b, standing)
	}
	return nil
}

// SuspendsAny tells whether any batch switches accounts off until a time after
// at, of whatever directory.
func SuspendsAny(ctx context.Context, s *store.Store, at time.Time) (bool, error) {
	heads, err := batch.Heads(ctx, s)
	return slices.ContainsFunc(heads, func(b *batch.Batch) bool { return b.Until.After(at) }), err
}
