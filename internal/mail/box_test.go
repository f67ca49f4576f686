package mail

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/realserver"
	"yardbroom/internal/settings"
)

const written = "From: Ada Quill <ada@larkmoor.example>\r\nTo: objections@larkmoor.example\r\nSubject: Re: your account\r\n" +
	"In-Reply-To: <keep-1@larkmoor.example>\r\nMessage-ID: <2@larkmoor.example>\r\n\r\nPlease leave it.\r\n> as it was\r\n"

// collected are the subjects of the mails of a box; those that take says so of are
// marked.
func collected(t *testing.T, box Box, take func(*Incoming) bool) (subjects []string) {
	t.Helper()
	require.NoError(t, box.Each(t.Context(), func(in *Incoming, err error) (bool, error) {
		if err != nil {
			subjects = append(subjects, "broken")
			return false, nil
		}
		subjects = append(subjects, in.Subject)
		return take(in), nil
	}))
	return subjects
}

func isReply(in *Incoming) bool { return strings.HasPrefix(in.Subject, "Re:") }

func TestAMailboxServerGivesWhatNobodyHasRead(t *testing.T) {
	m := realserver.IMAP(t)
	m.Comes(t, "1", written)
	m.Comes(t, "2", strings.Replace(written, "Re: your account", "Lunch?", 1))
	m.Comes(t, "3", "\x00\x01 no mail at all")
	all := collected(t, IMAP{&m.Settings}, isReply)
	assert.ElementsMatch(t, []string{"Re: your account", "Lunch?", all[2]}, all)
	assert.NotContains(t, collected(t, IMAP{&m.Settings}, isReply), "Re: your account", "what was taken is marked")
	assert.Contains(t, collected(t, IMAP{&m.Settings}, isReply), "Lunch?", "what was not is left alone")

	set := m.Settings
	set.Server, set.TLS = m.StartTLSAddress, "starttls"
	assert.Contains(t, collected(t, IMAP{&set}, isReply), "Lunch?")

	for what, change := range map[string]func(*settings.Answers){
		"certificate": func(s *settings.Answers) { s.CAFile = "" },
		"signing in as objections": func(s *settings.Answers) {
			s.PasswordFile = filepath.Join(t.TempDir(), "wrong")
			require.NoError(t, os.WriteFile(s.PasswordFile, []byte("wrong\n"), 0o600))
		},
		"folder Nowhere": func(s *settings.Answers) { s.Folder = "Nowhere" },
	} {
		set := m.Settings
		change(&set)
		err := IMAP{&set}.Each(t.Context(), func(*Incoming, error) (bool, error) { return true, errors.New("it came in") })
		require.Error(t, err, what)
		assert.Contains(t, err.Error(), what)
		assert.ErrorContains(t, IMAP{&set}.Try(t.Context()), what)
	}
	require.NoError(t, IMAP{&m.Settings}.Try(t.Context()))
	assert.Contains(t, collected(t, IMAP{&m.Settings}, isReply), "Lunch?", "and after all of that")
}

func TestAMailboxInAFolderIsMarkedAsMailReadersDo(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"new", "cur", "tmp"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, name), 0o700))
	}
	put := func(path, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, path), []byte(text), 0o600))
	}
	put("new/1", written)
	put("cur/2:2,R", written)
	put("cur/3:2,S", written)
	put("new/4", strings.Replace(written, "Re: your account", "Lunch?", 1))
	assert.ElementsMatch(t, []string{"Re: your account", "Re: your account", "Lunch?"}, collected(t, Maildir(dir), isReply))
	assert.FileExists(t, filepath.Join(dir, "cur", "1:2,S"))
	assert.FileExists(t, filepath.Join(dir, "cur", "2:2,RS"))
	assert.FileExists(t, filepath.Join(dir, "new", "4"))
	assert.Equal(t, []string{"Lunch?"}, collected(t, Maildir(dir), isReply))
	err := Maildir(t.TempDir()).Each(t.Context(), nil)
	require.Error(t, err)
	assert.Contains(t, err.Error(), "is not a mailbox")
}

