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
)

// mayReset tells why no password may be set here.
func (r *Runner) mayReset() error {
	switch {
	case !r.Server.Guarded():
		return fmt.Errorf("the connection to %s is not encrypted, and a password would cross the network in clear: use ldaps://, or starttls", r.Server.URL)
	case !r.Server.TakesPasswords():
		return fmt.Errorf("%s takes new passwords over an encrypted connection only: use ldaps://, or starttls", r.Server.URL)
	case r.Deliver == nil && !r.DryRun:
		return errors.New("say with --passwords where the new password goes")
	}
	return nil
}

// resetPassword gives the account a new password that nobody has seen. It is
// delivered before it is set, so that none is set that nobody knows.
func (r *Runner) resetPassword(ctx context.Context, l *batch.Line, a *batch.Action, e *directory.Entry, past *history) error {
	if err := r.mayReset(); err != nil {
		return err
	}
	if !past.done(a.Name) {
		if err := r.hold(ctx, l, a.Name, e, image(e), past); err != nil {
			return err
		}
		password, err := newPassword()
		if err != nil {
			return err
		}
		if err := r.Deliver(l, password); err != nil {
			return fmt.Errorf("the new password could not be delivered, so it was not set: %w", err)
		}
		s := r.step(a.Name, OpPassword, e, func(s *Step) {
			s.secret = password
			s.Mods = r.passwordMods(a, e)
		})
		if err := r.do(ctx, l, past, s, image(e), ""); err != nil {
			return err
		}
		past.notes = append(past.notes, "the new password was delivered")
	}
	if r.Server.Dialect == directory.AD {
		return nil
	}
	return r.afterPassword(ctx, l, a, past)
}

// passwordMods are the changes by which a reset is known to have been done:
// on the `ad` schema written with the password, elsewhere made by the server.
func (r *Runner) passwordMods(a *batch.Action, e *directory.Entry) []batch.Mod {
	if r.Server.Dialect != directory.AD {
		attr := r.Server.Dialect.PasswordSet[0].String()
		return []batch.Mod{{Attr: attr, Old: batch.OctetsOf(e.Get(attr))}}
	}
	mods := []batch.Mod{{Attr: "pwdLastSet", Old: batch.OctetsOf(e.Get("pwdLastSet")), New: []batch.Octets{"0"}}}
	if a.Unlock {
		mods = append(mods, batch.Mod{Attr: "lockoutTime", Old: batch.OctetsOf(e.Get("lockoutTime")), New: []batch.Octets{"0"}})
	}
	return mods
}

// effectOfPassword tells from what the server writes beside a password
// whether a reset was done. Where that is the same before and after, nobody
// can tell.
func effectOfPassword(s *Step, e *directory.Entry) effect {
	watch := s.Mods[0]
	now := e.Get(watch.Attr)
	switch {
	case watch.New != nil && exactList(batch.Plain(watch.Old), watch.New), watch.New == nil && len(now) == 0:
		return effectOther
	case exactList(now, watch.Old):
		return effectNone
	}
	return effectDone
}

// afterPassword repairs what the password operation of slapd does besides: it
// deletes the permanent lock, so that a leaver could sign in again. And it
// marks the password as one to be changed.
func (r *Runner) afterPassword(ctx context.Context, l *batch.Line, a *batch.Action, past *history) error {
	e, err := r.find(ctx, l, past)
	if err != nil || e == nil || r.Server.Dialect != directory.OpenLDAP {
		return err
	}
	reset := past.main(a.Name)
	set := func(attr string, want []batch.Octets) error {
		now := batch.OctetsOf(e.Get(attr))
		if sameList(batch.Plain(now), want) {
			return nil
		}
		return r.do(ctx, l, past, r.step(a.Name, OpModify, e, func(s *Step) { s.Mods = []batch.Mod{{Attr: attr, Old: now, New: want}} }), nil, "")
	}
	if reset.before != nil {
		before := reset.before.Entry()
		lock := batch.OctetsOf(before.Get("pwdAccountLockedTime"))
		if permanent := slices.Contains(lock, directory.PermanentLockValue); permanent || len(lock) > 0 && !a.Unlock {
			if err := set("pwdAccountLockedTime", lock); err != nil {
				return fmt.Errorf("THE ACCOUNT IS NO LONGER LOCKED: the server lifted its lock with the new password, and putting it back failed: %w", err)
			}
		}
	}
	return set("pwdReset", []batch.Octets{"TRUE"})
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
