package source

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

// A hostile server binds and shows a root DSE as it should, and answers the
// search of everything with what a misbehaviour makes of it.

// misbehaviour writes the answer to the nth search of everything with a message
// number. What it returns false for ends the connection.
type misbehaviour func(n int, id int64, out net.Conn) bool

// packet makes a message of raw parts.
func packet(id int64, tag byte, parts ...[]byte) []byte {
	return sequence(0x30, integer(id), sequence(tag, parts...))
}

func sequence(tag byte, parts ...[]byte) []byte {
	body := bytes.Join(parts, nil)
	length := []byte{byte(len(body))}
	if len(body) > 127 {
		length = []byte{0x84, byte(len(body) >> 24), byte(len(body) >> 16), byte(len(body) >> 8), byte(len(body))}
	}
	return append(append([]byte{tag}, length...), body...)
}

func octets(s string) []byte { return sequence(0x04, []byte(s)) }

func integer(n int64) []byte { return ber.NewInteger(0, 0, 2, n, "").Bytes() }

func entryMessage(id int64, dn string, attrs ...string) []byte {
	var list []byte
	for i := 0; i < len(attrs); i += 2 {
		list = append(list, sequence(0x30, octets(attrs[i]), sequence(0x31, octets(attrs[i+1])))...)
	}
	return packet(id, 0x64, octets(dn), sequence(0x30, list))
}

// done ends a search with a code, and a cookie for the next page.
func done(id int64, code byte, cookie string) []byte {
	op := sequence(0x65, []byte{0x0a, 1, code}, octets(""), octets("for a reason"))
	if cookie == "" {
		return sequence(0x30, integer(id), op)
	}
	value := sequence(0x30, integer(0), octets(cookie))
	return sequence(0x30, integer(id), op, sequence(0xa0, sequence(0x30, octets(ldap.ControlTypePaging), octets(string(value)))))
}

func person(id int64, n int) []byte {
	return entryMessage(id, fmt.Sprintf("uid=p%d,dc=x", n), "objectClass", "inetOrgPerson", "uid", fmt.Sprint("p", n))
}

// allOfIt is an answer as it should be.
func allOfIt(id int64) []byte { return append(person(id, 1), done(id, 0, "")...) }

func sends(what ...func(id int64) []byte) misbehaviour {
	return func(_ int, id int64, out net.Conn) bool {
		for _, w := range what {
			if _, err := out.Write(w(id)); err != nil {
				return false
			}
		}
		return true
	}
}

// hostile serves one misbehaviour and returns a server that is connected to it
// and waits for it as a yard says; by itself, longer than a busy machine takes.
func hostile(t *testing.T, m misbehaviour, waits settings.Yard) *Server {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { ln.Close() })
	go func() {
		for {
			conn, err := ln.Accept()
			if err != nil {
				return
			}
			go serveHostile(conn, m)
		}
	}()
	password := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(password, []byte("secret\n"), 0o600))
	waits.Servers, waits.Base = []string{"ldap://" + ln.Addr().String()}, "dc=x"
	waits.Bind = settings.Bind{DN: "cn=reader", PasswordFile: password}
	s, err := Connect(context.Background(), Target{Yard: waits})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func serveHostile(conn net.Conn, m misbehaviour) {
	defer conn.Close()
	in := bufio.NewReader(conn)
	n := 0
	for {
		_, body, err := readMessage(in, new([]byte))
		if err != nil {
			return
		}
		id, op, content, _ := split(body)
		answer := done(id, 0, "")
		switch op {
		case 0x60: // bind
			answer = packet(id, 0x61, []byte{0x0a, 1, 0}, octets(""), octets(""))
		case 0x63: // search
			_, base, rest, _ := element(content)
			_, scope, _, _ := element(rest)
			switch {
			case len(base) == 0:
				answer = append(entryMessage(id, "", "namingContexts", "dc=x", "supportedControl", ldap.ControlTypePaging), answer...)
			case len(scope) == 1 && scope[0] != 0:
				if n++; !m(n, id, conn) {
					return
				}
				continue
			}
		case 0x42: // unbind
			return
		}
		if _, err := conn.Write(answer); err != nil {
			return
		}
	}
}

