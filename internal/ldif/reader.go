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
// it was read from: whoever keeps one for long clones it.
package ldif

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"
	"unsafe"

	"yardbroom/internal/directory"
)

// Record is one record of a file.
type Record struct {
	directory.Entry
	Line   int     // of the dn, counted from 1
	At     int64   // how many octets of the text stand before it
	Size   int     // how many it takes, with the blank line behind it
	Change *Change // nil for an entry
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

// errCR is the error of a file with the ends of lines of very old systems.
var errCR = &Error{
	Line: 1,
	Err:  errors.New("lines end in a carriage return alone: convert the file, so that they end in a line feed"),
}

const (
	blockSize = 1 << 20
	// maxRecord bounds the memory that one record can take.
	maxRecord = 256 << 20
)

// Options change how a file is read.
type Options struct {
	// KnownOnly leaves out the attributes that have no AttrID, which is all
	// that judging needs.
	KnownOnly bool
	// Broken is told of each record that cannot be read. If it returns nil
	// reading goes on behind that record. Nil stops at the first.
	Broken func(*Error) error
	// Referrals, if set, is told of how many records were references to other
	// servers, as plain output of a search tool has them. They are no entries.
	Referrals func(n int)
}

// Each reads all records of r. The work function turns the records of one
// block into something; it runs on several goroutines at once. Its results
// are handed to take in the order of the file. The records it is given are
// its own only until it returns; their strings stay.
func Each[T any](ctx context.Context, r io.Reader, opt Options, work func([]Record) T, take func(T) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type result struct {
		made      T
		errs      []*Error
		referrals int
	}
	type job struct {
		block block
		done  chan result
	}
	workers := min(runtime.GOMAXPROCS(0), 8)
	jobs, order := make(chan job), make(chan job, workers)
	var readErr error
	go func() {
		defer close(jobs)
		defer close(order)
		s := splitter{r: r, line: 1}
		for {
			b, err := s.next()
			if err != nil {
				if err != io.EOF {
					readErr = err
				}
				return
			}
			j := job{b, make(chan result, 1)}
			select {
			case order <- j:
			case <-ctx.Done():
				return
			}
			select {
			case jobs <- j:
			case <-ctx.Done():
				return
			}
		}
	}()
	for range workers {
		go func() {
			p := parser{known: opt.KnownOnly}
			for j := range jobs {
				records, errs := p.all(j.block, opt.Broken != nil)
				j.done <- result{work(records), errs, p.referrals}
			}
		}()
	}
	for j := range order {
		var res result
		select {
		case res = <-j.done:
		case <-ctx.Done():
			return ctx.Err()
		}
		if err := take(res.made); err != nil {
			return err
		}
		if opt.Referrals != nil && res.referrals > 0 {
			opt.Referrals(res.referrals)
		}
		for _, e := range res.errs {
			if opt.Broken == nil {
				return e
			}
			if err := opt.Broken(e); err != nil {
				return err
			}
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return readErr
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

// block is a run of whole records.
type block struct {
	text string
	line int   // number of its first line
	at   int64 // how many octets stand before it
}

// splitter cuts a stream into blocks at blank lines.
type splitter struct {
	r    io.Reader
	rest []byte
	line int
	at   int64
	err  error
}

func (s *splitter) next() (block, error) {
	buf := make([]byte, 0, blockSize)
	buf = append(buf, s.rest...)
	s.rest = nil
	searched := 0
	for s.err == nil {
		if cap(buf) == len(buf) {
			grown := make([]byte, len(buf), 2*cap(buf))
			copy(grown, buf)
			buf = grown
		}
		var n int
		n, s.err = s.r.Read(buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		if len(buf) < cap(buf) && s.err == nil {
			continue
		}
		if s.line == 1 && bytes.IndexByte(buf, '\n') < 0 && bytes.IndexByte(buf, '\r') >= 0 {
			s.err = errCR
			return block{}, s.err
		}
		if s.err != nil {
			break
		}
		if cut := lastBlankLine(buf, searched); cut > 0 {
			s.rest = buf[cut:]
			return s.block(buf[:cut:cut]), nil
		}
		searched = max(0, len(buf)-3)
		if len(buf) > maxRecord {
			s.err = &Error{
				Line: s.line,
				Err:  fmt.Errorf("no blank line in %d MiB: this is not LDIF, or one entry is too large", maxRecord>>20),
			}
			return block{}, s.err
		}
	}
	if s.err != io.EOF {
		return block{}, s.err
	}
	if len(buf) == 0 {
		return block{}, io.EOF
	}
	return s.block(buf), nil
}

func (s *splitter) block(b []byte) block {
	// The bytes are never written again, so they may serve as a string.
	out := block{text: unsafe.String(unsafe.SliceData(b), len(b)), line: s.line, at: s.at}
	s.line += bytes.Count(b, []byte{'\n'})
	s.at += int64(len(b))
	return out
}

// lastBlankLine returns the offset behind the last blank line of b that ends
// after from, or 0.
func lastBlankLine(b []byte, from int) int {
	for end := len(b); ; {
		lf := bytes.LastIndexByte(b[from:end], '\n') + from
		if lf <= from {
			return 0
		}
		switch {
		case b[lf-1] == '\n', lf >= from+2 && b[lf-1] == '\r' && b[lf-2] == '\n':
			return lf + 1
		}
		end = lf
	}
}

// parser reads the records of one block after the other. Attributes and
// values of all records of a block stand in two arrays, which the next block
// uses again.
type parser struct {
	text   string
	pos    int
	line   int // number of the line at pos
	first  bool
	known  bool
	naming bool // the line being read names the record
	// referrals are the references to other servers in this block.
	referrals int

	records []Record
	attrs   []directory.Attribute
	values  []string
	seen    directory.AttrSet // of the record being read
	buf     []byte            // of a line being unfolded
	decoded []byte            // values out of base64
	names   []knownName
	index   map[string]int // of names
	last    int            // the name of the line before
	dn      int            // "dn" among names, and one more; 0 before the first
}

// all reads a whole block. It stops at the first broken record unless told
// to go on.
func (p *parser) all(b block, goOn bool) (records []Record, errs []*Error) {
	p.text, p.pos, p.line, p.first = b.text, 0, b.line, b.line == 1
	p.records, p.attrs, p.values, p.referrals = p.records[:0], p.attrs[:0], p.values[:0], 0
	if p.first {
		p.text = strings.TrimPrefix(p.text, "\ufeff")
		b.at += int64(len(b.text) - len(p.text))
	}
	for {
		var rec Record
		ok, err := p.record(&rec)
		if err != nil {
			errs = append(errs, err)
			if !goOn {
				return p.records, errs
			}
			p.skipRecord()
			continue
		}
		if !ok {
			return p.records, errs
		}
		rec.Size = p.pos - int(rec.At)
		rec.At += b.at
		p.records = append(p.records, rec)
	}
}

// logical returns the next line that is not a comment, unfolded, without its
// end. A blank line is "". ok is false at the end of the block.
func (p *parser) logical() (line string, number int, ok bool) {
	for p.pos < len(p.text) {
		number = p.line
		line = p.physical()
		if p.pos < len(p.text) && p.text[p.pos] == ' ' && line != "" {
			line = p.unfold(line)
		}
		if line != "" && line[0] == '#' {
			continue
		}
		return line, number, true
	}
	return "", p.line, false
}

func (p *parser) physical() string {
	rest := p.text[p.pos:]
	end := strings.IndexByte(rest, '\n')
	p.line++
	if end < 0 {
		p.pos = len(p.text)
		return strings.TrimSuffix(rest, "\r")
	}
	p.pos += end + 1
	if end > 0 && rest[end-1] == '\r' {
		end--
	}
	return rest[:end]
}

func (p *parser) unfold(line string) string {
	p.buf = append(p.buf[:0], line...)
	for p.pos < len(p.text) && p.text[p.pos] == ' ' {
		p.buf = append(p.buf, p.physical()[1:]...)
	}
	return string(p.buf)
}

func (p *parser) skipRecord() {
	for {
		line, _, ok := p.logical()
		if !ok || line == "" {
			return
		}
	}
}

func (p *parser) record(rec *Record) (bool, *Error) {
	var line string
	var ok bool
	for line == "" {
		rec.At = int64(p.pos)
		if line, rec.Line, ok = p.logical(); !ok {
			return false, nil
		}
	}
	fail := func(number int, format string, args ...any) *Error {
		return &Error{Line: number, DN: rec.DN, Err: fmt.Errorf(format, args...)}
	}
	if p.dn > 0 && len(line) > 4 && line[:4] == "dn: " && line[4] != ' ' && strings.IndexByte(line, '=') > 0 {
		rec.DN, p.last, p.first = line[4:], p.dn-1, false // as nearly every record begins
		return true, p.body(rec, fail)
	}
	var l pair
	p.naming = true // the first line is a name or a version, wanted in any case
	err := p.split(line, &l)
	p.naming = false
	if err != nil {
		return false, fail(rec.Line, "%w", err)
	}
	name, value := l.name, l.value
	if strings.EqualFold(name, "version") && p.first {
		if value != "1" {
			return false, fail(rec.Line, "LDIF version %q; only 1 exists", value)
		}
		p.first = false
		return p.record(rec)
	}
	p.first = false
	if strings.EqualFold(name, "search") {
		return false, p.trailer()
	}
	if strings.EqualFold(name, "ref") {
		p.referrals++
		p.skipRecord()
		return p.record(rec)
	}
	if !strings.EqualFold(name, "dn") {
		return false, fail(rec.Line, "a record must start with \"dn:\", not %q", clip(name))
	}
	if value != "" && strings.IndexByte(value, '=') < 0 {
		return false, fail(rec.Line, "%q is not a distinguished name", clip(value))
	}
	if rec.DN = value; name == "dn" && p.last < len(p.names) && p.names[p.last].name == name {
		p.dn = p.last + 1
	}
	return true, p.body(rec, fail)
}

func (p *parser) body(rec *Record, fail func(int, string, ...any) *Error) *Error {
	start := len(p.attrs)
	p.seen = directory.AttrSet{}
	var controls []string
	var l pair
	for {
		number := p.line
		if !p.usual(&l) {
			var line string
			var ok bool
			line, number, ok = p.logical()
			if !ok || line == "" {
				break
			}
			if line[0] == ' ' {
				return fail(number, "a continued line with nothing before it")
			}
			if err := p.name(line, &l); err != nil {
				return fail(number, "%w", err)
			}
		}
		if l.id == directory.AttrUnknown && strings.EqualFold(l.name, "dn") {
			return fail(number, "a second \"dn:\" in one entry: the line before a new entry must be empty")
		}
		unwanted := p.known && l.id == directory.AttrUnknown && len(p.attrs) > start
		if unwanted && (l.value == "" || l.value[0] == ' ') {
			continue
		}
		if err := p.value(&l); err != nil {
			return fail(number, "%w", err)
		}
		if unwanted {
			continue
		}
		if len(p.attrs) == start && l.id == directory.AttrUnknown {
			switch {
			case strings.EqualFold(l.name, "control"):
				controls = append(controls, l.value)
				continue
			case strings.EqualFold(l.name, "changetype"):
				rec.Change = &Change{Type: strings.ToLower(l.value), Controls: controls}
				if rec.Change.Type == "add" {
					continue
				}
				return p.change(rec.Change, fail)
			}
		}
		p.add(start, &l)
	}
	rec.Attrs = p.attrs[start:len(p.attrs):len(p.attrs)]
	return nil
}

// add puts a value behind the others of its attribute. Attributes start at
// start in the block's array.
func (p *parser) add(start int, l *pair) {
	if l.id == directory.AttrUnknown && (p.known || directory.IsSecret(l.name)) {
		return
	}
	if n := len(p.attrs); n > start && sameAttribute(&p.attrs[n-1], l) {
		// The values of an attribute mostly stand together: then the last
		// value in the array is this attribute's, and growing is free.
		p.values = append(p.values, l.value)
		a := &p.attrs[n-1]
		a.Values = append(a.Values, l.value)
		return
	}
	if l.id == directory.AttrUnknown || p.seen.Has(l.id) {
		for i := start; i < len(p.attrs); i++ {
			if a := &p.attrs[i]; sameAttribute(a, l) {
				a.Values = append(a.Values[:len(a.Values):len(a.Values)], l.value)
				return
			}
		}
	}
	p.seen.Add(l.id)
	p.values = append(p.values, l.value)
	n := len(p.values)
	p.attrs = append(p.attrs, directory.Attribute{Name: l.name, ID: l.id, Values: p.values[n-1 : n]})
}

func sameAttribute(a *directory.Attribute, l *pair) bool {
	return a.ID == l.id && len(a.Name) == len(l.name) && (a.Name == l.name || strings.EqualFold(a.Name, l.name))
}

// pair is a line taken apart: an attribute description and a value.
type pair struct {
	name, value string
	id          directory.AttrID
}

// nameByte tells which octets an attribute description may hold: those of
// RFC 4512, of ranges, and the underscore that some servers take.
var nameByte = func() (t [256]bool) {
	for _, c := range []byte("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-.;=*_") {
		t[c] = true
	}
	return t
}()

// split takes a line apart, into its name and its value.
func (p *parser) split(line string, l *pair) error {
	if err := p.name(line, l); err != nil {
		return err
	}
	return p.value(l)
}

// name finds the attribute description of a line. The value is left as it
// stands behind the colon.
func (p *parser) name(line string, l *pair) error {
	colon := strings.IndexByte(line, ':')
	if colon <= 0 {
		return fmt.Errorf("no \"name: value\" in %q", clip(line))
	}
	l.name, l.value = line[:colon], line[colon+1:]
	for i := range len(l.name) {
		if !nameByte[l.name[i]] {
			return fmt.Errorf("%q is not an attribute name", clip(l.name))
		}
	}
	if l.id = directory.LookupAttr(l.name); l.id == directory.AttrUnknown {
		if l.name = directory.PlainName(l.name); l.name != line[:colon] {
			l.id = directory.LookupAttr(l.name)
		}
	}
	p.learn(l)
	return nil
}

// value reads what stands behind the colon: text, base64, or a URL, which is
// refused. The octets of an attribute that nobody wants are only tested.
func (p *parser) value(l *pair) error {
	switch {
	case l.value == "":
	case l.value[0] == ' ':
		l.value = strings.TrimLeft(l.value[1:], " ")
	case l.value[0] == ':':
		keep := l.id != directory.AttrUnknown || !p.known || p.naming
		value, err := p.decode(strings.Trim(l.value[1:], " "), keep)
		if err != nil {
			return fmt.Errorf("broken base64 in the value of %s", l.name)
		}
		l.value = value
	case l.value[0] == '<':
		return fmt.Errorf("the value of %s is behind a URL; values from other files are not read", l.name)
	}
	return nil
}

// decodedSize is how much room for decoded values is taken at a time.
const decodedSize = 64 << 10

// decode decodes base64. Values that are kept stand side by side in buffers
// that are never written twice, so that each costs no allocation.
func (p *parser) decode(text string, keep bool) (string, error) {
	if need := base64.StdEncoding.DecodedLen(len(text)); cap(p.decoded)-len(p.decoded) < need {
		p.decoded = make([]byte, 0, max(decodedSize, need))
	}
	start := len(p.decoded)
	out, err := base64.StdEncoding.AppendDecode(p.decoded, unsafe.Slice(unsafe.StringData(text), len(text)))
	if err != nil || !keep || len(out) == start {
		return "", err
	}
	p.decoded = out
	return unsafe.String(&out[start], len(out)-start), nil
}

// knownName is an attribute description met before in this file. Entries of
// one export carry their attributes in much the same order, so each name
// remembers which one came next the last time.
type knownName struct {
	name string
	id   directory.AttrID
	next int
}

const maxKnownNames = 4096

// usual reads the next line in one go, where it is as most lines are: not
// folded, with the name of the line before again or the one that followed
// that the last time. It reports false, with nothing read, for any other.
func (p *parser) usual(l *pair) bool {
	if p.last >= len(p.names) {
		return false
	}
	rest := p.text[p.pos:]
	for _, at := range [2]int{p.names[p.last].next, p.last} {
		k := &p.names[at]
		n := len(k.name)
		if len(rest) <= n || rest[n] != ':' || rest[:n] != k.name {
			continue
		}
		end := strings.IndexByte(rest[n:], '\n') + n
		if end < n || end+1 < len(rest) && rest[end+1] == ' ' {
			return false
		}
		p.pos += end + 1
		p.line++
		p.last = at
		if rest[end-1] == '\r' {
			end--
		}
		l.name, l.value, l.id = k.name, rest[n+1:end], k.id
		return true
	}
	return false
}

func (p *parser) learn(l *pair) {
	at, ok := p.index[l.name]
	if !ok {
		if len(p.names) == maxKnownNames {
			return
		}
		if p.index == nil {
			p.index = map[string]int{}
		}
		at = len(p.names)
		l.name = strings.Clone(l.name)
		p.names = append(p.names, knownName{name: l.name, id: l.id})
		p.index[l.name] = at
	}
	p.names[p.last].next = at
	p.last = at
}

// trailer reads the record that a search tool leaves behind the last entry.
func (p *parser) trailer() *Error {
	for {
		line, at, ok := p.logical()
		if !ok || line == "" {
			return nil
		}
		if result, is := strings.CutPrefix(line, "result: "); is && !strings.HasPrefix(result, "0 ") && result != "0" {
			return &Error{Line: at, Err: fmt.Errorf("%w: result %s", ErrIncomplete, clip(result))}
		}
	}
}

// change reads the rest of a change record.
func (p *parser) change(c *Change, fail func(int, string, ...any) *Error) *Error {
	switch c.Type {
	case "delete", "modify", "modrdn", "moddn":
	default:
		return fail(p.line-1, "unknown changetype %q", clip(c.Type))
	}
	var mod *Mod
	for {
		line, number, ok := p.logical()
		if !ok || line == "" {
			return nil
		}
		if line == "-" {
			mod = nil
			continue
		}
		var l pair
		if err := p.split(line, &l); err != nil {
			return fail(number, "%w", err)
		}
		name, value := l.name, l.value
		switch {
		case c.Type == "delete":
			return fail(number, "a delete record has no more lines")
		case c.Type == "modify" && mod == nil:
			op := strings.ToLower(name)
			if op != "add" && op != "delete" && op != "replace" && op != "increment" {
				return fail(number, "%q is none of add, delete, replace, increment", clip(name))
			}
			c.Mods = append(c.Mods, Mod{Op: op, Name: value})
			mod = &c.Mods[len(c.Mods)-1]
		case c.Type == "modify":
			if !strings.EqualFold(name, mod.Name) {
				return fail(number, "a value of %q in a change of %q", clip(name), clip(mod.Name))
			}
			if !directory.IsSecret(name) {
				mod.Values = append(mod.Values, value)
			}
		case strings.EqualFold(name, "newrdn"):
			c.NewRDN = value
		case strings.EqualFold(name, "deleteoldrdn"):
			c.DeleteOldRDN = value == "1"
		case strings.EqualFold(name, "newsuperior"):
			c.NewSuperior, c.HasSuperior = value, true
		default:
			return fail(number, "%q has no place in a %s record", clip(name), c.Type)
		}
	}
}

// clip shortens a hostile text for an error message.
func clip(s string) string {
	const most = 60
	if len(s) <= most {
		return s
	}
	return s[:most] + "…"
}
