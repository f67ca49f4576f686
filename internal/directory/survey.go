package directory

import (
	"iter"
	"math"
	"strconv"
	"time"
)

// Survey is everything the audit knows of a directory: all accounts, read at
// one moment, and the policies that decide what their values mean.
type Survey struct {
	Dialect  *Dialect
	Source   string    // what the entries were read from
	Server   string    // the server that answered, "" for a file
	Servers  int       // how many servers the directory itself lists, 0 where that is not known
	Taken    time.Time // zero where the source does not say
	Accounts Accounts
	Entries  int
	Base     string // folded name of the top entry read

	Domain        Domain
	DefaultPolicy string // folded DN, from the settings
	Policies      map[string]Policy
	Seen          [kindCount]AttrSet // per kind, what at least one entry carries
	Count         [kindCount]int
	NoClass       int // entries without objectClass, which nothing can be said of
	Referrals     int // references to other servers, not followed
	Broken        int // records of a file that could not be read
}

// Accounts is a list that grows by whole parts, so that a million accounts
// are never copied.
type Accounts struct {
	parts [][]Account
	n     int
}

// Len returns the number of accounts.
func (a *Accounts) Len() int { return a.n }

// Parts returns the accounts in order, in runs of some hundred.
func (a *Accounts) Parts() [][]Account { return a.parts }

// All goes through the accounts in order.
func (a *Accounts) All() iter.Seq[*Account] {
	return func(yield func(*Account) bool) {
		for _, part := range a.parts {
			for i := range part {
				if !yield(&part[i]) {
					return
				}
			}
		}
	}
}

// Domain is what the entry at the top of an `ad` directory says.
type Domain struct {
	DN              string
	LockoutDuration LockDuration
	LogonLag        time.Duration // how late the replicated last logon may be
	LogonLagKnown   bool
}

// Policy is a password policy of the directory: a password settings object,
// or a pwdPolicy entry.
type Policy struct {
	Lockout  bool // pwdLockout TRUE
	Duration LockDuration
}

// LockDuration tells for how long a lock lasts. The zero value is a lock
// that only an administrator ends, but for Known.
type LockDuration struct {
	For   time.Duration
	Known bool
}

// defaultLogonLag is what an absent msDS-LogonTimeSyncInterval means.
const defaultLogonLag = 14 * 24 * time.Hour

// NewSurvey returns an empty survey to merge parts into.
func NewSurvey(d *Dialect) *Survey {
	return &Survey{Dialect: d, Policies: map[string]Policy{}, Domain: Domain{LogonLag: defaultLogonLag}}
}

// Part is a run of entries turned into accounts, apart from the survey, so
// that several processors can make parts at once.
type Part struct {
	accounts []Account
	entries  int
	noClass  int
	base     string
	domain   *Domain
	policies map[string]Policy
	seen     [kindCount]AttrSet
	count    [kindCount]int
	servers  int
}

// NewPart returns a part with room for n entries.
func NewPart(n int) *Part { return &Part{accounts: make([]Account, 0, n)} }

// Add reads one entry into the part. Nothing of the entry is kept.
func (p *Part) Add(d *Dialect, e *Entry) {
	p.entries++
	a := d.Account(e)
	var seen AttrSet
	for i := range e.Attrs {
		seen.Add(e.Attrs[i].ID)
	}
	if !seen.Has(AttrObjectClass) {
		p.noClass++
	}
	p.seen[a.Kind] = p.seen[a.Kind].Union(seen)
	p.count[a.Kind]++
	if p.base == "" || len(e.DN) < len(p.base) {
		p.base = e.DN
	}
	switch a.Kind {
	case KindDomain:
		p.addDomain(e)
	case KindPasswordPolicy:
		p.addPolicy(e)
	case KindOther:
		if e.HasClass("nTDSDSA") { // the mark of a domain controller in the configuration partition
			p.servers++
		}
	}
	if a.Kind.IsAccount() {
		a.compact()
		p.accounts = append(p.accounts, a)
	}
}

