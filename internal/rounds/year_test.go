//go:build unix

package rounds

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
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

var (
	yearSeed   = flag.Uint64("year.seed", 1, "what happens in the year of nights")
	yearNights = flag.Int("year.nights", 365, "how many nights it has")
)

// asNight makes the test binary a program that runs one round and ends, so that it can
// be killed. The variables say where, when and under which conditions.
const asNight = "YARDBROOM_TEST_NIGHT"

func TestMain(m *testing.M) {
	if file := os.Getenv(asNight); file != "" {
		if err := night(file); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// night runs the round "nightly".
func night(file string) error {
	if most := os.Getenv("YARDBROOM_TEST_DISK"); most != "" {
		// The disk is full: no file grows beyond this.
		n, err := strconv.ParseUint(most, 10, 64)
		if err != nil {
			return err
		}
		signal.Ignore(syscall.SIGXFSZ)
		if err := syscall.Setrlimit(syscall.RLIMIT_FSIZE, &syscall.Rlimit{Cur: n, Max: n}); err != nil {
			return err
		}
	}
	at, err := time.Parse(time.RFC3339, os.Getenv("YARDBROOM_TEST_NOW"))
	if err != nil {
		return err
	}
	set, err := settings.Load(file)
	if err != nil {
		return err
	}
	s, err := work.New(set)
	if err != nil {
		return err
	}
	s.State, s.By, s.Now = filepath.Join(filepath.Dir(file), "state"), "night", func() time.Time { return at }
	r := &Runner{Session: s, Host: "here", Send: &spool{filepath.Join(filepath.Dir(file), "spool"), os.Getenv("YARDBROOM_TEST_MAIL") != ""}}
	run, err := r.Run(context.Background(), "nightly", &Request{Planned: at})
	if err == nil && run.Outcome != Done {
		err = fmt.Errorf("%s: %v", run.Outcome, run.Faults())
	}
	return errors.Join(err, s.Close())
}

// spool takes mail into files, one for each Message-ID and address: whoever gets a mail
// twice has it once.
type spool struct {
	folder string
	down   bool
}

func (b *spool) Mail(context.Context, *settings.Mail) (MailConnection, error) {
	if b.down {
		return nil, errDown
	}
	return b, nil
}

func (b *spool) Close() error { return nil }

var messageID = regexp.MustCompile(`(?m)^Message-ID: (.*)\r$`)

func (b *spool) Send(to string, message []byte) error {
	id := messageID.FindSubmatch(message)
	if id == nil {
		return errors.New("no Message-ID")
	}
	sum := sha256.Sum256(append(id[1], to...))
	path := filepath.Join(b.folder, hex.EncodeToString(sum[:8]))
	if old, err := os.ReadFile(path); err == nil && !bytes.Equal(old, message) {
		return errors.New("another mail has this Message-ID")
	}
	temp := path + ".part"
	if err := os.WriteFile(temp, message, 0o600); err != nil {
		return err
	}
	return os.Rename(temp, path)
}

func (b *spool) Post(context.Context, *settings.Post, []byte, time.Time) error { return nil }

// year is a yard over many nights, and what should have been told of it.
type year struct {
	*yard
	t      *testing.T
	rng    *rand.Rand
	file   string
	people map[string]*sleeper
	// told are who is known to be idle by a run that came to its end.
	told map[string]bool
	// episodes counts how often somebody should have been reported as new.
	episodes map[string]int
	hired    int
}

// sleeper is somebody of the staff: when they last signed in, and whether they go on to.
type sleeper struct {
	dn       string
	last     time.Time
	asleep   bool
	disabled bool
}

const nightlyYear = `  nightly:
    cron: "30 2 * * *"
    time_zone: Europe/Berlin
    apply: true
    brake: {lines: 6, times_usual: 100, share: 100}
    steps: [survey, {audit: {checks: stale}}, {stage: {actions: disable, checks: stale}}, due]
    tell: [{to: kay@larkmoor.example, attach: csv}]
    folder: {path: "%s", keep: 20d}
keep: {surveys: {days: 10, weeks: 4, months: 1}, audits: {days: 40, weeks: 10, months: 1}, runs: {days: 40, weeks: 1, months: 1}}
`

func TestAYearOfNights(t *testing.T) {
	long(t)
	folder := filepath.Join(t.TempDir(), "www")
	y := &year{yard: newYard(t, fmt.Sprintf(nightlyYear, folder)), t: t, rng: rand.New(rand.NewPCG(*yearSeed, 18)), people: map[string]*sleeper{},
		told: map[string]bool{}, episodes: map[string]int{}}
	t.Logf("again with: go test ./internal/rounds -run AYearOfNights -year.seed=%d", *yearSeed)
	y.file = y.Settings.File
	require.NoError(t, os.Mkdir(filepath.Join(filepath.Dir(y.file), "spool"), 0o700))
	for _, e := range y.dir.Dump() {
		if e.First("mail") != "" {
			y.people[e.First("sAMAccountName")] = &sleeper{dn: e.DN, last: y.at.AddDate(0, 0, -3)}
		}
	}
	y.people["ada"].last, y.people["ada"].asleep = y.at.AddDate(0, 0, -200), true
	round := y.Settings.Rounds["nightly"]
	when, timed, err := round.Schedule(y.Settings)
	require.NoError(t, err)
	require.True(t, timed)
	days := map[string]bool{}
	for range *yearNights {
		y.at = when.Next(y.at)
		day := y.at.Format(time.DateOnly)
		require.False(t, days[day], "two nights on %s", day)
		days[day] = true
		y.live()
		y.night()
	}
	assert.Len(t, days, *yearNights)
	y.judge(folder)
}

// live lets the day before a night pass: people come, sleep, wake, leave and return.
func (y *year) live() {
	for _, name := range slices.Sorted(maps.Keys(y.people)) {
		p := y.people[name]
		if p.disabled {
			continue
		}
		switch {
		case y.rng.IntN(900) == 0 && name != "bram": // who is everybody's manager
			require.NoError(y.t, y.dir.Delete(p.dn))
			delete(y.people, name)
			continue
		case p.asleep:
			p.asleep = y.rng.IntN(200) > 0
		default:
			p.asleep = y.rng.IntN(120) == 0
		}
		if !p.asleep { // they work every day
			p.last = y.at.Add(-5 * time.Hour)
			y.signIn(p)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(y.people)) {
		p := y.people[name]
		if p.disabled && y.rng.IntN(40) == 0 { // a colleague lets them back
			p.disabled, p.asleep, p.last = false, false, y.at.Add(-time.Hour)
			y.dir.Edit(p.dn, setFlags("512"))
			y.signIn(p)
		}
	}
	if y.rng.IntN(8) == 0 {
		y.hired++
		name := fmt.Sprintf("New%d Hire", y.hired)
		y.person(y.t, name, 0)
		y.people[fmt.Sprintf("new%d", y.hired)] = &sleeper{dn: "CN=" + name + ",OU=Staff," + base, last: y.at}
	}
	y.signsIn("Keeper", 0)
}

func (y *year) signIn(p *sleeper) {
	at := directory.FormatFileTime(p.last)
	y.dir.Edit(p.dn, func(e *directory.Entry) {
		e.Set("lastLogon", at)
		e.Set("lastLogonTimestamp", at)
	})
}

// idle are who is enabled and has been idle for as long as the settings say.
func (y *year) idle() map[string]bool {
	all := map[string]bool{}
	for name, p := range y.people {
		if !p.disabled && y.at.AddDate(0, 0, -90).After(p.last) {
			all[name] = true
		}
	}
	return all
}

// night runs the round in a process of its own, under some conditions, and takes in what
// became of it.
func (y *year) night() {
	idle := y.idle()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), asNight+"="+y.file, "YARDBROOM_TEST_NOW="+y.at.Format(time.RFC3339))
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	y.server.Account = "keeper"
	kill := time.Duration(0)
	switch n := y.rng.IntN(100); {
	case n < 6:
		y.server.Account = "nobody" // no server lets it in
	case n < 16:
		cmd.Env = append(cmd.Env, "YARDBROOM_TEST_MAIL=down")
	case n < 32:
		kill = time.Duration(y.rng.IntN(250)) * time.Millisecond
	case n < 38:
		cmd.Env = append(cmd.Env, fmt.Sprintf("YARDBROOM_TEST_DISK=%d", y.rng.IntN(200_000)))
	case n < 42:
		return // the machine is off
	}
	require.NoError(y.t, cmd.Start())
	if kill > 0 {
		time.AfterFunc(kill, func() { _ = cmd.Process.Kill() })
	}
	_ = cmd.Wait()
	y.takeIn(idle, out.String())
}

// takeIn updates what should be known after a night.
func (y *year) takeIn(idle map[string]bool, said string) {
	now := map[string]bool{}
	for name, p := range y.people {
		flags := y.dir.Entry(p.dn).First("userAccountControl")
		if disabled := flags == "514"; disabled != p.disabled {
			require.True(y.t, disabled, name)
			require.True(y.t, idle[name], "%s was disabled and is not idle: %s", name, said)
			p.disabled = true
			now[name] = true
		}
	}
	require.LessOrEqual(y.t, len(now), 12, "lines of one night, and of one that was killed")
	kept, err := store.Open(y.t.Context(), filepath.Join(filepath.Dir(y.file), "state"))
	require.NoError(y.t, err)
	defer kept.Close()
	runs, err := kept.Runs(y.t.Context(), "nightly", 1)
	require.NoError(y.t, err)
	if len(runs) == 0 || !runs[0].Began.Equal(y.at) || runs[0].Ended.IsZero() || runs[0].Outcome == string(Killed) {
		return
	}
	run, err := read(runs[0])
	require.NoError(y.t, err)
	if i := slices.IndexFunc(run.steps("audit"), func(s *StepRun) bool { return s.Error == "" }); i < 0 {
		return // nothing was looked at
	}
	for name := range idle {
		if !y.told[name] {
			y.episodes[name]++
		}
	}
	y.told = idle
	if run.Outcome == Stopped {
		y.Session.Close()
		_, err := y.Release(y.t.Context(), "nightly", "it is right so")
		require.NoError(y.t, err)
	}
}

// judge holds what was sent against what should have been.
func (y *year) judge(folder string) {
	t := y.t
	// All that waits is handed over, by a last night on which nothing goes wrong.
	y.at = y.at.AddDate(0, 0, 1)
	for _, p := range y.people {
		if !p.disabled {
			p.last = y.at
			y.signIn(p)
		}
	}
	y.server.Account = "keeper"
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), asNight+"="+y.file, "YARDBROOM_TEST_NOW="+y.at.Format(time.RFC3339))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)

	got := map[string]int{}
	paths, err := filepath.Glob(filepath.Join(filepath.Dir(y.file), "spool", "*"))
	require.NoError(t, err)
	line := regexp.MustCompile(`(?m)^      ([a-z0-9]+) \(Staff\), \d+ days`)
	named := map[string]bool{} // batches
	for _, path := range paths {
		m := received("", []byte(readFile(t, path)))
		for _, found := range regexp.MustCompile(`batch(?:es)? ([0-9, ]+)`).FindAllStringSubmatch(strings.ReplaceAll(m.text, "\r\n    ", " "), -1) {
			for id := range strings.SplitSeq(found[1], ",") {
				named[strings.TrimSpace(id)] = true
			}
		}
		for _, found := range line.FindAllStringSubmatch(m.text, -1) {
			got[found[1]]++
		}
	}
	assert.Equal(t, y.episodes, got, "each is told once for each time that they fall asleep, and nobody else")

	kept, err := store.Open(t.Context(), filepath.Join(filepath.Dir(y.file), "state"))
	require.NoError(t, err)
	defer kept.Close()
	_, err = kept.Verify(t.Context(), "")
	require.NoError(t, err)
	waiting, err := kept.Waiting(t.Context())
	require.NoError(t, err)
	assert.Empty(t, waiting)
	batches, err := batch.List(t.Context(), kept)
	require.NoError(t, err)
	lines := 0
	for _, b := range batches {
		lines += len(b.Lines)
		assert.Equal(t, "nightly", b.Round)
		assert.True(t, named[fmt.Sprint(b.ID)], "nobody was told of batch %d", b.ID)
	}
	surveys, err := filepath.Glob(filepath.Join(filepath.Dir(y.file), "state", "surveys", "*.json"))
	require.NoError(t, err)
	assert.Less(t, len(surveys), 20)
	runs, err := kept.Runs(t.Context(), "", -1)
	require.NoError(t, err)
	assert.Less(t, len(runs), 45)
	pages, err := filepath.Glob(folder + "/2*")
	require.NoError(t, err)
	assert.Less(t, len(pages), 27)
	t.Logf("%d batches of %d lines, %d mails, %d people asleep in all, %d runs kept", len(batches), lines, len(paths), len(y.episodes), len(runs))
}

// long skips a test that a short run has no time for.
func long(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("too long for a short run")
	}
}
