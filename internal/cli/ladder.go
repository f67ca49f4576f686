package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/ladder"
	"yardbroom/internal/mail"
	"yardbroom/internal/render"
	"yardbroom/internal/rounds"
	"yardbroom/internal/sheet"
	"yardbroom/internal/whole"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

func (a *app) ladderCommand() *cli.Command {
	limit := limitFlag("rows", 40)
	asked := slices.Concat(fromFlags(), signInFlags(), []cli.Flag{asOfFlag()}, rosterFlags())
	show := slices.Concat(asked, outputFlags(allFormats), []cli.Flag{limit,
		&cli.StringFlag{Name: "account", Usage: "only this `ACCOUNT`, on whatever ladder"},
		&cli.StringSliceFlag{Name: "rung", Usage: "only who stands on this `RUNG`; may be given several times"},
		&cli.StringSliceFlag{Name: "only", Usage: "only who is in this `STATE`: due, held, waiting, leaving, by-hand; may be given several times"}})
	until := &cli.StringFlag{Name: "until", Usage: "until this `DATE`, or so long from now (90d)"}
	why := &cli.StringFlag{Name: "why", Usage: "a `TEXT` that is kept in the journal"}
	return &cli.Command{
		Name: "ladder", Usage: "ageing in steps: list, show, forecast, climb, hold, let-go, ask, answers, adopt", Description: help("ladder"),
		Commands: []*cli.Command{
			{Name: "list", Usage: "all ladders of a yard, with how many stand where", Flags: slices.Concat(asked, outputFlags(allFormats)), Action: a.ladderList},
			{Name: "show", Usage: "everybody on a ladder: since when, why, what comes next and when, who was told, what holds them",
				ArgsUsage: "[LADDER]", Flags: show, Action: a.ladderShow},
			{Name: "forecast", Usage: "who would stand where on each day if nobody leaves the ladder", ArgsUsage: "LADDER",
				Flags: slices.Concat(asked, outputFlags(allFormats), []cli.Flag{until, limit,
					&cli.StringFlag{Name: "with", Usage: "try other waiting `TIMES`, one for each rung: 60d,30d,30d"}}), Action: a.ladderForecast},
			{Name: "climb", Usage: "bring back those who leave a ladder, and take those whose time has come one rung further", ArgsUsage: "[LADDER…]",
				Flags: slices.Concat([]cli.Flag{&cli.StringFlag{Name: "from", Usage: "the `YARD` (default: the settings' default yard)"}}, signInFlags(), rosterFlags(),
					carryFlags(), paceFlags(), []cli.Flag{
						&cli.BoolFlag{Name: "stage", Usage: "stage the batches, and carry nothing out"},
						&cli.BoolFlag{Name: "rehearse", Usage: "carry everything out on a copy in memory, and keep nothing"},
						&cli.BoolFlag{Name: "whole-roster", Usage: "the roster is whole, though by it much of the directory would have to go"}}), Action: a.ladderClimb},
			{Name: "hold", Usage: "keep an account where it is until a date", ArgsUsage: "ACCOUNT", Flags: slices.Concat(fromFlags(), []cli.Flag{until, why}),
				Action: a.ladderHold},
			{Name: "let-go", Usage: "end a hold", ArgsUsage: "ACCOUNT", Flags: slices.Concat(fromFlags(), []cli.Flag{why}), Action: a.ladderLetGo},
			{Name: "adopt", Usage: "take an account on that stands on a rung without the ladder's having put it there, since today", ArgsUsage: "LADDER ACCOUNT",
				Flags:  slices.Concat(fromFlags(), []cli.Flag{&cli.StringFlag{Name: "rung", Usage: "the `RUNG` (default: the one whose container it stands in)"}, why}),
				Action: a.ladderAdopt},
			{Name: "ask", Usage: "write a workbook for each manager, to answer in who is to stay: where there is no mail", ArgsUsage: "LADDER",
				Flags: slices.Concat(asked, []cli.Flag{&cli.StringFlag{Name: "output", Required: true, Usage: "the `FOLDER`"}}), Action: a.ladderAsk},
			{Name: "answers", Usage: "take in replies: of a mailbox, or filled-in workbooks", ArgsUsage: "[FILE…]", Flags: []cli.Flag{
				&cli.StringFlag{Name: "maildir", Usage: "a mailbox in a `FOLDER` with new and cur"},
				&cli.BoolFlag{Name: "imap", Usage: "the mailbox of the settings (answers: server)"}}, Action: a.ladderAnswers},
		},
	}
}

