package carry

import (
	"context"
	"fmt"
	"slices"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// Servers that keep references whole by themselves may do so a while after a
// write: one rename after the other, each with a search for what names the old
// name. Whoever gives an entry that name again meanwhile, as an undo does, sees
// new references rewritten by work that was meant for the old ones.

// restWindow is how far back reference work may still be going on.
const restWindow = 30 * time.Minute

// untilRest waits before an undo or a restore until the server's own work on
// references, for what was renamed and deleted before, is at rest. Where the
// server does not say that it does none, its time is reckoned: a search for each.
func (r *run) untilRest(ctx context.Context) error {
	brings := r.Batch.UndoOf != 0 || slices.Contains(r.Batch.Actions, batch.Restore)
	if !brings || r.OnCopy || r.Server.Dialect.KeepsLinks {
		return nil
	}
	integrity, err := r.Server.Integrity(ctx)
	if err != nil || integrity.Known && !integrity.Late {
		return err
	}
	changed, last, err := r.namesChanged(ctx)
	if err != nil || changed == 0 {
		return err
	}
	began := r.Now()
	nobody := directory.Entry{DN: "cn=nobody " + r.Batch.Identity.ID + "," + r.Server.Top()}
	if _, err := r.Server.Listing(ctx, batch.Naming(r.Server.Dialect, &nobody)...); err != nil {
		return fmt.Errorf("reckoning how long references take: %w", err)
	}
	each := r.Now().Sub(began)
	rest := last.Add(integrity.Delay + time.Duration(changed)*each*3/2).Sub(r.Now())
	if rest <= 0 {
		return nil
	}
	if r.Tell != nil {
		r.Tell(
			fmt.Sprintf(
				"%d names were changed or deleted a moment ago: waiting %s until the server's own work on what refers to them must be over",
				changed,
				rest.Round(time.Second),
			),
		)
	}
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(rest):
		return nil
	}
}

// namesChanged counts the renames and deletions in this directory that the journal
// knows of, within the time that reference work may take, and tells when the last
// one was.
func (r *run) namesChanged(ctx context.Context) (n int, last time.Time, err error) {
	heads, err := batch.Heads(ctx, r.Store)
	if err != nil {
		return 0, last, err
	}
	here := map[int]bool{}
	for _, b := range heads {
		here[b.ID] = b.Identity.Same(r.Batch.Identity)
	}
	err = r.Store.Since(ctx, eventIntent, r.Now().Add(-restWindow), func(rec *store.Sealed) error {
		var in intent
		if !here[rec.Batch] {
			return nil
		}
		if err := decodeBody(rec.Body, &in, rec.Seq); err != nil {
			return err
		}
		if in.Step.Op == OpRename || in.Step.Op == OpDelete {
			if n++; n == 1 {
				last = rec.At // the latest comes first
			}
		}
		return nil
	})
	return n, last, err
}

// left is a name that a line has taken from an entry, or an entry from it.
type left struct {
	line     *batch.Line
	past     *history
	action   string
	old, new string // new is "" for a deleted entry
}

// namesAtOnce is how many old names one search asks for.
const namesAtOnce = 16

// proveUnnamed makes sure at the end of a run that nobody names the old names: of
// lines that were carried out at the same time, one may have brought a name of
// another with it.
func (w *worker) proveUnnamed(ctx context.Context) error {
	if w.server.Dialect.KeepsLinks {
		return nil
	}
	noted := map[*batch.Line]int{}
	for _, l := range w.common.leaving {
		noted[l.line] = len(l.past.lacks)
	}
	for chunk := range slices.Chunk(w.common.leaving, namesAtOnce) {
		for tries := 1; ; tries++ {
			again, err := w.nameAnew(ctx, chunk)
			if err != nil || !again || tries == maxTries {
				if err != nil {
					return err
				}
				break
			}
		}
	}
	for _, l := range w.common.leaving {
		if l.line.State == batch.Applied && len(l.past.lacks) > noted[l.line] {
			if err := w.settled(l.line, l.past, nil); err != nil {
				return err
			}
		}
	}
	return nil
}

// nameAnew corrects what still names old names. It tells whether there was
// anything.
func (w *worker) nameAnew(ctx context.Context, lefts []left) (found bool, err error) {
	var values []source.Value
	for i := range lefts {
		e := directory.Entry{DN: lefts[i].old}
		values = append(values, batch.Naming(w.server.Dialect, &e)...)
	}
	entries, err := w.server.Listing(ctx, values...)
	if err != nil || len(entries) == 0 {
		return false, err
	}
	for i := range entries {
		other := &entries[i]
		for _, v := range values {
			for _, name := range other.Get(v.Attr) {
				at := slices.IndexFunc(lefts, func(l left) bool {
					return directory.FoldDN(l.old) == directory.FoldDN(name) && hasValue([]string{name}, v.Value)
				})
				if at < 0 {
					continue
				}
				found = true
				l := &lefts[at]
				ref := batch.Reference{
					DN:    other.DN,
					ID:    source.ShowIdentity(w.server.Dialect, other.First(w.server.Dialect.Identity.String())),
					Attr:  v.Attr,
					Value: batch.Octets(name),
				}
				if err := w.correct(ctx, l.line, l.action, l.past, &ref, other.DN, l.new); err != nil {
					return found, err
				}
			}
		}
	}
	return found, nil
}
