package carry

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// TestWhatIsSeenDecides holds what is written down of a write against what was
// answered to it and what was seen then.
func TestWhatIsSeenDecides(t *testing.T) {
	refused := func(why source.Reason) error { return &source.Refused{Why: why} }
	lost := errors.New("connection lost")
	for _, c := range []struct {
		what      string
		answer    error
		seen      effect
		done      bool
		untouched bool
		unknown   bool
	}{
		{"success, and it shows", nil, effectDone, true, false, false},
		{"success, and nothing has changed", nil, effectNone, false, false, true},
		{"success, and nothing can show it", nil, effectHidden, false, false, true},
		{"success, and something else is there", nil, effectOther, false, false, false},
		{"unwilling, and it was done", refused(source.Unsupported), effectDone, true, false, false},
		{"another error, and it was done", refused(source.Other), effectDone, true, false, false},
		{"a referral, and it was done", refused(source.Elsewhere), effectDone, true, false, false},
		{"unwilling, and nothing has changed", refused(source.Unsupported), effectNone, false, true, false},
		{"denied, and nothing has changed", refused(source.Denied), effectNone, false, true, false},
		{"a value had changed, and somebody else has done the same", refused(source.Drifted), effectDone, false, false, false},
		{"lost, and it was done", lost, effectDone, true, false, false},
		{"lost, and nothing has changed", lost, effectNone, false, true, false},
		{"lost, and nothing can show it", lost, effectHidden, false, false, false},
		{"lost, and something else is there", lost, effectOther, false, false, false},
	} {
		o, err := judged(&Step{Op: OpModify}, c.seen, c.answer)
		assert.Equal(t, c.done, o.Done, c.what)
		assert.Equal(t, c.untouched, o.Untouched, c.what)
		assert.Equal(t, c.unknown, errors.Is(err, errUnknown), c.what)
		assert.Equal(t, c.done, err == nil, c.what)
	}
}

// A password is set without a comparison that could have failed, so a lifted lock
// shows that this very write was done.
func TestAPasswordThatShowsWasSetWhateverWasAnswered(t *testing.T) {
	for _, why := range []source.Reason{source.Drifted, source.Denied, source.Other, source.Unsupported} {
		o, err := judged(&Step{Op: OpPassword}, effectDone, &source.Refused{Why: why})
		assert.True(t, o.Done, why)
		assert.NoError(t, err, why)
	}
}

func TestAnEntryOfTheNameNeedNotBeTheOneThatWasAdded(t *testing.T) {
	s := &Step{Op: OpAdd, DN: "CN=Ada,DC=x", Attrs: []batch.ImageAttr{{Name: "objectClass", Values: []batch.Octets{"user"}}, {Name: "sAMAccountName", Values: []batch.Octets{"ada"}},
		{Name: "userAccountControl", Values: []batch.Octets{"514"}}}}
	there := func(attrs ...string) *directory.Entry {
		e := &directory.Entry{DN: "CN=Ada,DC=x"}
		for i := 0; i < len(attrs); i += 2 {
			e.Set(attrs[i], append(e.Get(attrs[i]), attrs[i+1])...)
		}
		return e
	}
	assert.Equal(t, effectNone, effectOf(s, nil))
	assert.Equal(t, effectDone, effectOf(s, there("objectClass", "top", "objectClass", "user", "sAMAccountName", "ada", "userAccountControl", "546")))
	assert.Equal(t, effectOther, effectOf(s, there("objectClass", "top", "objectClass", "user", "sAMAccountName", "another")))
}

func TestAPasswordIsKnownByWhatChangesWithIt(t *testing.T) {
	s := &Step{Op: OpPassword, Proof: []batch.ImageAttr{{Name: "pwdChangedTime", Values: []batch.Octets{"20260101000000Z"}}, {Name: lockAttr, Values: []batch.Octets{directory.PermanentLockValue}}}}
	e := func(changed, lock string) *directory.Entry {
		out := &directory.Entry{}
		for name, v := range map[string]string{"pwdChangedTime": changed, lockAttr: lock} {
			if v != "" {
				out.Set(name, v)
			}
		}
		return out
	}
	assert.Equal(t, effectNone, effectOf(s, e("20260101000000Z", directory.PermanentLockValue)))
	assert.Equal(t, effectDone, effectOf(s, e("20260202000000Z", directory.PermanentLockValue)))
	assert.Equal(t, effectDone, effectOf(s, e("20260101000000Z", "")), "the server has lifted the lock with it")
	assert.Equal(t, effectHidden, effectOf(&Step{Op: OpPassword, Proof: []batch.ImageAttr{{Name: "pwdChangedTime"}}}, e("", "")), "a server that dates no passwords")
}

func TestWhatAFurtherStepHasChangedAgainIsNotLookedFor(t *testing.T) {
	done := &outcome{Done: true}
	mod := func(attr, value string) Step {
		return Step{Op: OpModify, ID: "1", Mods: []batch.Mod{{Attr: attr, New: []batch.Octets{batch.Octets(value)}}}}
	}
	h := &history{steps: []pastStep{{Step: mod("a", "x"), outcome: done}, {Step: mod("b", "y"), outcome: done}, {Step: mod("a", "z"), outcome: done}, {Step: mod("c", "never"), outcome: &outcome{}}}}
	assert.Equal(t, []Step{mod("a", "z"), mod("b", "y")}, h.left())
	h.steps = append(h.steps, pastStep{Step: Step{Op: OpDelete, ID: "1"}, outcome: done})
	assert.Equal(t, []Step{{Op: OpDelete, ID: "1"}}, h.left(), "of what is gone nothing else")
}