// ladders reads who stands where.
func (a *app) ladders(ctx context.Context, cmd *cli.Command) (*work.Ladders, *time.Location, error) {
	q, err := question(cmd)
	if name := cmd.Args().First(); err == nil && name != "" {
		err = a.work.CheckLadder(name)
	}
	if err != nil {
		return nil, nil, err
	}
	p, err := a.work.Open(ctx, from(cmd))
	if err != nil {
		return nil, nil, err
	}
	defer p.Close()
	all, err := a.work.Ladders(ctx, p, &q)
	return all, p.Zone(), err
}

func (a *app) ladderList(ctx context.Context, cmd *cli.Command) error {
	if err := a.noArguments(cmd); err != nil {
		return err
	}
	targets, err := a.targets(cmd, allFormats)
	if err != nil {
		return err
	}
	all, zone, err := a.ladders(ctx, cmd)
	if err != nil {
		return err
	}
	if len(all.All) == 0 {
		a.note("the settings have no ladders for this yard; \"yardbroom ladder --help\" shows how to describe one")
		return nil
	}
	r := a.laddersResult(all, all.All, zone)
	r.table = func(w io.Writer, st render.Style) { render.LaddersTable(w, all.All, st) }
	return a.deliver(targets, r)
}

// laddersResult writes who stands where on some ladders.
func (a *app) laddersResult(all *work.Ladders, some []*work.OneLadder, zone *time.Location) *result {
	s := render.LadderSheet(some, zone)
	return &result{
		style: a.style(zone),
		parts: func() []sheet.Sheet { return []sheet.Sheet{*s} },
		rows:  func() *sheet.Sheet { return s }, write: map[string]func(io.Writer) error{
			formatJSONL: func(w io.Writer) error { return render.SheetJSONL(w, s) },
			formatJSON:  func(w io.Writer) error { return render.LaddersJSON(w, some, all.AsOf, zone) },
			formatXLSX:  func(w io.Writer) error { return render.XLSX(w, []sheet.Sheet{*s}, a.style(zone)) },
			formatHTML: func(w io.Writer) error {
				page, err := render.LaddersPage(some, all.AsOf, a.now(), zone)
				if err != nil {
					return err
				}
				return a.writePage(w, page)
			},
		},
	}
}

// ladderStates are the states that --only names.
var ladderStates = map[string][]ladder.State{
	"due": {ladder.Due}, "held": {ladder.Held, ladder.Unknown}, "waiting": {ladder.Waiting}, "leaving": {ladder.Woken, ladder.Left}, "by-hand": {ladder.Strange},
}

