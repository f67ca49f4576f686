package audit

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

// TestNotesSayWhatWasMissing holds what a reader has to know of a survey.
func TestNotesSayWhatWasMissing(t *testing.T) {
	controller := func(host string) []directory.Entry {
		dn := "CN=" + host + ",CN=Servers,DC=x"
		e := entry(dn, "objectClass=server", "dNSHostName="+host)
		if host == "nameless" {
			e = entry(dn, "objectClass=server")
		}
		return []directory.Entry{e, entry("CN=NTDS Settings,"+dn, "objectClass=nTDSDSA")}
	}
	two := append(append([]directory.Entry{domain, user("a")}, controller("dc1")...), controller("nameless")...)
	some := entry("CN=Some,DC=x", "objectClass=group", "objectSid="+sid("S-1-5-32-551"))
	some.Set("member;range=0-0", "CN=a")
	open := survey(directory.OpenLDAP, person("a"))
	for name, c := range map[string]struct {
		survey *directory.Survey
		change func(s *directory.Survey)
		want   []string
	}{
		"nothing": {survey(directory.AD, domain, user("a")), nil, nil},
		"one of each": {survey(directory.AD, domain, user("a"), entry("CN=b,DC=x", "cn=b")), func(s *directory.Survey) {
			s.Broken, s.Gaps = 1, directory.Gaps{Referrals: 1, Outside: 1, Twice: 1}
		}, []string{"one entry shows no objectClass; nothing can be said of it", "one record could not be read and was left out", "one entry that the server gave stands outside the base and was left out",
			"one entry came twice, so something moved while the rest was read: what follows may not be all", "one reference to another server was not followed"}},
		"two of each": {survey(directory.AD, domain, user("a"), entry("CN=b,DC=x", "cn=b"), entry("CN=c,DC=x", "cn=c")), func(s *directory.Survey) {
			s.Broken, s.Gaps = 2, directory.Gaps{Referrals: 2, Outside: 2, Twice: 2}
		}, []string{"2 entries show no objectClass; nothing can be said of them", "2 records could not be read and were left out", "2 entries that the server gave stand outside the base and were left out",
			"2 entries came twice, so something moved while the rest was read: what follows may not be all", "2 references to other servers were not followed"}},
		"a server that is silent": {survey(directory.AD, two...), func(s *directory.Survey) {
			s.Asked, s.Silent, s.SilentWhy = []string{"dc1"}, []string{"dc2"}, []string{"no answer"}
		}, []string{"dc2 did not tell its sign-ins, so later ones may be known there: no answer"}},
		"a server that was not asked":    {survey(directory.AD, two...), func(s *directory.Survey) { s.Asked = []string{"DC1"} }, []string{"not asked for sign-ins of their own: a server without a name (not among the yard's servers, or to be avoided)"}},
		"every server was asked":         {survey(directory.AD, append([]directory.Entry{domain, user("a")}, controller("dc1")...)...), func(s *directory.Survey) { s.Asked = []string{"dc1"} }, nil},
		"a file says nothing of servers": {survey(directory.AD, two...), nil, nil},
		"nobody is disabled":             {open, nil, []string{"no user shows pwdAccountLockedTime or pwdStartTime or pwdEndTime: that all are enabled is assumed, so findings that need it are likely, not sure"}},
		"somebody is":                    {survey(directory.OpenLDAP, person("a"), person("b", "pwdAccountLockedTime=000001010000Z")), nil, nil},
		"nobody is there":                {survey(directory.OpenLDAP, entry("dc=x", "objectClass=domain")), nil, nil},
		"half a list of administrators": {survey(directory.AD, realm, admins(), group("Domain Admins", 512), some), nil,
			[]string{"the members of Some were not read whole, so more accounts than these may be privileged"}},
	} {
		if c.change != nil {
			c.change(c.survey)
		}
		assert.Equal(t, c.want, run(t, c.survey, nil, Options{Checks: []string{"disabled"}}).Notes, name)
	}
}

func TestAFindingOnAnExemptionNamesItsPlace(t *testing.T) {
	var all []Exemption
	for _, m := range []settings.Match{{DN: "CN=gone,DC=x"}, {Subtree: "OU=Gone,DC=x"}, {Account: "gone"}} {
		all = append(all, Exemption{Exemption: settings.Exemption{Match: m, Reason: "because", Owner: "rosa"}})
	}
	var places []string
	for _, f := range run(t, survey(directory.AD, domain, user("a")), nil, Options{Checks: []string{"exemption-unused"}, Exemptions: all}).Findings {
		places = append(places, f.DN)
	}
	assert.ElementsMatch(t, []string{"CN=gone,DC=x", "OU=Gone,DC=x", ""}, places)
}
