package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/render"
	"yardbroom/internal/rounds"
	"yardbroom/internal/wording"
)

func (a *app) roundCommand() *cli.Command {
	wait := &cli.DurationFlag{Name: "wait", Usage: "wait up to `SPAN` (10m) for another run of it, or for who carries a batch out"}
	log := &cli.StringFlag{Name: "log", Usage: "log what happens as `FORMAT`: json (lines on standard error), syslog or journald"}
	formats := &cli.StringFlag{Name: "format", Value: formatTable, Usage: "table or json"}
	late := &cli.DurationFlag{Name: "late", Value: time.Hour, Usage: "how long after its time a round may begin"}
	return &cli.Command{
		Name: "round", Usage: "jobs that run by themselves: list, show, run, test, preview, schedule, keep, check, release",
		Description: help("round"),
		Commands: []*cli.Command{
			{Name: "list", Usage: "all rounds, each with its last run and its next time", Flags: []cli.Flag{late, formats},
				Action: a.roundList},
			{Name: "show", Usage: "what one run did, step by step (default: the last one)", ArgsUsage: "ROUND [RUN]",
				Flags: []cli.Flag{formats, &cli.BoolFlag{Name: "log", Usage: "its log too"}}, Action: a.roundShow},
			{Name: "run", Usage: "run a round now", ArgsUsage: "ROUND", Flags: []cli.Flag{wait, log, asOfFlag(),
				&cli.BoolFlag{Name: "scheduled", Usage: "it runs for the time of its schedule; print nothing but what went wrong"}},
				Action: a.roundRun},
			{Name: "test", Usage: "everything but writing: settings, servers, rights, roster, mail server, folders, space; and who would get what",
				ArgsUsage: "ROUND", Action: a.roundTest},
			{Name: "preview", Usage: "write the mails and pages as they would be into a folder; nothing is sent or changed",
				ArgsUsage: "ROUND", Flags: []cli.Flag{&cli.StringFlag{Name: "output", Required: true, Usage: "the `FOLDER`"}},
				Action: a.roundPreview},
			{Name: "schedule", Usage: "write what the machine's own scheduler needs", ArgsUsage: "ROUND", Flags: append(scheduleFlags(),
				&cli.BoolFlag{Name: "print", Usage: "print it and write nothing"}), Action: a.roundSchedule},
			{Name: "unschedule", Usage: "remove what schedule has written", ArgsUsage: "ROUND", Flags: scheduleFlags(),
				Action: a.roundUnschedule},
			{Name: "keep", Usage: "stay in the foreground and run the rounds at their times, as in a container",
				Flags: []cli.Flag{wait, log}, Action: a.roundKeep},
			{Name: "check", Usage: "for a monitor: one line, and exit status 1 when a round is overdue, failed, or held by its brake",
				ArgsUsage: "[ROUND]", Flags: []cli.Flag{late}, Action: a.roundCheck},
			{Name: "release", Usage: "let a round run on that its brake has stopped", ArgsUsage: "ROUND",
				Flags:  []cli.Flag{&cli.StringFlag{Name: "why", Required: true, Usage: "a `TEXT` that is kept in the journal"}},
				Action: a.roundRelease},
		},
	}
}

func scheduleFlags() []cli.Flag {
	with := rounds.Systemd
	if runtime.GOOS == "windows" {
		with = rounds.Windows
	}
	return []cli.Flag{
		&cli.StringFlag{Name: "with", Value: string(with), Usage: "the `SCHEDULER`: systemd, cron or windows"},
		&cli.StringFlag{Name: "user", Usage: "who it runs as (a `NAME`)"},
		&cli.StringFlag{Name: "into", Usage: "write into this `FOLDER` (default: where the scheduler looks)"},
	}
}

// runner runs rounds. It waits for what it has begun.
func (a *app) runner() *rounds.Runner {
	host, err := os.Hostname()
	if err != nil {
		host = "localhost"
	}
	return &rounds.Runner{Session: a.work, Host: host, Begins: func() { a.carrying.Store(true) }}
}

// roundNamed is the name that the first argument gives.
func roundNamed(cmd *cli.Command) (string, error) {
	if cmd.Args().Len() != 1 {
		return "", usage("give the name of one round; \"yardbroom round list\" shows them")
	}
	return cmd.Args().First(), nil
}

