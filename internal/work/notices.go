package work

import (
	"context"

	"yardbroom/internal/ladder"
	"yardbroom/internal/settings"
)

type addressBook struct{}

func (g *gathering) addresses(ctx context.Context, dns []string) (*addressBook, error) {
	return &addressBook{}, nil
}

func (b *addressBook) of(dn string, n *settings.Notice, language string) []ladder.Recipient {
	return nil
}

func (c *climbing) mails(ctx context.Context, l *LadderClimb) error { return nil }
