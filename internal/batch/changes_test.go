package batch

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
)

func TestTheLDIFOfAMoveSaysWhatItLeaves(t *testing.T) {
	move := func(d *directory.Dialect, also ...Touched) []string {
		b := &Batch{Lines: []Line{{N: 1, DN: "cn=ada,ou=a,dc=x", Actions: []Action{{Name: Move, RDN: "cn=ada", To: "ou=b,dc=x"}}, Also: also}}}
		b.Identity.Dialect = d.Name
		do, undo, err := b.LDIFChanges(Doomed{})
		require.NoError(t, err)
		var said []string
		for _, c := range append(do, undo...) {
			if c.Change != nil {
				said = append(said, c.Change.Type)
			} else {
				said = append(said, c.Remark)
			}
		}
		return said
	}
	manager := Touched{DN: "cn=bram,dc=x", How: "manager"}
	const leaves = `a server without referential integrity leaves the old name in manager of cn=bram,dc=x; "yardbroom apply" corrects that, these records do not`
	assert.Equal(t, []string{leaves, "modrdn", leaves, "modrdn"}, move(directory.OpenLDAP, manager))
	assert.Equal(t, []string{"modrdn", "modrdn"}, move(directory.OpenLDAP), "nobody names it")
	assert.Equal(t, []string{"modrdn", "modrdn"}, move(directory.AD, manager), "the server follows")
	assert.Contains(t, move(directory.NS389, Touched{DN: "cn=y,cn=ada,ou=a,dc=x", How: MovesAlong})[0], "what names the 1 entries that move along")
}

func TestWhatIsDeletedIsKeptWholeForOtherTools(t *testing.T) {
	im := &Image{DN: "CN=Ada,DC=x", Attrs: []ImageAttr{{"objectClass", []Octets{"user"}}, {"sAMAccountName", []Octets{"ada"}}, {"userAccountControl", []Octets{"512"}},
		{"objectSid", []Octets{"\x01\xff"}}, {"lastLogon", []Octets{"7"}}}, References: []Reference{{DN: "CN=Crew,DC=x", Attr: "member", Value: "CN=Ada,DC=x"}}}
	var out bytes.Buffer
	require.NoError(t, WriteLDIF(&out, "Ada", im.Everything(directory.AD)))
	assert.Equal(t, `version: 1

# Ada

# objectSid: base64:Af8=

# lastLogon: 7

dn: CN=Ada,DC=x
changetype: add
objectClass: user
sAMAccountName: ada
userAccountControl: 514

dn: CN=Crew,DC=x
changetype: modify
add: member
member: CN=Ada,DC=x
-
`, out.String())
}

func TestADescriptionIsNotMadeEmpty(t *testing.T) {
	e := &directory.Entry{DN: "CN=Ada,DC=x"}
	line := &Line{Reason: "named"}
	assert.ErrorContains(t, (&Stager{}).describe(&Candidate{Entry: *e}, &Order{Text: " {old} "}, line), `its description would be empty: nothing is known of it for " {old} "`)
	assert.NoError(t, (&Stager{}).describe(&Candidate{Entry: *e}, &Order{Text: "{reason}", Why: "left"}, line))
}

func TestADescriptionReadsAsASentence(t *testing.T) {
	day := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	stale := &audit.Finding{Check: "stale", Days: 410}
	for _, c := range []struct{ text, old, want string }{
		{"{date}: {reason}", "", "2026-11-30: no sign-in for 410 days"},
		{"{reason}; was: {old}", "plate scanner", "no sign-in for 410 days; was: plate scanner"},
		{"{reason}; was: {old}", "", "no sign-in for 410 days"},
		{"{reason} ({old})", "", "no sign-in for 410 days"},
		{"{date}: {reason} was: {old}", "", "2026-11-30: no sign-in for 410 days"},
		{"parked {date}", "x", "parked 2026-11-30"},
	} {
		e := directory.Entry{DN: "CN=Ada,DC=x"}
		if c.old != "" {
			e.Set("description", c.old)
		}
		line := &Line{Reason: "stale 410 days (lastLogon 2025-10-16)", Check: "stale"}
		require.NoError(t, (&Stager{Catalog: audit.Catalog(audit.Checks)}).describe(&Candidate{Entry: e, Finding: stale}, &Order{Text: c.text, At: day}, line), c.text)
		assert.Equal(t, c.want, string(line.Actions[0].Put[0].New[0]), c.text)
	}
}
