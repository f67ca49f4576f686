// Package mail makes and sends mail: text and HTML parts that make sense alone,
// attachments, and one transaction for each recipient (RFC 5321), so that what
// becomes of one is nothing to the others.
package mail

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	netmail "net/mail"
	"net/textproto"
	"os"
	"strings"
	"time"

	"github.com/wneessen/go-mail"
	"github.com/wneessen/go-mail/smtp"

	"yardbroom/internal/settings"
	"yardbroom/internal/trust"
)

// Message is a mail before it is made.
type Message struct {
	From    string
	To      []string
	ReplyTo string // "" where answers go to From
	Subject string
	// ID is the Message-ID without brackets; Thread one that the mail is an answer
	// to, so that mail readers show them together.
	ID, Thread string
	Date       time.Time
	Text, HTML string
	Attached   []Attachment
}

// Attachment is a file of a mail.
type Attachment struct {
	Name string
	Data []byte
}

// Compose writes a mail as it is sent (RFC 5322).
func Compose(m *Message) ([]byte, error) {
	msg := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := msg.From(m.From); err != nil {
		return nil, err
	}
	if err := msg.To(m.To...); err != nil {
		return nil, err
	}
	if m.ReplyTo != "" {
		if err := msg.ReplyTo(m.ReplyTo); err != nil {
			return nil, err
		}
	}
	msg.Subject(m.Subject)
	msg.SetMessageIDWithValue(m.ID)
	msg.SetDateWithValue(m.Date)
	// Nobody's holiday answer is to come back (RFC 3834).
	msg.SetGenHeader("Auto-Submitted", "auto-generated")
	if m.Thread != "" {
		msg.SetGenHeaderPreformatted(mail.HeaderReferences, "<"+m.Thread+">")
		msg.SetGenHeaderPreformatted(mail.HeaderInReplyTo, "<"+m.Thread+">")
	}
	msg.SetBodyString(mail.TypeTextPlain, m.Text)
	if m.HTML != "" {
		msg.AddAlternativeString(mail.TypeTextHTML, m.HTML)
	}
	for _, a := range m.Attached {
		if err := msg.AttachReader(a.Name, bytes.NewReader(a.Data)); err != nil {
			return nil, err
		}
	}
	var b bytes.Buffer
	_, err := msg.WriteTo(&b)
	return b.Bytes(), err
}

// Page is the HTML part of a composed mail, "" where it has none.
func Page(message []byte) (string, error) {
	msg, err := mail.EMLToMsgFromReader(bytes.NewReader(message))
	if err != nil {
		return "", err
	}
	for _, part := range msg.GetParts() {
		if part.GetContentType() == mail.TypeTextHTML {
			page, err := part.GetContent()
			return string(page), err
		}
	}
	return "", nil
}

// RefusedError says that a server will not take a mail for somebody, now or later.
type RefusedError struct{ error }

func (e RefusedError) Unwrap() error { return e.error }

// Refused makes a RefusedError.
func Refused(err error) error { return RefusedError{err} }

// most is how long one answer of a server is waited for.
const most = 60 * time.Second

// Connection is a connection to a mail server.
type Connection struct {
	client *smtp.Client
	from   string
	conn   net.Conn
}

// Connect connects to the mail server of the settings and signs in.
func Connect(ctx context.Context, set *settings.Mail) (*Connection, error) {
	c, err := connect(ctx, set)
	if err != nil {
		return nil, fmt.Errorf("mail server %s: %w", set.Server, err)
	}
	return c, nil
}

func connect(ctx context.Context, set *settings.Mail) (*Connection, error) {
	host, _, err := net.SplitHostPort(set.Server)
	if err != nil {
		return nil, err
	}
	roots, err := trust.Roots(set.CAFile)
	if err != nil {
		return nil, err
	}
	tlsConfig := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12, RootCAs: roots}
	from, err := netmail.ParseAddress(set.From)
	if err != nil {
		return nil, err
	}
	dialer := &net.Dialer{Timeout: most}
	conn, err := dialer.DialContext(ctx, "tcp", set.Server)
	if err != nil {
		return nil, err
	}
	// The program is told to stop: nothing is waited for any more.
	context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })
	if err := conn.SetDeadline(time.Now().Add(most)); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	wire := conn
	if set.TLS == "tls" {
		wire = tls.Client(conn, tlsConfig)
	}
	client, err := smtp.NewClient(wire, host)
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	c := &Connection{client: client, from: from.Address, conn: conn}
	if err := c.begin(ctx, set, host, tlsConfig); err != nil {
		return nil, errors.Join(err, client.Close())
	}
	return c, nil
}

// begin greets, encrypts and signs in.
func (c *Connection) begin(ctx context.Context, set *settings.Mail, host string, tlsConfig *tls.Config) error {
	name := set.Hello
	if name == "" {
		if name, _ = os.Hostname(); name == "" {
			name = "localhost"
		}
	}
	if err := c.client.Hello(name); err != nil {
		return err
	}
	if set.TLS == "" || set.TLS == "starttls" {
		if ok, _ := c.client.Extension("STARTTLS"); !ok {
			return errors.New("it does not offer STARTTLS, and nothing is sent unencrypted")
		}
		if err := c.client.StartTLS(tlsConfig); err != nil {
			return err
		}
	}
	if set.Name == "" {
		return nil
	}
	password, err := trust.Kept{File: set.PasswordFile, Env: set.PasswordEnv, Command: set.PasswordCommand}.Read(ctx)
	if err != nil {
		return err
	}
	if err := c.client.Auth(smtp.PlainAuth("", set.Name, password, host, set.TLS == "none")); err != nil {
		return fmt.Errorf("signing in as %s: %w", set.Name, err)
	}
	return nil
}

// Send sends a composed mail to one recipient. A RefusedError is for good, every
// other one may pass.
func (c *Connection) Send(to string, message []byte) error {
	if err := c.conn.SetDeadline(time.Now().Add(most)); err != nil {
		return err
	}
	err := c.send(to, message)
	var answer *textproto.Error
	if errors.As(err, &answer) && answer.Code >= 500 {
		// The connection goes on for the others.
		return RefusedError{errors.Join(err, c.client.Reset())}
	}
	if errors.As(err, &answer) {
		return errors.Join(err, c.client.Reset())
	}
	return err
}

func (c *Connection) send(to string, message []byte) error {
	if err := c.client.Mail(c.from); err != nil {
		return err
	}
	if err := c.client.Rcpt(to); err != nil {
		return err
	}
	w, err := c.client.Data()
	if err != nil {
		return err
	}
	if _, err := io.Copy(w, bytes.NewReader(message)); err != nil {
		return errors.Join(err, c.conn.Close()) // so that nobody takes half of it for all
	}
	return w.Close()
}

// Broken tells whether the connection is of no use any more after an error.
func Broken(err error) bool {
	var answer *textproto.Error
	return err != nil && (!errors.As(err, &answer) || answer.Code == 421)
}

// Close ends the connection.
func (c *Connection) Close() error {
	if err := c.client.Quit(); err != nil {
		return c.client.Close()
	}
	return nil
}

// Bare is the address in a text such as "Ada Quill <ada@larkmoor.example>".
func Bare(text string) string {
	if a, err := netmail.ParseAddress(text); err == nil {
		return a.Address
	}
	return strings.TrimSpace(text)
}
