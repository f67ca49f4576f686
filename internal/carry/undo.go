package carry

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
	"yardbroom/internal/wording"
)

// Inverse makes the batch that takes another one back: only what the journal
// proves to have been done, in the opposite order, each line with guards that
// hold only while the entry is still as apply left it.
//
// With accounts, by logon name or DN, only their lines are taken back.
func Inverse(
	ctx context.Context, s *store.Store, b *batch.Batch, accounts []string, by string, at time.Time,
) (*batch.Batch, []batch.Refusal, error) {
	if _, err := b.Find(accounts); err != nil {
		return nil, nil, err
	}
	return inverse(ctx, s, b, by, at, func(l *batch.Line) bool { return len(accounts) == 0 || slices.ContainsFunc(accounts, l.Is) })
}

// inverse makes it of the lines that are wanted.
func inverse(
	ctx context.Context, s *store.Store, b *batch.Batch, by string, at time.Time, wanted func(*batch.Line) bool,
) (*batch.Batch, []batch.Refusal, error) {
	d, err := directory.DialectNamed(b.Identity.Dialect)
	if err != nil {
		return nil, nil, err
	}
	out := &batch.Batch{
		Identity: b.Identity,
		Yard:     b.Yard,
		Source:   fmt.Sprintf("the journal of batch %d", b.ID),
		Server:   b.Server,
		Created:  at,
		By:       by,
		Why:      fmt.Sprintf("undo of batch %d", b.ID),
		UndoOf:   b.ID,
	}
	if err := s.Whole(ctx); err != nil {
		return nil, nil, err
	}
	others, err := findOtherUndos(ctx, s, b)
	if err != nil {
		return nil, nil, err
	}
	var refusals []batch.Refusal
	for _, l := range slices.Backward(b.Lines) {
		if !wanted(&l) {
			continue
		}
		h, err := readHistory(ctx, s.Journal, b.ID, l.N, d)
		if err != nil {
			return nil, nil, err
		}
		if !h.begun() {
			continue
		}
		why := others.why(&l)
		if why == "" && h.open() {
			why = fmt.Sprintf("what became of its last write is not known; \"yardbroom apply %d\" finds out", b.ID)
		}
		if why != "" {
			refusals = append(refusals, batch.Refusal{DN: l.DN, Account: l.Account, Why: why})
			continue
		}
		line, refused := inverseLine(d, b.ID, &l, h)
		if refusals = append(refusals, refused...); line == nil {
			continue
		}
		line.N, line.DoneOn = len(out.Lines)+1, h.steps[len(h.steps)-1].host
		out.Lines = append(out.Lines, *line)
		for _, a := range line.Actions {
			if !slices.Contains(out.Actions, a.Name) {
				out.Actions = append(out.Actions, a.Name)
			}
		}
	}
	if len(out.Lines) == 0 {
		return nil, refusals, fmt.Errorf("batch %d: %w", b.ID, ErrNothingToUndo)
	}
	return out, refusals, nil
}

// otherUndos are other batches that take lines of one back, by the identities of
// the lines' entries.
type otherUndos struct {
	done    map[string]int // they have taken back
	stopped map[string]int // they have begun to and are to go on with
}

func findOtherUndos(ctx context.Context, s *store.Store, b *batch.Batch) (o otherUndos, err error) {
	heads, err := batch.Heads(ctx, s)
	if err != nil {
		return o, err
	}
	if o.done, err = takenBack(ctx, s, heads, b); err != nil {
		return o, err
	}
	begun, err := Unfinished(ctx, s, func(head *batch.Batch) bool { return head.UndoOf == b.ID })
	o.stopped = map[string]int{}
	for _, other := range begun {
		for i := range other.Lines {
			if l := &other.Lines[i]; !l.State.Settled() {
				o.stopped[l.ID] = other.ID
			}
		}
	}
	return o, err
}

// why tells why a line is left to another batch, "" where it is not.
func (o *otherUndos) why(l *batch.Line) string {
	if n, is := o.done[l.ID]; is {
		return fmt.Sprintf("batch %d has taken that back already", n)
	}
	if n, is := o.stopped[l.ID]; is {
		return fmt.Sprintf(
			"batch %d has begun to take that back and was stopped; \"yardbroom apply %d\" goes on with it", n, n)
	}
	return ""
}

