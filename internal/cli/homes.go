package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/render"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// stageArchives makes the batch that archives and removes home folders which
// were set aside: those of the accounts named, or all that were held long
// enough.
func (a *app) stageArchives(ctx context.Context, cmd *cli.Command, names []string) error {
	if cmd.IsSet("until") {
		return usage("%s has no inverse, so it cannot be staged with --until", batch.ArchiveHome)
	}
	p, err := a.open(ctx, cmd)
	if err != nil {
		return err
	}
	defer p.Close()
	id, err := p.Identity(ctx)
	if err != nil {
		return err
	}
	s, err := a.openStore(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	held, err := carry.FindHeld(ctx, s, id)
	if err != nil {
		return err
	}
	for _, name := range names {
		if !slices.ContainsFunc(held, func(h carry.HeldHome) bool { return isNamed(&h, name) }) {
			return fmt.Errorf("no home folder of %q is set aside here", name)
		}
	}
	var ready []carry.HeldHome
	var refusals []batch.Refusal
	for _, h := range held {
		if len(names) > 0 && !slices.ContainsFunc(names, func(name string) bool { return isNamed(&h, name) }) {
			continue
		}
		if why := a.stillHeld(&h); why != "" {
			refusals = append(refusals, batch.Refusal{DN: h.DN(), Account: h.Account(), Why: why})
			continue
		}
		ready = append(ready, h)
	}
	b, unmapped, err := carry.ArchiveHomes(id, p.name, p.yard.Homes, ready, actor(), a.now().UTC())
	a.tellRefusals("staged", append(refusals, unmapped...))
	if err != nil {
		if len(held) == 0 {
			return fmt.Errorf("no home folder is set aside here, so there is %w", err)
		}
		return err
	}
	b.Why = cmd.String("why")
	if err := a.set.Batch.Allows(len(b.Lines), cmd.Int("max-lines")); err != nil {
		return err
	}
	if err := b.Save(ctx, s); err != nil {
		return err
	}
	return a.tellStaged(ctx, s, b)
}

// stillHeld tells why a home must not be archived yet, "" where it may be.
func (a *app) stillHeld(h *carry.HeldHome) string {
	if !h.Until.IsZero() {
		return fmt.Sprintf("its home folder comes back when batch %d is taken back, which is due %s", h.Batch, render.Moment(h.Until, time.Local))
	}
	if until := a.set.Batch.HomeHold.After(h.Since); until.After(a.now()) {
		return fmt.Sprintf("its home folder is held until %s (home_hold is %s)", render.Moment(until, time.Local), a.set.Batch.HomeHold)
	}
	return ""
}

// tellHeld says how many home folders have been held long enough.
func (a *app) tellHeld(ctx context.Context, s *store.Store) error {
	heads, err := batch.Heads(ctx, s)
	if err != nil {
		return err
	}
	n := 0
	seen := map[source.Identity]bool{}
	for _, head := range heads {
		if seen[head.Identity] || !slices.Contains(head.Actions, batch.SetHomeAside) {
			continue
		}
		seen[head.Identity] = true
		held, err := carry.FindHeld(ctx, s, head.Identity)
		if err != nil {
			return err
		}
		for _, h := range held {
			if a.stillHeld(&h) == "" {
				n++
			}
		}
	}
	switch {
	case n == 1:
		a.note("one home folder has been held long enough: yardbroom stage archive-home")
	case n > 1:
		a.note("%d home folders have been held long enough: yardbroom stage archive-home", n)
	}
	return nil
}

func isNamed(h *carry.HeldHome, name string) bool {
	return strings.EqualFold(h.Account(), name) || directory.FoldDN(h.DN()) == directory.FoldDN(name)
}