// TestChildrenThatAServerKeepsBackAreAskedForInPages: what is full, or refused, is no answer.
func TestChildrenThatAServerKeepsBackAreAskedForInPages(t *testing.T) {
	for what, first := range map[string][]func(int64) []byte{
		"a full page without a word": {func(id int64) []byte { return append(append(person(id, 1), person(id, 2)...), done(id, 0, "")...) }},
		"too many":                   {func(id int64) []byte { return append(person(id, 1), done(id, ldap.LDAPResultSizeLimitExceeded, "")...) }},
		"more than it looks through": {func(id int64) []byte { return done(id, ldap.LDAPResultAdminLimitExceeded, "") }},
	} {
		s := hostile(t, func(n int, id int64, out net.Conn) bool {
			if n == 1 {
				return sends(first...)(n, id, out)
			}
			return sends(func(id int64) []byte { return append(person(id, 1), person(id, 2)...) },
				func(id int64) []byte { return append(person(id, 3), done(id, 0, "")...) })(n, id, out)
		}, settings.Yard{})
		s.target.Yard.PageSize = 2
		children, err := s.Children(context.Background(), []string{"dc=x"})
		require.NoError(t, err, what)
		assert.Equal(t, map[string][]string{"dc=x": {"uid=p1,dc=x", "uid=p2,dc=x", "uid=p3,dc=x"}}, children, what)
	}
}

