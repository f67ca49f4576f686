package rounds

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/ladder"
	"yardbroom/internal/practice"
	"yardbroom/internal/settings"
	"yardbroom/internal/store"
	"yardbroom/internal/work"
)

var (
	ladderRuns  = flag.Int("ladder.runs", 4, "how many random pairs of years to live through")
	ladderFirst = flag.Int("ladder.first", 1, "the first seed of these")
	ladderSeed  = flag.Uint64("ladder.seed", 0, "live only through those of this seed")
)

// TestTwoYearsOnLadders lives through two years on two ladders: people sleep, wake on
// every rung and in the middle of a climb, are exempted, held, renamed, moved by hand,
// enabled by hand, leave and return by the roster; sign-ins are hidden, mail is down,
// nights are left out, climbs are killed at any request and before any record, two
// climb at once, and waiting times change. A slow judge that knows what really happened
// holds every step against the rules. A failure names its seed; -ladder.seed lives
// through it again.
func TestTwoYearsOnLadders(t *testing.T) {
	if *ladderSeed != 0 {
		newLife(t, *ladderSeed).live()
		return
	}
	runs := *ladderRuns
	if testing.Short() {
		runs = 1
	}
	for seed := range runs {
		seed += *ladderFirst
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			newLife(t, uint64(seed)).live()
		})
	}
}

// soul is somebody on the ladders, as the judge knows them.
type soul struct {
	id       string // in the directory, raw
	account  string
	last     time.Time // they signed in
	dusk     time.Time // they had signed in last when the night began
	asleep   bool
	hidden   bool      // their sign-ins are
	rung     string    // they stand on
	since    time.Time // they stand there
	anew     time.Time // since when everything counts anew
	held     time.Time // until
	exempt   int       // the number of their exemption
	strayed  bool      // somebody has moved or changed them while they stood on a rung
	left     time.Time // by the roster, zero for who works here
	leave    bool
	groups   []string // folded DNs, before they went on a ladder
	enabled  bool
	enabledB bool // by hand, since the last climb
}

// life is two years of a small yard.
type life struct {
	*yard
	t      *testing.T
	r      *rand.Rand
	souls  []*soul
	roster string
	night  int
	dead   atomic.Bool
	mu     sync.Mutex // of r while a climb goes on
	kills  int
	ops    int
	log    []string
}

const lifeLadders = `  none:
    steps: [survey]
ladders:
  - name: leavers
    starts: {left: 5d}
    rungs:
      - {name: parked, after: 0d, actions: [disable, move], to: "OU=Parked,DC=larkmoor,DC=example", unattended: true}
      - {name: stripped, after: 20d, actions: [leave-groups, describe], text: stripped, unattended: true}
  - name: unused
    starts: {idle: 30d}
    of: {kind: people, under: "OU=Staff,DC=larkmoor,DC=example", where: {enabled: true}}
    rungs:
      - {name: shelved, after: 10d, actions: [move], to: "OU=Hold1,DC=larkmoor,DC=example", unattended: true}
      - name: disabled
        after: 30d
        actions: [disable, leave-groups, move]
        to: "OU=Hold2,DC=larkmoor,DC=example"
        unattended: true
        tell: {who: [person, manager], before: 14d}
      - {name: deleted, after: 60d, actions: [delete]}
signing: {needed: {delete: 0}}
`

