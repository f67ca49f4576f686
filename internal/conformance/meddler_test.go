package conformance

import (
	"bytes"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/realserver"
)

// meddler stands between the tool and a server, as load balancers and proxies
// do, and answers writes otherwise than the server does.
type meddler struct {
	url      string
	upstream func() (net.Conn, error)

	mu     sync.Mutex
	decide func(op ber.Tag) meddling
	slow   string // a search that holds this text takes slowness longer
}

const slowness = time.Second

// meddling is what is done about one write. The zero meddling is nothing.
type meddling struct {
	code   uint16 // is answered, whatever the server says
	answer bool   // code is answered, 0 too
	keep   bool   // the request is not passed on
}

// writes are the operations that change something (RFC 4511, section 4.1.1),
// passwords by an extended one among them.
var writes = map[ber.Tag]ber.Tag{ldap.ApplicationModifyRequest: ldap.ApplicationModifyResponse, ldap.ApplicationAddRequest: ldap.ApplicationAddResponse,
	ldap.ApplicationDelRequest: ldap.ApplicationDelResponse, ldap.ApplicationModifyDNRequest: ldap.ApplicationModifyDNResponse, ldap.ApplicationExtendedRequest: ldap.ApplicationExtendedResponse}

// meddle puts a meddler before the subject's server, by the way that its yard
// goes.
func (s *subject) meddle(t *testing.T) *meddler {
	t.Helper()
	m := &meddler{}
	network, address := "tcp", strings.TrimPrefix(s.yard.Servers[0], "ldap://")
	listen := "127.0.0.1:0"
	if socket, ok := strings.CutPrefix(s.yard.Servers[0], "ldapi://"); ok {
		network, address, listen = "unix", strings.ReplaceAll(socket, "%2F", "/"), filepath.Join(t.TempDir(), "s")
	}
	m.upstream = func() (net.Conn, error) { return net.Dial(network, address) }
	in, err := net.Listen(network, listen)
	require.NoError(t, err)
	direct := s.yard.Servers
	t.Cleanup(func() { in.Close(); s.yard.Servers = direct })
	m.url = "ldap://" + in.Addr().String()
	if network == "unix" {
		m.url = "ldapi://" + strings.ReplaceAll(listen, "/", "%2F")
	}
	go func() {
		for {
			conn, err := in.Accept()
			if err != nil {
				return
			}
			go m.serve(conn)
		}
	}()
	s.yard.Servers = []string{m.url}
	return m
}

func (m *meddler) set(decide func(op ber.Tag) meddling) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.decide = decide
}

// once meddles with the next write of a kind, and tells of it.
func (m *meddler) once(op ber.Tag, what meddling) (done func() bool) {
	var hit bool
	m.set(func(now ber.Tag) meddling {
		if now != op || hit {
			return meddling{}
		}
		hit = true
		return what
	})
	return func() bool {
		m.mu.Lock()
		defer m.mu.Unlock()
		return hit
	}
}

func (m *meddler) serve(client net.Conn) {
	defer client.Close()
	server, err := m.upstream()
	if err != nil {
		return
	}
	defer server.Close()
	var sending sync.Mutex
	answers := map[int64]uint16{} // message → the code that it is to get
	send := func(p *ber.Packet) error {
		sending.Lock()
		defer sending.Unlock()
		_, err := client.Write(p.Bytes())
		return err
	}
	go func() {
		defer client.Close()
		for {
			p, err := ber.ReadPacket(server)
			if err != nil {
				return
			}
			id := p.Children[0].Value.(int64)
			m.mu.Lock()
			code, changed := answers[id]
			m.mu.Unlock()
			if changed {
				p = result(id, p.Children[1].Tag, code)
			}
			if send(p) != nil {
				return
			}
		}
	}()
	for {
		p, err := ber.ReadPacket(client)
		if err != nil {
			return
		}
		id, op := p.Children[0].Value.(int64), p.Children[1].Tag
		if op == ldap.ApplicationSearchRequest {
			m.mu.Lock()
			slow := m.slow
			m.mu.Unlock()
			if slow != "" && bytes.Contains(p.Bytes(), []byte(slow)) {
				time.Sleep(slowness)
			}
		}
		var what meddling
		if response, write := writes[op]; write && !m.asks(p.Children[1]) {
			m.mu.Lock()
			if m.decide != nil {
				what = m.decide(op)
			}
			if what.answer && !what.keep {
				answers[id] = what.code
			}
			m.mu.Unlock()
			if what.keep {
				if send(result(id, response, what.code)) != nil {
					return
				}
				continue
			}
		}
		if _, err := server.Write(p.Bytes()); err != nil {
			return
		}
	}
}

// asks tells whether a write is the one that can only be refused, by which the tool
// finds out whether a server takes any: that of the top entry.
func (m *meddler) asks(op *ber.Packet) bool {
	return op.Tag == ldap.ApplicationModifyRequest && len(op.Children) > 0 && op.Children[0].Value == realserver.OpenLDAPBase
}

// result is an LDAPResult (RFC 4511, section 4.1.9).
func result(id int64, response ber.Tag, code uint16) *ber.Packet {
	p := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
	p.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, id, ""))
	op := ber.Encode(ber.ClassApplication, ber.TypeConstructed, response, nil, "")
	op.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, int64(code), ""))
	op.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, "", ""))
	op.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, "as a proxy says", ""))
	p.AppendChild(op)
	return p
}
