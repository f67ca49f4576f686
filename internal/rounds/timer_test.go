package rounds

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/realserver"
	"yardbroom/internal/settings"
	"yardbroom/internal/work"
)

// timed is a runner of a round with a schedule, which no server is asked for.
func timed(when string) *Runner {
	set := settings.Defaults()
	set.Default = "small"
	set.Yards = map[string]settings.Yard{"small": {Servers: []string{"ldap://localhost"}, Bind: settings.Bind{PasswordFile: "/etc/yardbroom/auditor"}}}
	r := settings.Round{Folder: &settings.Folder{Path: "/srv/www/yard"}, Steps: []settings.Step{{Audit: &settings.AuditStep{}}}}
	days, at, isDaily := strings.Cut(when, " at ")
	if isDaily {
		r.At = append(r.At, at)
		if days != "" {
			r.Days = append(r.Days, days)
		}
	} else {
		r.Cron = when
	}
	r.TimeZone = "Europe/Berlin"
	set.Rounds = map[string]settings.Round{"nightly": r}
	s, err := work.New(set)
	if err != nil {
		panic(err)
	}
	s.State, s.Now = "/var/lib/yard broom", func() time.Time { return time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC) }
	return &Runner{Session: s}
}

var machine = Install{With: Systemd, Program: "/usr/local/bin/yardbroom", Config: "/etc/yardbroom/100%.yaml", User: "yardbroom", Root: true}

func TestSystemdIsToldWhenAndWithWhatRights(t *testing.T) {
	for _, one := range []struct {
		when string
		want []string
	}{
		{" at 06:00", []string{"*-*-* 06:00:00 Europe/Berlin"}},
		{"mon-fri at 06:30", []string{"Mon,Tue,Wed,Thu,Fri *-*-* 06:30:00 Europe/Berlin"}},
		{"*/30 2,4 1 1-3 *", []string{"*-01,02,03-01 02,04:00,30:00 Europe/Berlin"}},
		{"0 2 1 * mon", []string{"*-*-01 02:00:00 Europe/Berlin", "Mon *-*-* 02:00:00 Europe/Berlin"}},
	} {
		plan, err := timed(one.when).Plan("nightly", &machine)
		require.NoError(t, err)
		timer := plan.Files[1].Text
		var got []string
		for line := range strings.Lines(timer) {
			if text, ok := strings.CutPrefix(line, "OnCalendar="); ok {
				got = append(got, strings.TrimSpace(text))
			}
		}
		assert.Equal(t, one.want, got, one.when)
	}
	plan, err := timed(" at 06:00").Plan("nightly", &machine)
	require.NoError(t, err)
	assert.Equal(t, "/etc/systemd/system/yardbroom-nightly.service", plan.Files[0].Path)
	assert.Contains(t, plan.Files[0].Text, `ExecStart=/usr/local/bin/yardbroom --config "/etc/yardbroom/100%%.yaml" --state "/var/lib/yard broom" `+
		"round run nightly --scheduled --wait 10m\n")
	assert.Contains(t, plan.Files[0].Text, "LoadCredential=auditor:/etc/yardbroom/auditor\n")
	assert.Contains(t, plan.Files[0].Text, "User=yardbroom\n")
	assert.Contains(t, plan.Files[0].Text, "ReadWritePaths=/srv/www/yard\n")
	assert.Contains(t, plan.Files[1].Text, "Persistent=true\n")
}

func TestSystemdTakesTheUnits(t *testing.T) {
	verify := realserver.Program(t, "systemd-analyze", "systemd")
	folder := t.TempDir()
	in := machine
	in.Folder, in.User, in.Program = folder, "root", "/bin/true"
	plan, err := timed("mon-fri at 06:30").Plan("nightly", &in)
	require.NoError(t, err)
	require.NoError(t, plan.Install())
	out, err := exec.Command(verify, "verify", "--man=no", "--recursive-errors=no", folder+"/yardbroom-nightly.service", folder+"/yardbroom-nightly.timer").
		CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.NotContains(t, string(out), "yardbroom", "there is no warning")
	for line := range strings.Lines(plan.Files[1].Text) {
		if text, ok := strings.CutPrefix(line, "OnCalendar="); ok {
			out, err := exec.Command(verify, "calendar", "--base-time=2026-11-20 12:00:00 UTC", strings.TrimSpace(text)).CombinedOutput()
			require.NoError(t, err, "%s", out)
			assert.Contains(t, string(out), "Mon 2026-11-23 05:30:00 UTC", "the Monday after, by Berlin's clock")
		}
	}
}