func newLife(t *testing.T, seed uint64) *life {
	l := &life{t: t, r: rand.New(rand.NewPCG(seed, 19))}
	t.Logf("again with: go test ./internal/rounds -run TwoYears -ladder.seed=%d", seed)
	l.yard = emptyYard(t, lifeLadders)
	l.Note = func(string) {}
	l.add(t, "CN=practice,"+base, "objectClass", "server", "dNSHostName", "practice.larkmoor.example")
	l.add(t, "CN=NTDS Settings,CN=practice,"+base, "objectClass", "nTDSDSA")
	for _, ou := range []string{"Hold1", "Hold2", "Elsewhere"} {
		l.add(t, "OU="+ou+","+base, "objectClass", "organizationalUnit")
	}
	names := []string{"Ada Quill", "Cleo Birk", "Dov Ekholm", "Esi Larsen", "Finn Moor", "Gita Roe"}
	for i, name := range names {
		l.person(t, name, 1)
		dn := "CN=" + name + ",OU=Staff," + base
		l.dir.Edit(dn, func(e *directory.Entry) { e.Set("employeeNumber", fmt.Sprint(i+1)) })
		e := l.dir.Entry(dn)
		l.souls = append(l.souls, &soul{id: e.First("objectGUID"), account: e.First("sAMAccountName"), last: l.at.AddDate(0, 0, -1), enabled: true})
	}
	for g := range 3 {
		pairs := []string{"objectClass", "group", "sAMAccountName", fmt.Sprintf("group%d", g), "groupType", "-2147483646"}
		for i, name := range names {
			if (i+g)%2 == 0 {
				pairs = append(pairs, "member", "CN="+name+",OU=Staff,"+base)
			}
		}
		l.add(t, fmt.Sprintf("CN=Group%d,OU=Staff,%s", g, base), pairs...)
	}
	l.roster = filepath.Join(t.TempDir(), "people.csv")
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(strings.Join(l.log, "\n"))
			l.lastRecords()
		}
	})
	return l
}

func (l *life) say(format string, args ...any) {
	l.log = append(l.log, l.at.Format(time.DateOnly)+" "+fmt.Sprintf(format, args...))
}

// find is the entry of somebody wherever it is, nil where it is deleted.
func (l *life) find(s *soul) *directory.Entry {
	for _, e := range l.dir.Dump() {
		if e.First("objectGUID") == s.id && !e.Has("isDeleted") {
			return &e
		}
	}
	return nil
}

func (l *life) live() {
	end := l.at.AddDate(2, 0, 0)
	for l.at.Before(end) {
		l.at = l.at.AddDate(0, 0, 1+l.r.IntN(7))
		l.night++
		for _, s := range l.souls {
			l.day(s)
		}
		l.signsIn("Keeper", 0)
		l.signsIn("Bram Tern", 0)
		if l.r.IntN(25) == 0 {
			rung := &l.Settings.Ladders[1].Rungs[l.r.IntN(2)]
			rung.After = calendar.Days(5 + l.r.IntN(60))
			l.say("rung %s after %s", rung.Name, rung.After)
		}
		for _, s := range l.souls {
			s.dusk = s.last
		}
		l.writeRoster()
		l.reopen()
		switch n := l.r.IntN(20); {
		case n < 3:
			l.say("nobody climbs")
		case n < 8:
			l.badNight()
		default:
			l.goodNight()
		}
	}
	l.everybodyBack()
}

