package work

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/pattern"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
	"yardbroom/internal/wording"
)

// Pruning is what the settings keep no longer.
type Pruning struct {
	Surveys []*source.Manifest
	Audits  []*store.Audit
	Runs    []*store.Run
	// Octets is how large the surveys and the reports of the runs are together.
	Octets int64
	// Stay are how many of each stay: surveys, audits, runs.
	Stay [3]int
}

// Nothing tells whether there is nothing to remove.
func (p *Pruning) Nothing() bool { return len(p.Surveys)+len(p.Audits)+len(p.Runs) == 0 }

// madeUp is a name that a survey got by itself. Those that somebody has named stay.
var madeUp = pattern.Lazy(`-\d{8}-\d{6}(-\d+)?$`)

// leastRuns is how many runs of a round stay, whatever the settings say: they tell what
// is usual.
const leastRuns = 20

// Prunable finds out what the settings keep no longer.
func (s *Session) Prunable(ctx context.Context) (*Pruning, error) {
	p := &Pruning{}
	if err := s.prunableSurveys(p); err != nil {
		return nil, err
	}
	kept, err := s.storeIfAny(ctx)
	if kept == nil || err != nil {
		return p, err
	}
	audits, err := kept.Audits(ctx, "")
	if err != nil {
		return nil, err
	}
	for _, of := range grouped(audits, func(a *store.Audit) string { return a.Yard + " " + a.Kind }) {
		gone := thinned(of, func(a *store.Audit) time.Time { return a.At }, s.Settings.Keep.Audits, s.now())
		p.Audits = append(p.Audits, gone...)
		p.Stay[1] += len(of) - len(gone)
	}
	runs, err := kept.Runs(ctx, "", -1)
	if err != nil {
		return nil, err
	}
	slices.Reverse(runs) // oldest first
	for _, of := range grouped(runs, func(r *store.Run) string { return r.Round }) {
		gone := thinned(of, func(r *store.Run) time.Time { return r.Began }, s.Settings.Keep.Runs, s.now())
		old := of[:max(len(of)-leastRuns, 0)]
		gone = slices.DeleteFunc(gone, func(r *store.Run) bool { return !slices.Contains(old, r) })
		for _, r := range gone {
			p.Octets += octetsIn(s.runFolder(r))
		}
		p.Runs = append(p.Runs, gone...)
		p.Stay[2] += len(of) - len(gone)
	}
	return p, nil
}

func (s *Session) prunableSurveys(p *Pruning) error {
	all, folder, err := s.Surveys()
	if err != nil {
		return err
	}
	p.Stay[0] = len(all)
	all = slices.DeleteFunc(all, func(m *source.Manifest) bool { return !madeUp().MatchString(m.Name) })
	for _, of := range grouped(all, func(m *source.Manifest) string { return yardKey(m.Identity) }) {
		p.Surveys = append(p.Surveys, thinned(of, func(m *source.Manifest) time.Time { return m.Taken }, s.Settings.Keep.Surveys, s.now())...)
	}
	for _, m := range p.Surveys {
		p.Octets += octetsIn(source.KeptFiles(folder, m.Name)...)
	}
	p.Stay[0] -= len(p.Surveys)
	return nil
}

// runFolder is where the reports of a run lie.
func (s *Session) runFolder(r *store.Run) string { return RunFolder(s.State, r.Round, r.ID) }

// RunFolder is where in a state folder the reports of a run lie.
func RunFolder(state, round string, run int) string {
	return filepath.Join(state, "rounds", round, fmt.Sprintf("run-%d", run))
}

// grouped are the parts of a list that have something in common, in the order in which
// they begin.
func grouped[T any](all []T, by func(T) string) (groups [][]T) {
	at := map[string]int{}
	for _, one := range all {
		key := by(one)
		i, ok := at[key]
		if !ok {
			i = len(groups)
			at[key] = i
			groups = append(groups, nil)
		}
		groups[i] = append(groups[i], one)
	}
	return groups
}

// thinned are those that are kept no longer, of a list whose oldest is first. The last
// one always stays.
func thinned[T any](all []T, at func(T) time.Time, t settings.Thinning, now time.Time) (gone []T) {
	if t == (settings.Thinning{}) || len(all) == 0 {
		return nil
	}
	days := now.AddDate(0, 0, -t.Days)
	weeks := days.AddDate(0, 0, -7*t.Weeks)
	months := weeks.AddDate(0, -t.Months, 0)
	seen := map[string]bool{}
	for i, one := range slices.Backward(all) {
		when := at(one).UTC()
		part := ""
		switch {
		case i == len(all)-1 || when.After(days):
			continue
		case when.After(weeks):
			year, week := when.ISOWeek()
			part = fmt.Sprintf("%d week %d", year, week)
		case when.After(months):
			part = when.Format("2006-01")
		}
		if part == "" || seen[part] {
			gone = append(gone, one)
		}
		seen[part] = true
	}
	slices.Reverse(gone)
	return gone
}

// Prune removes what the settings keep no longer.
func (s *Session) Prune(ctx context.Context, p *Pruning) error {
	for _, m := range p.Surveys {
		for _, path := range source.KeptFiles(s.surveys(), m.Name) {
			if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
		}
	}
	if len(p.Audits)+len(p.Runs) == 0 {
		return nil
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return err
	}
	var audits, runs []int
	for _, a := range p.Audits {
		audits = append(audits, a.ID)
	}
	for _, r := range p.Runs {
		if err := os.RemoveAll(s.runFolder(r)); err != nil {
			return err
		}
		runs = append(runs, r.ID)
	}
	return errors.Join(kept.ForgetAudits(ctx, audits), kept.ForgetRuns(ctx, runs))
}

// octetsIn is how large files, and all files in folders, are together.
func octetsIn(paths ...string) (n int64) {
	for _, path := range paths {
		_ = filepath.WalkDir(path, func(_ string, d fs.DirEntry, err error) error {
			if err != nil {
				return nil // what is not there is not large
			}
			if info, err := d.Info(); err == nil && info.Mode().IsRegular() {
				n += info.Size()
			}
			return nil
		})
	}
	return n
}

// String says what goes: "3 surveys, 2 audits".
func (p *Pruning) String() string {
	var parts []string
	for _, one := range []struct {
		n    int
		what string
	}{{len(p.Surveys), "survey"}, {len(p.Audits), "audit"}, {len(p.Runs), "run"}} {
		if one.n > 0 {
			parts = append(parts, wording.Count(one.n, one.what))
		}
	}
	return strings.Join(parts, ", ")
}
