package directory

import (
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"
)

// Survey is everything the audit knows of a directory: all accounts, groups
// and containers, read at one moment, and the policies that decide what
// their values mean.
type Survey struct {
	Dialect *Dialect
	Source  string    // what the entries were read from
	Server  string    // the server that answered, "" for a file
	Taken   time.Time // zero where the source does not say
	// Asked are the servers whose own last logons are in the survey, Silent
	// those that were to be asked and did not answer.
	Asked, Silent []string
	SilentWhy     []string // for each of Silent
	// Partial says that only some of the accounts were read, with all groups:
	// what has to be compared over all accounts cannot be.
	Partial  bool
	Accounts Accounts
	Words    *Words // of the texts of its accounts
	Entries  int
	Base     string // folded name of the top entry read

	Domain        Domain
	DefaultPolicy string // folded DN, from the settings
	Policies      map[string]Policy
	Groups        []Group // and foreign identities
	Units         []Container
	GroupPolicies []Container
	PolicyLinks   []PolicyLink
	Misplaced     []Subject // conflict objects, and what stands below LostAndFound
	Unreadable    []Unreadable
	References    []Reference // where the dialect keeps links whole, only those to deleted objects
	// Absent are the keys of names that references hold and for which the
	// server answered that there is no such entry.
	Absent map[Key]bool
	// Elsewhere are sign-ins that other systems recorded, by TextKey of the
	// logon name.
	Elsewhere map[Key]SignIn
	// Ours are the steps of our own journal that the directory may not date, by raw identity.
	Ours  map[string]OurSteps
	Sites int // how many sites of the directory were read

	Seen  [kindCount]AttrSet // per kind, what at least one entry carries
	Count [kindCount]int
	// Foreign are the classes of entries that are of no known one, by name.
	Foreign map[string]ForeignClass
	// Fewer are the names of groups that list fewer members than say that they
	// are members: their lists are not whole.
	Fewer   []string
	NoClass int // entries without objectClass, which nothing can be said of
	Broken  int // records of a file that could not be read
	Gaps

	// RightsRead says that the source told what the bound account may read;
	// where it did not, what is hidden shows by what others carry.
	RightsRead bool

	primaryGroups map[uint32]struct{}
	gidNumbers    map[string]struct{}
	wellKnown     map[Key]struct{}
	entries       [][]Key // of all entries, where references have to be followed
	controllers   map[Key]struct{}
	claims        map[Key]int // entries that say they are members, by group
	hosts         map[Key]string
	others        []map[string]ServerTimes // what each of Asked but the first knows, by raw identity
	sharesParts   bool                     // its parts are another survey's too, and stay as they are
	visibility
}

// Gaps count what a reading of everything met that it should not.
type Gaps struct {
	Referrals int // references to other servers, not followed
	Outside   int // entries that do not stand below the base, left out
	Twice     int // entries that came again, counted once
	Hidden    int // entries that do not show all to the bound account, where that is told with each
}

// Whole tells whether nothing is missing, as far as can be told. What came
// twice may have been moved while the rest was read, and something else with
// it.
func (g Gaps) Whole() bool { return g == Gaps{} }

// Describe says what is missing: "3 entries came twice"; nothing where all is whole.
func (g Gaps) Describe() (parts []string) {
	for _, one := range []struct {
		n    int
		what string
	}{{g.Referrals, "references to other servers were not followed"}, {g.Outside, "entries outside the base were left out"},
		{g.Twice, "entries came twice"}, {g.Hidden, "entries do not show all to this account"}} {
		if one.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", one.n, one.what))
		}
	}
	return parts
}

// SignIn is a sign-in that another system recorded.
type SignIn struct {
	At     time.Time
	Source string
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
	DN              string // folded
	Name            string // the DN as it is spelt
	SID             string // raw
	LockoutDuration LockDuration
	MaxPasswordAge  time.Duration // 0 means for ever, or not known
	LogonLag        time.Duration // how late the replicated last logon may be
	LogonLagKnown   bool
}

// Policy is a password policy of the directory: a password settings object,
// or a pwdPolicy entry.
type Policy struct {
	Lockout    bool // pwdLockout TRUE
	Duration   LockDuration
	MaxAge     time.Duration // 0: passwords do not expire, or it is not known
	MaxFailure int           // wrong passwords until the lock, 0 where not known
}

