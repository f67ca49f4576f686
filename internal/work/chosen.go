package work

import (
	"context"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/listing"
	"yardbroom/internal/settings"
)

// Chosen are the entries of a place that fulfil conditions, as a list of them has
// them.
type Chosen struct {
	By string // the conditions, in words
	// Entries carry what is needed to name them.
	Entries []directory.Entry
	// Untold counts those of which it cannot be told whether they are meant.
	Untold int
	keys   map[directory.Key]bool
}

// Choose finds who fulfils conditions in a place. Of the question, AsOf, SignIns and
// Logs count. It is nil where nothing is asked for.
func (s *Session) Choose(ctx context.Context, p *Place, f settings.Filter, q *Question) (*Chosen, error) {
	return s.chosen(ctx, p, f, q, listing.Query{})
}

// ChooseOrdinary is Choose without what is built in, as staging chooses.
func (s *Session) ChooseOrdinary(ctx context.Context, p *Place, f settings.Filter, q *Question) (*Chosen, error) {
	return s.chosen(ctx, p, f, q, listing.Query{Ordinary: true})
}

// chosen is Choose with a query that says more.
func (s *Session) chosen(ctx context.Context, p *Place, f settings.Filter, q *Question, query listing.Query) (*Chosen, error) {
	if f.Empty() && f.Kind == "" {
		return nil, nil
	}
	query.What, query.Filter, query.Under, query.NotUnder, query.When = f.Kind, f.Filter, f.Under, f.NotUnder, f.Where
	query.Columns, query.Bare = []string{"dn"}, true
	found, err := s.List(ctx, p, &query, q)
	if err != nil {
		return nil, err
	}
	for _, n := range found.Notes {
		s.note("note: %s", n)
	}
	c := &Chosen{By: f.Describe(), Entries: found.Entries, Untold: found.Untold, keys: map[directory.Key]bool{}}
	if c.By == "" {
		c.By = f.Kind
	}
	for i := range found.Entries {
		c.keys[directory.KeyOf(found.Entries[i].DN)] = true
	}
	return c, nil
}

// Has tells whether an entry is among those chosen; everything is where nothing was
// asked for.
func (c *Chosen) Has(dn string) bool { return c == nil || c.keys[directory.KeyOf(dn)] }

// Of is a report with the findings about those chosen only.
func (c *Chosen) Of(r *audit.Report) *audit.Report {
	if c == nil {
		return r
	}
	out := r.Only(func(i int) bool { return c.Has(r.Findings[i].DN) })
	out.Chosen = c.By
	return out
}

// OfMemory is a memory of a report that holds only what Of leaves of it.
func (c *Chosen) OfMemory(m Memory, r *audit.Report) Memory {
	if c == nil || m.kept == nil {
		return m
	}
	var left []int
	for i := range r.Findings {
		if c.Has(r.Findings[i].DN) {
			left = append(left, m.left[i])
		}
	}
	m.left = left
	return m
}

// OfComparison leaves in a comparison what is about those chosen, before or after.
func (c *Chosen) OfComparison(before *Chosen, all *audit.Comparison) *audit.Comparison {
	if c == nil {
		return all
	}
	out := all.Only(func(dn string) bool { return c.Has(dn) || before.Has(dn) })
	out.Before, out.After = before.Of(out.Before), c.Of(out.After)
	return out
}
