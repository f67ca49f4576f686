package privilege

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// Climber finds out which privileged groups entries reach by asking a
// directory, group by group upwards, as it is at this moment. It gives the
// same answers as a Graph of all groups, and costs as much as there are groups
// above the entries.
type Climber struct {
	From    Reader
	Dialect *directory.Dialect
	Rules   Rules
}

// power is what some entries reach together.
type power struct {
	groups []string // the names of privileged groups
	seen   map[directory.Key]bool
}

// upward are the attributes that a climb needs of each group.
var upward = []directory.AttrID{
	directory.AttrObjectClass,
	directory.AttrObjectSID,
	directory.AttrSAMAccountName,
	directory.AttrGroupType,
}

// Of returns the names of the privileged groups that an entry reaches, sorted:
// an account as a member, a group by itself and by what it is nested in.
func (c *Climber) Of(ctx context.Context, e *directory.Entry) ([]string, error) {
	return c.Any(ctx, e)
}

// LeadsTo returns the names of the privileged groups that the members of a
// group of this name are in by it, itself among them.
func (c *Climber) LeadsTo(ctx context.Context, group string) ([]string, error) {
	found, err := c.From.Get(ctx, []string{group})
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return c.Any(ctx, &found[0])
}

// Any returns what any of some entries reaches.
func (c *Climber) Any(ctx context.Context, entries ...*directory.Entry) ([]string, error) {
	found := power{seen: map[directory.Key]bool{}}
	var terms []string
	for _, e := range entries {
		a := c.Dialect.Account(e)
		if a.Kind == directory.KindGroup || a.Kind == directory.KindForeign {
			if g := c.take(&found, e); g == nil || !g.Security {
				continue
			}
		}
		terms = append(terms, c.listed(e)...)
		terms = append(terms, c.primary(e, &a)...)
	}
	for depth := 0; len(terms) > 0; depth++ {
		if depth > maxDepth {
			return nil, fmt.Errorf("groups are nested more than %d deep", maxDepth)
		}
		var next []string
		for chunk := range slices.Chunk(terms, source.AtOnce(c.From, 50, len(terms))) {
			groups, err := c.From.Select(ctx, "(&"+source.GroupFilter+"(|"+strings.Join(chunk, "")+"))", c.attributes())
			if err != nil {
				return nil, fmt.Errorf("reading which groups lead to privileged ones: %w", err)
			}
			for i := range groups {
				if found.seen[directory.KeyOf(groups[i].DN)] || !directory.GivesRights(groups[i].First("groupType")) {
					continue
				}
				if c.take(&found, &groups[i]) != nil {
					next = append(next, c.listed(&groups[i])...)
				}
			}
		}
		terms = next
	}
	slices.Sort(found.groups)
	return slices.Compact(found.groups), nil
}

// maxDepth ends a climb through groups that somebody nests while it goes on.
const maxDepth = 1000

func (c *Climber) attributes() []string {
	names := []string{c.Dialect.Identity.String(), "cn"}
	for _, id := range upward {
		names = append(names, id.String())
	}
	return names
}

// take takes note of a group on the way. It returns nil for what is none.
func (c *Climber) take(found *power, e *directory.Entry) *directory.Group {
	one := directory.NewSurvey(c.Dialect)
	part := one.NewPart(1, directory.AttrSet{})
	part.Add(c.Dialect, e)
	one.Merge(part)
	if len(one.Groups) != 1 {
		return nil
	}
	g := &one.Groups[0]
	found.seen[g.Key] = true
	if c.Rules.privileged(g, c.Rules.names()) {
		found.groups = append(found.groups, g.Name())
	}
	return g
}

// listed are the filters of the groups that list an entry.
func (c *Climber) listed(e *directory.Entry) []string {
	terms := []string{"(member=" + source.EscapeFilter(e.DN) + ")"}
	if c.Dialect == directory.AD {
		return terms
	}
	terms = append(terms, "(uniqueMember="+source.EscapeFilter(e.DN)+")")
	for _, uid := range e.Get("uid") {
		terms = append(terms, "(memberUid="+source.EscapeFilter(uid)+")")
	}
	return terms
}

// primary are the filters of the groups that an account belongs to by a number
// of its own.
func (c *Climber) primary(e *directory.Entry, a *directory.Account) []string {
	switch {
	case !a.Kind.IsAccount():
	case c.Dialect == directory.AD && a.PrimaryGroup != 0 && c.Rules.Domain != "":
		raw, err := directory.EncodeSID(c.Rules.Domain + "-" + strconv.FormatUint(uint64(a.PrimaryGroup), 10))
		if err == nil {
			return []string{"(objectSid=" + source.EscapeFilter(raw) + ")"}
		}
	case c.Dialect != directory.AD && e.Has("gidNumber"):
		return []string{"(&(objectClass=posixGroup)(gidNumber=" + source.EscapeFilter(e.First("gidNumber")) + "))"}
	}
	return nil
}
