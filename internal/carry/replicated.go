package carry

import (
	"context"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// replicationPause is how long is waited before another server is asked again.
const replicationPause = 500 * time.Millisecond

// Replicated waits until another server of the directory shows, by value, all that
// the lines of the batch have changed, as long as within. It returns the lines of
// which it does not show everything yet, and how long it waited.
func Replicated(
	ctx context.Context, s *store.Store, b *batch.Batch, on *source.Server, within time.Duration,
) (missing []*batch.Line, waited time.Duration, err error) {
	histories := map[*batch.Line]*history{}
	for i := range b.Lines {
		l := &b.Lines[i]
		if !l.State.Touched() {
			continue
		}
		if histories[l], err = readHistory(ctx, s.Journal, b.ID, l.N, on.Dialect); err != nil {
			return nil, 0, err
		}
		missing = append(missing, l)
	}
	for {
		var still []*batch.Line
		for _, l := range missing {
			shown, err := shows(ctx, on, histories[l])
			if err != nil {
				return missing, waited, err
			}
			if !shown {
				still = append(still, l)
			}
		}
		missing = still
		if len(missing) == 0 || waited >= within {
			return missing, waited, nil
		}
		select {
		case <-ctx.Done():
			return missing, waited, ctx.Err()
		case <-time.After(min(replicationPause, within-waited)):
			waited += min(replicationPause, within-waited)
		}
	}
}

// shows tells whether the server shows what the steps of a line have left.
func shows(ctx context.Context, server *source.Server, h *history) (bool, error) {
	for _, s := range h.left() {
		e, err := readBack(ctx, server, &s)
		if err != nil {
			return false, err
		}
		if effectOf(&s, e) != effectDone {
			return false, nil
		}
	}
	return true, nil
}

// left are the steps by which it is known what a line has left, each with what no
// later one has changed again.
func (h *history) left() (steps []Step) {
	seen := map[string]bool{}
	first := func(parts ...string) bool {
		key := strings.ToLower(strings.Join(parts, "\x00"))
		was := seen[key]
		seen[key] = true
		return !was
	}
	for _, past := range slices.Backward(h.steps) {
		s := past.Step
		id := s.written()
		if past.outcome == nil || !past.outcome.Done || s.onFolder() || seen["gone\x00"+strings.ToLower(id)] {
			continue
		}
		switch s.Op {
		case OpDelete:
			first("gone", id)
		case OpRename, OpReanimate, OpAdd:
			if !first("name", id) {
				continue
			}
		case OpModify:
			if s.Mods = slices.DeleteFunc(slices.Clone(s.Mods), func(m batch.Mod) bool { return !first("attribute", id, m.Attr) }); len(
				s.Mods,
			) == 0 {
				continue
			}
		case OpValues:
			if s.Values = slices.DeleteFunc(slices.Clone(s.Values), func(v ValueMod) bool {
				return !first("value", id, v.Attr, string(v.Remove)+string(v.Add))
			}); len(s.Values) == 0 {
				continue
			}
		}
		steps = append(steps, s)
	}
	return steps
}
