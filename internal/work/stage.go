package work

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/privilege"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/wording"
)

// StageRequest says what to stage, and of whom.
type StageRequest struct {
	// Question is what findings are judged by.
	Question
	Choice
	Actions []string
	// Attr and Value are what set, add, clear and fill write, where it is not a
	// finding that has it; a Value of fill is a rule.
	Attr, Value   string
	Name          batch.NewName // for rename
	To            string        // DN, for move
	Text          string        // for describe
	Expires       string        // date, for expire
	Groups        []string      // names or DNs, for join-group and leave-group
	Unlock        bool          // for reset-password
	EvenEnabled   bool          // for delete
	Until         string        // date on which the batch is to be taken back, "" for never
	Why           string
	AppendAccount bool // where a name is taken at the target, put the logon name into it
	IncludeLikely bool
	// WholeRoster says that the roster is whole, though by it much of the
	// directory would have to go.
	WholeRoster bool
	// MaxLines and MaxShare (per cent of the yard's accounts) are other limits
	// than those of the settings, where they are positive.
	MaxLines, MaxShare int
	// Round is the round that stages it, "" for a person. Who waits in an open
	// batch of that round is left out.
	Round string
	// Consider may refuse the batch before it is kept; nil where nobody wants to.
	Consider func(*batch.Batch) error
}

// Staged is a batch that was made, and what a person should know of it.
type Staged struct {
	// Batch is nil where nothing could be staged.
	Batch     *batch.Batch
	Agreement *batch.Agreement
	// Unproved is why the one who staged it is known by the operating system's
	// word only, nil where they are proved or need not be.
	Unproved error
	// Refusals are those who were chosen and cannot be staged.
	Refusals []batch.Refusal
	// InOpen counts who was left out since they wait in an open batch of the
	// round.
	InOpen int
	// Foreseen are lines that Bound, the account that is signed in, may not carry
	// out; UnknownRights is why that could not be found out.
	Foreseen      []batch.Refusal
	Bound         string
	UnknownRights error
	// Unencrypted tells that passwords are to be set, over a connection that they
	// must not be sent over.
	Unencrypted bool
	// StillAt are accounts to be unlocked that something still refuses, by the logs:
	// the lock will come again.
	StillAt []*TracedAccount
}

// Is tells whether one action only is staged, and it is this one.
func (r *StageRequest) Is(action string) bool { return len(r.Actions) == 1 && r.Actions[0] == action }

// SetsValues tells whether attributes get values, or lose them.
func (r *StageRequest) SetsValues() bool {
	return r.Is(batch.Set) || r.Is(batch.Fill) || r.Is(batch.Add) || r.Is(batch.Clear)
}

// check refuses what does not go together.
func (r *StageRequest) check() error {
	if err := r.checkChoice(); err != nil {
		return err
	}
	for _, goes := range []struct {
		given        bool
		option, with string
	}{{r.Text != "", "text", batch.Describe}, {r.Expires != "", "expires", batch.Expire}, {r.Unlock, "unlock", batch.ResetPassword}, {r.EvenEnabled, "even-enabled", batch.Delete}} {
		if goes.given && !slices.Contains(r.Actions, goes.with) {
			return Wrong("--%s goes with %s", goes.option, goes.with)
		}
	}
	grouped := slices.Contains(r.Actions, batch.JoinGroup) || slices.Contains(r.Actions, batch.LeaveGroup)
	switch {
	case grouped && len(r.Groups) == 0:
		return Wrong("say which group with --group")
	case !grouped && len(r.Groups) > 0:
		return Wrong("--group goes with join-group and leave-group")
	case slices.Contains(r.Actions, batch.Describe) && r.Text == "":
		return Wrong("say with --text what to write: describe fills in {date}, {batch}, {reason} and {old}")
	case slices.Contains(r.Actions, batch.Expire) && r.Expires == "":
		return Wrong("say with --expires on which date")
	}
	if err := batch.CheckText(r.Text); err != nil {
		return Wrong("--text: %w", err)
	}
	return nil
}

// CheckStage refuses a request that cannot be meant, before anything is read.
func (s *Session) CheckStage(r *StageRequest) error {
	_, _, err := s.understood(r)
	return err
}

