package directory

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// told writes what is hidden where.
func told(s *Survey) (out []string) {
	for _, h := range s.HiddenAttributes(AttrSet{}) {
		out = append(out, fmt.Sprintf("%s: %s of %d %s", LeafValue(h.Place), h.Attr, h.N, h.Kind))
	}
	for _, dn := range s.Hiding() {
		out = append(out, LeafValue(dn)+": entries")
	}
	return out
}

// crowdOf makes so many users at a place, with the same lines each.
func crowdOf(place string, n int, lines ...string) (all [][]string) {
	for i := range n {
		all = append(all, append([]string{fmt.Sprintf("CN=%s%d,OU=%s,DC=x", place, i, place), "objectClass: user"}, lines...))
	}
	return all
}

func settled(t *testing.T, d *Dialect, parts ...[][]string) *Survey {
	t.Helper()
	s := NewSurvey(d)
	for _, entries := range parts {
		s.Merge(partFrom(t, d, entries...))
	}
	s.Settle()
	return s
}

func TestWhatOnePlaceNeverShowsIsHiddenThere(t *testing.T) {
	shown := []string{"userAccountControl: 512", "lastLogon: 1", "sAMAccountName: x"}
	for name, c := range map[string]struct {
		parts [][][]string
		want  []string
	}{
		"all show it":                        {[][][]string{crowdOf("Open", 4, shown...), crowdOf("Closed", 3, shown...)}, nil},
		"three do not":                       {[][][]string{crowdOf("Open", 4, shown...), crowdOf("Closed", 3, shown[0])}, []string{"Closed: lastLogon of 3 user"}},
		"two are too few":                    {[][][]string{crowdOf("Open", 4, shown...), crowdOf("Closed", 2, shown[0])}, nil},
		"two and one, read apart":            {[][][]string{crowdOf("Closed", 2, shown[0]), crowdOf("Open", 4, shown...), {{"CN=z,OU=Closed,DC=x", "objectClass: user", shown[0]}}}, []string{"Closed: lastLogon of 3 user"}},
		"there are no others":                {[][][]string{crowdOf("Closed", 3, shown[0])}, nil},
		"one of them does":                   {[][][]string{crowdOf("Open", 4, shown...), crowdOf("Closed", 3, shown[0]), {{"CN=z,OU=Closed,DC=x", "objectClass: user", shown[1]}}}, nil},
		"half of the others do":              {[][][]string{crowdOf("Open", 2, shown...), crowdOf("Other", 2, shown[0]), crowdOf("Closed", 3, shown[0])}, []string{"Closed: lastLogon of 3 user"}},
		"less than half of the others do":    {[][][]string{crowdOf("Open", 2, shown...), crowdOf("Other", 3, shown[0]), crowdOf("Closed", 3, shown[0])}, nil},
		"nobody else does":                   {[][][]string{crowdOf("Open", 4, shown[0]), crowdOf("Closed", 3, shown[0])}, nil},
		"those elsewhere are another kind":   {[][][]string{crowdOf("Open", 4, append(shown, "objectClass: computer")...), crowdOf("Closed", 3, shown[0])}, nil},
		"built-in ones are like no other":    {[][][]string{crowdOf("Open", 4, shown...), crowdOf("Closed", 3, shown[0], "isCriticalSystemObject: TRUE")}, nil},
		"what says nothing by being absent":  {[][][]string{crowdOf("Open", 4, append(shown, "telephoneNumber: 1")...), crowdOf("Closed", 3, shown...)}, nil},
		"what service accounts do not have":  {[][][]string{crowdOf("Open", 4, append(shown, "givenName: A")...), crowdOf("Closed", 3, shown...)}, nil},
		"a state that others tell":           {[][][]string{crowdOf("Open", 4, shown...), crowdOf("Closed", 3, shown[1])}, []string{"Closed: userAccountControl of 3 user"}},
		"whoever does not say what it is of": {[][][]string{crowdOf("Open", 4, shown...), {{"CN=z,OU=Closed,DC=x", "cn: z"}}}, nil},
	} {
		got := told(settled(t, AD, c.parts...))
		assert.Equal(t, c.want, got, name)
	}
}

