package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/render"
	"yardbroom/internal/sheet"
	"yardbroom/internal/store"
	"yardbroom/internal/workbook"
)

func (a *app) exportCommand() *cli.Command {
	formats := []string{formatCSV, formatXLSX, formatJSON, formatLDIF}
	return &cli.Command{
		Name: "export", Usage: "write a batch to be read, thinned out or carried out elsewhere", ArgsUsage: "BATCH",
		Description: "As csv or xlsx, rows may be taken out, or \"drop\" put into the last column, and the file given to \"yardbroom batch import\".\nAs json it is what \"yardbroom batch sign --file\" signs. As ldif it is change records (RFC 2849) for other tools, and with\n--undo, or into a file, what takes them back; neither carries the batch's guards.",
		Flags: slices.Concat(outputFlags(formats), []cli.Flag{&cli.BoolFlag{Name: "undo", Usage: "with ldif: what takes the batch back"},
			&cli.StringFlag{Name: "on", Usage: "with ldif: `WHERE` to read the entries that are deleted, so that they can be added again: a yard, a URL or a file (default: where the batch was staged for)"}}, serverFlags()),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.String("format") == "" && len(cmd.StringSlice("output")) == 0 {
				return usage("say with --format or --output how to write it: %s", strings.Join(formats, ", "))
			}
			targets, err := a.targets(cmd, formats)
			if err != nil {
				return err
			}
			return a.withBatch(ctx, cmd, func(_ *store.Store, b *batch.Batch) error { return a.export(ctx, cmd, targets, b) })
		},
	}
}

