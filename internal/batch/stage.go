package batch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/homes"
	"yardbroom/internal/privilege"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

// Candidate is an entry that somebody wants to change, and why.
type Candidate struct {
	Entry   directory.Entry
	Finding *audit.Finding // nil for one that was named
	// LastLogon is the latest sign-in that any of the servers asked has shown,
	// where the candidate comes from a finding.
	LastLogon directory.Moment
	// Values are what set and fill give it.
	Values []Assignment
	// Reason is why, where there is no finding; Rests are the attributes that it
	// rests on.
	Reason string
	Rests  []string
	// AsItIs is set for one whose line holds only while place, state and last
	// sign-in are as at staging: a list named it that was made before and
	// elsewhere, or it stands on a rung of a ladder.
	AsItIs bool
	// LastSignIn is the last sign-in that is known anywhere, for a ladder.
	LastSignIn time.Time
	// OffSince is since when it is disabled by a ladder, as the journal proves; zero
	// for one that none has disabled. It counts where the directory itself does not
	// date that.
	OffSince time.Time
	// NotNow is set for a candidate that cannot be staged for a reason known
	// beforehand; it is reported with the refusals.
	NotNow string
}

// Order is what to stage.
type Order struct {
	Actions       []string
	To            string            // the parent for move
	Name          NewName           // for rename
	AppendAccount bool              // on a name collision at the target, put the logon name into the RDN
	Text          string            // for describe
	Expires       time.Time         // for expire
	Groups        []directory.Entry // for join-group and leave-group
	Unlock        bool              // for reset-password: lift a lock too
	EvenEnabled   bool              // for delete: also what is enabled, or disabled of late
	Until         time.Time         // when the batch is to be taken back; zero for never
	IncludeLikely bool
	MaxLines      int // 0 means the settings' limit
	MaxShare      int
	Why, By       string
	Round         string // that stages it, "" for a person
	Ladder, Rung  string // where a ladder takes them
	Signed        bool   // the rung wants a signature
	KeepDeleted   string // how long what is deleted is kept, "" as long as always
	// PassOver leaves out actions of a line that are done already, as long as there
	// is another.
	PassOver     bool
	At           time.Time // of staging, by the clock
	JudgedFor    time.Time // for which findings were judged, where that is still to come
	Yard, Source string
	Server       string   // whose own values the candidates carry, "" where unknown
	Others       []string // the other servers that were asked for sign-ins
}

// Refusal is a candidate that did not become a line, and why.
type Refusal struct {
	DN, Account, Why string
}

// Stager turns candidates into a batch.
type Stager struct {
	From       source.Source
	Identity   source.Identity
	Dialect    *directory.Dialect
	Settings   *settings.Settings
	Protection Protection
	Privilege  *privilege.Holders
	Catalog    audit.Catalog // the checks that findings come from
	// Accounts is how many accounts the yard has, 0 where nobody counted.
	Accounts int
	// DefaultPolicy is the password policy of entries that name none.
	DefaultPolicy string
	// Homes map the home folders that the directory names.
	Homes []homes.Share
	// Returns is what was seen of the server bringing back what was deleted, "" where
	// nobody has tried.
	Returns string

	staging
}

// staging is what one call of Stage finds out.
type staging struct {
	alone      bool              // one action is all that is staged
	given      map[string]string // unique values that lines give, and to whom
	policies   map[string]LockPolicy
	unsettable map[string]string       // why attributes must not be set, "" for those that may
	owners     *homes.Owners           // of home folders, once one is to be set aside
	children   map[string][]string     // of the candidates, where delete is staged
	parts      map[string]bool         // folded DNs of the child containers of policies
	retained   string                  // what a delete leaves behind, in words
	groups     []Membership            // what join-group and leave-group are about
	memberOf   map[string][]Membership // of the candidates, by folded DN, where groups are staged
	already    []string                // raw identities of those of whom all was done already
}

// Already are the raw identities of the candidates of the last staging of whom
// all that was to be done was so already.
func (s *Stager) Already() []string { return s.already }

// named is the reason of a line whose entry somebody has named.
const named = "named"

// ErrNothing is the error for a batch in which no line would be left.
var ErrNothing = errors.New("nothing to stage")

// smallBatch is the number of lines below which a batch's share of the yard
// is not looked at: ten per cent of a small yard would be nobody.
const smallBatch = 10

