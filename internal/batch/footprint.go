package batch

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// Footprint is everything that a line writes, moves, gives or takes besides
// its own entry's values. Protection, signatures, limits, the order of lines,
// the image and undo all go by it.
type Footprint struct {
	// Writes are entries that are written because of this one: groups that it
	// joins or leaves, and whatever names it where the server does not follow.
	Writes []Written
	// Moves are the entries below it, which move along with it.
	Moves []directory.Entry
	// Powers are the privileged groups that the entry is in, or that its members
	// are in by it; Given and Taken those of the groups that it joins and leaves.
	Powers, Given, Taken []string
}

// Written is an entry that a line writes, and the attribute that names the
// line's entry, or one below it.
type Written struct {
	Entry directory.Entry // what is to be known of it, and the values that name it
	Attr  string
	ID    string // the identity in its readable form, where it is a group to join or leave
	// Follows tells that the server does that by itself.
	Follows bool
}

// Touched is a footprint's part in a batch, for people and for the signature.
type Touched struct {
	DN  string `json:"dn"`
	How string `json:"how"` // the attribute that is written, or "moves along"
}

// MovesAlong is how an entry below one that is moved is touched.
const MovesAlong = "moves along"

// Touches are what the line touches besides its entry, as a batch keeps it.
func (f *Footprint) Touches() (all []Touched) {
	for i := range f.Writes {
		t := Touched{DN: text(f.Writes[i].Entry.DN), How: f.Writes[i].Attr}
		if !slices.Contains(all, t) {
			all = append(all, t)
		}
	}
	for i := range f.Moves {
		all = append(all, Touched{DN: text(f.Moves[i].DN), How: MovesAlong})
	}
	return all
}

// Touches are the entries that a line writes besides its own, apart from the
// groups that its actions name.
func (l *Line) Touches() []Touched {
	return slices.DeleteFunc(slices.Clone(l.Also), func(t Touched) bool {
		return t.How == MovesAlong || slices.ContainsFunc(l.Actions, func(a Action) bool {
			return slices.ContainsFunc(a.Groups,
				func(m Membership) bool { return text(m.DN) == t.DN && m.Attr == t.How })
		})
	})
}

// IsMembership tells whether an attribute lists the members of a group.
func IsMembership(attr string) bool {
	return slices.ContainsFunc(MemberAttributes, func(m string) bool { return strings.EqualFold(m, attr) })
}

// LinkAttributes are the attributes by which entries of any dialect name others.
var LinkAttributes = []string{
	"member",
	"uniqueMember",
	"manager",
	"secretary",
	"managedBy",
	"owner",
	"roleOccupant",
	"seeAlso",
}

// linksOf are those of a dialect: on the `ad` schema password policies and
// computers name accounts too.
func linksOf(d *directory.Dialect) []string {
	if d == directory.AD {
		return append(slices.Clip(LinkAttributes), "msDS-PSOAppliesTo", "msDS-HostServiceAccount")
	}
	return append(slices.Clip(LinkAttributes), "memberUid")
}

// Naming are the values by which other entries name this one: by its DN, and
// by its logon name where groups list that.
func Naming(d *directory.Dialect, e *directory.Entry) (values []source.Value) {
	for _, attr := range linksOf(d) {
		if attr != "memberUid" {
			values = append(values, source.Value{Attr: attr, Value: e.DN})
		}
	}
	if uid := e.First("uid"); uid != "" && d != directory.AD {
		values = append(values, source.Value{Attr: "memberUid", Value: uid})
	}
	return values
}

// Powers answers who has power over the directory: from all its groups as they
// were read, or by asking it now.
type Powers interface {
	// Of are the privileged groups that an entry is in, or is.
	Of(ctx context.Context, e *directory.Entry) ([]string, error)
	// LeadsTo are those that the members of a group are in by it.
	LeadsTo(ctx context.Context, group string) ([]string, error)
}

// Planned is a line and its entry as it is now, nil where there is none yet.
type Planned struct {
	Line  *Line
	Entry *directory.Entry
}

