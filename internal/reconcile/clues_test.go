package reconcile

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/roster"
)

// TestWhatEachClueSaysAndIsWorth holds all that speaks for and against one
// pair, with its bits, among a hundred others of which keys have told.
func TestWhatEachClueSaysAndIsWorth(t *testing.T) {
	for _, c := range []struct {
		name, person, account string
		want                  []string
	}{
		{"everything agrees", "4711|Quill|Ada|aquill@larkmoor.example|Lenses|2015-03-01||aquill|Optician|", "aquill employeeID=4711 givenName=Ada sn=Quill mail=aquill@larkmoor.example department=Lenses title=Optician whenCreated=20150310000000.0Z userPrincipalName=aquill@larkmoor.example",
			[]string{"person id 4711: 14.0", "mail aquill@larkmoor.example: 14.0", "logon name aquill: 14.0", "family name Quill: 7.0", "given name Ada: 7.0", "department Lenses: 6.0", "title Optician: 4.0", "sign-in name aquill@larkmoor.example: 2.0", "logon name aquill (as {given:1}{family}): 2.0", "start 2015-03-01/2015-03-10 (near the day the account was made): 1.3"}},
		{"everything differs", "4711|Quill|Ada|aquill@larkmoor.example|Lenses|2015-03-01||aquill|Optician|", "btern employeeID=99990 givenName=Bram sn=Tern mail=btern@larkmoor.example department=Dept1 title=Director whenCreated=20130310000000.0Z",
			[]string{"given name Ada/Bram: -9.0", "family name Quill/Tern: -5.0", "department Lenses/Dept1: -3.0", "start 2015-03-01/2013-03-10 (long after the account was made): -3.0", "title Optician/Director: -1.0", "mail aquill@larkmoor.example/btern@larkmoor.example: -0.5", "logon name aquill/btern: -0.5", "person id 4711/99990 (of another numbering): 0.0"}},
		{"nothing is known", "4711|Quill|Ada|||||||", "x",
			nil},
		{"an id with a typing error, short forms", "47112|Quill|Robert||Dept1||||Optician|", "x employeeID=47121 givenName=Bob sn=Quil title=Optician",
			[]string{"given name Robert/Bob (a short form): 5.7", "person id 47112/47121 (nearly the same): -5.0", "title Optician: 5.0", "family name Quill/Quil (nearly the same): 3.7"}},
		{"another numbering's id is too short for a typing error", "471|Quill|Robert|||||||", "x employeeID=472 givenName=R sn=Quill-Tern",
			[]string{"person id 471/472: -12.0", "family name Quill/Quill-Tern (in part): 5.7", "given name Robert/R (the initial): 2.5"}},
		{"another domain", "4711|Quill|Ada|aquill@larkmoor.example||||||", "x sn=Quill mail=aquill@elsewhere.example",
			[]string{"family name Quill: 7.0", "mail aquill@larkmoor.example/aquill@elsewhere.example (the same but for the domain): 7.0"}},
		{"the address begins with the logon name", "4711|Quill|Ada|aquill@larkmoor.example||||||", "aquill sn=Quill",
			[]string{"family name Quill: 7.0", "mail aquill@larkmoor.example/aquill (the logon name): 7.0", "logon name aquill (as {given:1}{family}): 2.0"}},
		{"an address of others too", "4711|Quill|Ada|cashbank0@larkmoor.example||||||", "x sn=Quill mail=clara@x.example proxyAddresses=smtp:cashbank0@larkmoor.example",
			[]string{"family name Quill: 7.0", "mail cashbank0@larkmoor.example/cashbank0@larkmoor.example (the same, as of others): 3.0"}},
		{"the roster's sign-in name", "4711|Quill|Ada|||||aq@larkmoor.example||", "x userPrincipalName=AQ@larkmoor.example",
			[]string{"sign-in name AQ@larkmoor.example: 2.0"}},
		{"another logon name", "4711|Quill|Ada|||||aq||", "x givenName=Ада",
			[]string{"given name Ada: 8.0", "logon name aq/x: -0.5"}},
		{"names in the other order", "4711|Quill|Ada|||||||", "x givenName=Quill sn=Ada",
			[]string{"names Quill, Ada/Ada, Quill (in the other order): 11.1"}},
		{"half in the other order", "4711|Quill|Robert|||||||", "x givenName=Quill sn=Bob",
			[]string{"names Quill, Robert/Bob, Quill (in the other order): 9.8"}},
		{"by the pattern, no names", "4711|Quill|Ada|||||||", "aquill",
			[]string{"logon name aquill (as {given:1}{family}): 11.2"}},
		{"by the pattern, with a number", "4711|Quill|Ada|||||||", "aquill7",
			[]string{"logon name aquill7 (as {given:1}{family}, with a number): 10.2"}},
		{"by the pattern, beside names", "4711|Quill|Ada|||||||", "aquill7 givenName=Ada sn=Quill",
			[]string{"family name Quill: 7.0", "given name Ada: 7.0", "logon name aquill7 (as {given:1}{family}, with a number): 1.0"}},
		{"started the year after", "4711|Quill|Ada|||2015-06-01||||", "x whenCreated=20150310000000.0Z",
			[]string{"start 2015-06-01/2015-03-10 (after the account was made): -1.5"}},
		{"started years after", "4711|Quill|Ada|||2019-06-01||||", "x whenCreated=20150310000000.0Z",
			[]string{"start 2019-06-01/2015-03-10 (long after the account was made): -3.0"}},
		{"started long before", "4711|Quill|Ada|||2010-06-01||||", "x whenCreated=20150310000000.0Z",
			[]string{"start 2010-06-01/2015-03-10 (before the account was made): -1.0"}},
		{"gone before it was made", "4711|Quill|Ada|||2010-06-01|2015-01-31|||", "x whenCreated=20150310000000.0Z",
			[]string{"left 2015-01-31/2015-03-10 (before the account was made): -8.0"}},
		{"gone just before it was made", "4711|Quill|Ada|||2010-06-01|2015-02-20|||", "x whenCreated=20150310000000.0Z",
			[]string{"start 2010-06-01/2015-03-10 (before the account was made): -1.0"}},
		{"a common department and a place", "4711|Quill|Ada||Dept1|||||", "x department=dept1 l=Nowhere",
			[]string{"department Dept1: 2.8"}},
		{"the right manager", "4711|Quill|Ada|||||||9000", "x manager=CN=cashbank0,OU=Staff,DC=larkmoor,DC=example",
			[]string{"manager 9000: 5.0"}},
		{"another manager", "4711|Quill|Ada|||||||9000", "x manager=CN=dbirchbank1,OU=Staff,DC=larkmoor,DC=example",
			[]string{"manager 9000/another: -1.0"}},
		{"a manager nobody knows", "4711|Quill|Ada|||||||8888", "x manager=CN=dbirchbank1,OU=Staff,DC=larkmoor,DC=example",
			nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.want, weighed(t, c.person, c.account))
		})
	}
}