// Stage makes a batch of the candidates. Those that cannot or must not be
// changed come back as refusals; the rest are lines.
func (s *Stager) Stage(ctx context.Context, o Order, candidates []Candidate) (*Batch, []Refusal, error) {
	s.staging = staging{
		alone:      len(o.Actions) == 1,
		policies:   map[string]LockPolicy{},
		given:      map[string]string{},
		unsettable: map[string]string{},
		parts:      map[string]bool{},
	}
	target, err := s.target(ctx, &o)
	if err != nil {
		return nil, nil, err
	}
	if !o.Until.IsZero() {
		if err := timeBoxed(&o); err != nil {
			return nil, nil, err
		}
	}
	if slices.Contains(o.Actions, Delete) {
		if candidates, err = s.beforeDelete(ctx, candidates); err != nil {
			return nil, nil, err
		}
	}
	if err := s.readGroups(ctx, &o, candidates); err != nil {
		return nil, nil, err
	}
	b := s.newBatch(&o)
	planned, refusals := s.plan(ctx, &o, candidates, target)
	refused, err := s.footprints(ctx, b, planned)
	if err != nil {
		return nil, nil, err
	}
	refusals = append(refusals, refused...)
	sortLines(b.Lines)
	b.Lines, refusals = s.keepLastPrivileged(b.Lines, refusals)
	if b.Lines, refusals, err = s.keepMembers(ctx, b.Lines, refusals); err != nil {
		return nil, nil, err
	}
	b.Lines, refusals = s.keepParents(b.Lines, refusals)
	for i := range b.Lines {
		b.Lines[i].N = i + 1
	}
	if len(b.Lines) == 0 {
		return nil, refusals, ErrNothing
	}
	return b, refusals, s.limits(&o, b.touches())
}

// newBatch is the batch of an order, without lines.
func (s *Stager) newBatch(o *Order) *Batch {
	return &Batch{
		Identity:    s.Identity,
		Yard:        o.Yard,
		Source:      o.Source,
		Server:      o.Server,
		Created:     o.At,
		By:          o.By,
		Why:         o.Why,
		Round:       o.Round,
		Ladder:      o.Ladder,
		Rung:        o.Rung,
		Signed:      o.Signed,
		KeepDeleted: o.KeepDeleted,
		Actions:     o.Actions,
		Until:       o.Until,
		EvenEnabled: o.EvenEnabled,
		JudgedFor:   o.JudgedFor,
		Accounts:    s.Accounts,
	}
}

// plan makes a line of each candidate, as far as the candidate itself allows it.
func (s *Stager) plan(ctx context.Context, o *Order, candidates []Candidate, target *place) (planned []Planned, refusals []Refusal) {
	seen := map[string]bool{}
	s.already = nil
	for i := range candidates {
		c := &candidates[i]
		a := s.Dialect.Account(&c.Entry)
		if seen[a.ID] && a.ID != "" {
			continue
		}
		seen[a.ID] = true
		line, err := s.line(ctx, o, c, &a, target)
		if err != nil {
			refusals = append(refusals, Refusal{DN: c.Entry.DN, Account: calledOf(&a, &c.Entry), Why: err.Error()})
			if errors.As(err, new(AlreadyError)) {
				s.already = append(s.already, a.ID)
			}
			continue
		}
		planned = append(planned, Planned{line, &c.Entry})
	}
	return planned, refusals
}

// sortLines puts lines in the order in which they are carried out: children before what
// they stand below, privileged ones last.
func sortLines(lines []Line) {
	above := NamesAbove(lines, func(l *Line) bool { return l.Has(Delete) })
	slices.SortStableFunc(lines, func(x, y Line) int {
		return cmp.Or(cmp.Compare(x.powers(), y.powers()), cmp.Compare(x.rank(above), y.rank(above)),
			strings.Compare(strings.ToLower(x.Account), strings.ToLower(y.Account)))
	})
}

// touches counts the entries that a batch changes or moves along.
func (b *Batch) touches() int {
	n := len(b.Lines)
	for i := range b.Lines {
		n += b.Lines[i].Along()
	}
	return n
}

// Along counts the entries that move along with the line's own.
func (l *Line) Along() (n int) {
	for _, t := range l.Also {
		if t.How == MovesAlong {
			n++
		}
	}
	return n
}

// powers answers who is privileged; nil where nobody read that.
func (s *Stager) powers() Powers {
	if s.Privilege == nil {
		return nil
	}
	return s.Privilege
}

