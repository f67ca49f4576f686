package ladder

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/audit"
	"yardbroom/internal/calendar"
	"yardbroom/internal/settings"
)

func day(text string) time.Time {
	t, err := time.Parse(time.DateOnly, text)
	if err != nil {
		panic(err)
	}
	return t
}

func span(n int) *calendar.Span { s := calendar.Days(n); return &s }

// rungs are those of the tests: ten days to be moved, twenty more to be disabled, for
// which people are told a week before.
func rungs() []settings.Rung {
	return []settings.Rung{
		{Name: "shelved", After: calendar.Days(10), Actions: settings.Words{"move"}, To: "OU=Shelf,DC=x"},
		{Name: "disabled", After: calendar.Days(20), Actions: settings.Words{"disable"},
			Tell: &settings.Notice{Who: settings.Words{"person"}, Before: calendar.Days(7)}},
	}
}

func unused() *settings.Ladder {
	return &settings.Ladder{Name: "unused", Starts: settings.Start{Idle: span(30)}, Rungs: rungs()}
}

// ada has not signed in since 1 January, so she comes on the ladder on the 31st.
func ada() *Facts {
	return &Facts{ID: "1", Account: "ada", DN: "CN=Ada,OU=Staff,DC=x", LastSignIn: day("2026-01-01"), Enabled: true, Asked: true,
		Recipients: []Recipient{{Who: "person", Address: "ada@x"}}, Start: &audit.Finding{Since: day("2026-01-01"), Confidence: audit.Sure}}
}

// shelved is who was shelved on 15 February, by batch 7.
func shelved() (*Way, *Facts) {
	f := ada()
	f.DN = "CN=Ada,OU=Shelf,DC=x"
	return &Way{ID: "1", Ladder: "unused", Since: day("2026-02-15"),
		Steps: []Step{{Rung: "shelved", At: day("2026-02-15"), Batch: 7, LastSignIn: day("2026-01-01"), Place: "OU=Shelf,DC=x"}}}, f
}

// toldOn is that Ada was told on a day of what comes next.
func toldOn(text string) Told {
	return Told{Event: Event{Rung: "disabled", Address: "ADA@x", Day: day(text).AddDate(0, 0, 7)}, At: day(text)}
}

func TestNobodyStepsBeforeTheirTime(t *testing.T) {
	for _, c := range []struct {
		at    string
		on    bool
		ready bool
	}{{"2026-01-30", false, false}, {"2026-01-31", true, false}, {"2026-02-09", true, false}, {"2026-02-10", true, true}} {
		s := Stand(unused(), &Way{ID: "1"}, ada(), day(c.at))
		require.Equal(t, c.on, s != nil, c.at)
		if s != nil {
			assert.Equal(t, c.ready, s.Ready(), c.at)
			assert.Equal(t, day("2026-02-10"), s.Day, c.at)
		}
	}
	w, f := shelved()
	w.Told = []Told{toldOn("2026-02-28")}
	assert.False(t, Stand(unused(), w, f, day("2026-03-06")).Ready())
	assert.True(t, Stand(unused(), w, f, day("2026-03-07")).Ready(), "twenty days after the rung before")
}

func TestWhoHasLeftTheLadderCountsAnew(t *testing.T) {
	w := &Way{ID: "1", Ladder: "unused", Anew: day("2026-02-01"), Woke: "taken back by batch 3"}
	assert.Nil(t, Stand(unused(), w, ada(), day("2026-03-02")))
	s := Stand(unused(), w, ada(), day("2026-03-03"))
	require.NotNil(t, s)
	assert.Equal(t, day("2026-03-13"), s.Day)
}

