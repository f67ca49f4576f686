package work

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
	"yardbroom/internal/tracing"
	"yardbroom/internal/wording"
)

// From says where entries come from.
type From struct {
	// Where is a yard of the settings, an LDIF file ("-" for standard input), an
	// ldap://, ldaps:// or ldapi:// URL, or a kept survey; "" is the default yard.
	Where string
	Access
	// Fresh lets a yard be read from its last survey, if that is no older than so long (10m,
	// 2h); "" reads the server.
	Fresh string
	// KeepGoing leaves out records of a file that cannot be read; Place.Broken
	// counts them.
	KeepGoing bool
}

// Access says how to reach a server that the settings do not name, and how to
// read what comes.
type Access struct {
	Dialect         string // "" to find out
	Base            string // DN
	CAFile          string
	StartTLS        bool
	Bind            string // name to sign in with
	PasswordFile    string
	PasswordEnv     string
	PasswordCommand string
	Kerberos        bool
}

// Place is an opened source with what the settings say of it.
type Place struct {
	source.Source
	Yard settings.Yard
	// Name is that of the yard, or the URL or file.
	Name string
	// Broken counts the records of a file that could not be read and were left
	// out, once it was read.
	Broken int

	remember func(*directory.Survey) // what was read of all of it, nil for what is no yard
	watched  *tracing.Watch          // what its logs say, once they were read
	unread   []string                // logs among them that could not be
	signIns  []store.SignIn          // that they tell of, the last of each account from each source
	identity *source.Identity        // once it was asked for: telling it takes a file a whole reading
}

// Identity tells which directory this is.
func (p *Place) Identity(ctx context.Context) (source.Identity, error) {
	if p.identity != nil {
		return *p.identity, nil
	}
	id, err := p.Source.Identity(ctx)
	if err == nil {
		p.identity = &id
	}
	return id, err
}

// Survey reads all of it.
func (p *Place) Survey(ctx context.Context) (*directory.Survey, error) {
	survey, err := p.Source.Survey(ctx)
	if err == nil && p.remember != nil {
		p.remember(survey)
	}
	return survey, err
}

// surveyAhead tells a file that it will be surveyed, and entries of it read after that.
func (p *Place) surveyAhead() {
	if file, ok := p.Source.(*source.File); ok {
		file.SurveyAhead()
	}
}

// Dialect tells which directory this is, and how its entries are read.
func (p *Place) Dialect(ctx context.Context) (source.Identity, *directory.Dialect, error) {
	id, err := p.Identity(ctx)
	if err != nil {
		return id, nil, err
	}
	d, err := directory.DialectNamed(id.Dialect)
	return id, d, err
}

// Location is the yard's time zone.
func (p *Place) Location() *time.Location {
	loc, err := p.Yard.Location()
	if err != nil {
		return time.UTC // the settings were checked when they were read
	}
	return loc
}

// Zone is the time zone to show times in: the yard's where it has one, else
// the one of this machine.
func (p *Place) Zone() *time.Location {
	if p.Yard.TimeZone == "" {
		return time.Local
	}
	return p.Location()
}

// Server returns the live server behind the source.
func (p *Place) Server() (*source.Server, bool) {
	s, ok := p.Source.(*source.Server)
	return s, ok
}

// Open finds out what a From means and opens it.
func (s *Session) Open(ctx context.Context, from From) (*Place, error) {
	if from.Where == "" {
		if from.Where = s.Settings.Default; from.Where == "" {
			return nil, Wrong("say where to read from with --from, or name a default yard in the settings")
		}
	}
	yard, ok := s.Settings.Yards[from.Where]
	switch {
	case ok && from.Fresh != "":
		return s.openFresh(ctx, from.Where, yard, from.Fresh)
	case ok:
		return s.connect(ctx, from.Where, yard)
	case from.Fresh != "":
		return nil, Wrong("--fresh goes with a yard of the settings, and %s is none", from.Where)
	}
	if strings.Contains(from.Where, "://") {
		return s.openURL(ctx, &from)
	}
	return s.openFile(&from)
}

// placeNames are the names of yards and kept surveys.
func (s *Session) placeNames() []string {
	names := slices.Collect(maps.Keys(s.Settings.Yards))
	kept, err := source.Kept(s.surveys())
	if err != nil {
		return names // a name is only suggested
	}
	for _, m := range kept {
		names = append(names, m.Name)
	}
	return names
}

// openFile opens a kept survey or a file. It has the bounds and the time zone
// of the default yard.
func (s *Session) openFile(from *From) (*Place, error) {
	keep, err := audit.Attributes(s.Settings)
	if err != nil {
		return nil, asRequest(err)
	}
	f, err := source.OpenKept(s.surveys(), from.Where)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if err != nil {
		if _, statErr := os.Stat(from.Where); from.Where != "-" && errors.Is(statErr, fs.ErrNotExist) {
			return nil, Wrong("%s is not a yard of the settings, a file or a kept survey%s", from.Where, wording.DidYouMean(from.Where, s.placeNames()))
		}
		if f, err = source.OpenFile(from.Where, s.Stdin); err != nil {
			return nil, err
		}
	}
	p := &Place{Source: f, Name: from.Where}
	if y, ok := s.Settings.Yards[s.Settings.Default]; ok {
		p.Yard.Scope, p.Yard.LeaveOut, p.Yard.TimeZone, p.Yard.DefaultPolicy, p.Yard.Logs = y.Scope, y.LeaveOut, y.TimeZone, y.DefaultPolicy, y.Logs
	}
	f.DefaultPolicy, f.Keep, f.Progress = p.Yard.DefaultPolicy, keep, s.Progress
	if from.Dialect != "" {
		if f.Dialect, err = directory.DialectNamed(from.Dialect); err != nil {
			return nil, Wrong("--dialect: %w", err)
		}
	}
	if from.KeepGoing {
		f.Broken = func(err error) {
			p.Broken++
			if p.Broken <= 20 {
				s.note("left out: %v", err)
			}
		}
	}
	return p, nil
}

