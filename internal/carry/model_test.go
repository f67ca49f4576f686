package carry_test

import (
	"context"
	"encoding/json"
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

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/homes"
	"yardbroom/internal/practice"
	"yardbroom/internal/privilege"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

var (
	modelRuns = flag.Int("model.runs", 400, "how many random batches to carry out")
	modelSeed = flag.Uint64("model.seed", 0, "carry out only the batch of this seed")
)

// runs is how many seeds are tried: a short run takes a hundred at most.
func runs(asked int) int {
	if testing.Short() {
		return min(asked, 100)
	}
	return asked
}

// TestAnyBatchUnderAnyFaultEndsAsTheModelSays carries random batches out while
// requests are refused, stalled and dropped before and after they took
// effect, colleagues change the same entries, and the process is killed at
// any request and before any record of the journal; goes on until all is
// settled; and takes the batch back under the same conditions. A failure
// names its seed, and comes again with -model.seed.
func TestAnyBatchUnderAnyFaultEndsAsTheModelSays(t *testing.T) {
	if *modelSeed != 0 {
		newWorld(t, *modelSeed).live()
		return
	}
	var seeds atomic.Uint64
	var wait sync.WaitGroup
	for range 24 {
		wait.Go(func() {
			for {
				seed := seeds.Add(1)
				if int(seed) > runs(*modelRuns) || t.Failed() {
					return
				}
				if !t.Run(fmt.Sprintf("seed=%d", seed), func(t *testing.T) { newWorld(t, seed).live() }) {
					t.Errorf("again with: go test ./internal/carry -run AnyBatch -model.seed=%d", seed)
				}
			}
		})
	}
	wait.Wait()
}

const base = "DC=larkmoor,DC=example"

// person is what the model knows of an account.
type person struct {
	flags, description, department, expires, place string
	home                                           string // where its folder is
	groups                                         map[string]bool
	gone                                           bool
}

func (p *person) clone() *person {
	c := *p
	c.groups = maps.Clone(p.groups)
	return &c
}

// world is one run.
type world struct {
	t      *testing.T
	r      *rand.Rand
	dir    *practice.Directory
	server *practice.Server
	yard   settings.Yard
	set    *settings.Settings
	state  string
	homes  []homes.Share
	st     *store.Store
	conn   *source.Server

	names   []string
	before  map[string]*person
	touched map[string]map[string]string // what colleagues did: name → aspect → value

	faults atomic.Bool
	dead   atomic.Bool
	mu     sync.Mutex // of r, touched, kills and earlier
	kills  int
	// earlier is the directory before the last write, which readings see for a
	// moment longer.
	earlier *practice.Directory
	written time.Time
}

// Readings may be as old as lag, and writes are read back for longer than that.
const (
	lag          = 5 * time.Millisecond
	settleWithin = 30 * time.Millisecond
)

var groups = []string{"Crew", "Dome", "Tower"}

func newWorld(t *testing.T, seed uint64) *world {
	w := &world{t: t, r: rand.New(rand.NewPCG(seed, 7)), touched: map[string]map[string]string{}, before: map[string]*person{}}
	w.dir = practice.New(base, "S-1-5-21-1-2-3", time.Now)
	w.dir.ChangeOnReturn = w.r.IntN(2) == 0
	for _, ou := range []string{"Staff", "Parked", "Elsewhere", "Groups"} {
		w.add("OU="+ou+","+base, map[string][]string{"objectClass": {"organizationalUnit"}})
	}
	for i := range 2 + w.r.IntN(6) {
		name := fmt.Sprintf("p%d", i)
		w.names = append(w.names, name)
		attrs := map[string][]string{"objectClass": {"user"}, "sAMAccountName": {name}, "department": {"Archive"}, "homeDirectory": {"/home/" + name}, "userAccountControl": {[]string{"512", "512", "514"}[w.r.IntN(3)]}}
		if w.r.IntN(2) == 0 {
			attrs["description"] = []string{"of old"}
		}
		w.add("CN="+name+",OU=Staff,"+base, attrs)
	}
	for _, g := range groups {
		var members []string
		for _, name := range w.names {
			if w.r.IntN(2) == 0 {
				members = append(members, "CN="+name+",OU=Staff,"+base)
			}
		}
		attrs := map[string][]string{"objectClass": {"group"}}
		if len(members) > 0 {
			attrs["member"] = members
		}
		w.add("CN="+g+",OU=Groups,"+base, attrs)
	}
	w.add("CN=Late,OU=Groups,"+base, map[string][]string{"objectClass": {"group"}})
	w.add("CN=Keeper,"+base, map[string][]string{"objectClass": {"user"}, "sAMAccountName": {"keeper"}, "userAccountControl": {"512"}})
	w.dir.Edit("CN=Domain Admins,CN=Users,"+base, func(e *directory.Entry) { e.Set("member", "CN=Keeper,"+base) })
	w.server = &practice.Server{Dir: w.dir, Account: "keeper", Password: "secret", Assertions: w.r.IntN(2) == 0}
	url, err := w.server.Listen(t.Context(), "127.0.0.1:0")
	require.NoError(t, err)
	password := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(password, []byte("secret\n"), 0o600))
	w.yard = settings.Yard{Servers: []string{url}, Bind: settings.Bind{DN: "keeper@larkmoor.example", PasswordFile: password}, SettleWithin: settings.Wait(settleWithin)}
	w.set = settings.Defaults()
	w.set.Batch.DeleteMinDisabled, w.set.Batch.MaxShare = calendar.Span{}, 100
	w.set.Signing.Needed = map[string]int{batch.Delete: 0}
	w.state = stateFolder(t)
	w.homes = []homes.Share{{Path: "/home", Folder: filepath.Join(w.state, "homes")}}
	for _, name := range w.names {
		require.NoError(t, os.MkdirAll(filepath.Join(w.homes[0].Folder, name, "work"), 0o700))
	}
	w.open()
	for _, name := range w.names {
		w.before[name] = w.see(name)
	}
	return w
}