func (a *app) ladderShow(ctx context.Context, cmd *cli.Command) error {
	targets, err := a.targets(cmd, allFormats)
	if err != nil {
		return err
	}
	only := map[ladder.State]bool{}
	for _, word := range cmd.StringSlice("only") {
		states, is := ladderStates[word]
		if !is {
			return usage("--only: %q is none of due, held, waiting, leaving and by-hand", word)
		}
		for _, state := range states {
			only[state] = true
		}
	}
	name, account := cmd.Args().First(), cmd.String("account")
	switch {
	case cmd.Args().Len() > 1:
		return usage("give the name of one ladder; \"yardbroom ladder list\" shows them")
	case name == "" && account == "" && len(a.work.Settings.Ladders) == 1:
		name = a.work.Settings.Ladders[0].Name
	case name == "" && account == "":
		return usage("give the name of a ladder, or --account ACCOUNT; \"yardbroom ladder list\" shows the ladders")
	}
	all, zone, err := a.ladders(ctx, cmd)
	if err != nil {
		return err
	}
	some := all.All
	if name != "" {
		one, err := all.LadderNamed(name)
		if err != nil {
			return err
		}
		some = []*work.OneLadder{one}
	}
	rungs := cmd.StringSlice("rung")
	for _, rung := range rungs {
		if !slices.ContainsFunc(some, func(l *work.OneLadder) bool { _, is := l.Rung(rung); return is }) {
			return usage("--rung: no rung is called %q", rung)
		}
	}
	found := 0
	for _, l := range some {
		l.Standings = slices.DeleteFunc(slices.Clone(l.Standings), func(s *ladder.Standing) bool {
			return account != "" && !named(s, account) || len(rungs) > 0 && !slices.Contains(rungs, s.Rung) || len(only) > 0 && !only[s.State]
		})
		found += len(l.Standings)
	}
	if account != "" {
		if some = slices.DeleteFunc(slices.Clone(some), func(l *work.OneLadder) bool { return len(l.Standings) == 0 }); found == 0 {
			a.note("%s is on no ladder", account)
		}
	}
	st := a.style(zone)
	if st.Limit, err = a.limitOf(cmd, st, 40); err != nil {
		return err
	}
	r := a.laddersResult(all, some, zone)
	r.style = st
	r.table = func(w io.Writer, st render.Style) {
		for i, l := range some {
			if i > 0 {
				fmt.Fprintln(w)
			}
			render.LadderTable(w, l, st)
		}
	}
	return a.deliver(targets, r)
}

// named tells whether somebody on a ladder is called so.
func named(s *ladder.Standing, name string) bool {
	return strings.EqualFold(s.Account, name) || strings.EqualFold(strings.TrimSuffix(s.Account, "$"), name) || strings.EqualFold(s.DN, name)
}

func (a *app) ladderForecast(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() != 1 {
		return usage("give the name of one ladder; \"yardbroom ladder list\" shows them")
	}
	targets, err := a.targets(cmd, allFormats)
	if err == nil {
		err = a.work.CheckLadder(cmd.Args().First())
	}
	if err != nil {
		return err
	}
	r := &work.ForecastRequest{Ladder: cmd.Args().First(), Until: cmd.String("until")}
	if r.Question, err = question(cmd); err != nil {
		return err
	}
	if with := cmd.String("with"); with != "" {
		for part := range strings.SplitSeq(with, ",") {
			span, err := calendar.ParseSpan(strings.TrimSpace(part))
			if err != nil {
				return usage("--with: %w", err)
			}
			r.With = append(r.With, span)
		}
	}
	p, err := a.work.Open(ctx, from(cmd))
	if err != nil {
		return err
	}
	defer p.Close()
	f, err := a.work.Forecast(ctx, p, r)
	if err != nil {
		return err
	}
	st := a.style(p.Zone())
	if st.Limit, err = a.limitOf(cmd, st, 40); err != nil {
		return err
	}
	sheets := sync.OnceValue(func() []sheet.Sheet { return render.ForecastSheets(f, p.Zone()) })
	return a.deliver(targets, &result{
		parts: func() []sheet.Sheet { return sheets() },
		rows:  func() *sheet.Sheet { return &sheets()[1] }, style: st, table: func(w io.Writer, st render.Style) { render.ForecastTable(w, f, st) }, write: map[string]func(io.Writer) error{
			formatJSONL: func(w io.Writer) error { return render.SheetJSONL(w, &sheets()[1]) },
			formatJSON:  func(w io.Writer) error { return render.ForecastJSON(w, f, p.Zone()) },
			formatXLSX:  func(w io.Writer) error { return render.XLSX(w, sheets(), st) },
			formatHTML: func(w io.Writer) error {
				page, err := render.ForecastPage(f, a.now(), p.Zone())
				if err != nil {
					return err
				}
				return a.writePage(w, page)
			},
		},
	})
}

