package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/ladder"
	"yardbroom/internal/ldif"
	"yardbroom/internal/rounds"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// demoClimbs are the days on which the ladders of the demo are climbed, before the day
// of the demo.
var demoClimbs = []int{150, 134, 118, 100, 86, 70, 54, 40, 30, 22, 12, 0}

// seasons plays five months of the ladders at a clock of their own, on a copy of the
// directory, and leaves that, the journal and the mails.
func (d *demonstration) seasons(ctx context.Context, number string, bold func(string) string) error {
	fmt.Fprintf(d.out, "%sNobody deletes an account on the day it is found. The settings describe two ladders: unused accounts are\n"+
		"shelved, then disabled, then deleted, and their people are asked before. Five months of it, at a clock of its own:\n\n", number)
	s, err := d.newSeasons(ctx)
	if err != nil {
		return err
	}
	defer s.close()
	for _, before := range demoClimbs {
		s.goTo(d.asOf.AddDate(0, 0, -before))
		if err := s.happens(ctx, before); err != nil {
			return err
		}
		if err := s.climb(ctx); err != nil {
			return err
		}
	}
	in := func(parts ...string) string { return filepath.Join(append([]string{d.dir, "ladders"}, parts...)...) }
	s.signedInAgain()
	if err := d.result(in("larkmoor.ldif"), s.dump); err != nil {
		return err
	}
	fmt.Fprintf(d.out, "\nThe mails, as files and as pages: %s\nWho stands where, and what comes next:\n\n  %s\n  %s\n", in("mail"),
		bold(fmt.Sprintf("yardbroom --state %s ladder show unused --from %s", quoted([]string{in("state")}), quoted([]string{in("larkmoor.ldif")}))),
		bold(fmt.Sprintf("yardbroom --state %s ladder forecast unused --from %s", quoted([]string{in("state")}), quoted([]string{in("larkmoor.ldif")}))))
	return nil
}

// demoSeasons is the directory and the session of these months.
type demoSeasons struct {
	*demoWeek
	signIns map[string]map[string]string // real last sign-ins by DN and attribute, of those who have signed in later
}

func (d *demonstration) newSeasons(ctx context.Context) (*demoSeasons, error) {
	w, err := d.newCopy(ctx, "ladders", d.asOf.AddDate(0, 0, -demoClimbs[0]))
	return &demoSeasons{w, map[string]map[string]string{}}, err
}

var signInAttributes = []string{"lastLogon", "lastLogonTimestamp"}

// goTo is on a day: whoever has signed in later did so the day before.
func (s *demoSeasons) goTo(at time.Time) {
	s.signedInAgain()
	s.at = at
	for _, e := range s.dir.Dump() {
		for _, attr := range signInAttributes {
			last, err := directory.ParseFileTime(e.First(attr))
			if err != nil || !last.After(at) {
				continue
			}
			if s.signIns[e.First("objectGUID")] == nil {
				s.signIns[e.First("objectGUID")] = map[string]string{}
			}
			s.signIns[e.First("objectGUID")][attr] = e.First(attr)
			s.dir.Edit(e.DN, func(e *directory.Entry) { e.Set(attr, directory.FormatFileTime(at.AddDate(0, 0, -1))) })
		}
	}
}

// signedInAgain gives everybody their real last sign-in.
func (s *demoSeasons) signedInAgain() {
	for _, e := range s.dir.Dump() {
		for attr, value := range s.signIns[e.First("objectGUID")] {
			s.dir.Edit(e.DN, func(e *directory.Entry) { e.Set(attr, value) })
		}
	}
	s.signIns = map[string]map[string]string{}
}