// Unfinished returns the batches that were stopped half-way and have lines
// left, of those that are wanted by their heads.
func Unfinished(ctx context.Context, s *store.Store, wanted func(head *batch.Batch) bool) ([]*batch.Batch, error) {
	heads, err := batch.Heads(ctx, s)
	if err != nil {
		return nil, err
	}
	var found []*batch.Batch
	for _, head := range heads {
		if head.State != batch.Begun || !wanted(head) {
			continue
		}
		b, err := batch.Load(ctx, s, head.ID)
		if err != nil {
			return nil, err
		}
		if b.Open() > 0 {
			found = append(found, b)
		}
	}
	return found, nil
}

// takenBack returns which lines of a batch others have taken back whole, by
// their identity, and the numbers of those batches. A restore takes back what
// was deleted before it.
func takenBack(ctx context.Context, s *store.Store, heads []*batch.Batch, b *batch.Batch) (map[string]int, error) {
	done := map[string]int{}
	for _, head := range heads {
		if head.UndoOf != b.ID && !restores(head, b) || head.State == batch.Staged {
			continue
		}
		back, err := batch.Load(ctx, s, head.ID)
		if err != nil {
			return nil, err
		}
		for i := range back.Lines {
			if s := back.Lines[i].State; (s == batch.Applied || s == batch.InPart) && !back.Lines[i].Partly {
				done[back.Lines[i].ID] = back.ID
			}
		}
	}
	return done, nil
}

// MarkUndone writes down with the lines of batches by which batch they were taken back.
func MarkUndone(ctx context.Context, s *store.Store, batches ...*batch.Batch) error {
	heads, err := batch.Heads(ctx, s)
	if err != nil {
		return err
	}
	for _, b := range batches {
		back, err := takenBack(ctx, s, heads, b)
		if err != nil {
			return err
		}
		if len(back) == 0 {
			continue
		}
		entries, err := s.Entries(ctx, b.ID) // which the lines of a list do not hold
		if err != nil {
			return err
		}
		for i := range b.Lines {
			if l := &b.Lines[i]; l.State.Touched() {
				l.Undone = back[entries[l.N]]
			}
		}
	}
	return nil
}

// restores tells whether a batch brings deleted entries back, and may be about
// those that another one deleted.
func restores(head, b *batch.Batch) bool {
	return head.UndoOf == 0 && slices.Contains(head.Actions, batch.Restore) && slices.Contains(b.Actions, batch.Delete) && head.ID > b.ID
}

// Due is a batch whose time is over, or will be.
type Due struct {
	Batch *batch.Batch
	Left  int // lines that were done and not taken back yet
}

// FindDue returns the batches that are to be taken back at some time and have
// not been yet, the next one first.
func FindDue(ctx context.Context, s *store.Store) ([]Due, error) {
	var due []Due
	err := eachUntil(ctx, s, func(head *batch.Batch) bool {
		return !head.Until.IsZero() && (head.State == batch.Done || head.State == batch.Begun)
	}, func(b *batch.Batch, standing []*batch.Line) {
		if len(standing) > 0 {
			due = append(due, Due{b, len(standing)})
		}
	})
	slices.SortStableFunc(due, func(a, b Due) int { return a.Batch.Until.Compare(b.Batch.Until) })
	return due, err
}

// ErrNothingToUndo is the error for a batch that changed nothing that could
// be taken back.
var ErrNothingToUndo = errors.New("nothing of it was done that could be undone")

