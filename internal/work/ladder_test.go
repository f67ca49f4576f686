package work

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/ladder"
	"yardbroom/internal/settings"
)

// days makes a span that can be pointed at.
func days(n int) *calendar.Span { s := calendar.Days(n); return &s }

// unused is the ladder of the tests: idle for 30 days onto it, at once to a first
// holding place, 30 days later disabled and to a second, 40 days later deleted.
func unused() settings.Ladder {
	return settings.Ladder{Name: "unused", Starts: settings.Start{Idle: days(30)}, Of: &settings.Filter{Kind: "people", Under: "OU=Staff," + base},
		Rungs: []settings.Rung{
			{Name: "shelved", After: calendar.Days(5), Actions: settings.Words{"move"}, To: "OU=Hold1," + base, Unattended: true},
			{Name: "disabled", After: calendar.Days(30), Actions: settings.Words{"disable", "leave-groups", "move"}, To: "OU=Hold2," + base, Unattended: true},
			{Name: "deleted", After: calendar.Days(40), Actions: settings.Words{"delete"}},
		}}
}

// newLadders is a yard with a ladder, whose people signed in three days ago.
func newLadders(t *testing.T, all ...settings.Ladder) *yard {
	t.Helper()
	y := newYard(t)
	y.add(t, "OU=Hold1,"+base, "objectClass", "organizationalUnit")
	y.add(t, "OU=Hold2,"+base, "objectClass", "organizationalUnit")
	y.add(t, "CN=Chart Readers,OU=Staff,"+base, "objectClass", "group", "sAMAccountName", "chart-readers", "groupType", "-2147483646",
		"member", "CN=Ada Quill,OU=Staff,"+base, "member", "CN=Keeper,OU=Staff,"+base)
	// The only domain controller there is, so that its sign-ins are all.
	y.add(t, "CN=practice,"+base, "objectClass", "server", "dNSHostName", "practice.larkmoor.example")
	y.add(t, "CN=NTDS Settings,CN=practice,"+base, "objectClass", "nTDSDSA")
	y.Settings.Ladders = all
	return y
}

// after lets days pass. The keeper and those named sign in.
func (y *yard) after(days int, who ...string) {
	y.at = y.at.AddDate(0, 0, days)
	y.clock.Store(y.at.UnixNano())
	for _, name := range append(who, "Keeper") {
		y.signsIn(name)
	}
}

func (y *yard) signsIn(name string) {
	for _, e := range y.dir.Dump() {
		if strings.HasPrefix(e.DN, "CN="+name+",") {
			y.dir.Edit(e.DN, func(e *directory.Entry) { e.Set("lastLogon", directory.FormatFileTime(y.at)) })
		}
	}
}

func (y *yard) climb(t *testing.T) *LadderClimb {
	t.Helper()
	c, err := y.Climb(context.Background(), y.open(t), &ClimbRequest{})
	require.NoError(t, err)
	for _, l := range c.All {
		require.NoError(t, l.Error)
		for _, b := range l.Batches {
			require.NoError(t, b.Error)
			if len(b.Refusals) > 0 {
				t.Logf("refused: %v", b.Refusals)
			}
		}
	}
	return c.All[0]
}

// where is the container that somebody stands in, "" where they are gone.
func (y *yard) where(name string) string {
	for _, e := range y.dir.Dump() {
		if rdn, parent := directory.SplitDN(e.DN); rdn == "CN="+name {
			return strings.TrimSuffix(parent, ","+base)
		}
	}
	return ""
}

func (y *yard) standing(t *testing.T, account string) *ladder.Standing {
	t.Helper()
	all, err := y.Ladders(context.Background(), y.open(t), &Question{})
	require.NoError(t, err)
	for _, one := range all.All {
		for _, s := range one.Standings {
			if s.Account == account {
				return s
			}
		}
	}
	return nil
}

func (y *yard) offAt(name string) bool {
	for _, e := range y.dir.Dump() {
		if strings.HasPrefix(e.DN, "CN="+name+",") {
			flags, _ := directory.ParseFlags(e.First("userAccountControl"))
			return flags&directory.UACDisabled != 0
		}
	}
	return false
}

