package tracing

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"yardbroom/internal/logs"
	"yardbroom/internal/source"
)

// Cause is what refused sign-ins most likely come from.
type Cause uint8

// The causes, as they are looked for.
const (
	None     Cause = iota // nobody was refused
	Trouble               // clocks that differ, or encryption that the other side does not have
	Guessing              // one source tries many accounts, or many sources try one
	Old                   // the password before the last, which the directory does not count
	Stored                // a password that something has stored: evenly spaced, from one source
	Typing                // somebody types it: few, uneven, ends with a sign-in
	Barred                // the account itself may not sign in, whatever the password
	NotKnown
)

// Judgement is what refused sign-ins of an account most likely are.
type Judgement struct {
	Cause  Cause
	Sure   bool
	Source *Source // that it rests on, nil where on none
	// Origin is what else the source does, where Cause is Guessing from one.
	Origin *Origin
	// Sources is from how many it comes, where Cause is Guessing from many.
	Sources int
	// Began tells that it began with a new password; In that somebody signed in from
	// there until then, and Before that, or that the logs show nothing of it before.
	Began, In, Before bool
	// Going is that it was still at it when the logs end.
	Going bool
	// Last are the reasons of the last refusals, where Cause is Barred or Trouble.
	Last logs.Why
	// SignedIn is when it ended in a sign-in, where Cause is Typing.
	SignedIn time.Time
	Unlock   Unlock
	// Again is after how long it will be locked again once it was unlocked, 0 where
	// nobody can say.
	Again time.Duration
}

// Unlock is whether unlocking helps.
type Unlock uint8

// Unlocking helps, will not last, changes nothing, or nobody can say.
const (
	UnlockUnknown Unlock = iota
	UnlockHelps
	UnlockWillNotLast
	UnlockChangesNothing
)

// Origin is what comes from one machine or address, over all accounts.
type Origin struct {
	Name              string
	Accounts          int // that were refused from there
	Strangers         int // names that no account has
	In                int // accounts that signed in from there
	Refused, SignedIn int
	First, Last       time.Time
	// Breached are accounts that signed in from there after they had been refused.
	Breached int
}

// Case is what is known of an account besides its trace.
type Case struct {
	PasswordSet time.Time         // zero where it is not known
	SignedIn    time.Time         // last, as the directory knows it
	Servers     []source.Failures // what the servers have counted
	// MaxFailures wrong passwords lock it, 0 where that is not known; they are counted
	// together within Window, 0 where that is not known.
	MaxFailures int
	Window      time.Duration
	// From and To are the times between which the logs are.
	From, To time.Time
	Origins  map[string]*Origin // by Source.Name, those that are known
}

const (
	manyAccounts  = 5 // are refused from one source that guesses
	surelyMany    = 10
	manySources   = 5 // refuse one account within oneHour, where it is guessed
	surelySources = 20
	fewTries      = 10               // that somebody types
	typedWithin   = 30 * time.Minute // of the last mistake
	soonAfter     = 24 * time.Hour   // a phone that was off asks when it is on again
	stillAt       = time.Hour
	watched       = 24 * time.Hour // that a log must cover before something is said to have begun
)

// Judge says what the refused sign-ins of an account most likely are.
func (t *Trace) Judge(c *Case) Judgement {
	if t.Refused == 0 {
		return Judgement{Cause: None}
	}
	for _, judge := range []func(*Trace, *Case) (Judgement, bool){trouble, guessingMany, guessingOne, typing, old, stored, barred} {
		if j, is := judge(t, c); is {
			return j
		}
	}
	j := Judgement{Cause: NotKnown}
	if s := t.Sources[0]; s.Refused*2 > t.Refused {
		j.Source, j.Going = s, s.going(c)
	}
	return j
}

// Settled tells that nothing else that its source does could change the judgement: nobody
// was refused, or it is where the owner signed in until the password was changed.
func (j *Judgement) Settled() bool {
	return j.Cause == None || j.Cause == Stored && j.Sure && j.In
}

// going tells whether a source was still at it when the logs end.
func (s *Source) going(c *Case) bool {
	return !c.To.IsZero() && c.To.Sub(s.Last) <= max(stillAt, 2*s.Rhythm.Every) && s.LastSignIn.Before(s.Last)
}

func trouble(t *Trace, _ *Case) (Judgement, bool) {
	whys := t.whys()
	if n := whys[logs.ClockSkew] + whys[logs.Encryption] + whys[logs.Replay]; n*2 < t.Refused {
		return Judgement{}, false
	}
	last := logs.ClockSkew
	if whys[logs.Encryption] > whys[last] {
		last = logs.Encryption
	}
	if whys[logs.Replay] > whys[last] {
		last = logs.Replay
	}
	return Judgement{Cause: Trouble, Sure: true, Last: last, Source: t.most(last), Unlock: UnlockChangesNothing}, true
}