func TestNobodyStepsWhoWasNotTold(t *testing.T) {
	for name, c := range map[string]struct {
		told []Told
		hold *Hold
		day  string // on which she can be disabled, as things are on 10 March
		tell bool
	}{
		"never":                      {nil, nil, "2026-03-17", true},
		"in time":                    {[]Told{toldOn("2026-02-28")}, nil, "2026-03-07", false},
		"late":                       {[]Told{toldOn("2026-03-05")}, nil, "2026-03-12", false},
		"for another day":            {[]Told{{Event: Event{Rung: "disabled", Address: "ada@x", Day: day("2026-03-20")}, At: day("2026-03-01")}}, nil, "2026-03-20", false},
		"of another rung":            {[]Told{{Event: Event{Rung: "shelved", Address: "ada@x"}, At: day("2026-02-28")}}, nil, "2026-03-17", true},
		"before she was shelved":     {[]Told{toldOn("2026-02-01")}, nil, "2026-03-17", true},
		"long before it was to come": {[]Told{toldOn("2026-02-16")}, nil, "2026-03-17", true},
		"before she was held":        {[]Told{toldOn("2026-02-28")}, &Hold{At: day("2026-03-01"), Until: day("2026-03-09")}, "2026-03-17", true},
		"while she was held":         {[]Told{toldOn("2026-03-03")}, &Hold{At: day("2026-03-01"), Until: day("2026-03-09")}, "2026-03-10", false},
	} {
		w, f := shelved()
		w.Told, w.Hold = c.told, c.hold
		s := Stand(unused(), w, f, day("2026-03-10"))
		assert.Equal(t, c.day, s.Day.Format(time.DateOnly), name)
		assert.Equal(t, c.tell, len(s.Tell) == 1, name)
		assert.Equal(t, !s.Day.After(day("2026-03-10")), s.Ready(), name)
	}
	w, f := shelved()
	w.Told = []Told{toldOn("2026-02-28")}
	w.Told[0].CameBack = true
	s := Stand(unused(), w, f, day("2026-06-01"))
	assert.False(t, s.Ready(), "it came back")
	assert.Contains(t, s.Holds[0].Why, "came back")
	l := unused()
	l.Rungs[1].Tell.Otherwise = "desk@x"
	s = Stand(l, w, f, day("2026-06-01"))
	require.Len(t, s.Tell, 1)
	assert.Equal(t, "desk@x", s.Tell[0].Address)
	f.Recipients = nil
	w.Told = nil
	s = Stand(unused(), w, f, day("2026-06-01"))
	assert.Contains(t, s.Holds[0].Why, "nobody can be told")
	assert.False(t, s.Ready())
	w.Told = []Told{{Event: Event{Rung: "disabled", Address: "workbook:CN=Bram", By: "workbook"}, At: day("2026-05-01")}}
	assert.True(t, Stand(unused(), w, f, day("2026-06-01")).Ready(), "a workbook told them")
	f.Asked = false
	w.Told = nil
	assert.False(t, Stand(unused(), w, f, day("2026-06-01")).Ready(), "it was not looked for whom to tell")
}

func TestWhatHoldsSomebodyOnTheirRung(t *testing.T) {
	at := day("2026-06-01")
	for why, change := range map[string]func(w *Way, f *Facts){
		"needed (kay)": func(w *Way, _ *Facts) {
			w.Hold = &Hold{Until: at.AddDate(0, 0, 1), Why: "needed", By: "kay", At: day("2026-05-01")}
		},
		"it is suspended":          func(_ *Way, f *Facts) { f.Suspended, f.SuspendedUntil = "it is suspended", at.AddDate(0, 1, 0) },
		"its person is on leave":   func(_ *Way, f *Facts) { f.OnLeave = "its person is on leave" },
		"moved it to OU=Lab,DC=x":  func(_ *Way, f *Facts) { f.DN = "CN=Ada,OU=Lab,DC=x" },
		"cannot be told: hidden":   func(_ *Way, f *Facts) { f.Start, f.Untold = nil, "hidden" },
		"is not true of it now":    func(_ *Way, f *Facts) { f.Start = nil },
		"likely, not sure (incl":   func(_ *Way, f *Facts) { f.Start.Confidence = audit.Likely },
		"\"yardbroom link confirm": func(_ *Way, f *Facts) { f.Start.Confidence, f.Start.Unconfirmed = audit.Likely, true },
		"no rung shelved any more": func(w *Way, _ *Facts) { w.Steps[0].Rung = "parked" },
	} {
		l := unused()
		l.Rungs[1].Tell = nil
		if strings.Contains(why, "no rung") {
			l.Rungs[0].Name = "put-away"
		}
		w, f := shelved()
		require.True(t, Stand(l, w, f, at).Ready() || strings.Contains(why, "no rung"), "but for what follows")
		change(w, f)
		s := Stand(l, w, f, at)
		assert.Equal(t, Held, s.State, why)
		require.NotEmpty(t, s.Holds, why)
		if !strings.Contains(why, "no rung") {
			assert.Contains(t, s.Holds[0].Why, why)
		}
		assert.NotEmpty(t, s.Against("disabled"), why)
	}
	w, f := shelved()
	w.Hold = &Hold{Until: at, Why: "needed"}
	l := unused()
	l.Rungs[1].Tell = nil
	assert.True(t, Stand(l, w, f, at).Ready(), "the hold is over")
	f.Start.Confidence, l.Rungs[1].IncludeLikely = audit.Likely, true
	assert.True(t, Stand(l, w, f, at).Ready())
	w.Waits = 12
	assert.Equal(t, Waiting, Stand(l, w, f, at).State, "it waits in a batch already")
}

