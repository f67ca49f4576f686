package carry

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yardbroom/internal/batch"
	"yardbroom/internal/store"
)

// Where is the server that a batch is at home on.
type Where struct{ Host, URL string }

// BegunOn returns the server that a batch was last carried out on, and for one that
// was not begun yet that of the batch that it takes back. It is empty where nothing
// binds the batch to a server.
func BegunOn(ctx context.Context, s *store.Store, b *batch.Batch) (w Where, err error) {
	for _, id := range []int{b.ID, b.UndoOf} {
		if id == 0 {
			continue
		}
		records, err := s.About(ctx, id)
		if err != nil {
			return w, err
		}
		for i := range slices.Backward(records) {
			if records[i].Event != batch.EventBegun {
				continue
			}
			var begun beginning
			err := json.Unmarshal(records[i].Body, &begun)
			return Where{begun.Host, begun.Server}, err
		}
	}
	return w, nil
}

// sameServer holds a begun batch to the server that it was begun on: another one may
// not know yet what was done there.
func (r *run) sameServer(ctx context.Context) error {
	if r.Batch.State != batch.Begun || r.AnotherServer {
		return nil
	}
	begun, err := BegunOn(ctx, r.Store, r.Batch)
	if err != nil || begun.Host == "" || strings.EqualFold(begun.Host, r.Server.HostName()) {
		return err
	}
	return fmt.Errorf(
		"batch %d was begun on %s, and this is %s, which may not know yet what was done there: wait for that one, or say with --server that it is to go on here",
		r.Batch.ID,
		begun.Host,
		r.Server.HostName(),
	)
}

// elsewhere tells whether the last step was begun on another server than this one.
func (w *worker) elsewhere(past *history) string {
	if host := past.steps[len(past.steps)-1].host; host != "" && !strings.EqualFold(host, w.server.HostName()) {
		return host
	}
	return ""
}

// Hosts tells how many lines of an undo were done on which server, where that was
// not the same one for all.
func Hosts(b *batch.Batch) (all []string) {
	counts := map[string]int{}
	for i := range b.Lines {
		if host := b.Lines[i].DoneOn; host != "" {
			counts[host]++
		}
	}
	if len(counts) < 2 {
		return nil
	}
	for _, host := range slices.Sorted(maps.Keys(counts)) {
		all = append(all, fmt.Sprintf("%d on %s", counts[host], host))
	}
	return all
}

// notHere says of a line of an undo that differs from what apply left that it was
// done on another server.
func (w *worker) notHere(l *batch.Line) string {
	if l.DoneOn == "" || strings.EqualFold(l.DoneOn, w.server.HostName()) {
		return ""
	}
	return fmt.Sprintf(" (it was done on %s: that may not have reached this server yet)", l.DoneOn)
}
