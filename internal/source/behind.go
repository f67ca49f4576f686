package source

import (
	"context"
	"errors"
	"maps"
	"slices"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/ldif"
	"yardbroom/internal/parallel"
)

// Behind answers questions about the entries of a plain LDIF file: what a directory in front
// of it has to know.
type Behind struct {
	ctx  context.Context
	file *File
}

// Behind surveys the file, where that was not done with SurveyAhead, and returns what answers
// questions about its entries for as long as the context and the file are open. The file
// has to be plain.
func (f *File) Behind(ctx context.Context) (*Behind, error) {
	if f.ahead < entriesAhead {
		f.read, f.ahead = nil, entriesAhead
	}
	if _, err := f.Survey(ctx); err != nil {
		return nil, err
	}
	if f.places == nil {
		return nil, errors.New(f.name + " is not a plain LDIF file")
	}
	return &Behind{ctx: ctx, file: f}, nil
}

// Others returns the entries that are no accounts.
func (b *Behind) Others() ([]directory.Entry, error) { return b.file.places.Others(b.ctx) }

// Named returns the entries of a folded name.
func (b *Behind) Named(name string) ([]directory.Entry, error) {
	return b.file.places.Named(b.ctx, map[string]bool{name: true})
}

// Below returns the entries right below a folded name.
func (b *Behind) Below(name string) ([]directory.Entry, error) {
	return b.file.places.Below(b.ctx, map[string]bool{name: true})
}

// Fulfilling returns the entries that fulfil a filter. What neither values nor classes can
// tell takes a reading of the file.
func (b *Behind) Fulfilling(cond filter.Filter) ([]directory.Entry, error) {
	return b.file.fulfilling(b.ctx, cond)
}

// Plain tells of a file that it is read as it is: text that is not compressed, of which
// nothing that cannot be read is left out.
func (f *File) Plain() bool {
	if f.known != nil || f.Broken != nil {
		return false
	}
	p := newPlaces(f, directory.AD, false)
	if p == nil {
		return false
	}
	p.Close()
	return true
}

// With is the same file with other entries in the place of some, by the keys of their
// names; nil leaves one out. More come behind all others. Where that was known ahead, it is
// surveyed without being read again, as long as this one is open; else the dialect has to be
// known, or is told by the entries once more.
func (f *File) With(instead map[directory.Key]*directory.Entry, more []directory.Entry) (*File, error) {
	anew, err := OpenFile(f.path, nil)
	if err != nil {
		return nil, err
	}
	if anew.Dialect = f.Dialect; f.read != nil {
		anew.Dialect = f.read.Dialect
	}
	anew.DefaultPolicy, anew.Keep = f.DefaultPolicy, f.Keep
	anew.instead, anew.more = instead, more
	if f.places != nil && f.places.keepsParts {
		anew.before = f
	}
	return anew, nil
}

// surveyChanged is the survey of a file with other entries in the place of some, made of the
// parts of the one before. Only parts in which something is another are read again.
func (f *File) surveyChanged(ctx context.Context) (*directory.Survey, error) {
	before := f.before
	concerned := before.places.blocksOf(slices.Collect(maps.Keys(f.instead)))
	parts := make([]*directory.Part, len(before.places.parts))
	if len(concerned) > len(parts)/few {
		f.before = nil // all of it is read sooner
		return f.readSurvey(ctx, withTexts)
	}
	for i := range parts {
		parts[i] = before.places.parts[i].part
	}
	s := f.newSurvey(f.Dialect)
	s.Words, s.Gaps = before.read.Words, before.read.Gaps
	s.ShareParts()
	by := surveying{file: f, survey: s, texts: withTexts}
	failed := make([]error, len(concerned))
	parallel.Do(len(concerned), func(_, i int) {
		block := concerned[i]
		var entries []directory.Entry
		if entries, failed[i] = before.places.all(ctx, block); failed[i] == nil {
			parts[block] = replacing(f, by.block)(recordsOf(entries)).part
		}
	})
	if err := errors.Join(failed...); err != nil {
		return nil, err
	}
	for _, part := range append(parts, by.block(recordsOf(f.more)).part) {
		s.Merge(part)
	}
	s.Settle()
	return s, nil
}

// replacing is work on records with others in the place of some.
func replacing[T any](f *File, work func([]ldif.Record) T) func([]ldif.Record) T {
	return func(records []ldif.Record) T {
		kept := records[:0]
		for _, r := range records {
			e, other := f.instead[directory.KeyOf(r.DN)]
			if e != nil {
				r.Entry, r.Text = *e, ""
			}
			if !other || e != nil {
				kept = append(kept, r)
			}
		}
		return work(kept)
	}
}

// recordsOf are records of some entries.
func recordsOf(entries []directory.Entry) []ldif.Record {
	records := make([]ldif.Record, len(entries))
	for i := range entries {
		records[i].Entry = entries[i]
	}
	return records
}
