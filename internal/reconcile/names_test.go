package reconcile

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNamesResembleEachOther(t *testing.T) {
	for _, c := range []struct {
		a, b  string
		given bool
		want  likeness
	}{
		{"Quill", "QUILL", false, same},
		{"O'Dell", "ODell", false, same},
		{"Müller", "Mueller", false, same},
		{"Ångström", "Angstrom", false, same},
		{"Łucja", "Lucja", true, same},
		{"van den Heuvel", "Heuvel", false, partly},
		{"Müller-Voss", "Voss", false, partly},
		{"Müller-Voss", "Mueller Voss", false, same},
		{"Соколова", "Sokolova", false, same},
		{"Наталья", "Natalya", true, transcribed},
		{"Δημήτρης", "Dimitris", true, transcribed},
		{"Юрий", "Yuri", true, transcribed},
		{"Евгений", "Yevgeny", true, transcribed},
		{"佐藤", "Sato", false, unknown},
		{"佐藤", "佐藤", false, same},
		{"佐藤", "田中", false, unlike},
		{"Robert", "Bob", true, shortForm},
		{"Elizabeth", "Liz", true, shortForm},
		{"Robert", "Bob", false, unlike},
		{"Anne-Marie", "Anne", true, partly},
		{"Ada", "A.", true, initialOnly},
		{"Ada", "B.", true, unlike},
		{"Jean Pierre", "J P", true, initialOnly},
		{"Marlowe", "Marlow", false, near},
		{"Featherstone", "Fetherstoen", false, near},
		{"Tern", "Turn", false, near},
		{"Tern", "Quill", false, unlike},
		{"Ada", "Ida", true, unlike}, // too short for a typing error
		{"", "Quill", false, unknown},
		{"de Mary Ann", "Maryann", false, partly},
		{"Li Na", "Li Bo", false, unlike}, // two letters are no part of a name
		{"Lia Na", "Lia Bo", false, partly},
		{"Annamaria Rose", "Annamarie", true, near},
		{"Annamaria Rose", "Annamarie", false, unlike},
		{"Jo Ann", "J", true, initialOnly},
		{"Jo Ann", "K", true, unlike},
		{"Jo Ann Marie", "J A", true, initialOnly},
		{"Jo Ann Marie", "J B", true, unlike},
		{"Kim", "Kimberley", true, shortForm}, // one begins the other
		{"Al", "Alan", true, unlike},
		{"Featherstone", "Fetherstan", false, unlike},
		{"Terne", "Turn", false, unlike}, // two errors in so short a name
	} {
		v := newVocabulary()
		x, y := v.add(c.a), v.add(c.b)
		assert.Equal(t, c.want, v.compare(x, y, c.given), "%s %s", c.a, c.b)
		assert.Equal(t, c.want, v.compare(y, x, c.given), "%s %s, the other way round", c.b, c.a)
	}
}

func TestWholeNamesArePartedWhereTheySaySo(t *testing.T) {
	for whole, want := range map[string][2]string{
		"Quill, Ada":              {"Quill", "Ada"},
		"Ada Quill":               {"Quill", "Ada"},
		"Dr. Ada Quill":           {"Quill", "Ada"},
		"Ada Quill 2":             {"Quill", "Ada"},
		"Ada Quill (Astronomy)":   {"Quill", "Ada"},
		"Jan van den Heuvel":      {"van den Heuvel", "Jan"},
		"Anna Maria Quill":        {"Quill", "Anna Maria"},
		"svc-dome":                {"", ""},
		"":                        {"", ""},
		"Heuvel, Jan van den":     {"Heuvel", "Jan van den"},
		"(nobody)":                {"", ""},
		"Prof. Dr. Ulla Ångström": {"Ångström", "Ulla"},
	} {
		family, given, _ := splitName(whole)
		assert.Equal(t, want, [2]string{family, given}, whole)
	}
}

func TestPatternsAreReadAndMake(t *testing.T) {
	ada := newWord("Ada")
	quill, double, noble := newWord("Featherstone"), newWord("Müller-Voss"), newWord("van den Heuvel")
	for text, want := range map[string]string{
		"{given:1}{family}":        "afeatherstone",
		"{given}.{family}":         "ada.featherstone",
		"{family:6}{given:2}":      "feathead",
		"{family}_{given} cut 8":   "feathers",
		"x-{family:3}-{given:9}":   "x-fea-ada",
		"{given:1}.{family} cut 5": "a.fea",
	} {
		p, err := ParsePattern(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, p.build(ada.text, quill.text), text)
	}
	p, _ := ParsePattern("{given:1}{family}")
	assert.Equal(t, []string{"amullervoss", "amuller", "avoss"}, p.builds(&ada, &double))
	assert.Equal(t, []string{"avandenheuvel", "aheuvel"}, p.builds(&ada, &noble))
	for _, bad := range []string{"", "abc", "{surname}", "{given", "{given:0}{family}", "{given} {family}"} {
		_, err := ParsePattern(bad)
		assert.ErrorContains(t, err, "is no pattern of logon names", bad)
	}
}

func TestPatternsAreLearned(t *testing.T) {
	var seeds []seed
	add := func(logon, given, family string) {
		g, f := newWord(given), newWord(family)
		seeds = append(seeds, seed{logon, &g, &f})
	}
	for _, n := range [][3]string{{"aquill", "Ada", "Quill"}, {"btern", "Bram", "Tern"}, {"btern2", "Berta", "Tern"}, {"cmarlowe", "Clara", "Marlowe"}, {"ufeatherstoneh", "Ulla", "Featherstonehaugh"},
		{"dabernathycorr", "Dov", "Abernathy-Corrigan"}, {"zbirk", "Zoë", "Birk"}, {"fhollis", "Farid", "Hollis"}, {"greta.jessop", "Greta", "Jessop"}, {"hugo.kestrel", "Hugo", "Kestrel"}, {"xyz", "Ines", "Nakata"}} {
		add(n[0], n[1], n[2])
	}
	got := learn(seeds)
	assert.Len(t, got, 2)
	assert.Equal(t, "{given:1}{family} cut 14", got[0].Text)
	assert.Equal(t, 8, got[0].Seen)
	assert.InDelta(t, 8.0/11, got[0].Share, 1e-9)
	assert.Equal(t, "{given}.{family}", got[1].Text)
}
