package logs

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"golang.org/x/text/encoding/unicode"
)

// Options are what is known of a log besides what stands in it.
type Options struct {
	Server  string         // whose log it is; "" leaves it to the log
	Zone    *time.Location // of times that have none; nil is UTC
	Written time.Time      // when it was written to last: times without a year are not after it
	Mapping *Mapping       // of a shape that is not known
}

// Report is how reading a log went.
type Report struct {
	Name   string
	Series string // the files that a rotation has made of one log have one
	// Oldest and Newest tell that it is the first, and the last, of its series.
	Oldest, Newest bool
	Lines          int // of text; rows of a table, events of an export as XML
	// Known lines were of a shape that is known; Foreign were of others, as syslog has
	// them; Broken could not be read, Fault says why of the first. Where only some
	// accounts are asked for, only lines that name them, and samples, are looked at.
	Looked, Known, Foreign, Broken int
	Fault                          string
	FaultLine                      int
	First, Last                    time.Time // of the events in it, zero where it has none
	Events                         int       // that were given
	Error                          error     // why it could not be read, or not to its end
}

// ErrBinary is the error of Windows' own file of events.
var ErrBinary = errors.New("it is a binary event log, which only Windows reads: export it there with \"wevtutil qe FILE /lf:true /f:xml > events.xml\", and give that file")

const (
	blockSize  = 1 << 20
	mostRecord = 1 << 20 // octets of one line or event
	// mostUnanswered lines are read for the answer to a sign-in.
	mostUnanswered = 20_000
	// sampled lines of the first block, fewSampled of each other, and lastSampled at the
	// end of each are looked at in any case: they say what the log is, and of which time.
	sampled, fewSampled, lastSampled = 50, 2, 3
)

// Reader reads logs of one server in the order in which they were written. What one
// begins to say, the next one may end.
type Reader struct {
	o      *Options
	only   *Only
	take   func(*Event) error
	joined *connections
	asked  request // of a key server of Heimdal
	passed *Event
	skewed time.Time // when a key server of MIT has said that clocks differ

	report *Report
	number int   // of the line
	place  place // of the line
	edge   bool  // it is the first or the last of its block
	failed error
	alien  bool // the line is of a shape that is not known
}

// NewReader returns a reader that hands over events of some accounts; nil is of all. More
// may be handed over than asked for, never less.
func NewReader(only *Only, take func(*Event) error) *Reader {
	return &Reader{only: only, take: take, joined: newConnections()}
}

// Read reads one log. An error of take ends it.
func (r *Reader) Read(ctx context.Context, in io.Reader, o *Options, report *Report) error {
	r.o, r.report, r.number, r.failed = o, report, 0, nil
	blocks := &blocks{in: in}
	head := blocks.peek()
	switch {
	case bytes.HasPrefix(head, []byte("ElfFile\x00")):
		return ErrBinary
	case bytes.HasPrefix(head, []byte{0xff, 0xfe}), bytes.HasPrefix(head, []byte{0xfe, 0xff}):
		blocks = newBlocks(unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder().Reader(blocks.rest()))
		head = blocks.peek()
	}
	var err error
	first := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\ufeff")), " \r\n\t")
	switch {
	case o.Mapping != nil && !bytes.HasPrefix(first, []byte("{")):
		err = r.table(blocks.rest(), comma(first))
	case bytes.HasPrefix(first, []byte("<?xml")), bytes.HasPrefix(first, []byte("<Event")):
		err = r.records(ctx, blocks, []byte("</Event>"), (*Reader).xmlEvent)
	default:
		err = r.records(ctx, blocks, []byte("\n"), (*Reader).textLine)
	}
	r.settle()
	return errors.Join(err, r.failed)
}

// End gives what waits for lines that have not come.
func (r *Reader) End() error {
	r.joined.flush(r.give)
	return r.failed
}

func comma(head []byte) rune {
	line, _, _ := bytes.Cut(head, []byte("\n"))
	best, most := ',', 0
	for _, c := range []rune{',', ';', '\t'} {
		if n := bytes.Count(line, []byte(string(c))); n > most {
			best, most = c, n
		}
	}
	return best
}

