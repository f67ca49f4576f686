package work

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/calendar"
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

// KeepSurvey reads a place and keeps what was read under a name; "" is made of
// the yard's name and the time. Of a server it reads only what has changed since the
// last survey, where that can be told and full is not asked for.
func (s *Session) KeepSurvey(ctx context.Context, p *Place, name string, full bool) (*source.Manifest, error) {
	if name == "" {
		name = s.newSurveyName(p.Name)
	}
	reading, err := s.readingOf(p.Yard)
	if err != nil {
		return nil, err
	}
	every := cmp.Or(p.Yard.FullSurveyEvery, fullSurveyEvery)
	m, err := source.Keep(ctx, p.Source, source.Keeping{Dir: s.surveys(), Name: name, Now: s.Now, Full: full,
		FullAfter: every.Before(s.now()), Reading: reading})
	if err != nil || !s.namesAreOld(p.Name) {
		return m, err
	}
	kept, err := source.OpenKept(s.surveys(), name)
	if err != nil {
		return m, err
	}
	defer kept.Close()
	if survey, err := kept.Survey(ctx); err == nil {
		s.rememberNames(p.Name, survey)
	}
	return m, nil
}

// newSurveyName makes a name of that of a yard and the time.
func (s *Session) newSurveyName(place string) string {
	name := "survey"
	if _, ok := s.Settings.Yards[place]; ok {
		name = place
	}
	name += "-" + s.now().Format("20060102-150405")
	for n := 0; ; n++ {
		full := name
		if n > 0 {
			full = fmt.Sprintf("%s-%d", name, n)
		}
		if _, err := os.Stat(source.KeptFiles(s.surveys(), full)[1]); err != nil {
			return full
		}
	}
}

// fullSurveyEvery is how old the last reading of everything may be where the yard does
// not say.
var fullSurveyEvery = calendar.Days(7)
