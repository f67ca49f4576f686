// Package cli is the command line: each command turns its flags into one
// call of the core and hands the result to a renderer.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"os/signal"
	"os/user"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"
	_ "time/tzdata" // the names of time zones, where a machine has none of its own

	"github.com/adrg/xdg"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yardbroom/internal/render"
	"yardbroom/internal/rounds"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/whole"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// Exit statuses.
const (
	exitDone     = 0
	exitFailed   = 1
	exitUsage    = 2
	exitFindings = 3 // findings at or above --fail-on
	exitNotDone  = 4 // a batch ended with lines not done, or was staged without some that were chosen
	exitBusy     = 5 // somebody else is at work in the state folder
	exitStopped  = 6 // a round was stopped by its brake, or is held by it
)

// exitError ends the program with a status other than 1.
type exitError struct {
	status int
	err    error
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exitError) Unwrap() error { return e.err }

// usage makes an error that says how the command line or the settings are
// wrong.
func usage(format string, args ...any) error {
	return &exitError{exitUsage, fmt.Errorf(format, args...)}
}

// app is what all commands share.
type app struct {
	in       io.Reader
	out, err io.Writer
	now      func() time.Time
	work     *work.Session
	// settingsFile is what the settings were read from, or would be.
	settingsFile string
	quiet        bool
	noPager      bool
	title        string // of pages, where the command line gives one
	asked        string // what is asked for, in words
	progress     *progress
	carrying     atomic.Bool            // a batch is being carried out, or was
	typing       atomic.Pointer[func()] // gives the terminal back while a password is typed
}

// Main runs the program and returns its exit status.
func Main(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	if os.Getenv("GOGC") == "" {
		paceCollector()
	}
	a := &app{in: in, out: out, err: errOut, now: time.Now}
	err := a.heard(ctx, func() error { return errors.Join(a.root(args...).Run(ctx, args), a.close()) })
	a.progress.clear()
	if err == nil {
		return exitDone
	}
	status := exitFailed
	var exit *exitError
	var wrong work.RequestError
	switch {
	case errors.As(err, &exit):
		status = exit.status
	case errors.As(err, &wrong):
		status = exitUsage
	case work.IsBusy(err):
		status = exitBusy
	}
	switch {
	case ctx.Err() != nil && errors.Is(err, context.Canceled):
		fmt.Fprintln(errOut, "yardbroom: interrupted")
	case err.Error() != "":
		prefix := "yardbroom: "
		for line := range strings.SplitSeq(strings.TrimRight(err.Error(), "\n"), "\n") {
			fmt.Fprintln(errOut, prefix+render.Visible(line))
			prefix = ""
		}
	}
	return status
}

// Program is the whole program: Main, told to stop by signals.
func Program() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // a second one ends the program at once
	return Main(ctx, os.Args, os.Stdin, os.Stdout, os.Stderr)
}

// endsWithin is how long a command may go on after it was told to stop.
const endsWithin = 600 * time.Millisecond

// heard runs a command and leaves it behind if it goes on after it was told to
// stop, whatever it waits for or computes. What carries a batch out is waited
// for, since it finishes what has been begun. Everything else may end at any
// instant: files are written whole or not at all, and so is the store.
func (a *app) heard(ctx context.Context, run func() error) error {
	done := make(chan error, 1)
	go func() { done <- run() }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
	}
	select {
	case err := <-done:
		return err
	case <-time.After(endsWithin):
	}
	if a.carrying.Load() {
		fmt.Fprintln(
			a.err,
			"yardbroom: stopping; what has been begun is finished first (interrupt again to end at once: \"apply\" then goes on from the journal)",
		)
		return <-done
	}
	whole.Abandon()
	if restore := a.typing.Load(); restore != nil {
		(*restore)()
	}
	return ctx.Err()
}