// footprints computes what the planned lines touch, and takes those into the
// batch that touch nothing protected.
func (s *Stager) footprints(ctx context.Context, b *Batch, planned []Planned) (refusals []Refusal, err error) {
	if s.Privilege != nil {
		if unknown := s.Privilege.Unknown(); len(unknown) > 0 {
			return nil, fmt.Errorf(
				"the settings call %s privileged (audit: privileged_groups), and %s shows no group of that name, so who is in it cannot be told: correct the name, or read with an account that may see it",
				strings.Join(unknown, " and "),
				s.From.Where(),
			)
		}
		if closed := s.Privilege.Closed(); len(closed) > 0 {
			return nil, fmt.Errorf("%s does not show who is in %s, so who is privileged cannot be told: read with an account that may see it",
				s.From.Where(), strings.Join(closed, " and "))
		}
	}
	all, err := Footprints(ctx, s.From, s.Dialect, s.powers(), planned)
	if err != nil {
		return nil, err
	}
	entries := make([]*directory.Entry, len(planned))
	for i, p := range planned {
		entries[i] = p.Entry
	}
	unsure, err := s.Protection.Unsure(ctx, s.From, entries)
	if err != nil {
		return nil, err
	}
	for i, p := range planned {
		f, l := &all[i], p.Line
		why := cmp.Or(s.Protection.Refuse(l, p.Entry, f), unsure[p.Entry])
		if lost := f.lost(l); why == "" && lost != "" {
			why = "the group " + lost + " is not found by its identity"
		}
		if why != "" {
			refusals = append(refusals, Refusal{DN: l.DN, Account: l.Account, Why: why})
			continue
		}
		l.Privileged = merge(l.Privileged, f.Powers)
		l.Also = f.Touches()
		b.Lines = append(b.Lines, *l)
	}
	return refusals, nil
}

// Share is how many per cent of a yard's accounts some lines are, rounded up;
// 0 where nobody counted the accounts, and where the lines are so few that
// their share does not matter.
func Share(lines, accounts int) int {
	if lines <= smallBatch || accounts == 0 {
		return 0
	}
	return (lines*100 + accounts - 1) / accounts
}

// limits keep a slip of the hand from becoming a disaster.
func (s *Stager) limits(o *Order, lines int) error {
	share := cmp.Or(o.MaxShare, s.Settings.Batch.MaxShare)
	if err := s.Settings.Batch.Allows(lines, o.MaxLines); err != nil {
		return err
	}
	if percent := Share(lines, s.Accounts); percent > share {
		return fmt.Errorf(
			"%d lines are %d %% of the yard's %d accounts, more than a batch may touch (%d %%): choose fewer, or raise the limit with --max-share %d",
			lines,
			percent,
			s.Accounts,
			share,
			percent,
		)
	}
	return nil
}

// place is where a move goes, and which names are taken there.
type place struct {
	dn    string
	taken map[string]bool // folded RDNs
}

func (s *Stager) target(ctx context.Context, o *Order) (*place, error) {
	if !slices.Contains(o.Actions, Move) {
		if o.To != "" {
			return nil, errors.New("--to goes with move")
		}
		return nil, nil
	}
	if o.To == "" {
		return nil, errors.New("move needs --to: the container to move to")
	}
	if levels, err := directory.ParseDN(o.To); err != nil || len(levels) == 0 {
		return nil, fmt.Errorf("--to: %q is not a distinguished name", o.To)
	}
	found, err := s.From.Get(ctx, []string{o.To})
	if err != nil {
		return nil, err
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("--to: %s does not exist in %s", o.To, s.From.Where())
	}
	p := &place{dn: found[0].DN, taken: map[string]bool{}}
	children, err := s.From.Children(ctx, []string{o.To})
	if err != nil {
		return nil, err
	}
	for _, dn := range children[o.To] {
		rdn, _ := directory.SplitDN(directory.FoldDN(dn))
		p.taken[rdn] = true
	}
	return p, nil
}