// stateFolder is in memory where the machine offers that: syncing thousands
// of journals proves nothing here.
func stateFolder(t *testing.T) string {
	dir, err := os.MkdirTemp("/dev/shm", "yardbroom-model-")
	if err != nil {
		return t.TempDir()
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

func (w *world) add(dn string, attrs map[string][]string) {
	e := directory.Entry{DN: dn}
	for name, values := range attrs {
		e.Set(name, values...)
	}
	require.NoError(w.t, w.dir.Add(e))
}

func (w *world) open() {
	ctx := context.Background()
	w.dead.Store(false)
	var err error
	w.st, err = store.Open(ctx, w.state)
	require.NoError(w.t, err)
	faults := w.faults.Swap(false)
	w.conn, err = source.Connect(ctx, source.Target{Yard: w.yard})
	require.NoError(w.t, err)
	w.faults.Store(faults)
}

func (w *world) close() {
	w.st.Close()
	if w.conn != nil {
		w.conn.Close()
	}
}

// see reads what the model knows of an account from the directory.
func (w *world) see(name string) *person {
	home := "lost"
	if _, err := os.Stat(filepath.Join(w.homes[0].Folder, name, "work")); err == nil {
		home = "in place"
	} else if held, _ := filepath.Glob(filepath.Join(w.homes[0].Folder, ".set-aside", "*-"+name, "work")); len(held) == 1 {
		home = "set aside"
	}
	for _, ou := range []string{"Staff", "Parked", "Elsewhere"} {
		e := w.dir.Entry("CN=" + name + ",OU=" + ou + "," + base)
		if e == nil {
			continue
		}
		p := &person{flags: e.First("userAccountControl"), description: e.First("description"), department: e.First("department"),
			expires: e.First("accountExpires"), place: ou, home: home, groups: map[string]bool{}}
		for _, g := range e.Get("memberOf") {
			p.groups[directory.LeafValue(g)] = true
		}
		return p
	}
	return &person{gone: true, home: home}
}

// colleague changes one aspect of one account, and remembers it.
func (w *world) colleague() {
	name := w.names[w.r.IntN(len(w.names))]
	now := w.see(name)
	if now.gone {
		return
	}
	dn := "CN=" + name + ",OU=" + now.place + "," + base
	aspect, value := "", ""
	switch w.r.IntN(5) {
	case 0:
		aspect, value = "flags", []string{"66048", "66050"}[w.r.IntN(2)]
		w.dir.Edit(dn, func(e *directory.Entry) { e.Set("userAccountControl", value) })
	case 1:
		aspect, value = "description", fmt.Sprintf("by a colleague %d", w.r.IntN(1000))
		w.dir.Edit(dn, func(e *directory.Entry) { e.Set("description", value) })
	case 2:
		aspect, value = "department", fmt.Sprintf("Library %d", w.r.IntN(1000))
		w.dir.Edit(dn, func(e *directory.Entry) { e.Set("department", value) })
	case 3:
		if now.place == "Elsewhere" {
			return
		}
		aspect, value = "place", "Elsewhere"
		superior := "OU=Elsewhere," + base
		if w.dir.ModifyDN(dn, "CN="+name, &superior) != nil {
			return
		}
	case 4:
		// While the batch is carried out, only a group that no line names: that
		// something was done and taken back at once, nobody can see.
		g := "Late"
		if !w.faults.Load() {
			g = groups[w.r.IntN(len(groups))]
		}
		aspect, value = "group "+g, "in"
		group := "CN=" + g + ",OU=Groups," + base
		op := uint(ldap.AddAttribute)
		if now.groups[g] {
			op, value = ldap.DeleteAttribute, "out"
		}
		if w.dir.Modify(group, []ldap.Change{{Operation: op, Modification: ldap.PartialAttribute{Type: "member", Vals: []string{dn}}}}, false) != nil {
			return
		}
	}
	if testing.Verbose() {
		w.t.Logf("a colleague: %s of %s is %s", aspect, name, value)
	}
	if w.touched[name] == nil {
		w.touched[name] = map[string]string{}
	}
	if _, twice := w.touched[name][aspect]; twice && strings.HasPrefix(aspect, "group ") && !w.faults.Load() {
		delete(w.touched[name], aspect) // it is as it was staged
		return
	}
	w.touched[name][aspect] = value
}

// fault decides what goes wrong with a request.
func (w *world) fault(op practice.Operation) (f practice.Fault) {
	if w.dead.Load() {
		return practice.Fault{DropBefore: true}
	}
	if !w.faults.Load() {
		return f
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	writes := op.Name != "search" && op.Name != "bind"
	if writes {
		w.earlier, w.written = practice.Copy(practice.Identity{Dialect: directory.AD, Base: base, SID: "S-1-5-21-1-2-3"}, w.dir.Dump(), time.Now), time.Now()
	} else if op.Name == "search" && time.Since(w.written) < lag && w.r.IntN(8) == 0 {
		f.Earlier = w.earlier
	}
	n := w.r.IntN(100)
	if !writes || op.Name == "bind" {
		n = w.r.IntN(1000) // there are many, and lost ones are asked again after a pause
	}
	switch {
	case n < 4:
		f.DropBefore = true
	case n < 8:
		f.DropAfter = true
	case n < 10 && writes:
		f.Code = ldap.LDAPResultUnwillingToPerform
	case n < 11 && writes:
		f.CodeAfter = []uint16{ldap.LDAPResultUnwillingToPerform, ldap.LDAPResultOther, ldap.LDAPResultReferral}[w.r.IntN(3)]
	case n < 12 && writes:
		f.Pretend = true
	case n < 13:
		f.Stall = time.Millisecond
	case n < 15:
		f.Meanwhile = func() { w.mu.Lock(); defer w.mu.Unlock(); w.colleague() }
	case n < 18 && w.kills > 0:
		w.kills--
		w.dead.Store(true)
		f.DropBefore, f.DropAfter = n%2 == 0, n%2 == 1
		go w.st.Close()
	}
	return f
}

// now is the runner's clock, which it reads before each record: a kill there
// comes between any two of them.
func (w *world) now() time.Time {
	if w.faults.Load() && !w.dead.Load() {
		w.mu.Lock()
		kill := w.kills > 0 && w.r.IntN(60) == 0
		if kill {
			w.kills--
		}
		w.mu.Unlock()
		if kill {
			w.dead.Store(true)
			w.st.Close()
		}
	}
	return time.Now()
}

// carryOut runs a batch, killed and resumed, until everything is settled.
func (w *world) carryOut(id int) *batch.Batch {
	ctx := context.Background()
	w.server.SetFault(w.fault)
	w.faults.Store(true)
	w.kills = w.r.IntN(4)
	for run := 0; ; run++ {
		require.Less(w.t, run, 60, "it never comes to an end")
		if run > 8 {
			w.faults.Store(false)
		}
		b, err := batch.Load(ctx, w.st, id)
		require.NoError(w.t, err)
		if b.State == batch.Done || b.Open() == 0 {
			return w.finish(id)
		}
		r := &carry.Job{Store: w.st, Batch: b, Server: w.conn, Protection: batch.Protection{Dialect: directory.AD, Bound: []string{w.conn.Bound}},
			Settings: w.set, By: "tester", Now: w.now, Homes: w.homes}
		res, err := r.Run(ctx, carry.Pace{Connections: 1 + w.r.IntN(4), DayLines: 1000, DayShare: 100})
		if testing.Verbose() {
			w.t.Logf("run %d: %v, %v", run, res, err)
		}
		w.close()
		w.open()
		if err == nil && !w.faults.Load() && run > 10 {
			return w.finish(id)
		}
	}
}

// A journal that cannot be written ends a batch, which is said once, however many lines
// it stops; the next run goes on.
func TestAJournalThatCannotBeWrittenEndsTheBatch(t *testing.T) {
	ctx := t.Context()
	tried := 0
	for seed := uint64(1); tried < 5; seed++ {
		require.Less(t, seed, uint64(60))
		w := newWorld(t, seed)
		b := w.stage()
		if b == nil || b.Open() < 4 {
			w.close()
			continue
		}
		tried++
		job := &carry.Job{Store: w.st, Batch: b, Server: w.conn, Protection: batch.Protection{Dialect: directory.AD, Bound: []string{w.conn.Bound}},
			Settings: w.set, By: "tester", Now: w.now, Homes: w.homes}
		job.Settled = func(*batch.Line) { w.st.Close() }
		_, err := job.Run(ctx, carry.Pace{Connections: 4, DayLines: 1000, DayShare: 100})
		require.ErrorContains(t, err, "cannot be written down; mend that and apply again")
		require.Equal(t, 1, strings.Count(err.Error(), "the journal cannot be written"), err)
		require.NotContains(t, err.Error(), "\n")
		w.close()
		w.open()
		w.compare("apply", w.carryOut(b.ID), w.before, func(l *batch.Line, p *person) []*person { return effects(l, p) })
		w.verify()
		w.close()
	}
}

func (w *world) finish(id int) *batch.Batch {
	w.server.SetFault(nil)
	w.faults.Store(false)
	b, err := batch.Load(context.Background(), w.st, id)
	require.NoError(w.t, err)
	return b
}

func (w *world) live() {
	ctx := context.Background()
	defer w.close()
	defer func() {
		if !w.t.Failed() {
			return
		}
		records, err := w.st.Journal(ctx, 0, 0)
		require.NoError(w.t, err)
		for i := range records {
			r := &records[i]
			w.t.Logf("%d %d/%d %s %s", r.Seq, r.Batch, r.Line, r.Event, carry.Describe(r))
		}
	}()
	b := w.stage()
	if b == nil {
		return
	}
	for range w.r.IntN(3) {
		w.colleague() // between staging and carrying out
	}
	done := w.carryOut(b.ID)
	w.compare("apply", done, w.before, func(l *batch.Line, p *person) []*person { return effects(l, p) })

	after := map[string]*person{}
	for _, name := range w.names {
		after[name] = w.see(name)
	}
	touchedBefore := w.touched
	w.touched = map[string]map[string]string{}
	back, _, err := carry.Inverse(ctx, w.st, done, nil, "tester", time.Now())
	if errors.Is(err, carry.ErrNothingToUndo) {
		w.verify()
		return
	}
	require.NoError(w.t, err)
	require.NoError(w.t, back.Save(ctx, w.st))
	undone := w.carryOut(back.ID)
	for i := range undone.Lines {
		l := &undone.Lines[i]
		name := l.Account
		if l.State != batch.Applied || w.touched[name] != nil || touchedBefore[name] != nil {
			continue
		}
		was, now := w.before[name].clone(), w.see(name)
		if slices.ContainsFunc(l.Actions, func(a batch.Action) bool { return a.Name == batch.Restore }) {
			if strings.Contains(l.Note, "could not be put back") || strings.Contains(l.Note, " of CN=") {
				continue // what was refused is told, not forced
			}
			was.flags = now.flags // it comes back disabled
			require.Contains(w.t, []string{"514", "66050", "546"}, now.flags, name)
		}
		require.Equal(w.t, was, now, "%s is as it was before the batch: %s", name, l.Note)
	}
	for name, aspects := range w.touched {
		at := slices.IndexFunc(undone.Lines, func(l batch.Line) bool { return l.Account == name })
		if at >= 0 {
			w.kept("undo", name, aspects, &undone.Lines[at])
		} else {
			w.kept("undo", name, aspects, nil)
		}
	}
	w.verify()
}

// stage makes a random batch, nil where nothing could be staged.
func (w *world) stage() *batch.Batch {
	ctx := context.Background()
	o := batch.Order{By: "tester", At: time.Now(), Server: w.conn.HostName(), MaxShare: 100, Text: "{batch}: {reason}; {old}", Why: "model",
		Expires: time.Now().AddDate(0, 1, 0).Truncate(time.Hour), To: ""}
	var values []batch.Assignment
	switch w.r.IntN(6) {
	case 0:
		o.Actions, values = []string{batch.Set}, []batch.Assignment{{Attr: "department", New: "Workshop"}}
	case 1:
		o.Actions = []string{batch.Delete}
		if w.r.IntN(2) == 0 {
			o.Actions = []string{batch.LeaveGroups, batch.SetHomeAside, batch.Delete}[w.r.IntN(2):]
		}
	default:
		pool := []string{batch.Disable, batch.Describe, batch.Expire, batch.LeaveGroups, batch.SetHomeAside, batch.Move}
		w.r.Shuffle(len(pool), func(i, j int) { pool[i], pool[j] = pool[j], pool[i] })
		o.Actions = pool[:1+w.r.IntN(len(pool))]
		if w.r.IntN(4) == 0 && !slices.Contains(o.Actions, batch.LeaveGroups) {
			o.Actions = append(o.Actions, batch.JoinGroup)
			group, err := w.conn.Get(ctx, []string{"CN=" + groups[w.r.IntN(3)] + ",OU=Groups," + base})
			require.NoError(w.t, err)
			o.Groups = group
		}
	}
	if slices.Contains(o.Actions, batch.Move) {
		o.To = "OU=Parked," + base
	}
	var candidates []batch.Candidate
	for _, name := range w.names {
		found, err := w.conn.Get(ctx, []string{"CN=" + name + ",OU=Staff," + base})
		require.NoError(w.t, err)
		candidates = append(candidates, batch.Candidate{Entry: found[0], Values: values})
	}
	id, err := w.conn.Identity(ctx)
	require.NoError(w.t, err)
	holders, err := privilege.Read(ctx, w.conn, directory.AD, privilege.RulesFor(id, nil), time.Now())
	require.NoError(w.t, err)
	s := &batch.Stager{From: w.conn, Identity: id, Dialect: directory.AD, Settings: w.set, Privilege: holders, Catalog: audit.Checks,
		Protection: batch.Protection{Dialect: directory.AD, Bound: []string{w.conn.Bound}}, Homes: w.homes}
	b, _, err := s.Stage(ctx, o, candidates)
	if errors.Is(err, batch.ErrNothing) {
		return nil
	}
	require.NoError(w.t, err)
	require.NoError(w.t, b.Save(ctx, w.st))
	return b
}

// effects are the states through which an account goes while its line is
// carried out, the last one being the end.
func effects(l *batch.Line, p *person) []*person {
	states := []*person{p.clone()}
	step := func(change func(p *person)) {
		next := states[len(states)-1].clone()
		change(next)
		states = append(states, next)
	}
	for _, a := range l.Actions {
		switch a.Name {
		case batch.Disable:
			step(func(p *person) { p.flags = map[string]string{"512": "514", "66048": "66050"}[p.flags] })
		case batch.Describe:
			step(func(p *person) { p.description = string(a.Put[0].New[0]) })
		case batch.Expire:
			step(func(p *person) { p.expires = string(a.Put[0].New[0]) })
		case batch.Set:
			step(func(p *person) { p.department = string(a.Put[0].New[0]) })
		case batch.Move:
			step(func(p *person) { p.place = "Parked" })
		case batch.LeaveGroups:
			for _, g := range a.Groups {
				step(func(p *person) { delete(p.groups, directory.LeafValue(g.DN)) })
			}
		case batch.JoinGroup:
			for _, g := range a.Groups {
				step(func(p *person) { p.groups[directory.LeafValue(g.DN)] = true })
			}
		case batch.Delete:
			step(func(p *person) { *p = person{gone: true, home: p.home} })
		case batch.SetHomeAside:
			step(func(p *person) { p.home = "set aside" })
		}
	}
	return states
}

// compare holds the directory against the model: what was done is there
// whole, what was not has left no trace, and no colleague's work is lost.
func (w *world) compare(what string, b *batch.Batch, before map[string]*person, effects func(*batch.Line, *person) []*person) {
	w.t.Helper()
	lines := map[string]*batch.Line{}
	for i := range b.Lines {
		lines[b.Lines[i].Account] = &b.Lines[i]
	}
	for _, name := range w.names {
		now := w.see(name)
		possible := []*person{before[name]}
		note := "no line"
		if l := lines[name]; l != nil {
			states := effects(l, before[name])
			note = string(l.State) + ": " + l.Note
			switch l.State {
			case batch.Applied, batch.InPart:
				possible = states[len(states)-1:]
			case batch.Drifted, batch.Refused, batch.Unproved:
				possible = states[:1]
			case batch.Failed, batch.Unknown:
				possible = states
			default:
				w.t.Fatalf("%s: line of %s is left %s", what, name, l.State)
			}
		}
		if !slices.ContainsFunc(possible, func(p *person) bool { return w.same(p, now, w.touched[name]) }) {
			require.Equal(w.t, possible[len(possible)-1], now, "%s of %s, %s; colleagues: %v; batch %v", what, name, note, w.touched[name], b.Actions)
			w.t.Fatalf("%s of %s, %s: %+v; colleagues: %v; batch %v", what, name, note, now, w.touched[name], b.Actions)
		}
		w.kept(what, name, w.touched[name], lines[name])
	}
}

// same compares but for what colleagues have changed.
func (w *world) same(want, now *person, touched map[string]string) bool {
	want, now = want.clone(), now.clone()
	for aspect := range touched {
		switch {
		case now.gone:
		case aspect == "flags":
			want.flags = now.flags
		case aspect == "description":
			want.description = now.description
		case aspect == "department":
			want.department = now.department
		case aspect == "place":
			want.place = now.place
		default:
			g := strings.TrimPrefix(aspect, "group ")
			delete(want.groups, g)
			delete(now.groups, g)
		}
	}
	return want.gone == now.gone && want.home == now.home && want.flags == now.flags && want.description == now.description && want.department == now.department &&
		want.expires == now.expires && want.place == now.place && maps.Equal(want.groups, now.groups)
}

// kept says that what colleagues did last is still so.
//
// A move carries no guard on servers of this schema and names the entry by its
// GUID, so one of a colleague in the moment before it is overtaken. And what was
// restored ends disabled.
func (w *world) kept(what, name string, touched map[string]string, l *batch.Line) {
	w.t.Helper()
	now := w.see(name)
	if now.gone {
		return
	}
	moves := l != nil && (l.State == batch.Applied || l.State == batch.Failed) && slices.ContainsFunc(l.Actions, func(a batch.Action) bool { return a.Name == batch.Move })
	restores := l != nil && slices.ContainsFunc(l.Actions, func(a batch.Action) bool { return a.Name == batch.Restore })
	for aspect, value := range touched {
		if moves && aspect == "place" || restores && aspect == "flags" {
			continue
		}
		got := map[string]string{"flags": now.flags, "description": now.description, "department": now.department, "place": now.place}[aspect]
		if g, ok := strings.CutPrefix(aspect, "group "); ok {
			got = map[bool]string{true: "in", false: "out"}[now.groups[g]]
		}
		require.Equal(w.t, value, got, "%s: a colleague's change of %s of %s", what, aspect, name)
	}
}

// verify proves the journal, and that each line's steps are numbered one after the other:
// whoever goes on with a line knows what was tried of it.
func (w *world) verify() {
	ctx := context.Background()
	_, err := w.st.Verify(ctx, "")
	require.NoError(w.t, err)
	steps := map[store.LineOf][]int{}
	require.NoError(w.t, w.st.Since(ctx, "intent", time.Time{}, func(r *store.Sealed) error { // the latest first
		var body struct{ Step struct{ N int } }
		if err := json.Unmarshal(r.Body, &body); err != nil {
			return err
		}
		of := store.LineOf{Batch: r.Batch, Line: r.Line}
		steps[of] = append(steps[of], body.Step.N)
		return nil
	}))
	for of, numbers := range steps {
		for i, n := range numbers {
			require.Equal(w.t, len(numbers)-i, n, "the steps of line %d of batch %d are %v, the latest first", of.Line, of.Batch, numbers)
		}
	}
	_, err = os.Stat(filepath.Join(w.state, "yardbroom.db"))
	require.NoError(w.t, err)
}