func (a *app) root(args ...string) *cli.Command {
	cmd := &cli.Command{
		Name:    "yardbroom",
		Usage:   "keep a directory of accounts tidy: find what is stale, stage the cleanup, carry it out, take it back",
		Version: version(),
		Writer:  a.out, ErrWriter: a.err, Reader: a.in,
		DisableSliceFlagSeparator: true,
		Suggest:                   true,
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:    "config",
				Usage:   "settings `FILE` (default: $YARDBROOM_CONFIG, else the XDG config folder)",
				Sources: cli.EnvVars("YARDBROOM_CONFIG"),
			},
			&cli.StringFlag{
				Name:    "state",
				Usage:   "state `DIR` for batches, journal, surveys and rosters (default: $YARDBROOM_STATE, else the XDG state folder)",
				Sources: cli.EnvVars("YARDBROOM_STATE"),
			},
			&cli.BoolFlag{Name: "quiet", Usage: "no notes and no progress on standard error"},
			&cli.BoolFlag{Name: "no-pager", Usage: "write what is longer than the screen straight through, not through a pager (PAGER, else less)"},
			&cli.BoolFlag{Name: "verbose", Usage: "write to standard error what is read, asked and written"},
		},
		Before:         a.before,
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		OnUsageError: func(_ context.Context, cmd *cli.Command, err error, _ bool) error {
			return usage("%w; \"%s --help\" shows how", meantOption(cmd, err), cmd.FullName())
		},
		Commands: a.commands(args),
		Action: func(_ context.Context, cmd *cli.Command) error {
			if name := cmd.Args().First(); name != "" {
				return usage("there is no command %q%s; \"yardbroom --help\" lists them", name, meantCommand(cmd, name))
			}
			return cli.ShowAppHelp(cmd)
		},
	}
	strict(cmd)
	return cmd
}

// commands are those of the program, in the order of its help: all of them where there is
// no command line, or the one that it names, since making all takes longer than most of
// them run.
func (a *app) commands(line []string) (all []*cli.Command) {
	makers := []struct {
		name string
		make func() *cli.Command
	}{
		{"demo", a.demoCommand},
		{"audit", a.auditCommand},
		{"compare", a.compareCommand},
		{"trend", a.trendCommand},
		{"checks", a.checksCommand},
		{"list", a.listCommand},
		{"show", a.showCommand},
		{"trace", a.traceCommand},
		{"survey", a.surveyCommand},
		{"reconcile", a.reconcileCommand},
		{"roster", a.rosterCommand},
		{"link", a.linkCommand},
		{"exempt", a.exemptCommand},
		{"stage", a.stageCommand},
		{"batch", a.batchCommand},
		{"apply", a.applyCommand},
		{"undo", a.undoCommand},
		{"due", a.dueCommand},
		{"restore", a.restoreCommand},
		{"journal", a.journalCommand},
		{"round", a.roundCommand},
		{"ladder", a.ladderCommand},
		{"yard", a.yardCommand},
		{"doctor", a.doctorCommand},
		{"manual", a.manualCommand},
		{"schema", a.schemaCommand},
		{"completion", a.completionCommand},
		{completeName, a.completeCommand},
	}
	named := firstWord(line)
	if len(line) > 0 && named == "" {
		return nil // the program's own help, or its version
	}
	for _, m := range makers {
		if m.name == named && named != completeName && named != "manual" { // which are about all
			return []*cli.Command{m.make()}
		}
	}
	for _, m := range makers {
		all = append(all, m.make())
	}
	return all
}

// firstWord is the word of a command line that names its command, "" where none does.
func firstWord(line []string) string {
	for i := 1; i < len(line); i++ {
		switch word := line[i]; {
		case word == "--config" || word == "--state":
			i++ // its value
		case !strings.HasPrefix(word, "-"):
			return word
		}
	}
	return ""
}

// meantCommand tells which command somebody may have meant.
func meantCommand(cmd *cli.Command, name string) string {
	var names []string
	for _, c := range cmd.VisibleCommands() {
		names = append(names, c.Name)
	}
	return wording.DidYouMean(name, names)
}

// meantOption says of an option that there is not which one may have been meant.
func meantOption(cmd *cli.Command, err error) error {
	_, typed, unknown := strings.Cut(err.Error(), "flag provided but not defined: -")
	if !unknown {
		return err
	}
	name := strings.TrimLeft(typed, "-")
	var names []string
	for _, c := range cmd.Lineage() {
		for _, f := range c.Flags {
			names = append(names, "--"+f.Names()[0])
		}
	}
	return fmt.Errorf("there is no option --%s%s", name, wording.DidYouMean("--"+name, names))
}