// line makes the line of a candidate. The error says why there is none.
func (s *Stager) line(ctx context.Context, o *Order, c *Candidate, a *directory.Account, target *place) (*Line, error) {
	e := &c.Entry
	if c.NotNow != "" {
		return nil, errors.New(c.NotNow)
	}
	if why := s.Protection.Why(e, o.Actions); why != "" {
		return nil, errors.New(why)
	}
	if !utf8.ValidString(e.DN) {
		return nil, errors.New("its name is not valid UTF-8, so no batch can hold it")
	}
	line := &Line{
		DN:         e.DN,
		ID:         source.ShowIdentity(s.Dialect, a.ID),
		Account:    text(calledOf(a, e)),
		Kind:       a.Kind.String(),
		Reason:     named,
		Confidence: audit.Sure,
	}
	line.Reason = text(cmp.Or(c.Reason, line.Reason))
	rested, err := s.reasoned(o, c, line)
	if err != nil {
		return nil, err
	}
	if slices.Contains(o.Actions, Enable) {
		if err := s.lockedByRole(ctx, e); err != nil {
			return nil, err
		}
	}
	for _, name := range o.Actions {
		err := s.action(ctx, o, name, c, a, target, line)
		if o.PassOver && errors.As(err, new(AlreadyError)) {
			line.Passed = append(line.Passed, name)
			continue
		}
		if err != nil {
			return nil, err
		}
	}
	if len(line.Actions) == 0 {
		return nil, already("all of it is so already")
	}
	if line.LastSignIn = c.LastSignIn; o.Ladder != "" && c.Finding != nil {
		line.Since = c.Finding.Since
	}
	s.guard(o, c, line, rested)
	return line, nil
}

// reasoned gives a line the finding of its candidate for a reason, where there is one, and
// returns the attributes that the decision rests on.
func (s *Stager) reasoned(o *Order, c *Candidate, line *Line) (rested []string, err error) {
	f := c.Finding
	if f == nil {
		return c.Rests, nil
	}
	if f.Confidence == audit.Likely && !o.IncludeLikely && !f.Unconfirmed {
		return nil, fmt.Errorf("its finding %s is likely, not sure (--include-likely takes it in)", f.Check)
	}
	if f.Unconfirmed {
		return nil, fmt.Errorf(
			"its finding %s rests on a match that is likely, not sure; confirm the owner with \"yardbroom link confirm\" first",
			f.Check,
		)
	}
	if f.Hidden && slices.ContainsFunc(o.Actions, audit.NotOnHidden) {
		return nil, fmt.Errorf(
			"its finding %s rests on what may be there and is not shown; nothing is deleted, and nobody taken out of groups, on that",
			f.Check,
		)
	}
	check, err := s.Catalog.Named(f.Check)
	if err != nil {
		return nil, err
	}
	line.Reason, line.Check, line.Confidence = reason(check, f), f.Check, f.Confidence
	return check.RestsOn(s.Dialect, s.Settings), nil
}

// guard adds to a line what must still be true for it to be carried out: what its actions
// need, and what the decision rests on.
func (s *Stager) guard(o *Order, c *Candidate, line *Line, rested []string) {
	if c.AsItIs {
		for _, id := range slices.Concat(s.Dialect.Enabled, s.Dialect.Expiry) {
			rested = append(rested, id.String())
		}
		if line.takesAway() {
			for _, id := range s.Dialect.LastLogon {
				rested = append(rested, id.String())
			}
		}
	}
	line.Guard = guards(s.Dialect, line.Actions, rested, &c.Entry, o.Server)
	if c.AsItIs && !slices.ContainsFunc(line.Guard, func(g Guard) bool { return g.Rule == Container }) {
		line.Guard = append(line.Guard, containerGuard(&c.Entry))
	}
	if slices.ContainsFunc(rested,
		func(name string) bool { return directory.LookupAttr(name) == directory.AttrLastLogon }) {
		line.Guard = append(line.Guard, elsewhere(o.Others, c.LastLogon)...)
	}
}

// calledOf is what people call an entry: a policy by its title, everything else by its
// logon name.
func calledOf(a *directory.Account, e *directory.Entry) string {
	if title := strings.TrimSpace(e.First("displayName")); title != "" && a.Kind == directory.KindPolicyContainer {
		return title
	}
	return a.Name()
}

// takesAway tells whether the line takes something from whoever uses the
// account, which somebody who has signed in since would miss.
func (l *Line) takesAway() bool {
	return l.SwitchesOff() || l.Has(LeaveGroups) || l.Has(SetHomeAside) || l.Has(Move)
}

// powers counts the privileged groups that the line is about.
func (l *Line) powers() int { return len(l.Privileged) + len(l.Joins()) + len(l.Leaves()) }

