package source

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/ldif"
)

// Behind answers very many questions about the entries of a plain LDIF file, each of few of
// them: of what a directory in front of it has to know.
type Behind struct {
	ctx   context.Context
	file  *File
	where *places
	names []uint64 // hash of a name, and the number of the entry; sorted
	below []uint64 // the same of what it stands below
	value []uint64 // the same of its values
	first []int    // number of the first entry of each block
}

// Behind surveys the file, where that was not done with SurveyAhead, and returns what answers
// questions about its entries for as long as the context and the file are open. The file
// has to be plain.
func (f *File) Behind(ctx context.Context) (*Behind, error) {
	if f.ahead != entriesAhead {
		f.read, f.ahead = nil, entriesAhead
	}
	if _, err := f.Survey(ctx); err != nil {
		return nil, err
	}
	if f.places == nil {
		return nil, errors.New(f.name + " is not a plain LDIF file")
	}
	b := &Behind{ctx: ctx, file: f, where: f.places}
	n := 0
	for i := range f.places.parts {
		in := &f.places.parts[i]
		b.first = append(b.first, n)
		for k := range in.keys {
			b.names = append(b.names, numbered(uint32(in.keys[k][0]), n+k))
			b.below = append(b.below, numbered(in.below[k], n+k))
		}
		for _, v := range in.values {
			b.value = append(b.value, numbered(v.hash, n+int(v.entry)))
		}
		n += len(in.keys)
	}
	slices.Sort(b.names)
	slices.Sort(b.below)
	slices.Sort(b.value)
	return b, nil
}

// Others returns the entries that are no accounts.
func (b *Behind) Others() ([]directory.Entry, error) {
	var numbers []int
	for i := range b.where.parts {
		for _, n := range b.where.parts[i].others {
			numbers = append(numbers, b.first[i]+n)
		}
	}
	return b.read(numbers)
}

// ofClasses are the numbers of the entries that fulfil a filter which asks for nothing but
// classes; ok is false for another filter.
func (b *Behind) ofClasses(cond *filter.Filter, test func(*directory.Entry) bool) (numbers []int, ok bool) {
	for _, attr := range cond.Attributes() {
		if !strings.EqualFold(attr, "objectClass") {
			return nil, false
		}
	}
	fit := make([]bool, anyClasses+1)
	fit[anyClasses] = true
	for n, list := range b.where.classes.lists {
		e := directory.Entry{}
		e.Set("objectClass", list...)
		fit[n] = test(&e)
	}
	for i := range b.where.parts {
		for k, n := range b.where.parts[i].classes {
			if fit[n] {
				numbers = append(numbers, b.first[i]+k)
			}
		}
	}
	return numbers, true
}

func numbered(hash uint32, n int) uint64 { return uint64(hash)<<32 | uint64(n) }

// numbersOf are the numbers of the entries that some hashes stand for.
func numbersOf(all []uint64, hashes ...uint32) (numbers []int) {
	for _, hash := range hashes {
		at, _ := slices.BinarySearch(all, numbered(hash, 0))
		for ; at < len(all) && uint32(all[at]>>32) == hash; at++ {
			numbers = append(numbers, int(uint32(all[at])))
		}
	}
	slices.Sort(numbers)
	return slices.Compact(numbers)
}

// read reads the entries of some numbers, which ascend.
func (b *Behind) read(numbers []int) (found []directory.Entry, err error) {
	for len(numbers) > 0 {
		if err := b.ctx.Err(); err != nil {
			return nil, err
		}
		block, exact := slices.BinarySearch(b.first, numbers[0])
		if !exact {
			block--
		}
		in := &b.where.parts[block]
		wanted := make([]bool, len(in.keys))
		for len(numbers) > 0 && numbers[0] < b.first[block]+len(in.keys) {
			wanted[numbers[0]-b.first[block]] = true
			numbers = numbers[1:]
		}
		some, err := b.where.read(in, wanted)
		if err != nil {
			return nil, err
		}
		found = append(found, some...)
	}
	return found, nil
}

// Named returns the entries of some folded names.
func (b *Behind) Named(names ...string) ([]directory.Entry, error) {
	hashes := make([]uint32, len(names))
	for i, name := range names {
		hashes[i] = uint32(directory.KeyOf(name)[0])
	}
	found, err := b.read(numbersOf(b.names, hashes...))
	return slices.DeleteFunc(found, func(e directory.Entry) bool { return !slices.Contains(names, directory.FoldDN(e.DN)) }), err
}

// Below returns the entries right below a folded name.
func (b *Behind) Below(name string) ([]directory.Entry, error) {
	found, err := b.read(numbersOf(b.below, uint32(directory.KeyOf(name)[0])))
	return rightBelow(found, map[string]bool{name: true}), err
}

// Fulfilling returns the entries that fulfil a filter. What no value can tell takes a
// reading of the file.
func (b *Behind) Fulfilling(cond filter.Filter) (found []directory.Entry, err error) {
	m, err := b.file.matcher(b.ctx, cond, b.where.dialect)
	if err != nil {
		return nil, err
	}
	test := func(e *directory.Entry) bool { return m.Match(e) == filter.True }
	values, ok := narrowed(&cond, b.where.dialect)
	if !ok {
		if numbers, ok := b.ofClasses(&cond, test); ok {
			found, err = b.read(numbers)
			return slices.DeleteFunc(found, func(e directory.Entry) bool { return !test(&e) }), err
		}
		found, err = b.file.pick(b.ctx, test)
		slog.DebugContext(b.ctx, "read all for a question", "file", b.file.name, "filter", cond.String(), "entries", len(found))
		return found, err
	}
	hashes := make([]uint32, len(values))
	for i, v := range values {
		hashes[i] = hashOf(v)
	}
	found, err = b.read(numbersOf(b.value, hashes...))
	return slices.DeleteFunc(found, func(e directory.Entry) bool { return !test(&e) }), err
}

// Plain tells of a file that it is read as it is: text that is not compressed, of which
// nothing that cannot be read is left out.
func (f *File) Plain() bool {
	if f.known != nil || f.Broken != nil {
		return false
	}
	p := newPlaces(f.path, directory.AD, false)
	if p == nil {
		return false
	}
	p.Close()
	return true
}

// Reopened is the same file, to be read anew.
func (f *File) Reopened() (*File, error) {
	again, err := OpenFile(f.path, nil)
	if err != nil {
		return nil, err
	}
	again.Dialect, again.DefaultPolicy, again.Keep = f.Dialect, f.DefaultPolicy, f.Keep
	return again, nil
}

// Instead puts other entries in the place of some, by the keys of their names; nil leaves
// one out. More come behind all others. It is said before the file is read.
func (f *File) Instead(of map[directory.Key]*directory.Entry, more []directory.Entry) {
	f.instead, f.more = of, more
}

// replacing is work on records with others in the place of some.
func replacing[T any](f *File, work func([]ldif.Record) T) func([]ldif.Record) T {
	return func(records []ldif.Record) T {
		kept := records[:0]
		for _, r := range records {
			e, other := f.instead[directory.KeyOf(r.DN)]
			if e != nil {
				r.Entry = *e
			}
			if !other || e != nil {
				kept = append(kept, r)
			}
		}
		return work(kept)
	}
}

// added are records of what comes behind the file.
func (f *File) added() (records []ldif.Record) {
	for i := range f.more {
		records = append(records, ldif.Record{Entry: f.more[i]})
	}
	return records
}
