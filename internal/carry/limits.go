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
	touched, err := touchedSince(ctx, r.Store, b.Identity, r.Now().Add(-day))
	if err != nil {
		return err
	}
	for i := range b.Lines {
		if !b.Lines[i].State.Settled() {
			delete(touched, lineOf{b.ID, b.Lines[i].N}) // begun once, it is among those to come
		}
	}
	done := len(touched)
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

// lineOf names a line of a batch.
type lineOf struct{ batch, line int }

// touchedSince returns the lines that were carried out in a directory, or
// begun, since a time, those of undo left out.
func touchedSince(ctx context.Context, s *store.Store, id source.Identity, since time.Time) (map[lineOf]bool, error) {
	heads, err := batch.Heads(ctx, s)
	if err != nil {
		return nil, err
	}
	counted := map[int]bool{}
	for _, b := range heads {
		counted[b.ID] = b.UndoOf == 0 && b.Identity.Same(id)
	}
	touched := map[lineOf]bool{}
	err = s.Since(ctx, batch.EventSettled, since, func(r *store.Sealed) error {
		if !counted[r.Batch] {
			return nil
		}
		var l batch.Settlement
		if err := decodeBody(r.Body, &l, r.Seq); err != nil {
			return err
		}
		if l.State == batch.Applied || l.State == batch.Failed {
			touched[lineOf{r.Batch, r.Line}] = true
		}
		return nil
	})
	return touched, err
}
