package carry

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// mayReset tells why no password may be set on a server.
func mayReset(s *source.Server) error {
	switch {
	case !s.Guarded():
		return fmt.Errorf(
			"the connection to %s is not encrypted, and a password would cross the network in clear: use ldaps://, or starttls",
			s.URL,
		)
	case !s.TakesPasswords():
		return fmt.Errorf("%s takes new passwords over an encrypted connection only: use ldaps://, or starttls", s.URL)
	}
	return nil
}

// resetPassword gives the account a new password that nobody has seen. It is
// delivered before it is set, so that none is set that nobody knows.
func (w *worker) resetPassword(
	ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry, past *history,
) error {
	if err := mayReset(w.server); err != nil {
		return err
	}
	if !past.done(a.Name) {
		if err := w.hold(ctx, l, a.Name, e, image(e), past); err != nil {
			return err
		}
		password, err := newPassword()
		if err != nil {
			return err
		}
		if err := w.Deliver(l, password); err != nil {
			return localError{fmt.Errorf("the new password could not be delivered, so it was not set: %w", err)}
		}
		s, err := w.passwordStep(ctx, a, e, password)
		if err != nil {
			return err
		}
		again := past.attempted(OpPassword)
		if err := w.do(ctx, l, past, s, image(e), ""); err != nil {
			if !past.open() {
				_, mendErr := w.relocked(ctx, l, a, past)
				err = errors.Join(err, mendErr)
			}
			return err
		}
		past.note("the new password was delivered")
		if again {
			past.note("of those delivered for it, the last one holds")
		}
	}
	if w.server.Dialect == directory.AD {
		return nil
	}
	return w.afterPassword(ctx, l, a, past)
}

// passwordStep is the step that sets a password. On the `ad` schema it is to be
// changed at the next logon, in the same write.
func (w *worker) passwordStep(ctx context.Context, a *batch.Action, e *directory.Entry, password string) (Step, error) {
	s := w.step(a.Name, OpPassword, e, nil)
	s.secret = password
	attrs := []string{w.server.Dialect.PasswordSet[0].String()}
	if w.server.Dialect == directory.AD {
		s.Mods = []batch.Mod{{Attr: "pwdLastSet", Old: batch.OctetsOf(e.Get("pwdLastSet")), New: []batch.Octets{"0"}}}
		if a.Unlock {
			s.Mods = append(s.Mods,
				batch.Mod{Attr: "lockoutTime", Old: batch.OctetsOf(e.Get("lockoutTime")), New: []batch.Octets{"0"}})
		}
		metadata, err := w.server.Metadata(ctx, e)
		if err != nil {
			return s, err
		}
		if s.Version = directory.PasswordVersion(metadata); e.First("pwdLastSet") == "0" {
			return s, nil // which it will be afterwards too
		}
	}
	if w.server.Dialect == directory.OpenLDAP && e.Has(lockAttr) {
		attrs = append(attrs, lockAttr) // it is lifted
	}
	for _, attr := range attrs {
		s.Proof = append(s.Proof, batch.ImageAttr{Name: attr, Values: batch.OctetsOf(e.Get(attr))})
	}
	return s, nil
}

// lockAttr is the lock that slapd lifts with a new password.
const lockAttr = "pwdAccountLockedTime"

// effectOfPassword tells from what the server changes besides a password whether
// it was set.
func effectOfPassword(s *Step, e *directory.Entry) effect {
	seen := effectHidden
	for _, was := range s.Proof {
		switch now := e.Get(was.Name); {
		case !exactList(now, was.Values):
			return effectDone
		case len(now) > 0:
			seen = effectNone
		}
	}
	return seen
}

// provePassword tells by the server's own count, or by signing in, what nothing
// else shows of a new password. A stopped process took the password with it: then
// only that it was not set can be told, since somebody else may have set another.
func (w *worker) provePassword(ctx context.Context, s *Step, answer error, seen *sight) error {
	switch {
	case seen.entry == nil:
		return nil
	case s.secret == "" && seen.effect == effectDone:
		seen.effect = effectHidden
		return nil
	case s.secret == "" || seen.effect == effectDone, answer != nil && seen.effect == effectNone:
		return nil
	}
	if s.Version > 0 {
		metadata, err := w.server.Metadata(ctx, seen.entry)
		if err != nil {
			return err
		}
		if now := directory.PasswordVersion(metadata); now != s.Version {
			seen.effect = effectDone
			return nil
		}
	}
	right, known, err := w.server.SignsIn(ctx, seen.entry, s.secret)
	switch {
	case err != nil:
		return err
	case right:
		seen.effect = effectDone
	case known:
		seen.effect = effectNone
	}
	return nil
}

