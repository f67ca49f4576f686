package settings

import (
	"cmp"
	"fmt"
	"slices"

	"yardbroom/internal/calendar"
)

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
// taken back whole (delete, archive-home, reset-password), where nothing is set.
func (s *Signing) For(action string) int {
	if n, set := s.Needed[action]; set {
		return n
	}
	if action == "delete" || action == "archive-home" || action == "reset-password" {
		return 1
	}
	return 0
}
