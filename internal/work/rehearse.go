package work

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
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
	if err := s.RefuseMissing(ctx, p, nil); err != nil {
		return nil, err
	}
	c, err := s.copyOf(ctx, p, b)
	if err != nil {
		return nil, err
	}
	defer c.close()
	first, then := filepath.Join(c.dir, "before.ldif"), filepath.Join(c.dir, "after.ldif")
	if err := c.write(first); err != nil {
		return nil, err
	}
	res, played, err := s.play(ctx, p, c, b)
	if err != nil {
		return nil, err
	}
	if err := c.write(then); err != nil {
		return nil, err
	}
	// Both are judged for one moment, or something might get old in between.
	at := s.now()
	before, err := s.judgeCopy(ctx, c, first, at)
	if err != nil {
		return nil, err
	}
	after, err := s.judgeCopy(ctx, c, then, at)
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
// rehearsed on.
type served struct {
	server  *practice.Server
	dialect *directory.Dialect
	place   *Place         // what the settings say of the original
	live    *source.Server // a connection to the copy
	stop    context.CancelFunc
	dir     string // state of its own, so that the journal knows nothing of it
	removed func() // is called when that is gone
}

func (c *served) close() {
	if c.live != nil {
		c.live.Close()
	}
	c.stop()
	os.RemoveAll(c.dir)
	c.removed()
}

// copyOf copies all entries of a place and serves them.
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
	entries, err := every(ctx, p, source.Selection{})
	if err != nil {
		return nil, err
	}
	c := &served{dialect: d, place: p}
	if c.dir, err = os.MkdirTemp("", "yardbroom-rehearsal-"); err != nil {
		return nil, err
	}
	c.removed = whole.Passing(c.dir)
	serving, stop := context.WithCancel(context.WithoutCancel(ctx))
	c.stop = stop
	password := rand.Text()
	c.server = &practice.Server{
		Dir:      practice.Copy(practice.Identity{Dialect: d, Base: id.Base, SID: id.ID}, entries, s.Now),
		Account:  "rehearsal",
		Password: password,
		Host:     b.Server,
	}
	url, err := c.server.Listen(serving, "127.0.0.1:0")
	if err != nil {
		c.close()
		return nil, err
	}
	keep, err := audit.Attributes(s.Settings)
	if err != nil {
		c.close()
		return nil, asRequest(err)
	}
	yard := p.Yard
	yard.Servers, yard.Avoid, yard.StartTLS, yard.CAFile, yard.Dialect = []string{url}, nil, false, "", d.Name
	yard.Base = cmp.Or(yard.Base, id.Base)
	yard.Bind = settings.Bind{DN: "rehearsal", Ask: true}
	c.live, err = source.Connect(ctx,
		source.Target{Yard: yard, Keep: keep, Now: s.Now, Ask: func(string) (string, error) { return password, nil }})
	if err != nil {
		c.close()
		return nil, err
	}
	return c, nil
}

// judgeCopy audits a file that was written of the copy, by the last roster too.
// That is much faster than asking the copy for its entries.
func (s *Session) judgeCopy(ctx context.Context, c *served, path string, at time.Time) (*audit.Report, error) {
	file, err := source.OpenFile(path, nil)
	if err != nil {
		return nil, err
	}
	p := &Place{Source: file, Yard: c.place.Yard, Name: c.place.Name}
	defer p.Close()
	keep, err := audit.Attributes(s.Settings)
	if err != nil {
		return nil, asRequest(err)
	}
	file.Dialect, file.DefaultPolicy, file.Keep = c.dialect, p.Yard.DefaultPolicy, keep
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
	return s.run(ctx, p, survey, people, at, nil, "")
}

// write writes the copy as it is now into a file that nobody needs for long.
func (c *served) write(path string) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	out := ldif.NewWriter(file)
	return errors.Join(c.server.Dir.Each(out.Write), out.Flush(), file.Close())
}

// play carries what is left of the batch out on the copy, with a journal of its
// own.
func (s *Session) play(ctx context.Context, p *Place, c *served, b *batch.Batch) (carry.Result, *batch.Batch, error) {
	apart, err := store.Open(ctx, c.dir)
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
