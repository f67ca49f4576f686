package settings

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
)

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