// afterPassword repairs what the password operation of slapd does besides: it
// deletes the permanent lock, so that a leaver could sign in again. And it
// marks the password as one to be changed.
func (w *worker) afterPassword(ctx context.Context, l *batch.Line, a *batch.Action, past *history) error {
	e, err := w.relocked(ctx, l, a, past)
	if err != nil || e == nil || w.server.Dialect != directory.OpenLDAP {
		return err
	}
	return w.setOwn(ctx, l, a, e, past, "pwdReset", []batch.Octets{"TRUE"})
}

// relocked puts back the lock that an attempt to set a password has lifted, whether
// the password is known to have been set or not. It goes by the entry as it is now,
// which it returns.
func (w *worker) relocked(
	ctx context.Context, l *batch.Line, a *batch.Action, past *history,
) (*directory.Entry, error) {
	e, err := w.find(ctx, l, past)
	before := past.firstBefore(OpPassword)
	if err != nil || e == nil || before == nil || w.server.Dialect != directory.OpenLDAP {
		return e, err
	}
	was := before.Entry()
	lock := batch.OctetsOf(was.Get(lockAttr))
	if permanent := slices.Contains(lock, directory.PermanentLockValue); !permanent && (len(lock) == 0 || a.Unlock) {
		return e, nil
	}
	if err := w.setOwn(ctx, l, a, e, past, lockAttr, lock); err != nil {
		return e, fmt.Errorf(
			"THE ACCOUNT IS NO LONGER LOCKED: the server lifted its lock with the new password, and putting it back failed: %w",
			err,
		)
	}
	return e, nil
}

// setOwn gives the line's own entry the wanted values of an attribute, where it
// has others.
func (w *worker) setOwn(
	ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry, past *history, attr string,
	want []batch.Octets,
) error {
	now := batch.OctetsOf(e.Get(attr))
	if sameList(batch.Plain(now), want) {
		return nil
	}
	return w.do(ctx, l, past,
		w.step(a.Name, OpModify, e, func(s *Step) { s.Mods = []batch.Mod{{Attr: attr, Old: now, New: want}} }), nil, "")
}

// afterAttempt puts a lock back that an attempt of an earlier run may have
// lifted, before anything else is looked at, and returns the entry as it is then.
func (w *worker) afterAttempt(
	ctx context.Context, l *batch.Line, e *directory.Entry, past *history,
) (*directory.Entry, error) {
	i := slices.IndexFunc(l.Actions, func(a batch.Action) bool { return a.Name == batch.ResetPassword })
	if i < 0 || e == nil || !past.attempted(OpPassword) {
		return e, nil
	}
	if _, err := w.relocked(ctx, l, &l.Actions[i], past); err != nil {
		return e, err
	}
	return w.find(ctx, l, past)
}

// attempted tells whether a step of a kind was begun that may have had an effect.
func (h *history) attempted(op Op) bool {
	return slices.ContainsFunc(h.steps,
		func(s pastStep) bool { return s.Op == op && (s.outcome == nil || !s.outcome.Untouched) })
}

// firstBefore is the image before the first attempt at a step of a kind, nil
// where there was none.
func (h *history) firstBefore(op Op) *batch.Image {
	if i := slices.IndexFunc(h.steps, func(s pastStep) bool { return s.Op == op }); i >= 0 {
		return h.steps[i].before
	}
	return nil
}

// The characters of new passwords: without those that are read for each
// other, and without what needs quoting somewhere.
var passwordClasses = []string{"abcdefghijkmnpqrstuvwxyz", "ABCDEFGHJKLMNPQRSTUVWXYZ", "23456789", "-_+.:=%@"}

const passwordLength = 20

// newPassword makes a password of twenty characters, at least two of each
// class and a letter first: more than a hundred bits by chance.
func newPassword() (string, error) {
	for {
		var b strings.Builder
		counts := make([]int, len(passwordClasses))
		all := strings.Join(passwordClasses, "")
		for b.Len() < passwordLength {
			n, err := rand.Int(rand.Reader, big.NewInt(int64(len(all))))
			if err != nil {
				return "", err
			}
			c := all[n.Int64()]
			b.WriteByte(c)
			for i, class := range passwordClasses {
				if strings.IndexByte(class, c) >= 0 {
					counts[i]++
				}
			}
		}
		letter := strings.IndexByte(passwordClasses[0]+passwordClasses[1], b.String()[0]) >= 0
		if letter && !slices.ContainsFunc(counts, func(n int) bool { return n < 2 }) {
			return b.String(), nil
		}
	}
}
