package work

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/ldif"
	"yardbroom/internal/practice"
)

func disable(accounts ...string) *StageRequest {
	return &StageRequest{Actions: []string{batch.Disable}, Choice: Choice{Names: accounts}}
}

func TestADryRunAndARehearsalWriteNothing(t *testing.T) {
	y := newYard(t)
	b := y.must(t, disable("ada", "bram"))
	before := y.dir.Dump()
	journal := func() int {
		kept, err := y.Store(t.Context())
		require.NoError(t, err)
		all, err := kept.Journal(t.Context(), 0, 0)
		require.NoError(t, err)
		return len(all)
	}
	records := journal()

	var told *Foretold
	foretold, err := y.DryRun(t.Context(), b, &CarryRequest{Watch: Watch{Foretold: func(f *Foretold) { told = f }}})
	require.NoError(t, err)
	assert.Same(t, foretold, told)
	assert.Equal(t, 2, foretold.Done())
	assert.False(t, foretold.NotDone())
	assert.Equal(t, []batch.LineState{batch.Waiting, batch.Waiting}, []batch.LineState{b.Lines[0].State, b.Lines[1].State}, "the batch is as it was")

	played, err := y.Rehearse(t.Context(), b, From{})
	require.NoError(t, err)
	assert.False(t, played.NotDone())
	assert.Equal(t, 2, played.Result.Counts[batch.Applied])
	assert.Equal(t, b.ID, played.Batch.ID)
	assert.Equal(t, before, y.dir.Dump())
	assert.Equal(t, records, journal())
}

func TestTheJournalSaysOfABatchAsAWholeWhenItBeginsAndEnds(t *testing.T) {
	y := newYard(t)
	b := y.must(t, disable("ada"))
	_, err := y.Apply(t.Context(), b, &CarryRequest{})
	require.NoError(t, err)
	kept, err := y.Store(t.Context())
	require.NoError(t, err)
	all, err := kept.Journal(t.Context(), b.ID, 0)
	require.NoError(t, err)
	lines := map[string]int{}
	for _, r := range all {
		lines[r.Event] = r.Line
	}
	assert.Equal(t, 0, lines[batch.EventBegun])
	assert.Equal(t, 0, lines[batch.EventEnded])
	assert.Equal(t, 1, lines[batch.EventSettled])
}

func TestARehearsalPlaysOnlyWhatIsLeft(t *testing.T) {
	y := newYard(t)
	b := y.must(t, disable("ada", "bram"))
	_, err := y.Drop(t.Context(), b, []string{"ada"})
	require.NoError(t, err)
	played, err := y.Rehearse(t.Context(), b, From{})
	require.NoError(t, err)
	require.Len(t, played.Batch.Lines, 1)
	assert.Equal(t, "bram", played.Batch.Lines[0].Account)
}

func TestARehearsalOnAFileWithoutAdministratorsSaysSo(t *testing.T) {
	y := newYard(t)
	b := y.must(t, disable("ada"))
	path := filepath.Join(t.TempDir(), "export.ldif")
	var text []byte
	for _, e := range y.dir.Dump() {
		if !e.HasClass("group") {
			text = ldif.AppendEntry(text, &e)
		}
	}
	require.NoError(t, os.WriteFile(path, text, 0o600))
	_, err := y.Rehearse(t.Context(), b, From{Where: path})
	assert.EqualError(t, err, "what was copied does not show its administrators' groups, so whom this would lock out cannot be judged: "+
		"rehearse on a directory or a file that has them")
}

func TestWhoDisagreesCarriesNothingOut(t *testing.T) {
	y := newYard(t)
	b := y.must(t, disable("ada"))
	no := errors.New("no")
	_, err := y.Apply(t.Context(), b, &CarryRequest{Agree: func(asked *batch.Batch, _ *batch.Agreement) error {
		assert.Equal(t, b.ID, asked.ID)
		return no
	}})
	assert.ErrorIs(t, err, no)
	assert.Equal(t, "512", y.flags(t, "Ada Quill"))
	// What undo would do and nobody agreed to is not made at all.
	_, err = y.Apply(t.Context(), b, &CarryRequest{})
	require.NoError(t, err)
	_, err = y.Undo(t.Context(), b, nil, &BackRequest{CarryRequest: CarryRequest{Agree: func(*batch.Batch, *batch.Agreement) error { return no }}})
	assert.ErrorIs(t, err, no)
	_, err = y.Batch(t.Context(), b.ID+1)
	assert.ErrorContains(t, err, "no such batch")
	assert.Equal(t, "514", y.flags(t, "Ada Quill"))
}