// Footprints computes what lines touch, from their plans and the directory as
// it is now.
func Footprints(
	ctx context.Context, from source.Source, d *directory.Dialect, powers Powers, planned []Planned,
) ([]Footprint, error) {
	all := make([]Footprint, len(planned))
	if err := readBelow(ctx, from, planned, all); err != nil {
		return nil, err
	}
	if err := readNaming(ctx, from, d, planned, all); err != nil {
		return nil, err
	}
	if err := readJoined(ctx, from, d, planned, all); err != nil {
		return nil, err
	}
	for i, p := range planned {
		if err := all[i].findPowers(ctx, powers, p); err != nil {
			return nil, err
		}
		if d.KeepsLinks || powers == nil {
			continue
		}
		for _, e := range newNames(p, &all[i]) {
			more, err := powers.Of(ctx, &e)
			if err != nil {
				return nil, err
			}
			all[i].Powers = merge(all[i].Powers, more)
		}
	}
	return all, nil
}

// newNames are the entries as they will be named after a line. Where groups may
// list names that nobody has, whoever gets such a name gets the power with it.
func newNames(p Planned, f *Footprint) (all []directory.Entry) {
	for i := range p.Line.Actions {
		a := &p.Line.Actions[i]
		now := a.RDN + "," + a.To
		switch {
		case a.Name == Restore && a.Image != nil && p.Entry == nil:
			e := a.Image.Entry()
			e.DN = now
			all = append(all, e)
		case (a.Name == Move || a.Name == Rename) && p.Entry != nil:
			for _, e := range append([]directory.Entry{*p.Entry}, f.Moves...) {
				e.DN = directory.Rebased(e.DN, p.Entry.DN, now)
				all = append(all, e)
			}
		}
	}
	return all
}

// findPowers finds out what power the entry has, and what the line gives and takes.
func (f *Footprint) findPowers(ctx context.Context, powers Powers, p Planned) (err error) {
	if powers == nil {
		return nil
	}
	if p.Entry != nil {
		if f.Powers, err = powers.Of(ctx, p.Entry); err != nil {
			return err
		}
	}
	known := map[string][]string{} // several actions may name a group
	for i := range p.Line.Actions {
		a := &p.Line.Actions[i]
		for j := range a.Groups {
			m := &a.Groups[j]
			group := f.now(m)
			if group == nil {
				continue // it is gone
			}
			if _, asked := known[m.ID]; !asked {
				if known[m.ID], err = powers.Of(ctx, group); err != nil {
					return err
				}
			}
			if a.Name == JoinGroup {
				f.Given = merge(f.Given, known[m.ID])
			} else {
				f.Taken = merge(f.Taken, known[m.ID])
			}
		}
	}
	return nil
}

// lost is a group of the line that was not found, "" where all were.
func (f *Footprint) lost(l *Line) string {
	for i := range l.Actions {
		for j := range l.Actions[i].Groups {
			if m := &l.Actions[i].Groups[j]; f.now(m) == nil {
				return m.DN
			}
		}
	}
	return ""
}

// now is a group of the line as it is now, nil where it is gone.
func (f *Footprint) now(m *Membership) *directory.Entry {
	for i := range f.Writes {
		if w := &f.Writes[i]; w.ID == m.ID && w.Attr == m.Attr {
			return &w.Entry
		}
	}
	return nil
}

// Exceeds tells which powers the footprint has that a line was not staged, and
// signed, with.
func (f *Footprint) Exceeds(l *Line) []string {
	known := merge(merge(l.Privileged, l.Joins()), l.Leaves())
	return slices.DeleteFunc(merge(merge(f.Powers, f.Given), f.Taken),
		func(g string) bool { return slices.Contains(known, g) })
}

// relocates tells whether the entry gets another name by the line.
func (l *Line) relocates() bool { return l.Has(Move) || l.Has(Rename) }

