package directory

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestParseClass(t *testing.T) {
	for text, want := range map[string]Class{
		"( 2.5.6.6 NAME 'person' SUP top STRUCTURAL MUST ( sn $ cn ) )":               {[]string{"person"}, []string{"top"}, []string{"sn", "cn"}},
		"( 1.2 NAME ( 'observer' 'watcher' ) DESC 'SUP nobody' SUP ( a $ b ) MAY x )": {[]string{"observer", "watcher"}, []string{"a", "b"}, nil},
		"( 1.2 NAME 'lone' )":           {Names: []string{"lone"}},
		"( 1.2 DESC NAME NAME 'told' )": {Names: []string{"told"}},
	} {
		got, ok := ParseClass(text)
		assert.True(t, ok, text)
		assert.Equal(t, want, got, text)
	}
	for _, bad := range []string{"", "person", "( 1.2", "NAME 'x'"} {
		_, ok := ParseClass(bad)
		assert.False(t, ok, bad)
	}
	for _, cut := range []string{"( 1 NAME", "( 1 SUP (", "( 1 NAME ( 'a'"} {
		ParseClass(cut) // no length may make it panic
	}
}

func TestPeopleOfAClassOfTheHousesOwn(t *testing.T) {
	t.Cleanup(func() { classes.Store(nil) })
	e := written(t, "uid=a,dc=x", "objectClass: larkmoorObserver")
	a := OpenLDAP.Account(e)
	assert.Equal(t, KindOther, a.Kind)
	DeclareClasses(map[string][]string{"larkmoorObserver": {"larkmoorPerson"}, "larkmoorLoop": {"larkmoorLoop"}})
	DeclareClasses(map[string][]string{"LarkmoorPerson": {"badgeHolder", "inetOrgPerson"}})
	a = OpenLDAP.Account(e)
	assert.Equal(t, KindUser, a.Kind)
	assert.True(t, OpenLDAP.Schema().DerivesFrom("larkmoorobserver", "person"))
	assert.True(t, OpenLDAP.Schema().KnowsClass("larkmoorObserver"))
	assert.False(t, OpenLDAP.Schema().DerivesFrom("larkmoorObserver", "groupOfNames"))
	assert.False(t, OpenLDAP.Schema().DerivesFrom("larkmoorLoop", "person"))
	for _, class := range []string{"larkmoorObserver", "inetOrgPerson", "top", "person"} {
		assert.True(t, OpenLDAP.Schema().DerivesFrom(class, "top"), class)
	}
}

// A file does not say what the classes of the house derive from.
func TestWhatEntriesOfUnknownClassesCarryTellsTheirKind(t *testing.T) {
	s := NewSurvey(OpenLDAP)
	part := s.NewPart(0, AttrSet{})
	for i, c := range []struct {
		kind  Kind
		attrs []string
	}{
		{KindUser, []string{"objectClass: top", "objectClass: larkmoorPerson", "uid: a", "mail: a@larkmoor.example"}},
		{KindGroup, []string{"objectClass: larkmoorCrew", "member: uid=a,dc=x"}},
		{KindGroup, []string{"objectClass: larkmoorCrew", "memberUid: a"}},
		{KindGroup, []string{"objectClass: larkmoorCrew", "uniqueMember: uid=a,dc=x"}},
		{KindOther, []string{"objectClass: larkmoorCrew", "cn: a"}},
		{KindOther, []string{"objectClass: larkmoorDome", "uid: a"}},
		{KindOther, []string{"objectClass: dcObject", "uid: a", "mail: a@larkmoor.example"}}, // what is known decides
		{KindOther, []string{"uid: a", "mail: a@larkmoor.example"}},
		{KindOther, []string{"objectClass: top", "uid: a"}},
	} {
		e := written(t, fmt.Sprintf("uid=a%d,dc=x", i), c.attrs...)
		a := OpenLDAP.Account(e)
		assert.Equal(t, c.kind, a.Kind, c.attrs)
		assert.Equal(t, c.kind != KindOther, a.Guessed)
		part.Add(OpenLDAP, e)
	}
	s.Merge(part)
	assert.Equal(t, map[string]ForeignClass{"larkmoorPerson": {1, 1}, "larkmoorCrew": {4, 3}, "larkmoorDome": {1, 0}}, s.Foreign)
	assert.True(t, s.Groups[1].Posix)
	part = s.NewPart(0, AttrSet{})
	for i := range 2 * mostForeign {
		part.Add(OpenLDAP, written(t, "cn=x,dc=x", fmt.Sprintf("objectClass: c%d", i)))
	}
	assert.LessOrEqual(t, len(part.survey.Foreign), mostForeign+1, "a file can name any number of them")
	a := AD.Account(written(t, "CN=a,DC=x", "objectClass: larkmoorPerson", "uid: a", "sn: a"))
	assert.Equal(t, KindOther, a.Kind, "entries of the ad schema name all their classes")
}

func TestWhoCanHaveAName(t *testing.T) {
	for class, want := range map[string]bool{"inetOrgPerson": true, "person": true, "account": false, "posixAccount": false} {
		e := written(t, "uid=a,dc=x", "objectClass: "+class, "objectClass: posixAccount")
		a := OpenLDAP.Account(e)
		assert.Equal(t, !want, a.Nameless, class)
	}
	a := AD.Account(written(t, "CN=a,DC=x", "objectClass: user"))
	assert.False(t, a.Nameless)
}
