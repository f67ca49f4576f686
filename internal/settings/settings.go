// Package settings reads the settings file: the yards in somebody's care and
// how to judge them. It is read once; the result is handed down.
package settings

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/homes"
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

// Yard is one directory in somebody's care.
type Yard struct {
	Servers  []string `yaml:"servers"`
	Avoid    []string `yaml:"avoid"`
	Base     string   `yaml:"base"`
	Scope    []string `yaml:"scope"`
	LeaveOut []string `yaml:"leave_out"`
	Bind     Bind     `yaml:"bind"`
	CAFile   string   `yaml:"ca_file"`
	StartTLS bool     `yaml:"starttls"`
	Dialect  string   `yaml:"dialect"`
	TimeZone string   `yaml:"time_zone"`
	PageSize int      `yaml:"page_size"`
	Timeout  Wait     `yaml:"timeout"`
	// ReadWithin is how long one reading may take as a whole.
	ReadWithin Wait `yaml:"read_within"`
	// SettleWithin is how long a write is read back until it shows.
	SettleWithin  Wait   `yaml:"settle_within"`
	DefaultPolicy string `yaml:"default_policy"`
	// Homes say which folders of this machine the home folders of the accounts
	// are.
	Homes []homes.Share `yaml:"homes"`
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

// Audit holds the thresholds of the checks, and what they compare with.
type Audit struct {
	StaleAfter         calendar.Span     `yaml:"stale_after"`
	StaleComputerAfter calendar.Span     `yaml:"stale_computer_after"`
	NewAccountGrace    calendar.Span     `yaml:"new_account_grace"`
	DeleteAfter        calendar.Span     `yaml:"delete_after"`
	PasswordMaxAge     calendar.Span     `yaml:"password_max_age"`
	KeyPasswordMaxAge  calendar.Span     `yaml:"key_password_max_age"`
	Soon               calendar.Span     `yaml:"soon"`
	Parking            []string          `yaml:"parking"`
	Checks             map[string]string `yaml:"checks"`
	// PrivilegedGroups are privileged besides the built-in ones.
	PrivilegedGroups []string `yaml:"privileged_groups"`
	// AdminAccountPattern matches the logon names of accounts that are for
	// administration only.
	AdminAccountPattern string   `yaml:"admin_account_pattern"`
	PlaceholderMembers  []string `yaml:"placeholder_members"`
	UnsupportedSystems  []string `yaml:"unsupported_systems"`
	StartAttribute      string   `yaml:"start_attribute"`
	// Compare are the attributes whose spellings are compared, Required
	// those that every account should have.
	Compare  []string `yaml:"compare"`
	Required []string `yaml:"required"`
	// Patterns are what values must match, by attribute; Values the right
	// spellings.
	Patterns map[string]string   `yaml:"patterns"`
	Values   map[string][]string `yaml:"values"`
	// Filters are checks of one's own, by name.
	Filters map[string]Filter `yaml:"filters"`
}

// Roster says how to read HR's lists of people, and how to match them.
type Roster struct {
	// Columns are further headers of a field, by its name.
	Columns map[string][]string `yaml:"columns"`
	// Status are further words for active, leave, left and future.
	Status map[string][]string `yaml:"status"`
	// Encoding is that of text files that say nothing of it; found out where it
	// is not set.
	Encoding string `yaml:"encoding"`
	Dates    string `yaml:"dates"` // iso, day-first, month-first or year-first, where dates leave it open
	Trust    string `yaml:"trust"` // dates: an end date in the past outweighs the status
	// IDAttributes hold the person id; employeeID and employeeNumber where none
	// are named.
	IDAttributes []string `yaml:"id_attributes"`
	// LocationAttribute is what the roster calls location; l where it is not
	// named.
	LocationAttribute string `yaml:"location_attribute"`
	// LogonPatterns are how logon names are made of names; learned where none
	// are set.
	LogonPatterns []string `yaml:"logon_patterns"`
	// MaxRows, MaxColumns and MaxSize (MB, unpacked) bound what is taken for a
	// roster; FetchWithin is how long reading a service may take.
	MaxRows     int  `yaml:"max_rows"`
	MaxColumns  int  `yaml:"max_columns"`
	MaxSize     int  `yaml:"max_size"`
	FetchWithin Wait `yaml:"fetch_within"`
}

// TrustDates is the value of Trust.
const TrustDates = "dates"

// Conditions are what an account has to fulfil by what the tool itself knows of
// it: sign-ins over all servers, whether it can sign in, the age of its
// password. The zero value asks for nothing.
type Conditions struct {
	Enabled       bool           `yaml:"enabled"`
	Disabled      bool           `yaml:"disabled"`
	Locked        bool           `yaml:"locked"`
	Expired       bool           `yaml:"expired"`
	NeverUsed     bool           `yaml:"never_used"`
	Idle          *calendar.Span `yaml:"idle"` // no sign-in for so long, or ever since it was made
	PasswordOlder *calendar.Span `yaml:"password_older"`
	New           *calendar.Span `yaml:"new"`            // made within
	ExpiresIn     *calendar.Span `yaml:"expires_within"` // and not yet
	MemberOf      string         `yaml:"member_of"`      // a group by name or DN, directly or through others
}

// Empty tells whether nothing is asked for.
func (c *Conditions) Empty() bool { return *c == Conditions{} }

// Filter is a check that an RFC 4515 filter defines, or conditions, or both.
type Filter struct {
	Filter string `yaml:"filter"`
	// Where are conditions on what the tool knows of an account.
	Where Conditions `yaml:"where"`
	Under string     `yaml:"under"` // only what stands at or below this name
	// Kind is what "list" calls a kind of entries (users, computers …); "" means
	// all accounts where there are conditions, else everything.
	Kind     string   `yaml:"kind"`
	Severity string   `yaml:"severity"`
	Text     string   `yaml:"text"`    // what it reports
	Suggest  []string `yaml:"suggest"` // actions that would clear a finding
	// Reason stands for the name of a check that is made for one staging.
	Reason string `yaml:"-"        json:"-"`
}

// Describe writes what is asked for.
func (f *Filter) Describe() string {
	var parts []string
	if f.Filter != "" {
		parts = append(parts, f.Filter)
	}
	w := &f.Where
	for _, one := range []struct {
		asked bool
		text  string
	}{{w.Enabled, "enabled"}, {w.Disabled, "disabled"}, {w.Locked, "locked out"}, {w.Expired, "expired"}, {w.NeverUsed, "never used"}} {
		if one.asked {
			parts = append(parts, one.text)
		}
	}
	for _, one := range []struct {
		span *calendar.Span
		text string
	}{{w.Idle, "idle for"}, {w.PasswordOlder, "password older than"}, {w.ExpiresIn, "expires within"}, {w.New, "made within"}} {
		if one.span != nil {
			parts = append(parts, one.text+" "+one.span.String())
		}
	}
	if w.MemberOf != "" {
		parts = append(parts, "member of "+w.MemberOf)
	}
	if f.Under != "" {
		parts = append(parts, "under "+f.Under)
	}
	return strings.Join(parts, ", ")
}

// Exemption is an entry, or several, deliberately left alone.
type Exemption struct {
	Match  Match    `yaml:"match"  json:"match"`
	Checks []string `yaml:"checks" json:"checks,omitempty"` // none means every check
	Reason string   `yaml:"reason" json:"reason"`
	Owner  string   `yaml:"owner"  json:"owner"`
	Until  string   `yaml:"until"  json:"until,omitempty"` // a date or a time; "" means without end
}

// Match says which entries are meant, by one of five ways.
type Match struct {
	Account string `yaml:"account" json:"account,omitempty"`
	DN      string `yaml:"dn"      json:"dn,omitempty"`
	Person  string `yaml:"person"  json:"person,omitempty"` // the person id, for somebody without an account
	Subtree string `yaml:"subtree" json:"subtree,omitempty"`
	Filter  string `yaml:"filter"  json:"filter,omitempty"` // RFC 4515
}

func (m Match) String() string {
	switch {
	case m.DN != "":
		return m.DN
	case m.Subtree != "":
		return "below " + m.Subtree
	case m.Filter != "":
		return m.Filter
	case m.Person != "":
		return "person " + m.Person
	}
	return m.Account
}

// Check refuses an exemption that says too little.
func (e *Exemption) Check() error {
	given := 0
	for _, text := range []string{e.Match.Account, e.Match.DN, e.Match.Subtree, e.Match.Filter, e.Match.Person} {
		if text != "" {
			given++
		}
	}
	switch {
	case given != 1:
		return errors.New("match: give one of account, dn, subtree, filter and person")
	case strings.TrimSpace(e.Reason) == "":
		return fmt.Errorf("%s: a reason is missing", e.Match)
	case strings.TrimSpace(e.Owner) == "":
		return fmt.Errorf("%s: an owner is missing: who answers for it?", e.Match)
	}
	for _, dn := range []string{e.Match.DN, e.Match.Subtree} {
		if _, err := directory.ParseDN(dn); err != nil {
			return err
		}
	}
	if e.Match.Filter != "" {
		if _, err := filter.Parse(e.Match.Filter); err != nil {
			return err
		}
	}
	if e.Until != "" {
		if _, err := calendar.ParseTime(e.Until, time.UTC); err != nil {
			return fmt.Errorf("%s: until: %w", e.Match, err)
		}
	}
	return nil
}

// Batch holds the limits of bulk change.
type Batch struct {
	MaxLines          int           `yaml:"max_lines"`
	MaxShare          int           `yaml:"max_share"` // per cent of the yard's accounts
	DeleteMinDisabled calendar.Span `yaml:"delete_min_disabled"`
	// HomeHold is how long a home folder that was set aside is held before it
	// may be archived and removed.
	HomeHold calendar.Span `yaml:"home_hold"`
	// KeepDeleted is how long what was deleted is kept as LDIF beside the journal;
	// the zero Span keeps nothing.
	KeepDeleted calendar.Span `yaml:"keep_deleted"`
	// DayLines and DayShare limit what is done in any 24 hours.
	DayLines int `yaml:"day_lines"`
	DayShare int `yaml:"day_share"` // per cent of the yard's accounts
	// Attributes are further ones that set, add, clear and fill may change.
	Attributes []string `yaml:"attributes"`
}

// Allows refuses more lines than a batch may have, or than most where that is
// given.
func (b *Batch) Allows(lines, most int) error {
	if most = cmp.Or(most, b.MaxLines); lines > most {
		return fmt.Errorf(
			"%d lines are more than a batch may have (%d): choose fewer, or raise the limit with --max-lines %d", lines,
			most, lines)
	}
	return nil
}

// Signing says who has to agree to a batch.
type Signing struct {
	// AllowedSigners is a list of keys in the form of OpenSSH.
	AllowedSigners string `yaml:"allowed_signers"`
	Key            string `yaml:"key"` // the file of one's own key
	// Me is the file of the key, or of its public half where the agent holds it,
	// by which one proves who one is when staging; Key where it is not named.
	Me string `yaml:"me"`
	// Proved are the actions, and "privileged", for which it is not enough that
	// the operating system has a name for whoever staged the batch.
	Proved []string `yaml:"proved"`
	// Over is the number of lines above which a batch needs a signature; 0 means
	// any number may go without.
	Over int `yaml:"over"`
	// Needed is how many signatures an action needs, by its name.
	Needed map[string]int `yaml:"needed"`
}

// ProvedPrivileged stands in Proved for what is about privileged accounts and
// groups.
const ProvedPrivileged = "privileged"

// WantsProof tells whether somebody who stages an action must have proved who
// they are. Where no signers are allowed nobody can prove anything.
func (s *Signing) WantsProof(action string) bool {
	if s.Proved != nil {
		return slices.Contains(s.Proved, action)
	}
	return s.AllowedSigners != "" && slices.Contains([]string{ProvedPrivileged, "delete", "reset-password"}, action)
}

// For returns how many signatures an action needs: one for what cannot be
// taken back whole (delete, archive-home), where nothing is set.
func (s *Signing) For(action string) int {
	if n, set := s.Needed[action]; set {
		return n
	}
	if action == "delete" || action == "archive-home" {
		return 1
	}
	return 0
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

// Load reads a settings file. A missing file gives the defaults if it need
// not exist. Relative paths in it are relative to the file.
func Load(file string, mustExist bool) (*Settings, error) {
	s := Defaults()
	text, err := read(file)
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
	if err := homes.CheckAll(y.Homes); err != nil {
		return fmt.Errorf("homes: %w", err)
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