func TestWhatNeedsASignatureIsNotAskedFor(t *testing.T) {
	y := newYard(t)
	y.Settings.Signing.Needed = map[string]int{batch.Disable: 1}
	b := y.must(t, disable("ada"))
	_, err := y.Apply(t.Context(), b, &CarryRequest{Agree: func(*batch.Batch, *batch.Agreement) error {
		t.Error("asked")
		return nil
	}})
	assert.ErrorIs(t, err, batch.ErrNotSigned)
	assert.Equal(t, "512", y.flags(t, "Ada Quill"))
}

// halfUndone applies a batch for Ada and Bram, and begins to take it back until
// the first line is done.
func halfUndone(t *testing.T, y *yard) *batch.Batch {
	b := y.must(t, disable("ada", "bram"))
	_, err := y.Apply(t.Context(), b, &CarryRequest{})
	require.NoError(t, err)
	back, err := y.Undo(t.Context(), b, nil, &BackRequest{CarryRequest: CarryRequest{Pace: carry.Pace{Only: 1}}})
	require.NoError(t, err)
	require.Equal(t, 1, back.Carried[0].Batch.Open())
	return b
}

func TestAnUndoThatWasStoppedGoesOn(t *testing.T) {
	y := newYard(t)
	b := halfUndone(t, y)
	var ended []int
	back, err := y.Undo(t.Context(), b, nil, &BackRequest{CarryRequest: CarryRequest{Watch: Watch{Ended: func(c *Carried) { ended = append(ended, c.Batch.ID) }}}})
	require.NoError(t, err, "that nothing is left to make another batch of is no error")
	assert.Equal(t, []int{b.ID + 1}, ended)
	assert.False(t, back.NotDone())
	assert.Contains(t, y.notes, "batch 2 has begun to take batch 1 back and was stopped; it goes on")
	assert.Equal(t, []string{"512", "512"}, []string{y.flags(t, "Ada Quill"), y.flags(t, "Bram Tern")})

	_, err = y.Undo(t.Context(), b, nil, &BackRequest{})
	assert.ErrorIs(t, err, carry.ErrNothingToUndo)
}

func TestAnUndoIsStagedOrTriedWithoutBeingCarriedOut(t *testing.T) {
	y := newYard(t)
	b := y.must(t, disable("ada"))
	_, err := y.Apply(t.Context(), b, &CarryRequest{})
	require.NoError(t, err)
	back, err := y.Undo(t.Context(), b, nil, &BackRequest{How: ByDryRun})
	require.NoError(t, err)
	assert.Empty(t, back.Carried)
	assert.Equal(t, 1, back.Foretold.Done())
	all, err := y.Batches(t.Context())
	require.NoError(t, err)
	assert.Len(t, all, 1, "a dry run keeps none")

	var staged *Staged
	back, err = y.Undo(t.Context(), b, nil, &BackRequest{How: ByStaging, CarryRequest: CarryRequest{Watch: Watch{Staged: func(s *Staged) { staged = s }}}})
	require.NoError(t, err)
	assert.Empty(t, back.Carried)
	require.NotNil(t, staged)
	assert.Equal(t, batch.Staged, staged.Batch.State)
	assert.Equal(t, "514", y.flags(t, "Ada Quill"))
}

