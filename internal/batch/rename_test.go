package batch

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
)

// planned writes a plan as "what: old → new", one a change.
func planned(d *directory.Dialect, e *directory.Entry, n NewName) ([]string, error) {
	a := d.Account(e)
	p := &renaming{dialect: d, entry: e, account: &a, wanted: n}
	if err := p.plan(); err != nil {
		return nil, err
	}
	var out []string
	for _, m := range p.mods {
		c := ChangeOf(m)
		out = append(out, c.What+": "+c.Old+" → "+c.New)
	}
	if p.rdn != "" {
		out = append(out, "name: "+p.rdn)
	}
	return out, nil
}

func TestWhatFollowsFromANewName(t *testing.T) {
	ada := func(more ...string) *directory.Entry {
		return entry("CN=Ada Quill,OU=Staff,DC=x", append([]string{"objectClass=user", "sAMAccountName=aquill", "givenName=Ada", "sn=Quill", "displayName=Ada Quill", "mail=ada.quill@x.example", "userPrincipalName=aquill@x.example"}, more...)...)
	}
	for _, c := range []struct {
		name string
		d    *directory.Dialect
		e    *directory.Entry
		n    NewName
		want []string
	}{
		{"family", directory.AD, ada(), NewName{Family: "Tern"}, []string{"sn: Quill → Tern", "displayName: Ada Quill → Ada Tern", "userPrincipalName: aquill@x.example → atern@x.example", "mail: ada.quill@x.example → ada.tern@x.example",
			"proxyAddresses: (none) → SMTP:ada.tern@x.example; smtp:ada.quill@x.example", "name: CN=Ada Tern"}},
		{"logon", directory.AD, ada(), NewName{Logon: "atern"}, []string{"userPrincipalName: aquill@x.example → atern@x.example", "sAMAccountName: aquill → atern"}},
		{"an address that stays", directory.AD, ada("proxyAddresses=SMTP:ada.quill@x.example", "proxyAddresses=smtp:ada@x.example", "proxyAddresses=x500:/o=Larkmoor"), NewName{Family: "Tern", Mail: "ada@x.example"},
			[]string{"sn: Quill → Tern", "displayName: Ada Quill → Ada Tern", "userPrincipalName: aquill@x.example → atern@x.example", "mail: ada.quill@x.example → ada@x.example",
				"proxyAddresses: SMTP:ada.quill@x.example; smtp:ada@x.example; x500:/o=Larkmoor → SMTP:ada@x.example; smtp:ada.quill@x.example; x500:/o=Larkmoor", "name: CN=Ada Tern"}},
		{"the form of the display name", directory.AD, entry("CN=QUILL,DC=x", "objectClass=user", "sAMAccountName=q", "givenName=Ada", "sn=Quill", "displayName=Quill, Ada (Archive)"), NewName{Family: "Tern", Given: "Ida"},
			[]string{"givenName: Ada → Ida", "sn: Quill → Tern", "displayName: Quill, Ada (Archive) → Tern, Ida (Archive)", `name: CN=Tern\, Ida (Archive)`}},
		{"letters an address cannot have stay out of it", directory.AD, ada(), NewName{Family: "Соколова"}, []string{"sn: Quill → Соколова", "displayName: Ada Quill → Ada Соколова", "name: CN=Ada Соколова"}},
		{"what is kept", directory.AD, ada(), NewName{Family: "Tern", KeepMail: true, KeepPrincipal: true, KeepDisplay: true}, []string{"sn: Quill → Tern"}},
		{"both names", directory.AD, entry("CN=q,DC=x", "objectClass=user", "sAMAccountName=quill.a", "givenName=Ada Mae", "sn=O'Quill", "mail=oquilla@x.example", "userPrincipalName=x17@x.example"), NewName{Given: "Ida", Family: "Van Tern"},
			[]string{"givenName: Ada Mae → Ida", "sn: O'Quill → Van Tern", "mail: oquilla@x.example → vanterni@x.example", "proxyAddresses: (none) → SMTP:vanterni@x.example; smtp:oquilla@x.example", "name: CN=Ida Van Tern"}},
		{"nothing new", directory.AD, ada(), NewName{Family: "Quill", Given: "Ada"}, nil},
		{"half done before", directory.AD, ada("x=y"), NewName{Display: "Ada Tern"}, []string{"displayName: Ada Quill → Ada Tern", "name: CN=Ada Tern"}},
		{"named by uid", directory.OpenLDAP, entry("uid=aquill,dc=x", "objectClass=inetOrgPerson", "uid=aquill", "cn=Ada Quill", "sn=Quill", "givenName=Ada", "displayName=Ada Quill", "mail=aquill@x.example"), NewName{Family: "Tern", Logon: "atern"},
			[]string{"sn: Quill → Tern", "displayName: Ada Quill → Ada Tern", "mail: aquill@x.example → atern@x.example; aquill@x.example", "cn: Ada Quill → Ada Tern", "name: uid=atern"}},
		{"named by cn", directory.NS389, entry("cn=Ada Quill,dc=x", "objectClass=inetOrgPerson", "uid=aquill", "cn=Ada Quill", "sn=Quill", "givenName=Ada"), NewName{Family: "Tern"},
			[]string{"sn: Quill → Tern", "name: cn=Ada Tern"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := planned(c.d, c.e, c.n)
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
}

func TestWhatKeepsTheOldNameIsSaid(t *testing.T) {
	e := entry("CN=Ada Quill,DC=x", "objectClass=user", "sAMAccountName=aquill", "givenName=Ada", "sn=Quill", "mail=aquill@x.example", "userPrincipalName=ada@x.example")
	a := directory.AD.Account(e)
	p := &renaming{dialect: directory.AD, entry: e, account: &a, wanted: NewName{Family: "Tern", KeepMail: true}}
	require.NoError(t, p.plan())
	assert.Equal(t, []string{"the logon name stays aquill; --logon atern would make it follow", "the mail address stays aquill@x.example; --mail atern@x.example would make it follow"}, p.stays())
}

func TestANewNameThatCannotBe(t *testing.T) {
	ada := entry("CN=Ada Quill,DC=x", "objectClass=user", "sAMAccountName=aquill", "givenName=Ada", "sn=Quill", "displayName=Ada Quill")
	for want, n := range map[string]NewName{
		"21 characters":      {Logon: strings.Repeat("a", 21)},
		"must not":           {Logon: "a@b"},
		"begins or ends":     {Logon: "ada "},
		"longer than 64":     {Family: strings.Repeat("b", 65)},
		"longer than 254":    {Mail: strings.Repeat("b", 250) + "@x.example"},
		"cannot be a mail":   {Mail: "ada"},
		"userPrincipalName":  {Principal: "ada@x@y"},
		"longer than 256":    {Display: strings.Repeat("c", 257)},
		"the new name is lo": {Display: strings.Repeat("c", 65)},
	} {
		_, err := planned(directory.AD, ada, n)
		assert.ErrorContains(t, err, want)
	}
	_, err := planned(directory.OpenLDAP, entry("cn=Ada+uid=a,dc=x", "objectClass=inetOrgPerson", "sn=Quill"), NewName{Family: "Tern"})
	assert.ErrorContains(t, err, "several parts")
}

func TestExpand(t *testing.T) {
	e := entry("cn=a", "givenName= Ada ", "sn=Quill", "title= ")
	for rule, want := range map[string]string{"{givenName} {sn}": "Ada Quill", "Larkmoor": "Larkmoor", "{{{sn}}}": "{Quill}", "{SN}": "Quill", "  x ": "x"} {
		got, err := Expand(rule, e)
		require.NoError(t, err, rule)
		assert.Equal(t, want, got)
	}
	for rule, want := range map[string]string{"{title}": "blank", "{nothing}": "blank", "{sn": "without its }", "{}": "without its }", "{s n}": "begins no", "{userPassword}": "secret"} {
		_, err := Expand(rule, e)
		assert.ErrorContains(t, err, want, rule)
	}
}

func TestAssignments(t *testing.T) {
	e := entry("cn=a", "title=guide", "title=Guide (winter)", "department=Archive", "l=  ")
	for _, c := range []struct {
		action string
		w      Assignment
		want   string
		wrong  string
	}{
		{Set, Assignment{Attr: "department", New: "Workshop"}, "Archive → Workshop", ""},
		{Set, Assignment{Attr: "title", Old: "guide", New: "Guide"}, "guide; Guide (winter) → Guide; Guide (winter)", ""},
		{Set, Assignment{Attr: "title", Old: "guide", New: "Guide (winter)"}, "guide; Guide (winter) → Guide (winter)", ""},
		{Set, Assignment{Attr: "department", New: "Archive"}, "", "already"},
		{Set, Assignment{Attr: "department", Old: "archive", New: "Archive"}, "", `not "archive"`},
		{Set, Assignment{Attr: "department"}, "", "empty"},
		{Fill, Assignment{Attr: "l", New: "Larkmoor"}, `"  " → Larkmoor`, ""},
		{Fill, Assignment{Attr: "co", New: "Ireland"}, "(none) → Ireland", ""},
		{Fill, Assignment{Attr: "department", New: "x"}, "", "has a department already"},
	} {
		m, err := assignment(c.action, e, c.w, c.w.New)
		if c.wrong != "" {
			assert.ErrorContains(t, err, c.wrong)
			continue
		}
		require.NoError(t, err)
		d := ChangeOf(m)
		assert.Equal(t, c.want, d.Old+" → "+d.New)
	}
}
