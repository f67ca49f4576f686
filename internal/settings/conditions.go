package settings

import (
	"cmp"
	"strings"

	"yardbroom/internal/calendar"
)

// Conditions are what an account has to fulfil by what the tool itself knows of
// it: sign-ins over all servers, whether it can sign in, the age of its
// password. The zero value asks for nothing.
type Conditions struct {
	Enabled       bool           `yaml:"enabled"`
	Disabled      bool           `yaml:"disabled"`
	Locked        bool           `yaml:"locked"`
	Expired       bool           `yaml:"expired"`
	NeverUsed     bool           `yaml:"never_used"`
	Used          bool           `yaml:"used"`        // has signed in at least once
	UsedWithin    *calendar.Span `yaml:"used_within"` // has signed in within
	Idle          *calendar.Span `yaml:"idle"`        // no sign-in for so long, or ever since it was made
	PasswordOlder *calendar.Span `yaml:"password_older"`
	New           *calendar.Span `yaml:"new"`            // made within
	CreatedBefore *calendar.Past `yaml:"created_before"` // made so long ago, or before a date
	ExpiresIn     *calendar.Span `yaml:"expires_within"` // and not yet
	DisabledFor   *calendar.Span `yaml:"disabled_for"`   // disabled for at least so long
	HereFor       *calendar.Span `yaml:"here_for"`       // in its place for at least so long
	MemberOf      string         `yaml:"member_of"`      // a group by name or DN, directly or through others
	// Not are conditions none of which may be fulfilled.
	Not *Conditions `yaml:"not"`
}

// Empty tells whether nothing is asked for.
func (c *Conditions) Empty() bool { return *c == Conditions{} }

// Each are the conditions one by one, without those that must not be fulfilled.
func (c *Conditions) Each() (all []Conditions) {
	for _, one := range []Conditions{
		{Enabled: c.Enabled}, {Disabled: c.Disabled}, {Locked: c.Locked}, {Expired: c.Expired}, {NeverUsed: c.NeverUsed}, {Used: c.Used},
		{UsedWithin: c.UsedWithin}, {Idle: c.Idle}, {PasswordOlder: c.PasswordOlder}, {New: c.New}, {CreatedBefore: c.CreatedBefore},
		{ExpiresIn: c.ExpiresIn}, {DisabledFor: c.DisabledFor}, {HereFor: c.HereFor}, {MemberOf: c.MemberOf},
	} {
		if !one.Empty() {
			all = append(all, one)
		}
	}
	return all
}

// Looked are all conditions that have to be looked at, also those that must not be
// fulfilled, as if each had to be.
func (c *Conditions) Looked() Conditions {
	if c.Not == nil {
		return *c
	}
	n := c.Not.Looked()
	return Conditions{
		Enabled: c.Enabled || n.Enabled, Disabled: c.Disabled || n.Disabled, Locked: c.Locked || n.Locked, Expired: c.Expired || n.Expired,
		NeverUsed: c.NeverUsed || n.NeverUsed, Used: c.Used || n.Used, UsedWithin: cmp.Or(c.UsedWithin, n.UsedWithin), Idle: cmp.Or(c.Idle, n.Idle),
		PasswordOlder: cmp.Or(c.PasswordOlder, n.PasswordOlder), New: cmp.Or(c.New, n.New), CreatedBefore: cmp.Or(c.CreatedBefore, n.CreatedBefore),
		ExpiresIn: cmp.Or(c.ExpiresIn, n.ExpiresIn), DisabledFor: cmp.Or(c.DisabledFor, n.DisabledFor), HereFor: cmp.Or(c.HereFor, n.HereFor),
		MemberOf: cmp.Or(c.MemberOf, n.MemberOf),
	}
}

// AskSignIns tells whether any condition is about sign-ins.
func (c *Conditions) AskSignIns() bool {
	l := c.Looked()
	return l.Idle != nil || l.NeverUsed || l.Used || l.UsedWithin != nil
}

// MissSignIns tells whether any condition is fulfilled by sign-ins that are missing,
// and so only as surely as all of them were seen.
func (c *Conditions) MissSignIns() bool {
	return c.Idle != nil || c.NeverUsed || c.Not != nil && (c.Not.Used || c.Not.UsedWithin != nil)
}

// AskDates tells whether any condition is about since when something is so.
func (c *Conditions) AskDates() bool {
	l := c.Looked()
	return l.DisabledFor != nil || l.HereFor != nil
}

// describe writes what is asked for, a part a condition.
func (c *Conditions) describe() (parts []string) {
	for _, one := range []struct {
		asked bool
		text  string
	}{{c.Enabled, "enabled"}, {c.Disabled, "disabled"}, {c.Locked, "locked out"}, {c.Expired, "expired"}, {c.NeverUsed, "never used"}, {c.Used, "used at least once"}} {
		if one.asked {
			parts = append(parts, one.text)
		}
	}
	for _, one := range []struct {
		span *calendar.Span
		text string
	}{{c.Idle, "idle for"}, {c.UsedWithin, "used within"}, {c.PasswordOlder, "password older than"}, {c.ExpiresIn, "expires within"}, {c.New, "made within"},
		{c.DisabledFor, "disabled for"}, {c.HereFor, "in its place for"}} {
		if one.span != nil {
			parts = append(parts, one.text+" "+one.span.String())
		}
	}
	if c.CreatedBefore != nil {
		parts = append(parts, "made before "+c.CreatedBefore.String())
	}
	if c.MemberOf != "" {
		parts = append(parts, "member of "+c.MemberOf)
	}
	if c.Not != nil {
		for _, part := range c.Not.describe() {
			parts = append(parts, "not "+part)
		}
	}
	return parts
}

// Filter is a check that an RFC 4515 filter defines, or conditions, or both.
type Filter struct {
	Filter string `yaml:"filter"`
	// Where are conditions on what the tool knows of an account.
	Where Conditions `yaml:"where"`
	Under string     `yaml:"under"` // only what stands at or below this name
	// NotUnder leaves out what stands at or below these names.
	NotUnder []string `yaml:"not_under"`
	// Kind is what "list" calls a kind of entries (users, computers …); "" means
	// all accounts where there are conditions, else everything.
	Kind     string   `yaml:"kind"`
	Severity string   `yaml:"severity"`
	Text     string   `yaml:"text"`    // what it reports
	Suggest  []string `yaml:"suggest"` // actions that would clear a finding
	// Reason stands for the name of a check that is made for one staging.
	Reason string `yaml:"-"        json:"-"`
}

// Empty tells whether nothing is chosen by it: neither by a filter, nor conditions,
// nor a place.
func (f *Filter) Empty() bool {
	return f.Filter == "" && f.Where.Empty() && f.Under == "" && len(f.NotUnder) == 0
}

// Describe writes what is asked for.
func (f *Filter) Describe() string {
	var parts []string
	if f.Filter != "" {
		parts = append(parts, f.Filter)
	}
	parts = append(parts, f.Where.describe()...)
	if f.Under != "" {
		parts = append(parts, "under "+f.Under)
	}
	for _, dn := range f.NotUnder {
		parts = append(parts, "not under "+dn)
	}
	return strings.Join(parts, ", ")
}