// LockDuration tells for how long a lock lasts. The zero value is a lock
// that only an administrator ends, but for Known.
type LockDuration struct {
	For   time.Duration
	Known bool
}

// Group is a group, or an identity that stands in groups for somebody
// outside.
type Group struct {
	Subject
	SID        string // in its S-1-… form, "" where there is none
	Security   bool   // membership gives rights
	Marked     bool   // adminCount is 1
	Dynamic    bool   // members are searched for, not listed
	Posix      bool
	GID        string
	Created    Moment
	Members    []Key
	Logons     []string // memberUid
	Incomplete bool     // the source holds a part of the members only
	HasHistory []string // earlier identities (sIDHistory), raw
}

// Container is an organizational unit, or a group policy.
type Container struct {
	Subject
	Title   string
	Created Moment
}

// PolicyLink is an entry that group policies are linked to, or may be.
type PolicyLink struct {
	Subject
	Links string // the value of gPLink, "" where it may not be read
}

// Reference is a name that an entry holds of another.
type Reference struct {
	From *Subject
	Attr AttrID
	Name string
	Key  Key
}

// Unreadable is a value that does not parse.
type Unreadable struct {
	Subject
	Attr  AttrID
	Value string
}

// defaultLogonLag is what an absent msDS-LogonTimeSyncInterval means.
const defaultLogonLag = 14 * 24 * time.Hour

// NewSurvey returns an empty survey to merge parts into.
func NewSurvey(d *Dialect) *Survey {
	return &Survey{
		Dialect:       d,
		Words:         &Words{},
		Policies:      map[string]Policy{},
		Domain:        Domain{LogonLag: defaultLogonLag},
		Absent:        map[Key]bool{},
		Foreign:       map[string]ForeignClass{},
		claims:        map[Key]int{},
		primaryGroups: map[uint32]struct{}{},
		gidNumbers:    map[string]struct{}{},
		wellKnown:     map[Key]struct{}{},
		controllers:   map[Key]struct{}{},
		hosts:         map[Key]string{},
		visibility:    newVisibility(),
	}
}

// ShareParts says that parts of this survey are merged into another one too.
func (s *Survey) ShareParts() { s.sharesParts = true }

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

// HasBelow tells whether any entry stands below a name.
func (s *Survey) HasBelow(k Key) bool { return s.places[k] != nil }

// PrimaryOfSomebody tells whether a group is the primary group of an
// account, by its RID.
func (s *Survey) PrimaryOfSomebody(rid uint32) bool { _, ok := s.primaryGroups[rid]; return ok }

// LastRID is the highest number of an account or a group, on the `ad` schema.
func (s *Survey) LastRID() (last uint32) {
	for a := range s.Accounts.All() {
		last = max(last, a.RID)
	}
	for i := range s.Groups {
		last = max(last, s.Groups[i].RID)
	}
	return last
}

// GIDInUse tells whether an account has this gidNumber.
func (s *Survey) GIDInUse(gid string) bool { _, ok := s.gidNumbers[gid]; return ok }

// IsWellKnown tells whether the domain entry names this container as the
// place for something.
func (s *Survey) IsWellKnown(k Key) bool { _, ok := s.wellKnown[k]; return ok }

// Servers returns the domain controllers that the directory itself lists, by
// host name where it shows one, sorted.
func (s *Survey) Servers() []string {
	var all []string
	for k := range s.controllers {
		all = append(all, s.hosts[k])
	}
	slices.Sort(all)
	return all
}

// EveryServerAsked tells whether the sign-ins of all servers are in the
// survey, as far as the directory's own list of servers shows. A domain with
// one server has been asked, whatever it was read from.
func (s *Survey) EveryServerAsked() bool {
	if s.Dialect != AD {
		return true
	}
	n := len(s.controllers)
	return n == 1 || n > 0 && len(s.Unasked()) == 0
}

// Unasked returns the servers that the directory lists and that were not
// asked, by host name where it shows one, sorted.
func (s *Survey) Unasked() []string {
	return slices.DeleteFunc(s.Servers(), func(host string) bool {
		return slices.ContainsFunc(s.Asked, func(asked string) bool { return strings.EqualFold(asked, host) })
	})
}

