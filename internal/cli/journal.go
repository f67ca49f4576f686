package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/ladder"
	"yardbroom/internal/render"
	"yardbroom/internal/store"
	"yardbroom/internal/wording"
)

func (a *app) journalCommand() *cli.Command {
	return &cli.Command{
		Name: "journal", Usage: "what was done, by whom, when; and proof that the record is whole",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "batch", Usage: "only this `BATCH`"},
			&cli.BoolFlag{Name: "verify", Usage: "recompute the whole chain of hashes"},
			&cli.StringFlag{
				Name:  "accept-break",
				Usage: "say in the journal itself that what --verify finds broken is known, and why it does not matter: a `REASON`",
			},
			&cli.StringFlag{
				Name:  "head",
				Usage: "with --verify: a `HASH` that was printed earlier, which must still be there",
			},
			&cli.StringFlag{Name: "format", Value: "table", Usage: "table or jsonl"},
			limitFlag("records", 0),
		},
		Action: a.journal,
	}
}

func (a *app) journal(ctx context.Context, cmd *cli.Command) error {
	if err := a.noArguments(cmd); err != nil {
		return err
	}
	head := cmd.String("head")
	switch {
	case head != "" && !cmd.Bool("verify"):
		return usage("--head goes with --verify")
	case head != "" && len(head) < 8:
		return usage("--head: give at least 8 digits of the hash")
	}
	s, err := a.work.Store(ctx)
	switch {
	case err != nil:
		return err
	case cmd.IsSet("accept-break"):
		return a.acceptBreak(ctx, s, cmd.String("accept-break"))
	case cmd.Bool("verify"):
		return a.verifyJournal(ctx, s, head)
	}
	records, err := s.Journal(ctx, cmd.Int("batch"), 0)
	if err != nil {
		return err
	}
	switch cmd.String("format") {
	case "jsonl":
		return a.shown(target{format: formatJSONL}, func(w io.Writer) error {
			enc := json.NewEncoder(w)
			for _, r := range records {
				if err := enc.Encode(r); err != nil {
					return err
				}
			}
			return nil
		})(a.out)
	case "table":
		limit, err := a.limitOf(cmd, a.style(nil), 0)
		if err != nil {
			return err
		}
		return a.journalTable(records, cmd.Int("batch"), limit)
	}
	return usage("--format: %q is neither table nor jsonl", cmd.String("format"))
}

// acceptBreak writes into the journal that what is broken in it is known.
func (a *app) acceptBreak(ctx context.Context, s *store.Store, reason string) error {
	if strings.TrimSpace(reason) == "" {
		return usage("--accept-break: say why")
	}
	fault, err := s.Accept(ctx, reason, actor(), a.now().UTC())
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "Accepted, and written into the journal: %s\n", render.Visible(fault))
	return nil
}

// verifyJournal proves that the journal is whole, and that a hash printed earlier
// is still there.
func (a *app) verifyJournal(ctx context.Context, s *store.Store, head string) error {
	proof, err := s.Verify(ctx, head)
	if err != nil {
		if s.Whole(ctx) == nil {
			a.note("somebody has accepted this break, and everything written since then is whole")
		}
		return err
	}
	fmt.Fprintf(a.out, "The journal is whole: %s, head %s\n", wording.Count(proof.Records, "record"), proof.Head)
	return a.verifyHeads(ctx, s)
}

// journalTable shows records, all or those of one batch: the last ones, where there is
// a limit.
func (a *app) journalTable(records []store.Sealed, batch, limit int) error {
	switch {
	case len(records) == 0 && batch != 0:
		return fmt.Errorf("the journal has no record of batch %d", batch)
	case len(records) == 0:
		a.note("the journal is empty")
		return nil
	}
	earlier := 0
	if limit > 0 && len(records) > limit {
		earlier = len(records) - limit
	}
	var rows [][]string
	for i := range records[earlier:] {
		r := &records[earlier+i]
		place := ""
		if r.Batch > 0 {
			place = fmt.Sprint(r.Batch)
		}
		if r.Line > 0 {
			place += "/" + fmt.Sprint(r.Line)
		}
		rows = append(
			rows,
			[]string{
				fmt.Sprint(r.Seq),
				r.At.In(time.Local).Format("2006-01-02 15:04:05"),
				render.Visible(r.By),
				place,
				r.Event,
				render.Visible(strings.TrimSpace(cmp.Or(carry.Describe(r), ladder.Describe(r)))),
			},
		)
	}
	return a.result("", func(w io.Writer) error {
		if earlier > 0 {
			fmt.Fprintf(w, "… %s before these: --limit 0 shows all, --batch N those of one batch\n", wording.Count(earlier, "record"))
		}
		render.Table(w, a.style(time.Local), []string{"#", "When (" + records[earlier].At.In(time.Local).Format("MST") + ")", "By", "Batch", "Event", "What"}, rows, 5, 2)
		return nil
	})
}

// verifyHeads proves the signatures on the journal, and says what they cover.
func (a *app) verifyHeads(ctx context.Context, s *store.Store) error {
	heads, err := batch.VerifyHeads(ctx, s, nil)
	if file := a.work.Settings.Signing.AllowedSigners; err == nil && len(heads) > 0 && file != "" {
		var signers batch.Signers
		if signers, err = batch.ReadSigners(file); err == nil {
			heads, err = batch.VerifyHeads(ctx, s, signers)
		}
	}
	switch {
	case err != nil:
		return err
	case len(heads) > 0:
		last := heads[0]
		who := last.Key
		if last.Principal != "" {
			who = last.Principal + " (" + last.Key + ")"
		}
		fmt.Fprintf(a.out, "Signed %s, last up to record %d by %s\n", wording.Count(len(heads), "time"), last.Seq,
			render.Visible(who))
	case a.work.Settings.Signing.Key != "":
		a.note("no signature is in the journal, though the settings name a key for it")
	}
	return nil
}