func TestOnlyWhatIsOverdueIsTakenBack(t *testing.T) {
	y := newYard(t)
	ctx := context.Background()
	for account, until := range map[string]string{"ada": "2026-12-01", "bram": "2027-12-01", "dov": ""} {
		r := disable(account)
		r.Until = until
		_, err := y.Apply(ctx, y.must(t, r), &CarryRequest{})
		require.NoError(t, err)
	}
	due, err := y.Due(ctx)
	require.NoError(t, err)
	require.Len(t, due, 2)
	assert.Equal(t, "2026-12-01T00:00:00Z", due[0].Batch.Until.Format(time.RFC3339), "at the beginning of that day")
	var over []string
	watch := Watch{Overdue: func(d carry.Due) { over = append(over, d.Batch.Lines[0].Account) }}
	all, err := y.TakeBackDue(ctx, &BackRequest{CarryRequest: CarryRequest{Watch: watch}})
	require.NoError(t, err)
	assert.Empty(t, all)
	y.at = now.AddDate(0, 1, 0)
	all, err = y.TakeBackDue(ctx, &BackRequest{CarryRequest: CarryRequest{Watch: watch}})
	require.NoError(t, err)
	assert.Len(t, all, 1)
	assert.Equal(t, []string{"ada"}, over)
	assert.Equal(t, []string{"512", "514", "514"}, []string{y.flags(t, "Ada Quill"), y.flags(t, "Bram Tern"), y.flags(t, "Dov Ekholm")})
}

func TestWhatIsDeletedIsKeptForAWhileAndComesBack(t *testing.T) {
	y := newYard(t)
	y.Settings.Batch.DeleteMinDisabled = calendar.Span{}
	y.Settings.Signing.Needed = map[string]int{batch.Delete: 0}
	b := y.must(t, &StageRequest{Actions: []string{batch.Delete}, Choice: Choice{Names: []string{"cleo"}}})
	done, err := y.Apply(t.Context(), b, &CarryRequest{})
	require.NoError(t, err)
	require.False(t, done.NotDone(), done.Batch.Lines[0].Note)
	file := filepath.Join(y.State, "deleted", "batch-1", "line-1.ldif")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(text), "Cleo Birk")

	deleted, err := y.Deleted(t.Context(), From{})
	require.NoError(t, err)
	require.Len(t, deleted, 1)
	assert.Equal(t, "cleo", deleted[0].Account)
	assert.True(t, deleted[0].InDirectory, "the directory keeps it too, and it is listed once")
	assert.False(t, deleted[0].Taken)

	var told *Returning
	back, err := y.Restore(t.Context(), "cleo", &BackRequest{CarryRequest: CarryRequest{Watch: Watch{Returning: func(r *Returning) { told = r }}}})
	require.NoError(t, err)
	assert.False(t, back.NotDone())
	assert.Equal(t, 1, told.Batch)
	assert.Equal(t, "514", y.flags(t, "Cleo Birk"))

	// Long after, nothing is kept any more, nor an empty folder.
	y.at = now.AddDate(0, 0, 400)
	require.NoError(t, os.Chtimes(file, now, now))
	require.NoError(t, y.forgetDeleted())
	_, err = os.Stat(filepath.Dir(file))
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestAnotherDirectoryGetsNothing(t *testing.T) {
	y := newYard(t)
	b := y.must(t, disable("ada"))
	other := practice.New(base, "S-1-5-21-9-9-9", y.Now)
	url, err := (&practice.Server{Dir: other, Account: "keeper", Password: "practice only"}).Listen(t.Context(), "127.0.0.1:0")
	require.NoError(t, err)
	on := From{Where: url, Access: Access{Bind: "keeper@larkmoor.example"}}
	_, err = y.Apply(t.Context(), b, &CarryRequest{On: on})
	assert.ErrorContains(t, err, "S-1-5-21-9-9-9")
	_, err = y.Rehearse(t.Context(), b, on)
	assert.ErrorContains(t, err, "S-1-5-21-9-9-9")
	_, err = y.Apply(t.Context(), b, &CarryRequest{Server: "dc9.larkmoor.example"})
	assert.ErrorAs(t, err, new(RequestError), "which is none of the yard's servers")
	_, err = y.Apply(t.Context(), b, &CarryRequest{})
	require.NoError(t, err)
	_, err = y.Undo(t.Context(), b, nil, &BackRequest{CarryRequest: CarryRequest{On: on}})
	assert.ErrorContains(t, err, "nothing was done")
	assert.Equal(t, "514", y.flags(t, "Ada Quill"))
}

