package work

import (
	"bufio"
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/ldif"
	"yardbroom/internal/practice"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
	"yardbroom/internal/whole"
)

// Rehearsal is what became of a batch on a copy of its directory.
type Rehearsal struct {
	Batch  *batch.Batch // with the states of its lines there
	Where  string       // what was copied
	Zone   *time.Location
	Result carry.Result
	Change *audit.Comparison // of the audits before and after
}

// NotDone tells whether lines were left that should have been done.
func (r *Rehearsal) NotDone() bool { return r.Result.NotDone() > 0 || r.Result.Halted != "" }

// Rehearse carries a batch out on a copy of the directory in memory, and
// compares what an audit says before and afterwards. Where nothing says on what,
// it is the batch's yard, or what it was staged from.
func (s *Session) Rehearse(ctx context.Context, b *batch.Batch, on From) (*Rehearsal, error) {
	if b.Open() == 0 {
		return nil, nothingLeft(b)
	}
	on.Where = cmp.Or(on.Where, b.Yard, s.Settings.Default, b.Source)
	p, err := s.Open(ctx, on)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if file, ok := p.Source.(*source.File); ok {
		file.ChangesAhead()
	}
	if err := s.RefuseMissing(ctx, p, nil); err != nil {
		return nil, err
	}
	c, err := s.copyOf(ctx, p, b)
	if err != nil {
		return nil, err
	}
	defer c.close()
	res, played, err := s.play(ctx, p, c, b)
	if err == nil {
		err = c.dir.Broken()
	}
	if err != nil {
		return nil, err
	}
	// Both are judged for one moment, or something might get old in between.
	at := s.now()
	before, err := s.judgeCopy(ctx, c, c.behind, at)
	if err != nil {
		return nil, err
	}
	after, err := s.judgeAfter(ctx, c, at)
	if err != nil {
		return nil, err
	}
	return &Rehearsal{
		Batch:  played,
		Where:  p.Where(),
		Zone:   p.Zone(),
		Result: res,
		Change: audit.Compare(before, after),
	}, nil
}

// served is a copy of a directory, served on this machine only while it is
// rehearsed on. It holds what the batch can reach; everything stands in a file behind it.
type served struct {
	dir     *practice.Directory
	dialect *directory.Dialect
	place   *Place         // what the settings say of the original
	behind  *source.File   // all entries as they are
	live    *source.Server // a connection to the copy
	stop    context.CancelFunc
	state   string // a folder of its own, so that the journal knows nothing of it
	removed func() // is called when that is gone
}

func (c *served) close() {
	if c.live != nil {
		c.live.Close()
	}
	if c.behind != nil && c.behind != c.place.Source {
		c.behind.Close()
	}
	c.stop()
	os.RemoveAll(c.state)
	c.removed()
}

