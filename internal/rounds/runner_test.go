package rounds

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
	"yardbroom/internal/store"
	"yardbroom/internal/work"
)

const staleNightly = `  nightly:
    at: 06:00
    steps: [{audit: {checks: stale}}]
    tell: [{to: kay@larkmoor.example}]
`

func TestWhatIsNewIsToldOnce(t *testing.T) {
	y := newYard(t, staleNightly)
	first := y.run(t, "nightly")
	assert.Equal(t, Done, first.Outcome)
	assert.Equal(t, Severities{Medium: 1}, first.New())
	require.Len(t, y.post.mails, 1)
	assert.Contains(t, y.post.mails[0].subject, "small: 1 new medium")
	assert.Contains(t, y.post.mails[0].text, "ada (Staff), 200 days")

	y.tomorrow()
	second := y.run(t, "nightly")
	assert.Equal(t, Severities{}, second.New())
	assert.Equal(t, 1, second.Yards[0].Known)
	assert.Len(t, y.post.mails, 1, "nothing new is no mail")

	y.tomorrow()
	y.falls(0, 1)
	y.run(t, "nightly")
	require.Len(t, y.post.mails, 2)
	assert.Contains(t, y.post.mails[1].text, "staff00 (Staff)")
	assert.NotContains(t, y.post.mails[1].text, "ada (Staff)")

	// Who wakes and falls asleep again is new again.
	y.tomorrow()
	y.signsIn("Ada Quill", 0)
	y.run(t, "nightly")
	y.tomorrow()
	y.signsIn("Ada Quill", 150)
	y.run(t, "nightly")
	assert.Contains(t, y.post.mails[len(y.post.mails)-1].text, "ada (Staff)")
}

func TestReadersOfTwoRoundsAreToldApart(t *testing.T) {
	y := newYard(t, staleNightly+strings.ReplaceAll(staleNightly, "nightly", "weekly"))
	y.run(t, "nightly")
	assert.Equal(t, 1, y.run(t, "weekly").New().All(), "what one round has told is new to the readers of another")
}

func TestARunThatIsToldToStopTellsNobodyAndTheNextTellsAll(t *testing.T) {
	y := newYard(t, strings.Replace(staleNightly, "[{audit: {checks: stale}}]", "[{audit: {checks: stale}}, survey]", 1))
	ctx, stop := context.WithCancel(t.Context())
	y.Log = slog.New(slog.NewTextHandler(writing(func(line []byte) {
		if bytes.Contains(line, []byte("audit:")) {
			stop() // between the first step and the second
		}
	}), nil))
	run, err := y.Run(ctx, "nightly", &Request{})
	require.NoError(t, err)
	assert.Equal(t, Killed, run.Outcome)
	assert.Len(t, run.Yards[0].Steps, 1)
	assert.Empty(t, y.post.mails)
	y.Log = nil
	again := y.run(t, "nightly")
	assert.Equal(t, 1, again.New().All())
	assert.Len(t, y.post.mails, 1)
}

func TestARunThatWasKilledIsFoundByTheNext(t *testing.T) {
	y := newYard(t, staleNightly)
	kept, err := y.Store(t.Context())
	require.NoError(t, err)
	require.NoError(t, kept.BeginRun(t.Context(), &store.Run{Round: "nightly", Began: y.at.Add(-time.Hour), Body: []byte("{}")}))
	status, err := y.StatusOf(t.Context(), "nightly", time.Hour)
	require.NoError(t, err)
	assert.Equal(t, "killed", status.Outcome())
	run := y.run(t, "nightly")
	assert.Equal(t, Done, run.Outcome)
	assert.Contains(t, run.Notes, "run 1 was killed, or the machine stopped; what it found is told now")
	past, err := y.Past(t.Context(), "nightly", 5)
	require.NoError(t, err)
	assert.Equal(t, Killed, past[1].Outcome)
}

func TestTwoRunsOfARoundDoNotOverlap(t *testing.T) {
	y := newYard(t, staleNightly)
	kept, err := y.Store(t.Context())
	require.NoError(t, err)
	unlock, err := kept.LockRound("nightly")
	require.NoError(t, err)
	_, err = y.Run(t.Context(), "nightly", &Request{})
	require.ErrorIs(t, err, store.ErrRunning)
	time.AfterFunc(300*time.Millisecond, unlock)
	run, err := y.Run(t.Context(), "nightly", &Request{Wait: time.Minute})
	require.NoError(t, err)
	assert.Equal(t, Done, run.Outcome)
}

const staging = `  nightly:
    steps: [{audit: {checks: stale}}, {stage: {actions: disable, checks: stale}}]
    tell: [{to: kay@larkmoor.example}]
`