// happens lets somebody come back from an expedition, and somebody else be held.
func (s *demoSeasons) happens(ctx context.Context, before int) error {
	switch before {
	case 70:
		if st, err := s.first(ctx, "shelved"); st != nil || err != nil {
			if err == nil {
				s.dir.Edit(st.DN, func(e *directory.Entry) {
					for _, attr := range signInAttributes {
						e.Set(attr, directory.FormatFileTime(s.at.Add(-3*time.Hour)))
					}
				})
				fmt.Fprintf(s.d.out, "  %s  %s is back from an expedition and signs in\n", s.at.Format("2 Jan"), st.Account)
			}
			return err
		}
	case 22:
		st, err := s.first(ctx, "shelved")
		if st == nil || err != nil {
			return err
		}
		p, err := s.runner.Open(ctx, work.From{})
		if err != nil {
			return err
		}
		defer p.Close()
		_, err = s.runner.Hold(ctx, p, &work.LadderRequest{Account: st.Account, Until: "90d", Why: "on a dig until spring"})
		fmt.Fprintf(s.d.out, "  %s  %s is held: on a dig until spring\n", s.at.Format("2 Jan"), st.Account)
		return err
	}
	return nil
}

// first is the first who stands on a rung of the ladder of the unused.
func (s *demoSeasons) first(ctx context.Context, rung string) (*ladder.Standing, error) {
	p, err := s.runner.Open(ctx, work.From{})
	if err != nil {
		return nil, err
	}
	defer p.Close()
	all, err := s.runner.Ladders(ctx, p, &work.Question{})
	if err != nil {
		return nil, err
	}
	one, err := all.LadderNamed("unused")
	if err != nil {
		return nil, err
	}
	for _, st := range one.Standings {
		if st.Rung == rung && st.State == ladder.Climbing {
			return st, nil
		}
	}
	return nil, nil
}

// climb climbs once, and hands the mails over.
func (s *demoSeasons) climb(ctx context.Context) error {
	p, err := s.runner.Open(ctx, work.From{})
	if err != nil {
		return err
	}
	defer p.Close()
	c, err := s.runner.Climb(ctx, p, &work.ClimbRequest{Question: work.Question{Roster: work.RosterFrom{Where: filepath.Join(s.d.dir, "ladders", "roster.csv")}},
		CarryRequest: work.CarryRequest{Pace: carry.Pace{Connections: 4}}})
	if err != nil {
		return err
	}
	var said []string
	mails := 0
	for _, l := range c.All {
		if l.Error != nil {
			return fmt.Errorf("ladder %s: %w", l.Name, l.Error)
		}
		for _, b := range l.Batches {
			switch {
			case b.Batch == nil:
			case b.Down:
				said = append(said, fmt.Sprintf("%d back from %s", len(b.Batch.Lines), b.Rung))
			case b.Waits != "":
				said = append(said, fmt.Sprintf("%d to be %s wait for a signature", len(b.Batch.Lines), b.Rung))
			default:
				said = append(said, fmt.Sprintf("%d %s", len(b.Batch.Lines), b.Rung))
			}
		}
		mails += len(l.Letters)
		if err := rounds.KeepLetters(ctx, s.runner.Session, l.Letters); err != nil {
			return err
		}
	}
	kept, err := s.runner.Store(ctx)
	if err != nil {
		return err
	}
	if mails > 0 {
		said = append(said, wording.Count(mails, "mail"))
	}
	if len(said) == 0 {
		said = []string{"no step is due"}
	}
	fmt.Fprintf(s.d.out, "  %-6s  %s\n", s.at.Format("2 Jan"), strings.Join(said, ", "))
	return rounds.Deliver(ctx, kept, s.runner.Settings, s.runner.Send, s.runner.Now, func(string, ...any) {})
}

// dump writes the directory as it is.
func (s *demoSeasons) dump(w io.Writer) error {
	out := ldif.NewWriter(w)
	err := s.dir.Each(func(e *directory.Entry) error { return out.Write(e) })
	return errors.Join(err, out.Flush(), os.Chmod(filepath.Join(s.d.dir, "ladders"), 0o700))
}