func (a *app) export(ctx context.Context, cmd *cli.Command, targets []target, b *batch.Batch) error {
	var doomed batch.Doomed
	if slices.ContainsFunc(targets, func(t target) bool { return t.format == formatLDIF }) {
		doomed = a.doomed(ctx, cmd, b)
	}
	parts := func() []sheet.Sheet { return []sheet.Sheet{render.LineSheet(b)} }
	err := a.deliver(targets, &result{parts: parts, write: map[string]func(io.Writer) error{
		formatCSV:  func(w io.Writer) error { return render.SheetCSV(w, &parts()[0]) },
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

// doomed reads the entries that a batch deletes, so that what takes it back
// can add them again. Where they cannot be read that is noted.
func (a *app) doomed(ctx context.Context, cmd *cli.Command, b *batch.Batch) batch.Doomed {
	if !slices.ContainsFunc(b.Lines, func(l batch.Line) bool { return l.Has(batch.Delete) }) {
		return batch.Doomed{}
	}
	p, err := a.openNamed(ctx, cmd, cmp.Or(cmd.String("on"), b.Yard, a.set.Default, b.Source))
	if err != nil {
		a.note("nothing takes the deletions back: %v", err)
		return batch.Doomed{}
	}
	defer p.Close()
	if id, err := p.Identity(ctx); err != nil || !id.Same(b.Identity) {
		a.note("nothing takes the deletions back: %s is not the directory of the batch", p.Where())
		return batch.Doomed{}
	}
	doomed, err := b.ReadDoomed(ctx, p.Source)
	if err != nil {
		a.note("nothing takes the deletions back: %v", err)
	}
	return doomed
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
	return batch.WriteLDIF(w, fmt.Sprintf("batch %d of %s, staged %s by %s; without its guards", b.ID, b.Identity.Base, b.Created.Format(time.RFC3339), b.By), changes)
}

func (a *app) importCommand() *cli.Command {
	return &cli.Command{
		Name: "import", Usage: "take back an exported batch from which rows were taken out", ArgsUsage: "BATCH FILE",
		Description: "The file is one that \"yardbroom batch export\" wrote, as csv, xlsx or json. Lines whose row is gone, or whose decision is drop,\nno or out, are dropped. Every other difference is refused with its row, and then nothing is dropped.",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			file := cmd.Args().Get(1)
			if file == "" || cmd.Args().Len() > 2 {
				return usage("give the number of the batch and one file: yardbroom batch import 7 batch-7.csv")
			}
			return a.withBatch(ctx, cmd, func(s *store.Store, b *batch.Batch) error {
				if b.State != batch.Staged {
					return fmt.Errorf("batch %d is %s; lines can be taken out only before it is carried out", b.ID, b.State)
				}
				drop, err := a.decided(b, file)
				if err != nil {
					return fmt.Errorf("%s: %w", file, err)
				}
				n, err := b.DropLines(ctx, s, drop, actor(), a.now().UTC())
				if err != nil {
					return err
				}
				fmt.Fprintf(a.out, "%s taken out of batch %d; %d left\n", render.Count(n, "line"), b.ID, b.Open())
				return nil
			})
		},
	}
}

// decided reads what came back, and returns the lines to drop.
func (a *app) decided(b *batch.Batch, file string) ([]*batch.Line, error) {
	var raw []byte
	var err error
	if file == "-" {
		raw, err = io.ReadAll(a.in)
	} else {
		raw, err = os.ReadFile(file)
	}
	if err != nil {
		return nil, err
	}
	switch {
	case bytes.HasPrefix(raw, []byte("PK\x03\x04")):
		return a.decidedWorkbook(b, raw)
	case bytes.HasPrefix(bytes.TrimSpace(raw), []byte("{")):
		edited, err := batch.ReadExported(bytes.NewReader(raw))
		if err != nil {
			return nil, err
		}
		return b.DecideBy(edited)
	}
	return decidedCSV(b, raw)
}

// decidedCSV reads a table as spreadsheets write it, with commas or semicolons.
func decidedCSV(b *batch.Batch, raw []byte) ([]*batch.Line, error) {
	raw = bytes.TrimPrefix(raw, []byte("\ufeff"))
	r := csv.NewReader(bytes.NewReader(raw))
	r.FieldsPerRecord = -1
	if first, _, _ := bytes.Cut(raw, []byte("\n")); bytes.Count(first, []byte(";")) > bytes.Count(first, []byte(",")) {
		r.Comma = ';'
	}
	header, err := r.Read()
	if err == io.EOF {
		return nil, errors.New("it is empty")
	}
	if err != nil {
		return nil, err
	}
	var rows []batch.Row
	for {
		cells, err := r.Read()
		if err == io.EOF {
			return b.Decide(header, rows)
		}
		if err != nil {
			return nil, err
		}
		line, _ := r.FieldPos(0)
		for i := range cells {
			cells[i] = render.UnsafeCell(cells[i])
		}
		rows = append(rows, batch.Row{Number: line, Cells: cells})
	}
}

func (a *app) decidedWorkbook(b *batch.Batch, raw []byte) ([]*batch.Line, error) {
	book, err := workbook.Open(string(raw), workbook.Limits{Octets: 1 << 30, Rows: 2_000_000})
	if err != nil {
		return nil, err
	}
	defer book.Close()
	var header []string
	var rows []batch.Row
	for _, name := range book.GetSheetList() {
		cells, err := book.GetRows(name)
		if err != nil {
			return nil, fmt.Errorf("sheet %s: %w", name, err)
		}
		if len(cells) == 0 {
			continue
		}
		if header == nil {
			header = cells[0]
		}
		unseen := 0
		for i := range cells {
			if seen, err := book.GetRowVisible(name, i+1); err == nil && !seen {
				unseen++
			}
		}
		if visible, err := book.GetSheetVisible(name); unseen > 0 || err == nil && !visible {
			a.note("note: %s of the sheet %s are hidden; they count as they stand there", render.Count(max(unseen, 1), "row"), name)
		}
		for i, row := range cells[1:] {
			rows = append(rows, batch.Row{Number: i + 2, Cells: row})
		}
	}
	if header == nil {
		return nil, errors.New("it is empty")
	}
	return b.Decide(header, rows)
}

func (a *app) reportCommand() *cli.Command {
	formats := []string{formatHTML, formatCSV, formatTSV, formatJSON, formatXLSX}
	return &cli.Command{
		Name: "report", Usage: "what became of a batch: who staged, signed and applied it, each change, and what was not done", ArgsUsage: "BATCH",
		Flags: outputFlags(formats),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.String("format") == "" && len(cmd.StringSlice("output")) == 0 {
				return usage("say with --output FILE where it goes: %s", strings.Join(formats, ", "))
			}
			targets, err := a.targets(cmd, formats)
			if err != nil {
				return err
			}
			return a.withBatch(ctx, cmd, func(s *store.Store, b *batch.Batch) error {
				h, err := carry.ReadHandover(ctx, s, b)
				if err != nil {
					return err
				}
				parts := func() []sheet.Sheet { return render.HandoverSheets(h) }
				return a.deliver(targets, &result{parts: parts, write: map[string]func(io.Writer) error{
					formatHTML: func(w io.Writer) error { return render.HandoverPage(h, time.Local, a.now()).Write(w) },
					formatCSV:  func(w io.Writer) error { return render.SheetCSV(w, render.HandoverRows(h)) },
					formatTSV:  func(w io.Writer) error { return render.SheetTSV(w, render.HandoverRows(h)) },
					formatJSON: func(w io.Writer) error { return render.HandoverJSON(w, h) },
					formatXLSX: func(w io.Writer) error { return render.XLSX(w, parts(), a.style(time.Local)) },
				}})
			})
		},
	}
}