func TestARoundStagesAndLeavesTheRestToPeople(t *testing.T) {
	y := newYard(t, staging)
	run := y.run(t, "nightly")
	require.Len(t, run.Waiting(), 1)
	assert.Equal(t, "somebody to carry it out", run.Waiting()[0].Waits)
	assert.Equal(t, "512", y.flags("Ada Quill"))
	assert.Contains(t, y.post.mails[0].subject, "batch 1 waits for somebody to carry it out")

	y.tomorrow()
	y.falls(3, 4)
	second := y.run(t, "nightly")
	b, err := y.Batch(t.Context(), 2)
	require.NoError(t, err)
	require.Len(t, b.Lines, 1, "who waits in batch 1 is not staged again")
	assert.Equal(t, "staff03", b.Lines[0].Account)
	assert.Len(t, second.Waiting(), 2)
}

const applying = `  nightly:
    apply: true
    brake: {lines: 4, share: 100, times_usual: 100, yard_loses: 100}
    steps: [{audit: {checks: stale}}, {stage: {actions: disable, checks: stale}}]
    tell: [{to: kay@larkmoor.example}]
`

func TestARoundCarriesOutWhatItMay(t *testing.T) {
	y := newYard(t, applying)
	run := y.run(t, "nightly")
	assert.Equal(t, Done, run.Outcome)
	assert.Equal(t, "514", y.flags("Ada Quill"))
	assert.Empty(t, run.Waiting())
	assert.Equal(t, map[batch.LineState]int{batch.Applied: 1}, run.steps("apply")[0].Batches[0].States)
}

func TestTheBrakeHoldsARoundUntilAPersonReleasesIt(t *testing.T) {
	y := newYard(t, applying)
	y.falls(0, 5) // with Ada, six
	run := y.run(t, "nightly")
	assert.Equal(t, Stopped, run.Outcome)
	require.Len(t, run.Stops, 1)
	assert.Equal(t, StopLines, run.Stops[0].Kind)
	all, err := y.Batches(t.Context())
	require.NoError(t, err)
	assert.Empty(t, all, "nothing is staged")
	assert.Contains(t, y.post.mails[0].subject, "small: stopped by the brake: it would stage 6 lines, where 4 are allowed")

	// It goes on looking and telling, and changes nothing, even where that is little.
	y.tomorrow()
	held := y.run(t, "nightly")
	assert.Equal(t, OnHold, held.Outcome)
	assert.Equal(t, "512", y.flags("Ada Quill"))
	assert.Contains(t, held.steps("stage")[0].Skipped, "nobody has released the round")
	status, err := y.StatusOf(t.Context(), "nightly", time.Hour)
	require.NoError(t, err)
	assert.Contains(t, status.Trouble()[0], "held by the brake since run 1")

	_, err = y.Release(t.Context(), "nightly", " ")
	require.ErrorContains(t, err, "say why")
	y.falls(0, 5)
	_, err = y.Release(t.Context(), "nightly", "the observatory closed a house")
	require.NoError(t, err)
	_, err = y.Release(t.Context(), "nightly", "again")
	require.ErrorContains(t, err, "released already")
	run = y.run(t, "nightly")
	assert.Equal(t, Done, run.Outcome, run.Faults())
	assert.Equal(t, "514", y.flags("Ada Quill"))

	// Once is once.
	y.tomorrow()
	y.falls(6, 12) // as many as were let pass
	assert.Equal(t, Stopped, y.run(t, "nightly").Outcome)
	assert.Equal(t, "512", y.flags("Staff06 Member"))
	kept, err := y.Store(t.Context())
	require.NoError(t, err)
	records, err := kept.Journal(t.Context(), 0, 0)
	require.NoError(t, err)
	var events []string
	for _, r := range records {
		if strings.HasPrefix(r.Event, "round") {
			events = append(events, r.Event)
		}
	}
	assert.Equal(t, []string{"round stopped", "round released", "round stopped"}, events)
}

func TestNothingIsChangedAfterAStepThatFailed(t *testing.T) {
	y := newYard(t, strings.Replace(applying, "{audit: {checks: stale}}, ", `{list: {of: {under: "OU=Nowhere,DC=larkmoor,DC=example"}}}, `, 1))
	run := y.run(t, "nightly")
	assert.Equal(t, Failed, run.Outcome)
	assert.Contains(t, run.steps("stage")[0].Skipped, "failed before it")
	assert.Equal(t, "512", y.flags("Ada Quill"))
	assert.Contains(t, y.post.mails[0].subject, "small: failed: list: no such entry")
}