func (p *Part) addDomain(e *Entry) {
	dom := Domain{DN: FoldDN(e.DN), LogonLag: defaultLogonLag}
	dom.LockoutDuration = lockDuration(e.First("lockoutDuration"))
	if days, err := strconv.Atoi(e.First("msDS-LogonTimeSyncInterval")); err == nil {
		dom.LogonLag, dom.LogonLagKnown = time.Duration(days)*24*time.Hour, true
	}
	p.domain = &dom
}

func (p *Part) addPolicy(e *Entry) {
	if p.policies == nil {
		p.policies = map[string]Policy{}
	}
	pol := Policy{Lockout: e.First("pwdLockout") == "TRUE" || e.HasClass("msDS-PasswordSettings"), Duration: lockDuration(e.First("msDS-LockoutDuration"))}
	if s := e.First("pwdLockoutDuration"); s != "" {
		seconds, err := strconv.ParseInt(s, 10, 32)
		pol.Duration = LockDuration{For: time.Duration(seconds) * time.Second, Known: err == nil}
	} else if e.HasClass("pwdPolicy") {
		pol.Duration.Known = true // absent means 0: until an administrator unlocks
	}
	p.policies[FoldDN(e.DN)] = pol
}

// lockDuration reads a duration stored as negative ticks of 100 ns; 0 and
// the most negative value mean "until an administrator unlocks".
func lockDuration(s string) LockDuration {
	ticks, err := strconv.ParseInt(s, 10, 64)
	switch {
	case err != nil:
		return LockDuration{}
	case ticks == 0 || ticks == math.MinInt64:
		return LockDuration{Known: true}
	case ticks < 0:
		ticks = -ticks
	}
	if ticks > math.MaxInt64/100 {
		return LockDuration{Known: true}
	}
	return LockDuration{For: time.Duration(ticks) * 100, Known: true}
}

// Merge takes a part into the survey.
func (s *Survey) Merge(p *Part) {
	if len(p.accounts) > 0 {
		s.Accounts.parts = append(s.Accounts.parts, p.accounts)
		s.Accounts.n += len(p.accounts)
	}
	s.Entries += p.entries
	s.NoClass += p.noClass
	s.Servers += p.servers
	if p.base != "" && (s.Base == "" || len(p.base) < len(s.Base)) {
		s.Base = FoldDN(p.base)
	}
	if p.domain != nil && (s.Domain.DN == "" || len(p.domain.DN) < len(s.Domain.DN)) {
		s.Domain = *p.domain
	}
	for dn, pol := range p.policies {
		s.Policies[dn] = pol
	}
	for k := range s.Seen {
		s.Seen[k] = s.Seen[k].Union(p.seen[k])
		s.Count[k] += p.count[k]
	}
}

// SeenAnywhere is what any entry of the survey carries.
func (s *Survey) SeenAnywhere() (seen AttrSet) {
	for _, of := range s.Seen {
		seen = seen.Union(of)
	}
	return seen
}

// Shows tells whether at least one entry of the kind carries one of the
// attributes, without which their absence proves nothing.
func (s *Survey) Shows(k Kind, ids ...AttrID) bool {
	for _, id := range ids {
		if s.Seen[k].Has(id) {
			return true
		}
	}
	return false
}

// policy returns the password policy in force for an account, and whether it
// is known.
func (s *Survey) policy(a *Account) (Policy, bool) {
	if a.Policy != "" {
		p, ok := s.Policies[a.Policy]
		return p, ok
	}
	if s.Dialect == AD {
		return Policy{Lockout: true, Duration: s.Domain.LockoutDuration}, s.Domain.LockoutDuration.Known
	}
	p, ok := s.Policies[s.DefaultPolicy]
	return p, ok && s.DefaultPolicy != ""
}

