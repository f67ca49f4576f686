package settings

import "yardbroom/internal/calendar"

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