func (a *app) roundList(ctx context.Context, cmd *cli.Command) error {
	if err := a.noArguments(cmd); err != nil {
		return err
	}
	all, err := a.runner().Statuses(ctx, cmd.Duration("late"))
	if err != nil {
		return err
	}
	if cmd.String("format") == formatJSON {
		return render.JSON(a.out, rounds.ListOf(all))
	}
	if len(all) == 0 {
		a.note("the settings have no rounds; \"yardbroom round --help\" shows how to describe one")
		return nil
	}
	var rows [][]string
	for _, s := range all {
		rows = append(rows, []string{s.Name, s.Outcome(), s.LastTime(), s.Lasted(), s.NextTime(), newOf(s)})
	}
	render.Table(a.out, a.style(time.Local), []string{"Round", "Last run", "Began", "Took", "Next", "New"}, rows, 0)
	fmt.Fprintln(a.out)
	for _, s := range all {
		for _, text := range s.Trouble() {
			fmt.Fprintf(a.out, "%s: %s\n", s.Name, render.Visible(text))
		}
	}
	return nil
}

// newOf is how much the last run of a round has found that was new.
func newOf(s *rounds.Status) string {
	if s.Last == nil {
		return ""
	}
	return strconv.Itoa(s.Last.New().All())
}

func (a *app) roundShow(ctx context.Context, cmd *cli.Command) error {
	args := cmd.Args()
	if args.Len() < 1 || args.Len() > 2 {
		return usage("give the name of a round, and perhaps the number of a run")
	}
	past, err := a.runner().Past(ctx, args.First(), 1000)
	if err != nil {
		return err
	}
	if len(past) == 0 {
		a.note("the round %s has never run", args.First())
		return nil
	}
	run := past[0]
	if word := args.Get(1); word != "" {
		id, err := strconv.Atoi(word)
		i := slices.IndexFunc(past, func(r *rounds.Run) bool { return r.ID == id })
		if err != nil || i < 0 {
			return usage("the round %s has no run %q; its last ones are %s", args.First(), word, lastRuns(past))
		}
		run = past[i]
	}
	if cmd.String("format") == formatJSON {
		return render.JSON(a.out, run)
	}
	return a.paged(func(w io.Writer) error {
		a.tellRun(w, run)
		if cmd.Bool("log") {
			fmt.Fprintf(w, "\nLog (times in %s)\n", run.Began.Local().Format("MST"))
			for _, line := range run.Log {
				fmt.Fprintf(w, "  %s  %s\n", line.At.Local().Format("15:04:05"), render.Visible(line.Text))
			}
		}
		if run == past[0] && len(past) > 1 {
			fmt.Fprintf(w, "\nEarlier runs: %s\n", lastRuns(past[1:]))
		}
		return nil
	})
}

// lastRuns names some runs.
func lastRuns(past []*rounds.Run) string {
	var names []string
	for _, r := range past[:min(len(past), 5)] {
		names = append(names, fmt.Sprintf("%d (%s, %s)", r.ID, r.Began.Local().Format(time.DateOnly), r.Outcome))
	}
	return strings.Join(names, ", ")
}

// tellRun writes what a run did.
func (a *app) tellRun(w io.Writer, r *rounds.Run) {
	took := ""
	if !r.Ended.IsZero() {
		took = ", took " + rounds.Lasting(r.Ended.Sub(r.Began))
	}
	outcome := string(r.Outcome)
	if outcome == "" {
		outcome = "running"
	}
	fmt.Fprintf(w, "Round %s, run %d: %s\nbegan %s%s, by %s\n", r.Round, r.ID, outcome, wording.Moment(r.Began, time.Local), took,
		render.Visible(r.By))
	width := a.style(nil).Width
	line := func(indent int, text string) {
		pad := strings.Repeat(" ", indent)
		fmt.Fprintln(w, pad+render.Wrap(render.Visible(text), width-indent, pad+"  "))
	}
	section := func(title string, lines []string) {
		if len(lines) > 0 {
			fmt.Fprintln(w, "\n"+title)
			for _, text := range lines {
				line(2, text)
			}
		}
	}
	var stops []string
	for _, s := range r.Stops {
		stops = append(stops, fmt.Sprintf("%s: %s", s.Yard, s.Why))
	}
	if len(stops) > 0 {
		stops = append(stops, fmt.Sprintf("it changes nothing until: yardbroom round release %s --why …", r.Round))
	}
	section("Stopped by the brake", stops)
	section("Went wrong", r.Faults())
	for _, y := range r.Yards {
		fmt.Fprintf(w, "\n%s\n", render.Visible(y.Yard))
		for _, s := range y.Steps {
			const column = 24
			fmt.Fprintf(w, "  %-*s%s\n", column-2, render.Clip(render.Visible(s.Name()), column-3),
				render.Hang(render.Visible(s.Said()), width, column))
		}
	}
	section("Notes", r.Notes)
	section("Written", r.Written)
	var told []string
	said := ""
	for _, to := range r.Told {
		parts := slices.DeleteFunc([]string{to.State, to.Subject}, func(text string) bool { return text == "" })
		text := fmt.Sprintf("%s to %s: %s", to.How, to.Address, strings.Join(parts, ", "))
		if to.Error != "" && to.Error != said { // one server says the same of all
			said = to.Error
			text += " (" + to.Error + ")"
		}
		told = append(told, text)
	}
	section("Told", told)
}

