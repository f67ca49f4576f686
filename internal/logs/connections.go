package logs

import (
	"bytes"
	"net/netip"
	"strconv"
	"strings"
	"time"
)

// Servers of LDAP say in one line who connects, in another who binds, and in a third
// what came of it; each names the connection, and lines of several stand mixed. The
// first may even stand after the others.

const (
	// mostConnections are remembered at a time; the oldest is forgotten first.
	mostConnections = 200_000
	// mostWaiting sign-ins wait for the line that says what came of them, or where
	// they came from.
	mostWaiting = 10_000
)

type connection struct {
	host   string
	number int64
}

// peer is who is at the other end of a connection.
type peer struct {
	address netip.Addr
	local   bool // over a socket of the machine itself
	known   bool
	closed  bool // what else comes of that number is of another connection
}

// bind is a sign-in that was tried.
type bind struct {
	connection
	op    int64
	name  string
	at    time.Time
	line  int
	event *Event // what came of it, where only the address is not known yet
}

// connections joins lines of LDAP servers.
type connections struct {
	peers   map[connection]peer
	order   []connection // as they came, to forget the oldest
	waiting map[connection][]*bind
	queue   []*bind
	open    int // sign-ins whose answer is not known yet
}

func newConnections() *connections {
	return &connections{peers: map[connection]peer{}, waiting: map[connection][]*bind{}}
}

// accept notes who is at the other end, and gives the events that have waited for that.
func (c *connections) accept(id connection, p peer, emit func(*Event)) {
	p.known = true
	if _, again := c.peers[id]; !again {
		if len(c.order) == mostConnections {
			delete(c.peers, c.order[0])
			c.order = c.order[1:]
		}
		c.order = append(c.order, id)
	}
	c.peers[id] = p
	var left []*bind
	for _, b := range c.waiting[id] {
		if b.event == nil {
			left = append(left, b)
			continue
		}
		p.put(b.event)
		emit(b.event)
		b.event = nil
		b.op = -1
	}
	c.set(id, left)
}

func (c *connections) set(id connection, left []*bind) {
	if len(left) == 0 {
		delete(c.waiting, id)
		return
	}
	c.waiting[id] = left
}

func (p peer) put(e *Event) {
	e.Address = p.address
	if p.local {
		e.Via = "LDAP, the server's own socket"
	}
}

// closed notes that a connection has ended. Its last lines may still come.
func (c *connections) closed(id connection) {
	if p, is := c.peers[id]; is {
		p.closed = true
		c.peers[id] = p
	}
}

// restart forgets all connections of a server, which begins to count anew.
func (c *connections) restart(host string) {
	for id := range c.peers {
		if id.host == host {
			c.closed(id)
		}
	}
}

// begin notes that somebody tries to sign in.
func (c *connections) begin(b *bind, emit func(*Event)) {
	if p := c.peers[b.connection]; p.closed { // the line that says from where is still to come
		c.peers[b.connection] = peer{}
	}
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
		c.forget(c.queue[0], emit)
		c.queue = c.queue[1:]
	}
}

// forget gives up waiting for a sign-in.
func (c *connections) forget(b *bind, emit func(*Event)) {
	all := c.waiting[b.connection]
	for i, one := range all {
		if one == b {
			if b.event != nil {
				emit(b.event)
			} else {
				c.open--
			}
			c.set(b.connection, append(all[:i:i], all[i+1:]...))
			return
		}
	}
}

// end makes an event of a sign-in of which a line says what came of it. It is nil where
// no sign-in of that connection waits.
func (c *connections) end(id connection, op int64, make func(*bind) *Event, emit func(*Event)) {
	all := c.waiting[id]
	for i, b := range all {
		if b.op != op || b.event != nil {
			continue
		}
		c.open--
		e := make(b)
		p := c.peers[id]
		switch {
		case e == nil:
		case p.known:
			p.put(e)
			emit(e)
		default:
			b.event = e // its address comes later, or never
			return
		}
		b.op = -1
		c.set(id, append(all[:i:i], all[i+1:]...))
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
	c.waiting, c.queue = map[connection][]*bind{}, nil
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
	for id, all := range c.waiting {
		var left []*bind
		for _, b := range all {
			if b.event != nil {
				left = append(left, b)
			}
		}
		c.set(id, left)
	}
	c.open = 0
}
