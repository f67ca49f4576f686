package rounds

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"yardbroom/internal/mail"
	"yardbroom/internal/settings"
	"yardbroom/internal/whole"
)

// Preview plays a round on a copy of the state folder, and writes what it would send
// and publish into a folder: mails as mail.eml files with their pages beside them,
// posts as JSON, and the pages for the web server. The yard is only read; nothing is
// kept, sent or carried out.
func (r *Runner) Preview(ctx context.Context, name, folder string) (*Run, error) {
	if _, err := r.Named(name); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	s, end, err := r.Copy(ctx)
	if err != nil {
		return nil, err
	}
	set := *r.Settings
	set.Rounds = map[string]settings.Round{name: previewed(r.Settings.Rounds[name], folder)}
	s.Settings = &set
	sink := &sink{folder: folder}
	p := &Runner{Session: s, Log: r.Log, Host: r.Host, Send: sink, playing: true}
	run, err := p.Run(ctx, name, &Request{})
	return run, errors.Join(err, sink.err, end())
}

// previewed is a round that writes into a folder.
func previewed(r settings.Round, folder string) settings.Round {
	if r.Folder != nil {
		f := *r.Folder
		f.Path, f.Address = filepath.Join(folder, "pages"), ""
		r.Folder = &f
	}
	if r.Metrics != "" {
		r.Metrics = filepath.Join(folder, "metrics.txt")
	}
	return r
}

// Into is a sender that writes messages into a folder, each mail as it would be sent and
// as a page.
func Into(folder string) Sender { return &sink{folder: folder} }

// sink writes messages into a folder instead of sending them.
type sink struct {
	folder string
	n      int
	err    error
}

func (s *sink) Mail(context.Context, *settings.Mail) (MailConnection, error) { return s, nil }

func (s *sink) Send(to string, message []byte) error {
	s.n++
	name := fmt.Sprintf("mail-%d-%s", s.n, slug(to))
	page, err := mail.Page(message)
	if err != nil {
		return err
	}
	return errors.Join(s.put(name+".eml", message), s.put(name+".html", []byte(page)))
}

func (s *sink) Post(_ context.Context, _ *settings.Post, body []byte, _ time.Time) error {
	s.n++
	return s.put(fmt.Sprintf("post-%d.json", s.n), body)
}

func (s *sink) Close() error { return nil }

func (s *sink) put(name string, data []byte) error {
	err := whole.Write(filepath.Join(s.folder, name), func(w io.Writer) error {
		_, err := io.Copy(w, bytes.NewReader(data))
		return err
	})
	if err != nil && s.err == nil {
		s.err = err
	}
	return err
}
