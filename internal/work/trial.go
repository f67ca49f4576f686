package work

import (
	"context"
	"fmt"
	"os"

	"yardbroom/internal/carry"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
	"yardbroom/internal/whole"
)

// TryReturn makes an account of its own in a container of a live place, deletes
// it and brings it back, to see whether what is deleted comes back. What was seen
// is remembered for the server.
func (s *Session) TryReturn(ctx context.Context, p *Place, container string) (*carry.Trial, error) {
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	folder, err := os.MkdirTemp("", "yardbroom-")
	if err != nil {
		return nil, err
	}
	defer whole.Passing(folder)()
	defer os.RemoveAll(folder)
	apart, err := store.Open(ctx, folder)
	if err != nil {
		return nil, err
	}
	defer apart.Close()
	protection, err := s.protection(ctx, p)
	if err != nil {
		return nil, err
	}
	server, _ := p.Server()
	r := &carry.Job{
		Store:         apart,
		Server:        server,
		Protection:    protection,
		Settings:      s.Settings,
		DefaultPolicy: p.Yard.DefaultPolicy,
		By:            s.By,
		Now:           s.Now,
	}
	seen, err := r.Try(ctx, container)
	if err != nil {
		return nil, fmt.Errorf("--probe %s: %w", container, err)
	}
	return seen, seen.Keep(ctx, kept, s.By)
}

// SeenReturn says what was seen of the server of a live place bringing back what
// was deleted, "" where nobody has tried.
func (s *Session) SeenReturn(ctx context.Context, p *Place) (string, error) {
	id, err := p.Identity(ctx)
	if err != nil {
		return "", err
	}
	server, _ := p.Server()
	return s.seenReturn(ctx, id, server.HostName())
}

func (s *Session) seenReturn(ctx context.Context, id source.Identity, host string) (string, error) {
	kept, err := s.storeIfAny(ctx)
	if err != nil || kept == nil {
		return "", err // nothing was ever written down
	}
	last, err := carry.LastTrial(ctx, kept, id, host)
	if err != nil || last == nil {
		return "", err
	}
	return last.String(), nil
}
