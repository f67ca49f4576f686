package ladder

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"yardbroom/internal/store"
)

// Telling is what a message that waits to be handed over tells of accounts. That
// somebody was told counts, and is in the journal, once it was handed over.
type Telling struct {
	Event string  `json:"event,omitempty"` // EventTold or EventToldDay
	Told  []Event `json:"told,omitempty"`
	Batch int     `json:"batch,omitempty"` // that is told of on the day
	By    string  `json:"by,omitempty"`
}

// Records are those of the journal once a message was handed over, or refused for
// good: then it was told, and came back.
func (t *Telling) Records(state, address string, at time.Time) (all []*store.Record, err error) {
	if state != store.DeliverySent && state != store.DeliveryRefused {
		return nil, nil
	}
	add := func(event string, e *Event) error {
		r, err := e.Record(event, t.By, at.UTC())
		if err == nil {
			r.Batch = t.Batch
			all = append(all, r)
		}
		return err
	}
	for i := range t.Told {
		e := &t.Told[i]
		if err := add(t.Event, e); err != nil {
			return nil, err
		}
		if state == store.DeliveryRefused && t.Event == EventTold {
			if err := add(EventBounced, e); err != nil {
				return nil, err
			}
		}
	}
	return all, nil
}

// Pending are the messages that wait to be handed over and tell of accounts, as
// PendingKey has them.
func Pending(ctx context.Context, s *store.Store) (map[string]bool, error) {
	waiting, err := s.Waiting(ctx)
	if err != nil {
		return nil, err
	}
	all := map[string]bool{}
	for _, m := range waiting {
		var t Telling
		if err := json.Unmarshal(m.Head, &t); err != nil {
			return nil, fmt.Errorf("message %d: %w", m.ID, err)
		}
		for i := range t.Told {
			e := &t.Told[i]
			all[PendingKey(t.Event, e.ID, e.Rung, e.Address)] = true
		}
	}
	return all, nil
}

// PendingKey names that somebody is told something of an account.
func PendingKey(event, id, rung, address string) string {
	return strings.Join([]string{event, id, rung, strings.ToLower(address)}, "\n")
}
