package logs

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const syslogHead = "2026-11-03T08:00:01Z ldap1 slapd[1]: "

func accepted(conn int) string {
	return fmt.Sprintf("%sconn=%d fd=9 ACCEPT from IP=10.0.0.%d:5000 (IP=0.0.0.0:389)\n", syslogHead, conn, conn)
}

func refused(conn int, who string) string {
	return fmt.Sprintf("%sconn=%d op=0 BIND dn=\"uid=%s,dc=x\" method=128\n%sconn=%d op=0 RESULT tag=97 err=49 text=\n", syslogHead, conn, who, syslogHead, conn)
}

func gzipped(text string) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = z.Write([]byte(text))
	_ = z.Close()
	return b.Bytes()
}

func zstandard(text string) []byte {
	z, _ := zstd.NewWriter(nil)
	return z.EncodeAll([]byte(text), nil)
}

// put writes a file that was last written to so many hours ago.
func put(t *testing.T, path string, text []byte, hours int) {
	t.Helper()
	require.NoError(t, os.WriteFile(path, text, 0o600))
	at := written.Add(-time.Duration(hours) * time.Hour)
	require.NoError(t, os.Chtimes(path, at, at))
}

// short is whom an event is about, and from where.
func short(e *Event) string { return e.Name + " " + e.Address.String() }

// What one file of a series begins, the next one ends: they are read in the order in
// which they were written, whatever they are compressed with and called.
func TestRotatedLogsAreReadInOrder(t *testing.T) {
	dir := t.TempDir()
	put(t, filepath.Join(dir, "slapd.log.2.zst"), zstandard(accepted(1)), 48)
	put(t, filepath.Join(dir, "slapd.log.1.gz"), gzipped(refused(1, "ada")+accepted(2)), 24)
	put(t, filepath.Join(dir, "slapd.log"), []byte(refused(2, "bo")), 0)
	put(t, filepath.Join(dir, "other.log"), []byte(refused(1, "cy")), 12)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "folder"), 0o700))
	for name, c := range map[string]struct {
		path string
		want []string
	}{
		"a folder":  {dir, []string{"uid=cy,dc=x invalid IP", "uid=ada,dc=x 10.0.0.1", "uid=bo,dc=x 10.0.0.2"}},
		"a pattern": {filepath.Join(dir, "slapd.log*"), []string{"uid=ada,dc=x 10.0.0.1", "uid=bo,dc=x 10.0.0.2"}},
		"a file":    {filepath.Join(dir, "slapd.log"), []string{"uid=bo,dc=x invalid IP"}},
	} {
		t.Run(name, func(t *testing.T) {
			var got []string
			g := &Reading{Logs: []*Log{{Path: c.path}}, Take: func(e *Event) error { got = append(got, short(e)); return nil }}
			reports, err := g.All(t.Context())
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
			for _, r := range reports {
				assert.NoError(t, r.Error, r.Name)
			}
		})
	}
}

func TestLogsThatCannotBeRead(t *testing.T) {
	dir := t.TempDir()
	put(t, filepath.Join(dir, "cut.gz"), gzipped(strings.Repeat(refused(1, "ada"), 1000))[:60], 0)
	put(t, filepath.Join(dir, "events.evtx"), []byte("ElfFile\x00"), 0)
	put(t, filepath.Join(dir, "good.log"), []byte(refused(1, "ada")), 0)
	var got []string
	g := &Reading{Logs: []*Log{{Path: filepath.Join(dir, "none.log")}, {Path: dir}}, Take: func(e *Event) error { got = append(got, short(e)); return nil }}
	reports, err := g.All(t.Context())
	require.NoError(t, err)
	var said []string
	for _, r := range reports {
		if r.Error != nil {
			said = append(said, filepath.Base(r.Name)+": "+r.Error.Error())
		}
	}
	assert.Equal(t, []string{"none.log: there is no such file", "cut.gz: unexpected EOF", "events.evtx: " + ErrBinary.Error()}, said)
	assert.Equal(t, []string{"uid=ada,dc=x invalid IP"}, got)
}

// A log that is followed gives what is added to it, whole line by whole line, also
// behind a rotation.
func TestFollow(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "slapd.log")
	put(t, path, []byte(accepted(1)+refused(1, "ada")+accepted(2)), 0)
	add := func(text string) {
		f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
		require.NoError(t, err)
		_, err = f.WriteString(text)
		require.NoError(t, err)
		require.NoError(t, f.Close())
	}
	var mu sync.Mutex
	var got []string
	ctx, cancel := context.WithCancel(t.Context())
	g := &Reading{Logs: []*Log{{Path: path}}, Take: func(e *Event) error {
		mu.Lock()
		defer mu.Unlock()
		got = append(got, short(e))
		return nil
	}}
	caught := make(chan struct{})
	ended := make(chan error, 1)
	go func() { ended <- g.Follow(ctx, func([]*Report) error { close(caught); return nil }) }()
	<-caught
	wait := func(want ...string) {
		t.Helper()
		require.Eventually(t, func() bool {
			mu.Lock()
			defer mu.Unlock()
			return len(got) >= len(want)
		}, 10*time.Second, 10*time.Millisecond)
		mu.Lock()
		defer mu.Unlock()
		assert.Equal(t, want, got)
	}
	wait("uid=ada,dc=x 10.0.0.1")

	bo := refused(2, "bo")
	add(bo[:len(bo)-20])
	time.Sleep(2 * glance)
	wait("uid=ada,dc=x 10.0.0.1") // half a line says nothing
	add(bo[len(bo)-20:])
	wait("uid=ada,dc=x 10.0.0.1", "uid=bo,dc=x 10.0.0.2")

	add(accepted(3)) // read from the file that was moved away
	require.NoError(t, os.Rename(path, path+".1"))
	add(refused(3, "cy"))
	wait("uid=ada,dc=x 10.0.0.1", "uid=bo,dc=x 10.0.0.2", "uid=cy,dc=x 10.0.0.3")

	require.NoError(t, os.Truncate(path, 0))
	time.Sleep(2 * glance)
	add(accepted(4) + refused(4, "di"))
	wait("uid=ada,dc=x 10.0.0.1", "uid=bo,dc=x 10.0.0.2", "uid=cy,dc=x 10.0.0.3", "uid=di,dc=x 10.0.0.4")
	cancel()
	require.ErrorIs(t, <-ended, context.Canceled)
}