func TestWhatWakesSomebody(t *testing.T) {
	at := day("2026-02-20")
	left := &settings.Ladder{Name: "unused", Starts: settings.Start{Left: span(1)}, Rungs: rungs()}
	for name, c := range map[string]struct {
		on     *settings.Ladder
		change func(w *Way, f *Facts)
		woke   string
	}{
		"nothing":                        {unused(), func(*Way, *Facts) {}, ""},
		"a sign-in":                      {unused(), func(_ *Way, f *Facts) { f.LastSignIn = day("2026-02-16") }, "signed in on 2026-02-16"},
		"one from before that came late": {unused(), func(_ *Way, f *Facts) { f.LastSignIn = day("2026-01-02") }, "signed in on 2026-01-02"},
		"the first one ever":             {unused(), func(w *Way, f *Facts) { w.Steps[0].LastSignIn = time.Time{} }, "signed in on 2026-01-01"},
		"an exemption":                   {unused(), func(_ *Way, f *Facts) { f.Exempt = "it is exempt: needed" }, "it is exempt"},
		"somebody has enabled it":        {unused(), func(w *Way, _ *Facts) { w.Steps[0].Off = true }, "enabled by somebody"},
		"it was never disabled":          {unused(), func(_ *Way, f *Facts) { f.Enabled = true }, ""},
		"what put it on is over":         {unused(), func(_ *Way, f *Facts) { f.Over = "its person is back" }, "is back"},
		"a leaver who signs in":          {left, func(_ *Way, f *Facts) { f.LastSignIn = day("2026-02-16") }, ""},
	} {
		w, f := shelved()
		c.change(w, f)
		s := Stand(c.on, w, f, at)
		if c.woke == "" {
			assert.Empty(t, s.Awake, name)
			continue
		}
		assert.Contains(t, s.Awake, c.woke, name)
		assert.Equal(t, Woken, s.State, name)
		assert.False(t, s.Ready(), name)
		assert.NotEmpty(t, s.Against("disabled"), name)
	}
	f := ada()
	f.Exempt = "it is exempt"
	assert.Nil(t, Stand(unused(), &Way{ID: "1"}, f, at), "nobody is taken on who is exempt")
}

func TestWhoWokeIsToBeBroughtBackBeforeAnythingElse(t *testing.T) {
	w := &Way{ID: "1", Ladder: "unused", Woke: "it signed in", Anew: day("2026-02-01"), Down: []Step{{Rung: "shelved", Batch: 7}}}
	s := Stand(unused(), w, ada(), day("2026-06-01"))
	assert.Equal(t, Woken, s.State, "however long ago that was")
	assert.Equal(t, "it signed in", s.Awake)
	other := unused()
	other.Name = "leavers"
	assert.NotEqual(t, Woken, Stand(other, w, ada(), day("2026-06-01")).State, "it is another ladder's to bring back")
	w.Down, w.Stays = nil, []string{"batch 8: it is in Lab now"}
	assert.True(t, Stand(unused(), w, ada(), day("2026-06-01")).Ready(), "what could not be brought back may come on anew")
	behind := Behind(unused(), w, ada(), day("2026-02-02"))
	assert.Equal(t, Left, behind.State)
	assert.Equal(t, "batch 8: it is in Lab now", behind.Holds[0].Why)
	w = &Way{ID: "1", Ladder: "unused", Steps: []Step{{Rung: "deleted", Gone: true}}}
	assert.Equal(t, Gone, Stand(unused(), w, ada(), day("2026-06-01")).State)
}

func TestWhoWakesWhileAStepIsGivenUpLeavesTheWholeLadder(t *testing.T) {
	w, f := shelved()
	w.Woke, w.Down = "its step was stopped half-way", []Step{{Rung: "disabled", Batch: 9}}
	s := Stand(unused(), w, f, day("2026-06-01"))
	assert.Equal(t, Woken, s.State)
	assert.Equal(t, w.Woke, s.Awake, "only the step is taken back of who sleeps on")
	f.LastSignIn = day("2026-05-31")
	assert.Equal(t, "it signed in on 2026-05-31", Stand(unused(), w, f, day("2026-06-01")).Awake)
}

