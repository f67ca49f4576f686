package rounds

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yardbroom/internal/batch"
	"yardbroom/internal/ladder"
	"yardbroom/internal/listing"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
	"yardbroom/internal/work"
)

// Check refuses rounds and ladders of the settings that name checks, columns, actions,
// ladders or fields of a roster that there are not, with line and column.
func Check(s *work.Session) error {
	if f := checkLadders(s); f != nil {
		return work.Wrong("%w", s.Settings.Misset(f))
	}
	for _, name := range slices.Sorted(maps.Keys(s.Settings.Rounds)) {
		r := s.Settings.Rounds[name]
		if f := firstFault(s, name, &r); f != nil {
			return work.Wrong("%w", s.Settings.Misset(f))
		}
	}
	return nil
}

// firstFault is the first thing that is wrong with a round, nil where nothing is.
func firstFault(s *work.Session, name string, r *settings.Round) *settings.Fault {
	wrong := func(err error, path ...any) *settings.Fault {
		return &settings.Fault{Path: append([]any{"rounds", name}, path...), Err: err}
	}
	for field := range r.Roster.Map {
		if _, err := roster.ParseField(field); err != nil {
			return wrong(err, "roster", "map", field)
		}
	}
	for i := range r.Steps {
		word, err := checkStep(s, name, &r.Steps[i])
		if err != nil {
			return wrong(err, "steps", i, word)
		}
	}
	titles := listTitles(r)
	for i := range r.Tell {
		if err := known(s, r.Tell[i].Checks); err != nil {
			return wrong(err, "tell", i, "checks")
		}
		for _, title := range r.Tell[i].Lists {
			if !slices.Contains(titles, title) {
				return wrong(fmt.Errorf("no list of the round has the title %q", title), "tell", i, "lists")
			}
		}
	}
	return nil
}

// listTitles are the titles of the lists of a round.
func listTitles(r *settings.Round) (titles []string) {
	for _, s := range r.Steps {
		if s.List != nil {
			titles = append(titles, s.List.Title)
		}
	}
	return titles
}

// known refuses checks that there are not.
func known(s *work.Session, checks []string) error {
	for _, name := range checks {
		if _, err := s.Catalog.Named(name); err != nil {
			return err
		}
	}
	return nil
}

// checkStep refuses a step that cannot be done; word is its key in the settings.
func checkStep(s *work.Session, round string, step *settings.Step) (word string, err error) {
	switch {
	case step.Audit != nil:
		return "audit", known(s, step.Audit.Checks)
	case step.Reconcile != nil:
		for _, name := range step.Reconcile.Checks {
			if c, err := s.Catalog.Named(name); err != nil {
				return "reconcile", err
			} else if !c.ByRoster {
				return "reconcile", fmt.Errorf("%s looks at no roster: name it in an audit step", name)
			}
		}
	case step.List != nil:
		if name, meant := query(step.List).Misspelt(); name != "" {
			return "list", fmt.Errorf("columns: there is no %s; did you mean %s?", name, meant)
		}
		return "list", query(step.List).Check()
	case step.Climb != nil:
		return "climb", checkClimb(s, round, step.Climb)
	case step.Answers != nil && s.Settings.Answers.Server == "":
		return "answers", errors.New("the settings name no mailbox (answers: {server: imap.larkmoor.example:993, name: …})")
	case step.Stage != nil:
		if err := knownActions(step.Stage.Actions); err != nil {
			return "stage", err
		}
		if err := known(s, step.Stage.Checks); err != nil {
			return "stage", err
		}
		// Any day will do: spans are not judged by it.
		return "stage", s.CheckStage(work.RequestOf(step.Stage, work.Question{Checks: step.Stage.Checks}, s.Now()))
	}
	return "", nil
}

// knownActions refuses what is no action.
func knownActions(names []string) error {
	for _, name := range names {
		if !slices.Contains(batch.ActionNames, name) {
			return fmt.Errorf("%q is not an action: use %s", name, strings.Join(batch.ActionNames, ", "))
		}
	}
	return nil
}

// knownKind refuses what is no kind of entries.
func knownKind(kind string) error {
	if listing.Kinds[kind] == nil {
		return fmt.Errorf("kind: %q is none of %s", kind, strings.Join(listing.KindNames, ", "))
	}
	return nil
}

// checkRung refuses a rung that cannot be climbed.
func checkRung(s *work.Session, l *settings.Ladder, r *settings.Rung) error {
	if !slices.ContainsFunc(r.Actions, func(name string) bool { return slices.Contains(batch.Alone, name) }) {
		if err := knownActions(r.Actions); err != nil {
			return err
		}
	}
	if r.Tell != nil && s.Settings.Mail.Server != "" {
		if err := ladder.CheckWords(l, r); err != nil {
			return err
		}
	}
	// Whom it is about does not matter here.
	return s.CheckStage(work.RequestOf(r.Doing(), work.Question{Checks: []string{"disabled"}}, s.Now()))
}