// weighed writes the clues of a pair that stands in a crowd.
func weighed(t *testing.T, person, account string) (out []string) {
	t.Helper()
	lines, texts := crowd(100)
	r := match(t, people(t, append(lines, person)...), accounts(append(texts, account)...), Options{})
	for _, c := range r.Explain(100, r.matcher.accounts[100]) {
		out = append(out, fmt.Sprintf("%s: %.1f", strings.TrimSpace(c.String()), c.Bits))
	}
	return out
}

func TestWhatToCallAPerson(t *testing.T) {
	for _, c := range []struct {
		fields map[roster.Field]string
		want   string
	}{
		{map[roster.Field]string{roster.Family: "Quill", roster.Given: "Ada", roster.FullName: "A. Quill"}, "Quill, Ada"},
		{map[roster.Field]string{roster.Family: "Quill", roster.FullName: "A. Quill"}, "A. Quill"},
		{map[roster.Field]string{roster.Family: "Quill"}, "Quill"},
		{map[roster.Field]string{roster.Given: "Ada", roster.Mail: "ada@larkmoor.example"}, "Ada"},
		{map[roster.Field]string{roster.Logon: "ada", roster.PersonID: "17"}, "ada"},
	} {
		var p roster.Person
		for field, value := range c.fields {
			p.Values[field] = value
		}
		assert.Equal(t, c.want, FullName(&p))
	}
	assert.Empty(t, FullName(&roster.Person{}))
}
