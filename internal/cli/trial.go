package cli

import (
	"context"
	"fmt"
	"os"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// tryReturn tries whether what is deleted comes back, where --probe asks for that, and
// says what was seen the last time where it does not.
func (a *app) tryReturn(ctx context.Context, cmd *cli.Command, p *place, line func(ok bool, label, value string)) error {
	const label = "Comes back"
	server, _ := p.server()
	id, err := p.Identity(ctx)
	if err != nil {
		return err
	}
	container := cmd.String("probe")
	if container == "" {
		seen, err := a.seenReturn(ctx, id, server.HostName())
		line(true, label, orElse(seen, "not tried: --probe OU=… does, with an account of its own"))
		return err
	}
	s, err := a.openStore(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	folder, err := os.MkdirTemp("", "yardbroom-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	apart, err := store.Open(ctx, folder)
	if err != nil {
		return err
	}
	defer apart.Close()
	protection, err := a.protection(ctx, p)
	if err != nil {
		return err
	}
	r := &carry.Runner{Store: apart, Server: server, Protection: protection, Settings: a.set, DefaultPolicy: p.yard.DefaultPolicy, By: actor(), Now: a.now}
	seen, err := r.Try(ctx, container)
	if err != nil {
		return fmt.Errorf("--probe %s: %w", container, err)
	}
	line(seen.Why == "" && (seen.Itself || server.Dialect != directory.AD), label, seen.String())
	return seen.Keep(ctx, s, actor())
}

// seenReturn says what was seen of a server bringing back what was deleted, "" where
// nobody has tried.
func (a *app) seenReturn(ctx context.Context, id source.Identity, host string) (string, error) {
	s, err := a.openKept(ctx)
	if err != nil || s == nil {
		return "", err // nothing was ever written down
	}
	defer s.Close()
	last, err := carry.LastTrial(ctx, s, id, host)
	if err != nil || last == nil {
		return "", err
	}
	return last.String(), nil
}
