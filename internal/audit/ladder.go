package audit

import (
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/listing"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
)

// ladderPrefix begins the names of the checks of ladders, which nobody can type
// as the name of a check.
const ladderPrefix = "ladder "

// LadderCheckName is the name of the check that a ladder starts by.
func LadderCheckName(ladder string) string { return ladderPrefix + ladder }

// LadderCheck is what puts accounts on a ladder, as a check: it finds those of
// whom it is true, whatever else the ladder asks for and has done to them. It is
// nil for a ladder that other checks put accounts on.
func LadderCheck(l *settings.Ladder) *Check {
	by, span := l.Starts.By()
	c := &Check{Name: LadderCheckName(l.Name), Severity: Info, Short: "account that is " + l.Starts.String(), Kinds: ladderKinds(l)}
	switch by {
	case settings.StartIdle:
		c.DisprovedBy, c.Guard, c.needs = LaterOnes, logonAttrs, signInNeeds
		c.judge = func(p *pass, a *directory.Account) *Finding { return idleFor(p, a, span.Before(p.asOf)) }
	case settings.StartNeverUsed:
		c.DisprovedBy, c.Guard, c.needs = AnySignIns, logonAttrs, signInNeeds
		c.judge = func(p *pass, a *directory.Account) *Finding {
			if p.LastSignIn(a, p.asOf).Known() {
				return nil
			}
			return idleFor(p, a, span.Before(p.asOf))
		}
	case settings.StartDisabled:
		c.Guard, c.needs = enabledAttrs, disabledNeeds
		c.judge = func(p *pass, a *directory.Account) *Finding { return disabledFor(p, a, span.Before(p.asOf)) }
	case settings.StartExpired:
		c.Guard = func(d *directory.Dialect) []directory.AttrID { return d.Expiry }
		c.needs = func(d *directory.Dialect) [][]directory.AttrID { return [][]directory.AttrID{d.Expiry} }
		c.judge = func(p *pass, a *directory.Account) *Finding { return expiredFor(p, a, span.Before(p.asOf)) }
	case settings.StartLeft:
		c.ByRoster, c.Leavers, c.wants = true, true, wantsStates
		c.Guard = func(*directory.Dialect) []directory.AttrID { return nil }
		c.judge = func(p *pass, a *directory.Account) *Finding { return leftFor(p, a, span.Before(p.asOf)) }
	default:
		return nil
	}
	return c
}

// ladderKinds are the kinds of accounts that a ladder may be for.
func ladderKinds(l *settings.Ladder) []directory.Kind {
	if l.Of == nil || l.Of.Kind == "" {
		return accounts
	}
	return slices.DeleteFunc(slices.Clone(listing.Kinds[l.Of.Kind]), func(k directory.Kind) bool { return !slices.Contains(accounts, k) })
}

func signInNeeds(d *directory.Dialect) [][]directory.AttrID {
	return [][]directory.AttrID{d.LastLogon, {d.Created}}
}

// idleFor finds an account without a sign-in after a moment, nor was it made then.
// A computer that has changed its password has lived.
func idleFor(p *pass, a *directory.Account, line time.Time) *Finding {
	last, set := p.LastSignIn(a, p.asOf), p.PasswordSet(a)
	if last.Unreadable() {
		return nil
	}
	f := &Finding{Confidence: Sure, Evidence: p.logonEvidence(a, last)}
	switch {
	case last.Known():
		if f.Since = last.Time(); !p.everySignInShown(a, f.Since, line) {
			f.Confidence = Likely
		}
	case !a.Created.Known():
		return nil
	default:
		f.Since, f.Evidence = a.Created.Time(), append(f.Evidence, evidence(a.Created))
		if !p.allAsked && !p.replicated(a) || p.SignInForgotten(a).Known() {
			f.Confidence = Likely
		}
	}
	if a.Kind == directory.KindComputer && set.Known() && set.Time().After(f.Since) {
		if set.Time().After(p.asOf) {
			return nil
		}
		f.Since, f.Evidence = set.Time(), append([]Evidence{evidence(set)}, f.Evidence...)
	}
	if f.Since.After(line) {
		return nil
	}
	return f
}

// disabledFor finds an account that has been disabled since before a moment.
func disabledFor(p *pass, a *directory.Account, line time.Time) *Finding {
	f := disabledDated(p, a)
	if f == nil || f.Since.After(line) {
		return nil
	}
	return f
}

// expiredFor finds an account past its expiry date since before a moment.
func expiredFor(p *pass, a *directory.Account, line time.Time) *Finding {
	x := p.Expired(a, p.asOf)
	if !x.Yes || a.Expires.Time().After(line) {
		return nil
	}
	return &Finding{Confidence: confidence(x), Since: a.Expires.Time(), Evidence: []Evidence{evidence(a.Expires)}}
}

// leftFor finds an account, enabled or not, whose person has left before a moment.
// Where the roster does not say when, nobody knows for how long.
func leftFor(p *pass, a *directory.Account, line time.Time) *Finding {
	pair, who := p.pair(a)
	if pair == nil || who.State != roster.Left || who.LeftOn.IsZero() || p.midnight(who.LeftOn).After(line) {
		return nil
	}
	return p.about(&Finding{Confidence: Sure, Since: p.midnight(who.LeftOn)}, pair, Evidence{"end", who.LeftOn.Format(time.DateOnly)})
}

// IsLadderCheck tells whether a name is that of the check of a ladder.
func IsLadderCheck(name string) bool { return strings.HasPrefix(name, ladderPrefix) }