// day is what happens to somebody before a night.
func (l *life) day(s *soul) {
	e := l.find(s)
	if e == nil {
		return
	}
	if s.asleep {
		s.asleep = l.r.IntN(30) > 0
	} else {
		s.asleep = l.r.IntN(12) == 0
	}
	rdn, parent := directory.SplitDN(e.DN)
	switch n := l.r.IntN(150); {
	case n == 0:
		name := strings.TrimSuffix(directory.LeafValue(e.DN), " Renamed") + " Renamed"
		if rdn != "CN="+name {
			require.NoError(l.t, l.dir.ModifyDN(e.DN, "CN="+name, nil))
			l.say("%s is renamed", s.account)
		}
	case n == 1:
		to := "OU=Elsewhere," + base
		if strings.EqualFold(parent, to) {
			to = "OU=Staff," + base
		}
		require.NoError(l.t, l.dir.ModifyDN(e.DN, rdn, &to))
		s.strayed = s.strayed || s.rung != ""
		l.say("%s is moved by hand to %s", s.account, to)
	case n == 2 && s.exempt == 0:
		x, err := l.Exempt(l.t.Context(), settings.Exemption{Match: settings.Match{Account: s.account}, Reason: "needed", Owner: "kay@larkmoor.example"})
		require.NoError(l.t, err)
		s.exempt = x.Number
		l.say("%s is exempt", s.account)
	case n < 10 && s.exempt != 0:
		require.NoError(l.t, l.EndExemption(l.t.Context(), s.exempt))
		s.exempt = 0
		l.say("%s is exempt no more", s.account)
	case n < 13 && !s.held.After(l.at):
		l.hold(s)
	case n == 14 && s.held.After(l.at):
		p := l.open()
		_, err := l.LetGo(l.t.Context(), p, &work.LadderRequest{Account: s.account})
		p.Close()
		require.NoError(l.t, err)
		s.held = l.at
		l.say("%s is let go", s.account)
	case n < 17 && s.left.IsZero():
		s.left = l.at.AddDate(0, 0, -l.r.IntN(10))
		l.say("%s has left on %s", s.account, s.left.Format(time.DateOnly))
	case n < 24 && !s.left.IsZero():
		s.left = time.Time{}
		l.say("%s is back", s.account)
	case n == 25:
		s.leave = !s.leave
		l.say("%s on leave: %v", s.account, s.leave)
	case n < 30:
		s.hidden = !s.hidden
		l.dir.Deny("", false)
		for _, other := range l.souls {
			if e := l.find(other); other.hidden && e != nil {
				l.dir.Deny(e.DN, false, "lastLogon", "lastLogonTimestamp")
			}
		}
		l.say("%s hides: %v", s.account, s.hidden)
	}
	if !s.asleep {
		l.comes(s)
	}
}

func (l *life) open() *work.Place {
	p, err := l.Open(l.t.Context(), work.From{})
	require.NoError(l.t, err)
	return p
}

func (l *life) hold(s *soul) {
	p := l.open()
	defer p.Close()
	days := 10 + l.r.IntN(80)
	_, err := l.Hold(l.t.Context(), p, &work.LadderRequest{Account: s.account, Until: fmt.Sprintf("%dd", days), Why: "needed"})
	require.NoError(l.t, err)
	s.held = l.at.AddDate(0, 0, days)
	l.say("%s is held for %d days", s.account, days)
}

// comes lets somebody sign in, whom a colleague enables first where that must be.
func (l *life) comes(s *soul) {
	e := l.find(s)
	if e == nil {
		return
	}
	if flags := e.First("userAccountControl"); flags != "512" {
		if !s.left.IsZero() || l.r.IntN(3) > 0 {
			return
		}
		l.dir.Edit(e.DN, func(e *directory.Entry) { e.Set("userAccountControl", "512") })
		s.enabled, s.enabledB = true, true
		l.say("%s is enabled by hand", s.account)
	}
	at := l.at.Add(-time.Duration(1+l.r.IntN(60)) * time.Minute)
	s.last = at
	l.dir.Edit(e.DN, func(e *directory.Entry) {
		e.Set("lastLogon", directory.FormatFileTime(at))
		e.Set("lastLogonTimestamp", directory.FormatFileTime(at))
	})
}

func (l *life) writeRoster() {
	var b strings.Builder
	b.WriteString("id,given,family,status,end\n")
	row := func(id, name, status, end string) {
		given, family, _ := strings.Cut(name, " ")
		fmt.Fprintf(&b, "%s,%s,%s,%s,%s\n", id, given, family, status, end)
	}
	names := []string{"Ada Quill", "Cleo Birk", "Dov Ekholm", "Esi Larsen", "Finn Moor", "Gita Roe"}
	for i, s := range l.souls {
		status, end := "active", ""
		if s.leave {
			status = "leave"
		}
		if !s.left.IsZero() {
			status, end = "terminated", s.left.Format(time.DateOnly)
		}
		row(fmt.Sprint(i+1), names[i], status, end)
	}
	row("98", "Bram Tern", "active", "")
	row("99", "Kay Keeper", "active", "")
	require.NoError(l.t, os.WriteFile(l.roster, []byte(b.String()), 0o600))
}

