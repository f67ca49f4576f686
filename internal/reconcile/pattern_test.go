package reconcile

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/names"
)

func TestPatternsAreReadAndMake(t *testing.T) {
	ada := names.New("Ada")
	quill, double, noble := names.New("Featherstone"), names.New("Müller-Voss"), names.New("van den Heuvel")
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
		assert.Equal(t, want, p.build(ada.Text, quill.Text, "f"), text)
	}
	p, _ := ParsePattern("{given:1}{family}")
	assert.Equal(t, []string{"amullervoss", "amuller", "avoss"}, p.builds(&ada, &double))
	assert.Equal(t, []string{"avandenheuvel", "aheuvel"}, p.builds(&ada, &noble))
	p, _ = ParsePattern("{given}{initials}")
	duc, nguyen := names.New("Văn Đức"), names.New("Nguyễn")
	assert.Contains(t, p.builds(&duc, &nguyen), "ducnv")
	assert.Equal(t, []string{"adaf"}, p.builds(&ada, &quill))
	for _, bad := range []string{"", "abc", "{surname}", "{given", "{given:0}{family}", "{given} {family}"} {
		_, err := ParsePattern(bad)
		assert.ErrorContains(t, err, "is no pattern of logon names", bad)
	}
}

func TestPatternsAreLearned(t *testing.T) {
	var seeds []seed
	add := func(logon, given, family string) {
		g, f := names.New(given), names.New(family)
		plain, _ := plainLogon(logon)
		seeds = append(seeds, seed{logon: logon, plain: plain, given: &g, family: &f})
	}
	for _, n := range [][3]string{{"aquill", "Ada", "Quill"}, {"btern", "Bram", "Tern"}, {"btern2", "Berta", "Tern"}, {"cmarlowe", "Clara", "Marlowe"}, {"ufeatherstoneh", "Ulla", "Featherstonehaugh"},
		{"dabernathycorr", "Dov", "Abernathy-Corrigan"}, {"zbirk", "Zoë", "Birk"}, {"fhollis", "Farid", "Hollis"}, {"greta.jessop", "Greta", "Jessop"}, {"hugo.kestrel", "Hugo", "Kestrel"}, {"xyz", "Ines", "Nakata"}} {
		add(n[0], n[1], n[2])
	}
	got := learn(seeds, 2)
	assert.Len(t, got, 2)
	assert.Equal(t, "{given:1}{family} cut 14", got[0].Text)
	assert.Equal(t, 8, got[0].Seen)
	assert.InDelta(t, 8.0/11, got[0].Share, 1e-9)
	assert.Equal(t, "{given}.{family}", got[1].Text)
}

func TestHousesThatChangedTheirHabitKeepBoth(t *testing.T) {
	var seeds []seed
	for i := range 300 {
		g, f := names.New([]string{"Ada", "Bram", "Clara", "Dov", "Edith"}[i%5]), names.New([]string{"Quill", "Tern", "Marlowe", "Hollis", "Jessop", "Nakata", "Okafor"}[i%7])
		s := seed{logon: g.Text[:1] + f.Text, given: &g, family: &f, made: int64(1 + i), place: "1"}
		switch {
		case i >= 298: // the last two, in another place
			s.logon, s.place = f.Text+"_"+g.Text, "2"
		case i >= 296:
			s.logon = g.Text + "." + f.Text
		}
		seeds = append(seeds, s)
	}
	plain := func() {
		for i := range seeds {
			seeds[i].plain, _ = plainLogon(seeds[i].logon)
		}
	}
	plain()
	got := learnHabits(seeds)
	assert.Len(t, got, 1, "two of a hundred are no habit yet: %v", got)
	for i := 260; i < 296; i++ {
		seeds[i].logon = seeds[i].given.Text + "." + seeds[i].family.Text
	}
	for i := 40; i < 80; i++ {
		seeds[i].logon, seeds[i].place = seeds[i].family.Text+"_"+seeds[i].given.Text, "2"
	}
	plain()
	texts := map[string]float64{}
	for _, p := range learnHabits(seeds) {
		texts[p.Text] = p.habit
	}
	assert.InDelta(t, 0.96, texts["{family}_{given}"], 0.05, "of that place nearly all")
	assert.Contains(t, texts, "{given}.{family}")
	assert.Contains(t, texts, "{given:1}{family}")
}
