package source

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"
	"unsafe"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// wire is a connection that the protocol package works on, and from which
// the answers to searches are taken before it sees them: building a tree of
// objects for each value would cost more than all the rest of a survey.
// Searches of our own have message numbers that the package never reaches.
type wire struct {
	net.Conn
	in      *bufio.Reader
	rest    []byte // of a message that the protocol package is reading
	writing sync.Mutex

	mu       sync.Mutex
	next     int64
	waiting  map[int64]*waiter
	compiled map[string]*ber.Packet // filters, by their texts
	dead     error
	notice   string // what the server said unasked
}

// waiter is a search that waits for its answers.
type waiter struct {
	answers chan []message
	done    chan struct{} // closed when it waits no longer
}

// message is one LDAPMessage (RFC 4511, section 4.1.1), without its outer
// tag and length.
type message struct {
	op   byte // tag of the operation
	body []byte
	all  []byte // with its outer tag, and the controls behind the operation
}

const (
	firstOwnMessage = 1 << 30
	// maxMessage bounds what one message may take.
	maxMessage = 256 << 20
	// batchSize is how many messages are handed over at a time.
	batchSize = 64

	// A server sends each entry as it finds it. While many come, it is given some time
	// before more is read, since being woken for each costs both sides more than it holds.
	longStreak = 32
	lull       = 2 * time.Millisecond
	// smallMessage is what most take.
	smallMessage = 2 << 10

	tagEntry     = 0x64
	tagDone      = 0x65
	tagReference = 0x73
)

func newWire(conn net.Conn) *wire {
	return &wire{Conn: conn, in: bufio.NewReaderSize(conn, 1<<16), next: firstOwnMessage, waiting: map[int64]*waiter{}}
}

// Write sends one request; the protocol package and our own searches take
// turns.
func (w *wire) Write(p []byte) (int, error) {
	w.writing.Lock()
	defer w.writing.Unlock()
	return w.Conn.Write(p)
}

// Read gives the protocol package the messages that are not ours.
func (w *wire) Read(p []byte) (int, error) {
	for len(w.rest) == 0 {
		all, err := w.pass()
		if err != nil {
			w.fail(err)
			return 0, err
		}
		w.rest = all
	}
	n := copy(p, w.rest)
	w.rest = w.rest[n:]
	return n, nil
}

// pass reads messages and hands over those that are answers to our searches,
// some at a time, until one comes that is not; that one it returns.
func (w *wire) pass() ([]byte, error) {
	var batch []message
	var to *waiter
	flush := func() {
		if len(batch) > 0 {
			select {
			case to.answers <- batch:
			case <-to.done:
			}
			batch = nil
		}
	}
	defer flush()
	streak := 0     // entries that came one after the other
	var side []byte // where small ones of a long streak stand side by side
	for {
		drained := w.in.Buffered() < 6
		if len(batch) >= batchSize || len(batch) > 0 && drained {
			flush()
		}
		if drained && streak >= longStreak {
			time.Sleep(lull)
		}
		if streak < longStreak {
			side = nil
		} else if cap(side)-len(side) < smallMessage {
			side = make([]byte, 0, 16*smallMessage)
		}
		all, body, err := readMessage(w.in, &side)
		if err != nil {
			return nil, err
		}
		id, op, content, ok := split(body)
		w.mu.Lock()
		owner := w.waiting[id]
		w.mu.Unlock()
		if ok && id == 0 { // an unsolicited notification (RFC 4511, section 4.4)
			w.hear(content)
			continue
		}
		if !ok || owner == nil {
			return all, nil
		}
		if to != owner {
			flush()
			to = owner
		}
		batch = append(batch, message{op: op, body: content, all: all})
		if streak++; op != tagEntry {
			streak = 0
		}
	}
}

// hear takes down what the server says unasked, which is mostly why it ends
// the connection.
func (w *wire) hear(notice []byte) {
	_, _, rest, _ := element(notice) // its code
	_, _, rest, _ = element(rest)    // the name that it matched
	if _, words, _, ok := element(rest); ok {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.notice = directory.OneLine(string(words))
	}
}

// said is what the server said unasked, to stand behind an error.
func (w *wire) said() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.notice == "" {
		return ""
	}
	return " (the server said: " + w.notice + ")"
}

// fail ends all searches, since nothing more will be read.
func (w *wire) fail(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.dead = err
	for id, one := range w.waiting {
		close(one.answers)
		delete(w.waiting, id)
	}
}

var errNotLDAP = errors.New("the server sends what is not LDAP")