// climbNow climbs once, and hands the mails over.
func (l *life) climbNow(s *work.Session) (*work.Climb, error) {
	ctx := context.Background()
	p, err := s.Open(ctx, work.From{})
	if err != nil {
		return nil, err
	}
	defer p.Close()
	c, err := s.Climb(ctx, p, &work.ClimbRequest{WholeRoster: true, Question: work.Question{Roster: work.RosterFrom{Where: l.roster}}})
	if err != nil {
		return c, err
	}
	for _, one := range c.All {
		if err := KeepLetters(ctx, s, one.Letters); err != nil {
			return c, err
		}
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return c, err
	}
	return c, Deliver(ctx, kept, s.Settings, l.post, s.Now, func(string, ...any) {})
}

// reopen begins a new process.
func (l *life) reopen() {
	_ = l.Session.Close()
	l.Session = l.Session.Fresh()
	l.Runner.Session = l.Session
	l.dead.Store(false)
	l.server.SetFault(nil)
	l.Session.Now = func() time.Time { return l.at }
}

// goodNight climbs with nothing going wrong, and holds what came of it against what
// must be.
func (l *life) goodNight() {
	before := l.stands()
	mails := len(l.post.mails)
	c, err := l.climbNow(l.Session)
	require.NoError(l.t, err)
	for _, one := range c.All {
		require.NoError(l.t, one.Error)
		for _, b := range one.Batches {
			l.say("%s %s down %v: %s %v", one.Name, b.Rung, b.Down, b.Said(), b.Refusals)
		}
	}
	l.read(mails)
	l.moved(before)
	l.nobodyAwakeBelow(c)
	l.asDerived()
	l.carriesOutByHand(c)
}

// badNight climbs under faults: kills, drops, somebody who signs in meanwhile, mail that
// is down, and two at once.
func (l *life) badNight() {
	before := l.stands()
	mails := len(l.post.mails)
	if l.r.IntN(3) == 0 {
		l.post.shut = errDown
	}
	l.kills, l.ops = l.r.IntN(3), 0
	l.Session.Now = func() time.Time {
		l.mu.Lock()
		defer l.mu.Unlock()
		if l.kills > 0 && l.r.IntN(15) == 0 {
			l.kill()
		}
		return l.at
	}
	l.server.SetFault(l.fault)
	if l.r.IntN(4) == 0 {
		l.twoAtOnce()
	} else {
		_, err := l.climbNow(l.Session)
		l.say("a bad night: %v", err)
	}
	l.reopen()
	l.post.shut = nil
	l.read(mails)
	l.moved(before)
}

func (l *life) twoAtOnce() {
	var wait sync.WaitGroup
	for range 2 {
		s := l.Session.Fresh()
		wait.Go(func() {
			_, _ = l.climbNow(s)
			_ = s.Close()
		})
	}
	wait.Wait()
	l.say("two climbed at once")
}

// kill ends the process as far as anybody else can see: no request and no record of it
// comes through any more. The caller holds mu.
func (l *life) kill() {
	l.kills--
	l.dead.Store(true)
	if kept, err := l.Session.Store(context.Background()); err == nil {
		go kept.Close()
	}
	l.say("killed")
}