func TestABatchThatWaitedIsJudgedAnew(t *testing.T) {
	w, f := shelved()
	w.Told = []Told{toldOn("2026-02-28")}
	w.Waits = 9
	s := Stand(unused(), w, f, day("2026-03-07"))
	assert.Empty(t, s.Against("disabled"))
	assert.NotEmpty(t, s.Against("deleted"), "another rung comes next")
	longer := unused()
	longer.Rungs[1].After = calendar.Days(40)
	assert.NotEmpty(t, Stand(longer, w, f, day("2026-03-07")).Against("disabled"), "the time is set otherwise")
	top := unused()
	top.Rungs = top.Rungs[:1]
	assert.NotEmpty(t, Stand(top, w, f, day("2026-03-07")).Against("disabled"), "the rung is gone")
	f.Start = nil
	assert.NotEmpty(t, Stand(unused(), w, f, day("2026-03-07")).Against("disabled"))
}

func TestAForecastFollowsTheRungs(t *testing.T) {
	l := unused()
	w, f := shelved()
	now := Stand(l, w, f, day("2026-02-20"))
	later := ada()
	later.ID, later.Account, later.Start.Since = "2", "ben", day("2026-02-01")
	got := Foresee(l, []*Standing{now}, []*Facts{later}, &Past{}, day("2026-02-20"), day("2026-04-20"), func(t time.Time) time.Time { return t.AddDate(0, 0, 1) })
	var steps []string
	for _, s := range got.Steps {
		steps = append(steps, s.Day.Format("01-02 ")+s.Account+" "+s.From+">"+s.To)
	}
	assert.Equal(t, []string{"03-03 ben >", "03-07 ada shelved>disabled", "03-13 ben >shelved", "04-02 ben shelved>disabled"}, steps)
	on := func(text string) Count {
		for _, c := range got.Counts {
			if c.Day.Equal(day(text)) {
				return c
			}
		}
		return Count{}
	}
	assert.Equal(t, Count{Day: day("2026-02-20"), On: []int{1, 0}}, on("2026-02-20"))
	assert.Equal(t, 1, on("2026-03-05").Before)
	assert.Equal(t, []int{1, 1}, on("2026-03-20").On)
	assert.Equal(t, []int{0, 2}, on("2026-04-20").On)
}

func TestOtherSettingsAreSaid(t *testing.T) {
	was := DefinitionOf(unused())
	l := unused()
	l.Starts.Idle = span(60)
	l.Rungs[1].After = calendar.Days(40)
	l.Rungs = append(l.Rungs, settings.Rung{Name: "deleted", After: calendar.Days(5), Actions: settings.Words{"delete"}})
	l.Rungs[0].Name = "put-away"
	assert.Equal(t, []string{"starts: idle for 60d, was idle for 30d", "rung put-away is new (after 10d: move)", "rung disabled: after 40d, was 20d",
		"rung deleted is new (after 5d: delete)", "rung shelved is gone"}, was.Changes(DefinitionOf(l)))
	old := was.Apply(*l)
	assert.True(t, was.Equal(DefinitionOf(&old)))
	assert.False(t, was.Equal(DefinitionOf(l)))
}

func TestATokenIsOfOneAccountOneRungAndOneAddress(t *testing.T) {
	key, err := ReadKey(t.TempDir())
	require.NoError(t, err)
	ref, err := NewRef()
	require.NoError(t, err)
	e := Event{ID: "1", Ladder: "unused", Rung: "disabled", Address: "Ada@x", Ref: ref}
	token := key.Token(&e)
	require.Equal(t, []string{token}, Tokens("Please: KEEP-"+strings.ToUpper(token)+".\nkeep-"+token))
	assert.Equal(t, ref, Ref(token))
	assert.True(t, key.IsToken(token, &e))
	for name, change := range map[string]func(*Event){"account": func(e *Event) { e.ID = "2" }, "ladder": func(e *Event) { e.Ladder = "leavers" },
		"rung": func(e *Event) { e.Rung = "deleted" }, "address": func(e *Event) { e.Address = "eve@x" }, "directory": func(e *Event) { e.Directory.ID = "S-1" },
		"fields that run together": func(e *Event) { e.Ladder, e.Rung = "unuseddis", "abled" }} {
		other := e
		change(&other)
		assert.False(t, key.IsToken(token, &other), name)
	}
	other, err := ReadKey(t.TempDir())
	require.NoError(t, err)
	assert.False(t, other.IsToken(token, &e), "of another state folder")
	assert.True(t, key.IsMailToken(key.MailToken("ada@x", ref), "ADA@x"))
	assert.False(t, key.IsMailToken(key.MailToken("ada@x", ref), "eve@x"))
	assert.Empty(t, Tokens("keep-short keep-"+token+"x"))
}