// TestAPrimaryGroupThatIsLeftOutIsNotWritten deletes somebody whose primary group
// is none of ours, and brings them back.
func TestAPrimaryGroupThatIsLeftOutIsNotWritten(t *testing.T) {
	for _, leftOut := range []bool{true, false} {
		y := newYard(t)
		y.Settings.Batch.DeleteMinDisabled = calendar.Span{}
		y.Settings.Signing.Needed = map[string]int{batch.Delete: 0}
		y.add(t, "OU=Towers,"+base, "objectClass", "organizationalUnit")
		const crew = "CN=Crew,OU=Towers," + base
		y.add(t, crew, "objectClass", "group", "sAMAccountName", "crew", "groupType", "-2147483646")
		rid := directory.RID(y.dir.Entry(crew).First("objectSid"))
		y.dir.Edit("CN=Cleo Birk,OU=Staff,"+base, func(e *directory.Entry) { e.Set("primaryGroupID", strconv.Itoa(int(rid))) })
		if leftOut {
			small := y.Settings.Yards["small"]
			small.LeaveOut = []string{"OU=Towers," + base}
			y.Settings.Yards["small"] = small
		}
		b := y.must(t, &StageRequest{Actions: []string{batch.Delete}, Choice: Choice{Names: []string{"cleo"}}})
		_, err := y.Apply(t.Context(), b, &CarryRequest{})
		require.NoError(t, err)
		before := y.dir.Entry(crew)
		back, err := y.Restore(t.Context(), "cleo", &BackRequest{})
		require.NoError(t, err)
		line := back.Carried[0].Batch.Lines[0]
		primary := y.dir.Entry("CN=Cleo Birk,OU=Staff," + base).First("primaryGroupID")
		if leftOut {
			assert.Equal(t, batch.InPart, line.State)
			assert.Contains(t, line.Note, "its primary group was not put back: it is outside the yard's scope")
			assert.Equal(t, before, y.dir.Entry(crew))
			assert.Equal(t, "513", primary)
		} else {
			assert.Equal(t, batch.Applied, line.State, line.Note)
			assert.Equal(t, strconv.Itoa(int(rid)), primary)
		}
	}
}

// TestADryRunLooksAtNoMoreThanIsAskedFor tries the first line of two.
func TestADryRunLooksAtNoMoreThanIsAskedFor(t *testing.T) {
	y := newYard(t)
	b := y.must(t, disable("ada", "bram"))
	foretold, err := y.DryRun(t.Context(), b, &CarryRequest{Pace: carry.Pace{Only: 1}})
	require.NoError(t, err)
	require.Len(t, foretold.Lines, 1)
	assert.False(t, foretold.NotDone(), "the other one was not to be looked at")

	y.dir.Edit("CN=Bram Tern,OU=Staff,"+base, func(e *directory.Entry) { e.Set("userAccountControl", "514") })
	foretold, err = y.DryRun(t.Context(), b, &CarryRequest{})
	require.NoError(t, err)
	assert.Equal(t, []batch.LineState{batch.Applied, batch.Drifted}, []batch.LineState{foretold.Lines[0].State, foretold.Lines[1].State})
	assert.True(t, foretold.NotDone())
	assert.Equal(t, 1, foretold.Done())
}

func TestWhoIsMovedLeavesGroupsThatAreReadAsOfAMomentAgo(t *testing.T) {
	for late := range 12 { // which search after the move sees the directory as it was before
		y := newYard(t)
		y.add(t, "CN=Crew,OU=Staff,"+base, "objectClass", "group", "sAMAccountName", "Crew", "member", "CN=Ada Quill,OU=Staff,"+base)
		b := y.must(t, &StageRequest{Actions: []string{batch.Move, batch.LeaveGroups}, To: "OU=Parked," + base, Choice: Choice{Names: []string{"ada"}}})
		var before *practice.Directory
		searches := 0
		y.server.SetFault(func(op practice.Operation) (f practice.Fault) {
			switch {
			case op.Name == "modifyDN":
				before = practice.Copy(practice.Identity{Dialect: directory.AD, Base: base, SID: "S-1-5-21-1-2-3"}, y.dir.Dump(), y.Now)
			case op.Name == "search" && before != nil:
				if searches++; searches == late+1 {
					f.Earlier = before
				}
			}
			return f
		})
		done, err := y.Apply(t.Context(), b, &CarryRequest{})
		require.NoError(t, err)
		assert.Equal(t, 1, done.Result.Counts[batch.Applied], "search %d: %s", late+1, done.Batch.Lines[0].Note)
		assert.Empty(t, y.dir.Entry("CN=Crew,OU=Staff,"+base).Get("member"), "search %d: %s", late+1, done.Batch.Lines[0].Note)
	}
}