// records takes a log piece by piece.
func (r *Reader) records(ctx context.Context, b *blocks, end []byte, one func(*Reader, []byte) error) error {
	ahead := func(block *block) *ahead { return r.ahead(block.text, end, one) }
	return b.each(ctx, end, r.only, ahead, func(block *block) error {
		for _, long := range block.long {
			r.number = r.report.Lines + long
			r.broken(errLong)
		}
		base := r.report.Lines
		r.place.block++
		r.joined.next(r.place.block, block.turns, r.give)
		err := error(nil)
		if block.ahead != nil {
			r.takeAhead(block.ahead, base)
			err = r.failed
		} else {
			err = r.block(block, end, base, one)
		}
		r.report.Lines = base + block.lines
		return err
	})
}

// ahead is what a block says, as if it were the first.
type ahead struct {
	events []Event
	report Report
}

// ahead reads a block on its own, on any processor; nil is one in which a piece may need
// what was said before it: only objects and exported events never do.
func (r *Reader) ahead(text, end []byte, one func(*Reader, []byte) error) *ahead {
	a := &ahead{}
	alone := &Reader{o: r.o, report: &a.report, joined: newConnections(), take: func(e *Event) error {
		a.events = append(a.events, *e)
		return nil
	}}
	for n := 1; len(text) > 0; n++ {
		piece, rest, _ := bytes.Cut(text, end)
		text = rest
		if start := bytes.TrimLeft(piece, "\r\n\t \x00"); len(start) > 0 && start[0] != '{' && !bytes.HasPrefix(start, []byte("<Event")) && !bytes.HasPrefix(start, []byte("<?xml")) &&
			!bytes.HasPrefix(start, []byte("</Event")) {
			return nil
		}
		alone.number = n
		alone.look(piece, one)
	}
	return a
}

// takeAhead takes what a block says, whose first piece has the number behind base.
func (r *Reader) takeAhead(a *ahead, base int) {
	p, q := r.report, &a.report
	p.Looked, p.Known, p.Foreign, p.Broken = p.Looked+q.Looked, p.Known+q.Known, p.Foreign+q.Foreign, p.Broken+q.Broken
	if p.Fault == "" && q.Fault != "" {
		p.Fault, p.FaultLine = q.Fault, base+q.FaultLine
	}
	for _, at := range []time.Time{q.First, q.Last} {
		if !at.IsZero() {
			r.saw(at)
		}
	}
	for i := range a.events {
		a.events[i].Line += base
		r.give(&a.events[i])
	}
}

// block takes the pieces of a block that may matter.
func (r *Reader) block(b *block, end []byte, base int, one func(*Reader, []byte) error) error {
	at, line, unanswered := 0, 0, 0
	for next := 0; at < len(b.text); {
		stop := bytes.Index(b.text[at:], end)
		if stop < 0 {
			stop = len(b.text)
		} else {
			stop += at
		}
		r.number, r.place.at, r.edge = base+line+1, at, line == 0 || stop+len(end) >= len(b.text)
		r.look(b.text[at:stop], one)
		if r.failed != nil {
			return r.failed
		}
		line++
		at = min(stop+len(end), len(b.text))
		if r.only == nil {
			continue
		}
		if r.joined.unanswered() {
			if unanswered++; unanswered < mostUnanswered {
				continue // the answer is in one of the next lines, which do not name anybody
			}
			r.joined.giveUp()
		}
		unanswered = 0
		for next < len(b.hits) && b.hits[next] < at {
			next++
		}
		to := len(b.text)
		if next < len(b.hits) {
			to = max(at, lineStart(b.text, b.hits[next], end))
		}
		line += bytes.Count(b.text[at:to], end)
		at = to
	}
	return nil
}

// lineStart is where the piece begins that an offset lies in.
func lineStart(text []byte, at int, end []byte) int {
	if i := bytes.LastIndex(text[:at], end); i >= 0 {
		return i + len(end)
	}
	return 0
}

func (r *Reader) look(piece []byte, one func(*Reader, []byte) error) {
	piece = bytes.Trim(piece, "\r\n\t \x00")
	if len(piece) == 0 {
		return
	}
	r.report.Looked++
	r.alien = false
	switch err := one(r, piece); {
	case err != nil:
		r.broken(err)
	case r.alien:
		r.report.Foreign++
	default:
		r.report.Known++
	}
}

func (r *Reader) broken(err error) {
	r.report.Broken++
	if r.report.Fault == "" {
		r.report.Fault, r.report.FaultLine = err.Error(), r.number
	}
}

// foreign says that the line is of a shape that is not known.
func (r *Reader) foreign() { r.alien = true }

