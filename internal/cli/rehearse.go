package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/ldif"
	"yardbroom/internal/practice"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/render"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// rehearse carries a batch out on a copy of the directory in memory, and
// shows what an audit would say afterwards that it does not say now.
func (a *app) rehearse(ctx context.Context, cmd *cli.Command, b *batch.Batch) error {
	if b.Open() == 0 {
		return nothingLeft(b)
	}
	where := cmp.Or(cmd.String("on"), b.Yard, a.set.Default)
	if where == "" {
		where = b.Source
	}
	p, err := a.openNamed(ctx, cmd, where)
	if err != nil {
		return err
	}
	defer p.Close()
	if err := a.named(ctx, p, nil, true); err != nil {
		return err
	}
	stage, err := a.setStage(ctx, p, b)
	if err != nil {
		return err
	}
	defer stage.close()
	as, then := filepath.Join(stage.dir, "before.ldif"), filepath.Join(stage.dir, "after.ldif")
	if err := stage.write(as); err != nil {
		return err
	}
	res, played, err := a.play(ctx, p, stage, b)
	if err != nil {
		return err
	}
	if err := stage.write(then); err != nil {
		return err
	}
	// Both are judged for one moment, or something might get old in between.
	at := a.now().UTC()
	before, err := a.judgeCopy(ctx, stage, as, at)
	if err != nil {
		return err
	}
	after, err := a.judgeCopy(ctx, stage, then, at)
	if err != nil {
		return err
	}
	c := audit.Compare(before, after)
	render.Rehearsal(a.out, &render.Play{Batch: played, Where: p.Where(), Done: res.Counts[batch.Applied], Halted: res.Halted, Change: c}, a.style(p.zone()))
	if res.NotDone() > 0 || res.Halted != "" {
		return &exitError{status: exitNotDone}
	}
	return nil
}

// stageSet is a copy of a directory, served on this machine only while it is
// rehearsed on.
type stageSet struct {
	server  *practice.Server
	dialect *directory.Dialect
	place   *place // a connection to the copy, with what the settings say of the original
	stop    context.CancelFunc
	dir     string // state of its own, so that the journal knows nothing of it
}

func (s *stageSet) close() {
	if s.place != nil {
		s.place.Close()
	}
	s.stop()
	os.RemoveAll(s.dir)
}

// setStage copies all entries and serves them.
func (a *app) setStage(ctx context.Context, p *place, b *batch.Batch) (*stageSet, error) {
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
	var entries []directory.Entry
	err = p.Each(ctx, source.Selection{}, func() { entries = nil }, func(e *directory.Entry) any { return e.Clone() },
		func(made any) { entries = append(entries, made.(directory.Entry)) })
	if err != nil {
		return nil, err
	}
	s := &stageSet{dialect: d}
	if s.dir, err = os.MkdirTemp("", "yardbroom-rehearsal-"); err != nil {
		return nil, err
	}
	serving, stop := context.WithCancel(context.WithoutCancel(ctx))
	s.stop = stop
	password := rand.Text()
	s.server = &practice.Server{Dir: practice.Copy(practice.Identity{Dialect: d, Base: id.Base, SID: id.ID}, entries, a.now),
		Account: "rehearsal", Password: password, Host: b.Server}
	url, err := s.server.Listen(serving, "127.0.0.1:0")
	if err != nil {
		s.close()
		return nil, err
	}
	yard := p.yard
	yard.Servers, yard.Avoid, yard.StartTLS, yard.CAFile, yard.Dialect = []string{url}, nil, false, "", d.Name
	yard.Base = cmp.Or(yard.Base, id.Base)
	yard.Bind = settings.Bind{DN: "rehearsal", Ask: true}
	server, err := source.Connect(ctx, source.Target{Yard: yard, Keep: a.keep, Now: a.now, Ask: func(string) (string, error) { return password, nil }})
	if err != nil {
		s.close()
		return nil, err
	}
	s.place = &place{Source: server, yard: p.yard, name: p.name}
	return s, nil
}

// judgeCopy audits a file that was written of the copy, by the last roster too.
// That is much faster than asking the copy for its entries.
func (a *app) judgeCopy(ctx context.Context, s *stageSet, path string, at time.Time) (*audit.Report, error) {
	file, err := source.OpenFile(path, nil)
	if err != nil {
		return nil, err
	}
	p := &place{Source: file, yard: s.place.yard, name: s.place.name}
	defer p.Close()
	file.Dialect, file.DefaultPolicy, file.Keep = s.dialect, p.yard.DefaultPolicy, a.keep
	survey, err := p.Survey(ctx)
	if err != nil {
		return nil, err
	}
	list, err := a.keptRoster(ctx, p)
	if err != nil {
		return nil, err
	}
	var people *reconcile.Result
	if list != nil {
		if people, err = a.match(ctx, p, survey, at, list, false); err != nil {
			return nil, err
		}
	}
	return a.run(ctx, p, survey, people, at, nil, "")
}

// write writes the copy as it is now into a file that nobody needs for long.
func (s *stageSet) write(path string) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	out := ldif.NewWriter(file)
	return errors.Join(s.server.Dir.Each(out.Write), out.Flush(), file.Close())
}

// barredIn is barred, by the state folder and not the rehearsal's own.
func (a *app) barredIn(ctx context.Context, b *batch.Batch) (map[int]string, error) {
	s, err := a.openStore(ctx)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	return a.barred(ctx, s, b)
}

// play carries the batch out on the copy, with a journal of its own.
func (a *app) play(ctx context.Context, p *place, s *stageSet, b *batch.Batch) (carry.Result, *batch.Batch, error) {
	st, err := store.Open(ctx, s.dir)
	if err != nil {
		return carry.Result{}, nil, err
	}
	defer st.Close()
	played := *b
	played.Lines = nil
	for _, l := range b.Lines {
		if !l.State.Settled() {
			l.State, l.Note, l.N = batch.Waiting, "", len(played.Lines)+1
			played.Lines = append(played.Lines, l)
		}
	}
	if err := played.Save(ctx, st); err != nil {
		return carry.Result{}, nil, err
	}
	played.ID = b.ID
	server, ok := s.place.server()
	if !ok {
		return carry.Result{}, nil, errors.New("the copy is not served")
	}
	protection, err := a.protection(ctx, p)
	if err != nil {
		return carry.Result{}, nil, err
	}
	played.ID = 1
	r := &carry.Runner{Store: st, Batch: &played, Server: server, Protection: protection, Settings: a.set,
		DefaultPolicy: p.yard.DefaultPolicy, By: actor(), Now: time.Now, Rehearsal: true, AcceptUnproved: true, Connections: 4, Homes: p.yard.Homes,
		Deliver: func(*batch.Line, string) error { return nil }}
	if r.Barred, err = a.barredIn(ctx, &played); err != nil {
		return carry.Result{}, nil, err
	}
	res, err := r.Run(ctx)
	played.ID = b.ID
	return res, &played, err
}
