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
func (r *run) withinDay(ctx context.Context) error {
	b := r.Batch
	if b.UndoOf != 0 {
		return nil
	}
	coming := r.coming()
	touched, err := touchedSince(ctx, r.Store, b.Identity, r.Now().Add(-day))
	if err != nil {
		return err
	}
	for i := range b.Lines {
		if !b.Lines[i].State.Settled() {
			delete(touched, lineOf{b.ID, b.Lines[i].N}) // begun once, it is among those to come
		}
	}
	done := 0
	for _, entries := range touched {
		done += entries
	}
	limits := &r.Settings.Batch
	if most := cmp.Or(r.DayLines, limits.DayLines); done+coming > most {
		return fmt.Errorf(
			"in the last 24 hours %d entries were changed in this directory, and with these %d it would be more than a day may see (%d): wait, or raise the limit with --day-lines %d",
			done,
			coming,
			most,
			done+coming,
		)
	}
	if share, percent := cmp.Or(r.DayShare, limits.DayShare), batch.Share(done+coming, b.Accounts); percent > share {
		return fmt.Errorf(
			"in the last 24 hours %d entries were changed in this directory, and with these %d it would be %d %% of its %d accounts, more than a day may see (%d %%): wait, or raise the limit with --day-share %d",
			done,
			coming,
			percent,
			b.Accounts,
			share,
			percent,
		)
	}
	return nil
}

// lineOf names a line of a batch.
type lineOf struct{ batch, line int }

// coming is how many entries this run would change, what moves along counted.
func (r *run) coming() (entries int) {
	lines := 0
	for i := range r.Batch.Lines {
		l := &r.Batch.Lines[i]
		if l.State.Settled() || r.Only > 0 && lines == r.Only {
			continue
		}
		lines++
		entries += 1 + l.Along()
	}
	return entries
}

// touchedSince returns the lines that were carried out in a directory, or
// begun, since a time, those of undo left out, and how many entries each
// changed.
func touchedSince(ctx context.Context, s *store.Store, id source.Identity, since time.Time) (map[lineOf]int, error) {
	heads, err := batch.Heads(ctx, s)
	if err != nil {
		return nil, err
	}
	counted := map[int]bool{}
	for _, b := range heads {
		counted[b.ID] = b.UndoOf == 0 && b.Identity.Same(id)
	}
	touched := map[lineOf]int{}
	err = s.Since(ctx, batch.EventSettled, since, func(r *store.Sealed) error {
		if !counted[r.Batch] {
			return nil
		}
		var l batch.Settlement
		if err := decodeBody(r.Body, &l, r.Seq); err != nil {
			return err
		}
		if l.State.Touched() {
			touched[lineOf{r.Batch, r.Line}] = 1 + l.Along
		}
		return nil
	})
	return touched, err
}