// LogonServer names the server that showed an account's lastLogon, "" where
// that is not known.
func (s *Survey) LogonServer(a *Account) string {
	if n := int(a.LogonServer); n > 0 && n <= len(s.Asked) {
		return s.Asked[n-1]
	}
	return s.Server
}

// policy returns the password policy in force for an account, and whether it
// is known.
func (s *Survey) policy(a *Account) (Policy, bool) {
	if a.Further().Policy != "" {
		p, ok := s.Policies[a.Further().Policy]
		return p, ok
	}
	if s.Dialect.DomainPolicy {
		return Policy{
			Lockout:  true,
			Duration: s.Domain.LockoutDuration,
			MaxAge:   s.Domain.MaxPasswordAge,
		}, s.Domain.LockoutDuration.Known
	}
	p, ok := s.Policies[s.DefaultPolicy]
	return p, ok && s.DefaultPolicy != ""
}

// Answer is what the survey says to a question about an account: yes or no,
// and whether that is certain. By names the attribute it rests on.
type Answer struct {
	Yes    bool
	Likely bool // the answer rests on something the survey does not show
	Hidden bool // since whoever read it may not read it: nobody can tell
	By     AttrID
}

// Disabled tells whether somebody has switched the account off.
func (s *Survey) Disabled(a *Account, asOf time.Time) Answer {
	return a.unless(s.Dialect.disabled(s, a, asOf), s.Dialect.Enabled)
}

// OurSteps are when our journal last disabled an account and moved it, zero where it
// has not.
type OurSteps struct{ Disabled, Moved time.Time }

// DisabledSince returns when a disabled account was disabled at the latest, where the
// directory, or else our journal, dates that.
func (s *Survey) DisabledSince(a *Account, asOf time.Time) Moment {
	m := a.Further().FlagsSince
	if s.Disabled(a, asOf).By == AttrPwdEndTime {
		m = a.Further().ExpiresAlso
	}
	if !m.Known() {
		m = MomentOf(s.Ours[a.ID].Disabled, s.Dialect.Enabled[0])
	}
	return m.notLaterThan(asOf)
}

// HereSince returns when an entry got its name and place, where the directory, or else
// our journal, dates that.
func (s *Survey) HereSince(a *Account, asOf time.Time) Moment {
	if !a.Further().NamedSince.Known() {
		return MomentOf(s.Ours[a.ID].Moved, AttrReplPropertyMetaData).notLaterThan(asOf)
	}
	return a.Further().NamedSince.notLaterThan(asOf)
}

// Expired tells whether the account's expiry date is at or before asOf.
func (s *Survey) Expired(a *Account, asOf time.Time) Answer {
	return a.unless(
		Answer{
			Yes:    a.Expires.Known() && !a.Expires.Time().After(asOf),
			Likely: a.Expires.Unreadable(),
			By:     a.Expires.Attr(),
		},
		s.Dialect.Expiry,
	)
}

// Enabled tells whether the account is neither disabled nor expired.
func (s *Survey) Enabled(a *Account, asOf time.Time) Answer {
	d, x := s.Disabled(a, asOf), s.Expired(a, asOf)
	return Answer{
		Yes:    !d.Yes && !x.Yes && (s.Dialect != AD || a.FlagsKnown),
		Likely: d.Likely || x.Likely,
		Hidden: !d.Yes && !x.Yes && (d.Hidden || x.Hidden),
		By:     d.By,
	}
}

// LockedOut tells whether too many wrong passwords have locked the account.
func (s *Survey) LockedOut(a *Account, asOf time.Time) Answer {
	return a.unless(s.Dialect.locked(s, a, asOf), s.Dialect.Locked)
}

// unless makes an answer likely that rests on the absence of what may not be
// read.
func (a *Account) unless(answer Answer, rests []AttrID) Answer {
	if !answer.Yes && a.Hidden != (AttrSet{}) && a.Hidden.Overlaps(Attrs(rests...)) {
		answer.Likely, answer.Hidden = true, true
	}
	return answer
}

