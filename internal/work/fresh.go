package work

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"slices"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/wording"
)

// openFresh opens a yard as its last survey has it, where that is no older than what was
// asked for; else it keeps one more first, for which mostly only changes are read.
func (s *Session) openFresh(ctx context.Context, name string, yard settings.Yard, age string) (*Place, error) {
	within, err := time.ParseDuration(age)
	if err != nil || within <= 0 {
		return nil, Wrong("--fresh: %q is not a length of time: write 10m or 2h", age)
	}
	reading, err := s.readingOf(yard)
	if err != nil {
		return nil, err
	}
	m := s.lastSurvey(reading, within)
	if m == nil {
		live, err := s.connect(ctx, name, yard)
		if err != nil {
			return nil, err
		}
		defer live.Close()
		if m, err = s.KeepSurvey(ctx, live, "", false); err != nil {
			return nil, err
		}
	} else {
		s.note("read from the survey %s, taken %s", m.Name, wording.Moment(m.Taken, time.Local))
	}
	p, err := s.openFile(&From{Where: m.Name})
	if err != nil {
		return nil, err
	}
	p.Yard, p.Name = yard, name
	if f, ok := p.Source.(*source.File); ok {
		f.DefaultPolicy = yard.DefaultPolicy
	}
	return p, nil
}

// lastSurvey is the last one that was kept by a way of reading, nil where it is older than
// that, or there is none.
func (s *Session) lastSurvey(reading string, within time.Duration) *source.Manifest {
	all, err := source.Kept(s.surveys())
	if err != nil {
		s.note("the kept surveys cannot be looked through: %v", err)
		return nil
	}
	for _, m := range slices.Backward(all) {
		if m.Reading == reading {
			if age := s.now().Sub(m.Taken); age < 0 || age > within {
				return nil
			}
			return m
		}
	}
	return nil
}

// readingOf stands for what is read of a yard and by whom, as the settings have it.
func (s *Session) readingOf(yard settings.Yard) (string, error) {
	keep, err := audit.Attributes(s.Settings)
	if err != nil {
		return "", asRequest(err)
	}
	var names []string
	for id := range keep.All() {
		names = append(names, id.String())
	}
	text, err := json.Marshal([]any{yard.Servers, yard.Avoid, yard.Base, yard.Bind, yard.Dialect, yard.DefaultPolicy, names})
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:16]), nil
}
