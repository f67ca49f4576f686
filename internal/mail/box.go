package mail

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-imap"
	"github.com/emersion/go-imap/client"

	"yardbroom/internal/settings"
	"yardbroom/internal/trust"
)

// Box is a mailbox that answers come to.
type Box interface {
	// Each hands over each mail that nobody has read yet, or why it cannot be read.
	// One for which take says so is marked as read; all others are left alone.
	Each(ctx context.Context, take func(*Incoming, error) (read bool, err error)) error
}

// Maildir is a mailbox in a folder: tmp, new and cur, a file a mail.
type Maildir string

// Each hands over the mails in new, and those in cur without the mark of being seen.
func (m Maildir) Each(ctx context.Context, take func(*Incoming, error) (bool, error)) error {
	for _, part := range []string{"new", "cur"} {
		files, err := os.ReadDir(filepath.Join(string(m), part))
		if err != nil {
			return fmt.Errorf("%s is not a mailbox (Maildir): %w", string(m), err)
		}
		for _, f := range files {
			name, flags, _ := strings.Cut(f.Name(), ":2,")
			if f.IsDir() || strings.HasPrefix(f.Name(), ".") || strings.Contains(flags, "S") {
				continue
			}
			if ctx.Err() != nil {
				return ctx.Err()
			}
			path := filepath.Join(string(m), part, f.Name())
			read, err := take(m.read(path))
			if err != nil {
				return err
			}
			if read {
				marks := []byte(flags + "S")
				slices.Sort(marks)
				if err := os.Rename(path, filepath.Join(string(m), "cur", name+":2,"+string(marks))); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func (m Maildir) read(path string) (*Incoming, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	in, err := ReadIncoming(f)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return in, nil
}

// IMAP is a mailbox on a server (RFC 3501).
type IMAP struct{ Set *settings.Answers }

// Each signs in and hands over the mails that are not marked as seen.
func (b IMAP) Each(ctx context.Context, take func(*Incoming, error) (bool, error)) error {
	return b.in(ctx, func(c *client.Client) error { return unread(ctx, c, take) })
}

// Try signs in, and looks whether the folder is there.
func (b IMAP) Try(ctx context.Context) error {
	return b.in(ctx, func(*client.Client) error { return nil })
}

// in does something in the folder.
func (b IMAP) in(ctx context.Context, do func(*client.Client) error) (err error) {
	defer func() {
		if err != nil {
			err = fmt.Errorf("mailbox %s: %w", b.Set.Server, err)
		}
	}()
	c, err := b.connect(ctx)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, logout(c)) }()
	folder := b.Set.Folder
	if folder == "" {
		folder = "INBOX"
	}
	if _, err := c.Select(folder, false); err != nil {
		return fmt.Errorf("folder %s: %w", folder, err)
	}
	return do(c)
}

// unread hands over the mails of a folder that are not marked as seen.
func unread(ctx context.Context, c *client.Client, take func(*Incoming, error) (bool, error)) error {
	which := imap.NewSearchCriteria()
	which.WithoutFlags = []string{imap.SeenFlag}
	numbers, err := c.UidSearch(which)
	if err != nil {
		return err
	}
	for _, n := range numbers {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := one(c, n, take); err != nil {
			return err
		}
	}
	return nil
}

// one reads one mail, and marks it if it was taken.
func one(c *client.Client, n uint32, take func(*Incoming, error) (bool, error)) error {
	set := new(imap.SeqSet)
	set.AddNum(n)
	// Peek: reading it does not mark it. More than the largest answer is not asked for.
	section := &imap.BodySectionName{Peek: true, Partial: []int{0, mostMail}}
	found := make(chan *imap.Message, 1)
	done := make(chan error, 1)
	go func() { done <- c.UidFetch(set, []imap.FetchItem{section.FetchItem(), imap.FetchUid}, found) }()
	var in *Incoming
	err := errors.New("the server gives no mail under its own number")
	for m := range found {
		if body := bodyOf(m); body != nil {
			in, err = ReadIncoming(body)
		}
	}
	if failed := <-done; failed != nil {
		return failed
	}
	if err != nil {
		err = fmt.Errorf("mail %d: %w", n, err)
	}
	read, err := take(in, err)
	if err != nil || !read {
		return err
	}
	return c.UidStore(set, imap.FormatFlagsOp(imap.AddFlags, true), []any{imap.SeenFlag}, nil)
}

// bodyOf is the mail in an answer; servers name the part that was asked for in ways of
// their own.
func bodyOf(m *imap.Message) io.Reader {
	for _, literal := range m.Body {
		if literal == nil {
			continue
		}
		raw, err := io.ReadAll(io.LimitReader(literal, mostMail))
		if err == nil {
			return bytes.NewReader(raw)
		}
	}
	return nil
}

func logout(c *client.Client) error {
	if err := c.Logout(); err != nil && !errors.Is(err, client.ErrAlreadyLoggedOut) {
		return c.Terminate()
	}
	return nil
}

// connect signs in, encrypted unless the server is on this machine and the settings say
// otherwise.
func (b IMAP) connect(ctx context.Context) (*client.Client, error) {
	set := b.Set
	host, _, err := net.SplitHostPort(set.Server)
	if err != nil {
		return nil, err
	}
	roots, err := trust.Roots(set.CAFile)
	if err != nil {
		return nil, err
	}
	config := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12, RootCAs: roots}
	dialer := &net.Dialer{Timeout: most}
	conn, err := dialer.DialContext(ctx, "tcp", set.Server)
	if err != nil {
		return nil, err
	}
	context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })
	wire := conn
	if set.TLS == "" || set.TLS == "tls" {
		wire = tls.Client(conn, config)
	}
	if err := wire.SetDeadline(time.Now().Add(most)); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	c, err := client.New(wire)
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	c.Timeout = most
	if err := b.begin(ctx, c, config); err != nil {
		return nil, errors.Join(err, c.Terminate())
	}
	return c, nil
}

func (b IMAP) begin(ctx context.Context, c *client.Client, config *tls.Config) error {
	set := b.Set
	if set.TLS == "starttls" {
		if ok, err := c.SupportStartTLS(); err != nil || !ok {
			return errors.Join(err, errors.New("it does not offer STARTTLS, and no password is sent unencrypted"))
		}
		if err := c.StartTLS(config); err != nil {
			return err
		}
	}
	password, err := trust.Kept{File: set.PasswordFile, Env: set.PasswordEnv, Command: set.PasswordCommand}.Read(ctx)
	if err != nil {
		return err
	}
	if err := c.Login(set.Name, password); err != nil {
		return fmt.Errorf("signing in as %s: %w", set.Name, err)
	}
	return nil
}