// noArguments refuses words that no option takes.
func (a *app) noArguments(cmd *cli.Command) error {
	if word := cmd.Args().First(); word != "" {
		return usage("%s takes no arguments, and %q is one%s; \"%s --help\" shows how", strings.TrimPrefix(cmd.FullName(), "yardbroom "), word,
			a.meantWith(cmd, word), cmd.FullName())
	}
	return nil
}

// meantWith tells which option of a command a word may have been meant for.
func (a *app) meantWith(cmd *cli.Command, word string) string {
	has := func(option string) bool {
		return slices.ContainsFunc(cmd.Flags, func(f cli.Flag) bool { return slices.Contains(f.Names(), option) })
	}
	_, missing := os.Stat(word)
	option := ""
	switch {
	case has("check") && a.work.Catalog.Find(word) != nil:
		option = "check"
	case has("roster") && missing == nil && slices.Contains([]string{".csv", ".tsv", ".xlsx", ".json"}, filepath.Ext(word)):
		option = "roster"
	case has("batch") && strings.Trim(word, "0123456789") == "":
		option = "batch"
	case has("from") && (missing == nil || strings.Contains(word, "://") || slices.Contains(slices.Collect(maps.Keys(a.work.Settings.Yards)), word)):
		option = "from"
	default:
		return ""
	}
	return " (did you mean --" + option + " " + quoted([]string{word}) + "?)"
}

// checkNames are the checks of --check, which may be given with commas between
// them, too.
func checkNames(cmd *cli.Command) (names []string) {
	for _, list := range cmd.StringSlice("check") {
		for name := range strings.SplitSeq(list, ",") {
			names = append(names, strings.TrimSpace(name))
		}
	}
	return names
}

// strict gives every command the same handling of wrong options.
func strict(cmd *cli.Command) {
	for _, c := range cmd.Commands {
		c.OnUsageError = cmd.OnUsageError
		c.DisableSliceFlagSeparator = cmd.DisableSliceFlagSeparator // values hold commas
		if len(c.Commands) > 0 && c.Action == nil {
			c.Action = func(_ context.Context, c *cli.Command) error {
				if name := c.Args().First(); name != "" {
					return usage("there is no command \"%s %s\"%s; \"%s --help\" lists them", c.FullName(), name, meantCommand(c, name),
						c.FullName())
				}
				return cli.ShowSubcommandHelp(c)
			}
		}
		strict(c)
	}
}

// needNone are the commands that ask nothing of the settings, and so work where those
// cannot be read; completion goes by the settings that the line names.
var needNone = []string{"help", "demo", "manual", "schema", "completion", completeName}

// before reads the settings once, for all commands.
func (a *app) before(ctx context.Context, cmd *cli.Command) (context.Context, error) {
	a.quiet, a.noPager = cmd.Bool("quiet"), cmd.Bool("no-pager")
	a.progress = a.newProgress()
	a.setLog(cmd.Bool("verbose"))
	if name := cmd.Args().First(); cmd.Command(name) == nil || slices.Contains(needNone, name) {
		return ctx, nil
	}
	config := cmd.String("config")
	if slices.Equal(cmd.Args().Slice()[:min(2, cmd.NArg())], []string{"yard", "add"}) {
		if _, err := os.Lstat(config); config != "" && errors.Is(err, fs.ErrNotExist) {
			a.settingsFile = config // which is to be made
		}
	}
	if err := a.open(config, cmd.String("state")); err != nil {
		if missing := (*fs.PathError)(nil); errors.As(err, &missing) && missing.Path == config && errors.Is(err, fs.ErrNotExist) {
			by := "--config"
			if os.Getenv("YARDBROOM_CONFIG") == config {
				by = "YARDBROOM_CONFIG"
			}
			return ctx, usage("there is no settings file %s, which %s names; \"yardbroom yard add\" would make it", config, by)
		}
		return ctx, err
	}
	if err := rounds.Check(a.work); err != nil {
		return ctx, err
	}
	a.work.Now, a.work.By, a.work.Stdin, a.work.Ask, a.work.Progress = a.now, actor(), a.in, a.ask(), a.progress.report
	a.work.Note = func(text string) { a.note("%s", text) }
	slog.Debug("settings", "file", a.work.Settings.File, "state", a.work.State)
	return ctx, nil
}