func TestAnswersThatRestOnWhatIsHidden(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	user := func(lines ...string) *Account {
		e := written(t, "CN=a,DC=x", append([]string{"objectClass: user"}, lines...)...)
		a := AD.Account(e)
		return &a
	}
	s := NewSurvey(AD)
	s.Domain.LockoutDuration = LockDuration{Known: true}
	hidden := func(names ...string) string { return AttrHidden.String() + ": " + strings.Join(names, " ") }
	for _, c := range []struct {
		what    string
		account *Account
		want    string // disabled, expired, locked; state
	}{
		{"nothing is hidden", user("userAccountControl: 512"), "no no no enabled"},
		{"the flags", user(hidden("userAccountControl")), "cannot tell no no unknown"},
		{"the lock", user("userAccountControl: 512", hidden("lockoutTime")), "no no cannot tell unknown"},
		{"the expiry", user("userAccountControl: 512", hidden("accountExpires")), "no cannot tell no unknown"},
		{"the lock of a disabled one", user("userAccountControl: 514", hidden("lockoutTime")), "yes no cannot tell disabled"},
		{"a lock that shows", user("userAccountControl: 512", "lockoutTime: "+FormatFileTime(now.Add(-time.Hour))), "no no yes locked out"},
		{"something else", user("userAccountControl: 512", hidden("mail")), "no no no enabled"},
		{"whether the password must be changed", user("userAccountControl: 512", hidden("pwdLastSet")), "no no no unknown"},
	} {
		var words []string
		for _, answer := range []Answer{s.Disabled(c.account, now), s.Expired(c.account, now), s.LockedOut(c.account, now)} {
			switch {
			case answer.Hidden:
				require.True(t, answer.Likely && !answer.Yes)
				words = append(words, "cannot tell")
			case answer.Yes:
				words = append(words, "yes")
			default:
				words = append(words, "no")
			}
		}
		assert.Equal(t, c.want, strings.Join(append(words, s.State(c.account, now)), " "), c.what)
	}
}

func TestWhereEntriesAreHidden(t *testing.T) {
	domain := []string{"DC=x", "objectClass: domainDNS"}
	unit := func(name string, lines ...string) []string {
		return append([]string{"OU=" + name + ",DC=x", "objectClass: organizationalUnit"}, lines...)
	}
	for name, c := range map[string]struct {
		entries [][]string
		want    []string
		units   int
	}{
		"it says so":                           {[][]string{domain, unit("a", AttrHidesBelow.String()+": TRUE")}, []string{"a: entries"}, 1},
		"it has more than are seen":            {[][]string{domain, unit("a", "numSubordinates: 2"), {"CN=b,OU=a,DC=x", "objectClass: user"}}, []string{"a: entries"}, 1},
		"it has as many as are seen":           {[][]string{domain, unit("a", "numSubordinates: 1"), {"CN=b,OU=a,DC=x", "objectClass: user"}}, nil, 0},
		"it has some and none is seen":         {[][]string{domain, unit("a", "hasSubordinates: TRUE")}, []string{"a: entries"}, 1},
		"it has none":                          {[][]string{domain, unit("a", "hasSubordinates: FALSE", "numSubordinates: 0")}, nil, 0},
		"an entry does not say what it is":     {[][]string{domain, unit("a"), {"CN=b,OU=a,DC=x", AttrHidden.String() + ": objectClass"}}, []string{"a: entries"}, 1},
		"a container that holds no units":      {[][]string{domain, {"CN=c,DC=x", "objectClass: container", AttrHidesBelow.String() + ": TRUE"}}, []string{"c: entries"}, 0},
		"the domain's own affairs":             {[][]string{domain, {"CN=c,CN=System,DC=x", "objectClass: container", AttrHidesBelow.String() + ": TRUE"}}, nil, 0},
		"one of its own places, not even told": {[][]string{domain, {"CN=NTDS Quotas,DC=x", AttrHidden.String() + ": objectClass"}}, nil, 0},
	} {
		s := settled(t, AD, c.entries)
		assert.Equal(t, c.want, told(s), name)
		assert.Len(t, s.HidingUnits(), c.units, name)
		assert.Zero(t, s.NoClass, name)
	}
	s := settled(t, AD, [][]string{domain, {"CN=c,CN=System,DC=x", "objectClass: container", AttrHidesBelow.String() + ": TRUE"}})
	assert.Equal(t, []string{"CN=c,CN=System,DC=x"}, s.HidingOwn())
	assert.True(t, s.HidesBelow(KeyOf("cn=c,cn=system,dc=x")))
}

func TestAGroupThatHidesItsMembersIsIncomplete(t *testing.T) {
	s := settled(t, AD, [][]string{{"CN=g,DC=x", "objectClass: group", AttrHidden.String() + ": member"}, {"CN=h,DC=x", "objectClass: group", AttrHidden.String() + ": whenCreated"}})
	require.Len(t, s.Groups, 2)
	assert.True(t, s.Groups[0].Incomplete)
	assert.False(t, s.Groups[1].Incomplete)
}

func TestAnEntryKeepsWhatIsHiddenOfIt(t *testing.T) {
	e := written(t, "CN=a,DC=x", "objectClass: user", "mail: a@x")
	e.Hide(Attrs(AttrMail, AttrLastLogon), true)
	a := AD.Account(e)
	assert.Equal(t, Attrs(AttrLastLogon), a.Hidden, "what shows is not hidden")
	assert.True(t, e.Has(AttrHidesBelow.String()))
	e = written(t, "CN=a,DC=x", "objectClass: user")
	e.Hide(AttrSet{}, false)
	assert.Len(t, e.Attrs, 1)
	for _, mark := range []AttrID{AttrHidden, AttrHidesBelow, AttrLatestLogon} {
		assert.True(t, mark.OwnMark())
	}
	assert.False(t, AttrMail.OwnMark())
}