// reason writes a finding in one line.
func reason(c *audit.Check, f *audit.Finding) string {
	parts := []string{}
	for _, e := range f.Evidence {
		parts = append(parts, e.Attr+" "+e.Value)
	}
	out := c.Reason()
	if f.Days > 0 {
		out += fmt.Sprintf(" %d days", f.Days)
	}
	return text(out + " (" + strings.Join(parts, ", ") + ")")
}

// action plans one action and adds it to the line.
func (s *Stager) action(
	ctx context.Context, o *Order, name string, c *Candidate, a *directory.Account, target *place, line *Line,
) error {
	e := &c.Entry
	switch name {
	case Set, Add, Clear, Fill:
		return s.assign(ctx, name, e, c.Values, line)
	case Describe:
		return s.describe(c, o, line)
	case Expire:
		return s.expire(ctx, e, o, line)
	case Hide:
		return s.hide(ctx, e, line)
	case LeaveRole:
		return s.leaveRole(ctx, e, line)
	case Unmark:
		return s.unmark(ctx, e, line)
	case JoinGroup, LeaveGroup, LeaveGroups:
		return s.inGroups(name, e, line)
	case ResetPassword:
		return s.resetPassword(a, o, line)
	case SetHomeAside:
		return s.setHomeAside(ctx, e, a, o, line)
	case Rename:
		return s.rename(ctx, e, a, o.Name, line)
	case Move:
		return s.move(o, e, a, target, line)
	case Delete:
		return s.remove(ctx, o, c, a, line)
	}
	if !a.Kind.IsAccount() {
		return fmt.Errorf("%s is for accounts only", name)
	}
	lock, err := s.lockPolicy(ctx, e)
	if err != nil {
		return err
	}
	mods, err := Plan(s.Dialect, name, e, lock)
	if err != nil {
		return err
	}
	line.Actions = append(line.Actions, Action{Name: name})
	for _, m := range mods {
		line.Changes = append(line.Changes, ChangeOf(m))
	}
	return nil
}

func (s *Stager) move(o *Order, e *directory.Entry, a *directory.Account, target *place, line *Line) error {
	rdn, parent := directory.SplitDN(e.DN)
	if directory.FoldDN(parent) == directory.FoldDN(target.dn) {
		return already("it is in %s already", target.dn)
	}
	key, _ := directory.SplitDN(directory.FoldDN(e.DN))
	if target.taken[key] {
		if !o.AppendAccount {
			return fmt.Errorf("%s has an entry named %s already (--on-collision append-account gives it another name)",
				target.dn, rdn)
		}
		kind, _, _ := strings.Cut(rdn, "=")
		rdn = kind + "=" + directory.EscapeDN(directory.LeafValue(e.DN)+" "+a.Name())
		key, _ = directory.SplitDN(directory.FoldDN(rdn + "," + target.dn))
		if target.taken[key] {
			return fmt.Errorf("%s has an entry named %s already", target.dn, rdn)
		}
	}
	target.taken[key] = true
	line.Actions = append(line.Actions, Action{Name: Move, To: target.dn, RDN: rdn})
	line.Changes = append(line.Changes, Moves(e.DN, rdn+","+target.dn))
	return nil
}

// lockPolicy reads the password policy in force for an entry.
func (s *Stager) lockPolicy(ctx context.Context, e *directory.Entry) (LockPolicy, error) {
	return ReadLockPolicy(ctx, s.From.Get, s.Dialect, e, s.DefaultPolicy, s.policies)
}

// ReadLockPolicy tells whether the policy that is in force for an entry
// honours the permanent lock. Policies met before are in known.
func ReadLockPolicy(
	ctx context.Context, get func(context.Context, []string) ([]directory.Entry, error), d *directory.Dialect,
	e *directory.Entry, defaultPolicy string, known map[string]LockPolicy,
) (LockPolicy, error) {
	if d != directory.OpenLDAP {
		return LockPolicy{}, nil
	}
	dn := cmp.Or(e.First("pwdPolicySubentry"), defaultPolicy)
	if dn == "" {
		return LockPolicy{}, nil
	}
	if p, ok := known[dn]; ok {
		return p, nil
	}
	found, err := get(ctx, []string{dn})
	if err != nil {
		return LockPolicy{}, err
	}
	p := LockPolicy{}
	if len(found) == 1 {
		p = LockPolicy{Known: true, Honoured: found[0].First("pwdLockout") == "TRUE"}
	}
	known[dn] = p
	return p, nil
}

