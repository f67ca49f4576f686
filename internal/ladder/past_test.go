package ladder

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/settings"
	"yardbroom/internal/store"
)

// noted is an event of a day.
func noted(w *Way, event, on string, e Event) {
	w.note(&store.Sealed{Record: store.Record{At: day(on), By: "kay", Event: event}}, &e)
}

// back is a line of another batch that takes a step back on a day.
func back(on string) carry.Descent {
	return carry.Descent{Batch: &batch.Batch{ID: 99}, Line: &batch.Line{At: day(on), State: batch.Applied}}
}

func twoSteps() *Way {
	return &Way{ID: "1", Ladder: "unused", Since: day("2026-03-01"), OnTheDay: map[int]bool{}, Steps: []Step{{Rung: "shelved", Batch: 7}, {Rung: "disabled", Batch: 9}}}
}

func TestWhoWokeComesDownStepByStep(t *testing.T) {
	w := twoSteps()
	noted(w, EventWoke, "2026-03-10", Event{Why: "it signed in", Down: []int{7, 9}})
	assert.Empty(t, w.Steps)
	assert.Equal(t, []Step{{Rung: "disabled", Batch: 9}, {Rung: "shelved", Batch: 7}}, w.Down, "the last first")
	w.down(9, back("2026-03-11"))
	assert.Equal(t, []Step{{Rung: "shelved", Batch: 7}}, w.Down)
	w.down(7, back("2026-03-12"))
	assert.Empty(t, w.Down)
	assert.Equal(t, day("2026-03-12"), w.Anew)
	assert.NotEmpty(t, w.Woke)
}

func TestAStepThatWasGivenUpLeavesTheOthers(t *testing.T) {
	w := twoSteps()
	noted(w, EventGaveUp, "2026-03-10", Event{Why: "stopped half-way", Down: []int{9}})
	assert.Equal(t, []Step{{Rung: "shelved", Batch: 7}}, w.Steps)
	assert.Equal(t, []Step{{Rung: "disabled", Batch: 9}}, w.Down)
	w.down(9, back("2026-03-11"))
	assert.Equal(t, "shelved", w.Rung())
	assert.Empty(t, w.Woke, "it stands on the rung before")
	assert.Equal(t, day("2026-03-11"), w.Since)
	noted(w, EventWoke, "2026-03-12", Event{Why: "it signed in", Down: []int{7}})
	assert.Equal(t, []Step{{Rung: "shelved", Batch: 7}}, w.Down, "and what was done before is taken back when it wakes")

	w = twoSteps()
	noted(w, EventGaveUp, "2026-03-10", Event{Why: "stopped half-way", Down: []int{9}})
	noted(w, EventWoke, "2026-03-10", Event{Why: "it signed in", Down: []int{7}})
	assert.Equal(t, []Step{{Rung: "disabled", Batch: 9}, {Rung: "shelved", Batch: 7}}, w.Down, "the given-up step is taken back first")

	w = twoSteps()
	noted(w, EventGaveUp, "2026-03-10", Event{Down: []int{9}})
	noted(w, EventNoDown, "2026-03-11", Event{Down: []int{9}})
	assert.Equal(t, "shelved", w.Rung())
	assert.Empty(t, w.Woke)
}

// Whom a step has switched off stays so when that is taken back, unless it is to be
// enabled; and whoever is enabled then by somebody leaves the ladder.
func TestWhoIsLeftOffAndEnabledByHandWakes(t *testing.T) {
	l := &settings.Ladder{Name: "unused"}
	enabled := &Facts{Enabled: true}
	w := twoSteps()
	w.Steps[1].Off = true
	noted(w, EventGaveUp, "2026-03-10", Event{Why: "stopped half-way", Down: []int{9}})
	w.down(9, back("2026-03-11"))
	assert.Equal(t, "shelved", w.Rung())
	assert.Equal(t, "it was enabled by somebody", awake(l, w, enabled))

	w = twoSteps()
	assert.Empty(t, awake(l, w, enabled), "no step has switched it off")

	w = twoSteps()
	w.Steps[1].Off = true
	noted(w, EventGaveUp, "2026-03-10", Event{Why: "stopped half-way", Down: []int{9}})
	on := back("2026-03-11")
	on.Line.Actions = append(on.Line.Actions, batch.Action{Name: batch.Enable})
	w.down(9, on)
	assert.Empty(t, awake(l, w, enabled), "it was switched on again with the step")

	w.step(&batch.Batch{ID: 12, Ladder: "other", Rung: "first"}, &batch.Line{}, nil)
	assert.False(t, w.Off(), "another ladder begins anew")
}

func TestWhatWasTakenBackByHandCountsAnew(t *testing.T) {
	w := twoSteps()
	w.down(9, back("2026-03-05"))
	assert.Equal(t, "shelved", w.Rung())
	assert.Equal(t, day("2026-03-05"), w.Since)
	w.down(7, back("2026-03-06"))
	assert.Empty(t, w.Rung())
	assert.Equal(t, day("2026-03-06"), w.Anew)
	w.down(7, back("2026-03-07"))
	assert.Equal(t, day("2026-03-06"), w.Anew, "once")
}

func TestWordsOfPeople(t *testing.T) {
	w := twoSteps()
	noted(w, EventHeld, "2026-03-01", Event{Until: day("2026-04-01"), Why: "needed", Ref: "r"})
	assert.True(t, w.HeldAt(day("2026-03-31")))
	assert.False(t, w.HeldAt(day("2026-04-01")))
	assert.Equal(t, []string{"r"}, w.Objected)
	noted(w, EventLetGo, "2026-03-10", Event{})
	assert.False(t, w.HeldAt(day("2026-03-10")))
	noted(w, EventTold, "2026-03-11", Event{Rung: "deleted", Address: "ada@x", Ref: "m"})
	noted(w, EventBounced, "2026-03-12", Event{Address: "ada@x", Ref: "m"})
	assert.True(t, w.Told[0].CameBack)
	noted(w, EventAdopted, "2026-03-13", Event{Ladder: "unused", Rung: "deleted", DN: "CN=Ada,OU=Attic,DC=x"})
	assert.Equal(t, "deleted", w.Rung())
	assert.Equal(t, "OU=Attic,DC=x", w.Place())
	noted(w, EventAdopted, "2026-03-14", Event{Ladder: "leavers", Rung: "parked"})
	assert.Len(t, w.Steps, 1, "an account is on one ladder at most")
}