// CountStates counts the accounts by kind and state.
func (s *Survey) CountStates(asOf time.Time) map[string]map[string]int {
	all := map[string]map[string]int{}
	for a := range s.Accounts.All() {
		states := all[a.Kind.String()]
		if states == nil {
			states = map[string]int{}
			all[a.Kind.String()] = states
		}
		states[s.State(a, asOf)]++
	}
	return all
}

// State says in a word or two whether an account can sign in: disabled,
// expired, locked out, enabled or unknown.
func (s *Survey) State(a *Account, asOf time.Time) string {
	switch {
	case s.Disabled(a, asOf).Yes:
		return "disabled"
	case s.Expired(a, asOf).Yes:
		return "expired"
	case s.LockedOut(a, asOf).Yes:
		return "locked out"
	case s.Enabled(a, asOf).Yes && len(s.Untold(a, asOf)) == 0:
		return "enabled"
	}
	return "unknown"
}

// lockedSince answers by the begin of a lock and the policy's duration.
func lockedSince(s *Survey, a *Account, asOf time.Time) Answer {
	if !a.LockedAt.Known() || a.LockedAt.Time().After(asOf) {
		return Answer{By: a.LockedAt.Attr()}
	}
	p, known := s.policy(a)
	ends := a.LockedAt.Time().Add(p.Duration.For)
	switch {
	case known && !p.Lockout:
		return Answer{By: a.LockedAt.Attr()} // the policy gives the value no effect
	case !known || !p.Duration.Known:
		return Answer{Yes: true, Likely: true, By: a.LockedAt.Attr()}
	case p.Duration.For == 0:
		return Answer{Yes: true, By: a.LockedAt.Attr()}
	}
	return Answer{Yes: ends.After(asOf), By: a.LockedAt.Attr()}
}

// LastLogon returns the latest sign-in that the directory shows. A value
// after asOf is no activity; it makes the answer unreadable unless another
// shows.
func (s *Survey) LastLogon(a *Account, asOf time.Time) Moment {
	best := a.LastLogon.notLaterThan(asOf)
	if stamp := a.LastLogonTS.notLaterThan(asOf); s.keepsStamp() &&
		(stamp.After(best) || stamp.state() > best.state() && !best.Known()) {
		best = stamp
	}
	return best
}

// LastSignIn is the latest sign-in that is known of.
type LastSignIn struct {
	Moment
	Elsewhere string // the system that recorded it, "" for the directory
}

// LastSignIn returns the latest sign-in that the directory shows, or that
// another system has recorded.
func (s *Survey) LastSignIn(a *Account, asOf time.Time) LastSignIn {
	last := LastSignIn{Moment: s.LastLogon(a, asOf)}
	if len(s.Elsewhere) == 0 {
		return last
	}
	if seen, ok := s.Elsewhere[TextKey(a.Logon)]; ok && !seen.At.After(asOf) {
		if m := MomentOf(seen.At, AttrUnknown); m.After(last.Moment) {
			return LastSignIn{m, seen.Source}
		}
	}
	return last
}

// SignInForgotten tells whether a record of sign-ins may have been taken away:
// OpenLDAP deletes it when a password changes. It is the time of that change,
// not known where there was none after the account was made.
func (s *Survey) SignInForgotten(a *Account) Moment {
	if s.Dialect == OpenLDAP && a.PasswordSet.Known() &&
		(!a.Created.Known() || a.PasswordSet.Time().Sub(a.Created.Time()) > madeWith) {
		return a.PasswordSet
	}
	return 0
}

// madeWith is how long after an account was made its password may be set by
// those who made it.
const madeWith = time.Minute

// keepsStamp tells whether the replicated last logon is maintained.
func (s *Survey) keepsStamp() bool { return !s.Domain.LogonLagKnown || s.Domain.LogonLag > 0 }

// PasswordSet returns when the password was last set. 389 Directory Server
// may show only when it will expire.
func (s *Survey) PasswordSet(a *Account) Moment {
	if a.PasswordSet.Present() || s.Dialect != NS389 || !a.Further().PasswordExpires.Known() {
		return a.PasswordSet
	}
	p, known := s.policy(a)
	if !known || p.MaxAge == 0 {
		return a.PasswordSet
	}
	return MomentOf(a.Further().PasswordExpires.Time().Add(-p.MaxAge), AttrPasswordExpirationTime)
}