// keepLastPrivileged judges the batch as a whole: lines that would together
// leave a privileged group without an enabled member are refused.
func (s *Stager) keepLastPrivileged(lines []Line, refusals []Refusal) ([]Line, []Refusal) {
	if s.Privilege == nil {
		return lines, refusals
	}
	var going []privilege.Going
	for i := range lines {
		if groups := lines[i].GivesUp(); len(groups) > 0 {
			going = append(going, privilege.Going{DN: lines[i].DN, Groups: groups})
		}
	}
	emptied := s.Privilege.WouldEmpty(going)
	if len(emptied) == 0 {
		return lines, refusals
	}
	return sift(lines, refusals, func(l *Line) string {
		if slices.ContainsFunc(l.GivesUp(), func(g string) bool { return slices.Contains(emptied, g) }) {
			return "with this batch " + strings.Join(emptied, " and ") + " would have no enabled member left"
		}
		return ""
	})
}

// sift turns the lines for which there is a reason into refusals.
func sift(lines []Line, refusals []Refusal, why func(*Line) string) ([]Line, []Refusal) {
	kept := lines[:0]
	for _, l := range lines {
		if reason := why(&l); reason != "" {
			refusals = append(refusals, Refusal{DN: l.DN, Account: l.Account, Why: reason})
			continue
		}
		kept = append(kept, l)
	}
	return kept, refusals
}

// SwitchesOn tells whether the account can sign in after the line, and could
// not before.
func (l *Line) SwitchesOn() bool {
	return slices.ContainsFunc(l.Actions, func(a Action) bool {
		return a.Name == Enable || a.Name == LeaveRole ||
			a.Name == PutBack && slices.ContainsFunc(a.Put, func(m Mod) bool {
				return switchedOff(m.Attr, m.Old) && !switchedOff(m.Attr, m.New)
			})
	})
}

// StayOff takes out of a line that takes another back what would let the account
// sign in again, and what that rested on, and tells whether anything is left to
// do.
func (l *Line) StayOff(d *directory.Dialect) bool {
	on := func(m Mod) bool {
		return switchedOff(m.Attr, m.Old) && !switchedOff(m.Attr, m.New) ||
			slices.ContainsFunc(d.Expiry, func(id directory.AttrID) bool { return strings.EqualFold(id.String(), m.Attr) })
	}
	var actions []Action
	for _, a := range l.Actions {
		if a.Name != PutBack {
			actions = append(actions, a)
			continue
		}
		for _, m := range a.Put {
			if !on(m) {
				continue
			}
			l.Guard = slices.DeleteFunc(l.Guard, func(g Guard) bool { return g.Rule == Equal && strings.EqualFold(g.Attr, m.Attr) })
			change := ChangeOf(m)
			l.Changes = slices.DeleteFunc(l.Changes, func(c Change) bool { return c == change })
		}
		if a.Put = slices.DeleteFunc(slices.Clone(a.Put), on); len(a.Put) > 0 {
			actions = append(actions, a)
		}
	}
	l.Actions = actions
	return len(actions) > 0
}

// switchedOff tells whether values of an attribute keep an account from
// signing in because somebody wanted that.
func switchedOff(attr string, values []Octets) bool {
	switch directory.LookupAttr(attr) {
	case directory.AttrUserAccountControl:
		if len(values) != 1 {
			return false // nobody can tell
		}
		flags, err := directory.ParseFlags(string(values[0]))
		return err != nil || flags&directory.UACDisabled != 0
	case directory.AttrPwdAccountLockedTime:
		return slices.Contains(values, directory.PermanentLockValue)
	case directory.AttrNsAccountLock:
		return len(values) == 1 && strings.EqualFold(string(values[0]), "true")
	}
	return false
}

// SwitchesOff tells whether the account can no longer sign in after the line.
func (l *Line) SwitchesOff() bool {
	return slices.ContainsFunc(l.Actions, func(a Action) bool {
		return a.Name == Disable || a.Name == Delete || a.Name == Expire ||
			a.Name == PutBack && slices.ContainsFunc(a.Put, func(m Mod) bool {
				locks := directory.LookupAttr(m.Attr) == directory.AttrPwdAccountLockedTime && len(m.New) > 0
				return locks || switchedOff(m.Attr, m.New)
			})
	})
}
