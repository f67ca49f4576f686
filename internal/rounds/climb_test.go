package rounds

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/settings"
)

// climbingRound climbs every night.
const climbingRound = `  nightly:
    apply: true
    steps: [climb]
    brake: {lines: 3, share: 100}
` + "ladders:\n" + `  - name: unused
    starts: {idle: 30d}
    of: {kind: people, under: "OU=Staff,DC=larkmoor,DC=example", where: {enabled: true}}
    rungs:
      - {name: parked, after: 0d, actions: [disable, move], to: "OU=Parked,DC=larkmoor,DC=example", unattended: true}
`

func TestARoundClimbsAndItsBrakeHolds(t *testing.T) {
	y := newYard(t, climbingRound)
	run := y.run(t, "nightly")
	require.Equal(t, Done, run.Outcome, "%v", run.Faults())
	require.Len(t, run.steps("climb")[0].Batches, 1)
	assert.Contains(t, run.steps("climb")[0].Said(), "batch 1: 1 done")
	assert.NotNil(t, y.dir.Entry("CN=Ada Quill,OU=Parked,"+base))

	y.tomorrow()
	y.falls(0, 5)
	run = y.run(t, "nightly")
	assert.Equal(t, Stopped, run.Outcome, "five are more than three")
	assert.NotNil(t, y.dir.Entry("CN=Staff00 Member,OU=Staff,"+base))
	run = y.run(t, "nightly")
	assert.Contains(t, run.steps("climb")[0].Skipped, "brake")
	_, err := y.Release(t.Context(), "nightly", "they have left")
	require.NoError(t, err)
	run = y.run(t, "nightly")
	assert.Equal(t, Done, run.Outcome, "%v %v", run.Faults(), run.Stops)
	assert.NotNil(t, y.dir.Entry("CN=Staff00 Member,OU=Parked,"+base))
}

func TestARoundThatMayNotApplyOnlyStages(t *testing.T) {
	y := newYard(t, climbingRound)
	round := y.Settings.Rounds["nightly"]
	round.Apply = false
	y.Settings.Rounds["nightly"] = round
	run := y.run(t, "nightly")
	require.Equal(t, Done, run.Outcome)
	assert.Contains(t, run.steps("climb")[0].Said(), "waits for somebody to carry it out")
	assert.NotNil(t, y.dir.Entry("CN=Ada Quill,OU=Staff,"+base))
}

func TestLaddersThatCannotBeMeantAreRefused(t *testing.T) {
	y := newYard(t, climbingRound)
	for why, change := range map[string]func(s *settings.Settings){
		`no ladder is called "hats"`: func(s *settings.Settings) {
			r := s.Rounds["nightly"]
			r.Steps = []settings.Step{{Climb: &settings.ClimbStep{Ladders: settings.Words{"hats"}}}}
			s.Rounds = map[string]settings.Round{"nightly": r}
		},
		"no mailbox": func(s *settings.Settings) {
			r := s.Rounds["nightly"]
			r.Steps = []settings.Step{{Answers: &settings.AnswersStep{}}}
			s.Rounds = map[string]settings.Round{"nightly": r}
		},
		`"fly" is not an action`:    func(s *settings.Settings) { s.Ladders[0].Rungs[0].Actions = settings.Words{"fly"} },
		`no check is called "hats"`: func(s *settings.Settings) { s.Ladders[0].Checks = settings.Words{"hats"} },
		`kind: "hats" is none of`:   func(s *settings.Settings) { s.Ladders[0].Of = &settings.Filter{Kind: "hats"} },
	} {
		set := *y.Settings
		set.Ladders = []settings.Ladder{y.Settings.Ladders[0]}
		set.Ladders[0].Rungs = []settings.Rung{y.Settings.Ladders[0].Rungs[0]}
		change(&set)
		s := *y.Session
		s.Settings = &set
		err := Check(&s)
		require.Error(t, err, why)
		assert.Contains(t, err.Error(), why)
	}
}

func TestAPreviewWritesTheMailsOfLaddersAndKeepsNothing(t *testing.T) {
	y := newYard(t, climbingRound)
	y.Settings.Ladders[0].Rungs[0].Tell = &settings.Notice{Who: settings.Words{settings.WhoManager}}
	folder := t.TempDir()
	run, err := y.Preview(t.Context(), "nightly", folder)
	require.NoError(t, err)
	require.Equal(t, Done, run.Outcome, "%v", run.Faults())
	mails, err := filepath.Glob(filepath.Join(folder, "mail-*bram*.eml"))
	require.NoError(t, err)
	require.Len(t, mails, 1)
	text, err := os.ReadFile(mails[0])
	require.NoError(t, err)
	assert.Contains(t, string(text), "The account ada will be disabled")
	kept, err := y.Store(t.Context())
	require.NoError(t, err)
	records, err := kept.Journal(t.Context(), 0, 0)
	require.NoError(t, err)
	assert.Empty(t, records)
	assert.Empty(t, y.post.mails)

	run = y.run(t, "nightly")
	require.Equal(t, Done, run.Outcome, "%v", run.Faults())
	require.Len(t, y.post.mails, 1)
	assert.Equal(t, "bram@larkmoor.example", y.post.mails[0].to)
	assert.NotNil(t, y.dir.Entry("CN=Ada Quill,OU=Staff,"+base), "nobody steps in the night that they are told")
}

func TestARoundTestTriesWhatLaddersNeed(t *testing.T) {
	y := newYard(t, climbingRound)
	said := func() string {
		all, err := y.Test(t.Context(), "nightly")
		require.NoError(t, err)
		return fmt.Sprint(all)
	}
	assert.NotContains(t, said(), "Place")
	y.Settings.Ladders[0].Rungs[0].To = "OU=Nowhere," + base
	assert.Contains(t, said(), "Place OU=Nowhere,"+base)
	assert.NotContains(t, said(), "Mail server")
	y.Settings.Ladders[0].Rungs[0].Tell = &settings.Notice{Who: settings.Words{settings.WhoPerson}}
	assert.Contains(t, said(), "Mail server")
	y.post.shut = errDown
	assert.Contains(t, said(), "{Mail server false")
	round := y.Settings.Rounds["nightly"]
	round.Steps = append(round.Steps, settings.Step{Answers: &settings.AnswersStep{}})
	y.Settings.Rounds["nightly"] = round
	y.Settings.Answers = settings.Answers{Server: "127.0.0.1:1", TLS: "none", Name: "objections"}
	assert.Contains(t, said(), "{Answers false mailbox 127.0.0.1:1")
}