// ladderClimb climbs the ladders of a yard.
func (a *app) ladderClimb(ctx context.Context, cmd *cli.Command) error {
	r := &work.ClimbRequest{Ladders: cmd.Args().Slice(), StageOnly: cmd.Bool("stage"), WholeRoster: cmd.Bool("whole-roster")}
	var err error
	if r.Question, err = question(cmd); err != nil {
		return err
	}
	carryRequest, err := a.carryRequest(cmd)
	if err != nil {
		return err
	}
	r.CarryRequest = *carryRequest
	r.Watch = work.Watch{Begins: r.Watch.Begins, Settled: func(_ *batch.Batch, l *batch.Line) {
		if l.State != batch.Applied {
			a.tellLine(string(l.State), l, l.Note)
		}
	}}
	if cmd.Bool("dry-run") || cmd.Bool("rehearse") {
		return a.ladderTried(ctx, cmd, r)
	}
	p, err := a.work.OpenOne(ctx, from(cmd), "")
	if err != nil {
		return err
	}
	defer p.Close()
	a.carrying.Store(true)
	c, err := a.work.Climb(ctx, p, r)
	if c == nil {
		return err
	}
	letters := 0
	for _, l := range c.All {
		letters += len(l.Letters)
		if keepErr := rounds.KeepLetters(ctx, a.work, l.Letters); keepErr != nil {
			err = errors.Join(err, keepErr)
		}
	}
	a.tellClimb(c, p.Zone())
	if letters > 0 {
		err = errors.Join(err, a.handOver(ctx))
	}
	if err == nil && c.NotDone() {
		return &exitError{status: exitNotDone}
	}
	return err
}

// handOver hands the mails over that wait.
func (a *app) handOver(ctx context.Context) error {
	kept, err := a.work.Store(ctx)
	if err != nil {
		return err
	}
	return rounds.Deliver(ctx, kept, a.work.Settings, nil, a.work.Now, func(format string, args ...any) {
		fmt.Fprintln(a.out, render.Visible(fmt.Sprintf(format, args...)))
	})
}

// tellClimb says what became of climbing.
func (a *app) tellClimb(c *work.Climb, zone *time.Location) {
	width := a.style(nil).Width
	say := func(indent int, format string, args ...any) {
		pad := strings.Repeat(" ", indent)
		fmt.Fprintln(a.out, pad+render.Wrap(render.Visible(fmt.Sprintf(format, args...)), width-indent, pad+"  "))
	}
	for i, l := range c.All {
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		say(0, "%s", l.Name)
		if l.Error != nil {
			say(2, "not climbed: %v", l.Error)
		}
		for _, s := range l.Woke {
			say(2, "%s leaves the ladder: %s", s.Account, s.Awake)
		}
		for _, b := range l.Batches {
			what := "to " + b.Rung
			if b.Down {
				what = "back from " + b.Rung
			}
			say(2, "%s: %s", what, b.Said())
			for j, no := range b.Refusals {
				if j == mostRefused {
					say(4, "and %d more cannot be staged", len(b.Refusals)-j)
					break
				}
				say(4, "not staged: %s: %s", no.Account, no.Why)
			}
		}
		for _, s := range l.Stepped {
			say(2, "%s is on %s now: all that it does was so already", s.Account, s.Next.Name)
		}
		if l.Later > 0 {
			say(2, "%s more are due than a batch may have; the next climb takes them", wording.Count(l.Later, "account"))
		}
		if l.Untold != "" {
			say(2, "nobody was told: %s", l.Untold)
		}
		if len(l.Batches) == 0 && len(l.Woke) == 0 && len(l.Stepped) == 0 && l.Error == nil {
			if next := nextDay(l.OneLadder); next.IsZero() {
				say(2, "no step is due")
			} else {
				say(2, "no step is due; the next is on %s", next.In(zone).Format(time.DateOnly))
			}
		}
	}
}

// mostRefused is how many are named who could not be staged.
const mostRefused = 10

// nextDay is the first day on which somebody can be taken further, zero for none.
func nextDay(l *work.OneLadder) (next time.Time) {
	for _, s := range l.Standings {
		if s.State == ladder.Climbing && !s.Day.IsZero() && (next.IsZero() || s.Day.Before(next)) {
			next = s.Day
		}
	}
	return next
}