// readBelow finds what moves along.
func readBelow(ctx context.Context, from source.Source, planned []Planned, all []Footprint) error {
	at := map[string]int{}
	var dns []string
	for i, p := range planned {
		if p.Entry != nil && p.Line.relocates() {
			at[p.Entry.DN] = i
			dns = append(dns, p.Entry.DN)
		}
	}
	if len(dns) == 0 {
		return nil
	}
	children, err := from.Children(ctx, dns)
	if err != nil {
		return fmt.Errorf("reading what stands below: %w", err)
	}
	for dn, names := range children {
		if len(names) == 0 {
			continue
		}
		if all[at[dn]].Moves, err = below(ctx, from, dn, names); err != nil {
			return err
		}
	}
	return nil
}

// Below returns the entries that stand below a name, however deep, by their
// names.
func Below(ctx context.Context, from source.Source, dn string) ([]directory.Entry, error) {
	children, err := from.Children(ctx, []string{dn})
	if err != nil || len(children[dn]) == 0 {
		return nil, err
	}
	return below(ctx, from, dn, children[dn])
}

func below(ctx context.Context, from source.Source, dn string, children []string) (all []directory.Entry, err error) {
	key := directory.FoldDN(dn)
	err = from.Each(
		ctx,
		source.Selection{Under: dn},
		func() { all = nil },
		func(e *directory.Entry) any { return e.Clone() },
		func(made any) {
			if e := made.(directory.Entry); directory.FoldDN(e.DN) != key {
				all = append(all, e)
			}
		},
	)
	if err != nil {
		return nil, fmt.Errorf("reading what stands below %s: %w", dn, err)
	}
	for _, child := range children {
		if !slices.ContainsFunc(all,
			func(e directory.Entry) bool { return directory.FoldDN(e.DN) == directory.FoldDN(child) }) {
			return nil, fmt.Errorf("%s stands below %s and cannot be read", child, dn)
		}
	}
	slices.SortFunc(all,
		func(a, b directory.Entry) int { return strings.Compare(directory.FoldDN(a.DN), directory.FoldDN(b.DN)) })
	return all, nil
}

// readNaming finds the entries that name what a line deletes, moves or renames,
// or what moves along. Where the server follows by itself, only deletes count:
// there something is taken out of them.
func readNaming(
	ctx context.Context, from source.Source, d *directory.Dialect, planned []Planned, all []Footprint,
) error {
	byDN, byUID := map[string][]int{}, map[string][]int{} // the lines, by what names their entries
	var values []source.Value
	for i, p := range planned {
		if p.Entry == nil || !p.Line.Has(Delete) && (d.KeepsLinks || !p.Line.relocates()) {
			continue
		}
		for _, e := range append([]directory.Entry{*p.Entry}, all[i].Moves...) {
			byDN[directory.FoldDN(e.DN)] = append(byDN[directory.FoldDN(e.DN)], i)
			if uid := e.First("uid"); uid != "" && d != directory.AD {
				byUID[strings.ToLower(uid)] = append(byUID[strings.ToLower(uid)], i)
			}
			values = append(values, Naming(d, &e)...)
		}
	}
	for chunk := range slices.Chunk(values, source.AtOnce(from, namedAtOnce, len(values))) {
		found, err := from.Listing(ctx, chunk...)
		if err != nil {
			return fmt.Errorf("finding what names the entries: %w", err)
		}
		for i := range found {
			other := &found[i]
			for _, attr := range linksOf(d) {
				for _, v := range other.Get(attr) {
					lines := byDN[directory.FoldDN(v)]
					if attr == "memberUid" {
						lines = byUID[strings.ToLower(v)]
					}
					for _, line := range lines {
						all[line].write(Written{Entry: *other, Attr: attr, Follows: d.KeepsLinks})
					}
				}
			}
		}
	}
	return nil
}

// namedAtOnce is how many values one search for what names entries holds.
const namedAtOnce = 9 * 32

func (f *Footprint) write(w Written) {
	same := func(o Written) bool {
		return w.Attr == o.Attr && directory.FoldDN(w.Entry.DN) == directory.FoldDN(o.Entry.DN)
	}
	if i := slices.IndexFunc(f.Writes, same); i >= 0 {
		f.Writes[i].Follows = f.Writes[i].Follows && w.Follows
		f.Writes[i].ID += w.ID
		return
	}
	f.Writes = append(f.Writes, w)
}

