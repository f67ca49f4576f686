package work

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"yardbroom/internal/store"
	"yardbroom/internal/whole"
)

// Copy is a session on a copy of the state folder, without the messages that wait in
// it, and what ends it and takes the copy away.
func (s *Session) Copy(ctx context.Context) (*Session, func() error, error) {
	temp, err := os.MkdirTemp("", "yardbroom-copy-")
	if err != nil {
		return nil, nil, err
	}
	passed := whole.Passing(temp)
	gone := func() error {
		defer passed()
		return os.RemoveAll(temp)
	}
	if err := s.copyInto(ctx, temp); err != nil {
		return nil, nil, errors.Join(err, gone())
	}
	other := s.Fresh()
	other.State = temp
	return other, func() error { return errors.Join(other.Close(), gone()) }, nil
}

func (s *Session) copyInto(ctx context.Context, temp string) error {
	kept, err := s.Store(ctx)
	if err != nil {
		return err
	}
	if err := kept.CopyTo(ctx, temp); err != nil {
		return err
	}
	copied, err := store.Open(ctx, temp)
	if err != nil {
		return err
	}
	if err := errors.Join(copied.DropWaiting(ctx), copied.Close()); err != nil {
		return err
	}
	rosters := filepath.Join(s.State, "rosters")
	if _, err := os.Stat(rosters); os.IsNotExist(err) {
		return nil
	}
	return os.CopyFS(filepath.Join(temp, "rosters"), os.DirFS(rosters))
}

// TryHow is how a climb is tried.
type TryHow int

// Ways to try one.
const (
	TryReading TryHow = iota // read the directory and judge every line
	TryOnCopy                // carry every batch out on a copy of the directory in memory
)

// ClimbTrial is what would become of climbing.
type ClimbTrial struct {
	*Climb
	Foretold  []*Foretold
	Rehearsed []*Rehearsal
}

// NotDone tells whether something would be left that should be done.
func (t *ClimbTrial) NotDone() bool {
	for _, f := range t.Foretold {
		if f.NotDone() {
			return true
		}
	}
	for _, r := range t.Rehearsed {
		if r.NotDone() {
			return true
		}
	}
	return t.Climb.NotDone()
}

// TryClimb climbs on a copy of the state folder, and changes nothing in the directory.
func (s *Session) TryClimb(ctx context.Context, p *Place, r *ClimbRequest, how TryHow) (*ClimbTrial, error) {
	other, end, err := s.Copy(ctx)
	if err != nil {
		return nil, err
	}
	trial, err := other.tryClimb(ctx, p, r, how)
	return trial, errors.Join(err, end())
}

func (s *Session) tryClimb(ctx context.Context, p *Place, r *ClimbRequest, how TryHow) (*ClimbTrial, error) {
	try := *r
	try.StageOnly = true
	climbed, err := s.Climb(ctx, p, &try)
	if err != nil {
		return nil, err
	}
	out := &ClimbTrial{Climb: climbed}
	for _, l := range climbed.All {
		for _, b := range l.Batches {
			if b.Batch == nil {
				continue
			}
			if how == TryOnCopy {
				played, err := s.Rehearse(ctx, b.Batch, r.On)
				if err != nil {
					return nil, err
				}
				out.Rehearsed = append(out.Rehearsed, played)
				continue
			}
			foretold, err := s.DryRun(ctx, b.Batch, &r.CarryRequest)
			if err != nil {
				return nil, err
			}
			out.Foretold = append(out.Foretold, foretold)
		}
	}
	return out, nil
}