// ladderTried says what a climb would do, on a copy of the state folder.
func (a *app) ladderTried(ctx context.Context, cmd *cli.Command, r *work.ClimbRequest) error {
	how := work.TryReading
	if cmd.Bool("rehearse") {
		how = work.TryOnCopy
	}
	p, err := a.work.OpenOne(ctx, from(cmd), "")
	if err != nil {
		return err
	}
	defer p.Close()
	tried, err := a.work.TryClimb(ctx, p, r, how)
	if err != nil {
		return err
	}
	a.tellClimb(tried.Climb, p.Zone())
	for _, f := range tried.Foretold {
		fmt.Fprintln(a.out)
		a.tellForetold(f)
	}
	for _, played := range tried.Rehearsed {
		fmt.Fprintln(a.out)
		render.Rehearsal(a.out, played, a.style(played.Zone))
	}
	for _, l := range tried.All {
		for _, letter := range l.Letters {
			subject, _, _, err := letter.Write()
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "would be mailed to %s: %s\n", render.Visible(letter.To.Address), render.Visible(subject))
		}
	}
	a.note("this was a trial: nothing was kept, changed or sent")
	if tried.NotDone() {
		return &exitError{status: exitNotDone}
	}
	return nil
}

func (a *app) ladderHold(ctx context.Context, cmd *cli.Command) error {
	return a.aboutAccount(ctx, cmd, "hold", func(p *work.Place, r *work.LadderRequest) error {
		e, err := a.work.Hold(ctx, p, r)
		if err == nil {
			fmt.Fprintf(a.out, "%s stays where it is until %s\n", render.Visible(e.Account), wording.Moment(e.Until, p.Zone()))
		}
		return err
	})
}

func (a *app) ladderLetGo(ctx context.Context, cmd *cli.Command) error {
	return a.aboutAccount(ctx, cmd, "let-go", func(p *work.Place, r *work.LadderRequest) error {
		e, err := a.work.LetGo(ctx, p, r)
		if err == nil {
			fmt.Fprintf(a.out, "%s is held no more\n", render.Visible(e.Account))
		}
		return err
	})
}

func (a *app) ladderAdopt(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() != 2 {
		return usage("give the name of the ladder and an account")
	}
	return a.onPlace(ctx, cmd, func(p *work.Place) error {
		e, err := a.work.Adopt(ctx, p, &work.LadderRequest{Ladder: cmd.Args().First(), Account: cmd.Args().Get(1), Rung: cmd.String("rung"), Why: cmd.String("why")})
		if err == nil {
			fmt.Fprintf(a.out, "%s is on the rung %s of %s since today\n", render.Visible(e.Account), e.Rung, e.Ladder)
		}
		return err
	})
}

// aboutAccount does something about the account that the one argument names.
func (a *app) aboutAccount(ctx context.Context, cmd *cli.Command, verb string, do func(*work.Place, *work.LadderRequest) error) error {
	if cmd.Args().Len() != 1 {
		return usage("give one account: ladder %s ACCOUNT", verb)
	}
	return a.onPlace(ctx, cmd, func(p *work.Place) error {
		return do(p, &work.LadderRequest{Account: cmd.Args().First(), Until: cmd.String("until"), Why: cmd.String("why")})
	})
}

// onPlace does something with the place that the flags mean.
func (a *app) onPlace(ctx context.Context, cmd *cli.Command, do func(*work.Place) error) error {
	p, err := a.work.Open(ctx, from(cmd))
	if err != nil {
		return err
	}
	defer p.Close()
	return do(p)
}

