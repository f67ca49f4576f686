package rounds

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"encoding/xml"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf16"

	"yardbroom/internal/schedule"
	"yardbroom/internal/settings"
	"yardbroom/internal/whole"
	"yardbroom/internal/work"
)

// Scheduler is a kind of scheduler that machines have.
type Scheduler string

// The schedulers.
const (
	Systemd Scheduler = "systemd"
	Crontab Scheduler = "cron"
	Windows Scheduler = "windows"
)

// Schedulers are all of them.
var Schedulers = []Scheduler{Systemd, Crontab, Windows}

// Install says how a round is to be run by a scheduler.
type Install struct {
	With    Scheduler
	Program string // path of this program
	Config  string // path of the settings
	User    string // who it runs as; "" is whoever the scheduler takes
	Folder  string // where the files go; "" is where the scheduler looks for them
	Root    bool   // for the whole machine
}

// Scheduled are the files that make a scheduler run a round, and what is left to do
// for a person.
type Scheduled struct {
	Files []ScheduleFile
	// Then and Undo are commands for a shell that make the scheduler take them up, and
	// forget them.
	Then, Undo []string
}

// ScheduleFile is one file for a scheduler.
type ScheduleFile struct {
	Path string
	Text string // as it is shown
	Data []byte // as it is written
}

// ours marks the files that a round has written for a scheduler.
const ours = "Written by: yardbroom round schedule"

// randomDelay spreads the runs of many machines.
const randomDelay = 5 * time.Minute

// Plan is what a scheduler needs to run a round.
func (r *Runner) Plan(name string, in *Install) (*Scheduled, error) {
	round, err := r.Named(name)
	if err != nil {
		return nil, err
	}
	when, timed, err := round.Schedule(r.Settings)
	if err != nil {
		return nil, err
	}
	if !timed {
		return nil, work.Wrong("the round %s has no schedule: set at (06:00), or cron", name)
	}
	switch in.With {
	case Systemd:
		return r.systemd(name, round, when, in)
	case Crontab:
		return r.crontab(name, when, in)
	case Windows:
		return r.task(name, when, in)
	}
	return nil, work.Wrong("%q is none of systemd, cron and windows", in.With)
}