// readJoined reads the groups that lines join and leave, by their identities:
// they may stand elsewhere now, or lead elsewhere.
func readJoined(
	ctx context.Context, from source.Source, d *directory.Dialect, planned []Planned, all []Footprint,
) error {
	ids := map[string]string{}
	for _, p := range planned {
		for _, a := range p.Line.Actions {
			for _, m := range a.Groups {
				id, err := source.ReadIdentity(d, m.ID)
				if err != nil {
					return err
				}
				ids[m.ID] = source.IdentityFilter(d, id)
			}
		}
	}
	if len(ids) == 0 {
		return nil
	}
	groups := map[string]*directory.Entry{}
	filters := slices.Sorted(maps.Values(ids))
	for chunk := range slices.Chunk(filters, source.AtOnce(from, namedAtOnce, len(filters))) {
		found, err := from.Select(ctx, "(|"+strings.Join(chunk, "")+")", source.WhatItIs(d))
		if err != nil {
			return fmt.Errorf("reading the groups: %w", err)
		}
		for i := range found {
			groups[source.ShowIdentity(d, found[i].First(d.Identity.String()))] = &found[i]
		}
	}
	for i, p := range planned {
		for j := range p.Line.Actions {
			for _, m := range p.Line.Actions[j].Groups {
				if g := groups[m.ID]; g != nil {
					if all[i].now(&m) == nil {
						all[i].write(Written{Entry: *g, Attr: m.Attr, ID: m.ID})
					}
				}
			}
		}
	}
	return nil
}

// Refuse returns the reason why the footprint touches what is protected, ""
// where it does not.
func (p *Protection) Refuse(l *Line, e *directory.Entry, f *Footprint) string {
	for i := range l.Actions {
		a := &l.Actions[i]
		if a.Name == Move || a.Name == Rename || a.Name == Restore {
			if why := p.Into(a.RDN, a.To); why != "" {
				return why
			}
		}
	}
	if e != nil {
		if why := p.Why(e, l.actionNames()); why != "" {
			return why
		}
		if why := f.stillPrivileged(l); why != "" {
			return why
		}
		if moved := merge(f.Given, f.Taken); len(moved) > 0 && kindOf(p.Dialect, e) == directory.KindGroup {
			return fmt.Sprintf(
				"it is a group, and all its members would gain or lose the power of %s: change that by hand",
				strings.Join(moved, " and "))
		}
	}
	if e != nil && (l.relocates() || l.Has(Delete)) {
		for _, one := range append([]directory.Entry{*e}, f.Moves...) {
			if slices.Contains(p.Named, directory.FoldDN(one.DN)) {
				return fmt.Sprintf(
					"the settings call %s privileged by this name (audit: privileged_groups), and without it nobody would know: change the settings first",
					one.DN,
				)
			}
		}
	}
	for i := range f.Moves {
		if why := p.Along(&f.Moves[i]); why != "" {
			return fmt.Sprintf("%s stands below it and would move along: %s", f.Moves[i].DN, why)
		}
	}
	for i := range f.Writes {
		w := &f.Writes[i]
		if why := p.Written(&w.Entry, w.Attr); why != "" && !w.Follows {
			return fmt.Sprintf("%s of %s would be written: %s", w.Attr, w.Entry.DN, why)
		}
	}
	return ""
}

func (l *Line) actionNames() []string {
	names := make([]string, len(l.Actions))
	for i := range l.Actions {
		names[i] = l.Actions[i].Name
	}
	return names
}

