package conformance

import (
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// cutter stands between a client and a server, and cuts one connection once.
type cutter struct {
	at   atomic.Int64 // the request at which it cuts, counted down; none where it is below 0
	back atomic.Int64 // and how many octets of its answer it lets through
}

// before listens in front of a server and returns the URL of that place.
func (c *cutter) before(t *testing.T, url string) string {
	t.Helper()
	address, plain := strings.CutPrefix(url, "ldap://")
	require.True(t, plain, url)
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { ln.Close() })
	go func() {
		for {
			client, err := ln.Accept()
			if err != nil {
				return
			}
			server, err := net.Dial("tcp", address)
			if err != nil {
				client.Close()
				return
			}
			go c.pass(client, server)
		}
	}()
	return "ldap://" + ln.Addr().String()
}

// pass passes on what comes from both sides.
func (c *cutter) pass(client, server net.Conn) {
	var cut atomic.Bool
	closeBoth := func() { client.Close(); server.Close() }
	go func() {
		defer closeBoth()
		buf := make([]byte, 64<<10)
		for {
			n, err := server.Read(buf)
			if n > 0 && cut.Load() {
				_, _ = client.Write(buf[:min(n, int(c.back.Load()))])
				return
			}
			if _, wrong := client.Write(buf[:n]); err != nil || wrong != nil {
				return
			}
		}
	}()
	defer closeBoth()
	buf := make([]byte, 64<<10)
	for {
		n, err := client.Read(buf)
		if n > 0 && c.at.Add(-1) == 0 {
			cut.Store(true)
		}
		if _, wrong := server.Write(buf[:n]); err != nil || wrong != nil {
			if cut.Load() {
				_, _ = io.Copy(io.Discard, client)
			}
			return
		}
	}
}

// What is hidden is known to be hidden wherever a connection was lost meanwhile, and in
// whatever answer: nothing that was read in part is taken for all there is.
func TestWhatIsHiddenStaysHiddenWhereAConnectionIsLost(t *testing.T) {
	for _, subject := range []func(*testing.T) *subject{practiceSubject, slapdSubject, ns389Subject} {
		s := subject(t)
		t.Run(s.name, func(t *testing.T) {
			a := s.auditor(t)
			t.Cleanup(func() { a.free(t) })
			for _, name := range []string{"Ada Quill", "Bram Tern"} {
				s.person(t, a.keeper, name, strings.ToLower(name[:3]))
			}
			a.seeTop(t)
			a.deny(t, s.container("Staff"), true, "mail", "title")
			step := int64(1)
			if s.dialect == directory.NS389 { // it takes its time
				step = 3
			}
			var cut cutter
			a.yard.Servers = []string{cut.before(t, a.yard.Servers[0])}
			keep := func(c *source.Server, dir, name string) (*directory.Survey, error) {
				if _, err := source.Keep(t.Context(), c, source.Keeping{Dir: dir, Name: name, Now: time.Now}); err != nil {
					return nil, err
				}
				f, err := source.OpenKept(dir, name)
				if err != nil {
					return nil, err
				}
				return f.Survey(t.Context())
			}
			dir, surveys := t.TempDir(), 0
			for way, read := range map[string]func(*source.Server) (*directory.Survey, error){
				"read": func(c *source.Server) (*directory.Survey, error) { return c.Survey(t.Context()) },
				"kept": func(c *source.Server) (*directory.Survey, error) { return keep(c, t.TempDir(), "now") },
				"only what has changed is read": func(c *source.Server) (*directory.Survey, error) {
					surveys++
					return keep(c, dir, fmt.Sprint("survey", surveys))
				},
			} {
				hidden := func(at int64) map[string]string {
					cut.at.Store(0) // none
					c, err := source.Connect(t.Context(), source.Target{Yard: a.yard})
					require.NoError(t, err)
					defer c.Close()
					cut.at.Store(at)
					cut.back.Store(at % 2 * 9) // the beginning of an answer, or nothing
					survey, err := read(c)
					require.NoErrorf(t, err, "%s, cut at request %d", way, at)
					all := map[string]string{}
					for one := range survey.Accounts.All() {
						all[one.DN] = directory.AttrNames(slices.Collect(one.Hidden.All()))
					}
					return all
				}
				want := hidden(0)
				require.Contains(t, strings.Join(slices.Collect(maps.Values(want)), " "), "mail")
				for n := int64(1); ; n += step {
					got := hidden(n)
					if cut.at.Load() > 0 {
						assert.Greater(t, n, int64(5), "it was cut in all places")
						break
					}
					require.Equal(t, want, got, "%s, cut at request %d", way, n)
				}
			}
		})
	}
}
