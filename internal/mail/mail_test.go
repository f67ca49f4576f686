package mail

import (
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/realserver"
	"yardbroom/internal/settings"
)

func message(t *testing.T) []byte {
	t.Helper()
	text, err := Compose(&Message{From: "Yard Broom <yardbroom@larkmoor.example>", To: []string{"ada@larkmoor.example", "Ben Åkesson <ben@larkmoor.example>"},
		Subject: "Larkmoor: 3 new high\r\nBcc: everybody@larkmoor.example", ID: "nightly.1.0@here", Thread: "round.nightly.0@here",
		Date: time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC), Text: "Ada has left.\n.\nFrom here\n", HTML: "<p>Ada has left.</p>",
		Attached: []Attachment{{"audit.csv", []byte("account\nada\n")}}})
	require.NoError(t, err)
	return text
}

func TestAMailIsWhatReadersTake(t *testing.T) {
	text := string(message(t))
	head, _, _ := strings.Cut(text, "\r\n\r\n")
	assert.Contains(t, head, "Message-ID: <nightly.1.0@here>")
	assert.Contains(t, head, "References: <round.nightly.0@here>")
	assert.Contains(t, head, "Auto-Submitted: auto-generated")
	assert.Contains(t, head, "<ben@larkmoor.example>")
	for line := range strings.SplitSeq(head, "\r\n") {
		assert.False(t, strings.HasPrefix(line, "Bcc:"), "a name in the directory makes no header")
	}
	assert.Contains(t, text, "Content-Type: text/plain")
	assert.Contains(t, text, `filename="audit.csv"`)
	page, err := Page([]byte(text))
	require.NoError(t, err)
	assert.Equal(t, "<p>Ada has left.</p>", page)
	_, err = Compose(&Message{From: "yardbroom@larkmoor.example", To: []string{"no address"}})
	require.Error(t, err)
}

// connect connects, and closes with the test.
func connected(t *testing.T, set *settings.Mail) *Connection {
	t.Helper()
	c, err := Connect(t.Context(), set)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

func arrives(t *testing.T, m *realserver.MailServer, want string) {
	t.Helper()
	require.Eventually(t, func() bool { return strings.Contains(m.Box(t), want) }, 20*time.Second, 50*time.Millisecond, "%s", want)
}

func TestMailReachesARealServer(t *testing.T) {
	m := realserver.Mail(t, "*")
	for name, address := range map[string]string{"starttls": m.Settings.Server, "tls": m.TLSAddress} {
		set := m.Settings
		set.TLS, set.Server = name, address
		c := connected(t, &set)
		require.NoError(t, c.Send(name+"@larkmoor.example", message(t)), name)
		arrives(t, m, "Envelope-to: "+name+"@larkmoor.example")
	}
	box := m.Box(t)
	assert.Contains(t, box, "Message-ID: <nightly.1.0@here>")
	assert.Contains(t, box, "Ada has left.\n.\n", "a line of a dot alone ends nothing")

	set := m.Settings
	set.CAFile = ""
	_, err := Connect(t.Context(), &set)
	require.ErrorContains(t, err, "certificate", "one that nobody knows")
	set = m.Settings
	set.Server = strings.Replace(set.Server, "127.0.0.1", "127.0.0.2", 1)
	_, err = Connect(t.Context(), &set)
	require.Error(t, err)
	set = m.Settings
	set.PasswordFile = filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(set.PasswordFile, []byte("wrong\n"), 0o600))
	_, err = Connect(t.Context(), &set)
	require.ErrorContains(t, err, "signing in as yardbroom")
	set = m.Settings
	set.Name, set.PasswordFile = "", ""
	err = connected(t, &set).Send("ada@larkmoor.example", message(t))
	require.ErrorAs(t, err, new(RefusedError))
	assert.Contains(t, err.Error(), "sign in first")
}

func TestWhatBecomesOfOneIsNothingToTheOthers(t *testing.T) {
	m := realserver.Mail(t, "*")
	c := connected(t, &m.Settings)
	err := c.Send("nobody@larkmoor.example", message(t))
	require.ErrorAs(t, err, new(RefusedError))
	assert.False(t, Broken(err))
	err = c.Send("grey@larkmoor.example", message(t))
	require.ErrorContains(t, err, "greylisted")
	assert.False(t, errors.As(err, new(RefusedError)), "it may be taken later")
	assert.False(t, Broken(err))
	require.NoError(t, c.Send("ada@larkmoor.example", message(t)))
	arrives(t, m, "Envelope-to: ada@larkmoor.example")
	m.Knows(t)
	require.NoError(t, c.Send("grey@larkmoor.example", message(t)))
	arrives(t, m, "Envelope-to: grey@larkmoor.example")
	assert.NotContains(t, m.Box(t), "Envelope-to: nobody")
	err = c.Send("closing@larkmoor.example", message(t))
	require.ErrorAs(t, err, new(RefusedError))
	require.Error(t, c.Send("ada@larkmoor.example", message(t)), "it has hung up")
}

func TestNothingIsSentUnencrypted(t *testing.T) {
	m := realserver.Mail(t, "")
	_, err := Connect(t.Context(), &m.Settings)
	require.ErrorContains(t, err, "it does not offer STARTTLS")
}

// cutting is a way to a server that ends after so many octets have gone there.
func cutting(t *testing.T, to string, after int64) string {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { ln.Close() })
	go func() {
		for {
			in, err := ln.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", to)
			if err != nil {
				in.Close()
				return
			}
			go func() { _, _ = io.Copy(in, out) }()
			_, _ = io.CopyN(out, in, after)
			in.Close()
			out.Close()
		}
	}()
	return ln.Addr().String()
}

func TestAServerThatClosesInTheMiddleHasTakenNothing(t *testing.T) {
	m := realserver.Mail(t, "*")
	sent := 0
	// From the greeting to within the mail: TLS takes about a thousand octets.
	for after := int64(10); after < 4000; after += 230 {
		set := m.Settings
		set.Server = cutting(t, m.Settings.Server, after)
		c, err := Connect(t.Context(), &set)
		if err == nil {
			err = c.Send("ada@larkmoor.example", message(t))
			_ = c.Close()
		}
		if err == nil {
			sent++
			continue
		}
		assert.True(t, Broken(err), "%d octets: %v", after, err)
		assert.False(t, errors.As(err, new(RefusedError)), "%d octets: it is to be sent again", after)
	}
	require.Positive(t, sent, "the last ones got through")
	require.Eventually(t, func() bool { return strings.Count(m.Box(t), "Envelope-to: ada") >= sent }, 20*time.Second, 50*time.Millisecond)
	assert.Equal(t, sent, strings.Count(m.Box(t), "Envelope-to: ada"), "what was not answered was not taken")
}