// readMessage reads one BER element whole, into memory of its own where there is no room
// for it in that given.
func readMessage(in *bufio.Reader, room *[]byte) (all, body []byte, err error) {
	head, err := in.Peek(2)
	if err != nil {
		return nil, nil, err
	}
	size, length := int(head[1]), 2
	if head[1] >= 0x80 {
		n := int(head[1] & 0x7f)
		if n == 0 || n > 4 {
			return nil, nil, errNotLDAP
		}
		length += n
		if head, err = in.Peek(length); err != nil {
			return nil, nil, err
		}
		size = 0
		for _, b := range head[2:length] {
			size = size<<8 | int(b)
		}
	}
	if size > maxMessage {
		return nil, nil, fmt.Errorf("the server sends a message of %d MiB", size>>20)
	}
	if all = (*room)[len(*room):cap(*room)]; len(all) >= length+size {
		all = all[: length+size : length+size]
		*room = (*room)[:len(*room)+len(all)]
	} else {
		all = make([]byte, length+size)
	}
	if _, err := io.ReadFull(in, all); err != nil {
		return nil, nil, err
	}
	return all, all[length:], nil
}

// element cuts the first BER element off.
func element(b []byte) (tag byte, content, rest []byte, ok bool) {
	if len(b) < 2 {
		return 0, nil, nil, false
	}
	size, at := int(b[1]), 2
	if b[1] >= 0x80 {
		n := int(b[1] & 0x7f)
		if n == 0 || n > 4 || len(b) < 2+n {
			return 0, nil, nil, false
		}
		size = 0
		for _, c := range b[2 : 2+n] {
			size = size<<8 | int(c)
		}
		at += n
	}
	if size > len(b)-at {
		return 0, nil, nil, false
	}
	return b[0], b[at : at+size], b[at+size:], true
}

// split reads the number of a message and the tag and content of its
// operation.
func split(body []byte) (id int64, op byte, content []byte, ok bool) {
	tag, number, rest, ok := element(body)
	if !ok || tag != 0x02 || len(number) > 8 {
		return 0, 0, nil, false
	}
	for _, b := range number {
		id = id<<8 | int64(b)
	}
	op, content, _, ok = element(rest)
	return id, op, content, ok
}

// entryReader reads entries of one search. What they hold stands side by side, so that an
// entry costs no allocation of its own.
type entryReader struct {
	attrs  []directory.Attribute // of the entry that is read
	values []string
	roomA  []directory.Attribute // of all
	roomV  []string
}

// read reads a SearchResultEntry (RFC 4511, section 4.5.2). The entry's strings are the
// message itself, which nobody changes. Values of secret attributes are dropped.
func (r *entryReader) read(body []byte) (directory.Entry, bool) {
	_, dn, rest, ok := element(body)
	_, list, _, ok2 := element(rest)
	e := directory.Entry{DN: text(dn)}
	if !ok || !ok2 {
		return e, false
	}
	r.attrs, r.values = r.attrs[:0], r.values[:0]
	for len(list) > 0 {
		var one []byte
		if _, one, list, ok = element(list); !ok {
			return e, false
		}
		_, name, set, ok := element(one)
		_, set, _, ok2 := element(set)
		if !ok || !ok2 {
			return e, false
		}
		start := len(r.values)
		for len(set) > 0 {
			var v []byte
			if _, v, set, ok = element(set); !ok {
				return e, false
			}
			r.values = append(r.values, text(v))
		}
		a := directory.Attribute{Name: text(name), Values: r.values[start:]}
		if directory.IsSecret(a.Name) {
			r.values = r.values[:start]
			continue
		}
		a.ID = directory.LookupAttr(a.Name)
		r.attrs = append(r.attrs, a)
	}
	values := keep(&r.roomV, r.values)
	e.Attrs = keep(&r.roomA, r.attrs)
	for i := range e.Attrs {
		n := len(e.Attrs[i].Values)
		e.Attrs[i].Values, values = values[:n:n], values[n:]
	}
	return e, true
}

// keep copies some behind all that is kept in a room, which is never moved. Whoever keeps
// one thing of a room keeps all of it: those of short answers are small.
func keep[T any](room *[]T, some []T) []T {
	const least, most = 16, 512
	if cap(*room)-len(*room) < len(some) {
		*room = make([]T, 0, max(least, min(2*cap(*room), most), len(some)))
	}
	at := len(*room)
	*room = append(*room, some...)
	return (*room)[at:len(*room):len(*room)]
}

// text takes octets that are never written again for a string.
func text(b []byte) string { return unsafe.String(unsafe.SliceData(b), len(b)) }

// result is what the last message of a search says.
type result struct {
	references []string // where more is to be found, of each reference the first place
	cookie     []byte
}

// search sends one request and hands its entries over as they come.
func (w *wire) search(
	ctx context.Context, req *ldap.SearchRequest, patience time.Duration, take func(*directory.Entry) error,
) (result, error) {
	var out result
	var entries entryReader
	last, err := w.exchange(ctx, req, patience, func(m *message) error {
		switch m.op {
		case tagEntry:
			e, ok := entries.read(m.body)
			if !ok {
				w.Close()
				return lostError{errors.New("the server sends an entry that cannot be read")}
			}
			return take(&e)
		case tagReference:
			_, first, _, _ := element(m.body)
			out.references = append(out.references, string(first))
		}
		return nil
	})
	if err != nil {
		return out, err
	}
	return out, out.finish(last.all)
}

