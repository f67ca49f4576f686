package batch

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/audit"
	"yardbroom/internal/settings"
)

func TestWhichExemptionsGoByWhatMayBeHidden(t *testing.T) {
	now := time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	of := func(m settings.Match, until time.Time, checks ...string) audit.Exemption {
		return audit.Exemption{Exemption: settings.Exemption{Match: m, Checks: checks}, Until: until}
	}
	exempt := []audit.Exemption{
		of(settings.Match{Filter: "(title=Keeper)"}, time.Time{}),
		of(settings.Match{Filter: "(title=Ended)"}, now.Add(-time.Hour)),
		of(settings.Match{Filter: "(title=Lasts)"}, now.Add(time.Hour)),
		of(settings.Match{Filter: "(title=Findings only)"}, time.Time{}, "stale"),
		of(settings.Match{Account: "a*da"}, time.Time{}),
		of(settings.Match{DN: "cn=ada"}, time.Time{}),
		of(settings.Match{Subtree: "ou=quiet"}, time.Time{}),
	}
	var filters []string
	for _, c := range conditions(exempt, now) {
		filters = append(filters, c.filter)
	}
	assert.Equal(t, []string{"(title=Keeper)", "(title=Lasts)", `(uid=a\2ada)`}, filters)
}