func inverseLine(d *directory.Dialect, batchID int, l *batch.Line, h *history) (*batch.Line, []batch.Refusal) {
	out := &batch.Line{
		DN:         l.DN,
		ID:         l.ID,
		Account:    l.Account,
		Kind:       l.Kind,
		Reason:     fmt.Sprintf("undo of line %d of batch %d", l.N, batchID),
		Confidence: "sure",
		Privileged: l.Privileged,
	}
	for _, a := range l.Actions {
		for _, m := range h.groupsChanged(d, &a) {
			out.Privileged = without(out.Privileged, m.Privileged)
		}
	}
	var refusals []batch.Refusal
	deleted := h.main(batch.Delete) != nil
	for i := len(l.Actions) - 1; i >= 0; i-- {
		if changed := h.groupsChanged(d, &l.Actions[i]); len(changed) > 0 {
			groupsBack(out, l.Actions[i].Name, changed, deleted)
			continue
		}
		step := h.main(l.Actions[i].Name)
		if step == nil {
			continue
		}
		switch name := l.Actions[i].Name; {
		case name == batch.Restore:
			refusals = append(
				refusals,
				batch.Refusal{
					DN:      l.DN,
					Account: l.Account,
					Why:     "what was restored is not deleted again by an undo; stage a delete if it must go",
				},
			)
		case name == batch.PutHomeBack:
			refusals = append(
				refusals,
				batch.Refusal{
					DN:      l.DN,
					Account: l.Account,
					Why:     "a home folder that was put back stays; stage " + batch.SetHomeAside + " if it must go again",
				},
			)
		case !batch.HasInverse(name):
			refusals = append(refusals, batch.Refusal{DN: l.DN, Account: l.Account, Why: name + " has no inverse"})
		case name == batch.Delete:
			bringBack(out, d, step.DN, step.before)
		case name == batch.Move, name == batch.Rename:
			moveBack(out, step, deleted)
		case name == batch.SetHomeAside:
			homeBack(out, step)
		case (name == batch.Unmark || name == batch.Mark) && !deleted:
			markBack(out, step)
		case deleted:
			out.Warnings = append(out.Warnings, "it comes back disabled; enable it when it has a password")
		default:
			putBack(out, step)
		}
	}
	if len(out.Actions) == 0 {
		return nil, refusals
	}
	return out, refusals
}

func without(all, some []string) []string {
	return slices.DeleteFunc(slices.Clone(all), func(x string) bool { return slices.Contains(some, x) })
}

// WithoutPrivileged takes out of what the journal brings back what needs a
// signature: the lines of privileged accounts, those that would get another SID,
// and the return into privileged groups. Command is how the batch was asked for.
func WithoutPrivileged(b *batch.Batch, command string) (refusals []batch.Refusal, err error) {
	refuse := func(l *batch.Line, what string) {
		again := command + " --stage"
		if b.UndoOf != 0 {
			again += " " + l.Account
		}
		refusals = append(refusals, batch.Refusal{DN: l.DN, Account: l.Account,
			Why: fmt.Sprintf(
				"%s, which needs a signature: stage that with \"yardbroom %s\", have it signed, and apply it", what,
				again)})
	}
	var kept []batch.Line
	for _, l := range b.Lines {
		if len(l.Privileged) > 0 {
			refuse(&l, "it is in "+strings.Join(l.Privileged, " and "))
			continue
		}
		if groups := l.Leaves(); len(groups) > 0 {
			refuse(&l, "it would be out of "+strings.Join(groups, " and "))
			continue
		}
		if l.Anew {
			refuse(&l, "it would come back with another SID and GUID")
			continue
		}
		if groups := l.Joins(); len(groups) > 0 {
			refuse(&l, "it would be in "+strings.Join(groups, " and ")+" again")
			leaveOut(&l)
			l.Partly = true
		}
		if len(l.Actions) > 0 {
			l.N = len(kept) + 1
			kept = append(kept, l)
		}
	}
	if b.Lines = kept; len(kept) == 0 {
		return refusals, ErrNothingToUndo
	}
	return refusals, nil
}

// leaveOut takes the privileged groups out of what a line joins.
func leaveOut(l *batch.Line) {
	privileged := func(m batch.Membership) bool { return len(m.Privileged) > 0 }
	out := map[string]bool{}
	var actions []batch.Action
	for _, a := range l.Actions {
		a.Powers = nil
		if a.Name == batch.JoinGroup {
			for _, m := range a.Groups {
				out[m.DN] = out[m.DN] || privileged(m)
			}
			if a.Groups = slices.DeleteFunc(slices.Clone(a.Groups), privileged); len(a.Groups) == 0 {
				continue
			}
		}
		actions = append(actions, a)
	}
	l.Actions = actions
	l.Changes = slices.DeleteFunc(slices.Clone(l.Changes),
		func(c batch.Change) bool { return c.Kind() == batch.Joining && out[c.New] })
	var guard []batch.Guard
	for _, g := range l.Guard {
		if g.Rule == batch.NotMember {
			if g.Values = slices.DeleteFunc(slices.Clone(g.Values), func(v batch.Octets) bool { return out[string(v)] }); len(
				g.Values,
			) == 0 {
				continue
			}
		}
		guard = append(guard, g)
	}
	l.Guard = guard
}

