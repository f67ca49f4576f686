// Package ldif reads and writes the LDAP Data Interchange Format, RFC 2849.
//
// A file is a series of records separated by blank lines; each is an entry
// ("content record") or a change to one. Lines may be folded, values may be
// base64, comments may stand anywhere. The reader takes what the RFC allows
// and what exports in the wild do besides: raw UTF-8 values, a byte order
// mark, a missing version line, the trailer of a search tool. It refuses
// values behind a URL, since a file must not make the tool open another.
//
// Values of secret attributes are dropped as they are read.
//
// Blocks of a file are parsed on several processors, so an entry costs
// little more than its bytes. All strings of an entry point into the block
// it was read from: whoever keeps one clones it.
package ldif

import (
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"unsafe"

	"yardbroom/internal/directory"
)

// Record is one record of a file.
type Record struct {
	directory.Entry
	Line   int     // of the dn, counted from 1
	At     int64   // how many octets of the text stand before it
	Text   string  // as it stands there, with the blank line behind it
	Change *Change // nil for an entry
}

// Whole returns the entry with all its attributes, whichever of them were read. Nothing of
// it is the record's.
func (r *Record) Whole() directory.Entry {
	entries, err := Parse([]byte(r.Text))
	if err != nil || len(entries) != 1 {
		return r.Clone() // it was not read from a text
	}
	return entries[0]
}

// IsEntry tells whether the record is an entry, or adds one.
func (r *Record) IsEntry() bool { return r.Change == nil || r.Change.Type == "add" }

// Change is what a change record asks for.
type Change struct {
	Type         string // add, delete, modify, modrdn or moddn
	Mods         []Mod
	NewRDN       string
	DeleteOldRDN bool
	NewSuperior  string
	HasSuperior  bool
	Controls     []string
}

// Mod is one change to an attribute: Op is add, delete, replace or increment.
type Mod struct {
	Op, Name string
	Values   []string
}

// Error is a record that cannot be read.
type Error struct {
	Line int
	DN   string // of the record, "" where it has none
	Err  error
}

func (e *Error) Error() string {
	if e.DN == "" {
		return fmt.Sprintf("line %d: %v", e.Line, e.Err)
	}
	return fmt.Sprintf("line %d, entry %q: %v", e.Line, e.DN, e.Err)
}

func (e *Error) Unwrap() error { return e.Err }

// ErrIncomplete is the error of a file whose own trailer says that the
// server did not give everything.
var ErrIncomplete = errors.New("the export says that it is not complete")

// ErrNoPair is the error of a line without a colon behind a name.
var ErrNoPair = errors.New("no \"name: value\"")

// errCR is the error of a file with the ends of lines of very old systems.
var errCR = &Error{
	Line: 1,
	Err:  errors.New("lines end in a carriage return alone: convert the file, so that they end in a line feed"),
}

const (
	blockSize = 256 << 10 // with what is made of it, it fits into a processor's own cache
	// maxRecord bounds the memory that one record can take.
	maxRecord = 256 << 20
)

// Options change how a file is read.
type Options struct {
	// Others tells which attributes that have no AttrID are read; nil reads all. It is
	// asked by several goroutines at once.
	Others func(name string) bool
	// Broken is told of each record that cannot be read. If it returns nil
	// reading goes on behind that record. Nil stops at the first.
	Broken func(*Error) error
	// Referrals, if set, is told of how many records were references to other
	// servers, as plain output of a search tool has them. They are no entries.
	Referrals func(n int)
}