// Reassess gives the lines of a batch that was made from the journal, not by
// staging, the footprints that they have in the directory as it is now: power
// that was given or taken since counts. Lines that touch what is protected are
// taken out, with the reason.
func (b *Batch) Reassess(ctx context.Context, from source.Source, powers Powers, p *Protection) ([]Refusal, error) {
	planned, err := b.planned(ctx, from, p.Dialect)
	if err != nil {
		return nil, err
	}
	all, err := Footprints(ctx, from, p.Dialect, powers, planned)
	if err != nil {
		return nil, err
	}
	var refusals []Refusal
	var kept []Line
	for i := range planned {
		f, l := &all[i], planned[i].Line
		if why := p.Refuse(l, planned[i].Entry, f); why != "" {
			refusals = append(refusals, Refusal{DN: l.DN, Account: l.Account, Why: why})
			continue
		}
		l.Privileged, l.Also = f.Powers, f.Touches()
		if err := l.foreseeReturn(ctx, from, p.Dialect, planned[i].Entry); err != nil {
			return nil, err
		}
		for j := range l.Actions {
			a := &l.Actions[j]
			if a.Powers, err = a.returnPowers(ctx, powers); err != nil {
				return nil, err
			}
			for k := range a.Groups {
				m := &a.Groups[k]
				if group := f.now(m); group != nil {
					if m.Privileged, err = powers.Of(ctx, group); err != nil {
						return nil, err
					}
				}
			}
		}
		l.N = len(kept) + 1
		kept = append(kept, *l)
	}
	b.Lines = kept
	return refusals, nil
}

// returnPowers are the privileged groups that a restore puts the entry back into:
// those that named it, and its primary group.
func (a *Action) returnPowers(ctx context.Context, powers Powers) (all []string, err error) {
	if a.Name != Restore || a.Image == nil {
		return nil, nil
	}
	e := a.Image.Entry()
	e.DN = "" // by which nobody is in a group
	if all, err = powers.Of(ctx, &e); err != nil {
		return nil, err
	}
	for _, ref := range a.Image.References {
		if !IsMembership(ref.Attr) {
			continue
		}
		more, err := powers.LeadsTo(ctx, ref.DN)
		if err != nil {
			return nil, err
		}
		all = merge(all, more)
	}
	return all, nil
}

// comesAnew warns of a restore that cannot bring the entry itself back.
const comesAnew = "the directory has no deleted object of it any more that could be brought back: it comes back with another SID and GUID, and rights given to the old ones are lost"

// foreseeReturn tells of a restore on the `ad` schema whether the entry itself can
// come back.
func (l *Line) foreseeReturn(ctx context.Context, from source.Source, d *directory.Dialect, e *directory.Entry) error {
	server, live := from.(*source.Server)
	if !live || e != nil || d != directory.AD || !l.Has(Restore) {
		return nil
	}
	id, err := source.ReadIdentity(d, l.ID)
	if err != nil {
		return err
	}
	object, err := server.DeletedObject(ctx, id)
	if err == nil && object == nil {
		l.Anew = true
		l.Warnings = append(l.Warnings, comesAnew)
	}
	return err
}

// AllowAnew lets restores on the `ad` schema make new entries, with SIDs and GUIDs
// of their own, where the server does not bring its deleted objects back.
// Why, if it is not "", is what their lines warn of.
func (b *Batch) AllowAnew(why string) {
	for i := range b.Lines {
		l := &b.Lines[i]
		if l.Anew || b.Identity.Dialect != directory.AD.Name || !l.Has(Restore) {
			continue
		}
		if l.Anew = true; why != "" {
			l.Warnings = append(l.Warnings, why)
		}
	}
}

// planned finds the entries of the lines by their identities.
func (b *Batch) planned(ctx context.Context, from source.Source, d *directory.Dialect) ([]Planned, error) {
	all := make([]Planned, len(b.Lines))
	filters := make([]string, len(b.Lines))
	for i := range b.Lines {
		id, err := source.ReadIdentity(d, b.Lines[i].ID)
		if err != nil {
			return nil, err
		}
		all[i].Line, filters[i] = &b.Lines[i], source.IdentityFilter(d, id)
	}
	byID := map[string]*directory.Entry{}
	for chunk := range slices.Chunk(filters, source.AtOnce(from, namedAtOnce, len(filters))) {
		found, err := from.Find(ctx, "(|"+strings.Join(chunk, "")+")")
		if err != nil {
			return nil, err
		}
		for i := range found {
			byID[source.ShowIdentity(d, found[i].First(d.Identity.String()))] = &found[i]
		}
	}
	for i := range all {
		all[i].Entry = byID[all[i].Line.ID]
	}
	return all, nil
}
