package rounds

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/settings"
)

func kinds(stops []Stop) (all []StopKind) {
	for _, s := range stops {
		all = append(all, s.Kind)
	}
	return all
}

func TestTheBrakeOnWhatWasRead(t *testing.T) {
	at := time.Date(2027, 1, 2, 6, 0, 0, 0, time.UTC)
	last := Facts{Taken: at.AddDate(0, 0, -1), Accounts: 1000, Whole: true, Asked: []string{"dc1", "dc2"}, People: 900}
	for _, one := range []struct {
		what   string
		change func(now *Facts)
		want   []StopKind
	}{
		{"as the day before", func(*Facts) {}, nil},
		{"not whole", func(f *Facts) { f.Whole = false }, []StopKind{StopWhole}},
		{"older than the last", func(f *Facts) { f.Taken = at.AddDate(0, 0, -3) }, []StopKind{StopOlder}},
		{"a tenth fewer accounts", func(f *Facts) { f.Accounts = 900 }, nil},
		{"more than a tenth fewer", func(f *Facts) { f.Accounts = 899 }, []StopKind{StopSmaller}},
		{"one server is silent", func(f *Facts) { f.Asked = []string{"dc1"} }, []StopKind{StopSilent}},
		{"a server more", func(f *Facts) { f.Asked = []string{"dc2", "dc3", "dc1"} }, nil},
		{"a shorter roster", func(f *Facts) { f.People = 800 }, []StopKind{StopRoster}},
		{"a roster not asked for", func(f *Facts) { f.People = 0 }, nil},
	} {
		now := last
		now.Taken = at
		one.change(&now)
		assert.Equal(t, one.want, kinds(brakeOnReading("yard", settings.Brake{}.WithDefaults(), &now, &last)), one.what)
	}
	first := &Facts{Accounts: 5, Whole: true}
	assert.Empty(t, brakeOnReading("yard", settings.Brake{}.WithDefaults(), first, nil), "the first run has nothing to compare with")
}

func TestTheBrakeOnWhatWouldBeStaged(t *testing.T) {
	for _, one := range []struct {
		what            string
		lines, accounts int
		before          []int
		want            []StopKind
	}{
		{"nothing", 0, 1000, []int{3, 3, 3}, nil},
		{"more than allowed", 201, 100000, nil, []StopKind{StopLines}},
		{"as many as allowed", 200, 100000, nil, nil},
		{"too large a part of the yard", 51, 1000, nil, []StopKind{StopShare}},
		{"a small yard", 10, 20, nil, nil},
		{"five times the usual", 40, 100000, []int{8, 9, 8, 7}, nil},
		{"more than five times the usual", 41, 100000, []int{8, 9, 8, 7}, []StopKind{StopUsual}},
		{"after runs that did nothing", 11, 100000, []int{0, 0, 0}, []StopKind{StopUsual}},
		{"few are never too many", 10, 100000, []int{0, 0, 0}, nil},
		{"two runs tell nothing", 100, 100000, []int{1, 1}, nil},
	} {
		assert.Equal(t, one.want, kinds(brakeOnLines("yard", settings.Brake{}.WithDefaults(), one.lines, one.accounts, one.before)), one.what)
	}
}

func TestAReleaseLetsPassWhatWasSeenAndNoMore(t *testing.T) {
	seen := Stop{Kind: StopLines, Yard: "yard", Seen: 300}
	held := &Held{Stops: []Stop{seen}}
	assert.False(t, held.allows(seen), "nobody has let it pass")
	held.Released = &Release{By: "ada"}
	assert.True(t, held.allows(Stop{Kind: StopLines, Yard: "yard", Seen: 320}))
	assert.False(t, held.allows(Stop{Kind: StopLines, Yard: "yard", Seen: 331}), "far more than she saw")
	assert.False(t, held.allows(Stop{Kind: StopShare, Yard: "yard", Seen: 300}), "another reason")
	assert.False(t, held.allows(Stop{Kind: StopLines, Yard: "other", Seen: 300}), "another yard")
	assert.False(t, (*Held)(nil).allows(seen))
}
