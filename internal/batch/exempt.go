package batch

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/source"
)

// condition is what an exemption goes by, where that is neither a DN nor a place, of which
// the server has to tell that it is false: what it asks for may be hidden.
type condition struct {
	*audit.Exemption
	filter, match string
}

// conditionsOf are those of a server. On the `ad` schema nobody can ask one, since what is
// hidden counts as absent in its filters.
func conditionsOf(ctx context.Context, from Reader, p *Protection) (known []condition, err error) {
	server, live := from.(*source.Server)
	if !live || p.Dialect == directory.AD {
		return nil, nil
	}
	for _, c := range conditions(p.Exempt, p.At) {
		switch knows, err := c.knownTo(ctx, server); {
		case err != nil:
			return nil, err
		case knows:
			known = append(known, c)
		}
	}
	return known, nil
}

func conditions(exempt []audit.Exemption, at time.Time) (all []condition) {
	for i := range exempt {
		e := &exempt[i]
		switch {
		case !e.Protects(at):
		case e.Match.Filter != "":
			all = append(all, condition{e, e.Match.Filter, e.Match.Filter + " holds of it"})
		case e.Match.Account != "":
			all = append(all, condition{e, "(uid=" + source.EscapeFilter(e.Match.Account) + ")", "its uid is " + e.Match.Account})
		}
	}
	return all
}

// knownTo tells whether a server has all attributes that the condition asks for. One that it
// lacks makes the condition undefined for every entry: it means another directory.
func (c *condition) knownTo(ctx context.Context, server *source.Server) (bool, error) {
	f, err := filter.Parse(c.filter)
	if err != nil {
		return false, fmt.Errorf("exemption of %s: %w", c.Match, err)
	}
	for _, attr := range f.Attributes() {
		if lacks, err := server.Lacks(ctx, attr); lacks || err != nil {
			return false, err
		}
	}
	return true, nil
}

// Unsure tells why it cannot be told of some entries that they are not exempt: what an
// exemption goes by may not be read of them. Entries may be nil.
func (p *Protection) Unsure(ctx context.Context, from Reader, entries []*directory.Entry) (map[*directory.Entry]string, error) {
	if len(p.conditions) == 0 || p.Returning {
		return nil, nil
	}
	var all strings.Builder
	for _, c := range p.conditions {
		all.WriteString(c.filter)
	}
	entries = slices.DeleteFunc(slices.Clone(entries), func(e *directory.Entry) bool {
		return e == nil || !e.Has(p.Dialect.Identity.String())
	})
	open, err := p.apart(ctx, from, entries, "(|"+all.String()+")")
	if err != nil || len(open) == 0 {
		return nil, err
	}
	unsure := map[*directory.Entry]string{}
	for _, c := range p.conditions {
		maybe, err := p.apart(ctx, from, open, c.filter)
		if err != nil {
			return nil, err
		}
		for _, e := range maybe {
			unsure[e] = fmt.Sprintf("whether it is exempt cannot be told: the server does not say whether %s (no right to read it, or no matching rule): %s (owner %s)",
				c.match, c.Reason, c.Owner)
		}
	}
	return unsure, nil
}

// apart are those of some entries of which the server does not say that a condition is false.
func (p *Protection) apart(ctx context.Context, from Reader, entries []*directory.Entry, condition string) (open []*directory.Entry, err error) {
	for some := range slices.Chunk(entries, 50) {
		var ids strings.Builder
		for _, e := range some {
			ids.WriteString(source.IdentityFilter(p.Dialect, e.First(p.Dialect.Identity.String())))
		}
		outside, err := from.Select(ctx, "(&(|"+ids.String()+")(!"+condition+"))", []string{p.Dialect.Identity.String()})
		if err != nil {
			return nil, fmt.Errorf("asking who is exempt: %w", err)
		}
		for _, e := range some {
			if !slices.ContainsFunc(outside, func(o directory.Entry) bool { return directory.KeyOf(o.DN) == directory.KeyOf(e.DN) }) {
				open = append(open, e)
			}
		}
	}
	return open, nil
}
