package rounds

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	netmail "net/mail"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/mail"
	"yardbroom/internal/practice"
	"yardbroom/internal/settings"
	"yardbroom/internal/work"
)

const base = "DC=larkmoor,DC=example"

// yard is a small live directory, and a runner of rounds on it by a clock of its own.
type yard struct {
	*Runner
	dir    *practice.Directory
	server *practice.Server
	at     time.Time
	post   *postbox
}

// postbox takes mail, as long as it is open.
type postbox struct {
	shut    error            // why nothing is taken
	refuses map[string]error // by address
	mails   []sent
	posts   [][]byte
	lost    int // so many answers get lost after a mail was taken
}

// sent is a mail as its reader sees it: all parts, decoded.
type sent struct {
	to, subject, text string
	raw               string
	at                time.Time // where a test dates it
}

// received takes a mail apart.
func received(to string, message []byte) sent {
	out := sent{to: to, raw: string(message)}
	m, err := netmail.ReadMessage(bytes.NewReader(message))
	if err != nil {
		return out
	}
	out.subject, _ = new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
	out.text = parts(m.Header.Get("Content-Type"), m.Header.Get("Content-Transfer-Encoding"), m.Body)
	return out
}

// parts are all parts of a mail, and the names of its files.
func parts(kind, encoding string, body io.Reader) (text string) {
	kind, params, err := mime.ParseMediaType(kind)
	if err != nil {
		return ""
	}
	if !strings.HasPrefix(kind, "multipart/") {
		switch encoding {
		case "quoted-printable":
			body = quotedprintable.NewReader(body)
		case "base64":
			body = base64.NewDecoder(base64.StdEncoding, body)
		}
		all, _ := io.ReadAll(body)
		return string(all)
	}
	r := multipart.NewReader(body, params["boundary"])
	for {
		p, err := r.NextRawPart()
		if err != nil {
			return text
		}
		if name := p.FileName(); name != "" {
			text += "file " + name + "\n"
		}
		text += parts(p.Header.Get("Content-Type"), p.Header.Get("Content-Transfer-Encoding"), p)
	}
}

func (b *postbox) Mail(context.Context, *settings.Mail) (MailConnection, error) { return b, b.shut }
func (b *postbox) Close() error                                                 { return nil }

func (b *postbox) Send(to string, message []byte) error {
	if err := b.refuses[to]; err != nil {
		return err
	}
	b.mails = append(b.mails, received(to, message))
	if b.lost > 0 {
		b.lost--
		return errors.New("the connection broke")
	}
	return nil
}

func (b *postbox) Post(_ context.Context, _ *settings.Post, body []byte, _ time.Time) error {
	b.posts = append(b.posts, body)
	return b.shut
}

// to are the mails for an address.
func (b *postbox) to(address string) (texts []string) {
	for _, m := range b.mails {
		if m.to == address {
			texts = append(texts, m.text)
		}
	}
	return texts
}

// newYard serves staff of whom Ada has not signed in for long, Bram is their manager,
// and a keeper is signed in. Rounds are written as in the settings.
func newYard(t *testing.T, rounds string) *yard {
	t.Helper()
	y := emptyYard(t, rounds)
	y.person(t, "Ada Quill", 200)
	for i := range 20 {
		y.person(t, fmt.Sprintf("Staff%02d Member", i), 3)
	}
	return y
}