// What is told by rights is not guessed at besides.
func TestSightCountsOnlyWhereRightsAreNotTold(t *testing.T) {
	s := NewSurvey(AD)
	s.RightsRead = true
	s.Merge(partFrom(t, AD, append(crowdOf("Open", 4, "lastLogon: 1"), crowdOf("Closed", 3, "cn: x")...)...))
	s.Settle()
	assert.Empty(t, told(s))
	s.RightsRead = false
	s.Settle()
	assert.Equal(t, []string{"Closed: lastLogon of 3 user"}, told(s))
	e := written(t, "CN=new,OU=Closed,DC=x", "objectClass: user")
	a := s.Account(e)
	assert.True(t, a.Hidden.Has(AttrLastLogon), "one that is read later is judged alike")
}

// OpenLDAP forgets sign-ins when a password changes.
func TestWhereSignInsAreForgotten(t *testing.T) {
	made := time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)
	at := func(after time.Duration) Moment { return MomentOf(made.Add(after), AttrPwdChangedTime) }
	created := MomentOf(made, AttrCreateTimestamp)
	for _, c := range []struct {
		what         string
		dialect      *Dialect
		created, set Moment
		want         bool
	}{
		{"changed later", OpenLDAP, created, at(time.Hour), true},
		{"set by those who made it", OpenLDAP, created, at(time.Minute), false},
		{"just behind that", OpenLDAP, created, at(time.Minute + time.Second), true},
		{"nobody knows when it was made", OpenLDAP, 0, at(0), true},
		{"no password", OpenLDAP, created, 0, false},
		{"another server", NS389, created, at(time.Hour), false},
	} {
		a := Account{Created: c.created, PasswordSet: c.set}
		assert.Equal(t, c.want, NewSurvey(c.dialect).SignInForgotten(&a).Known(), c.what)
	}
}

func TestWhetherAnAccountIsEnabledMayBeHidden(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		lines []string
		want  Answer
	}{
		{[]string{"userAccountControl: 512", AttrHidden.String() + ": accountExpires"}, Answer{Yes: true, Likely: true, Hidden: true, By: AttrUserAccountControl}},
		{[]string{"userAccountControl: 514", AttrHidden.String() + ": accountExpires"}, Answer{Likely: true, By: AttrUserAccountControl}},
		{[]string{"accountExpires: 1", AttrHidden.String() + ": userAccountControl"}, Answer{Likely: true, By: AttrUserAccountControl}},
		{[]string{"userAccountControl: 512"}, Answer{Yes: true, By: AttrUserAccountControl}},
	} {
		a := AD.Account(written(t, "CN=a,DC=x", append([]string{"objectClass: user"}, c.lines...)...))
		assert.Equal(t, c.want, NewSurvey(AD).Enabled(&a, now), "%v", c.lines)
	}
}

// Members may be hidden where what they say themselves is not.
func TestWhoSaysToBeAMemberIsOne(t *testing.T) {
	member := func(n int, groups ...string) []string {
		lines := []string{fmt.Sprintf("CN=m%d,DC=x", n), "objectClass: user"}
		for _, g := range groups {
			lines = append(lines, "memberOf: cn="+g+", dc=x")
		}
		return lines
	}
	s := settled(t, AD, [][]string{member(1, "Empty", "Whole"), {"CN=Whole,DC=x", "objectClass: group", "member: CN=m1,DC=x", "member: CN=m3,DC=x"}},
		[][]string{member(2, "Part"), {"CN=Empty,DC=x", "objectClass: group"}, {"CN=Part,DC=x", "objectClass: group", "member: CN=m1,DC=x"}, member(3, "Part", "Elsewhere")})
	assert.Equal(t, []string{"Empty", "Part"}, s.Fewer)
	incomplete := map[string]bool{}
	for i := range s.Groups {
		incomplete[s.Groups[i].Name()] = s.Groups[i].Incomplete
	}
	assert.Equal(t, map[string]bool{"Empty": true, "Part": true, "Whole": false}, incomplete)
}

// An estimate tells that there is something, not how much.
func TestAnEstimateOfWhatStandsBelowIsBelievedForSomething(t *testing.T) {
	ou := func(name, about string) []string {
		return []string{"OU=" + name + ",DC=x", "objectClass: organizationalUnit", "msDS-Approx-Immed-Subordinates: " + about}
	}
	s := settled(t, AD, [][]string{ou("Empty", "0"), ou("Veiled", "6"), ou("Shown", "9"), {"CN=a,OU=Shown,DC=x", "objectClass: user"}})
	assert.Equal(t, []string{"Veiled: entries"}, told(s))
}
