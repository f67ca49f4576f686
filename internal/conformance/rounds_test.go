package conformance

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
	"yardbroom/internal/rounds"
	"yardbroom/internal/settings"
	"yardbroom/internal/work"
)

// nobody takes mail: none of these rounds sends any.
type nobody struct{}

func (nobody) Mail(context.Context, *settings.Mail) (rounds.MailConnection, error) { return nil, nil }
func (nobody) Post(context.Context, *settings.Post, []byte, time.Time) error       { return nil }

func TestARoundLooksStagesAndCarriesOut(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		c := s.connect(t)
		ada, ben := s.person(t, c, "Ada Quill", "adaquill"), s.person(t, c, "Ben Tern", "bentern")
		people := settings.Filter{Kind: "users", Filter: "(mail=*)", Under: s.container("Staff")}
		set := settings.Defaults()
		set.Batch.MaxShare, set.Batch.DayShare, set.Default = 100, 100, "here"
		set.Yards = map[string]settings.Yard{"here": s.yard}
		round := settings.Round{Apply: true, Steps: []settings.Step{
			{Survey: &settings.SurveyStep{}},
			{Audit: &settings.AuditStep{}},
			{List: &settings.ListStep{Title: "People", Filter: people, Columns: settings.Words{"account", "mail"}}},
			{Stage: &settings.StageStep{Actions: settings.Words{batch.Describe}, Text: "looked at by a round", Of: &people}},
		}}
		misspelt := settings.Round{Steps: []settings.Step{{List: &settings.ListStep{Title: "Hats", Filter: people, Columns: settings.Words{"hatSize"}}}}}
		set.Rounds = map[string]settings.Round{"nightly": round, "hats": misspelt}
		session, err := work.New(set)
		require.NoError(t, err)
		session.State, session.By = t.TempDir(), "tester"
		t.Cleanup(func() { require.NoError(t, session.Close()) })
		require.NoError(t, rounds.Check(session))
		r := &rounds.Runner{Session: session, Host: "here", Send: nobody{}}

		trials, err := r.Test(t.Context(), "hats")
		require.NoError(t, err)
		unknown := rounds.Trial{What: "List Hats", Text: "the directory knows no attribute hatSize"}
		if s.real == nil {
			assert.NotContains(t, trials, unknown, "the practice directory publishes no schema")
		} else {
			assert.Contains(t, trials, unknown)
		}

		run, err := r.Run(t.Context(), "nightly", &rounds.Request{})
		require.NoError(t, err)
		require.Equal(t, rounds.Done, run.Outcome, "%v %v", run.Faults(), run.Stops)
		for _, step := range run.Yards[0].Steps {
			switch step.Step {
			case "list":
				assert.Equal(t, 2, step.Rows)
			case "apply":
				require.Len(t, step.Batches, 1)
				assert.Equal(t, map[batch.LineState]int{batch.Applied: 2}, step.Batches[0].States)
			}
		}
		for _, dn := range []string{ada, ben} {
			assert.Equal(t, "looked at by a round", s.entry(t, c, dn).First("description"))
		}
		again, err := r.Run(t.Context(), "nightly", &rounds.Request{})
		require.NoError(t, err)
		assert.Equal(t, rounds.Done, again.Outcome, "%v", again.Faults())
		assert.Zero(t, again.Lines(), "it is so already")
		assert.Zero(t, again.New().All(), "nothing is new")
	})
}