// emptyYard serves only Bram and the keeper.
func emptyYard(t *testing.T, rounds string) *yard {
	t.Helper()
	y := &yard{at: time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC), post: &postbox{}}
	y.dir = practice.New(base, "S-1-5-21-1-2-3", func() time.Time { return y.at })
	for _, ou := range []string{"Staff", "Parked"} {
		y.add(t, "OU="+ou+","+base, "objectClass", "organizationalUnit")
	}
	y.person(t, "Bram Tern", 3)
	y.add(t, "CN=Keeper,OU=Staff,"+base, "objectClass", "user", "sAMAccountName", "keeper", "userAccountControl", "512", "displayName",
		"Kay Keeper")
	y.signsIn("Keeper", 0)
	y.server = &practice.Server{Dir: y.dir, Account: "keeper", Password: "practice only"}
	url, err := y.server.Listen(t.Context(), "127.0.0.1:0")
	require.NoError(t, err)
	folder := t.TempDir()
	password := filepath.Join(folder, "password")
	require.NoError(t, os.WriteFile(password, []byte("practice only\n"), 0o600))
	y.Runner = &Runner{Session: session(t, folder, fmt.Sprintf(`default: small
yards:
  small:
    servers: ["%s"]
    bind: {dn: keeper@larkmoor.example, password_file: "%s"}
    settle_within: 50ms
audit: {parking: ["OU=Parked,%s"]}
batch: {max_share: 100, day_share: 100}
mail: {server: "localhost:25", tls: none, from: yard@larkmoor.example}
rounds:
%s`, url, password, base, rounds)), Host: "here", Send: y.post}
	y.Now = func() time.Time { return y.at }
	t.Cleanup(func() { require.NoError(t, y.Close()) })
	return y
}

// session is one under settings as they are written.
func session(t *testing.T, folder, text string) *work.Session {
	t.Helper()
	file := filepath.Join(folder, "settings.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	set, err := settings.Load(file)
	require.NoError(t, err)
	s, err := work.New(set)
	require.NoError(t, err)
	require.NoError(t, Check(s))
	s.State, s.By = filepath.Join(folder, "state"), "tester"
	return s
}

func (y *yard) add(t *testing.T, dn string, pairs ...string) {
	t.Helper()
	e := directory.Entry{DN: dn}
	for i := 0; i < len(pairs); i += 2 {
		e.Set(pairs[i], append(e.Get(pairs[i]), pairs[i+1])...)
	}
	require.NoError(t, y.dir.Add(e), dn)
	y.dir.Edit(dn, func(e *directory.Entry) { e.Set("whenCreated", "20200101000000.0Z") })
}

// person adds somebody who signed in so many days ago.
func (y *yard) person(t *testing.T, name string, idle int) {
	t.Helper()
	given, family, _ := strings.Cut(name, " ")
	account := strings.ToLower(given)
	pairs := []string{"objectClass", "user", "sAMAccountName", account, "userAccountControl", "512", "givenName", given, "sn", family,
		"displayName", name, "mail", account + "@larkmoor.example", "pwdLastSet", directory.FormatFileTime(y.at.AddDate(0, 0, -300))}
	if name != "Bram Tern" {
		pairs = append(pairs, "manager", "CN=Bram Tern,OU=Staff,"+base)
	}
	y.add(t, "CN="+name+",OU=Staff,"+base, pairs...)
	y.signsIn(name, idle)
}

// signsIn makes somebody's last logon so many days ago.
func (y *yard) signsIn(name string, days int) {
	at := directory.FormatFileTime(y.at.AddDate(0, 0, -days))
	y.dir.Edit("CN="+name+",OU=Staff,"+base, func(e *directory.Entry) {
		e.Set("lastLogon", at)
		e.Set("lastLogonTimestamp", at)
	})
}

// run runs a round, which must come to an end.
func (y *yard) run(t *testing.T, name string) *Run {
	t.Helper()
	run, err := y.Run(t.Context(), name, &Request{})
	require.NoError(t, err)
	return run
}

// tomorrow lets a day pass, on which all staff but Ada sign in.
func (y *yard) tomorrow() {
	y.at = y.at.AddDate(0, 0, 1)
	for i := range 20 {
		y.signsIn(fmt.Sprintf("Staff%02d Member", i), 1)
	}
	y.signsIn("Bram Tern", 1)
	y.signsIn("Keeper", 0)
}

// falls makes staff idle for long.
func (y *yard) falls(from, to int) {
	for i := from; i < to; i++ {
		y.signsIn(fmt.Sprintf("Staff%02d Member", i), 150)
	}
}

// flags are those of an account, wherever it is.
func (y *yard) flags(name string) string {
	return y.dir.Entry("CN=" + name + ",OU=Staff," + base).First("userAccountControl")
}

var errDown = errors.New("connection refused")

// refusal is a server's word that it will never take a mail.
func refusal() error { return mail.Refused(errors.New("550 no such user here")) }
