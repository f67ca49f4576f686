// Package settings reads the settings file: the yards in somebody's care and
// how to judge them. It is read once; the result is handed down.
package settings

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"time"

	"github.com/goccy/go-yaml"

	"yardbroom/internal/directory"
)

// Settings is the whole file.
type Settings struct {
	Default string          `yaml:"default"`
	Yards   map[string]Yard `yaml:"yards"`
	Audit   Audit           `yaml:"audit"`
	Batch   Batch           `yaml:"batch"`
	// File is where the settings came from, "" where there was none.
	File string `yaml:"-"`
}

// Yard is one directory in somebody's care.
type Yard struct {
	Servers       []string `yaml:"servers"`
	Avoid         []string `yaml:"avoid"`
	Base          string   `yaml:"base"`
	Scope         []string `yaml:"scope"`
	LeaveOut      []string `yaml:"leave_out"`
	Bind          Bind     `yaml:"bind"`
	CAFile        string   `yaml:"ca_file"`
	StartTLS      bool     `yaml:"starttls"`
	Dialect       string   `yaml:"dialect"`
	TimeZone      string   `yaml:"time_zone"`
	PageSize      int      `yaml:"page_size"`
	Timeout       Wait     `yaml:"timeout"`
	DefaultPolicy string   `yaml:"default_policy"`
}

// Bind is how to sign in. At most one source of a password is given; with
// none, and no Kerberos, the bind is anonymous.
type Bind struct {
	DN              string `yaml:"dn"`
	PasswordFile    string `yaml:"password_file"`
	PasswordEnv     string `yaml:"password_env"`
	PasswordCommand string `yaml:"password_command"`
	Ask             bool   `yaml:"ask"`
	Kerberos        bool   `yaml:"kerberos"`
	CredentialCache string `yaml:"credential_cache"`
	Service         string `yaml:"service"` // service principal, default ldap/HOST
}

// Audit holds the thresholds of the checks.
type Audit struct {
	StaleAfter      Span              `yaml:"stale_after"`
	NewAccountGrace Span              `yaml:"new_account_grace"`
	Parking         []string          `yaml:"parking"`
	Checks          map[string]string `yaml:"checks"`
	// PrivilegedGroups are groups to protect besides the built-in ones.
	PrivilegedGroups []string `yaml:"privileged_groups"`
}

// Batch holds the limits of bulk change.
type Batch struct {
	MaxLines          int  `yaml:"max_lines"`
	MaxShare          int  `yaml:"max_share"` // per cent of the yard's accounts
	DeleteMinDisabled Span `yaml:"delete_min_disabled"`
}

// Defaults are the settings where nothing is set.
func Defaults() *Settings {
	return &Settings{
		Audit: Audit{StaleAfter: Days(90), NewAccountGrace: Days(30)},
		Batch: Batch{MaxLines: 500, MaxShare: 10, DeleteMinDisabled: Days(30)},
	}
}

// Load reads a settings file. A missing file gives the defaults if it need
// not exist. Relative paths in it are relative to the file.
func Load(file string, mustExist bool) (*Settings, error) {
	s := Defaults()
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) && !mustExist {
		return s, nil
	}
	if err != nil {
		return nil, fmt.Errorf("settings: %w", err)
	}
	var anything any
	if err := yaml.Unmarshal(text, &anything); (err == nil || errors.Is(err, io.EOF)) && anything == nil {
		return s, nil // no line sets anything
	}
	if err := yaml.UnmarshalWithOptions(text, s, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("settings %s: %s", file, yaml.FormatError(err, false, true))
	}
	s.File = file
	for name, y := range s.Yards {
		for _, p := range []*string{&y.CAFile, &y.Bind.PasswordFile, &y.Bind.CredentialCache} {
			if *p != "" && !filepath.IsAbs(*p) {
				*p = filepath.Join(filepath.Dir(file), *p)
			}
		}
		s.Yards[name] = y
	}
	if err := s.check(); err != nil {
		return nil, fmt.Errorf("settings %s: %w", file, err)
	}
	return s, nil
}