// saw notes the time of a line that was read.
func (r *Reader) saw(at time.Time) {
	if r.report.First.IsZero() || at.Before(r.report.First) {
		r.report.First = at
	}
	if at.After(r.report.Last) {
		r.report.Last = at
	}
}

func (r *Reader) matters(name string) bool { return r.only == nil || r.only.in([]byte(name)) }

func (r *Reader) give(e *Event) {
	if r.failed != nil || e.Name == "" && e.SID == "" { // it names nobody
		return
	}
	if r.o.Server != "" {
		e.Server = r.o.Server
	}
	r.report.Events++
	r.failed = r.take(e)
}

func (r *Reader) xmlEvent(piece []byte) error {
	start := bytes.Index(piece, []byte("<Event "))
	if start < 0 {
		if start = bytes.Index(piece, []byte("<Event>")); start < 0 {
			r.foreign() // what ends the file
			return nil
		}
	}
	rec, err := readXML(append(bytes.Clone(piece[start:]), "</Event>"...))
	if err != nil {
		return fmt.Errorf("not an event: %w", err)
	}
	r.saw(rec.at)
	if e := rec.event(); e != nil {
		e.Line = r.number
		r.give(e)
	}
	return nil
}

// chatter is a line of an LDAP server about something else than a sign-in. Most lines are,
// and only where a block begins and ends is it worth while to read when they were written.
// What somebody may have written into a line does not make it one: the number of the
// connection must stand where the message begins.
func (r *Reader) chatter(line []byte) bool {
	if r.edge {
		return false
	}
	head := []byte(": ") // the first is the one behind a header
	switch {
	case line[0] == '[':
		head = []byte("] ")
	case line[0] == '{', len(line) < 18:
		return false
	case isHex(line[:8]) && line[8] == '.':
		_, line, _ = bytes.Cut(line[18:], []byte("0x"))
		head = []byte(" ")
	}
	_, message, _ := bytes.Cut(line, head)
	return bytes.HasPrefix(message, []byte("conn=")) && !bytes.Contains(message, []byte("BIND ")) && !bytes.Contains(message, []byte("tag=97"))
}

// textLine takes one line, whose shape says what it is.
func (r *Reader) textLine(line []byte) error {
	if r.chatter(line) {
		return nil
	}
	switch line[0] {
	case '{':
		return r.jsonLine(line)
	case '[':
		if at, message, ok := r.o.bracketed(line); ok {
			r.saw(at)
			if !r.ldapLine(&header{at: at}, message, true) {
				r.foreign()
			}
			return nil
		}
		r.foreign()
		return nil
	case '<':
		if bytes.HasPrefix(line, []byte("<Event")) {
			return r.xmlEvent(bytes.TrimSuffix(line, []byte("</Event>")))
		}
	}
	h, message, ok := r.o.readHeader(line)
	if !ok {
		if object, is := bytes.CutPrefix(line, []byte("JSON Authentication: ")); is {
			return r.jsonLine(object)
		}
		r.foreign()
		return nil
	}
	if r.message(&h, message) {
		r.saw(h.at)
		return nil
	}
	if at := bytes.IndexByte(message, '{'); at >= 0 && at < mostBeforeObject && bytes.HasPrefix(bytes.TrimLeft(message[at+1:], " "), []byte(`"`)) {
		return r.jsonLine(message[at:])
	}
	r.foreign()
	return nil
}

// mostBeforeObject octets stand between a header and an object that is the message.
const mostBeforeObject = 40

// message takes what stands behind a header.
func (r *Reader) message(h *header, message []byte) bool {
	switch {
	case bytes.HasPrefix(message, []byte("conn=")), bytes.HasPrefix(message, []byte("slapd starting")):
		return r.ldapLine(h, message, false)
	case h.program == "krb5kdc":
		r.mitLine(h, message)
		return true
	case h.program == "" || h.program == "kdc" || h.program == "samba" || h.program == "Kerberos":
		return r.heimdalLine(h, message)
	}
	return false
}

// bracketed reads [28/Nov/2026:22:48:01.608462367 +0000] message.
func (o *Options) bracketed(line []byte) (at time.Time, message []byte, ok bool) {
	end := bytes.Index(line[:min(len(line), 48)], []byte("] "))
	if end < 20 || line[3] != '/' {
		return at, nil, false
	}
	at, err := o.stamp(string(line[1:end]))
	return at, line[end+2:], err == nil
}