// understood is a request whose conditions are a check, and the session that knows
// that check.
func (s *Session) understood(r *StageRequest) (*Session, *StageRequest, error) {
	if err := r.check(); err != nil || r.Where == nil {
		return s, r, err
	}
	set, asked := s.asCheck(*r.Where)
	with, err := s.with(set)
	if err != nil {
		return s, r, err
	}
	by := *r
	by.Checks = append(slices.Clone(r.Checks), asked)
	return with, &by, nil
}

// located is a request whose places are DNs: those of OUs that were given by name.
func (s *Session) located(ctx context.Context, p *Place, r *StageRequest) (*StageRequest, error) {
	at := *r
	var err error
	if parking := s.Settings.Audit.Parking; at.To == "" && slices.Contains(r.Actions, batch.Move) && len(parking) == 1 {
		at.To = parking[0]
		s.note("note: moved to %s, the one place for parked accounts that the settings name; --to says another", at.To)
	}
	if at.To != "" {
		if at.To, err = containerNamed(ctx, p, "to", at.To); err != nil {
			return nil, err
		}
	}
	if r.Where != nil {
		where := *r.Where
		if err := locate(ctx, p, &where); err != nil {
			return nil, err
		}
		at.Where = &where
	}
	return &at, nil
}

// locate puts DNs in the place of the names of OUs.
func locate(ctx context.Context, p *Place, f *settings.Filter) (err error) {
	if f.Under != "" {
		if f.Under, err = containerNamed(ctx, p, "under", f.Under); err != nil {
			return err
		}
	}
	f.NotUnder = slices.Clone(f.NotUnder)
	for i, name := range f.NotUnder {
		if f.NotUnder[i], err = containerNamed(ctx, p, "not under", name); err != nil {
			return err
		}
	}
	return nil
}

// Stage makes a batch and keeps it. Nothing is changed in the directory. The
// result holds the refusals also where there is an error, since they may be why.
func (s *Session) Stage(ctx context.Context, p *Place, r *StageRequest) (*Staged, error) {
	staged := &Staged{}
	p.surveyAhead()
	r, err := s.located(ctx, p, r)
	if err != nil {
		return staged, err
	}
	s, r, err = s.understood(r)
	if err != nil {
		return staged, err
	}
	stager, order, err := s.stager(ctx, p, r)
	if err != nil {
		return staged, err
	}
	if err := s.RefuseMissing(ctx, p, nil); err != nil {
		return staged, err
	}
	if r.Where != nil {
		if err := refuseUnknown(ctx, p, stager.Dialect, "--filter or --match", filterAttributes(r.Where.Filter)); err != nil {
			return staged, err
		}
	}
	candidates, err := s.choose(ctx, p, stager, order, r)
	if err != nil {
		return staged, err
	}
	if err := p.refuseUnread(); err != nil {
		return staged, err
	}
	if candidates, err = s.notWaiting(ctx, stager, r.Round, candidates, staged); err != nil {
		return staged, err
	}
	if p.Broken > 0 {
		return staged, fmt.Errorf("%s: %s could not be read; nothing is staged from a file that is not whole",
			p.Where(), wording.Count(p.Broken, "record"))
	}
	b, refusals, err := stager.Stage(ctx, *order, candidates)
	staged.Refusals = refusals
	if err != nil {
		return staged, err
	}
	more, err := s.withoutBarred(ctx, b)
	staged.Refusals = append(staged.Refusals, more...)
	switch {
	case err != nil:
		return staged, err
	case len(b.Lines) == 0:
		return staged, batch.ErrNothing
	}
	if r.Consider != nil {
		if err := r.Consider(b); err != nil {
			return staged, err
		}
	}
	if err := s.keepStaged(ctx, b, staged); err != nil {
		return staged, err
	}
	if slices.Contains(r.Actions, batch.Unlock) {
		if staged.StillAt, err = s.stillAt(ctx, p, stager.Dialect, candidates, &r.Question.Logs); err != nil {
			return staged, err
		}
	}
	staged.Foreseen, staged.UnknownRights = stager.Foreseen(ctx, b)
	staged.Unencrypted = stager.Unencrypted(b)
	if server, live := p.Server(); live {
		staged.Bound = server.Bound
	}
	return staged, nil
}

