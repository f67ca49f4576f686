package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/render"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

func (a *app) restoreCommand() *cli.Command {
	return &cli.Command{
		Name: "restore", Usage: "bring a deleted entry back, an account disabled; without a name, list what the journal and the directory know as deleted", ArgsUsage: "[ACCOUNT]", Flags: slices.Concat(carryFlags(), backFlags()),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() > 1 {
				return usage("give one account, by logon name or by the DN it had")
			}
			name := cmd.Args().First()
			s, err := a.openStore(ctx)
			if err != nil {
				return err
			}
			defer s.Close()
			if name == "" {
				return a.listDeleted(ctx, cmd, s)
			}
			return a.restore(ctx, cmd, s, name)
		},
	}
}

// restore brings an entry back, or goes on with what has begun to.
func (a *app) restore(ctx context.Context, cmd *cli.Command, s *store.Store, name string) error {
	begun, err := carry.Unfinished(ctx, s, func(head *batch.Batch) bool { return slices.Contains(head.Actions, batch.Restore) })
	if err != nil {
		return err
	}
	for _, b := range begun {
		if !slices.ContainsFunc(b.Lines, func(l batch.Line) bool { return !l.State.Settled() && l.Is(name) }) {
			continue
		}
		if b.UndoOf != 0 {
			return fmt.Errorf("batch %d, which takes batch %d back, has begun to bring it back and was stopped: \"yardbroom apply %d\" goes on with it", b.ID, b.UndoOf, b.ID)
		}
		a.note("batch %d has begun to bring it back and was stopped; it goes on", b.ID)
		return a.carryOut(ctx, cmd, s, b)
	}
	deleted, err := a.deletedHere(ctx, cmd, s, name)
	if err != nil {
		return err
	}
	var b *batch.Batch
	if len(deleted) > 0 {
		b, err = a.restoreFromJournal(ctx, s, &deleted[0])
	} else {
		b, err = a.restoreFromGrave(ctx, cmd, name)
	}
	if err != nil {
		return err
	}
	return a.bringBack(ctx, cmd, s, b, nil, "restore "+name)
}

// deletedHere are the deletions of an account from the directory that --on names.
// Without that they must all be from one.
func (a *app) deletedHere(ctx context.Context, cmd *cli.Command, s *store.Store, name string) ([]carry.Deleted, error) {
	deleted, err := carry.FindDeleted(ctx, s, name)
	if err != nil || len(deleted) == 0 {
		return nil, err
	}
	if where := cmd.String("on"); where != "" {
		p, err := a.openNamed(ctx, cmd, where)
		if err != nil {
			return nil, err
		}
		defer p.Close()
		id, err := p.Identity(ctx)
		return slices.DeleteFunc(deleted, func(d carry.Deleted) bool { return !d.Directory.Same(id) }), err
	}
	for i := range deleted {
		if first := &deleted[0]; !deleted[i].Directory.Same(first.Directory) {
			return nil, fmt.Errorf("%s was deleted from %s (batch %d) and from %s (batch %d): say with --on which one is meant", render.Visible(name), first.Directory, first.Batch, deleted[i].Directory, deleted[i].Batch)
		}
	}
	return deleted, nil
}

func (a *app) restoreFromJournal(ctx context.Context, s *store.Store, d *carry.Deleted) (*batch.Batch, error) {
	old, err := batch.Load(ctx, s, d.Batch)
	if err != nil {
		return nil, err
	}
	back, not := d.ComesBack()
	fmt.Fprintf(a.out, "%s was deleted by batch %d on %s.\n", render.Visible(d.Account), d.Batch, render.Moment(d.At, time.Local))
	a.tellReturn(back, not)
	return carry.Return(old.Identity, old.Yard, d, nil, actor(), a.now().UTC())
}

func (a *app) tellReturn(back, not []string) {
	for _, text := range back {
		fmt.Fprintln(a.out, render.Visible("  comes back: "+text))
	}
	for _, text := range not {
		fmt.Fprintln(a.out, render.Visible("  does not:   "+text))
	}
}

// restoreFromGrave looks for an account that this journal never deleted
// among the directory's own deleted objects.
func (a *app) restoreFromGrave(ctx context.Context, cmd *cli.Command, name string) (*batch.Batch, error) {
	p, err := a.openNamed(ctx, cmd, cmd.String("on"))
	if err != nil {
		return nil, err
	}
	defer p.Close()
	server, ok := p.server()
	if !ok {
		return nil, usage("--on %s is not a directory server", p.name)
	}
	graves, err := server.Deleted(ctx, name)
	if err != nil {
		return nil, err
	}
	if len(graves) != 1 {
		return nil, fmt.Errorf("%d deleted accounts called %q in the journal and in %s", len(graves), name, server.URL)
	}
	kept, err := server.Retention(ctx)
	if err != nil {
		return nil, err
	}
	id, err := server.Identity(ctx)
	if err != nil {
		return nil, err
	}
	fmt.Fprintf(a.out, "%s was deleted on %s, not by this journal.\n", render.Visible(name), render.Moment(graveTime(&graves[0]), time.Local))
	a.tellReturn(fromGrave(kept))
	return carry.Return(id, cmp.Or(cmd.String("on"), a.set.Default), nil, &graves[0], actor(), a.now().UTC())
}

