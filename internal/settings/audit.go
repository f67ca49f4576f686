package settings

import (
	"strings"

	"yardbroom/internal/calendar"
)

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
	// ServiceAccountPattern matches the logon names of accounts that services sign in
	// with; AdminMachines the names of machines at which privileged accounts may.
	ServiceAccountPattern string   `yaml:"service_account_pattern"`
	AdminMachines         []string `yaml:"admin_machines"`
	// GuessAccounts names tried from one source, GuessFailures wrong passwords before a
	// sign-in, UnknownNameTries of a name that no account has, are findings; so is a
	// lock that comes back within LocksAgainWithin.
	GuessAccounts      int           `yaml:"guess_accounts"`
	GuessFailures      int           `yaml:"guess_failures"`
	UnknownNameTries   int           `yaml:"unknown_name_tries"`
	LocksAgainWithin   calendar.Span `yaml:"locks_again_within"`
	UnsupportedSystems []string      `yaml:"unsupported_systems"`
	StartAttribute     string        `yaml:"start_attribute"`
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
