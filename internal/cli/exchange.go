package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
)

func (a *app) exportCommand() *cli.Command {
	formats := []string{formatCSV, formatXLSX, formatJSON, formatLDIF}
	return &cli.Command{
		Name: "export", Usage: "write a batch to be read, thinned out or carried out elsewhere", ArgsUsage: "BATCH",
		Description: help("export"),
		Flags: slices.Concat(
			outputFlags(formats),
			[]cli.Flag{&cli.BoolFlag{Name: "undo", Usage: "with ldif: what takes the batch back"},
				&cli.StringFlag{
					Name:  "on",
					Usage: "with ldif: `WHERE` to read the entries that are deleted, so that they can be added again: a yard, a URL or a file (default: where the batch was staged for)",
				}},
			serverFlags(),
		),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.String("format") == "" && len(cmd.StringSlice("output")) == 0 {
				return usage("say with --format or --output how to write it: %s", strings.Join(formats, ", "))
			}
			targets, err := a.targets(cmd, formats)
			if err != nil {
				return err
			}
			b, err := a.batchNamed(ctx, cmd)
			if err != nil {
				return err
			}
			return a.export(ctx, cmd, targets, b)
		},
	}
}

func (a *app) export(ctx context.Context, cmd *cli.Command, targets []target, b *batch.Batch) error {
	var doomed batch.Doomed
	if slices.ContainsFunc(targets, func(t target) bool { return t.format == formatLDIF }) {
		doomed = a.work.Doomed(ctx, b, at(cmd, cmd.String("on")))
	}
	parts := func() []sheet.Sheet { return []sheet.Sheet{render.LineSheet(b)} }
	err := a.deliver(targets, &result{parts: parts, rows: func() *sheet.Sheet { return &parts()[0] }, write: map[string]func(io.Writer) error{
		formatXLSX: func(w io.Writer) error { return render.XLSX(w, parts(), a.style(time.Local)) },
		formatJSON: func(w io.Writer) error { return render.BatchJSON(w, b) },
		formatLDIF: func(w io.Writer) error { return writeChanges(w, b, doomed, cmd.Bool("undo")) },
	}})
	for _, t := range targets {
		if err != nil || t.format != formatLDIF || t.path == "" {
			continue
		}
		ending := filepath.Ext(t.path)
		path := strings.TrimSuffix(t.path, ending) + ".undo" + ending
		if err = a.result(path, func(w io.Writer) error { return writeChanges(w, b, doomed, !cmd.Bool("undo")) }); err == nil {
			a.note("written: %s, which takes it back", path)
		}
	}
	return err
}

// writeChanges writes a batch as change records, or what takes it back.
func writeChanges(w io.Writer, b *batch.Batch, doomed batch.Doomed, back bool) error {
	changes, undo, err := b.LDIFChanges(doomed)
	if err != nil {
		return err
	}
	if back {
		changes = undo
	}
	return batch.WriteLDIF(
		w,
		fmt.Sprintf("batch %d of %s, staged %s by %s; without its guards", b.ID, b.Identity.Base,
			b.Created.Format(time.RFC3339), b.By),
		changes,
	)
}

func (a *app) importCommand() *cli.Command {
	return &cli.Command{
		Name: "import", Usage: "take back an exported batch from which rows were taken out", ArgsUsage: "BATCH FILE",
		Description: help("import"),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			file := cmd.Args().Get(1)
			if file == "" || cmd.Args().Len() > 2 {
				return usage("give the number of the batch and one file: yardbroom batch import 7 batch-7.csv")
			}
			b, err := a.batchNamed(ctx, cmd)
			if err != nil {
				return err
			}
			if b.State != batch.Staged {
				return fmt.Errorf("batch %d is %s; lines can be taken out only before it is carried out", b.ID, b.State)
			}
			raw, err := a.contentOf(file)
			if err != nil {
				return fmt.Errorf("%s: %w", file, err)
			}
			n, err := a.work.Import(ctx, b, raw, file)
			if err != nil {
				return err
			}
			a.tellDropped(b, n)
			return nil
		},
	}
}

// contentOf reads a file, "-" for standard input.
func (a *app) contentOf(file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(a.in)
	}
	return os.ReadFile(file)
}

func (a *app) reportCommand() *cli.Command {
	formats := []string{formatTable, formatHTML, formatCSV, formatTSV, formatJSON, formatXLSX}
	return &cli.Command{
		Name: "report", Usage: "what became of a batch: who staged, signed and applied it, each change, and what was not done", ArgsUsage: "BATCH",
		Flags: outputFlags(formats),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			targets, err := a.targets(cmd, formats)
			if err != nil {
				return err
			}
			b, err := a.batchNamed(ctx, cmd)
			if err != nil {
				return err
			}
			h, err := a.work.Handover(ctx, b)
			if err != nil {
				return err
			}
			parts := func() []sheet.Sheet { return render.HandoverSheets(h) }
			table := func(w io.Writer, st render.Style) { render.Handover(w, h, st) }
			return a.deliver(targets, &result{style: a.style(time.Local), table: table, parts: parts, rows: func() *sheet.Sheet { return render.HandoverRows(h) }, write: map[string]func(io.Writer) error{
				formatHTML: func(w io.Writer) error { return a.writePage(w, render.HandoverPage(h, time.Local, a.now())) },
				formatJSON: func(w io.Writer) error { return render.HandoverJSON(w, h) },
				formatXLSX: func(w io.Writer) error { return render.XLSX(w, parts(), a.style(time.Local)) },
			}})
		},
	}
}
