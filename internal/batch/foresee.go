package batch

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// Foresee tells why the bound account may not do what a line does, as far as
// the server tells that beforehand: "may not write mail of it"; "" where it may,
// or where nobody knows. Done are the actions that are not to be done any more.
func (l *Line) Foresee(
	ctx context.Context, f *source.Foresight, d *directory.Dialect, dn string, done func(action string) bool,
) (string, error) {
	intents := l.intents(d, dn, done)
	for i := range intents {
		why, err := f.MayNot(ctx, &intents[i])
		if err != nil {
			return "", err
		}
		if why != "" && i > 0 {
			return strings.ReplaceAll(why, " of it", " of "+intents[i].DN), nil
		}
		if why != "" {
			return why, nil
		}
	}
	return "", nil
}

// intents are what a line asks of the rights to its entry, which comes first, and
// to its groups.
func (l *Line) intents(d *directory.Dialect, dn string, done func(action string) bool) []source.Intent {
	own := source.Intent{DN: dn}
	all := []source.Intent{own}
	for i := range l.Actions {
		a := &l.Actions[i]
		if done(a.Name) {
			continue
		}
		n := &all[0]
		for _, m := range a.Put {
			if m.Permissions() {
				n.Permit = true
				continue
			}
			n.Write = append(n.Write, m.Attr)
		}
		n.Write = append(n.Write, stateAttributes(d, a.Name)...)
		switch a.Name {
		case Move:
			n.Rename, n.Into = true, a.To
		case Rename:
			n.Rename = true
		case Delete:
			n.Delete = true
		case ResetPassword:
			n.Reset = true
		}
		for _, g := range a.Groups {
			all = append(all, source.Intent{DN: g.DN, Write: []string{g.Attr}})
		}
	}
	return all
}

// stateAttributes are what switches an account's state.
func stateAttributes(d *directory.Dialect, action string) []string {
	switch {
	case d == directory.AD && (action == Disable || action == Enable):
		return []string{"userAccountControl"}
	case d == directory.AD && action == Unlock:
		return []string{"lockoutTime"}
	case d == directory.NS389 && (action == Disable || action == Enable):
		return []string{"nsAccountLock"}
	case d == directory.NS389 && action == Unlock:
		return []string{"accountUnlockTime"}
	}
	return nil
}

// mostForeseen is how many lines staging asks the server about; a dry run asks
// about all.
const mostForeseen = 500

// Foreseen tells which lines of a new batch the account that staged it may not
// carry out, as far as the server tells.
func (s *Stager) Foreseen(ctx context.Context, b *Batch) (not []Refusal, err error) {
	server, live := s.From.(*source.Server)
	if !live {
		return nil, nil
	}
	f := server.Foresight()
	for i := range b.Lines[:min(len(b.Lines), mostForeseen)] {
		l := &b.Lines[i]
		why, err := l.Foresee(ctx, f, s.Dialect, l.DN, func(string) bool { return false })
		if err != nil {
			return nil, err
		}
		if why != "" {
			not = append(not, Refusal{DN: l.DN, Account: l.Account, Why: why})
		}
	}
	return not, nil
}

// Unencrypted tells whether a batch resets passwords on a server that takes them
// over an encrypted connection only, and this one is not.
func (s *Stager) Unencrypted(b *Batch) bool {
	server, live := s.From.(*source.Server)
	return live && !server.TakesPasswords() &&
		slices.ContainsFunc(b.Lines, func(l Line) bool { return l.Has(ResetPassword) })
}

// lockedByRole refuses to enable what a role disables: the value that would be
// taken away does not stand in the entry.
func (s *Stager) lockedByRole(ctx context.Context, e *directory.Entry) error {
	server, live := s.From.(*source.Server)
	if !live {
		return nil
	}
	role, err := server.LockingRole(ctx, e)
	if err == nil && role != "" {
		err = fmt.Errorf(
			"it is disabled by the role %s, not by an attribute of its own: \"yardbroom stage leave-role\" takes it out of that",
			role,
		)
	}
	return err
}