// open begins a session by a settings file and in a state folder, each "" for the usual
// one.
func (a *app) open(config, state string) error {
	load := settings.Load
	if a.settingsFile == config && config != "" {
		load = settings.LoadIfAny
	}
	if config == "" {
		load, config = settings.LoadIfAny, filepath.Join(xdg.ConfigHome, "yardbroom", "settings.yaml")
	}
	set, err := load(config)
	if err != nil {
		return &exitError{exitUsage, err}
	}
	if a.work, err = work.New(set); err != nil {
		return err
	}
	a.settingsFile = config
	if a.work.State = state; state == "" {
		a.work.State = filepath.Join(xdg.StateHome, "yardbroom")
	}
	return nil
}

func (a *app) close() error {
	if a.work == nil {
		return nil
	}
	return a.work.Close()
}

func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	revision, changed := "", ""
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			revision = s.Value
		case "vcs.modified":
			if s.Value == "true" {
				changed = " with local changes"
			}
		}
	}
	if revision == "" {
		return strings.Trim(info.Main.Version, "()")
	}
	return fmt.Sprintf("%s, commit %.12s%s", strings.Trim(info.Main.Version, "()"), revision, changed)
}

// note tells a person something that is not the result.
func (a *app) note(format string, args ...any) {
	if !a.quiet {
		a.progress.clear()
		text := render.Visible(fmt.Sprintf(format, args...))
		if f, ok := a.err.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
			if w, _, err := term.GetSize(int(f.Fd())); err == nil && w >= leastColumns {
				text = render.Wrap(text, w, "  ")
			}
		}
		fmt.Fprintln(a.err, text)
	}
}

// actor is who works here: the login name, at this host.
func actor() string {
	name := "unknown"
	if u, err := user.Current(); err == nil {
		name = u.Username
		if behind := os.Getenv("SUDO_USER"); u.Uid == "0" && behind != "" {
			name = behind // who is at work, and so cannot sign as well
		}
	}
	if host, err := os.Hostname(); err == nil {
		name += "@" + host
	}
	return name
}

// usualWidth is how wide sentences are where no terminal tells.
const usualWidth = 120

// style is how to draw for the terminal, or for a pipe or file, where nothing is cut.
// COLUMNS tells the width before anything else does.
func (a *app) style(loc *time.Location) render.Style {
	st := render.Style{Width: usualWidth, Zone: loc, Whole: true}
	if f, ok := a.out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		st.Whole, st.Screen = false, 24
		if w, h, err := term.GetSize(int(f.Fd())); err == nil && w > 0 && h > 0 {
			st.Width, st.Screen = w, h
		}
		st.Color = os.Getenv("NO_COLOR") == ""
	}
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n >= leastColumns {
		st.Width, st.Whole = n, false
	}
	if st.Color {
		text.EnableColors()
	}
	return st
}

// leastColumns is how narrow a terminal is believed to be.
const leastColumns = 20

// terminal returns the terminal that a person sits at, if there is one.
func (a *app) terminal() (*os.File, bool) {
	f, ok := a.in.(*os.File)
	return f, ok && term.IsTerminal(int(f.Fd()))
}

// ask asks for a password without echo. It is nil where nobody can be asked.
func (a *app) ask() func(string) (string, error) {
	f, ok := a.terminal()
	if !ok {
		return nil
	}
	return func(prompt string) (string, error) {
		fmt.Fprint(a.err, prompt)
		if state, err := term.GetState(int(f.Fd())); err == nil {
			restore := func() { _ = term.Restore(int(f.Fd()), state) }
			a.typing.Store(&restore)
			defer a.typing.Store(nil)
		}
		password, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.err)
		return string(password), err
	}
}

// result writes a command's result to standard output, or whole to a file.
func (a *app) result(path string, write func(w io.Writer) error) error {
	if path == "" || path == "-" {
		a.progress.clear()
		return a.paged(write)
	}
	began := a.now()
	counted := &counting{told: func(n int64) { a.progress.report("writing "+path, n, 0) }}
	err := whole.Share(path, func(w io.Writer) error {
		counted.w = w
		return write(counted)
	})
	a.progress.report("writing "+path, source.Over, 0)
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	slog.Debug("written", "file", path, "octets", counted.n, "took", a.now().Sub(began).Round(time.Millisecond))
	return nil
}