func TestNothingIsChangedAfterAReadingThatLacksMuch(t *testing.T) {
	y := newYard(t, strings.Replace(applying, "yard_loses: 100", "yard_loses: 10", 1))
	y.run(t, "nightly")
	y.tomorrow()
	for _, e := range y.dir.Dump() {
		if strings.HasPrefix(e.DN, "CN=Staff1") {
			require.NoError(t, y.dir.Delete(e.DN))
		}
	}
	y.falls(0, 1)
	run := y.run(t, "nightly")
	assert.Equal(t, Stopped, run.Outcome)
	assert.Equal(t, StopSmaller, run.Stops[0].Kind)
	assert.Equal(t, "512", y.flags("Staff00 Member"))
}

func TestTheDueIsTakenBackByItself(t *testing.T) {
	y := newYard(t, `  nightly:
    apply: true
    steps: [{stage: {actions: disable, checks: stale, until: 10d}}, due]
`)
	y.run(t, "nightly")
	assert.Equal(t, "514", y.flags("Ada Quill"))
	for range 11 {
		y.tomorrow()
	}
	y.signsIn("Ada Quill", 1)
	run := y.run(t, "nightly")
	assert.Equal(t, Done, run.Outcome, run.Faults())
	assert.Equal(t, "512", y.flags("Ada Quill"))
}

func TestManagersAreToldOfTheirOwnPeople(t *testing.T) {
	y := newYard(t, `  nightly:
    steps: [{audit: {checks: [stale, password-never-expires]}}]
    tell: [{each: manager, to: kay@larkmoor.example}]
`)
	y.dir.Edit("CN=Bram Tern,OU=Staff,"+base, setFlags("66048"))
	y.run(t, "nightly")
	bram := y.post.to("bram@larkmoor.example")
	require.Len(t, bram, 1)
	assert.Contains(t, bram[0], "ada (Staff)")
	assert.NotContains(t, bram[0], "bram (Staff)", "nobody is told of themselves as of their people")
	kay := y.post.to("kay@larkmoor.example")
	require.Len(t, kay, 1)
	assert.Contains(t, kay[0], "bram (Staff)", "who has no manager is for the others")
	assert.NotContains(t, kay[0], "ada (Staff)")
}

func TestEachIsToldWhatTheyAskedFor(t *testing.T) {
	y := newYard(t, `  nightly:
    steps: [{audit: {checks: [stale, password-never-expires]}}]
    tell:
      - {to: high@larkmoor.example, severity: high}
      - {to: never@larkmoor.example, checks: password-never-expires}
      - {to: parked@larkmoor.example, under: "OU=Parked,DC=larkmoor,DC=example"}
      - {to: failures@larkmoor.example, when: failure}
      - {to: always@larkmoor.example, when: always, attach: [csv, html]}
`)
	y.dir.Edit("CN=Bram Tern,OU=Staff,"+base, setFlags("66048"))
	y.run(t, "nightly")
	var who []string
	for _, m := range y.post.mails {
		who = append(who, m.to)
	}
	assert.ElementsMatch(t, []string{"never@larkmoor.example", "always@larkmoor.example"}, who)
	assert.NotContains(t, y.post.to("never@larkmoor.example")[0], "ada (Staff)")
	always := y.post.to("always@larkmoor.example")[0]
	assert.Contains(t, always, "file small-audit.csv")
	assert.Contains(t, always, "file small-audit.html")
	y.server.Account = "nobody" // so that nothing can be read
	y.tomorrow()
	assert.Equal(t, Failed, y.run(t, "nightly").Outcome)
	assert.Len(t, y.post.to("failures@larkmoor.example"), 1)
}

func TestRoundsKeptInTheForegroundCatchUpOnce(t *testing.T) {
	y := newYard(t, staleNightly)
	y.run(t, "nightly")
	y.at = y.at.AddDate(0, 0, 4).Add(time.Hour) // four nights were missed
	var planned []time.Time
	k := &keeper{Runner: y.Runner, tried: map[string]time.Time{}, ended: func(_ string, run *Run, err error) {
		require.NoError(t, err)
		planned = append(planned, run.Planned)
	}}
	next, err := k.turn(t.Context())
	require.NoError(t, err)
	assert.Equal(t, time.Date(2026, 11, 25, 6, 0, 0, 0, time.UTC), next.UTC())
	_, err = k.turn(t.Context())
	require.NoError(t, err)
	y.at = next
	_, err = k.turn(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"2026-11-24T06:00:00Z", "2026-11-25T06:00:00Z"}, []string{planned[0].UTC().Format(time.RFC3339),
		planned[1].UTC().Format(time.RFC3339)})
	require.Len(t, planned, 2)
}

