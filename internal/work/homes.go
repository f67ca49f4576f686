package work

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
	"yardbroom/internal/wording"
)

// StageArchives makes the batch that archives and removes home folders which
// were set aside: those of the accounts named, or all that were held long
// enough.
func (s *Session) StageArchives(
	ctx context.Context, p *Place, names []string, why string, maxLines int,
) (*Staged, error) {
	staged := &Staged{}
	id, err := p.Identity(ctx)
	if err != nil {
		return staged, err
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return staged, err
	}
	held, err := carry.FindHeld(ctx, kept, id)
	if err != nil {
		return staged, err
	}
	for _, name := range names {
		if !slices.ContainsFunc(held, func(h carry.HeldHome) bool { return isOf(&h, name) }) {
			return staged, fmt.Errorf("no home folder of %q is set aside here", name)
		}
	}
	var ready []carry.HeldHome
	for _, h := range held {
		if len(names) > 0 && !slices.ContainsFunc(names, func(name string) bool { return isOf(&h, name) }) {
			continue
		}
		if why := s.stillHeld(&h); why != "" {
			staged.Refusals = append(staged.Refusals, batch.Refusal{DN: h.DN(), Account: h.Account(), Why: why})
			continue
		}
		ready = append(ready, h)
	}
	b, unmapped, err := carry.ArchiveHomes(id, p.Name, p.Yard.Homes, ready, s.By, s.now())
	staged.Refusals = append(staged.Refusals, unmapped...)
	if err != nil {
		if len(held) == 0 {
			err = fmt.Errorf("no home folder is set aside here, so there is %w", err)
		}
		return staged, err
	}
	b.Why = why
	if err := s.Settings.Batch.Allows(len(b.Lines), maxLines); err != nil {
		return staged, err
	}
	return staged, s.keepStaged(ctx, b, staged)
}

// stillHeld tells why a home must not be archived yet, "" where it may be.
func (s *Session) stillHeld(h *carry.HeldHome) string {
	if !h.Until.IsZero() {
		return fmt.Sprintf("its home folder comes back when batch %d is taken back, which is due %s", h.Batch,
			wording.Moment(h.Until, time.Local))
	}
	if until := s.Settings.Batch.HomeHold.After(h.Since); until.After(s.Now()) {
		return fmt.Sprintf("its home folder is held until %s (home_hold is %s)", wording.Moment(until, time.Local),
			s.Settings.Batch.HomeHold)
	}
	return ""
}

// HeldLongEnough counts the home folders that may be archived.
func (s *Session) HeldLongEnough(ctx context.Context) (n int, err error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return 0, err
	}
	heads, err := batch.Heads(ctx, kept)
	if err != nil {
		return 0, err
	}
	seen := map[source.Identity]bool{}
	for _, head := range heads {
		if seen[head.Identity] || !slices.Contains(head.Actions, batch.SetHomeAside) {
			continue
		}
		seen[head.Identity] = true
		held, err := carry.FindHeld(ctx, kept, head.Identity)
		if err != nil {
			return 0, err
		}
		for _, h := range held {
			if s.stillHeld(&h) == "" {
				n++
			}
		}
	}
	return n, nil
}

func isOf(h *carry.HeldHome, name string) bool {
	return strings.EqualFold(h.Account(), name) || directory.FoldDN(h.DN()) == directory.FoldDN(name)
}