// connect signs in to a yard.
func (s *Session) connect(ctx context.Context, name string, yard settings.Yard) (*Place, error) {
	keep, err := audit.Attributes(s.Settings)
	if err != nil {
		return nil, asRequest(err)
	}
	server, err := source.Connect(ctx,
		source.Target{Yard: yard, Keep: keep, Ask: s.Ask, Now: s.Now, Progress: s.Progress})
	if err != nil {
		return nil, err
	}
	for _, skipped := range server.Skipped {
		s.note("left aside: %v", skipped)
	}
	return &Place{Source: server, Yard: yard, Name: name, remember: func(survey *directory.Survey) { s.rememberNames(name, survey) }}, nil
}

func (s *Session) openURL(ctx context.Context, from *From) (*Place, error) {
	if scheme, _, _ := strings.Cut(from.Where, "://"); scheme != "ldap" && scheme != "ldaps" && scheme != "ldapi" {
		return nil, Wrong("%s is not an ldap://, ldaps:// or ldapi:// URL", from.Where)
	}
	yard := settings.Yard{
		Servers: []string{
			from.Where,
		}, Base: from.Base, CAFile: from.CAFile, StartTLS: from.StartTLS, Dialect: from.Dialect,
		Bind: settings.Bind{DN: from.Bind, PasswordFile: from.PasswordFile, PasswordEnv: from.PasswordEnv,
			PasswordCommand: from.PasswordCommand, Kerberos: from.Kerberos},
	}
	b := &yard.Bind
	b.Ask = b.DN != "" && b.PasswordFile == "" && b.PasswordEnv == "" && b.PasswordCommand == "" && !b.Kerberos
	// A server of a yard keeps the yard's scope and its way to sign in.
	for name, y := range s.Settings.Yards {
		if slices.Contains(y.Servers, from.Where) && b.DN == "" && !b.Kerberos {
			y.Servers = []string{from.Where}
			return s.connect(ctx, name, y)
		}
	}
	if err := yard.Check(); err != nil {
		return nil, asRequest(err)
	}
	return s.connect(ctx, from.Where, yard)
}

// OpenServer opens a yard, or a URL, and nothing else.
func (s *Session) OpenServer(ctx context.Context, from From) (*Place, error) {
	if from.Where == "" {
		from.Where = s.Settings.Default
	}
	if _, ok := s.Settings.Yards[from.Where]; !ok && !strings.Contains(from.Where, "://") {
		return nil, Wrong("%q is neither a yard of the settings nor a URL", from.Where)
	}
	return s.Open(ctx, from)
}

// OpenOne opens a yard by one of its servers only, named by its URL or its host, or
// by any where that is "". Of a place that is no yard of the settings nothing is
// chosen.
func (s *Session) OpenOne(ctx context.Context, from From, server string) (*Place, error) {
	yard, known := s.Settings.Yards[from.Where]
	if !known || server == "" {
		return s.Open(ctx, from)
	}
	is := func(listed string) bool {
		u, err := url.Parse(listed)
		return strings.EqualFold(listed, server) || err == nil && strings.EqualFold(u.Hostname(), server)
	}
	i := slices.IndexFunc(yard.Servers, is)
	if i < 0 {
		return nil, Wrong("%s is none of the servers of the yard %s: %s", server, from.Where,
			strings.Join(yard.Servers, ", "))
	}
	one := yard
	one.Servers = yard.Servers[i : i+1]
	p, err := s.connect(ctx, from.Where, one)
	if err == nil {
		p.Yard = yard // guards may rest on the others
	}
	return p, err
}

// connectTo connects to one server of a yard.
func (s *Session) connectTo(ctx context.Context, yard settings.Yard, url string) (*source.Server, error) {
	yard.Servers = []string{url}
	return source.Connect(ctx, source.Target{Yard: yard, Ask: s.Ask, Now: s.Now})
}

// otherServer connects to another server of the yard by its host name.
func (s *Session) otherServer(yard settings.Yard) func(context.Context, string) (*source.Server, error) {
	return func(ctx context.Context, host string) (*source.Server, error) {
		var tried []error
		for _, url := range yard.Servers {
			server, err := s.connectTo(ctx, yard, url)
			if err != nil {
				tried = append(tried, err)
				continue
			}
			if strings.EqualFold(server.HostName(), host) {
				return server, nil
			}
			server.Close()
		}
		return nil, errors.Join(append(tried, fmt.Errorf("none of the yard's servers is %s", host))...)
	}
}

// asOf is the time that a text fixes, in the yard's time zone, else the survey's
// own, else now.
func (s *Session) asOf(text string, loc *time.Location, survey *directory.Survey) (time.Time, error) {
	if text != "" {
		t, err := calendar.ParseTime(text, loc)
		if err != nil {
			return t, Wrong("--as-of: %w", err)
		}
		return t, nil
	}
	if survey != nil && !survey.Taken.IsZero() {
		return survey.Taken, nil
	}
	return s.now(), nil
}
