package work

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/sheet"
	"yardbroom/internal/store"
	"yardbroom/internal/wording"
	"yardbroom/internal/workbook"
)

// Batch loads a batch of the state folder.
func (s *Session) Batch(ctx context.Context, id int) (*batch.Batch, error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	return batch.Load(ctx, kept, id)
}

// MarkUndone writes down with the lines of batches by which batch they were taken back,
// for people to see.
func (s *Session) MarkUndone(ctx context.Context, batches ...*batch.Batch) error {
	kept, err := s.Store(ctx)
	if err != nil {
		return err
	}
	return carry.MarkUndone(ctx, kept, batches...)
}

// Batches are all batches of the state folder.
func (s *Session) Batches(ctx context.Context) ([]*batch.Batch, error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	return batch.List(ctx, kept)
}

// BatchHeads are all batches without their lines; none where there is no state folder.
func (s *Session) BatchHeads(ctx context.Context) ([]*batch.Batch, error) {
	kept, err := s.storeIfAny(ctx)
	if err != nil || kept == nil {
		return nil, err
	}
	return batch.Heads(ctx, kept)
}

// Runs are the last runs of a round, at most so many, the latest first; none where there
// is no state folder.
func (s *Session) Runs(ctx context.Context, round string, most int) ([]*store.Run, error) {
	kept, err := s.storeIfAny(ctx)
	if err != nil || kept == nil {
		return nil, err
	}
	return kept.Runs(ctx, round, most)
}

// Agreement tells who has agreed to a batch, and whether that is enough.
func (s *Session) Agreement(ctx context.Context, b *batch.Batch) (*batch.Agreement, error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	return b.Agreement(ctx, kept, s.Settings, s.now())
}

// Drop takes the lines of accounts out of a batch, and returns how many those
// were.
func (s *Session) Drop(ctx context.Context, b *batch.Batch, accounts []string) (int, error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return 0, err
	}
	return b.Drop(ctx, kept, accounts, s.By, s.now())
}

// KeepOnly takes all lines out of a batch but those that are meant, and returns how many
// were taken out.
func (s *Session) KeepOnly(ctx context.Context, b *batch.Batch, names []string) (int, error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return 0, err
	}
	return b.Keep(ctx, kept, names, s.By, s.now())
}

// DropLines takes lines out of a batch, and returns how many those were.
func (s *Session) DropLines(ctx context.Context, b *batch.Batch, lines []*batch.Line) (int, error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return 0, err
	}
	return b.DropLines(ctx, kept, lines, s.By, s.now())
}

// Discard gives a batch up.
func (s *Session) Discard(ctx context.Context, b *batch.Batch) error {
	kept, err := s.Store(ctx)
	if err != nil {
		return err
	}
	return b.Discard(ctx, kept, s.By, s.now())
}

// Handover is what became of a batch, from staging to the last change.
func (s *Session) Handover(ctx context.Context, b *batch.Batch) (*carry.Handover, error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	return carry.ReadHandover(ctx, kept, b)
}

// Doomed reads the entries that a batch deletes, so that what takes it back can
// add them again. Where they cannot be read that is noted.
func (s *Session) Doomed(ctx context.Context, b *batch.Batch, on From) batch.Doomed {
	if !slices.ContainsFunc(b.Lines, func(l batch.Line) bool { return l.Has(batch.Delete) }) {
		return batch.Doomed{}
	}
	on.Where = cmp.Or(on.Where, b.Yard, s.Settings.Default, b.Source)
	p, err := s.Open(ctx, on)
	if err != nil {
		s.note("nothing takes the deletions back: %v", err)
		return batch.Doomed{}
	}
	defer p.Close()
	if id, err := p.Identity(ctx); err != nil || !id.Same(b.Identity) {
		s.note("nothing takes the deletions back: %s is not the directory of the batch", p.Where())
		return batch.Doomed{}
	}
	doomed, err := b.ReadDoomed(ctx, p.Source)
	if err != nil {
		s.note("nothing takes the deletions back: %v", err)
	}
	return doomed
}

// Import takes the lines out of a batch that an exported file no longer has, or
// says to drop: a table as spreadsheets write it, a workbook, or JSON. It returns
// how many those were; name is what errors call the file.
func (s *Session) Import(ctx context.Context, b *batch.Batch, exported []byte, name string) (int, error) {
	var drop []*batch.Line
	var err error
	if bytes.HasPrefix(bytes.TrimSpace(exported), []byte("{")) {
		var edited *batch.Batch
		if edited, err = batch.ReadExported(bytes.NewReader(exported)); err == nil {
			drop, err = b.DecideBy(edited)
		}
	} else {
		var header []string
		var rows []batch.Row
		if header, rows, err = s.tableOf(exported); err == nil {
			drop, err = b.Decide(header, rows)
		}
	}
	if err != nil {
		return 0, fmt.Errorf("%s: %w", name, err)
	}
	return s.DropLines(ctx, b, drop)
}

// tableOf reads a table that came back from a spreadsheet: a workbook, or as text.
func (s *Session) tableOf(raw []byte) (header []string, rows []batch.Row, err error) {
	if bytes.HasPrefix(raw, []byte("PK\x03\x04")) {
		return s.workbookTable(raw)
	}
	t, err := sheet.ReadCSV(bytes.NewReader(raw))
	if err != nil {
		return nil, nil, err
	}
	rows = make([]batch.Row, len(t.Rows))
	for i, r := range t.Rows {
		rows[i] = batch.Row{Number: r.Line, Cells: r.Cells}
	}
	return t.Header, rows, nil
}

// workbookTable is the table of all sheets of a workbook.
func (s *Session) workbookTable(raw []byte) (header []string, rows []batch.Row, err error) {
	book, err := workbook.Open(string(raw), workbook.Limits{Octets: 1 << 30, Rows: 2_000_000})
	if err != nil {
		return nil, nil, err
	}
	defer book.Close()
	for _, name := range book.GetSheetList() {
		cells, err := book.GetRows(name)
		if err != nil {
			return nil, nil, fmt.Errorf("sheet %s: %w", name, err)
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
			s.note("note: %s of the sheet %s are hidden; they count as they stand there",
				wording.Count(max(unseen, 1), "row"), name)
		}
		for i, row := range cells[1:] {
			rows = append(rows, batch.Row{Number: i + 2, Cells: row})
		}
	}
	if header == nil {
		return nil, nil, errors.New("it is empty")
	}
	return header, rows, nil
}
