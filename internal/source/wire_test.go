package source

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
)

// answer makes the messages of a search's answer.
func answer(id int64, code uint64, entries ...directory.Entry) []byte {
	var b bytes.Buffer
	message := func(op *ber.Packet) {
		m := ber.NewSequence("")
		m.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, id, ""))
		m.AppendChild(op)
		b.Write(m.Bytes())
	}
	octets := func(s string) *ber.Packet {
		return ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, s, "")
	}
	for _, e := range entries {
		op := ber.Encode(ber.ClassApplication, ber.TypeConstructed, ldap.ApplicationSearchResultEntry, nil, "")
		op.AppendChild(octets(e.DN))
		list := ber.NewSequence("")
		for _, a := range e.Attrs {
			one := ber.NewSequence("")
			one.AppendChild(octets(a.Name))
			set := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSet, nil, "")
			for _, v := range a.Values {
				set.AppendChild(octets(v))
			}
			one.AppendChild(set)
			list.AppendChild(one)
		}
		op.AppendChild(list)
		message(op)
	}
	op := ber.Encode(ber.ClassApplication, ber.TypeConstructed, ldap.ApplicationSearchResultDone, nil, "")
	op.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, code, ""))
	op.AppendChild(octets(""))
	op.AppendChild(octets("for a reason"))
	message(op)
	return b.Bytes()
}

// talk runs one search against a server that answers with what reply makes
// of the search's number, then reads on.
func talk(t *testing.T, patience time.Duration, reply func(id int64) []byte) ([]directory.Entry, error) {
	t.Helper()
	ours, theirs := net.Pipe()
	w := newWire(ours)
	conn := ldap.NewConn(w, false)
	conn.Start()
	t.Cleanup(func() { conn.Close() })
	go func() {
		in := bufio.NewReader(theirs)
		_, body, err := readMessage(in, new([]byte))
		if err != nil {
			return
		}
		id, _, _, _ := split(body)
		_, _ = theirs.Write(reply(id))
		_, _ = io.Copy(io.Discard, in)
	}()
	var got []directory.Entry
	_, err := w.search(context.Background(), ldap.NewSearchRequest("dc=x", 2, 0, 0, 0, false, "(cn=*)", nil, nil), patience, func(e *directory.Entry) error {
		got = append(got, *e)
		return nil
	})
	return got, err
}

func TestSearchReadsEntriesAsTheyAre(t *testing.T) {
	long := strings.Repeat("x", 70000)
	want := directory.Entry{DN: "cn=Ada,dc=x"}
	want.Set("cn", "Ada")
	want.Set("description", long, "", "\x00\xff")
	got, err := talk(t, time.Minute, func(id int64) []byte {
		sent := want.Clone()
		sent.Set("userPassword", "never")
		return answer(id, 0, sent, directory.Entry{DN: "dc=x"})
	})
	require.NoError(t, err)
	require.Len(t, got, 2)
	assert.Equal(t, want, got[0], "the secret is dropped")
}

func TestASearchThatEndsBadlySaysSo(t *testing.T) {
	_, err := talk(t, time.Minute, func(id int64) []byte {
		return answer(id, ldap.LDAPResultSizeLimitExceeded, directory.Entry{DN: "dc=x"})
	})
	assert.True(t, ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded))
	assert.False(t, Lost(err))

	_, err = talk(t, 50*time.Millisecond, func(int64) []byte { return nil })
	assert.True(t, Lost(err), "no answer: %v", err)

	for name, reply := range map[string]func(id int64) []byte{
		"half a message": func(id int64) []byte { a := answer(id, 0, directory.Entry{DN: "cn=Ada,dc=x"}); return a[:len(a)/3] },
		"no LDAP":        func(int64) []byte { return []byte("HTTP/1.1 400 Bad Request\r\n\r\n") },
		"a broken entry": func(id int64) []byte {
			a := answer(id, 0, directory.Entry{DN: "cn=Ada,dc=x"})
			a[len(a)/2] = 0x7f
			return a
		},
		"a giant": func(int64) []byte { return []byte{0x30, 0x84, 0xff, 0xff, 0xff, 0xff, 0, 0} },
	} {
		_, err = talk(t, 200*time.Millisecond, reply)
		assert.Error(t, err, name)
		assert.True(t, Lost(err), "%s: %v", name, err)
	}
}

func TestTakingNoMoreDoesNotBlockTheConnection(t *testing.T) {
	ours, theirs := net.Pipe()
	w := newWire(ours)
	conn := ldap.NewConn(w, false)
	conn.Start()
	defer conn.Close()
	many := make([]directory.Entry, 5000)
	for i := range many {
		many[i].DN = "cn=a,dc=x"
	}
	go func() {
		in := bufio.NewReader(theirs)
		for {
			_, body, err := readMessage(in, new([]byte))
			if err != nil {
				return
			}
			id, _, _, _ := split(body)
			_, _ = theirs.Write(answer(id, 0, many...))
		}
	}()
	enough := errors.New("enough")
	req := ldap.NewSearchRequest("dc=x", 2, 0, 0, 0, false, "(cn=*)", nil, nil)
	for range 3 {
		_, err := w.search(context.Background(), req, time.Minute, func(*directory.Entry) error { return enough })
		require.ErrorIs(t, err, enough)
	}
	n := 0
	_, err := w.search(context.Background(), req, time.Minute, func(*directory.Entry) error { n++; return nil })
	require.NoError(t, err)
	assert.Equal(t, len(many), n)
}

func FuzzMessage(f *testing.F) {
	e := directory.Entry{DN: "cn=Ada,dc=x"}
	e.Set("cn", "Ada", "A")
	f.Add(answer(7, 0, e))
	f.Add([]byte{0x30, 0x84, 0, 0, 0, 1, 2})
	f.Fuzz(func(t *testing.T, raw []byte) {
		in := bufio.NewReader(bytes.NewReader(raw))
		for {
			all, body, err := readMessage(in, new([]byte))
			if err != nil {
				return
			}
			if _, _, content, ok := split(body); ok {
				new(entryReader).read(content)
			}
			var r result
			_ = r.finish(all)
		}
	})
}

// Of many entries each stays what it was while others are read, however large they are.
func TestManyEntriesDoNotDisturbEachOther(t *testing.T) {
	want := make([]directory.Entry, 3000)
	for i := range want {
		e := &want[i]
		e.DN = fmt.Sprintf("cn=%d,dc=x", i)
		e.Set("cn", fmt.Sprint(i))
		e.Set("description", strings.Repeat(fmt.Sprint(i%10), i*7%(3*smallMessage)), "second")
		for k := range i % 40 {
			e.Set(fmt.Sprintf("attr%d", k), fmt.Sprint(k), fmt.Sprint(i))
		}
	}
	got, err := talk(t, time.Minute, func(id int64) []byte { return answer(id, 0, want...) })
	require.NoError(t, err)
	require.Equal(t, want, got)
}