// copyOf serves a copy of a place.
func (s *Session) copyOf(ctx context.Context, p *Place, b *batch.Batch) (*served, error) {
	id, err := p.Identity(ctx)
	if err != nil {
		return nil, err
	}
	if !id.Same(b.Identity) {
		return nil, fmt.Errorf("batch %d is for %s, but %s is %s", b.ID, b.Identity, p.Where(), id)
	}
	d, err := directory.DialectNamed(id.Dialect)
	if err != nil {
		return nil, err
	}
	keep, err := audit.Attributes(s.Settings)
	if err != nil {
		return nil, asRequest(err)
	}
	c := &served{dialect: d, place: p}
	if c.state, err = os.MkdirTemp("", "yardbroom-rehearsal-"); err != nil {
		return nil, err
	}
	c.removed = whole.Passing(c.state)
	serving, stop := context.WithCancel(context.WithoutCancel(ctx))
	c.stop = stop
	defer func() {
		if err != nil {
			c.close()
		}
	}()
	if c.behind, err = c.fileOf(ctx, filepath.Join(c.state, "all.ldif"), keep); err != nil {
		return nil, err
	}
	behind, err := c.behind.Behind(ctx)
	if err != nil {
		return nil, err
	}
	others, err := behind.Others()
	if err != nil {
		return nil, err
	}
	survey, err := c.behind.Survey(ctx)
	if err != nil {
		return nil, err
	}
	c.dir, err = practice.CopyOf(
		practice.Identity{Dialect: d, Base: id.Base, SID: id.ID}, others, behind, survey.LastRID()+1, s.Now)
	if err != nil {
		return nil, err
	}
	password := rand.Text()
	server := &practice.Server{Dir: c.dir, Account: "rehearsal", Password: password, Host: b.Server}
	url, err := server.Listen(serving, "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	yard := p.Yard
	yard.Servers, yard.Avoid, yard.StartTLS, yard.CAFile, yard.Dialect = []string{url}, nil, false, "", d.Name
	yard.Base = cmp.Or(yard.Base, id.Base)
	yard.Bind = settings.Bind{DN: "rehearsal", Ask: true}
	c.live, err = source.Connect(ctx,
		source.Target{Yard: yard, Keep: keep, Now: s.Now, Ask: func(string) (string, error) { return password, nil }})
	return c, err
}

// fileOf is a file with all entries of the place: the place itself, or one that is written
// at a path.
func (c *served) fileOf(ctx context.Context, path string, keep directory.AttrSet) (*source.File, error) {
	if own, ok := c.place.Source.(*source.File); ok && own.Plain() {
		return own, nil // surveyed on the way here
	}
	if err := writeAll(ctx, c.place, path); err != nil {
		return nil, err
	}
	file, err := source.OpenFile(path, nil)
	if err != nil {
		return nil, err
	}
	file.Dialect, file.DefaultPolicy, file.Keep = c.dialect, c.place.Yard.DefaultPolicy, keep
	file.ChangesAhead()
	return file, nil
}

// writeAll writes all entries of a place into a file that nobody needs for long.
func writeAll(ctx context.Context, p *Place, path string) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(file, 1<<16)
	write := func(text []byte) { _, _ = out.Write(text) } // Flush tells what went wrong
	var anew error
	begin := func() {
		_, anew = file.Seek(0, io.SeekStart)
		anew = errors.Join(anew, file.Truncate(0))
		out.Reset(file)
		write([]byte(ldif.Version))
	}
	err = p.Each(ctx, source.Selection{}, begin, func(e *directory.Entry) any { return ldif.AppendEntry(nil, e) },
		func(text any) { write(text.([]byte)) })
	return errors.Join(err, anew, out.Flush(), file.Close())
}

// judgeCopy audits a file of all entries, by the last roster too.
func (s *Session) judgeCopy(ctx context.Context, c *served, file *source.File, at time.Time) (*audit.Report, error) {
	p := &Place{Source: file, Yard: c.place.Yard, Name: c.place.Name}
	survey, err := p.Survey(ctx)
	if err != nil {
		return nil, err
	}
	list, err := s.keptRoster(ctx, p)
	if err != nil {
		return nil, err
	}
	var people *reconcile.Result
	if list != nil {
		if people, err = s.match(ctx, p, survey, at, list, byNames); err != nil {
			return nil, err
		}
	}
	return s.run(ctx, p, judging{survey: survey, people: people, asOf: at})
}

// judgeAfter audits the same file, with what the batch has made of its entries in their
// place.
func (s *Session) judgeAfter(ctx context.Context, c *served, at time.Time) (*audit.Report, error) {
	became, came := c.dir.Became()
	instead := make(map[directory.Key]*directory.Entry, len(became))
	for name, e := range became {
		instead[directory.KeyOf(name)] = e
	}
	file, err := c.behind.With(instead, came)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return s.judgeCopy(ctx, c, file, at)
}

// play carries what is left of the batch out on the copy, with a journal of its
// own.
func (s *Session) play(ctx context.Context, p *Place, c *served, b *batch.Batch) (carry.Result, *batch.Batch, error) {
	apart, err := store.Open(ctx, c.state)
	if err != nil {
		return carry.Result{}, nil, err
	}
	defer apart.Close()
	played := *b
	played.Lines = nil
	for _, l := range b.Lines {
		if !l.State.Settled() {
			l.State, l.Note, l.N = batch.Waiting, "", len(played.Lines)+1
			played.Lines = append(played.Lines, l)
		}
	}
	if err := played.Save(ctx, apart); err != nil {
		return carry.Result{}, nil, err
	}
	protection, err := s.protection(ctx, p)
	if err != nil {
		return carry.Result{}, nil, err
	}
	r := &carry.Job{Store: apart, Batch: &played, Server: c.live, Protection: protection, Settings: s.Settings,
		DefaultPolicy: p.Yard.DefaultPolicy, By: s.By, Now: time.Now, OnCopy: true, AcceptUnproved: true, Homes: p.Yard.Homes,
		Deliver: func(*batch.Line, string) error { return nil }}
	if r.Barred, err = s.barred(ctx, &played); err != nil {
		return carry.Result{}, nil, err
	}
	res, err := r.Run(ctx, carry.Pace{Connections: 4})
	played.ID = b.ID
	return res, &played, err
}
