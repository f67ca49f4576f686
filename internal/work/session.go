// Package work is what can be done with a yard: survey, judge, compare,
// choose, stage, rehearse, carry out, take back, reconcile, decide. Each is a
// method of a Session, with a request and a result. It knows no command line
// and prints nothing: what a person should know meanwhile goes to functions of
// the session and of the requests.
package work

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
	"yardbroom/internal/wording"
)

// Session is one person's, or one job's, work under some settings and with one
// state folder.
type Session struct {
	Settings *settings.Settings
	// Catalog holds the checks there are under the settings.
	Catalog audit.Catalog
	// State is the folder of batches, journal, surveys and rosters. It is made
	// when something is first kept in it.
	State string
	// By is who works here, as the journal says it.
	By  string
	Now func() time.Time
	// Stdin is what "-" stands for.
	Stdin io.Reader
	// Note is told what a person should know that is no result. Nil where nobody
	// listens.
	Note func(text string)
	// Ask asks somebody for a password, without echo. Nil where nobody can be
	// asked.
	Ask func(prompt string) (string, error)
	// Progress is told how far a long step is. Nil where nobody looks.
	Progress source.Progress

	*opened
}

// opened is what was opened and read in a session, once and for all.
type opened struct {
	store   *store.Store
	rosters map[string]*Roster // by where from
}

// New begins a session under settings, and refuses those that name checks,
// actions or attributes that there are not. The caller sets the other fields.
func New(set *settings.Settings) (*Session, error) {
	s := &Session{Settings: set, Now: time.Now, opened: &opened{rosters: map[string]*Roster{}}}
	directory.DeclareSecrets(set.Secrets.Also, set.Secrets.Harmless)
	for i, name := range set.Batch.Attributes {
		if why := batch.Unsettable(name); why != "" {
			return nil, misset(set, settings.Faulty(errors.New(why), "batch", "attributes", i))
		}
	}
	return s, s.useCatalog(set)
}

// useCatalog makes the checks of some settings those of the session.
func (s *Session) useCatalog(set *settings.Settings) error {
	catalog, err := audit.NewCatalog(&set.Audit)
	if err == nil {
		err = catalog.CheckSettings(set)
	}
	if err != nil {
		return misset(set, err)
	}
	for _, c := range catalog.Own() {
		for _, name := range c.Suggest {
			if !slices.Contains(batch.ActionNames, name) {
				return misset(set, settings.Faulty(fmt.Errorf("%q is not an action%s: use %s", name, wording.DidYouMean(name, batch.ActionNames),
					strings.Join(batch.ActionNames, ", ")), "audit", "filters", c.Name, "suggest"))
			}
		}
	}
	s.Settings, s.Catalog = set, catalog
	return nil
}

// misset says where in the settings something is wrong, if an error tells.
func misset(set *settings.Settings, err error) error {
	if fault := (*settings.Fault)(nil); errors.As(err, &fault) {
		err = set.Misset(fault)
	}
	return asRequest(err)
}

// with is the session under other settings.
func (s *Session) with(set *settings.Settings) (*Session, error) {
	other := *s
	return &other, other.useCatalog(set)
}

// Fresh is the session with nothing opened or read yet, for a job of its own that
// closes it.
func (s *Session) Fresh() *Session {
	other := *s
	other.opened = &opened{rosters: map[string]*Roster{}}
	return &other
}

// Close ends the session's use of the state folder.
func (s *Session) Close() error {
	if s.store == nil {
		return nil
	}
	defer func() { s.store = nil }()
	return s.store.Close()
}

// Store opens the state folder, and makes it where there is none.
func (s *Session) Store(ctx context.Context) (*store.Store, error) {
	var err error
	if s.store == nil {
		s.store, err = store.Open(ctx, s.State)
	}
	return s.store, err
}

// storeIfAny opens the state folder where there is one already, and returns nil
// where there is none.
func (s *Session) storeIfAny(ctx context.Context) (*store.Store, error) {
	if s.store == nil && !s.HasState() {
		return nil, nil
	}
	return s.Store(ctx)
}

// HasState tells whether there is a state folder that holds something. One that cannot be
// looked into is taken for such: what it holds, exemptions for one, must not be left out
// unsaid.
func (s *Session) HasState() bool {
	_, err := os.Stat(filepath.Join(s.State, "yardbroom.db"))
	return !errors.Is(err, fs.ErrNotExist)
}

// now is the time by the session's clock, in UTC.
func (s *Session) now() time.Time { return s.Now().UTC() }

func (s *Session) note(format string, args ...any) {
	if s.Note != nil {
		s.Note(fmt.Sprintf(format, args...))
	}
}

// surveys is the folder of kept surveys.
func (s *Session) surveys() string { return filepath.Join(s.State, "surveys") }

// Surveys are the kept surveys, and the folder that they are kept in.
func (s *Session) Surveys() (all []*source.Manifest, folder string, err error) {
	all, err = source.Kept(s.surveys())
	return all, s.surveys(), err
}

// RequestError says that what was asked for, or the settings, cannot be right:
// nothing has failed, and nothing was done.
type RequestError struct{ error }

func (e RequestError) Unwrap() error { return e.error }

// Wrong makes a RequestError.
func Wrong(format string, args ...any) error { return RequestError{fmt.Errorf(format, args...)} }

// asRequest makes an error one of the request; nil stays nil.
func asRequest(err error) error {
	if err == nil {
		return nil
	}
	return RequestError{err}
}