func TestALadderIsClimbedInItsTimes(t *testing.T) {
	y := newLadders(t, unused())
	everybody := []string{"Bram Tern", "Dov Ekholm"}
	y.after(20, everybody...)
	require.Nil(t, y.standing(t, "ada"), "23 days idle")
	y.after(7, everybody...)
	s := y.standing(t, "ada")
	require.NotNil(t, s)
	assert.Equal(t, ladder.Climbing, s.State, "%v %+v", s.Holds, s.Start)
	assert.Equal(t, "2026-12-22", s.Due.Format(time.DateOnly), "17 November, 30 days, 5 days")
	y.climb(t)
	assert.Equal(t, "OU=Staff", y.where("Ada Quill"))
	y.after(5, everybody...)
	y.climb(t)
	assert.Equal(t, "OU=Hold1", y.where("Ada Quill"))
	assert.Equal(t, "shelved", y.standing(t, "ada").Rung)
	y.after(29, everybody...)
	y.climb(t)
	assert.Equal(t, "OU=Hold1", y.where("Ada Quill"))
	y.after(1, everybody...)
	y.climb(t)
	assert.Equal(t, "OU=Hold2", y.where("Ada Quill"))
	assert.True(t, y.offAt("Ada Quill"))
	y.after(40, everybody...)
	c := y.climb(t)
	require.Len(t, c.Batches, 1)
	assert.Len(t, c.Batches[0].Batch.Lines, 2, "Cleo was disabled before: since the rung at the latest")
	assert.Equal(t, "a signature", c.Batches[0].Waits)
	assert.Equal(t, ladder.Waiting, y.standing(t, "ada").State)
	assert.Empty(t, y.climb(t).Batches, "it waits already")
	assert.Equal(t, "OU=Hold2", y.where("Ada Quill"))
}

func TestWhoWakesIsBroughtBack(t *testing.T) {
	y := newLadders(t, unused())
	everybody := []string{"Bram Tern", "Dov Ekholm"}
	y.after(36, everybody...)
	y.climb(t)
	require.Equal(t, "OU=Hold1", y.where("Ada Quill"))
	y.after(30, everybody...)
	y.climb(t)
	require.Equal(t, "OU=Hold2", y.where("Ada Quill"))
	y.dir.Edit("CN=Ada Quill,OU=Hold2,"+base, func(e *directory.Entry) { e.Set("userAccountControl", "512") })
	y.after(1, "Ada Quill", "Bram Tern", "Dov Ekholm")
	c := y.climb(t)
	require.Len(t, c.Woke, 1)
	assert.Equal(t, "OU=Staff", y.where("Ada Quill"))
	assert.Contains(t, y.dir.Entry("CN=Chart Readers,OU=Staff,"+base).Get("member"), "CN=Ada Quill,OU=Staff,"+base)
	assert.False(t, y.offAt("Ada Quill"))
	assert.Nil(t, y.standing(t, "ada"))
	assert.Empty(t, y.climb(t).Batches)
	y.after(29, everybody...)
	assert.Nil(t, y.standing(t, "ada"), "everything counts anew")
	y.after(1, everybody...)
	assert.NotNil(t, y.standing(t, "ada"))
}