func TestFollowKeepsTheHeaderOfATable(t *testing.T) {
	path := filepath.Join(t.TempDir(), "app.csv")
	put(t, path, []byte("when,who\n2026-11-29T10:00:00Z,ada\n"), 0)
	enough := errors.New("enough")
	var got []string
	g := &Reading{Logs: []*Log{{Path: path, Mapping: &Mapping{Time: "when", Account: "who"}}}, Take: func(e *Event) error {
		if got = append(got, e.Name); len(got) == 2 {
			return enough
		}
		return nil
	}}
	err := g.Follow(t.Context(), func([]*Report) error {
		f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0o600)
		require.NoError(t, err)
		defer f.Close()
		_, err = f.WriteString("2026-11-29T10:00:05Z,bo\n")
		return err
	})
	require.ErrorIs(t, err, enough)
	assert.Equal(t, []string{"ada", "bo"}, got)
}

func TestSeries(t *testing.T) {
	for _, name := range []string{"slapd.log", "slapd.log.1", "slapd.log.12.gz", "slapd.log-20261128", "slapd.log-20261128.zst", "slapd.log.2026-11-28", "slapd.log.gz", "slapd.log.20261128-101500"} {
		assert.Equal(t, "slapd.log", seriesOf(name), name)
	}
	assert.NotEqual(t, seriesOf("dc1.log"), seriesOf("dc2.log"))
}

func TestOnly(t *testing.T) {
	for _, c := range []struct {
		names []string
		text  string
		want  bool
	}{
		{[]string{"ada.quill"}, `"clientAccount": "ADA.Quill"`, true},
		{[]string{"ada.quill"}, "ada.quil", false},
		{[]string{"ada.quill", "S-1-5-21-1-2-3-1105"}, "s-1-5-21-1-2-3-1105", true},
		{[]string{"Zoë Quill"}, "cn=zo\\c3\\ab quill", true}, // by what every log writes as it is
		{[]string{"aaab"}, "aaaaaaab", true},
	} {
		o := NewOnly(c.names...)
		require.NotNil(t, o, c.names)
		assert.Equal(t, c.want, o.in([]byte(c.text)), c.text)
		assert.Equal(t, c.want, o.tune([]byte(c.text)).in([]byte(c.text)), c.text)
	}
	assert.Nil(t, NewOnly("åß"), "no piece of it is written the same everywhere: all lines are read")
	assert.Nil(t, NewOnly())
}

// However a log is cut into blocks, and whoever is asked for, the events are the same.
func TestManyBlocks(t *testing.T) {
	var b strings.Builder
	for i := range 60_000 {
		who := "someone"
		if i%977 == 0 {
			who = "ada.quill"
		}
		conn := 1 + i%200
		b.WriteString(accepted(conn) + refused(conn, who) + fmt.Sprintf("%sconn=%d fd=9 closed\n", syslogHead, conn))
	}
	all, report := readAll(t, b.String(), &Options{}, nil)
	assert.Len(t, all, 60_000)
	assert.Equal(t, 240_000, report.Lines)
	some, sparse := readAll(t, b.String(), &Options{}, NewOnly("ada.quill"))
	assert.Equal(t, naming(all, "ada.quill"), naming(some, "ada.quill"))
	assert.Equal(t, report.Lines, sparse.Lines)
	assert.Less(t, sparse.Looked, report.Lines*2/3, "only what may matter is read")
}

// Who asks for an address is given all that came from there, although the lines that say
// who it was do not name it, and the connection may be much older.
func TestOnlyFromAnAddress(t *testing.T) {
	var b strings.Builder
	bind := func(conn, op int, who string) {
		fmt.Fprintf(&b, "%sconn=%d op=%d BIND dn=\"uid=%s,dc=x\" method=128\n%sconn=%d op=%d RESULT tag=97 err=49 text=\n", syslogHead, conn, op, who, syslogHead, conn, op)
	}
	b.WriteString(accepted(7)) // 10.0.0.7
	bind(7, 0, "early")
	for i := range 60_000 {
		conn := 100 + i
		fmt.Fprintf(&b, "%sconn=%d fd=9 ACCEPT from IP=10.9.9.9:5000 (IP=0.0.0.0:389)\n", syslogHead, conn)
		bind(conn, 0, "other")
		fmt.Fprintf(&b, "%sconn=%d fd=9 closed\n", syslogHead, conn)
	}
	bind(7, 1, "late")
	some, report := readAll(t, b.String(), &Options{}, NewOnlyFrom(nil, []netip.Addr{netip.MustParseAddr("10.0.0.7")}))
	var got []string
	for i := range some {
		if some[i].Address.String() == "10.0.0.7" {
			got = append(got, some[i].Name)
		}
	}
	assert.Equal(t, []string{"uid=early,dc=x", "uid=late,dc=x"}, got)
	assert.Less(t, report.Looked, report.Lines/10, "only what may matter is read")
}