// notWaiting leaves out the candidates that wait in an open batch of a round
// already.
func (s *Session) notWaiting(
	ctx context.Context, stager *batch.Stager, round string, candidates []batch.Candidate, staged *Staged,
) ([]batch.Candidate, error) {
	if round == "" {
		return candidates, nil
	}
	open, err := s.OpenBatches(ctx, round)
	if err != nil {
		return nil, err
	}
	waits := map[string]bool{}
	for _, b := range open {
		if !b.Identity.Same(stager.Identity) {
			continue
		}
		for i := range b.Lines {
			if !b.Lines[i].State.Settled() {
				waits[b.Lines[i].ID] = true
			}
		}
	}
	before := len(candidates)
	candidates = slices.DeleteFunc(candidates, func(c batch.Candidate) bool {
		return waits[source.ShowIdentity(stager.Dialect, stager.Dialect.Account(&c.Entry).ID)]
	})
	staged.InOpen = before - len(candidates)
	return candidates, nil
}

// OpenBatches are the batches of a round that are still to be carried out, or are
// carried out in part, oldest first.
func (s *Session) OpenBatches(ctx context.Context, round string) (open []*batch.Batch, err error) {
	all, err := s.Batches(ctx)
	for _, b := range all {
		if b.Round == round && (b.State == batch.Staged || b.State == batch.Begun) {
			b, err := s.Batch(ctx, b.ID)
			if err != nil {
				return nil, err
			}
			open = append(open, b)
		}
	}
	return open, err
}

// keepStaged keeps a batch, and proves who has staged it.
func (s *Session) keepStaged(ctx context.Context, b *batch.Batch, staged *Staged) error {
	kept, err := s.Store(ctx)
	if err != nil {
		return err
	}
	if err := b.Save(ctx, kept); err != nil {
		return err
	}
	staged.Batch, staged.Unproved = b, s.prove(ctx, b)
	staged.Agreement, err = s.Agreement(ctx, b)
	return err
}

// stager collects what staging needs to know of the yard, and makes the order.
func (s *Session) stager(ctx context.Context, p *Place, r *StageRequest) (*batch.Stager, *batch.Order, error) {
	id, err := p.Identity(ctx)
	if err != nil {
		return nil, nil, err
	}
	d, err := directory.DialectNamed(id.Dialect)
	if err != nil {
		return nil, nil, err
	}
	now := s.now() // AsOf is for judging; what is staged is staged now
	holders, err := s.holders(ctx, p, id, d, now)
	if err != nil {
		return nil, nil, err
	}
	protection, err := s.protection(ctx, p)
	if err != nil {
		return nil, nil, err
	}
	stager := &batch.Stager{
		From:          p.Source,
		Identity:      id,
		Dialect:       d,
		Settings:      s.Settings,
		Privilege:     holders,
		Catalog:       s.Catalog,
		DefaultPolicy: p.Yard.DefaultPolicy,
		Protection:    protection,
		Homes:         p.Yard.Homes,
	}
	if server, live := p.Server(); live {
		if stager.Returns, err = s.seenReturn(ctx, id, server.HostName()); err != nil {
			return nil, nil, err
		}
	}
	order, err := s.order(ctx, p, r)
	if err == nil {
		order.At = now
	}
	return stager, order, err
}

// holders are who has power in a place: a server is asked for its groups, of a file the
// survey knows them.
func (s *Session) holders(
	ctx context.Context, p *Place, id source.Identity, d *directory.Dialect, at time.Time,
) (*privilege.Holders, error) {
	rules := privilege.RulesFor(id, s.Settings.Audit.PrivilegedGroups)
	if server, live := p.Server(); live {
		h, err := privilege.Read(ctx, server, d, rules, at)
		if err != nil {
			return nil, err
		}
		return h, h.See(ctx, server)
	}
	survey, err := p.Survey(ctx)
	if err != nil {
		return nil, err
	}
	return privilege.Surveyed(survey, rules, at), nil
}

