package carry

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// day is the time that the limits of a day look back.
const day = 24 * time.Hour

// withinDay refuses a run by which more would be changed within 24 hours than
// the settings allow. What takes another batch back is not counted, and not
// held up.
func (r *Runner) withinDay(ctx context.Context) error {
	b := r.Batch
	if b.UndoOf != 0 {
		return nil
	}
	lines := b.Open()
	if r.Only > 0 {
		lines = min(lines, r.Only)
	}
	done, err := doneSince(ctx, r.Store, b.Identity, r.Now().Add(-day))
	if err != nil {
		return err
	}
	limits := &r.Settings.Batch
	if most := cmp.Or(r.DayLines, limits.DayLines); done+lines > most {
		return fmt.Errorf("in the last 24 hours %d lines were carried out in this directory, and with these %d it would be more than a day may see (%d): wait, or raise the limit with --day-lines %d",
			done, lines, most, done+lines)
	}
	if share, percent := cmp.Or(r.DayShare, limits.DayShare), batch.Share(done+lines, b.Accounts); percent > share {
		return fmt.Errorf("in the last 24 hours %d lines were carried out in this directory, and with these %d it would be %d %% of its %d accounts, more than a day may see (%d %%): wait, or raise the limit with --day-share %d",
			done, lines, percent, b.Accounts, share, percent)
	}
	return nil
}

// doneSince counts the lines that were carried out in a directory since a
// time, those of undo left out.
func doneSince(ctx context.Context, s *store.Store, id source.Identity, since time.Time) (int, error) {
	heads, err := batch.Heads(ctx, s)
	if err != nil {
		return 0, err
	}
	counted := map[int]bool{}
	for _, b := range heads {
		counted[b.ID] = b.UndoOf == 0 && b.Identity.Same(id)
	}
	n := 0
	err = s.Since(ctx, since, func(r *store.Sealed) error {
		if r.Event != eventLine || !counted[r.Batch] {
			return nil
		}
		var l lineRecord
		if err := decodeBody(r.Body, &l, r.Seq); err != nil {
			return err
		}
		if l.State == batch.Applied || l.State == batch.Failed {
			n++
		}
		return nil
	})
	return n, err
}