// fromGrave says what the directory alone can bring back.
func fromGrave(kept source.Retention) (back, not []string) {
	if kept.Whole {
		return []string{"the entry itself, as the directory kept it"}, []string{"its groups, if the directory does not put it back into them"}
	}
	return []string{"the entry itself: its name, identity and rights"}, []string{"its groups and most attributes: no journal has an image of it", "the password"}
}

// graveTime is when an entry was deleted, by the directory.
func graveTime(grave *directory.Entry) time.Time {
	t, _ := directory.ParseGeneralizedTime(grave.First("whenChanged"))
	return t
}

// listDeleted lists what this journal has deleted, and what the directory
// itself keeps of deleted entries, where it can be asked.
func (a *app) listDeleted(ctx context.Context, cmd *cli.Command, s *store.Store) error {
	deleted, err := carry.FindDeleted(ctx, s, "")
	if err != nil {
		return err
	}
	var rows [][]string
	graves, err := a.graves(ctx, cmd, deleted)
	if err != nil {
		return err
	}
	for i := range deleted {
		d := &deleted[i]
		back, not := d.ComesBack()
		by := fmt.Sprintf("journal %d/%d", d.Batch, d.Line)
		here := d.Directory.Same(graves.of)
		if here && graves.take(d.ID()) {
			by += ", directory"
		}
		what := strings.Join(back[min(1, len(back)):], ", ") // the place stands in a column of its own
		if here && graves.taken[directory.FoldDN(d.DN)] {
			what = "nothing: there is an entry of that name again"
		} else if len(not) > 0 {
			what += "; not: " + strings.Join(not, "; ")
		}
		rows = append(rows, []string{render.Visible(d.Account), render.Place(d.DN), render.Moment(d.At, time.Local), by, render.Visible(what)})
	}
	for i := range graves.left {
		g := &graves.left[i]
		back, not := fromGrave(graves.kept)
		rows = append(rows, []string{render.Visible(g.First("sAMAccountName")), render.Place("CN=x," + g.First("lastKnownParent")), render.Moment(graveTime(g), time.Local), "directory",
			strings.Join(back, ", ") + "; not: " + strings.Join(not, "; ")})
	}
	if len(rows) == 0 {
		a.note("nothing is known as deleted")
		return nil
	}
	slices.SortStableFunc(rows, func(x, y []string) int { return strings.Compare(y[2], x[2]) })
	render.Table(a.out, a.style(time.Local), []string{"Account", "Was in", "Deleted", "Kept by", "Comes back"}, rows, 4, 1)
	return nil
}

// graves are the deleted objects of a directory.
type graves struct {
	of    source.Identity
	kept  source.Retention
	left  []directory.Entry // those that no journal entry has taken
	id    func(*directory.Entry) string
	taken map[string]bool // folded names of what was deleted that entries have now
}

// take tells whether an entry is among them, and takes it out.
func (g *graves) take(id string) bool {
	i := slices.IndexFunc(g.left, func(e directory.Entry) bool { return g.id(&e) == id })
	if i < 0 {
		return false
	}
	g.left = slices.Delete(g.left, i, i+1)
	return true
}

// graves asks the directory for what it keeps of deleted entries, and which
// places of those that the journal deleted are taken. A directory that cannot
// be asked is noted.
func (a *app) graves(ctx context.Context, cmd *cli.Command, deleted []carry.Deleted) (*graves, error) {
	g := &graves{taken: map[string]bool{}}
	where := cmp.Or(cmd.String("on"), a.set.Default)
	if where == "" {
		a.note("only what this journal deleted is listed; --on asks a directory for its own deleted objects too")
		return g, nil
	}
	p, err := a.openNamed(ctx, cmd, where)
	if err != nil {
		a.note("only what this journal deleted is listed; the directory could not be asked: %v", err)
		return g, nil
	}
	defer p.Close()
	server, ok := p.server()
	if !ok {
		return g, usage("--on %s is not a directory server", where)
	}
	if g.of, err = server.Identity(ctx); err != nil {
		return g, err
	}
	if g.kept, err = server.Retention(ctx); err != nil {
		return g, err
	}
	a.note("%s", g.kept)
	var dns []string
	for i := range deleted {
		dns = append(dns, deleted[i].DN)
	}
	back, err := server.Get(ctx, dns)
	if err != nil {
		return g, err
	}
	for i := range back {
		g.taken[directory.FoldDN(back[i].DN)] = true
	}
	g.id = func(e *directory.Entry) string {
		return source.ShowIdentity(server.Dialect, e.First(server.Dialect.Identity.String()))
	}
	g.left, err = server.Deleted(ctx, "")
	return g, err
}
