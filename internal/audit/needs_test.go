package audit

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

// TestWhatEachCheckNeeds holds the attributes without which a check is not
// looked at against the list that was read by hand.
func TestWhatEachCheckNeeds(t *testing.T) {
	var b strings.Builder
	for _, d := range []*directory.Dialect{directory.AD, directory.OpenLDAP, directory.NS389} {
		for _, c := range Checks {
			if c.needs == nil {
				continue
			}
			var parts []string
			for _, ids := range c.needs(d) {
				parts = append(parts, directory.AttrNames(ids))
			}
			b.WriteString(strings.TrimRight(d.Name+" "+c.Name+": "+strings.Join(parts, "; "), " ") + "\n")
		}
	}
	want, err := os.ReadFile("testdata/needs.txt")
	require.NoError(t, err)
	assert.Equal(t, string(want), b.String())
}

// TestChecksThatCompareEntriesNeedThemAll names the checks that say nothing
// where only some of the entries were read.
func TestChecksThatCompareEntriesNeedThemAll(t *testing.T) {
	s := survey(directory.AD, domain, user("a"))
	s.Partial = true
	var silent []string
	for _, sum := range run(t, s, nil, Options{}).Summary {
		if len(sum.NotLooked) > 0 && strings.Contains(sum.NotLooked[0], "only some were read") {
			silent = append(silent, sum.Check)
		}
	}
	assert.Equal(t, strings.Fields(`privileged-everyone group-empty group-loop policy-unlinked ou-empty dangling-reference value-variant duplicate-value
		returned-disabled no-person no-account extra-account match-unsure guessing-source unknown-name exemption-unused`), silent)
}

func TestEvidenceOfExemptionsAndEarlierIdentities(t *testing.T) {
	e := Exemption{Exemption: settings.Exemption{Match: settings.Match{Account: "gone"}, Reason: "because", Owner: "rosa"}, Until: asOf}
	assert.Equal(t, []Evidence{{"match", e.Match.String()}, {"reason", "because"}, {"owner", "rosa"}, {"until", "2026-11-23T12:00:00Z"}}, e.evidence())
	e.Until = time.Time{}
	assert.Len(t, e.evidence(), 3)
	r := run(t, survey(directory.AD, domain, user("a", "objectSid="+sid("S-1-5-21-1-2-3-1104"), "sIDHistory="+sid("S-1-5-21-9-9-9-7")+"|broken")), nil, Options{Checks: []string{"sid-history"}})
	require.Len(t, r.Findings, 1)
	assert.Equal(t, []Evidence{{"sIDHistory", "S-1-5-21-9-9-9-7; unreadable"}}, r.Findings[0].Evidence)
}

func TestWhichChecksRunOnlyWhereTheyAreAskedFor(t *testing.T) {
	var off []string
	for _, sum := range run(t, survey(directory.AD, domain, user("a")), nil, Options{}).Summary {
		if len(sum.NotLooked) > 0 && strings.HasPrefix(sum.NotLooked[0], "off unless") {
			off = append(off, sum.Check)
		}
	}
	assert.Equal(t, []string{"expiring", "password-expiring"}, off)
}

func TestSettingsNameAttributesThatTheAuditReads(t *testing.T) {
	set := settings.Defaults()
	set.Audit.Required = []string{"givenName", "nonsense", "more"}
	_, err := Run(survey(directory.AD, domain), set, Options{AsOf: asOf})
	assert.ErrorContains(t, err, `"nonsense" is not an attribute that the audit reads`)
}

func TestEarlierIdentitiesOfGroups(t *testing.T) {
	old := "sIDHistory=" + sid("S-1-5-21-9-9-9-7")
	r := run(t, survey(directory.AD, domain, user("a", "objectSid="+sid("S-1-5-21-1-2-3-1104")), entry("CN=crew,DC=x", "objectClass=group", "sAMAccountName=crew", "objectSid="+sid("S-1-5-21-1-2-3-1105"), old),
		entry("CN=own,DC=x", "objectClass=group", "sAMAccountName=own", "objectSid="+sid("S-1-5-32-544"), old)), nil, Options{Checks: []string{"sid-history"}})
	assert.Equal(t, []string{"crew"}, who(r, "sid-history"))
}

// Who is listed by a logon name is in the group too.
func TestDisabledPeopleInPosixGroups(t *testing.T) {
	s := survey(directory.OpenLDAP, entry("cn=p,dc=x", "objectClass=pwdPolicy", "pwdLockout=TRUE"), person("off", "pwdAccountLockedTime=000001010000Z"), person("also", "pwdAccountLockedTime=000001010000Z"), person("on"),
		entry("cn=crew,dc=x", "objectClass=posixGroup", "cn=crew", "gidNumber=7", "memberUid=off", "memberUid=on", "memberUid=nobody"), entry("cn=names,dc=x", "objectClass=groupOfNames", "cn=names", "member=uid=also,ou=people,dc=x"))
	s.DefaultPolicy = "cn=p,dc=x"
	r := run(t, s, nil, Options{Checks: []string{"disabled-entitled"}})
	assert.Equal(t, []string{"also", "off"}, who(r, "disabled-entitled"))
}
