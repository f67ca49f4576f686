package work

import (
	"context"
	"slices"
	"strings"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/source"
)

// Known is what the state folder knows of an account.
type Known struct {
	// Exempt says why it is left alone, "" where it is not.
	Exempt string
	// Waiting are its lines in batches that are still to be carried out, Done those that
	// were, the latest first.
	Waiting, Done []PastLine
	// Suspended says by which batch it is switched off until a date, nil where it is not.
	Suspended *carry.Suspension
	// Links are the decisions on whose it is.
	Links []Link
}

// knownOf is what the state folder knows of an account.
func (s *Session) knownOf(ctx context.Context, p *Place, c *Card) (k Known, err error) {
	exempt, err := s.exemptions(ctx, p)
	if err != nil {
		return k, err
	}
	k.Exempt = audit.Why(exempt, s.Now(), c.Account.DN, c.Account.Logon)
	id, err := p.Identity(ctx)
	if err != nil {
		return k, nil // which directory this is cannot be told, so nothing is known of it
	}
	shown := source.ShowIdentity(c.Survey.Dialect, c.Account.ID)
	past, err := s.pastOf(ctx, id, shown)
	if err != nil {
		return k, err
	}
	for _, one := range slices.Backward(past) {
		switch {
		case one.Line.State.Settled():
			if one.Line.State != batch.Applied && one.Line.State != batch.InPart {
				continue
			}
			k.Done = append(k.Done, one)
		case one.Batch.State == batch.Staged || one.Batch.State == batch.Begun:
			k.Waiting = append(k.Waiting, one)
		}
	}
	if len(past) > 0 {
		kept, err := s.Store(ctx)
		if err != nil {
			return k, err
		}
		all, err := carry.Suspensions(ctx, kept, id, s.Now())
		if err != nil {
			return k, err
		}
		if one, is := all[shown]; is {
			k.Suspended = &one
		}
	}
	links, err := s.Links(ctx)
	for _, l := range links {
		if l.AccountID == shown || strings.EqualFold(l.Account, c.Account.Logon) && l.AccountID == "" {
			k.Links = append(k.Links, l)
		}
	}
	return k, err
}