// Answer is what the survey says to a question about an account: yes or no,
// and whether that is certain. By names the attribute it rests on.
type Answer struct {
	Yes    bool
	Likely bool // the answer rests on something the survey does not show
	By     AttrID
}

// Disabled tells whether somebody has switched the account off.
func (s *Survey) Disabled(a *Account, asOf time.Time) Answer {
	if s.Dialect == AD {
		return Answer{Yes: a.FlagsKnown && a.Flags&UACDisabled != 0, Likely: !a.FlagsKnown, By: AttrUserAccountControl}
	}
	if a.StartsAt.Known() && a.StartsAt.Time().After(asOf) {
		return Answer{Yes: true, By: AttrPwdStartTime}
	}
	if a.ExpiresAlso.Known() && !a.ExpiresAlso.Time().After(asOf) {
		return Answer{Yes: true, By: AttrPwdEndTime}
	}
	if a.PermanentLock {
		p, known := s.policy(a)
		return Answer{Yes: p.Lockout || !known, Likely: !known, By: AttrPwdAccountLockedTime}
	}
	shown := s.Shows(a.Kind, s.Dialect.Enabled...)
	return Answer{Likely: !shown, By: AttrPwdAccountLockedTime}
}

// Expired tells whether the account's expiry date is at or before asOf.
func (s *Survey) Expired(a *Account, asOf time.Time) Answer {
	return Answer{Yes: a.Expires.Known() && !a.Expires.Time().After(asOf), Likely: a.Expires.Unreadable(), By: a.Expires.Attr}
}

// Enabled tells whether the account is neither disabled nor expired.
func (s *Survey) Enabled(a *Account, asOf time.Time) Answer {
	d, x := s.Disabled(a, asOf), s.Expired(a, asOf)
	return Answer{Yes: !d.Yes && !x.Yes && (s.Dialect != AD || a.FlagsKnown), Likely: d.Likely || x.Likely, By: d.By}
}

// LockedOut tells whether too many wrong passwords have locked the account.
// The server's own word counts only where asOf is the survey's own time.
func (s *Survey) LockedOut(a *Account, asOf time.Time) Answer {
	if a.HasComputed && !s.Taken.IsZero() && asOf.Equal(s.Taken) {
		return Answer{Yes: a.ComputedLock, By: AttrUserAccountControlComputed}
	}
	if !a.LockedAt.Known() || a.LockedAt.Time().After(asOf) {
		return Answer{By: a.LockedAt.Attr}
	}
	p, known := s.policy(a)
	ends := a.LockedAt.Time().Add(p.Duration.For)
	switch {
	case known && !p.Lockout:
		return Answer{By: a.LockedAt.Attr} // the policy gives the value no effect
	case !known || !p.Duration.Known:
		return Answer{Yes: true, Likely: true, By: a.LockedAt.Attr}
	case p.Duration.For == 0:
		return Answer{Yes: true, By: a.LockedAt.Attr}
	}
	return Answer{Yes: ends.After(asOf), By: a.LockedAt.Attr}
}

// LastLogon returns the latest sign-in that the survey shows. A value after
// asOf is no activity; it makes the answer unreadable unless another shows.
func (s *Survey) LastLogon(a *Account, asOf time.Time) Moment {
	best := Moment{}
	for _, m := range []Moment{a.LastLogon, a.LastLogonTS} {
		if m.Attr == AttrLastLogonTimestamp && s.Domain.LogonLagKnown && s.Domain.LogonLag == 0 {
			continue
		}
		if m.Known() && m.Time().After(asOf) {
			m.state = momentUnreadable
		}
		if m.state > best.state && !best.Known() || m.Known() && (!best.Known() || m.ticks > best.ticks) {
			best = m
		}
	}
	return best
}

// EveryServerAsked tells whether the sign-ins of all servers are in the
// survey, as far as the directory's own list of servers shows.
func (s *Survey) EveryServerAsked() bool {
	return s.Dialect != AD || s.Servers == 1
}
