// Package settings reads the settings file: the yards in somebody's care and
// how to judge them. It is read once; the result is handed down.
package settings

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/pattern"
	"yardbroom/internal/wording"
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
	// Rounds are jobs that run by themselves, by name.
	Rounds map[string]Round `yaml:"rounds"`
	// Ladders age accounts in steps. Their order counts: an account is on the
	// first that takes it.
	Ladders []Ladder `yaml:"ladders"`
	Mail    Mail     `yaml:"mail"`
	Answers Answers  `yaml:"answers"`
	Keep    Keeping  `yaml:"keep"`
	// Secrets say which attributes hold secrets, besides what their names and the
	// schema tell.
	Secrets Secrets `yaml:"secrets"`
	// File is where the settings came from, "" where there was none.
	File string `yaml:"-"`

	tree *ast.File // what was read, to say where something stands
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
			StaleAfter:            calendar.Days(90),
			StaleComputerAfter:    calendar.Days(90),
			NewAccountGrace:       calendar.Days(30),
			DeleteAfter:           calendar.Days(180),
			PasswordMaxAge:        calendar.Days(365),
			KeyPasswordMaxAge:     calendar.Days(180),
			Soon:                  calendar.Days(14),
			AdminAccountPattern:   `^(a|sa)-|^(adm|admin|t0|t1|t2)[._-]|[._-](adm|admin|t0|t1|t2)$|-(da|ea)$|^(adm|admin)$`,
			ServiceAccountPattern: `^(svc|service)[._-]|[._-](svc|service)$`,
			GuessAccounts:         10,
			GuessFailures:         10,
			UnknownNameTries:      3,
			LocksAgainWithin:      calendar.Days(1),
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
		Keep: Keeping{
			Surveys: Thinning{Days: 14, Weeks: 8, Months: 24},
			Audits:  Thinning{Days: 60, Weeks: 52, Months: 120},
			Runs:    Thinning{Days: 90, Weeks: 52},
		},
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
	tree, err := parser.ParseBytes(text, 0)
	if err != nil {
		return nil, fmt.Errorf("settings %s, %s", file, unparsed(err))
	}
	if len(tree.Docs) == 0 || tree.Docs[0].Body == nil || tree.Docs[0].Body.Type() == ast.NullType {
		return s, nil // no line sets anything
	}
	s.File, s.tree = file, tree
	if f := misshapen(tree.Docs[0].Body, reflect.TypeFor[Settings](), nil); f != nil {
		return nil, s.Misset(f)
	}
	if err := yaml.NodeToValue(tree.Docs[0].Body, s, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("settings %s, %s", file, unparsed(err))
	}
	for name := range s.Yards {
		if len(s.Yards) == 1 && s.Default == "" {
			s.Default = name // the only one
		}
	}
	s.placePaths()
	s.splitActions()
	if f := s.check(); f != nil {
		return nil, s.Misset(f)
	}
	if err := s.Mail.check(); err != nil {
		return nil, s.Misset(Faulty(err, "mail"))
	}
	if err := s.Answers.check(); err != nil {
		return nil, s.Misset(Faulty(err, "answers"))
	}
	if f := s.checkLadders(); f != nil {
		return nil, s.Misset(f)
	}
	if f := s.checkRounds(); f != nil {
		return nil, s.Misset(f)
	}
	return s, nil
}

// placePaths makes relative paths relative to the file, and those of signing
// that begin with ~/ to the home folder.
func (s *Settings) placePaths() {
	place := func(paths ...*string) {
		for _, p := range paths {
			if *p != "" && !filepath.IsAbs(*p) && !strings.Contains(*p, "://") {
				*p = filepath.Join(filepath.Dir(s.File), *p)
			}
		}
	}
	for name, y := range s.Yards {
		place(&y.CAFile, &y.Bind.PasswordFile, &y.Bind.CredentialCache)
		for i := range y.Logs {
			place(&y.Logs[i].Path)
		}
		s.Yards[name] = y
	}
	for _, p := range []*string{&s.Signing.AllowedSigners, &s.Signing.Key, &s.Signing.Me} {
		if home, err := os.UserHomeDir(); err == nil && strings.HasPrefix(*p, "~/") {
			*p = filepath.Join(home, (*p)[2:])
		}
		place(p)
	}
	place(&s.Mail.CAFile, &s.Mail.PasswordFile, &s.Answers.CAFile, &s.Answers.PasswordFile)
	for name, r := range s.Rounds {
		place(&r.Roster.From, &r.Roster.TokenFile, &r.Activity, &r.Metrics)
		if r.Folder != nil {
			place(&r.Folder.Path)
		}
		for i := range r.Post {
			place(&r.Post[i].TokenFile, &r.Post[i].SecretFile, &r.Post[i].CAFile)
		}
		s.Rounds[name] = r
	}
}