// bringBack stages the return of a deleted entry to where it was.
func bringBack(l *batch.Line, d *directory.Dialect, dn string, im *batch.Image) {
	rdn, parent := directory.SplitDN(dn)
	l.Actions = append(l.Actions, batch.Action{Name: batch.Restore, RDN: rdn, To: parent, Image: im})
	l.Changes = append(l.Changes, batch.BringsBack(dn))
	l.Warnings = append(l.Warnings, "what does not come back: "+batch.NotComingBack(d))
}

// moveBack stages the return to the old place. After a delete in the same
// line the entry is there only once it was brought back, so the place it was
// deleted from guards nothing.
func moveBack(l *batch.Line, s *pastStep, deleted bool) {
	rdn, parent := directory.SplitDN(s.DN)
	l.Actions = append(l.Actions, batch.Action{Name: batch.Move, RDN: rdn, To: parent, Spelt: oddlySpelt(s)})
	l.Changes = append(l.Changes, batch.Moves(s.target(), s.DN))
	if !deleted {
		l.DN = s.target()
		l.Guard = append(l.Guard,
			batch.Guard{Attr: "container", Rule: batch.Container, Values: []batch.Octets{batch.Octets(s.Superior)}})
	}
}

// oddlySpelt are the references to an entry that was moved which would not come back
// letter by letter from its new name.
func oddlySpelt(s *pastStep) (odd []batch.Reference) {
	if s.before == nil {
		return nil
	}
	for _, ref := range s.before.References {
		if there := directory.Rebased(string(ref.Value), s.DN, s.target()); directory.Rebased(there, s.target(),
			s.DN) != string(ref.Value) {
			odd = append(odd, ref)
		}
	}
	return odd
}

// asSpelt is the spelling of a name that a reference had.
func asSpelt(odd []batch.Reference, ref *batch.Reference, name string) string {
	for i := range odd {
		if o := &odd[i]; o.ID == ref.ID && o.Attr == ref.Attr &&
			directory.FoldDN(string(o.Value)) == directory.FoldDN(name) {
			return string(o.Value)
		}
	}
	return name
}

// groupsBack stages the return into the groups that were left, or the leaving
// of those that were joined. The groups of a deleted entry guard nothing.
func groupsBack(l *batch.Line, done string, groups []batch.Membership, deleted bool) {
	a := batch.Action{Name: batch.JoinGroup, Groups: groups}
	rule := batch.NotMember
	if done == batch.JoinGroup {
		a.Name, rule = batch.LeaveGroup, batch.IsMember
	}
	l.Actions = append(l.Actions, a)
	g := batch.Guard{Attr: "groups", Rule: rule}
	for _, m := range groups {
		g.Values = append(g.Values, batch.Octets(m.DN))
		if a.Name == batch.LeaveGroup {
			l.Changes = append(l.Changes, batch.LeavesGroup(m.DN))
		} else {
			l.Changes = append(l.Changes, batch.JoinsGroup(m.DN))
		}
	}
	if !deleted {
		l.Guard = append(l.Guard, g)
	}
}

func putBack(l *batch.Line, s *pastStep) {
	var put []batch.Mod
	for _, m := range s.Mods {
		m.New = s.kept(m)
		put = append(put, m.Inverse())
		l.Guard = append(l.Guard, batch.Guard{Attr: m.Attr, Rule: batch.Equal, Values: m.New})
		l.Changes = append(l.Changes, batch.ChangeOf(m.Inverse()))
	}
	// All in one write: a line has each action once.
	if i := slices.IndexFunc(l.Actions, func(a batch.Action) bool { return a.Name == batch.PutBack }); i >= 0 {
		l.Actions[i].Put = append(l.Actions[i].Put, put...)
		return
	}
	l.Actions = append(l.Actions, batch.Action{Name: batch.PutBack, Put: put})
}

// kept are the new values of a change in the form in which the server keeps
// them.
func (s *pastStep) kept(m batch.Mod) []batch.Octets {
	if s.outcome.After == nil {
		return m.New
	}
	after := s.outcome.After.Entry()
	if now := after.Get(m.Attr); len(now) > 0 && !sameList(now, m.New) && keptList(now, m.New) {
		return batch.OctetsOf(now)
	}
	return m.New
}

// Deleted is a deletion that the journal knows of.
type Deleted struct {
	Batch, Line int
	Account, DN string
	At          time.Time       // of the deletion
	Directory   source.Identity // that it was deleted from
	dialect     *directory.Dialect
	line        batch.Line
	step        pastStep
}

