package directory

import "time"

// Obstacle is something that keeps somebody from signing in.
type Obstacle struct {
	What   string // disabled, expired, locked out, not begun, password to be changed, password expired
	By     AttrID // the attribute that says so
	Since  Moment // not known where the directory does not show it
	Until  Moment // when it ends by itself, where it does
	Likely bool   // the survey does not prove it
}

// Obstacles to signing in.
const (
	ObstacleDisabled   = "disabled"
	ObstacleExpired    = "expired"
	ObstacleLocked     = "locked out"
	ObstacleNotBegun   = "not begun"
	ObstacleMustChange = "password to be changed"
	ObstaclePassword   = "password expired"
)

// Obstacles returns all that keeps an account from signing in at a time, the
// hardest first.
func (s *Survey) Obstacles(a *Account, asOf time.Time) []Obstacle {
	var out []Obstacle
	begun := !a.Further().StartsAt.Known() || !a.Further().StartsAt.Time().After(asOf)
	if d := s.Disabled(a, asOf); d.Yes && begun {
		out = append(out, Obstacle{What: ObstacleDisabled, By: d.By, Since: a.Further().FlagsSince, Likely: d.Likely})
	} else if !begun {
		out = append(out, Obstacle{What: ObstacleNotBegun, By: a.Further().StartsAt.Attr(), Until: a.Further().StartsAt})
	}
	if x := s.Expired(a, asOf); x.Yes {
		out = append(out, Obstacle{What: ObstacleExpired, By: x.By, Since: a.Expires})
	}
	if l := s.LockedOut(a, asOf); l.Yes {
		out = append(out,
			Obstacle{What: ObstacleLocked, By: l.By, Since: a.LockedAt, Until: s.lockEnds(a), Likely: l.Likely})
	}
	switch expires := s.PasswordExpires(a); {
	case a.MustChange && a.Kind != KindComputer && a.Kind != KindService: // which change theirs by themselves
		out = append(out, Obstacle{What: ObstacleMustChange, By: s.Dialect.MustChange[0]})
	case expires.Known() && !expires.Time().After(asOf) && (s.Dialect != AD || a.Flags&UACPasswordNeverExpires == 0):
		out = append(out, Obstacle{What: ObstaclePassword, By: expires.Attr(), Since: expires})
	}
	return out
}

// Untold returns what may keep an account from signing in and cannot be told,
// since what says so may not be read.
func (s *Survey) Untold(a *Account, asOf time.Time) []Obstacle {
	if a.Hidden == (AttrSet{}) {
		return nil
	}
	var out []Obstacle
	hidden := func(what string, answer Answer, rests []AttrID) {
		for _, id := range rests {
			if answer.Hidden && a.Hidden.Has(id) {
				out = append(out, Obstacle{What: what, By: id})
				return
			}
		}
	}
	hidden(ObstacleDisabled, s.Disabled(a, asOf), s.Dialect.Enabled)
	hidden(ObstacleExpired, s.Expired(a, asOf), s.Dialect.Expiry)
	hidden(ObstacleLocked, s.LockedOut(a, asOf), s.Dialect.Locked)
	if a.Kind == KindComputer || a.Kind == KindService {
		return out
	}
	hidden(ObstacleMustChange, a.unless(Answer{Yes: a.MustChange}, s.Dialect.MustChange), s.Dialect.MustChange)
	return out
}

// lockEnds is when a lock ends by itself; not known where only an
// administrator ends it, or the policy cannot be read.
func (s *Survey) lockEnds(a *Account) Moment {
	if a.Further().LockEnds.Known() || !a.LockedAt.Known() {
		return a.Further().LockEnds
	}
	if p, known := s.policy(a); known && p.Duration.Known && p.Duration.For > 0 {
		return MomentOf(a.LockedAt.Time().Add(p.Duration.For), a.LockedAt.Attr())
	}
	return 0
}