func TestAKeeperThatBeginsHasMissedNothing(t *testing.T) {
	y := newYard(t, staleNightly)
	k := &keeper{Runner: y.Runner, tried: map[string]time.Time{}, ended: func(string, *Run, error) { t.Error("it ran") }}
	_, err := k.turn(t.Context())
	require.NoError(t, err)
	none := newYard(t, strings.Replace(staleNightly, "    at: 06:00\n", "", 1))
	err = none.Keep(t.Context(), Request{}, nil)
	require.ErrorContains(t, err, "no round has a schedule")
}

func TestARoundThatDidNotRunIsOverdue(t *testing.T) {
	y := newYard(t, staleNightly)
	y.run(t, "nightly")
	trouble := func(at time.Time) []string {
		y.at = at
		s, err := y.StatusOf(t.Context(), "nightly", time.Hour)
		require.NoError(t, err)
		return s.Trouble()
	}
	day := y.at
	assert.Empty(t, trouble(day.AddDate(0, 0, 1).Add(59*time.Minute)))
	assert.Equal(t, []string{"overdue: it should have run at 2026-11-21 06:00 UTC"}, trouble(day.AddDate(0, 0, 1).Add(61*time.Minute)))
}

func TestAPreviewKeepsAndSendsNothing(t *testing.T) {
	y := newYard(t, applying)
	folder := t.TempDir()
	run, err := y.Preview(t.Context(), "nightly", folder)
	require.NoError(t, err)
	assert.Equal(t, Done, run.Outcome, run.Faults())
	assert.FileExists(t, folder+"/mail-1-kay-larkmoor-example.eml")
	assert.FileExists(t, folder+"/mail-1-kay-larkmoor-example.html")
	assert.Empty(t, y.post.mails)
	assert.Equal(t, "512", y.flags("Ada Quill"))
	past, err := y.Past(t.Context(), "nightly", 5)
	require.NoError(t, err)
	assert.Empty(t, past)
	all, err := y.Batches(t.Context())
	require.NoError(t, err)
	assert.Empty(t, all)
	y.run(t, "nightly")
	assert.Len(t, y.post.mails, 1, "what was previewed is still new")
}

func TestTheTestOfARoundFindsWhatIsMissing(t *testing.T) {
	y := newYard(t, `  nightly:
    steps: [{list: {title: Hats, of: {kind: people}, columns: [account]}},
      {stage: {actions: move, checks: stale, to: "OU=Nowhere,DC=larkmoor,DC=example"}}]
    roster: {from: nobody.csv}
    tell: [{to: kay@larkmoor.example, when: always}]
    folder: {path: /proc/yard}
    metrics: /proc/yard.txt
`)
	y.post.shut = errDown
	trials, err := y.Test(t.Context(), "nightly")
	require.NoError(t, err)
	bad := map[string]string{}
	for _, one := range trials {
		if !one.OK {
			bad[one.What] = one.Text
		}
	}
	assert.Contains(t, bad["Place OU=Nowhere,DC=larkmoor,DC=example"], "there is no such entry")
	assert.Contains(t, bad["Roster"], "nobody.csv")
	assert.Contains(t, bad["Mail server"], "connection refused")
	assert.Contains(t, bad["Folder"], "/proc/yard")
	assert.Contains(t, bad, "Metrics")
	assert.Contains(t, trials, Trial{"Mail to", true, "kay@larkmoor.example: after each run"})
	past, err := y.Past(t.Context(), "nightly", 5)
	require.NoError(t, err)
	assert.Empty(t, past)
}