// Install writes the files. Files of somebody else are not replaced.
func (s *Scheduled) Install() error {
	for _, f := range s.Files {
		if err := f.isOurs(); err != nil {
			return err
		}
	}
	for _, f := range s.Files {
		if err := os.MkdirAll(filepath.Dir(f.Path), 0o755); err != nil {
			return err
		}
		one := file{data: f.Data}
		if err := whole.Write(f.Path, one.write); err != nil {
			return err
		}
		if err := os.Chmod(f.Path, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// Remove removes the files, and tells which there were.
func (s *Scheduled) Remove() (removed []string, err error) {
	for _, f := range s.Files {
		if err := f.isOurs(); err != nil {
			return removed, err
		}
		switch err := os.Remove(f.Path); {
		case err == nil:
			removed = append(removed, f.Path)
		case !errors.Is(err, fs.ErrNotExist):
			return removed, err
		}
	}
	return removed, nil
}

// isOurs refuses a file that somebody else has written.
func (f *ScheduleFile) isOurs() error {
	text, err := os.ReadFile(f.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case !bytes.Contains(bytes.ReplaceAll(text, []byte{0}, nil), []byte(ours)):
		return fmt.Errorf("%s was not written by \"yardbroom round schedule\", and is left as it is", f.Path)
	}
	return nil
}

// command is the command line of a run, its arguments quoted.
func (r *Runner) command(name string, in *Install, quote func(string) string) string {
	parts := []string{in.Program}
	if in.Config != "" {
		parts = append(parts, "--config", in.Config)
	}
	parts = append(parts, "--state", r.State, "round", "run", name, "--scheduled", "--wait", "10m")
	for i := range parts {
		parts[i] = quote(parts[i])
	}
	return strings.Join(parts, " ")
}

// plainWord is made of characters that mean nothing to a shell, to systemd or to cron.
func plainWord(text string) bool {
	return text != "" && !strings.ContainsFunc(text, func(c rune) bool {
		return !strings.ContainsRune("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789/._-+:@,=", c)
	})
}

func systemdWord(text string) string {
	if plainWord(text) {
		return text
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "%", "%%", "$", "$$").Replace(text) + `"`
}

func shellWord(text string) string {
	if plainWord(text) {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}

// systemd makes a service and a timer.
func (r *Runner) systemd(name string, round *settings.Round, when schedule.Schedule, in *Install) (*Scheduled, error) {
	secrets, err := r.credentials(round)
	if err != nil {
		return nil, err
	}
	unit := "yardbroom-" + name
	folder := in.Folder
	mode := ""
	if folder == "" {
		if folder = "/etc/systemd/system"; !in.Root {
			home, err := os.UserConfigDir()
			if err != nil {
				return nil, err
			}
			folder = filepath.Join(home, "systemd", "user")
		}
	}
	if !in.Root {
		mode = " --user"
	}
	var service, timer strings.Builder
	line := func(b *strings.Builder, format string, args ...any) { fmt.Fprintf(b, format+"\n", args...) }
	line(&service, "# %s", ours)
	line(&service, "[Unit]\nDescription=Yard Broom, round %s", name)
	if in.Root {
		line(&service, "Wants=network-online.target\nAfter=network-online.target")
	}
	line(&service, "\n[Service]\nType=oneshot")
	if in.Root && in.User != "" {
		line(&service, "User=%s", in.User)
	}
	line(&service, "ExecStart=%s", r.command(name, in, systemdWord))
	line(&service, "# A run that is told to stop ends the step that it is in.\nTimeoutStopSec=15min")
	line(&service, "UMask=0077\nNoNewPrivileges=yes\nProtectSystem=strict\nProtectHome=read-only\nPrivateTmp=yes\nPrivateDevices=yes")
	line(&service, "ProtectKernelTunables=yes\nProtectKernelModules=yes\nProtectKernelLogs=yes\nProtectControlGroups=yes\n"+
		"ProtectClock=yes\nProtectHostname=yes\nRestrictNamespaces=yes\nRestrictRealtime=yes\nRestrictSUIDSGID=yes\n"+
		"LockPersonality=yes\nMemoryDenyWriteExecute=yes\nSystemCallArchitectures=native\nSystemCallFilter=@system-service\n"+
		"RestrictAddressFamilies=AF_INET AF_INET6 AF_UNIX")
	for _, path := range r.writes(round) {
		line(&service, "ReadWritePaths=%s", systemdWord(path))
	}
	for _, s := range secrets {
		line(&service, "LoadCredential=%s", systemdWord(filepath.Base(s)+":"+s))
	}
	line(&timer, "# %s", ours)
	line(&timer, "[Unit]\nDescription=Times of Yard Broom's round %s\n\n[Timer]", name)
	for _, t := range when.Times() {
		for _, text := range onCalendar(&t, when.Zone()) {
			line(&timer, "OnCalendar=%s", text)
		}
	}
	line(&timer, "Persistent=true\nRandomizedDelaySec=%ds\nAccuracySec=1min\n\n[Install]\nWantedBy=timers.target",
		int(randomDelay.Seconds()))
	out := &Scheduled{
		Then: []string{"systemctl" + mode + " daemon-reload", fmt.Sprintf("systemctl%s enable --now %s.timer", mode, unit)},
		Undo: []string{fmt.Sprintf("systemctl%s disable --now %s.timer", mode, unit), "systemctl" + mode + " daemon-reload"},
	}
	for ending, text := range map[string]string{".service": service.String(), ".timer": timer.String()} {
		out.Files = append(out.Files, ScheduleFile{filepath.Join(folder, unit+ending), text, []byte(text)})
	}
	slices.SortFunc(out.Files, func(a, b ScheduleFile) int { return cmp.Compare(a.Path, b.Path) })
	return out, nil
}

// credentials are the files of secrets that a run of a round reads.
func (r *Runner) credentials(round *settings.Round) ([]string, error) {
	files := []string{round.Roster.TokenFile}
	for _, yard := range round.YardNames(r.Settings) {
		files = append(files, r.Settings.Yards[yard].Bind.PasswordFile)
	}
	if len(round.Tell) > 0 {
		files = append(files, r.Settings.Mail.PasswordFile)
	}
	for _, p := range round.Post {
		files = append(files, p.TokenFile, p.SecretFile)
	}
	slices.Sort(files)
	files = slices.DeleteFunc(slices.Compact(files), func(path string) bool { return path == "" })
	named := map[string]string{}
	for _, path := range files {
		if other, taken := named[filepath.Base(path)]; taken {
			return nil, work.Wrong("%s and %s have one name, by which systemd would hand only one of them over: rename one", other, path)
		}
		named[filepath.Base(path)] = path
	}
	return files, nil
}

// writes are the folders that a run of a round writes into.
func (r *Runner) writes(round *settings.Round) []string {
	folders := []string{r.State}
	if round.Folder != nil {
		folders = append(folders, round.Folder.Path)
	}
	if round.Metrics != "" {
		folders = append(folders, filepath.Dir(round.Metrics))
	}
	return folders
}

var weekdays = []string{"Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"}

// onCalendar writes a rule as systemd reads it (systemd.time). Where both days of the
// month and of the week are given, either will do, as with cron: two lines.
func onCalendar(t *schedule.Times, zone *time.Location) []string {
	list := func(numbers []int, format string) string {
		if numbers == nil {
			return "*"
		}
		texts := make([]string, len(numbers))
		for i, n := range numbers {
			texts[i] = fmt.Sprintf(format, n)
		}
		return strings.Join(texts, ",")
	}
	tail := fmt.Sprintf(" %s:%s:00", list(t.Hours, "%02d"), list(t.Minutes, "%02d"))
	if name := zone.String(); name != "Local" && name != "" {
		tail += " " + name
	}
	months := list(t.Months, "%02d")
	ofMonth := fmt.Sprintf("*-%s-%s%s", months, list(t.Days, "%02d"), tail)
	if t.Weekdays == nil {
		return []string{ofMonth}
	}
	names := make([]string, len(t.Weekdays))
	for i, n := range t.Weekdays {
		names[i] = weekdays[n]
	}
	ofWeek := fmt.Sprintf("%s *-%s-*%s", strings.Join(names, ","), months, tail)
	if t.Days == nil {
		return []string{ofWeek}
	}
	return []string{ofMonth, ofWeek}
}

// hereOnly refuses a time zone that is not the machine's, for schedulers that know no
// other.
func (r *Runner) hereOnly(name string, zone *time.Location, with string) error {
	at := r.Now()
	for range 24 {
		_, there := at.In(zone).Zone()
		if _, here := at.In(time.Local).Zone(); here != there {
			return work.Wrong("%s knows only this machine's time zone (%s), and the round %s goes by that of %s: set its time_zone, "+
				"or use systemd or \"round keep\"", with, at.In(time.Local).Format("MST"), name, zone)
		}
		at = at.AddDate(0, 0, 16)
	}
	return nil
}

// crontab makes a file for cron.
func (r *Runner) crontab(name string, when schedule.Schedule, in *Install) (*Scheduled, error) {
	if err := r.hereOnly(name, when.Zone(), "cron"); err != nil {
		return nil, err
	}
	command := strings.ReplaceAll(r.command(name, in, shellWord), "%", `\%`)
	user := ""
	path := cmp.Or(in.Folder, "/etc/cron.d")
	if in.Root {
		user = cmp.Or(in.User, "root") + " "
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n# Yard Broom, round %s\n", ours, name)
	for _, t := range when.Times() {
		fmt.Fprintf(&b, "%s %s%s\n", t.Expression, user, command)
	}
	if !in.Root {
		return &Scheduled{Files: []ScheduleFile{{"", b.String(), []byte(b.String())}},
			Then: []string{"crontab -e   # and add the lines above"}, Undo: []string{"crontab -e   # and take its lines out"}}, nil
	}
	// Names with dots are not looked at by cron.
	file := filepath.Join(path, "yardbroom-"+strings.ReplaceAll(name, ".", "_"))
	return &Scheduled{Files: []ScheduleFile{{file, b.String(), []byte(b.String())}}}, nil
}

// task makes a task for the scheduler of Windows.
func (r *Runner) task(name string, when schedule.Schedule, in *Install) (*Scheduled, error) {
	if err := r.hereOnly(name, when.Zone(), "the task scheduler"); err != nil {
		return nil, err
	}
	triggers, err := r.triggers(name, when)
	if err != nil {
		return nil, err
	}
	type principal struct {
		ID    string `xml:"id,attr"`
		User  string `xml:"UserId,omitempty"`
		Logon string `xml:"LogonType"`
		Level string `xml:"RunLevel"`
	}
	type exec struct {
		Command   string `xml:"Command"`
		Arguments string `xml:"Arguments"`
	}
	command := r.command(name, in, windowsWord)
	doc := struct {
		XMLName     xml.Name      `xml:"http://schemas.microsoft.com/windows/2004/02/mit/task Task"`
		Version     string        `xml:"version,attr"`
		About       string        `xml:"RegistrationInfo>Description"`
		Triggers    []taskTrigger `xml:"Triggers>CalendarTrigger"`
		Principal   principal     `xml:"Principals>Principal"`
		Instances   string        `xml:"Settings>MultipleInstancesPolicy"`
		OnBattery   bool          `xml:"Settings>DisallowStartIfOnBatteries"`
		CatchUp     bool          `xml:"Settings>StartWhenAvailable"`
		NeedNetwork bool          `xml:"Settings>RunOnlyIfNetworkAvailable"`
		Limit       string        `xml:"Settings>ExecutionTimeLimit"`
		Actions     struct {
			Context string `xml:"Context,attr"`
			Exec    exec   `xml:"Exec"`
		} `xml:"Actions"`
	}{Version: "1.2", About: fmt.Sprintf("Yard Broom, round %s. %s", name, ours), Triggers: triggers,
		Principal: principal{"Author", in.User, "Password", "LeastPrivilege"}, Instances: "IgnoreNew", CatchUp: true, NeedNetwork: true,
		Limit: "PT12H"}
	doc.Actions.Context = "Author"
	doc.Actions.Exec = exec{in.Program, strings.TrimSpace(strings.TrimPrefix(command, windowsWord(in.Program)))}
	body, err := xml.MarshalIndent(doc, "", "  ")
	if err != nil {
		return nil, err
	}
	text := `<?xml version="1.0" encoding="UTF-16"?>` + "\n" + string(body) + "\n"
	file := filepath.Join(cmp.Or(in.Folder, "."), "yardbroom-"+name+".xml")
	title := `\Yard Broom\` + name
	return &Scheduled{Files: []ScheduleFile{{file, text, asUTF16(text)}},
		Then: []string{fmt.Sprintf("schtasks /Create /TN %q /XML %q /RP *", title, file)},
		Undo: []string{fmt.Sprintf("schtasks /Delete /TN %q", title)}}, nil
}

// taskTrigger is a time of day at which a task begins.
type taskTrigger struct {
	Start   string `xml:"StartBoundary"`
	Enabled bool   `xml:"Enabled"`
	Delay   string `xml:"RandomDelay"`
	Rule    any    // taskByDay or taskByWeek
}

type taskByDay struct {
	XMLName xml.Name `xml:"ScheduleByDay"`
	Every   int      `xml:"DaysInterval"`
}

type taskByWeek struct {
	XMLName xml.Name                  `xml:"ScheduleByWeek"`
	Every   int                       `xml:"WeeksInterval"`
	Days    struct{ Names []taskDay } `xml:"DaysOfWeek"`
}

type taskDay struct{ XMLName xml.Name }

// triggers are the times of a schedule as the scheduler of Windows has them.
func (r *Runner) triggers(name string, when schedule.Schedule) (all []taskTrigger, err error) {
	today := r.Now().In(time.Local).Format(time.DateOnly)
	for _, t := range when.Times() {
		if t.Days != nil || t.Months != nil || t.Hours == nil || t.Minutes == nil || len(t.Hours)*len(t.Minutes) > 48 {
			return nil, work.Wrong("the round %s: %q cannot be written as a task: give times of day and days of the week", name, t.Expression)
		}
		var rule any = taskByDay{Every: 1}
		if t.Weekdays != nil {
			week := taskByWeek{Every: 1}
			for _, n := range t.Weekdays {
				week.Days.Names = append(week.Days.Names, taskDay{xml.Name{Local: time.Weekday(n).String()}})
			}
			rule = week
		}
		for _, hour := range t.Hours {
			for _, minute := range t.Minutes {
				all = append(all, taskTrigger{Start: fmt.Sprintf("%sT%02d:%02d:00", today, hour, minute), Enabled: true, Delay: "PT5M", Rule: rule})
			}
		}
	}
	return all, nil
}

// windowsWord quotes an argument as programs of Windows take their command lines apart.
func windowsWord(text string) string {
	if plainWord(strings.ReplaceAll(text, `\`, "/")) {
		return text
	}
	return `"` + strings.ReplaceAll(text, `"`, `\"`) + `"`
}

// asUTF16 is a text as Windows reads it.
func asUTF16(text string) []byte {
	out := []byte{0xff, 0xfe}
	for _, unit := range utf16.Encode([]rune(text)) {
		out = binary.LittleEndian.AppendUint16(out, unit)
	}
	return out
}