func TestALadderOfGroupsStartsWhenItFirstSeesThem(t *testing.T) {
	y := newLadders(t, settings.Ladder{Name: "empty-groups", Starts: settings.Start{Found: days(5)}, Checks: settings.Words{"group-empty"},
		Rungs: []settings.Rung{{Name: "marked", After: calendar.Days(10), Actions: settings.Words{"describe"}, Text: "empty", Unattended: true},
			{Name: "deleted", After: calendar.Days(20), Actions: settings.Words{"delete"}}}})
	for _, name := range []string{"Old Hands", "Star Party"} {
		y.add(t, "CN="+name+",OU=Staff,"+base, "objectClass", "group", "sAMAccountName", name, "groupType", "-2147483646")
	}
	y.Settings.Signing.Needed = map[string]int{"delete": 0}
	mark := func(name string) string { return y.dir.Entry("CN=" + name + ",OU=Staff," + base).First("description") }
	y.after(100)
	y.climb(t) // which sees them for the first time
	y.after(14)
	y.climb(t)
	assert.Empty(t, mark("Old Hands"), "fifteen days after that")
	y.after(1)
	y.climb(t)
	assert.Equal(t, "empty", mark("Old Hands"))
	assert.Equal(t, "empty", mark("Star Party"))
	y.dir.Edit("CN=Star Party,OU=Staff,"+base, func(e *directory.Entry) { e.Set("member", "CN=Ada Quill,OU=Staff,"+base) })
	y.after(5)
	c := y.climb(t)
	require.Len(t, c.Woke, 1, "somebody is in it")
	assert.Empty(t, mark("Star Party"))
	y.after(15)
	c = y.climb(t)
	require.Len(t, c.Batches, 1)
	assert.Equal(t, "somebody to carry it out", c.Batches[0].Waits)
	_, err := y.Apply(t.Context(), c.Batches[0].Batch, &CarryRequest{})
	require.NoError(t, err)
	assert.Nil(t, y.dir.Entry("CN=Old Hands,OU=Staff,"+base))
	assert.Equal(t, ladder.Gone, y.standing(t, "Old Hands").State)
}

func TestAComputerThatChangesItsPasswordIsAwake(t *testing.T) {
	l := unused()
	l.Of = &settings.Filter{Kind: "computers"}
	y := newLadders(t, l)
	dn := "CN=LARK-1,OU=Staff," + base
	y.add(t, dn, "objectClass", "user", "objectClass", "computer", "sAMAccountName", "LARK-1$", "userAccountControl", "4096", "primaryGroupID", "515",
		"lastLogon", directory.FormatFileTime(now.AddDate(0, 0, -100)), "pwdLastSet", directory.FormatFileTime(now.AddDate(0, 0, -90)))
	y.after(1)
	y.climb(t)
	require.Equal(t, "OU=Hold1", y.where("LARK-1"))
	y.after(3)
	y.dir.Edit("CN=LARK-1,OU=Hold1,"+base, func(e *directory.Entry) { e.Set("pwdLastSet", directory.FormatFileTime(y.at)) })
	require.Len(t, y.climb(t).Woke, 1)
	assert.Equal(t, "OU=Staff", y.where("LARK-1"))
}

func TestAHoldStopsABatchThatWaits(t *testing.T) {
	l := unused()
	l.Rungs[0].Unattended = false
	y := newLadders(t, l)
	y.after(40, "Bram Tern", "Cleo Birk", "Dov Ekholm")
	c := y.climb(t)
	require.Len(t, c.Batches, 1)
	_, err := y.Hold(t.Context(), y.open(t), &LadderRequest{Account: "ada", Until: "30d", Why: "on a dig"})
	require.NoError(t, err)
	_, err = y.Apply(t.Context(), c.Batches[0].Batch, &CarryRequest{})
	require.NoError(t, err)
	assert.Equal(t, "OU=Staff", y.where("Ada Quill"))
	b, err := y.Batch(t.Context(), c.Batches[0].Batch.ID)
	require.NoError(t, err)
	assert.Contains(t, b.Lines[0].Note, "it is held until 2027-01-29: on a dig")
	_, err = y.LetGo(t.Context(), y.open(t), &LadderRequest{Account: "ada"})
	require.NoError(t, err)
	c = y.climb(t)
	require.Len(t, c.Batches, 1, "and it is staged anew")
}

func TestNoMoreStepAtOnceThanABatchMayHave(t *testing.T) {
	y := newLadders(t, unused())
	y.Settings.Batch.MaxLines = 1
	y.after(40, "Cleo Birk", "Dov Ekholm")
	c := y.climb(t)
	assert.Equal(t, 1, c.Later)
	y.after(1, "Cleo Birk", "Dov Ekholm")
	y.climb(t)
	assert.Equal(t, "OU=Hold1", y.where("Ada Quill"))
	assert.Equal(t, "OU=Hold1", y.where("Bram Tern"))
}