func (l *life) fault(op practice.Operation) (f practice.Fault) {
	if l.dead.Load() {
		f.DropBefore = true
		return f
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	switch n := l.r.IntN(400); {
	case n < 2:
		f.DropBefore = true
	case n < 4:
		f.DropAfter = true
	case n < 8 && l.kills > 0:
		l.kill()
		f.DropAfter = n%2 == 0
		f.DropBefore = !f.DropAfter
	case n < 30:
		s := l.souls[l.r.IntN(len(l.souls))]
		f.Meanwhile = func() {
			l.mu.Lock()
			defer l.mu.Unlock()
			if s.rung != "disabled" && s.rung != "parked" && s.rung != "stripped" {
				s.asleep = false
				l.comes(s)
				l.say("%s signs in meanwhile", s.account)
			}
		}
	}
	return f
}

// stands is where everybody stands, by what the directory shows.
func (l *life) stands() map[*soul]string {
	all := map[*soul]string{}
	for _, s := range l.souls {
		all[s] = l.stand(s)
	}
	return all
}

func (l *life) stand(s *soul) string {
	e := l.find(s)
	if e == nil {
		return "deleted"
	}
	_, parent := directory.SplitDN(e.DN)
	switch place, _, _ := strings.Cut(parent, ","); place {
	case "OU=Hold1":
		return "shelved"
	case "OU=Hold2":
		return "disabled"
	case "OU=Parked":
		if e.First("description") == "stripped" {
			return "stripped"
		}
		return "parked"
	case "OU=Elsewhere":
		return "elsewhere"
	}
	return ""
}

func (l *life) groupsOf(e *directory.Entry) (all []string) {
	for _, g := range l.dir.Dump() {
		if slices.ContainsFunc(g.Get("member"), func(m string) bool { return directory.FoldDN(m) == directory.FoldDN(e.DN) }) {
			all = append(all, directory.FoldDN(g.DN))
		}
	}
	slices.Sort(all)
	return all
}

// moved holds every step of a night against the rules.
func (l *life) moved(before map[*soul]string) {
	for _, s := range l.souls {
		was, is := before[s], l.stand(s)
		if is == was {
			if is == "" && s.rung == "" {
				if e := l.find(s); e != nil {
					s.groups = l.groupsOf(e)
				}
			}
			continue
		}
		l.say("%s: %q to %q", s.account, was, is)
		switch is {
		case "shelved", "disabled", "deleted", "parked", "stripped":
			if l.below(was, is) {
				l.up(s, was, is)
				continue
			}
		}
		// They came down, by one rung or more.
		if s.anew = l.at; is == "" || is == "elsewhere" {
			s.rung, s.since, s.strayed = "", l.at, false
			continue
		}
		s.rung, s.since = is, l.at
	}
}

var order = map[string]int{"": 0, "elsewhere": 0, "shelved": 1, "parked": 1, "disabled": 2, "stripped": 2, "deleted": 3}

func (l *life) below(was, is string) bool { return order[was] < order[is] }

// up holds a step against the rules.
func (l *life) up(s *soul, was, is string) {
	t := l.t
	require.Equal(t, order[was]+1, order[is], "%s goes one rung at a time", s.account)
	require.False(t, s.exempt != 0, "%s is exempt", s.account)
	require.False(t, s.held.After(l.at), "%s is held", s.account)
	require.False(t, s.leave && s.left.IsZero(), "%s is on leave", s.account)
	rungs := l.Settings.Ladders[1].Rungs
	switch is {
	case "shelved":
		life := later(s.dusk, s.anew)
		require.False(t, l.at.Before(rungs[0].After.After(life.AddDate(0, 0, 30))), "%s was shelved early", s.account)
	case "disabled":
		require.False(t, l.at.Before(rungs[1].After.After(s.since)), "%s was disabled early", s.account)
		require.False(t, s.dusk.After(s.since), "%s woke and was disabled", s.account)
		l.wasTold(s)
	case "deleted":
		require.False(t, l.at.Before(rungs[2].After.After(s.since)), "%s was deleted early", s.account)
	case "parked":
		require.False(t, s.left.IsZero(), "%s has not left", s.account)
		// A day of the roster begins in the zone of the yard.
		require.False(t, l.at.Before(later(s.left.Truncate(24*time.Hour), s.anew).AddDate(0, 0, 5)), "%s was parked early", s.account)
	case "stripped":
		require.False(t, s.left.IsZero(), "%s is back", s.account)
		require.False(t, l.at.Before(l.Settings.Ladders[0].Rungs[1].After.After(s.since)), "%s was stripped early", s.account)
	}
	if s.strayed && order[is] == 1 { // no first rung takes groups, but an earlier one may have, for good
		s.groups = l.groupsOf(l.find(s))
	}
	s.rung, s.since, s.strayed = is, l.at, false
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// wasTold holds the mails against a step that wants them.
func (l *life) wasTold(s *soul) {
	for _, address := range []string{s.account + "@larkmoor.example", "bram@larkmoor.example"} {
		require.True(l.t, slices.ContainsFunc(l.post.mails, func(m sent) bool {
			return m.to == address && !m.at.Before(s.since) && !m.at.AddDate(0, 0, 14).After(l.at) && !m.at.Before(s.held.AddDate(0, 0, -14)) &&
				strings.Contains(m.text, "\n  "+s.account+" (") && strings.Contains(m.text, "will be disabled")
		}), "%s was disabled, and %s not told in time", s.account, address)
	}
}

// read dates the mails that came in a night.
func (l *life) read(from int) {
	for i := from; i < len(l.post.mails); i++ {
		l.post.mails[i].at = l.at
		l.say("mail to %s: %s", l.post.mails[i].to, l.post.mails[i].subject)
	}
}

// nobodyAwakeBelow holds after a good night that whoever has woken is back, with all that
// the ladder took, unless somebody has changed them meanwhile.
func (l *life) nobodyAwakeBelow(c *work.Climb) {
	for _, s := range l.souls {
		e := l.find(s)
		if e == nil || s.rung == "" {
			if e != nil && s.rung == "" && l.stand(s) == "" && len(s.groups) > 0 && s.anew.Equal(l.at) && !s.strayed {
				require.Equal(l.t, s.groups, l.groupsOf(e), "%s has the groups again", s.account)
			}
			s.enabledB = false
			continue
		}
		woke := s.exempt != 0 || s.enabledB && e.First("userAccountControl") == "512" ||
			(s.rung == "shelved" || s.rung == "disabled") && s.last.After(s.since) && !s.hidden ||
			(s.rung == "parked" || s.rung == "stripped") && s.left.IsZero() && !s.leave
		s.enabledB = false
		if !woke || s.strayed {
			continue
		}
		require.Fail(l.t, "somebody woke and stays below", "%s on %s: %s", s.account, s.rung, strings.Join(l.told(c, s), "; "))
	}
}

// told is what a climb says of somebody.
func (l *life) told(c *work.Climb, s *soul) (all []string) {
	for _, one := range c.All {
		for _, b := range one.Batches {
			for _, no := range b.Refusals {
				if no.Account == s.account {
					all = append(all, no.Why)
				}
			}
			if b.Batch != nil {
				for i := range b.Batch.Lines {
					if line := &b.Batch.Lines[i]; line.Account == s.account {
						all = append(all, fmt.Sprintf("%s %s", line.State, line.Note))
					}
				}
			}
		}
	}
	return all
}

// asDerived holds what the ladders say against what is there.
func (l *life) asDerived() {
	p := l.open()
	defer p.Close()
	all, err := l.Ladders(l.t.Context(), p, &work.Question{Roster: work.RosterFrom{Where: l.roster}})
	require.NoError(l.t, err)
	seen := map[string]int{}
	for _, one := range all.All {
		for _, st := range one.Standings {
			if st.Rung != "" || st.State == ladder.Gone || st.State == ladder.Waiting && st.Way.Halfway != "" {
				seen[st.Account]++
			}
			require.LessOrEqual(l.t, seen[st.Account], 1, "%s is on one ladder at most", st.Account)
			i := slices.IndexFunc(l.souls, func(s *soul) bool { return s.account == st.Account })
			if i < 0 || l.souls[i].strayed || st.Rung == "" || st.State == ladder.Strange || st.State == ladder.Left {
				continue
			}
			require.Equal(l.t, l.stand(l.souls[i]), st.Rung, "%s, %s", st.Account, st.State)
		}
	}
	for _, s := range l.souls {
		if s.rung != "" && !s.strayed {
			require.Equal(l.t, 1, seen[s.account], "%s is lost: on %s since %s", s.account, s.rung, s.since)
		}
	}
}

// carriesOutByHand lets somebody carry out what waits for a person.
func (l *life) carriesOutByHand(c *work.Climb) {
	for _, one := range c.All {
		for _, b := range one.Batches {
			if b.Waits != "somebody to carry it out" || l.r.IntN(3) == 0 {
				continue
			}
			before := l.stands()
			// Days may pass until then, and much may happen.
			l.at = l.at.AddDate(0, 0, l.r.IntN(4))
			if l.r.IntN(2) == 0 {
				s := l.souls[l.r.IntN(len(l.souls))]
				if !s.held.After(l.at) && l.find(s) != nil {
					l.hold(s)
				}
			}
			_, err := l.Apply(l.t.Context(), b.Batch, &work.CarryRequest{Pace: carry.Pace{Connections: 1}})
			require.NoError(l.t, err)
			l.moved(before)
		}
	}
}

// everybodyBack exempts everybody, so that all that can be taken back is, and then undoes
// by hand what is deleted.
func (l *life) everybodyBack() {
	ctx := l.t.Context()
	kept, err := l.Store(ctx)
	require.NoError(l.t, err)
	l.dir.Deny("", false)
	all, err := l.Batches(ctx)
	require.NoError(l.t, err)
	for _, b := range slices.Backward(all) {
		if b.Ladder == "" || b.UndoOf != 0 || !slices.Contains(b.Actions, batch.Delete) || b.State == batch.Staged {
			continue
		}
		whole, err := l.Batch(ctx, b.ID)
		require.NoError(l.t, err)
		if _, err := l.Undo(ctx, whole, nil, &work.BackRequest{}); !errors.Is(err, carry.ErrNothingToUndo) {
			require.NoError(l.t, err, "undo of batch %d", b.ID)
		}
	}
	for _, s := range l.souls {
		require.NotNil(l.t, l.find(s), "%s is lost", s.account)
		if s.rung == "deleted" {
			s.rung, s.since = "disabled", l.at
		}
		if s.exempt == 0 {
			_, err := l.Exempt(ctx, settings.Exemption{Match: settings.Match{Account: s.account}, Reason: "the end", Owner: "kay@larkmoor.example"})
			require.NoError(l.t, err)
		}
	}
	l.at = l.at.AddDate(0, 0, 1)
	_, err = l.climbNow(l.Session)
	require.NoError(l.t, err)
	for _, s := range l.souls {
		if !s.strayed {
			require.Contains(l.t, []string{"", "elsewhere"}, l.stand(s), "%s is back", s.account)
		}
	}
	_, err = kept.Verify(ctx, "")
	require.NoError(l.t, err)
	_ = maps.Keys(l.stands())
}

// lastRecords logs the end of the journal.
func (l *life) lastRecords() {
	kept, err := store.Open(context.Background(), l.State)
	if err != nil {
		return
	}
	defer kept.Close()
	records, err := kept.Journal(context.Background(), 0, 0)
	if err != nil {
		return
	}
	for i := range records[max(0, len(records)-120):] {
		r := &records[max(0, len(records)-120)+i]
		l.t.Logf("%s %d %d/%d %s %s %.300s", r.At.Format(time.DateOnly), r.Seq, r.Batch, r.Line, r.Event, carry.Describe(r), r.Body)
	}
}