func (t *Trace) whys() map[logs.Why]int {
	all := map[logs.Why]int{}
	for _, s := range t.Sources {
		for why, n := range s.Whys {
			all[why] += n
		}
	}
	return all
}

// most is the source that was refused most for a reason.
func (t *Trace) most(why logs.Why) *Source {
	return slices.MaxFunc(t.Sources, func(a, b *Source) int { return cmp.Compare(a.Whys[why], b.Whys[why]) })
}

// guessingMany is one source that tries many accounts, of which few sign in from there: a
// gateway that many use signs most of them in.
func guessingMany(t *Trace, c *Case) (Judgement, bool) {
	for _, s := range t.Sources {
		o := c.Origins[s.Name()]
		if s.Refused*2 >= t.Refused && o != nil && o.Guesses() {
			return Judgement{Cause: Guessing, Sure: o.Accounts+o.Strangers >= surelyMany && o.In == 0, Source: s, Origin: o, Going: s.going(c),
				Unlock: unlockIf(s.going(c))}, true
		}
	}
	return Judgement{}, false
}

// Guesses tells whether what comes from there tries many accounts and seldom knows a
// password.
func (o *Origin) Guesses() bool {
	tried := o.Accounts + o.Strangers
	return tried >= manyAccounts && o.In*4 <= tried
}

func unlockIf(going bool) Unlock {
	if going {
		return UnlockWillNotLast
	}
	return UnlockHelps
}

// guessingOne is one account that many sources try within an hour.
func guessingOne(t *Trace, c *Case) (Judgement, bool) {
	inHour := map[string]int{}
	most, from := 0, 0
	var tries []*Attempt
	for i := range t.Attempts {
		if a := &t.Attempts[i]; a.What == logs.Refused && a.Source.Name() != "" {
			tries = append(tries, a)
		}
	}
	for _, a := range tries {
		inHour[a.Source.Name()]++
		for a.At.Sub(tries[from].At) > time.Hour {
			name := tries[from].Source.Name()
			if inHour[name]--; inHour[name] == 0 {
				delete(inHour, name)
			}
			from++
		}
		most = max(most, len(inHour))
	}
	if most < manySources {
		return Judgement{}, false
	}
	going := c.To.Sub(t.LastRefused()) <= stillAt
	return Judgement{Cause: Guessing, Sure: most >= surelySources, Sources: most, Going: going, Unlock: unlockIf(going)}, true
}

// typing is a few mistakes that end with a sign-in.
func typing(t *Trace, _ *Case) (Judgement, bool) {
	last := t.LastRefused()
	var in *Attempt
	for i := range t.Attempts {
		a := &t.Attempts[i]
		if a.What == logs.SignedIn && !a.At.Before(last) && a.At.Sub(last) <= typedWithin && (in == nil || in.Source.Name() != "") {
			if in = a; a.Source.Refused > 0 {
				break
			}
		}
	}
	if in == nil || t.Refused > fewTries || t.whys()[logs.NoSuchAccount] > 0 {
		return Judgement{}, false
	}
	for _, s := range t.Sources {
		if s.Refused > 0 && (s.Rhythm.Regular || s.Rhythm.DayAndNight) {
			return Judgement{}, false
		}
	}
	s := t.Sources[0]
	return Judgement{Cause: Typing, Sure: s.Name() != "" && in.Source.Name() == s.Name(), Source: s, SignedIn: in.At, Unlock: UnlockHelps}, true
}