func TestAPrivilegedAccountComesBackWithASignature(t *testing.T) {
	y := newLadders(t, unused())
	admins := "CN=Yard Admins,OU=Staff," + base
	y.add(t, admins, "objectClass", "group", "sAMAccountName", "yard-admins", "groupType", "-2147483646", "member", "CN=Keeper,OU=Staff,"+base)
	y.Settings.Audit.PrivilegedGroups = []string{admins}
	y.after(36, "Bram Tern", "Dov Ekholm")
	y.climb(t)
	y.after(30, "Bram Tern", "Dov Ekholm")
	y.climb(t)
	require.Equal(t, "OU=Hold2", y.where("Ada Quill"))
	// What she was in has become powerful meanwhile.
	y.dir.Edit(admins, func(e *directory.Entry) {
		e.Set("member", append(e.Get("member"), "CN=Chart Readers,OU=Staff,"+base)...)
	})
	_, err := y.Exempt(t.Context(), settings.Exemption{Match: settings.Match{Account: "ada"}, Reason: "needed", Owner: "kay@larkmoor.example"})
	require.NoError(t, err)
	c := y.climb(t)
	require.Len(t, c.Batches, 1)
	assert.Equal(t, "a signature", c.Batches[0].Waits)
	assert.Equal(t, "OU=Hold2", y.where("Ada Quill"), "nobody gets power back without one")
	assert.Empty(t, y.climb(t).Batches, "it waits")
}

func TestARungThatWantsASignatureWaitsForOneAndSaysSo(t *testing.T) {
	l := unused()
	l.Rungs[0].Unattended, l.Rungs[0].Signature = false, true
	l.Signers = settings.Words{"boss@larkmoor.example"}
	y := newLadders(t, l)
	y.Settings.Mail.Server, y.Settings.Mail.From = "localhost:25", "yard@larkmoor.example"
	y.after(40, "Bram Tern", "Cleo Birk", "Dov Ekholm")
	c := y.climb(t)
	require.Len(t, c.Batches, 1)
	assert.Equal(t, "a signature", c.Batches[0].Waits)
	require.Len(t, c.Letters, 1)
	subject, text, _, err := c.Letters[0].Write()
	require.NoError(t, err)
	assert.Equal(t, "boss@larkmoor.example", c.Letters[0].To.Address)
	assert.Contains(t, subject, "waits for your signature")
	assert.Contains(t, text, "ada")
	_, err = y.Apply(t.Context(), c.Batches[0].Batch, &CarryRequest{})
	require.ErrorIs(t, err, batch.ErrNotSigned)
	assert.Empty(t, y.climb(t).Letters, "they are told once")
}

func TestWhatALadderDeletesIsKeptAsLongAsItsRungSays(t *testing.T) {
	l := unused()
	l.Rungs[2].KeepDeleted = days(700)
	y := newLadders(t, l)
	y.Settings.Signing.Needed = map[string]int{"delete": 0}
	others := []string{"Bram Tern", "Cleo Birk", "Dov Ekholm"}
	for _, n := range []int{40, 30, 40} {
		y.after(n, others...)
		y.climb(t)
	}
	all, err := y.Batches(t.Context())
	require.NoError(t, err)
	last := all[len(all)-1]
	require.Equal(t, batch.Staged, last.State)
	b, err := y.Batch(t.Context(), last.ID)
	require.NoError(t, err)
	_, err = y.Apply(t.Context(), b, &CarryRequest{})
	require.NoError(t, err)
	require.Empty(t, y.where("Ada Quill"))
	file := filepath.Join(y.deletedFolder(b), "line-1.ldif")
	require.NoError(t, os.Chtimes(file, y.at, y.at))
	y.at = y.at.AddDate(0, 0, 699)
	require.NoError(t, y.forgetDeleted())
	assert.FileExists(t, file, "the settings keep others for a year")
	y.at = y.at.AddDate(0, 0, 2)
	require.NoError(t, y.forgetDeleted())
	assert.NoDirExists(t, y.deletedFolder(b))

	_, err = y.Undo(t.Context(), b, nil, &BackRequest{})
	require.NoError(t, err)
	assert.Equal(t, "OU=Hold2", y.where("Ada Quill"), "brought back by hand to the rung before")
	st := y.standing(t, "ada")
	require.NotNil(t, st)
	assert.Equal(t, "disabled", st.Rung)
	assert.Equal(t, y.at, st.Since, "since when everything counts anew")
}