func TestFilesOfSomebodyElseStay(t *testing.T) {
	in := machine
	in.Folder = t.TempDir()
	plan, err := timed(" at 06:00").Plan("nightly", &in)
	require.NoError(t, err)
	require.NoError(t, plan.Install())
	require.NoError(t, plan.Install(), "its own are replaced")
	removed, err := plan.Remove()
	require.NoError(t, err)
	assert.Len(t, removed, 2)
	theirs := filepath.Join(in.Folder, "yardbroom-nightly.timer")
	require.NoError(t, os.WriteFile(theirs, []byte("[Timer]\n"), 0o600))
	require.ErrorContains(t, plan.Install(), "left as it is")
	_, err = plan.Remove()
	require.ErrorContains(t, err, "left as it is")
	assert.Equal(t, "[Timer]\n", readFile(t, theirs))
	assert.NoFileExists(t, filepath.Join(in.Folder, "yardbroom-nightly.service"), "all or nothing")
}

func TestCronKnowsOnlyTheZoneOfTheMachine(t *testing.T) {
	in := machine
	in.With = Crontab
	local := time.Local
	defer func() { time.Local = local }()
	time.Local = time.UTC
	_, err := timed(" at 06:00").Plan("nightly", &in)
	require.ErrorContains(t, err, "cron knows only this machine's time zone (UTC)")
	var zone error
	time.Local, zone = time.LoadLocation("Europe/Paris") // whose clocks show the same
	require.NoError(t, zone)
	plan, err := timed("mon-fri at 06:00").Plan("nightly", &in)
	require.NoError(t, err)
	assert.Equal(t, "/etc/cron.d/yardbroom-nightly", plan.Files[0].Path)
	assert.Contains(t, plan.Files[0].Text, "\n0 6 * * mon-fri yardbroom /usr/local/bin/yardbroom --config '/etc/yardbroom/100\\%.yaml' "+
		"--state '/var/lib/yard broom' round run nightly --scheduled --wait 10m\n")

	in.With, in.Config = Windows, `C:\Yard Broom\settings.yaml`
	plan, err = timed("mon-fri at 06:00").Plan("nightly", &in)
	require.NoError(t, err)
	text := plan.Files[0].Text
	assert.Contains(t, text, `<Arguments>--config &#34;C:\Yard Broom\settings.yaml&#34; --state`)
	assert.Contains(t, text, "<StartBoundary>2026-11-20T06:00:00</StartBoundary>")
	assert.Contains(t, text, "<DaysOfWeek>")
	assert.Contains(t, text, "<Friday></Friday>")
	assert.Equal(t, []byte{0xff, 0xfe, '<', 0}, plan.Files[0].Data[:4])
	_, err = timed("0 6 1 * *").Plan("nightly", &in)
	require.ErrorContains(t, err, "cannot be written as a task")
}

func TestCronRunsTheRound(t *testing.T) {
	cron := realserver.Program(t, "cron", "cron")
	realserver.Root(t, "cron runs jobs of everybody")
	if err := exec.Command("unshare", "--mount", "true").Run(); err != nil {
		t.Skip("no mounts of its own can be made: ", err)
	}
	folder := t.TempDir()
	program := filepath.Join(folder, "yard broom")
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\nfor a; do echo \"$a\"; done >\""+folder+"/arguments\"\n"), 0o755))
	in := Install{With: Crontab, Program: program, Config: "/etc/yardbroom/100%.yaml", User: "root", Root: true, Folder: folder}
	r := timed("* * * * *")
	round := r.Settings.Rounds["nightly"]
	round.TimeZone = time.Local.String()
	r.Settings.Rounds["nightly"] = round
	plan, err := r.Plan("nightly", &in)
	require.NoError(t, err)
	require.NoError(t, plan.Install())
	// In mounts of its own it sees no other job, and nobody sees its.
	cmd := exec.Command("unshare", "--mount", "--kill-child", "sh", "-c", `for d in /etc/cron.d /var/spool/cron /run; do mount -t tmpfs none $d; done
mount --bind /dev/null /etc/crontab
mkdir -p /var/spool/cron/crontabs
cp "$1" /etc/cron.d/ && exec "$2" -f`, "sh", plan.Files[0].Path, cron)
	require.NoError(t, cmd.Start())
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	require.Eventually(t, func() bool {
		text, err := os.ReadFile(filepath.Join(folder, "arguments"))
		return err == nil && strings.HasSuffix(string(text), "10m\n")
	}, 150*time.Second, 200*time.Millisecond, "%s", plan.Files[0].Text)
	assert.Equal(t, "--config\n/etc/yardbroom/100%.yaml\n--state\n/var/lib/yard broom\nround\nrun\nnightly\n--scheduled\n--wait\n10m\n",
		readFile(t, filepath.Join(folder, "arguments")))
}
