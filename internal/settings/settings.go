// Package settings reads the settings file: the yards in somebody's care and
// how to judge them. It is read once; the result is handed down.
package settings

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml"

	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
)

// Settings is the whole file.
type Settings struct {
	Default string          `yaml:"default"`
	Yards   map[string]Yard `yaml:"yards"`
	Audit   Audit           `yaml:"audit"`
	Batch   Batch           `yaml:"batch"`
	Signing Signing         `yaml:"signing"`
	Roster  Roster          `yaml:"roster"`
	// Exemptions are entries deliberately left alone.
	Exemptions []Exemption `yaml:"exemptions"`
	// Secrets say which attributes hold secrets, besides what their names and the
	// schema tell.
	Secrets Secrets `yaml:"secrets"`
	// File is where the settings came from, "" where there was none.
	File string `yaml:"-"`
}

// Secrets are attributes whose values are never asked for, kept or shown, and
// those that only sound so.
type Secrets struct {
	Also     []string `yaml:"also"`
	Harmless []string `yaml:"harmless"`
}

// Defaults are the settings where nothing is set.
func Defaults() *Settings {
	return &Settings{
		Audit: Audit{
			StaleAfter:          calendar.Days(90),
			StaleComputerAfter:  calendar.Days(90),
			NewAccountGrace:     calendar.Days(30),
			DeleteAfter:         calendar.Days(180),
			PasswordMaxAge:      calendar.Days(365),
			KeyPasswordMaxAge:   calendar.Days(180),
			Soon:                calendar.Days(14),
			AdminAccountPattern: `^(a|sa)-|^(adm|admin|t0|t1|t2)[._-]|[._-](adm|admin|t0|t1|t2)$|-(da|ea)$|^(adm|admin)$`,
			Compare: []string{
				"l",
				"st",
				"co",
				"company",
				"department",
				"title",
				"physicalDeliveryOfficeName",
			},
			Required: []string{"givenName", "sn", "displayName"},
		},
		Batch: Batch{
			MaxLines:          500,
			MaxShare:          10,
			DeleteMinDisabled: calendar.Days(30),
			HomeHold:          calendar.Days(30),
			KeepDeleted:       calendar.Days(365),
			DayLines:          1000,
			DayShare:          20,
		},
		Signing: Signing{Over: 100},
	}
}

// LoadIfAny is Load, and gives the defaults where there is no such file.
func LoadIfAny(file string) (*Settings, error) {
	if _, err := os.Lstat(file); errors.Is(err, fs.ErrNotExist) {
		return Defaults(), nil
	}
	return Load(file)
}

// Load reads a settings file. Relative paths in it are relative to the file.
func Load(file string) (*Settings, error) {
	s := Defaults()
	text, err := read(file)
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
	for _, p := range []*string{&s.Signing.AllowedSigners, &s.Signing.Key, &s.Signing.Me} {
		if home, err := os.UserHomeDir(); err == nil && strings.HasPrefix(*p, "~/") {
			*p = filepath.Join(home, (*p)[2:])
		}
		if *p != "" && !filepath.IsAbs(*p) {
			*p = filepath.Join(filepath.Dir(file), *p)
		}
	}
	if err := s.check(); err != nil {
		return nil, fmt.Errorf("settings %s: %w", file, err)
	}
	return s, nil
}

const (
	mostOctets = 4 << 20
	mostDepth  = 100
)

// read reads a file that may hold settings. What nests deeper than anybody's
// settings is refused before the parser, which would go down with it.
func read(file string) ([]byte, error) {
	in, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	text, err := io.ReadAll(io.LimitReader(in, mostOctets+1))
	if err != nil {
		return nil, err
	}
	if len(text) > mostOctets {
		return nil, fmt.Errorf("%s is larger than %d MB, which no settings are", file, mostOctets>>20)
	}
	depth, line := 0, 0
	for l := range bytes.Lines(text) {
		line++
		dashes := 0 // lists that begin in this line: "- - - a"
		for l := bytes.TrimLeft(l, " "); len(l) > 1 && bytes.IndexByte([]byte("-?:"), l[0]) >= 0 && l[1] == ' '; l = bytes.TrimLeft(l[1:], " ") {
			dashes++
		}
		for _, c := range l {
			switch c {
			case '[', '{':
				depth++
			case ']', '}':
				depth = max(depth-1, 0)
			}
			if depth+dashes > mostDepth {
				return nil, fmt.Errorf("%s, line %d: brackets or lists nest more than %d deep", file, line, mostDepth)
			}
		}
	}
	return text, nil
}

var attributeForm = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9-]*$`)

func (s *Settings) check() error {
	if _, ok := s.Yards[s.Default]; s.Default != "" && !ok {
		return fmt.Errorf("default: no yard is called %q", s.Default)
	}
	for name, y := range s.Yards {
		if err := y.Check(); err != nil {
			return fmt.Errorf("yards: %s: %w", name, err)
		}
	}
	for where, dns := range map[string][]string{"parking": s.Audit.Parking, "privileged_groups": s.Audit.PrivilegedGroups, "placeholder_members": s.Audit.PlaceholderMembers} {
		for _, dn := range dns {
			if levels, err := directory.ParseDN(dn); err != nil || len(levels) == 0 {
				return fmt.Errorf("audit: %s: %q is not a distinguished name", where, dn)
			}
		}
	}
	for where, n := range map[string]int{"max_rows": s.Roster.MaxRows, "max_columns": s.Roster.MaxColumns, "max_size": s.Roster.MaxSize} {
		if n < 0 {
			return fmt.Errorf("roster: %s: %d is less than nothing", where, n)
		}
	}
	if t := s.Roster.Trust; t != "" && t != TrustDates {
		return fmt.Errorf("roster: trust: %q is not %s", t, TrustDates)
	}
	for where, names := range map[string][]string{"secrets: also": s.Secrets.Also, "secrets: harmless": s.Secrets.Harmless, "batch: attributes": s.Batch.Attributes} {
		for _, name := range names {
			plain, _, tagged := strings.Cut(name, ";")
			if !attributeForm.MatchString(plain) || tagged && where != "batch: attributes" {
				return fmt.Errorf("%s: %q is not the name of an attribute", where, name)
			}
		}
	}
	for i := range s.Exemptions {
		if err := s.Exemptions[i].Check(); err != nil {
			return fmt.Errorf("exemptions: %w", err)
		}
	}
	if s.Batch.MaxLines < 1 || s.Batch.MaxShare < 1 || s.Batch.MaxShare > 100 {
		return errors.New("batch: max_lines must be at least 1 and max_share from 1 to 100")
	}
	if s.Batch.DayLines < 1 || s.Batch.DayShare < 1 || s.Batch.DayShare > 100 {
		return errors.New("batch: day_lines must be at least 1 and day_share from 1 to 100")
	}
	if s.Signing.Over < 0 {
		return errors.New("signing: over must be 0 or more")
	}
	for action, n := range s.Signing.Needed {
		if n < 0 || n > 9 {
			return fmt.Errorf("signing: needed: %s: %d is not a number of people from 0 to 9", action, n)
		}
	}
	return nil
}
