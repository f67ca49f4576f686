package logs

import (
	"bytes"
	"cmp"
	"hash/maphash"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Servers of LDAP say in one line who connects, in another who binds, and in a third
// what came of it; each names the connection, and lines of several stand mixed. The
// first may even stand after the others. So the beginnings and ends of connections are
// looked for first, a table for each block of the log, and each sign-in finds its own
// there, by its place.

const (
	// mostConnections are remembered at a time; the oldest are forgotten first.
	mostConnections = 400_000
	// mostWaiting sign-ins wait for the line that says what came of them, or where
	// they came from.
	mostWaiting = 10_000
)

// connection is its number at a server, which counts them anew each time it is started.
type connection struct {
	host   uint64 // the hash of its name
	number int64
}

var hostSeed = maphash.MakeSeed()

func hostKey[T []byte | string](name T) uint64 { return maphash.String(hostSeed, string(name)) }

// place is where in a log something stands: in which of its blocks, and where there.
type place struct{ block, at int }

// turn is the beginning of a connection.
type turn struct {
	connection
	at      int32
	here    bool // over a socket of the machine itself
	address [16]byte
}

// turnsOf finds the beginnings of connections in a block, in the order of the
// connections.
func turnsOf(text []byte) []turn {
	all := turnsBy(text, []byte("ACCEPT from "), nil) // of slapd
	if bytes.Contains(text[:min(len(text), 1<<16)], []byte(" slot=")) {
		all = turnsBy(text, []byte("slot="), all) // of a 389 Directory Server
	}
	slices.SortFunc(all, func(a, b turn) int {
		return cmp.Or(cmp.Compare(a.host, b.host), cmp.Compare(a.number, b.number), cmp.Compare(a.at, b.at))
	})
	return all
}

// mostBegun octets say where a connection comes from.
const mostBegun = 120

// turnsBy finds those that are told by a word. The search is as fast as the first letter
// of that is rare.
func turnsBy(text, word []byte, all []turn) []turn {
	for from := 0; ; {
		i := bytes.Index(text[from:], word)
		if i < 0 {
			return all
		}
		i += from
		from = i + len(word)
		if one, is := readTurn(text[:i], text[from:min(len(text), from+mostBegun)]); is {
			all = append(all, one)
		}
	}
}

// readTurn reads a line that says where a connection comes from: what stands behind its
// word, and all before it.
// conn=7 fd=12 ACCEPT from IP=127.0.0.1:41234 (IP=0.0.0.0:389), fd=12 ACCEPT from
// PATH=/run/ldapi, fd=64 slot=64 connection from 10.0.0.1 to 10.0.0.2.
func readTurn(before, rest []byte) (t turn, is bool) {
	if from, is := bytes.CutPrefix(rest, []byte("IP=")); is {
		rest, _, _ = bytes.Cut(from, []byte(" "))
		rest = rest[:max(0, bytes.LastIndexByte(rest, ':'))]
	} else if bytes.HasPrefix(rest, []byte("PATH=")) {
		t.here = true
	} else {
		_, rest, _ = digits(rest)
		rest = bytes.TrimPrefix(bytes.TrimPrefix(rest, []byte(" ")), []byte("SSL "))
		if rest, is = bytes.CutPrefix(rest, []byte("connection from ")); !is {
			return t, false
		}
		rest, _, _ = bytes.Cut(rest, []byte(" "))
		t.here = bytes.Equal(rest, []byte("local"))
	}
	if !t.here {
		a := address(string(rest))
		if !a.IsValid() {
			return t, false
		}
		t.address = a.As16()
	}
	t.connection, t.at, is = connectionBefore(before)
	return t, is
}

// mostBetween octets stand between the number of a connection and what is said of it.
const mostBetween = 64

// connectionBefore reads the number of a connection near the end of a text, and where it
// stands.
func connectionBefore(text []byte) (id connection, at int32, is bool) {
	tail := text[max(0, len(text)-mostBetween):]
	from := bytes.LastIndex(tail, []byte("conn="))
	if from < 0 {
		return id, 0, false
	}
	if id.number, _, is = digits(tail[from+5:]); !is {
		return id, 0, false
	}
	from += len(text) - len(tail)
	id.host = hostKey(hostBefore(text[:from]))
	return id, int32(from), true
}

// hostBefore is the name of the server in what stands before a message in its line, as
// header does: "" where there is none.
func hostBefore(text []byte) []byte {
	if bytes.HasSuffix(text, []byte("- ")) || bytes.HasSuffix(text, []byte("] ")) { // as in RFC 5424
		line := text[bytes.LastIndexByte(text, '\n')+1:]
		if line[0] == '[' {
			return nil // a time only
		}
		h, _, _ := (&Options{}).readHeader(line)
		return []byte(h.host)
	}
	head, is := bytes.CutSuffix(text, []byte(": "))
	if !is {
		return nil
	}
	program := bytes.LastIndexByte(head, ' ')
	if program < 0 {
		return nil
	}
	host := head[bytes.LastIndexByte(head[:program], ' ')+1 : program]
	if bytes.IndexByte(host, '\n') >= 0 {
		return nil
	}
	return host
}

// table are the turns in one block.
type table struct {
	block int
	turns []turn
}

// of are the turns of a connection, in their order.
func (t *table) of(id connection) []turn {
	compare := func(one turn, id connection) int {
		return cmp.Or(cmp.Compare(one.host, id.host), cmp.Compare(one.number, id.number))
	}
	from, is := slices.BinarySearchFunc(t.turns, id, compare)
	if !is {
		return nil
	}
	to := from
	for to < len(t.turns) && t.turns[to].connection == id {
		to++
	}
	return t.turns[from:to]
}

// bindsFrom are the offsets of lines of sign-ins over connections from some addresses, or
// over such as began in an earlier block.
func (t *table) bindsFrom(text []byte, from map[netip.Addr]bool) []int {
	var all []int
	for at := 0; ; {
		i := bytes.Index(text[at:], []byte("BIND dn="))
		if i < 0 {
			return all
		}
		i += at
		at = i + 8
		line := text[at:]
		if stop := bytes.IndexByte(line, '\n'); stop >= 0 {
			line = line[:stop]
		}
		if at += len(line); bytes.Contains(line, []byte(" mech=SIMPLE ")) {
			continue // which follows a line with the same name
		}
		id, start, is := connectionBefore(text[:i])
		if !is {
			continue
		}
		turns := t.of(id)
		if len(turns) == 0 || slices.ContainsFunc(turns, func(one turn) bool { return from[netip.AddrFrom16(one.address).Unmap()] }) {
			all = append(all, int(start))
		}
	}
}

// bind is a sign-in that was tried.
type bind struct {
	connection
	place
	op    int64
	name  string
	at    time.Time
	line  int
	event *Event // what came of it, where only the address is not known yet
}

// connections joins lines of LDAP servers.
type connections struct {
	tables  []table // the oldest first
	turns   int     // in all of them
	waiting map[connection][]*bind
	queue   []*bind
	open    int // sign-ins whose answer is not known yet
}

func newConnections() *connections { return &connections{waiting: map[connection][]*bind{}} }

// next takes the turns of the next block. What has waited for them is given, with an
// address or without.
func (c *connections) next(block int, turns []turn, emit func(*Event)) {
	if len(turns) > 0 {
		c.tables = append(c.tables, table{block, turns})
		c.turns += len(turns)
	}
	for len(c.tables) > 1 && c.turns > mostConnections {
		c.turns -= len(c.tables[0].turns)
		c.tables = c.tables[1:]
	}
	for _, b := range c.queue {
		if b.event != nil {
			c.locate(b)
			c.emit(b, emit)
		}
	}
	c.queue = slices.DeleteFunc(c.queue, func(b *bind) bool { return b.op == done })
}

// locate puts the address of its connection into the event of a sign-in: the last
// beginning before it, or, where none is told, the first behind it. Where a server was
// started in between, both may be there: then nobody can tell.
func (c *connections) locate(b *bind) bool {
	before, behind := c.around(b)
	switch {
	case before != nil && behind != nil:
		return true
	case before != nil:
		return before.put(b.event)
	case behind != nil:
		return behind.put(b.event)
	}
	return false
}

// around are the last beginning of its connection before a sign-in, and the first soon
// behind it.
func (c *connections) around(b *bind) (before, behind *turn) {
	for i := len(c.tables) - 1; i >= 0; i-- {
		t := &c.tables[i]
		all := t.of(b.connection)
		for k := len(all) - 1; k >= 0; k-- {
			one := &all[k]
			if t.block < b.block || t.block == b.block && int(one.at) <= b.place.at {
				return one, behind
			}
			if t.block > b.block || int(one.at)-b.place.at < soon {
				behind = one
			}
		}
	}
	return nil, behind
}

// soon is within how many octets lines stand that were written at the same time.
const soon = 1 << 14

func (t turn) put(e *Event) bool {
	if t.here {
		e.Via = "LDAP, the server's own socket"
		return true
	}
	e.Address = netip.AddrFrom16(t.address).Unmap()
	return true
}

// done is the operation of a sign-in that was given.
const done = -1

func (c *connections) emit(b *bind, emit func(*Event)) {
	emit(b.event)
	b.event, b.op = nil, done
	c.remove(b)
}

func (c *connections) remove(b *bind) {
	left := slices.DeleteFunc(c.waiting[b.connection], func(one *bind) bool { return one == b })
	if len(left) == 0 {
		delete(c.waiting, b.connection)
		return
	}
	c.waiting[b.connection] = left
}

// begin notes that somebody tries to sign in.
func (c *connections) begin(b *bind, emit func(*Event)) {
	for _, other := range c.waiting[b.connection] {
		if other.op == b.op && other.event == nil { // a second line of the same
			other.name, other.at = b.name, b.at
			return
		}
	}
	c.waiting[b.connection] = append(c.waiting[b.connection], b)
	c.queue = append(c.queue, b)
	c.open++
	for len(c.queue) > mostWaiting {
		if oldest := c.queue[0]; oldest.event != nil {
			c.emit(oldest, emit)
		} else if oldest.op != done {
			c.open--
			c.remove(oldest)
		}
		c.queue = c.queue[1:]
	}
}

// end makes an event of a sign-in of which a line says what came of it.
func (c *connections) end(id connection, op int64, make func(*bind) *Event, emit func(*Event)) {
	for _, b := range c.waiting[id] {
		if b.op != op || b.event != nil {
			continue
		}
		c.open--
		if b.event = make(b); b.event == nil {
			b.op = done
			c.remove(b)
		} else if c.locate(b) {
			c.emit(b, emit)
		}
		return
	}
}

// flush gives what still waits for an address that no line of the log tells.
func (c *connections) flush(emit func(*Event)) {
	for _, b := range c.queue {
		if b.event != nil {
			emit(b.event)
			b.event = nil
		}
	}
	c.waiting, c.queue, c.open = map[connection][]*bind{}, nil, 0
}

// numbered cuts "conn=12 op=3 " or "conn=12 fd=3 " off a message. op is -1 where none
// stands.
func numbered(message []byte) (conn, op int64, rest []byte, ok bool) {
	rest, ok = bytes.CutPrefix(message, []byte("conn="))
	if !ok {
		return 0, 0, nil, false
	}
	if conn, rest, ok = digits(rest); !ok {
		return 0, 0, nil, false
	}
	op = -1
	if more, is := bytes.CutPrefix(rest, []byte(" op=")); is {
		if n, after, isNumber := digits(more); isNumber {
			op, rest = n, after
		} else if after, is := bytes.CutPrefix(more, []byte("-1")); is {
			rest = after
		}
	}
	return conn, op, bytes.TrimPrefix(rest, []byte(" ")), true
}

func digits(b []byte) (n int64, rest []byte, ok bool) {
	i := 0
	for i < len(b) && i < 18 && b[i] >= '0' && b[i] <= '9' {
		n = n*10 + int64(b[i]-'0')
		i++
	}
	return n, b[i:], i > 0
}

// quoted returns what stands in quotes after a key: dn="…". A quote in a value is
// written as \22 or as \".
func quoted(b []byte, key string) (string, bool) {
	_, rest, found := bytes.Cut(b, []byte(key+`="`))
	if !found {
		return "", false
	}
	for i := 0; i < len(rest); i++ {
		switch rest[i] {
		case '\\':
			i++
		case '"':
			return unhex(string(rest[:i])), true
		}
	}
	return "", false
}

// unhex reads the octets that a server wrote as \c3\a9, but not those that a name needs
// so (RFC 4514).
func unhex(name string) string {
	if !strings.Contains(name, `\`) {
		return name
	}
	var out strings.Builder
	for i := 0; i < len(name); i++ {
		if name[i] == '\\' && i+2 < len(name) {
			if n, err := strconv.ParseUint(name[i+1:i+3], 16, 8); err == nil && n >= 0x80 {
				out.WriteByte(byte(n))
				i += 2
				continue
			}
		}
		out.WriteByte(name[i])
	}
	return out.String()
}

// value returns what stands after a key up to the next blank: err=49.
func value(b []byte, key string) (string, bool) {
	_, rest, found := bytes.Cut(b, []byte(key+"="))
	if !found {
		return "", false
	}
	v, _, _ := bytes.Cut(rest, []byte(" "))
	return string(v), true
}

// unanswered tells whether a sign-in waits for the line that says what came of it.
func (c *connections) unanswered() bool { return c.open > 0 }

// giveUp waits no longer for answers.
func (c *connections) giveUp() {
	for _, b := range c.queue {
		if b.event == nil && b.op != done {
			b.op = done
			c.remove(b)
		}
	}
	c.queue = slices.DeleteFunc(c.queue, func(b *bind) bool { return b.op == done })
	c.open = 0
}