func (s *Settings) check() error {
	if _, ok := s.Yards[s.Default]; s.Default != "" && !ok {
		return fmt.Errorf("default: no yard is called %q", s.Default)
	}
	for name, y := range s.Yards {
		if err := y.Check(); err != nil {
			return fmt.Errorf("yards: %s: %w", name, err)
		}
	}
	for _, dn := range s.Audit.Parking {
		if levels, err := directory.ParseDN(dn); err != nil || len(levels) == 0 {
			return fmt.Errorf("audit: parking: %q is not a distinguished name", dn)
		}
	}
	if s.Batch.MaxLines < 1 || s.Batch.MaxShare < 1 || s.Batch.MaxShare > 100 {
		return errors.New("batch: max_lines must be at least 1 and max_share from 1 to 100")
	}
	return nil
}

// Check refuses what cannot work.
func (y *Yard) Check() error {
	if len(y.Servers) == 0 {
		return errors.New("servers: name at least one")
	}
	if y.Dialect != "" {
		if _, err := directory.DialectNamed(y.Dialect); err != nil {
			return fmt.Errorf("dialect: %w", err)
		}
	}
	for _, dn := range slices.Concat([]string{y.Base, y.DefaultPolicy}, y.Scope, y.LeaveOut) {
		if _, err := directory.ParseDN(dn); err != nil {
			return err
		}
	}
	if _, err := y.Location(); err != nil {
		return fmt.Errorf("time_zone: %w", err)
	}
	return y.Bind.check()
}

func (b *Bind) check() error {
	sources := 0
	for _, given := range []bool{b.PasswordFile != "", b.PasswordEnv != "", b.PasswordCommand != "", b.Ask, b.Kerberos} {
		if given {
			sources++
		}
	}
	switch {
	case sources > 1:
		return errors.New("bind: give one of password_file, password_env, password_command, ask and kerberos")
	case b.DN != "" && sources == 0:
		return errors.New("bind: a dn needs one of password_file, password_env, password_command and ask")
	case b.DN == "" && sources == 1 && !b.Kerberos:
		return errors.New("bind: a password needs a dn")
	}
	return nil
}

// Location returns the yard's time zone, UTC where none is set.
func (y *Yard) Location() (*time.Location, error) {
	if y.TimeZone == "" {
		return time.UTC, nil
	}
	return time.LoadLocation(y.TimeZone)
}

// Span is a length of time in whole calendar units, such as 90d, 12w or 6mo.
type Span struct {
	Months, Days int
}

// Days makes a Span of n days.
func Days(n int) Span { return Span{Days: n} }

var spanForm = regexp.MustCompile(`^([0-9]{1,5})(d|w|mo|y)$`)

// ParseSpan reads a number and a unit: d, w, mo or y.
func ParseSpan(text string) (Span, error) {
	m := spanForm.FindStringSubmatch(text)
	if m == nil {
		return Span{}, fmt.Errorf("%q is not a span of time: write 90d, 12w, 6mo or 1y", text)
	}
	n, err := strconv.Atoi(m[1])
	switch m[2] {
	case "w":
		return Span{Days: 7 * n}, err
	case "mo":
		return Span{Months: n}, err
	case "y":
		return Span{Months: 12 * n}, err
	}
	return Span{Days: n}, err
}

// UnmarshalText reads a Span as ParseSpan does.
func (s *Span) UnmarshalText(text []byte) (err error) {
	*s, err = ParseSpan(string(text))
	return err
}

// Before returns the moment that lies the span before t.
func (s Span) Before(t time.Time) time.Time { return t.AddDate(0, -s.Months, -s.Days) }

func (s Span) String() string {
	if s.Months != 0 {
		return strconv.Itoa(s.Months) + "mo"
	}
	return strconv.Itoa(s.Days) + "d"
}

// Wait is a short time such as 30s or 2m.
type Wait time.Duration

// UnmarshalText reads a Go duration.
func (w *Wait) UnmarshalText(text []byte) error {
	d, err := time.ParseDuration(string(text))
	if err == nil && d <= 0 {
		err = fmt.Errorf("%q is not a time to wait", text)
	}
	*w = Wait(d)
	return err
}

// ParseTime reads an RFC 3339 time, or a date, which means the end of that
// day in loc.
func ParseTime(text string, loc *time.Location) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	t, err := time.ParseInLocation(time.DateOnly, text, loc)
	if err != nil {
		return time.Time{}, fmt.Errorf("%q is not a time: write 2027-02-15 or 2027-02-15T08:00:00Z", text)
	}
	return t.AddDate(0, 0, 1).Add(-time.Nanosecond), nil
}