// ComesBack says what a restore from the journal's image would bring back, and
// what it would not.
func (d *Deleted) ComesBack() (back, not []string) {
	im := d.step.before
	if im == nil {
		return nil, []string{"everything: the journal has no image of it"}
	}
	attrs, groups, named := 0, []string{}, map[string]int{}
	for _, a := range im.Attrs {
		if !directory.IsServerOwned(a.Name) && !slices.Contains(im.Incomplete, a.Name) {
			attrs++
		}
	}
	for _, ref := range im.References {
		switch {
		case ref.Privileged:
			not = append(not, "the privileged group "+directory.LeafValue(ref.DN))
		case slices.Contains(batch.MemberAttributes, ref.Attr):
			groups = append(groups, directory.LeafValue(ref.DN))
		default:
			named[ref.Attr]++
		}
	}
	back = append(back, fmt.Sprintf("its place %s", d.DN), wording.Count(attrs, "attribute"))
	if len(groups) > 0 {
		slices.Sort(groups)
		back = append(back, "its groups: "+strings.Join(groups, ", "))
	}
	for _, attr := range slices.Sorted(maps.Keys(named)) {
		back = append(back, fmt.Sprintf("it as %s of %d entries", attr, named[attr]))
	}
	if len(im.Incomplete) > 0 {
		not = append(not, strings.Join(im.Incomplete, ", ")+", which could not be read whole")
	}
	return back, append(not, batch.NotComingBack(d.dialect))
}

// ID is the identity that the entry had, in its readable form.
func (d *Deleted) ID() string { return d.line.ID }

// FindDeleted returns the deletions of an account, by logon name or DN, or of
// all where that is "", the latest first.
func FindDeleted(ctx context.Context, s *store.Store, account string) ([]Deleted, error) {
	all, err := batch.Heads(ctx, s)
	if err != nil {
		return nil, err
	}
	var found []Deleted
	for _, head := range all {
		if !slices.Contains(head.Actions, batch.Delete) || head.State == batch.Staged {
			continue
		}
		b, err := batch.Load(ctx, s, head.ID)
		if err != nil {
			return nil, err
		}
		d, err := directory.DialectNamed(b.Identity.Dialect)
		if err != nil {
			return nil, err
		}
		for i := range b.Lines {
			l := &b.Lines[i]
			if account != "" && !l.Is(account) {
				continue
			}
			h, err := readHistory(ctx, s.Journal, b.ID, l.N, d)
			if err != nil {
				return nil, err
			}
			if step := h.main(batch.Delete); step != nil {
				found = append(
					found,
					Deleted{
						Batch:     b.ID,
						Line:      l.N,
						Account:   l.Account,
						DN:        step.DN,
						At:        step.at,
						Directory: b.Identity,
						dialect:   d,
						line:      *l,
						step:      *step,
					},
				)
			}
		}
	}
	slices.Reverse(found)
	return found, nil
}

// Return makes the batch that brings one deleted entry back: from the
// journal, or with del nil from the directory's own deleted object.
func Return(
	id source.Identity, yard string, del *Deleted, object *directory.Entry, by string, at time.Time,
) (*batch.Batch, error) {
	d, err := directory.DialectNamed(id.Dialect)
	if err != nil {
		return nil, err
	}
	b := &batch.Batch{
		Identity: id,
		Yard:     yard,
		Source:   "the journal",
		Created:  at,
		By:       by,
		Why:      "restore",
		Actions:  []string{batch.Restore},
	}
	line := batch.Line{N: 1, Confidence: "sure", Kind: "user"}
	if del != nil {
		line.DN, line.ID, line.Account, line.Kind, line.Reason = del.DN, del.line.ID, del.Account, del.line.Kind, fmt.Sprintf(
			"deleted by line %d of batch %d",
			del.Line,
			del.Batch,
		)
		bringBack(&line, d, del.DN, del.step.before)
	} else {
		b.Source = "the directory's deleted objects"
		name, _, _ := strings.Cut(directory.LeafValue(object.DN), "\n")
		rdn, _ := directory.SplitDN(object.DN)
		kind, _, _ := strings.Cut(rdn, "=")
		dn := kind + "=" + directory.EscapeDN(name) + "," + object.First("lastKnownParent")
		line.DN, line.ID, line.Account, line.Reason = dn, source.ShowIdentity(d, object.First(d.Identity.String())), object.First("sAMAccountName"), "named"
		bringBack(&line, d, dn, nil)
	}
	b.Lines = []batch.Line{line}
	return b, nil
}