// PasswordExpires returns when the password will expire or has expired; not
// known where it never does, or must be changed anyway.
func (s *Survey) PasswordExpires(a *Account) Moment {
	if a.Further().PasswordExpires.Present() {
		return a.Further().PasswordExpires
	}
	if !a.PasswordSet.Known() || s.Dialect == AD && a.Flags&UACPasswordNeverExpires != 0 {
		return 0
	}
	p, known := s.policy(a)
	if !known || p.MaxAge == 0 {
		return 0
	}
	return MomentOf(a.PasswordSet.Time().Add(p.MaxAge), a.PasswordSet.Attr())
}

// ServerTimes is what one more server knows of an account: the sign-ins that
// only it has seen, and times that replication may not have brought yet.
type ServerTimes struct {
	LastLogon, LastLogonTS, PasswordSet Moment
}

// TakeTimes takes over what another server, by its host name, knows of
// accounts, by raw identity. Of each time the later one wins.
func (s *Survey) TakeTimes(server string, known map[string]ServerTimes) {
	if len(s.Asked) == 0 {
		s.Asked = []string{s.Server}
	}
	s.Asked = append(s.Asked, server)
	s.others = append(s.others, known)
	for a := range s.Accounts.All() {
		if s.takeTimes(a, len(s.others)-1) {
			s.Seen[a.Kind].Add(AttrLastLogon)
		}
	}
}

// takeTimes takes what another server knows of an account, and tells whether a
// later sign-in is among it.
func (s *Survey) takeTimes(a *Account, other int) bool {
	known := s.others[other][a.ID]
	if known.LastLogonTS.After(a.LastLogonTS) {
		a.LastLogonTS = known.LastLogonTS
	}
	if known.PasswordSet.After(a.PasswordSet) {
		a.PasswordSet, a.MustChange = known.PasswordSet, false
	}
	if !known.LastLogon.After(a.LastLogon) {
		return false
	}
	a.LastLogon, a.LogonServer = known.LastLogon, uint8(min(other+2, 255))
	return true
}

// Account reads an entry that is not in the survey, with what the survey's
// servers know of its sign-ins. The result's strings point into the entry.
func (s *Survey) Account(e *Entry) Account {
	a := s.Dialect.Account(e)
	s.hideBySight(&a.Subject, a.Present)
	for i := range s.others {
		if s.takeTimes(&a, i) {
			a.Present.Add(AttrLastLogon)
		}
	}
	return a
}

// Exists takes note of an entry that is there, though the survey does not
// hold it.
func (s *Survey) Exists(k Key) { s.entries = append(s.entries, []Key{k}) }

// Unresolved returns the references to names of which the survey holds no
// entry, though they stand below its base.
func (s *Survey) Unresolved() []Reference {
	want := map[Key]bool{}
	for i := range s.References {
		want[s.References[i].Key] = true
	}
	if len(want) == 0 {
		return nil
	}
	for _, keys := range s.entries {
		for _, k := range keys {
			delete(want, k)
		}
	}
	var out []Reference
	for _, r := range s.References {
		if want[r.Key] && Under(FoldDN(r.Name), s.Base) {
			out = append(out, r)
		}
	}
	return out
}

// Find takes the keys of names out of a set that the survey has entries of.
func (s *Survey) Find(wanted map[Key]bool) {
	for k := range wanted {
		if s.HasBelow(k) || s.Domain.DN != "" && KeyOf(s.Domain.DN) == k {
			delete(wanted, k)
		}
	}
	subjects := func(n int, at func(int) *Subject) {
		for i := range n {
			delete(wanted, at(i).Key)
		}
	}
	subjects(len(s.Groups), func(i int) *Subject { return &s.Groups[i].Subject })
	subjects(len(s.Units), func(i int) *Subject { return &s.Units[i].Subject })
	subjects(len(s.GroupPolicies), func(i int) *Subject { return &s.GroupPolicies[i].Subject })
	if len(wanted) == 0 {
		return
	}
	for a := range s.Accounts.All() {
		delete(wanted, a.Key)
	}
}