func TestHostileServers(t *testing.T) {
	if testing.Short() {
		t.Skip("too long for a short run")
	}
	forever := func(each func(n int, id int64) []byte) misbehaviour {
		return func(n int, id int64, out net.Conn) bool {
			_, err := out.Write(each(n, id))
			return err == nil
		}
	}
	for name, c := range map[string]struct {
		does misbehaviour
		err  string // "" where everything that can be told is read
		gaps directory.Gaps
	}{
		"nothing wrong": {sends(allOfIt), "", directory.Gaps{}},
		"no entries":    {sends(func(id int64) []byte { return done(id, 0, "") }), "shows no entries", directory.Gaps{}},
		"references alone": {sends(func(id int64) []byte {
			return append(packet(id, 0x73, octets("ldap://other/dc=x")), done(id, 0, "")...)
		}), "shows no entries", directory.Gaps{Referrals: 1}},
		"references beside entries": {sends(func(id int64) []byte { return packet(id, 0x73, octets("ldap://other/ou=a,dc=x")) }, allOfIt), "", directory.Gaps{Referrals: 1}},
		"a reference that is none":  {sends(func(id int64) []byte { return packet(id, 0x73) }, allOfIt), "", directory.Gaps{Referrals: 1}},
		"a result without a code":   {sends(func(id int64) []byte { return append(person(id, 1), packet(id, 0x65)...) }), "lost 3 times", directory.Gaps{}},
		"a result whose code is a text": {sends(func(id int64) []byte {
			return append(person(id, 1), packet(id, 0x65, octets("ok"), octets(""), octets(""))...)
		}), "lost 3 times", directory.Gaps{}},
		"entries outside the base":     {sends(func(id int64) []byte { return entryMessage(id, "uid=far,dc=y", "objectClass", "person") }, allOfIt), "", directory.Gaps{Outside: 1}},
		"an entry without a name":      {sends(func(id int64) []byte { return entryMessage(id, "", "objectClass", "person") }, allOfIt), "", directory.Gaps{Outside: 1}},
		"an entry whose name is none":  {sends(func(id int64) []byte { return entryMessage(id, "no name", "objectClass", "person") }, allOfIt), "", directory.Gaps{Outside: 1}},
		"one entry twice":              {sends(func(id int64) []byte { return person(id, 1) }, allOfIt), "", directory.Gaps{Twice: 1}},
		"empty pages for ever":         {forever(func(n int, id int64) []byte { return done(id, 0, fmt.Sprint("page", n)) }), "gives no entries: stopped after 100 empty pages", directory.Gaps{}},
		"empty pages under one cookie": {forever(func(_ int, id int64) []byte { return done(id, 0, "again") }), "gives no entries", directory.Gaps{}},
		"the same page for ever":       {forever(func(n int, id int64) []byte { return append(person(id, 1), done(id, 0, fmt.Sprint("page", n))...) }), "same entries again and again", directory.Gaps{}},
		"new pages for ever": {forever(func(n int, id int64) []byte {
			time.Sleep(time.Millisecond)
			return append(person(id, n), done(id, 0, fmt.Sprint("page", n))...)
		}), "read_within", directory.Gaps{}},
		"an entry now and then, for ever": {func(_ int, id int64, out net.Conn) bool {
			return trickle(out, func(n int) []byte { return person(id, n) })
		}, "read_within", directory.Gaps{}},
		"an octet now and then": {func(_ int, id int64, out net.Conn) bool {
			m := person(id, 1)
			return trickle(out, func(n int) []byte { return m[n%len(m) : n%len(m)+1] })
		}, "no answer within", directory.Gaps{}},
		"silence":                           {func(int, int64, net.Conn) bool { return true }, "no answer within", directory.Gaps{}},
		"silence behind an entry":           {sends(func(id int64) []byte { return person(id, 1) }), "no answer within", directory.Gaps{}},
		"the end behind an entry":           {func(_ int, id int64, out net.Conn) bool { _, _ = out.Write(person(id, 1)); return false }, "broke in the middle of a search", directory.Gaps{}},
		"the end in the middle of an entry": {func(_ int, id int64, out net.Conn) bool { _, _ = out.Write(person(id, 1)[:9]); return false }, "broke in the middle of a search", directory.Gaps{}},
		"a message of four gigabytes":       {sends(func(int64) []byte { return []byte{0x30, 0x84, 0xff, 0xff, 0xff, 0xff} }), "a message of", directory.Gaps{}},
		"a message of no stated length":     {sends(func(int64) []byte { return []byte{0x30, 0x80, 0, 0, 0, 0} }), "what is not LDAP", directory.Gaps{}},
		"another protocol":                  {sends(func(int64) []byte { return []byte("HTTP/1.1 400 Bad Request\r\n\r\n") }), "no answer within", directory.Gaps{}},
		"a notice that it ends the connection": {func(_ int, id int64, out net.Conn) bool {
			_, _ = out.Write(packet(0, 0x78, []byte{0x0a, 1, 52}, octets(""), octets("going\x1b[2J home")))
			return false
		}, "the server said: going", directory.Gaps{}},
		"a notice of something else":  {sends(func(int64) []byte { return packet(0, 0x78, []byte{0x0a, 1, 0}, octets(""), octets("tea is ready")) }, allOfIt), "", directory.Gaps{}},
		"an answer to somebody else":  {sends(func(id int64) []byte { return person(id+77, 9) }, allOfIt), "", directory.Gaps{}},
		"a bind's answer to a search": {sends(func(id int64) []byte { return packet(id, 0x61, []byte{0x0a, 1, 0}, octets(""), octets("")) }, allOfIt), "", directory.Gaps{}},
		"an entry that breaks off":    {sends(func(id int64) []byte { return packet(id, 0x64, octets("uid=a,dc=x"), []byte{0x30, 9, 1}) }, allOfIt), "lost 3 times", directory.Gaps{}},
		"a value that is longer than its entry": {sends(func(id int64) []byte {
			return packet(id, 0x64, octets("uid=a,dc=x"), sequence(0x30, sequence(0x30, octets("uid"), []byte{0x31, 3, 4, 99, 1})))
		}, allOfIt), "lost 3 times", directory.Gaps{}},
		"an attribute without values": {sends(func(id int64) []byte {
			return packet(id, 0x64, octets("uid=a,dc=x"), sequence(0x30, sequence(0x30, octets("uid"), sequence(0x31))))
		}, allOfIt), "", directory.Gaps{}},
		"one attribute twice": {sends(func(id int64) []byte {
			return entryMessage(id, "uid=a,dc=x", "objectClass", "person", "uid", "a", "uid", "b")
		}, allOfIt), "", directory.Gaps{}},
		"half a million values": {sends(func(id int64) []byte {
			return packet(id, 0x64, octets("uid=a,dc=x"), sequence(0x30, sequence(0x30, octets("uid"), sequence(0x31, bytes.Repeat(octets("v"), 500000)))))
		}, allOfIt), "", directory.Gaps{}},
		"ten thousand nested sets": {sends(func(id int64) []byte {
			return packet(id, 0x64, octets("uid=a,dc=x"), bytes.Repeat([]byte{0x30, 0x80}, 10000))
		}, allOfIt), "lost 3 times", directory.Gaps{}},
		"it sends us elsewhere": {sends(func(id int64) []byte { return done(id, 10, "") }), "Referral", directory.Gaps{}},
		"the limit of sizes":    {sends(func(id int64) []byte { return append(person(id, 1), done(id, 4, "")...) }), "gives only a part of its entries", directory.Gaps{}},
		"the limit of time":     {sends(func(id int64) []byte { return append(person(id, 1), done(id, 3, "")...) }), "gives only a part of its entries", directory.Gaps{}},
		"it is busy":            {sends(func(id int64) []byte { return done(id, 51, "") }), "Busy", directory.Gaps{}},
		"a control that cannot be read": {sends(func(id int64) []byte {
			return append(person(id, 1), sequence(0x30, integer(id), sequence(0x65, []byte{0x0a, 1, 0}, octets(""), octets("")), sequence(0xa0, sequence(0x30, octets(ldap.ControlTypePaging), octets("\x30\x09"))))...)
		}), "lost 3 times", directory.Gaps{}},
		"a cookie of a megabyte": {func(n int, id int64, out net.Conn) bool {
			_, err := out.Write(append(person(id, n), done(id, 0, map[bool]string{true: strings.Repeat("c", 1<<20)}[n == 1])...))
			return err == nil
		}, "", directory.Gaps{}},
		"a list in ranges that do not go on": {sends(func(id int64) []byte {
			return entryMessage(id, "cn=g,dc=x", "objectClass", "groupOfNames", "member;range=0-0", "uid=a,dc=x")
		}, allOfIt), "changed while it was read", directory.Gaps{}},
		"a list in ranges that cannot be": {sends(func(id int64) []byte {
			return entryMessage(id, "cn=g,dc=x", "objectClass", "groupOfNames", "member;range=0-x", "uid=a,dc=x")
		}, allOfIt), "cannot be read", directory.Gaps{}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var waits settings.Yard
			switch c.err { // what never comes is not waited for long
			case "no answer within":
				waits.Timeout = settings.Wait(2 * time.Second)
			case "read_within":
				waits.ReadWithin = settings.Wait(2 * time.Second)
			}
			s := hostile(t, c.does, waits)
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			began := time.Now()
			survey, err := s.Survey(context.Background())
			assert.Less(t, time.Since(began), time.Minute, "it ends")
			runtime.ReadMemStats(&after)
			assert.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(300<<20), "it takes no more than it must")
			if c.err == "" {
				require.NoError(t, err)
				assert.Positive(t, survey.Entries)
				assert.Equal(t, c.gaps, survey.Gaps)
				assert.Equal(t, c.gaps.Whole(), c.gaps == directory.Gaps{})
				return
			}
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.err)
			assert.NotContains(t, err.Error(), "\x1b")
			assert.NotContains(t, err.Error(), "\n")
		})
	}
}

// trickle sends something again and again, never long enough apart to be called
// silence.
func trickle(out net.Conn, next func(n int) []byte) bool {
	for n := 0; ; n++ {
		if _, err := out.Write(next(n)); err != nil {
			return false
		}
		time.Sleep(50 * time.Millisecond)
	}
}
