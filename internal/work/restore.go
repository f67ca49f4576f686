package work

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// Returning is a deleted entry, and what of it would come back.
type Returning struct {
	Account, DN string
	At          time.Time // of its deletion
	Batch, Line int       // that deleted it, 0 where that was not this journal
	// InDirectory tells that the directory keeps it as a deleted object, too.
	InDirectory bool
	// Taken tells that there is an entry of its name again.
	Taken     bool
	Back, Not []string // what comes back, and what does not, in words
}

// Restore brings a deleted entry back, or goes on with what has begun to. It is
// named by its logon name or by the DN that it had.
func (s *Session) Restore(ctx context.Context, name string, r *BackRequest) (*Back, error) {
	back := &Back{Command: "restore " + name}
	kept, err := s.Store(ctx)
	if err != nil {
		return back, err
	}
	begun, err := carry.Unfinished(ctx, kept,
		func(head *batch.Batch) bool { return slices.Contains(head.Actions, batch.Restore) })
	if err != nil {
		return back, err
	}
	for _, b := range begun {
		if !slices.ContainsFunc(b.Lines, func(l batch.Line) bool { return !l.State.Settled() && l.Is(name) }) {
			continue
		}
		if b.UndoOf != 0 {
			return back, fmt.Errorf(
				"batch %d, which takes batch %d back, has begun to bring it back and was stopped: \"yardbroom apply %d\" goes on with it",
				b.ID,
				b.UndoOf,
				b.ID,
			)
		}
		s.note("batch %d has begun to bring it back and was stopped; it goes on", b.ID)
		return back, s.goOn(ctx, b, r, back)
	}
	deleted, err := s.deletedHere(ctx, name, r)
	if err != nil {
		return back, err
	}
	var b *batch.Batch
	if len(deleted) > 0 {
		b, err = s.fromJournal(ctx, &deleted[0], r)
	} else {
		b, err = s.fromDirectory(ctx, name, r)
	}
	if err != nil {
		return back, err
	}
	return back, s.bringBack(ctx, b, nil, r, back)
}

// goOn carries out what is left of a batch that was begun.
func (s *Session) goOn(ctx context.Context, b *batch.Batch, r *BackRequest, back *Back) (err error) {
	if r.How == ByDryRun {
		back.Foretold, err = s.DryRun(ctx, b, &r.CarryRequest)
		return err
	}
	done, err := s.Apply(ctx, b, &r.CarryRequest)
	if done != nil {
		back.Carried = append(back.Carried, done)
	}
	return err
}

// deletedHere are the deletions of an account from the directory that the
// request names. Without that they must all be from one.
func (s *Session) deletedHere(ctx context.Context, name string, r *BackRequest) ([]carry.Deleted, error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	deleted, err := carry.FindDeleted(ctx, kept, name)
	if err != nil || len(deleted) == 0 {
		return nil, err
	}
	if r.On.Where != "" {
		p, err := s.Open(ctx, r.On)
		if err != nil {
			return nil, err
		}
		defer p.Close()
		id, err := p.Identity(ctx)
		return slices.DeleteFunc(deleted, func(d carry.Deleted) bool { return !d.Directory.Same(id) }), err
	}
	for i := range deleted {
		if first := &deleted[0]; !deleted[i].Directory.Same(first.Directory) {
			return nil, fmt.Errorf(
				"%s was deleted from %s (batch %d) and from %s (batch %d): say with --on which one is meant", name,
				first.Directory, first.Batch, deleted[i].Directory, deleted[i].Batch)
		}
	}
	return deleted, nil
}

// fromJournal is the batch that brings back what this journal has deleted.
func (s *Session) fromJournal(ctx context.Context, d *carry.Deleted, r *BackRequest) (*batch.Batch, error) {
	old, err := s.Batch(ctx, d.Batch)
	if err != nil {
		return nil, err
	}
	back, not := d.ComesBack()
	r.Watch.returning(
		&Returning{Account: d.Account, DN: d.DN, At: d.At, Batch: d.Batch, Line: d.Line, Back: back, Not: not})
	return carry.Return(old.Identity, old.Yard, d, nil, s.By, s.now())
}

func (w *Watch) returning(one *Returning) {
	if w.Returning != nil {
		w.Returning(one)
	}
}