func TestWhatIsTypedIsToldFromWhatIsQuoted(t *testing.T) {
	head := "From: ada@larkmoor.example\nSubject: =?iso-8859-1?Q?R=E9:?= account\n"
	cases := map[string]struct{ mail, typed, quoted string }{
		"marked lines":  {head + "\nKeep it.\n\nOn Monday Yard Broom wrote:\n> ada\n> keep-x\n", "Keep it.", "keep-x"},
		"a second head": {head + "\nKeep it.\n\nFrom: Yard Broom <yard@larkmoor.example>\nSent: Monday\n\nada keep-x\n", "Keep it.", "keep-x"},
		"a head in German": {head + "\nBitte nicht.\n\nVon: Yard Broom <yard@larkmoor.example>\nGesendet: Montag\n\nkeep-x\n",
			"Bitte nicht.", "keep-x"},
		"a line above": {head + "\nKeep it.\n-----Original Message-----\nkeep-x\n", "Keep it.", "keep-x"},
		"a page": {head + "Content-Type: text/html; charset=utf-8\n\n<html><head><style>keep-no{}</style></head><body><p>Keep&nbsp;it.</p>" +
			"<blockquote><p>keep-x</p></blockquote></body></html>", "Keep\u00a0it.", "keep-x"},
		"a page that marks parts": {head + "Content-Type: text/html\n\n<div>Keep it.</div><div class=\"gmail_quote\"><div>keep-x</div></div>",
			"Keep it.", "keep-x"},
		"quoted printable": {head + "Content-Type: text/plain; charset=iso-8859-1\nContent-Transfer-Encoding: quoted-printable\n\nBehalten: Zo=EB\n> kee=\np-x\n",
			"Behalten: Zoë", "keep-x"},
		"base64": {head + "Content-Type: text/plain; charset=windows-1252\nContent-Transfer-Encoding: base64\n\nS2VlcCBpdCCWIHBsZWFzZQo+IGtlZXAteAo=\n",
			"Keep it – please", "keep-x"},
		"both, and a file": {head + "Content-Type: multipart/mixed; boundary=b\n\n--b\nContent-Type: multipart/alternative; boundary=c\n\n--c\n" +
			"Content-Type: text/plain\n\nKeep it.\n> keep-x\n--c\nContent-Type: text/html\n\n<p>Something else</p>\n--c--\n--b\n" +
			"Content-Disposition: attachment; filename=a.txt\nContent-Type: text/plain\n\nkeep-file\n--b--\n", "Keep it.", "keep-x"},
		"cut off":         {head + "Content-Type: multipart/mixed; boundary=b\n\n--b\nContent-Type: text/plain\n\nKeep it.\n> keep-x", "Keep it.", "keep-x"},
		"an unknown form": {head + "Content-Type: text/plain; charset=x-unheard-of\n\nKeep it.\n> keep-x\n", "Keep it.", "keep-x"},
	}
	for name, c := range cases {
		in, err := ReadIncoming(strings.NewReader(strings.ReplaceAll(c.mail, "\n", "\r\n")))
		require.NoError(t, err, name)
		assert.Contains(t, in.Typed, c.typed, name)
		assert.NotContains(t, in.Typed, "keep-", name)
		assert.Contains(t, in.Quoted, c.quoted, name)
		assert.False(t, in.Automatic, name)
		assert.Equal(t, "ada@larkmoor.example", in.From, name)
	}
}

func TestWhatProgramsWriteIsNobodysWord(t *testing.T) {
	for _, line := range []string{"Auto-Submitted: auto-replied", "Precedence: bulk", "X-Autoreply: yes", "List-Id: <all.larkmoor.example>",
		"X-Auto-Response-Suppress: OOF, AutoReply", "Return-Path: <>", "Subject: Out of Office: away", "From: MAILER-DAEMON@larkmoor.example"} {
		mail := line + "\n"
		if !strings.HasPrefix(line, "From") {
			mail += "From: ada@larkmoor.example\n"
		}
		in, err := ReadIncoming(strings.NewReader(mail + "\nI am away.\n"))
		require.NoError(t, err)
		assert.True(t, in.Automatic, line)
		assert.False(t, in.Failed, line)
	}
	in, err := ReadIncoming(strings.NewReader("From: ada@larkmoor.example\nAuto-Submitted: no\n\nKeep it.\n"))
	require.NoError(t, err)
	assert.False(t, in.Automatic)
	two, err := ReadIncoming(strings.NewReader("From: ada@larkmoor.example, eve@larkmoor.example\n\nKeep it.\n"))
	require.NoError(t, err)
	assert.Empty(t, two.From, "nobody knows which of them has written")
	two, err = ReadIncoming(strings.NewReader("From: ada@larkmoor.example\nFrom: eve@larkmoor.example\n\nKeep it.\n"))
	require.NoError(t, err)
	assert.Empty(t, two.From)
}

const report = "From: MAILER-DAEMON@larkmoor.example\nTo: yard@larkmoor.example\nSubject: Undelivered Mail\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\n\n" +
	"--b\nContent-Type: text/plain\n\nIt could not be delivered.\n--b\nContent-Type: message/delivery-status\n\nReporting-MTA: dns; mail.larkmoor.example\n\n" +
	"Final-Recipient: rfc822; ada@larkmoor.example\nAction: ACTION\nStatus: 5.1.1\n\n--b\nContent-Type: message/rfc822\n\n" +
	"Message-ID: <keep-1@larkmoor.example>\nSubject: Your account\n\nMessage-ID: <other@larkmoor.example>\n--b--\n"

func TestAReportSaysWhichMailCameBack(t *testing.T) {
	in, err := ReadIncoming(strings.NewReader(strings.Replace(report, "ACTION", "failed", 1)))
	require.NoError(t, err)
	assert.True(t, in.Failed)
	assert.Equal(t, []string{"keep-1@larkmoor.example"}, in.Returned)
	in, err = ReadIncoming(strings.NewReader(strings.Replace(report, "ACTION", "delayed", 1)))
	require.NoError(t, err)
	assert.False(t, in.Failed, "it may still come")
	assert.True(t, in.Automatic)
}

func FuzzIncoming(f *testing.F) {
	f.Add(written)
	f.Add(report)
	f.Add("Content-Type: multipart/mixed; boundary=b\n\n--b\nContent-Type: text/html\n\n<blockquote><div>\n--b--")
	f.Fuzz(func(t *testing.T, text string) {
		in, err := ReadIncoming(strings.NewReader(text))
		if err == nil && in == nil {
			t.Fatal("neither a mail nor an error")
		}
	})
}