func TestRoundsThatNameWhatThereIsNotAreRefused(t *testing.T) {
	for _, one := range []struct{ round, want string }{
		{"steps: [{audit: {checks: stail}}]", "stail"},
		{"steps: [{list: {of: {kind: hats}}}]", `"hats" cannot be listed`},
		{"steps: [{list: {of: {kind: people}, columns: [\"no such\"]}}]", `no such`},
		{"steps: [{list: {of: {kind: people}, columns: [account, idle-dayz]}}]", "there is no idle-dayz; did you mean idle-days?"},
		{"steps: [{list: {of: {filter: \"(mail=\"}}}]", `mail=`},
		{"steps: [{stage: {actions: explode, checks: stale}}]", `"explode" is not an action`},
		{"steps: [{stage: {actions: describe, checks: stale}}]", "--text"},
		{"steps: [{reconcile: {checks: stale}}]\n    roster: {from: r.csv}", "looks at no roster"},
		{"steps: [audit]\n    roster: {from: r.csv, map: {hat: Hat}}", `no field "hat"`},
		{"steps: [audit]\n    tell: [{to: kay@larkmoor.example, checks: stail}]", "stail"},
		{"steps: [audit]\n    tell: [{to: kay@larkmoor.example, lists: Hats}]", `no list of the round has the title "Hats"`},
	} {
		file := filepath.Join(t.TempDir(), "settings.yaml")
		require.NoError(t, os.WriteFile(file, []byte("default: small\nyards: {small: {servers: [\"ldap://localhost\"]}}\n"+
			"mail: {server: \"localhost:25\", tls: none, from: yard@larkmoor.example}\nrounds:\n  nightly:\n    "+one.round+"\n"), 0o600))
		set, err := settings.Load(file)
		require.NoError(t, err, one.round)
		s, err := work.New(set)
		require.NoError(t, err)
		err = Check(s)
		require.ErrorContains(t, err, one.want, one.round)
		assert.Regexp(t, `^settings .*settings.yaml, line \d+, column \d+: rounds: nightly: `, err.Error(), one.round)
	}
}

func setFlags(flags string) func(*directory.Entry) {
	return func(e *directory.Entry) { e.Set("userAccountControl", flags) }
}

// writing is a writer made of a function.
type writing func([]byte)

func (w writing) Write(b []byte) (int, error) {
	w(b)
	return len(b), nil
}

func TestHalfARosterIsNotComparedWith(t *testing.T) {
	roster := filepath.Join(t.TempDir(), "roster.csv")
	y := newYard(t, `  nightly:
    roster: {from: "`+roster+`"}
    steps: [reconcile]
    tell: [{to: kay@larkmoor.example}]
`)
	write := func(people int) {
		text := "id,given,family,mail\n1,Ada,Quill,ada@larkmoor.example\n2,Bram,Tern,bram@larkmoor.example\n"
		for i := range people {
			text += fmt.Sprintf("%d,Staff%02d,Member,staff%02d@larkmoor.example\n", i+3, i, i)
		}
		require.NoError(t, os.WriteFile(roster, []byte(text), 0o600))
	}
	write(20)
	first := y.run(t, "nightly")
	y.tomorrow()
	write(8)
	run := y.run(t, "nightly")
	assert.Equal(t, Stopped, run.Outcome)
	assert.Equal(t, StopRoster, run.Stops[0].Kind)
	assert.Zero(t, run.Yards[0].New.All())
	y.tomorrow()
	write(20)
	again := y.run(t, "nightly")
	assert.Equal(t, first.Yards[0].Findings, again.Yards[0].Findings)
	assert.Zero(t, again.New().All(), "what was there before half of the list came is not new")

	// One that is right so is let pass by a person.
	y.tomorrow()
	write(8)
	y.run(t, "nightly")
	_, err := y.Release(t.Context(), "nightly", "a house was closed")
	require.NoError(t, err)
	last := y.run(t, "nightly")
	assert.Equal(t, Done, last.Outcome)
	assert.Positive(t, last.New().All(), "%+v", last.Yards[0].Steps[0])
}

func TestTheBrakeCountsWhatIsTakenBack(t *testing.T) {
	y := newYard(t, `  out:
    apply: true
    steps: [{stage: {actions: disable, checks: stale, until: 10d}}]
  back:
    brake: {lines: 2}
    steps: [due]
`)
	y.falls(0, 3)
	require.Equal(t, Done, y.run(t, "out").Outcome)
	for range 11 {
		y.tomorrow()
	}
	assert.Equal(t, Stopped, y.run(t, "back").Outcome)
	assert.Equal(t, "514", y.flags("Ada Quill"))
	_, err := y.Release(t.Context(), "back", "they are back from their leave")
	require.NoError(t, err)
	assert.Equal(t, Done, y.run(t, "back").Outcome)
	assert.Equal(t, "512", y.flags("Ada Quill"))
}

func TestNothingMoreIsStagedInARunThatWasStopped(t *testing.T) {
	y := newYard(t, `  nightly:
    brake: {lines: 2}
    steps: [{stage: {actions: disable, checks: stale}}, {stage: {actions: disable, checks: password-never-expires}}]
`)
	y.falls(0, 3)
	y.dir.Edit("CN=Bram Tern,OU=Staff,"+base, setFlags("66048"))
	run := y.run(t, "nightly")
	assert.Equal(t, Stopped, run.Outcome)
	assert.Equal(t, "the brake has stopped this run", run.steps("stage")[1].Skipped, "though one line would be few enough")
	all, err := y.Batches(t.Context())
	require.NoError(t, err)
	assert.Empty(t, all)
}