// splitActions lets several actions be written as on the command line, with commas.
func (s *Settings) splitActions() {
	split := func(actions *Words) {
		var all Words
		for _, text := range *actions {
			for name := range strings.SplitSeq(text, ",") {
				all = append(all, strings.TrimSpace(name))
			}
		}
		*actions = all
	}
	for _, r := range s.Rounds {
		for i := range r.Steps {
			if do := r.Steps[i].Stage; do != nil {
				split(&do.Actions)
			}
		}
	}
	for i := range s.Ladders {
		for j := range s.Ladders[i].Rungs {
			split(&s.Ladders[i].Rungs[j].Actions)
		}
	}
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

var attributeForm = pattern.Lazy(`^[A-Za-z][A-Za-z0-9-]*$`)

func (s *Settings) check() *Fault {
	if _, ok := s.Yards[s.Default]; s.Default != "" && !ok {
		return Faulty(fmt.Errorf("no yard is called %q%s", s.Default, wording.DidYouMean(s.Default, slices.Sorted(maps.Keys(s.Yards)))), "default")
	}
	for _, name := range slices.Sorted(maps.Keys(s.Yards)) {
		y := s.Yards[name]
		if f := y.check(); f != nil {
			f.Path = append([]any{"yards", name}, f.Path...)
			return f
		}
	}
	return first(s.checkAudit, s.checkRoster, s.checkNames, s.checkExemptions, s.checkLimits)
}

// first is the first fault that is found.
func first(checks ...func() *Fault) *Fault {
	for _, check := range checks {
		if f := check(); f != nil {
			return f
		}
	}
	return nil
}

func (s *Settings) checkAudit() *Fault {
	for _, one := range []struct {
		where string
		dns   []string
	}{{"parking", s.Audit.Parking}, {"privileged_groups", s.Audit.PrivilegedGroups}, {"placeholder_members", s.Audit.PlaceholderMembers}} {
		if f := checkDNs(one.dns, "audit", one.where); f != nil {
			return f
		}
	}
	for _, one := range []struct {
		where string
		n     int
	}{{"guess_accounts", s.Audit.GuessAccounts}, {"guess_failures", s.Audit.GuessFailures}, {"unknown_name_tries", s.Audit.UnknownNameTries}} {
		if one.n < 1 {
			return Faulty(fmt.Errorf("%d: give 1 or more", one.n), "audit", one.where)
		}
	}
	return nil
}

func (s *Settings) checkRoster() *Fault {
	for _, one := range []struct {
		where string
		n     int
	}{{"max_rows", s.Roster.MaxRows}, {"max_columns", s.Roster.MaxColumns}, {"max_size", s.Roster.MaxSize}} {
		if one.n < 0 {
			return Faulty(fmt.Errorf("%d is less than nothing", one.n), "roster", one.where)
		}
	}
	if t := s.Roster.Trust; t != "" && t != TrustDates {
		return Faulty(fmt.Errorf("%q is not %s", t, TrustDates), "roster", "trust")
	}
	return nil
}

// checkNames refuses what cannot be the name of an attribute.
func (s *Settings) checkNames() *Fault {
	for _, one := range []struct {
		names []string
		path  []any
	}{{s.Secrets.Also, []any{"secrets", "also"}}, {s.Secrets.Harmless, []any{"secrets", "harmless"}}, {s.Batch.Attributes, []any{"batch", "attributes"}}} {
		for i, name := range one.names {
			plain, _, tagged := strings.Cut(name, ";")
			if !attributeForm().MatchString(plain) || tagged && one.path[0] != "batch" {
				return Faulty(fmt.Errorf("%q is not the name of an attribute", name), append(one.path, i)...)
			}
		}
	}
	return nil
}

func (s *Settings) checkExemptions() *Fault {
	for i := range s.Exemptions {
		if err := s.Exemptions[i].Check(); err != nil {
			return Faulty(err, "exemptions", i)
		}
	}
	return nil
}

func (s *Settings) checkLimits() *Fault {
	for _, one := range []struct {
		where   string
		n, most int
	}{{"max_lines", s.Batch.MaxLines, math.MaxInt}, {"max_share", s.Batch.MaxShare, 100}, {"day_lines", s.Batch.DayLines, math.MaxInt}, {"day_share", s.Batch.DayShare, 100}} {
		if one.n < 1 {
			return Faulty(fmt.Errorf("%d: give 1 or more", one.n), "batch", one.where)
		}
		if one.n > one.most {
			return Faulty(fmt.Errorf("%d: it is a share, 100 per cent at most", one.n), "batch", one.where)
		}
	}
	for _, one := range []struct {
		where string
		t     *Thinning
	}{{"surveys", &s.Keep.Surveys}, {"audits", &s.Keep.Audits}, {"runs", &s.Keep.Runs}} {
		if err := one.t.check(); err != nil {
			return Faulty(err, "keep", one.where)
		}
	}
	if s.Signing.Over < 0 {
		return Faulty(fmt.Errorf("%d: give 0 or more", s.Signing.Over), "signing", "over")
	}
	for _, action := range slices.Sorted(maps.Keys(s.Signing.Needed)) {
		if n := s.Signing.Needed[action]; n < 0 || n > 9 {
			return Faulty(fmt.Errorf("%d is not a number of people from 0 to 9", n), "signing", "needed", action)
		}
	}
	return nil
}

// checkDNs refuses what is not a distinguished name.
func checkDNs(dns []string, path ...any) *Fault {
	for i, dn := range dns {
		if levels, err := directory.ParseDN(dn); err != nil || len(levels) == 0 {
			return Faulty(fmt.Errorf("%q is not a distinguished name, such as OU=Staff,DC=larkmoor,DC=example", dn), append(slices.Clone(path), i)...)
		}
	}
	return nil
}