// fromDirectory is the batch that brings back an account that this journal never
// deleted, from among the directory's own deleted objects.
func (s *Session) fromDirectory(ctx context.Context, name string, r *BackRequest) (*batch.Batch, error) {
	p, err := s.Open(ctx, r.On)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	server, ok := p.Server()
	if !ok {
		return nil, Wrong("--on %s is not a directory server", p.Name)
	}
	objects, err := server.Deleted(ctx, name)
	if err != nil {
		return nil, err
	}
	if len(objects) != 1 {
		return nil, fmt.Errorf("%d deleted accounts called %q in the journal and in %s", len(objects), name, server.URL)
	}
	retention, err := server.Retention(ctx)
	if err != nil {
		return nil, err
	}
	id, err := server.Identity(ctx)
	if err != nil {
		return nil, err
	}
	back, not := keptByDirectory(retention)
	r.Watch.returning(&Returning{Account: name, At: deletionTime(&objects[0]), InDirectory: true, Back: back, Not: not})
	return carry.Return(id, cmp.Or(r.On.Where, s.Settings.Default), nil, &objects[0], s.By, s.now())
}

// keptByDirectory says what the directory alone can bring back.
func keptByDirectory(kept source.Retention) (back, not []string) {
	if kept.Whole {
		return []string{
				"the entry itself, as the directory kept it",
			}, []string{
				"its groups, if the directory does not put it back into them",
			}
	}
	return []string{
			"the entry itself: its name, identity and rights",
		}, []string{
			"its groups and most attributes: no journal has an image of it",
			"the password",
		}
}

// deletionTime is when an entry was deleted, by the directory.
func deletionTime(object *directory.Entry) time.Time {
	t, _ := directory.ParseGeneralizedTime(object.First("whenChanged"))
	return t
}

// Deleted are the entries that this journal has deleted, and those that the
// directory itself keeps as deleted, where it can be asked; the latest first.
func (s *Session) Deleted(ctx context.Context, on From) (all []Returning, err error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	deleted, err := carry.FindDeleted(ctx, kept, "")
	if err != nil {
		return nil, err
	}
	objects, err := s.deletedObjects(ctx, on, deleted)
	if err != nil {
		return nil, err
	}
	for i := range deleted {
		d := &deleted[i]
		one := Returning{Account: d.Account, DN: d.DN, At: d.At, Batch: d.Batch, Line: d.Line}
		one.Back, one.Not = d.ComesBack()
		if d.Directory.Same(objects.of) {
			one.InDirectory = objects.take(d.ID())
			one.Taken = objects.taken[directory.FoldDN(d.DN)]
		}
		all = append(all, one)
	}
	for i := range objects.left {
		o := &objects.left[i]
		one := Returning{
			Account:     o.First("sAMAccountName"),
			DN:          "CN=x," + o.First("lastKnownParent"),
			At:          deletionTime(o),
			InDirectory: true,
		}
		one.Back, one.Not = keptByDirectory(objects.kept)
		all = append(all, one)
	}
	slices.SortStableFunc(all, func(x, y Returning) int { return y.At.Compare(x.At) })
	return all, nil
}

// deletedObjects are what a directory keeps of deleted entries.
type deletedObjects struct {
	of    source.Identity
	kept  source.Retention
	left  []directory.Entry // those that no journal entry has taken
	id    func(*directory.Entry) string
	taken map[string]bool // folded names of what was deleted that entries have now
}

// take tells whether an entry is among them, and takes it out.
func (o *deletedObjects) take(id string) bool {
	i := slices.IndexFunc(o.left, func(e directory.Entry) bool { return o.id(&e) == id })
	if i < 0 {
		return false
	}
	o.left = slices.Delete(o.left, i, i+1)
	return true
}

// deletedObjects asks the directory for what it keeps of deleted entries, and
// which places of those that the journal deleted are taken. A directory that
// cannot be asked is noted.
func (s *Session) deletedObjects(ctx context.Context, on From, deleted []carry.Deleted) (*deletedObjects, error) {
	o := &deletedObjects{taken: map[string]bool{}}
	if on.Where = cmp.Or(on.Where, s.Settings.Default); on.Where == "" {
		s.note("only what this journal deleted is listed; --on asks a directory for its own deleted objects too")
		return o, nil
	}
	p, err := s.Open(ctx, on)
	if err != nil {
		s.note("only what this journal deleted is listed; the directory could not be asked: %v", err)
		return o, nil
	}
	defer p.Close()
	server, ok := p.Server()
	if !ok {
		return o, Wrong("--on %s is not a directory server", on.Where)
	}
	if o.of, err = server.Identity(ctx); err != nil {
		return o, err
	}
	if o.kept, err = server.Retention(ctx); err != nil {
		return o, err
	}
	s.note("%s", o.kept)
	var dns []string
	for i := range deleted {
		dns = append(dns, deleted[i].DN)
	}
	back, err := server.Get(ctx, dns)
	if err != nil {
		return o, err
	}
	for i := range back {
		o.taken[directory.FoldDN(back[i].DN)] = true
	}
	o.id = func(e *directory.Entry) string {
		return source.ShowIdentity(server.Dialect, e.First(server.Dialect.Identity.String()))
	}
	o.left, err = server.Deleted(ctx, "")
	return o, err
}
