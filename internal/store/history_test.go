package store

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// day keeps an audit of one day, of findings named by letters: "stale a b" are two
// of the check stale. Checks in blind do not prove that something is gone.
func day(t *testing.T, s *Store, n int, blind string, found ...string) (*Audit, map[string]int) {
	t.Helper()
	a := &Audit{Yard: "yard", Kind: "audit", At: time.Date(2027, 1, n, 6, 0, 0, 0, time.UTC), Body: []byte("{}")}
	var all []Found
	var names []string
	for _, text := range found {
		check, who, _ := strings.Cut(text, " ")
		for name := range strings.FieldsSeq(who) {
			names = append(names, check+" "+name)
			all = append(all, Found{Mark: Mark([]byte((check + " " + name + strings.Repeat(".", 16))[:16])), Check: check,
				Body: func() []byte { return []byte(`"` + name + `"`) }})
		}
	}
	ids, err := s.KeepAudit(context.Background(), a, all, func(check string, _ *Audit) bool { return check != blind })
	require.NoError(t, err)
	present := map[string]int{}
	for i, name := range names {
		present[name] = ids[i]
	}
	return a, present
}

func bodies(all []Presence) (out []string) {
	for _, p := range all {
		out = append(out, p.Check+" "+strings.Trim(string(p.Body), `"`))
	}
	return out
}

func TestFindingsComeAndGo(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	first, p1 := day(t, s, 1, "", "stale a b", "expired x")
	second, p2 := day(t, s, 2, "", "stale b c", "expired x")
	third, p3 := day(t, s, 3, "", "stale a b", "expired x")
	assert.Equal(t, p1["stale b"], p2["stale b"], "what stays is the same")
	assert.NotEqual(t, p1["stale a"], p3["stale a"], "what comes back is new")

	came, went, err := s.Between(ctx, first, second)
	require.NoError(t, err)
	assert.Equal(t, []string{"stale c"}, bodies(came))
	assert.Equal(t, []string{"stale a"}, bodies(went))
	came, went, err = s.Between(ctx, first, third)
	require.NoError(t, err)
	assert.Equal(t, []string{"stale a"}, bodies(came), "it went and came back")
	assert.Equal(t, []string{"stale a"}, bodies(went))

	for _, one := range []struct {
		day  int
		want int
	}{{1, 3}, {2, 3}, {3, 3}} {
		a, err := s.AuditBefore(ctx, "yard", "audit", time.Date(2027, 1, one.day, 12, 0, 0, 0, time.UTC))
		require.NoError(t, err)
		marks, err := s.MarksAt(ctx, a)
		require.NoError(t, err)
		assert.Len(t, marks, one.want)
	}
	none, err := s.AuditBefore(ctx, "yard", "audit", time.Date(2026, 12, 31, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	assert.Nil(t, none)
}

func TestWhatCouldNotBeSeenIsNotGone(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	first, p1 := day(t, s, 1, "", "stale a")
	second, _ := day(t, s, 2, "stale")
	_, went, err := s.Between(ctx, first, second)
	require.NoError(t, err)
	assert.Empty(t, went)
	_, p3 := day(t, s, 3, "", "stale a")
	assert.Equal(t, p1["stale a"], p3["stale a"], "it is no new finding when it is seen again")
}

func TestAReaderIsToldOnceOfWhatIsThereAndAgainOfWhatComesBack(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	_, p := day(t, s, 1, "", "stale a b")
	require.NoError(t, s.Tell(ctx, "ada", []int{p["stale a"], p["stale b"]}))
	require.NoError(t, s.Tell(ctx, "ada", []int{p["stale a"]}), "twice is once")
	require.NoError(t, s.Tell(ctx, "ben", []int{p["stale b"]}))
	_, q := day(t, s, 2, "", "stale b")
	require.NoError(t, s.Tell(ctx, "ben", []int{p["stale a"]}), "told too late of what is gone")
	_, r := day(t, s, 3, "", "stale a b")
	for reader, want := range map[string]map[int]bool{"ada": {q["stale b"]: true}, "ben": {q["stale b"]: true}, "eve": {}} {
		told, err := s.Told(ctx, reader)
		require.NoError(t, err)
		assert.Equal(t, want, told, reader)
	}
	assert.NotEqual(t, p["stale a"], r["stale a"])
}

func TestForgottenAuditsLeaveWhatTheOthersFound(t *testing.T) {
	s, ctx := open(t, t.TempDir()), context.Background()
	first, _ := day(t, s, 1, "", "stale a b")
	second, _ := day(t, s, 2, "", "stale b c")
	third, _ := day(t, s, 3, "", "stale b d")
	require.NoError(t, s.ForgetAudits(ctx, []int{second.ID, third.ID}))
	left, err := s.Audits(ctx, "yard")
	require.NoError(t, err)
	require.Len(t, left, 2, "the last one stays")
	came, went, err := s.Between(ctx, first, left[1])
	require.NoError(t, err)
	assert.Equal(t, []string{"stale d"}, bodies(came), "c was found by none that stay")
	assert.Equal(t, []string{"stale a"}, bodies(went))
	require.NoError(t, s.ForgetAudits(ctx, []int{first.ID}))
	marks, err := s.MarksAt(ctx, third)
	require.NoError(t, err)
	assert.Len(t, marks, 2)
}