// old is a password that is no more counted: the directory was asked on every server and
// has counted none of several wrong ones.
func old(t *Trace, c *Case) (Judgement, bool) {
	since := later(c.SignedIn, t.LastSignIn())
	wrong := 0
	for i := range t.Attempts {
		if a := &t.Attempts[i]; a.What == logs.Refused && a.Why == logs.WrongPassword && a.At.After(since) {
			wrong++
		}
	}
	if wrong < 3 || len(c.Servers) == 0 || t.Locks > 0 || c.MaxFailures == 0 {
		return Judgement{}, false
	}
	for _, s := range c.Servers {
		if s.Err != nil || s.Wrong > 0 || len(s.Each) > 0 || !s.Locked.IsZero() {
			return Judgement{}, false
		}
	}
	s := t.most(logs.WrongPassword)
	return Judgement{Cause: Old, Source: s, Going: s.going(c), Began: s.beganWith(c), Unlock: UnlockChangesNothing}, true
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// stored is a password that something has stored.
func stored(t *Trace, c *Case) (Judgement, bool) {
	for _, s := range t.Sources {
		if s.Refused*2 < t.Refused || !s.wrongPassword() {
			continue
		}
		byItself := s.Type == logs.Service || s.Type == logs.BatchJob
		if !s.Rhythm.Regular && !s.Rhythm.DayAndNight && (!byItself || s.Refused < 2) {
			continue
		}
		j := Judgement{Cause: Stored, Source: s, Going: s.going(c), Began: s.beganWith(c)}
		j.In = j.Began && t.signedInFrom(s.Name(), c.PasswordSet)
		j.Before = j.In || j.Began && !c.From.IsZero() && c.PasswordSet.Sub(c.From) >= watched
		j.Sure = j.Before && (s.Rhythm.Regular || byItself)
		if j.Unlock = unlockIf(j.Going); j.Going {
			j.Again = again(s, c)
		}
		return j, true
	}
	return Judgement{}, false
}

// signedInFrom tells whether the account signed in from a machine or address before a
// time, in whatever way: servers tell a sign-in in other words than a refused one.
func (t *Trace) signedInFrom(name string, before time.Time) bool {
	return slices.ContainsFunc(t.Sources, func(s *Source) bool {
		return name != "" && s.Name() == name && !s.FirstSignIn.IsZero() && s.FirstSignIn.Before(before)
	})
}

// wrongPassword tells whether a source is refused for the password, or because that has
// locked the account.
func (s *Source) wrongPassword() bool {
	return (s.Whys[logs.WrongPassword]+s.Whys[logs.WrongOrLocked]+s.Whys[logs.AccountLocked]+s.Whys[logs.Revoked])*2 > s.Refused
}

// beganWith tells whether a source was refused first soon after the password was set.
func (s *Source) beganWith(c *Case) bool {
	if c.PasswordSet.IsZero() || s.First.IsZero() {
		return false
	}
	after := s.First.Sub(c.PasswordSet)
	return after >= -time.Minute && after <= soonAfter
}

// again is after how long a source has the account locked again.
func again(s *Source, c *Case) time.Duration {
	every := s.Rhythm.Every
	if c.MaxFailures == 0 || every == 0 || c.Window > 0 && every > c.Window {
		return 0
	}
	perTry := max(1, s.Refused/max(1, s.Rhythm.Tries))
	tries := (c.MaxFailures + perTry - 1) / perTry
	return time.Duration(tries) * every
}

// barred is an account that may not sign in, whatever the password.
func barred(t *Trace, _ *Case) (Judgement, bool) {
	whys := t.whys()
	reasons := []logs.Why{logs.AccountDisabled, logs.AccountExpired, logs.PasswordExpired, logs.MustChange, logs.NotNow, logs.NotHere, logs.NoSuchAccount, logs.Revoked}
	n := 0
	for _, why := range reasons {
		n += whys[why]
	}
	if n*2 < t.Refused {
		return Judgement{}, false
	}
	last := slices.MaxFunc(reasons, func(a, b logs.Why) int { return cmp.Compare(whys[a], whys[b]) })
	return Judgement{Cause: Barred, Sure: last != logs.Revoked, Last: last, Source: t.most(last), Unlock: UnlockChangesNothing}, true
}

// Origins says what came from each machine, or address where no machine is known, over
// all that was gathered.
func (c *Collector) Origins() map[string]*Origin {
	type tried struct {
		refused, in map[int]time.Time
		unknown     map[int]bool // no account has the name, by the book or else by the server
	}
	all := map[string]*Origin{}
	who := map[string]*tried{}
	c.Each(func(t *Trace) {
		for i := range t.Attempts {
			a := &t.Attempts[i]
			if a.Source == nil || a.Source.Name() == "" {
				continue
			}
			name := a.Source.Name()
			o, of := all[name], who[name]
			if o == nil {
				o, of = &Origin{Name: name, First: a.At}, &tried{map[int]time.Time{}, map[int]time.Time{}, map[int]bool{}}
				all[name], who[name] = o, of
			}
			if a.At.Before(o.First) {
				o.First = a.At
			}
			o.Last = later(o.Last, a.At)
			if a.What == logs.Refused {
				o.Refused++
				if _, again := of.refused[t.Number]; !again {
					of.refused[t.Number] = a.At
				}
				if c.Everybody && t.Number < 0 || !c.Everybody && a.Why == logs.NoSuchAccount {
					of.unknown[t.Number] = true
				}
				continue
			}
			o.SignedIn++
			if _, again := of.in[t.Number]; !again {
				of.in[t.Number] = a.At
				if _, before := of.refused[t.Number]; before {
					o.Breached++
				}
			}
		}
	})
	for name, o := range all {
		for n := range maps.Keys(who[name].refused) {
			if who[name].unknown[n] {
				o.Strangers++
			} else {
				o.Accounts++
			}
		}
		o.In = len(who[name].in)
	}
	return all
}