func (a *app) ladderAsk(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() != 1 {
		return usage("give the name of one ladder; \"yardbroom ladder list\" shows them")
	}
	q, err := question(cmd)
	if err != nil {
		return err
	}
	return a.onPlace(ctx, cmd, func(p *work.Place) error {
		asked, err := a.work.Questions(ctx, p, cmd.Args().First(), &q)
		if err != nil {
			return err
		}
		if len(asked) == 0 {
			a.note("nobody is to be told of anything now; \"yardbroom ladder show %s\" says when that is", cmd.Args().First())
			return nil
		}
		folder := cmd.String("output")
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return err
		}
		for _, one := range asked {
			path := filepath.Join(folder, fileName(one.Manager)+".xlsx")
			if _, err := os.Stat(path); err == nil {
				return usage("%s is there already: give an empty folder", path)
			}
			if err := whole.Write(path, func(w io.Writer) error { return render.XLSX(w, []sheet.Sheet{one.Sheet}, a.style(p.Zone())) }); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s: %s for %s\n", render.Visible(path), wording.Count(len(one.Sheet.Rows), "account"), render.Visible(one.Manager))
		}
		a.note("that they were told counts from now on: send these on, and take them back with \"yardbroom ladder answers FILE…\"")
		return a.work.NoteAsked(ctx, asked)
	})
}

// fileName makes a name of a person that of a file.
func fileName(name string) string {
	name = strings.Map(func(r rune) rune {
		if strings.ContainsRune("-_.", r) || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r > 0x7f && r != 0xfffd {
			return r
		}
		return '-'
	}, strings.ToLower(render.Visible(name)))
	return strings.Trim(name, "-.")
}

func (a *app) ladderAnswers(ctx context.Context, cmd *cli.Command) error {
	files, maildir := cmd.Args().Slice(), cmd.String("maildir")
	given := 0
	for _, is := range []bool{len(files) > 0, maildir != "", cmd.Bool("imap")} {
		if is {
			given++
		}
	}
	if given != 1 {
		return usage("say where the answers are: --maildir DIR, --imap, or filled-in workbooks")
	}
	if len(files) > 0 {
		return a.answersOf(ctx, files)
	}
	var box mail.Box = mail.Maildir(maildir)
	if cmd.Bool("imap") {
		if a.work.Settings.Answers.Server == "" {
			return usage("the settings name no mailbox (answers: {server: imap.larkmoor.example:993, name: …})")
		}
		box = mail.IMAP{Set: &a.work.Settings.Answers}
	}
	got, err := a.work.ReadAnswers(ctx, box)
	if got == nil {
		return err
	}
	a.tellAnswers(got)
	if a.work.Settings.Mail.Server != "" && len(got.Letters) > 0 {
		err = errors.Join(err, rounds.KeepLetters(ctx, a.work, got.Letters), a.handOver(ctx))
	}
	return err
}

// answersOf takes filled-in workbooks back.
func (a *app) answersOf(ctx context.Context, files []string) error {
	doubt := false
	for _, name := range files {
		raw, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		got, err := a.work.TakeAnswers(ctx, raw, name, time.Local)
		if err != nil {
			return err
		}
		a.tellAnswers(got)
		doubt = doubt || len(got.Doubtful) > 0
	}
	if doubt {
		return &exitError{status: exitNotDone}
	}
	return nil
}

// tellAnswers says what answers have come to.
func (a *app) tellAnswers(got *work.Answers) {
	tell := func(format string, e *ladder.Event) {
		fmt.Fprintf(a.out, format+"\n", render.Visible(e.Account), render.Visible(e.Address), e.Until.Local().Format(time.DateOnly))
	}
	for _, e := range got.Held {
		tell("%s: held by an answer of %s until %s", e)
	}
	for _, e := range got.Known {
		tell("%s: held already by the same answer of %s, until %s", e)
	}
	for _, e := range got.Late {
		fmt.Fprintf(a.out, "%s: the answer of %s comes too late\n", render.Visible(e.Account), render.Visible(e.Address))
	}
	for _, e := range got.CameBack {
		fmt.Fprintf(a.out, "%s: the mail to %s came back, so nobody was told by it\n", render.Visible(e.Account), render.Visible(e.Address))
	}
	for _, why := range got.Doubtful {
		fmt.Fprintf(a.out, "not believed: %s\n", render.Visible(why))
	}
	fmt.Fprintf(a.out, "%s held; left alone: %s of programs, %s that answer nothing\n", wording.Count(len(got.Held), "account"),
		wording.Count(got.Automatic, "mail"), wording.Count(got.Others, "mail"))
}