// Each reads all records of r. The work function turns the records of one
// block into something; it runs on several goroutines at once. Its results
// are handed to take in the order of the file. The records that it is given, and
// their strings, are its own only until it returns: the memory of a block is read
// into again, so that reading takes no more of it the larger the file is.
func Each[T any](ctx context.Context, r io.Reader, opt Options, work func([]Record) T, take func(T) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	workers := min(runtime.GOMAXPROCS(0), 8)
	f := &flow[T]{jobs: make(chan job[T]), order: make(chan job[T], workers), used: make(chan []byte, 2*workers)}
	go f.cut(ctx, r)
	for range workers {
		go f.parse(&opt, work)
	}
	for j := range f.order {
		var res result[T]
		select {
		case res = <-j.done:
		case <-ctx.Done():
			return ctx.Err()
		}
		if err := take(res.made); err != nil {
			return err
		}
		if err := opt.tell(res.referrals, res.errs); err != nil {
			return err
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return f.err
}

// flow takes the blocks of a file from the one who cuts it to those who parse them, and
// what these make of them back in the order of the file.
type flow[T any] struct {
	jobs, order chan job[T]
	used        chan []byte // memory of blocks that may be read into again
	err         error       // of reading, once order is closed
}

// job is a block to be parsed.
type job[T any] struct {
	block block
	done  chan result[T]
}

// result is what was made of a block.
type result[T any] struct {
	made      T
	errs      []*Error
	referrals int
}

// cut reads the file and hands its blocks over.
func (f *flow[T]) cut(ctx context.Context, r io.Reader) {
	defer close(f.jobs)
	defer close(f.order)
	s := splitter{r: r, line: 1, used: f.used}
	for {
		b, err := s.next()
		if err != nil {
			if err != io.EOF {
				f.err = err
			}
			return
		}
		j := job[T]{b, make(chan result[T], 1)}
		for _, to := range []chan job[T]{f.order, f.jobs} {
			select {
			case to <- j:
			case <-ctx.Done():
				return
			}
		}
	}
}

// parse parses blocks, and makes something of them.
func (f *flow[T]) parse(opt *Options, work func([]Record) T) {
	p := parser{others: opt.Others}
	for j := range f.jobs {
		records, errs := p.all(j.block, opt.Broken != nil)
		res := result[T]{work(records), errs, p.referrals}
		p.forget()
		j.block.again(f.used)
		j.done <- res
	}
}

// tell tells of what was met besides entries. The error ends reading.
func (opt *Options) tell(referrals int, errs []*Error) error {
	if opt.Referrals != nil && referrals > 0 {
		opt.Referrals(referrals)
	}
	for _, e := range errs {
		if opt.Broken == nil {
			return e
		}
		if err := opt.Broken(e); err != nil {
			return err
		}
	}
	return nil
}

// Reader reads the records of a file one by one.
type Reader struct {
	split   splitter
	records []Record
	errs    []*Error
	err     error
}

// NewReader returns a Reader on r.
func NewReader(r io.Reader) *Reader { return &Reader{split: splitter{r: r, line: 1}} }

// Next returns the next record, io.EOF after the last, or an *Error for a
// record that cannot be read; the call after that goes on behind it.
func (r *Reader) Next() (*Record, error) {
	for {
		if len(r.errs) > 0 && (len(r.records) == 0 || r.errs[0].Line < r.records[0].Line) {
			err := r.errs[0]
			r.errs = r.errs[1:]
			return nil, err
		}
		if len(r.records) > 0 {
			rec := &r.records[0]
			r.records = r.records[1:]
			return rec, nil
		}
		if err := r.err; err != nil {
			r.err = io.EOF // nothing follows
			return nil, err
		}
		b, err := r.split.next()
		if err != nil {
			r.err = err
			continue
		}
		r.records, r.errs = new(parser).all(b, true)
	}
}

// Parse reads the entries of a text that consists of whole records. Their strings
// are that text, which must not be written to again.
func Parse(text []byte) ([]directory.Entry, error) {
	b := block{text: unsafe.String(unsafe.SliceData(text), len(text)), line: 1}
	records, errs := new(parser).all(b, false)
	if len(errs) > 0 {
		return nil, errs[0]
	}
	entries := make([]directory.Entry, len(records))
	for i := range records {
		entries[i] = records[i].Entry
	}
	return entries, nil
}
