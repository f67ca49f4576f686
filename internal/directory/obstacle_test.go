package directory

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// surveyOf makes a survey of a few entries.
func surveyOf(d *Dialect, entries ...*Entry) *Survey {
	s := NewSurvey(d)
	p := s.NewPart(len(entries), AttrSet{})
	for _, e := range entries {
		p.Add(d, e)
	}
	s.Merge(p)
	return s
}

func entryOf(dn string, pairs ...string) *Entry {
	e := &Entry{DN: dn}
	for i := 0; i < len(pairs); i += 2 {
		e.Set(pairs[i], append(e.Get(pairs[i]), pairs[i+1])...)
	}
	return e
}

var noon = time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)

// obstacles are what keeps the one account of a survey from signing in.
func obstacles(s *Survey) []string {
	out := []string{}
	for a := range s.Accounts.All() {
		for _, o := range s.Obstacles(a, noon) {
			text := o.What + " by " + o.By.String()
			if o.Until.Known() {
				text += " until " + o.Until.Time().Format(time.TimeOnly)
			}
			if o.Likely {
				text += ", likely"
			}
			out = append(out, text)
		}
	}
	return out
}

func TestObstaclesAD(t *testing.T) {
	ticks := func(at time.Time) string { return FormatFileTime(at) }
	domain := func(lock, age string) *Entry {
		return entryOf("DC=larkmoor,DC=example", "objectClass", "domainDNS", "objectGUID", "0000000000000000", "lockoutDuration", lock, "maxPwdAge", age)
	}
	halfHour, ninetyDays := "-18000000000", "-77760000000000"
	for name, c := range map[string]struct {
		domain *Entry
		pairs  []string
		want   []string
	}{
		"healthy":               {domain(halfHour, ninetyDays), []string{"userAccountControl", "512", "pwdLastSet", ticks(noon.AddDate(0, 0, -89))}, []string{}},
		"disabled":              {domain(halfHour, "0"), []string{"userAccountControl", "514"}, []string{"disabled by userAccountControl"}},
		"expired":               {domain(halfHour, "0"), []string{"userAccountControl", "512", "accountExpires", ticks(noon)}, []string{"expired by accountExpires"}},
		"expires in a moment":   {domain(halfHour, "0"), []string{"userAccountControl", "512", "accountExpires", ticks(noon.Add(time.Second))}, []string{}},
		"locked":                {domain(halfHour, "0"), []string{"userAccountControl", "512", "lockoutTime", ticks(noon.Add(-10 * time.Minute))}, []string{"locked out by lockoutTime until 12:20:00"}},
		"the lock is over":      {domain(halfHour, "0"), []string{"userAccountControl", "512", "lockoutTime", ticks(noon.Add(-30 * time.Minute))}, []string{}},
		"locked for good":       {domain("0", "0"), []string{"userAccountControl", "512", "lockoutTime", ticks(noon.AddDate(0, 0, -9))}, []string{"locked out by lockoutTime"}},
		"nobody knows how long": {domain("", "0"), []string{"userAccountControl", "512", "lockoutTime", ticks(noon.AddDate(0, 0, -9))}, []string{"locked out by lockoutTime, likely"}},
		"must change":           {domain(halfHour, ninetyDays), []string{"userAccountControl", "512", "pwdLastSet", "0"}, []string{"password to be changed by pwdLastSet"}},
		"password expired":      {domain(halfHour, ninetyDays), []string{"userAccountControl", "512", "pwdLastSet", ticks(noon.AddDate(0, 0, -90))}, []string{"password expired by pwdLastSet"}},
		"it never expires":      {domain(halfHour, ninetyDays), []string{"userAccountControl", "66048", "pwdLastSet", ticks(noon.AddDate(0, 0, -900))}, []string{}},
		"the server's own word": {domain(halfHour, ninetyDays), []string{"userAccountControl", "512", "pwdLastSet", ticks(noon.AddDate(0, 0, -900)), "msDS-UserPasswordExpiryTimeComputed", ticks(noon.Add(time.Hour))}, []string{}},
		"everything at once": {domain(halfHour, ninetyDays), []string{"userAccountControl", "514", "accountExpires", ticks(noon.AddDate(0, 0, -1)), "lockoutTime", ticks(noon.Add(-time.Minute)), "pwdLastSet", "0"},
			[]string{"disabled by userAccountControl", "expired by accountExpires", "locked out by lockoutTime until 12:29:00", "password to be changed by pwdLastSet"}},
	} {
		account := entryOf("CN=Ada,DC=larkmoor,DC=example", append([]string{"objectClass", "user", "objectGUID", "0000000000000001", "sAMAccountName", "ada"}, c.pairs...)...)
		assert.Equal(t, c.want, obstacles(surveyOf(AD, c.domain, account)), name)
	}
}

func TestObstaclesElsewhere(t *testing.T) {
	policy := entryOf("cn=default,dc=x", "objectClass", "pwdPolicy", "pwdLockout", "TRUE", "pwdLockoutDuration", "600")
	person := func(pairs ...string) *Entry {
		return entryOf("uid=ada,dc=x", append([]string{"objectClass", "inetOrgPerson", "uid", "ada", "pwdPolicySubentry", "cn=default,dc=x"}, pairs...)...)
	}
	for name, c := range map[string]struct {
		entry *Entry
		want  []string
	}{
		"healthy":     {person(), []string{}},
		"locked":      {person("pwdAccountLockedTime", "20261120115500Z"), []string{"locked out by pwdAccountLockedTime until 12:05:00"}},
		"disabled":    {person("pwdAccountLockedTime", PermanentLockValue), []string{"disabled by pwdAccountLockedTime"}},
		"reset":       {person("pwdReset", "TRUE"), []string{"password to be changed by pwdReset"}},
		"not begun":   {person("pwdStartTime", "20261201000000Z"), []string{"not begun by pwdStartTime until 00:00:00"}},
		"ended":       {person("pwdEndTime", "20261101000000Z"), []string{"disabled by pwdEndTime"}},
		"shadow date": {person("shadowExpire", "20000"), []string{"expired by shadowExpire"}},
	} {
		s := surveyOf(OpenLDAP, policy, c.entry)
		assert.Equal(t, c.want, obstacles(s), name)
	}
	locked := entryOf("uid=ada,dc=x", "objectClass", "inetOrgPerson", "uid", "ada", "nsUniqueId", "1", "nsAccountLock", "true", "accountUnlockTime", "20261120123000Z")
	assert.Equal(t, []string{"disabled by nsAccountLock", "locked out by accountUnlockTime until 12:30:00"}, obstacles(surveyOf(NS389, locked)))
}

func TestStateSaysItInAWord(t *testing.T) {
	for flags, want := range map[string]string{"512": "enabled", "514": "disabled", "": "unknown"} {
		e := entryOf("CN=Ada,DC=x", "objectClass", "user", "objectGUID", "0000000000000001", "sAMAccountName", "ada")
		if flags != "" {
			e.Set("userAccountControl", flags)
		}
		for a := range surveyOf(AD, e).Accounts.All() {
			assert.Equal(t, want, surveyOf(AD, e).State(a, noon), flags)
		}
	}
}