func (a *app) roundRun(ctx context.Context, cmd *cli.Command) error {
	name, err := roundNamed(cmd)
	if err != nil {
		return err
	}
	r := a.runner()
	if r.Log, err = a.roundLog(cmd.String("log")); err != nil {
		return err
	}
	req := &rounds.Request{Wait: cmd.Duration("wait"), AsOf: cmd.String("as-of")}
	if cmd.Bool("scheduled") {
		if req.Planned, err = r.LastTime(name); err != nil {
			return err
		}
	}
	a.carrying.Store(true) // it ends the step that it is in
	run, err := r.Run(ctx, name, req)
	if err != nil {
		return err
	}
	if past, err := r.Past(ctx, name, 1); err == nil && len(past) > 0 && past[0].ID == run.ID {
		run = past[0] // with what became of its messages
	}
	if !cmd.Bool("scheduled") {
		a.tellRun(a.out, run)
	}
	return outcomeOf(run)
}

// outcomeOf is the error of a run that was not done.
func outcomeOf(run *rounds.Run) error {
	switch run.Outcome {
	case rounds.Stopped:
		return &exitError{exitStopped, fmt.Errorf("round %s, run %d: stopped by the brake: %s", run.Round, run.ID, run.Stops[0].Why)}
	case rounds.OnHold:
		return &exitError{exitStopped, fmt.Errorf("round %s, run %d: held by the brake; to let it run on: yardbroom round release %s --why …",
			run.Round, run.ID, run.Round)}
	case rounds.Done:
		return nil
	}
	faults := run.Faults()
	if len(faults) == 0 {
		faults = []string{string(run.Outcome)}
	}
	return fmt.Errorf("round %s, run %d: %s", run.Round, run.ID, strings.Join(faults, "; "))
}

func (a *app) roundTest(ctx context.Context, cmd *cli.Command) error {
	name, err := roundNamed(cmd)
	if err != nil {
		return err
	}
	trials, err := a.runner().Test(ctx, name)
	if err != nil {
		return err
	}
	failed := 0
	width := a.style(nil).Width
	for _, t := range trials {
		mark := "ok  "
		if !t.OK {
			mark = "LOOK"
			failed++
		}
		fmt.Fprintf(a.out, "%s  %-15s %s\n", mark, render.Visible(t.What), render.Hang(render.Visible(t.Text), width, 22))
	}
	if failed > 0 {
		return fmt.Errorf("%s to look at before the round %s runs", wording.Count(failed, "thing"), name)
	}
	return nil
}

func (a *app) roundPreview(ctx context.Context, cmd *cli.Command) error {
	name, err := roundNamed(cmd)
	if err != nil {
		return err
	}
	folder := cmd.String("output")
	run, err := a.runner().Preview(ctx, name, folder)
	if err != nil {
		return err
	}
	a.tellRun(a.out, run)
	entries, err := os.ReadDir(folder)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "\nIn %s\n", folder)
	for _, e := range entries {
		name := e.Name()
		if e.IsDir() {
			name += string(filepath.Separator) + "index.html"
		}
		fmt.Fprintln(a.out, "  "+filepath.Join(folder, name))
	}
	return nil
}

// install says how a round is to be run by a scheduler.
func (a *app) install(cmd *cli.Command) (*rounds.Install, error) {
	program, err := os.Executable()
	if err != nil {
		return nil, err
	}
	in := &rounds.Install{With: rounds.Scheduler(cmd.String("with")), Program: program, User: cmd.String("user"), Folder: cmd.String("into"),
		Root: os.Geteuid() == 0}
	if !slices.Contains(rounds.Schedulers, in.With) {
		return nil, usage("--with: %q is none of systemd, cron and windows", in.With)
	}
	if file := a.work.Settings.File; file != "" {
		if in.Config, err = filepath.Abs(file); err != nil {
			return nil, err
		}
	}
	a.work.State, err = filepath.Abs(a.work.State)
	return in, err
}

// schedulePlan is what a scheduler needs for the round that is named.
func (a *app) schedulePlan(cmd *cli.Command) (name string, plan *rounds.Scheduled, err error) {
	if name, err = roundNamed(cmd); err != nil {
		return "", nil, err
	}
	in, err := a.install(cmd)
	if err != nil {
		return "", nil, err
	}
	plan, err = a.runner().Plan(name, in)
	return name, plan, err
}