// order is a request as staging takes it.
func (s *Session) order(ctx context.Context, p *Place, r *StageRequest) (*batch.Order, error) {
	o := &batch.Order{
		Actions:       r.Actions,
		Name:          r.Name,
		To:            r.To,
		Text:          r.Text,
		Unlock:        r.Unlock,
		EvenEnabled:   r.EvenEnabled,
		AppendAccount: r.AppendAccount,
		IncludeLikely: r.IncludeLikely,
		MaxLines:      r.MaxLines,
		MaxShare:      r.MaxShare,
		Why:           r.Why,
		Round:         r.Round,
		By:            s.By,
		Source:        p.Where(),
	}
	server, live := p.Server()
	if _, ok := s.Settings.Yards[p.Name]; ok {
		o.Yard = p.Name
	} else if live {
		o.Yard = p.Where()
	}
	if live {
		o.Server = server.HostName()
	}
	var err error
	if o.JudgedFor, err = s.judgedFor(p, r.AsOf); err != nil {
		return nil, err
	}
	if o.Expires, err = dateOf("expires", r.Expires, p); err != nil {
		return nil, err
	}
	if r.Until != "" {
		until, err := calendar.ParseStart(dayAfter(r.Until, s.Now().In(p.Location())), p.Location())
		if err != nil {
			return nil, Wrong("--until: %w", err)
		}
		o.Until = until.UTC()
	}
	for _, name := range r.Groups {
		g, err := findGroup(ctx, p, name)
		if err != nil {
			return nil, err
		}
		o.Groups = append(o.Groups, *g)
	}
	return o, nil
}

// dayAfter is the date that a span from now means; what is no span stays as it is.
func dayAfter(text string, now time.Time) string {
	span, err := calendar.ParseSpan(text)
	if err != nil {
		return text
	}
	return span.After(now).Format(time.DateOnly)
}

// dateOf reads a date in the yard's time zone, in UTC; zero for none.
func dateOf(option, text string, p *Place) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	t, err := calendar.ParseTime(text, p.Location())
	if err != nil {
		return t, Wrong("--%s: %w", option, err)
	}
	return t.UTC(), nil
}

// judgedFor is the time for which findings are judged, where that is still to
// come. On a live yard nothing is staged for such a time, since nothing that it
// shows can be true then; what is staged from a file waits for it.
func (s *Session) judgedFor(p *Place, asOf string) (time.Time, error) {
	t, err := dateOf("as-of", asOf, p)
	if err != nil || !t.After(s.Now()) {
		return time.Time{}, err
	}
	if _, live := p.Server(); live {
		return t, Wrong(
			"--as-of %s is still to come: what a live directory shows now proves nothing for then; leave it out", asOf)
	}
	return t, nil
}

// protection is what must not be touched in a place.
func (s *Session) protection(ctx context.Context, p *Place) (batch.Protection, error) {
	exempt, err := s.exemptions(ctx, p)
	if err != nil {
		return batch.Protection{}, err
	}
	id, err := p.Identity(ctx)
	if err != nil {
		return batch.Protection{}, err
	}
	bound := []string{p.Yard.Bind.DN}
	if server, ok := p.Server(); ok {
		bound = append(bound, server.Bound)
	}
	return batch.NewProtection(ctx, p.Source, id, &p.Yard, s.Settings.Audit.PrivilegedGroups, exempt, s.now(), bound...)
}

// takes tells whether a finding is meant: where values are set one about the
// attribute.
func (r *StageRequest) takes(f *audit.Finding) bool {
	switch {
	case !f.AboutEntry():
		return false
	case !r.SetsValues():
		return true
	}
	return r.Attr == "" || f.About(r.Attr)
}

// fromRoster begins what stands for a value of the roster in a rule.
const fromRoster = "{roster."

// ByRoster tells whether the roster gives the values.
func (r *StageRequest) ByRoster() bool {
	return (r.Is(batch.Fill) || r.Is(batch.Set)) && strings.Contains(r.Value, fromRoster)
}

// RequestOf is what a step of the settings asks for. Spans of time count from a day.
func RequestOf(s *settings.StageStep, q Question, day time.Time) *StageRequest {
	r := &StageRequest{Question: q, Actions: s.Actions, Attr: s.Attr, Value: s.Value, To: s.To, Text: s.Text, Groups: s.Groups,
		Why: s.Why, AppendAccount: s.AppendAccount, IncludeLikely: s.IncludeLikely}
	r.Where = s.Of
	for _, one := range []struct {
		text string
		into *string
	}{{s.Expires, &r.Expires}, {s.Until, &r.Until}} {
		*one.into = one.text
		if span, err := calendar.ParseSpan(one.text); err == nil {
			*one.into = span.After(day).Format(time.DateOnly)
		}
	}
	return r
}