// exchange sends one request, hands over what comes, and returns the last message.
func (w *wire) exchange(
	ctx context.Context, req *ldap.SearchRequest, patience time.Duration, take func(*message) error,
) (last *message, err error) {
	filter, err := w.compile(req.Filter)
	if err != nil {
		return nil, err
	}
	me := &waiter{answers: make(chan []message, 8), done: make(chan struct{})}
	w.mu.Lock()
	if w.dead != nil {
		w.mu.Unlock()
		return nil, lostError{fmt.Errorf("the connection is gone: %w", w.dead)}
	}
	w.next++
	id := w.next
	w.waiting[id] = me
	w.mu.Unlock()
	defer func() {
		close(me.done)
		w.mu.Lock()
		delete(w.waiting, id)
		w.mu.Unlock()
	}()
	if _, err := w.Write(searchMessage(id, req, filter).Bytes()); err != nil {
		return nil, lostError{err}
	}
	timer := time.NewTimer(patience)
	defer timer.Stop()
	for {
		var batch []message
		var open bool
		select {
		case batch, open = <-me.answers:
		case <-timer.C:
			w.Close()
			return nil, lostError{fmt.Errorf("no answer within %s", patience)}
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
		if !open {
			return nil, lostError{fmt.Errorf("the connection broke in the middle of a search: %w%s", w.dead, w.said())}
		}
		timer.Reset(patience)
		for i := range batch {
			if batch[i].op == tagDone {
				return &batch[i], nil
			}
			if err := take(&batch[i]); err != nil {
				return nil, err
			}
		}
	}
}

// mostCompiled is how many filters are remembered.
const mostCompiled = 16

// compile encodes a filter (RFC 4511, section 4.5.1.7). Some are remembered, since the same
// long one may be asked of one entry after the other.
func (w *wire) compile(filter string) (*ber.Packet, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if known := w.compiled[filter]; known != nil {
		return known, nil
	}
	packet, err := ldap.CompileFilter(filter)
	if err != nil {
		return nil, err
	}
	if w.compiled == nil || len(w.compiled) >= mostCompiled {
		w.compiled = map[string]*ber.Packet{}
	}
	w.compiled[filter] = packet
	return packet, nil
}

// finish reads the result code and the paging control of the last message.
func (r *result) finish(all []byte) error {
	packet, err := ber.DecodePacketErr(all)
	if err != nil {
		return lostError{err}
	}
	if err := ldap.GetLDAPError(packet); err != nil {
		return err
	}
	paging, err := controlIn[*ldap.ControlPaging](packet)
	if err != nil {
		return lostError{err}
	}
	if paging != nil {
		r.cookie = paging.Cookie
	}
	return nil
}

// controlIn returns the control of a type that a message holds, nil where it holds none.
func controlIn[C ldap.Control](packet *ber.Packet) (found C, err error) {
	if len(packet.Children) < 3 {
		return found, nil
	}
	for _, child := range packet.Children[2].Children {
		control, err := ldap.DecodeControl(child)
		if err != nil {
			return found, fmt.Errorf("a control cannot be read: %w", err)
		}
		if one, ok := control.(C); ok {
			found = one
		}
	}
	return found, nil
}

// searchMessage is a SearchRequest (RFC 4511, section 4.5.1).
func searchMessage(id int64, req *ldap.SearchRequest, filter *ber.Packet) *ber.Packet {
	m := ber.NewSequence("LDAPMessage")
	m.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, id, ""))
	op := ber.Encode(ber.ClassApplication, ber.TypeConstructed, ldap.ApplicationSearchRequest, nil, "")
	octets := func(s string) *ber.Packet {
		return ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, s, "")
	}
	op.AppendChild(octets(req.BaseDN))
	for _, n := range []int{req.Scope, req.DerefAliases} {
		op.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, uint64(n), ""))
	}
	for _, n := range []int{req.SizeLimit, req.TimeLimit} {
		op.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, uint64(n), ""))
	}
	op.AppendChild(ber.NewBoolean(ber.ClassUniversal, ber.TypePrimitive, ber.TagBoolean, req.TypesOnly, ""))
	op.AppendChild(filter)
	attributes := ber.NewSequence("")
	for _, a := range req.Attributes {
		attributes.AppendChild(octets(a))
	}
	op.AppendChild(attributes)
	m.AppendChild(op)
	if len(req.Controls) > 0 {
		controls := ber.Encode(ber.ClassContext, ber.TypeConstructed, 0, nil, "")
		for _, c := range req.Controls {
			controls.AppendChild(c.Encode())
		}
		m.AppendChild(controls)
	}
	return m
}