func (a *app) roundSchedule(_ context.Context, cmd *cli.Command) error {
	_, plan, err := a.schedulePlan(cmd)
	if err != nil {
		return err
	}
	shown := cmd.Bool("print") || slices.ContainsFunc(plan.Files, func(f rounds.ScheduleFile) bool { return f.Path == "" })
	if shown {
		for i, f := range plan.Files {
			if i > 0 {
				fmt.Fprintln(a.out)
			}
			if f.Path != "" && len(plan.Files) > 1 {
				fmt.Fprintf(a.out, "# %s\n", f.Path)
			}
			fmt.Fprint(a.out, f.Text)
		}
	} else {
		if err := plan.Install(); err != nil {
			return err
		}
		for _, f := range plan.Files {
			fmt.Fprintf(a.out, "written: %s\n", f.Path)
		}
	}
	to := a.out
	if shown {
		to = a.err
	}
	a.tellCommands(to, "Then:", plan.Then)
	return nil
}

func (a *app) tellCommands(w io.Writer, title string, commands []string) {
	if len(commands) > 0 {
		fmt.Fprintln(w, title)
		for _, c := range commands {
			fmt.Fprintln(w, "  "+c)
		}
	}
}

func (a *app) roundUnschedule(_ context.Context, cmd *cli.Command) error {
	name, plan, err := a.schedulePlan(cmd)
	if err != nil {
		return err
	}
	plan.Files = slices.DeleteFunc(plan.Files, func(f rounds.ScheduleFile) bool { return f.Path == "" })
	removed, err := plan.Remove()
	for _, path := range removed {
		fmt.Fprintf(a.out, "removed: %s\n", path)
	}
	if err != nil {
		return err
	}
	if len(removed) == 0 && len(plan.Files) > 0 {
		a.note("the round %s was not scheduled in %s", name, filepath.Dir(plan.Files[0].Path))
		return nil
	}
	a.tellCommands(a.out, "Then:", plan.Undo)
	return nil
}

func (a *app) roundKeep(ctx context.Context, cmd *cli.Command) error {
	if err := a.noArguments(cmd); err != nil {
		return err
	}
	r := a.runner()
	var err error
	if r.Log, err = a.roundLog(cmd.String("log")); err != nil {
		return err
	}
	a.carrying.Store(true)
	return r.Keep(ctx, rounds.Request{Wait: cmd.Duration("wait")}, func(name string, run *rounds.Run, err error) {
		if err == nil {
			err = outcomeOf(run)
		}
		switch {
		case err != nil:
			fmt.Fprintf(a.err, "yardbroom: %s\n", render.Visible(err.Error()))
		default:
			a.note("%s: round %s, run %d: done, %d new", run.Ended.Local().Format(time.DateTime), name, run.ID, run.New().All())
		}
	})
}

func (a *app) roundCheck(ctx context.Context, cmd *cli.Command) error {
	r := a.runner()
	var all []*rounds.Status
	var err error
	if cmd.Args().Present() {
		name, err := roundNamed(cmd)
		if err != nil {
			return err
		}
		s, err := r.StatusOf(ctx, name, cmd.Duration("late"))
		if err != nil {
			return err
		}
		all = append(all, s)
	} else if all, err = r.Statuses(ctx, cmd.Duration("late")); err != nil {
		return err
	}
	var bad, good []string
	for _, s := range all {
		if trouble := s.Trouble(); len(trouble) > 0 {
			bad = append(bad, s.Name+": "+strings.Join(trouble, ", "))
		} else {
			good = append(good, fmt.Sprintf("%s: %s %s", s.Name, s.Outcome(), s.LastTime()))
		}
	}
	switch {
	case len(all) == 0:
		return usage("the settings have no rounds")
	case len(bad) > 0:
		fmt.Fprintln(a.out, render.Visible("LOOK: "+strings.Join(bad, "; ")))
		return &exitError{exitFailed, errors.New("")}
	}
	fmt.Fprintln(a.out, render.Visible("ok: "+strings.Join(good, "; ")))
	return nil
}

func (a *app) roundRelease(ctx context.Context, cmd *cli.Command) error {
	name, err := roundNamed(cmd)
	if err != nil {
		return err
	}
	held, err := a.runner().Release(ctx, name, cmd.String("why"))
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "The round %s runs on; run %d had been stopped:\n", name, held.Run)
	for _, s := range held.Stops {
		fmt.Fprintf(a.out, "  %s: %s\n", render.Visible(s.Yard), render.Visible(s.Why))
	}
	fmt.Fprintf(a.out, "The next run may do this much, and not much more. To run it now: yardbroom round run %s\n", name)
	return nil
}
