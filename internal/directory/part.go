package directory

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Part is a run of entries turned into accounts, groups and containers,
// apart from the survey, so that several processors can make parts at once.
type Part struct {
	accounts []Account
	survey   Survey // what else the entries gave
	keys     []Key
	keep     AttrSet // texts to keep besides those that checks always look at
	textless bool    // none is kept
	domain   *Domain
	policies map[string]string
	above    parents
	last     Key // the parent of the entry before, and what stands there
	place    *place
	arena    arena
	buf      []byte
	claims   map[string]int // entries that say they are members, by the group as they call it
}

// NewPart returns a part of the survey with room for n entries, to be merged
// into it. It keeps the values of more attributes, besides those that checks
// look at in any case.
func (s *Survey) NewPart(n int, more AttrSet) *Part {
	p := &Part{accounts: make([]Account, 0, n), survey: *NewSurvey(nil), keep: more, above: parents{}}
	p.survey.Words = s.Words
	return p
}

// LeaveTexts lets the accounts be kept without their texts, for whoever looks at none.
func (p *Part) LeaveTexts() { p.textless = true }

// Len returns the number of accounts in the part.
func (p *Part) Len() int { return len(p.accounts) }

// Add reads one entry into the part, and returns the keys of its name and of the one
// that it stands below. Nothing of the entry is kept.
func (p *Part) Add(d *Dialect, e *Entry) (key, parent Key) {
	s := &p.survey
	s.Entries++
	p.accounts = append(p.accounts, Account{})
	a := &p.accounts[len(p.accounts)-1]
	bad := d.fill(a, e)
	if a.further != nil && a.further.Policy != "" {
		a.further.Policy = p.policyName(a.further.Policy)
	}
	key, parent = p.above.keysOf(e.DN)
	if a.Key = key; p.place == nil || parent != p.last {
		p.last, p.place = parent, s.placeOf(parent)
	}
	s.look(p.place, a, e)
	if !a.Present.Has(AttrObjectClass) && !a.Hidden.Has(AttrObjectClass) {
		s.NoClass++
	}
	if a.Kind == KindOther || a.Guessed {
		s.addForeign(d, a, e)
	}
	s.Seen[a.Kind] = s.Seen[a.Kind].Union(a.Present)
	s.Count[a.Kind]++
	if s.Base == "" || len(e.DN) < len(s.Base) {
		s.Base = strings.Clone(e.DN)
	}
	if bad != (AttrSet{}) {
		p.addUnreadable(a, e, bad)
	}
	if misplaced(e.DN) {
		s.Misplaced = append(s.Misplaced, a.named())
	}
	if d.KeepsLinks {
		p.addDeletedNames(a, e)
	} else {
		p.addReferences(a, e)
	}
	if a.Present.Has(AttrMemberOf) {
		p.addClaims(e)
	}
	p.addByKind(d, a, e)
	if !a.Kind.IsAccount() {
		p.accounts = p.accounts[:len(p.accounts)-1]
		return key, parent
	}
	if a.PrimaryGroup != 0 {
		s.primaryGroups[a.PrimaryGroup] = struct{}{}
	}
	if a.Present.Has(AttrGIDNumber) {
		s.gidNumbers[strings.Clone(e.First("gidNumber"))] = struct{}{}
	}
	p.buf = a.compact(e, p.texts(a), p.survey.Words, &p.arena, p.buf)
	return key, parent
}

// texts are the attributes of an account whose texts are kept.
func (p *Part) texts(a *Account) AttrSet {
	switch {
	case p.textless:
		return AttrSet{}
	case a.Kind == KindComputer:
		return machineTexts.Union(p.keep)
	}
	return personTexts.Union(p.keep)
}

// policyName keeps one copy of each policy's name, apart from the entries.
func (p *Part) policyName(name string) string {
	if p.policies == nil {
		p.policies = map[string]string{}
	}
	if p.policies[name] == "" {
		kept := strings.Clone(name)
		p.policies[kept] = kept
	}
	return p.policies[name]
}

// addClaims counts, for each group, who says that it is a member.
func (p *Part) addClaims(e *Entry) {
	if p.claims == nil {
		p.claims = map[string]int{}
	}
	for _, group := range e.Get(AttrMemberOf.String()) {
		n, known := p.claims[group]
		if !known {
			group = strings.Clone(group)
		}
		p.claims[group] = n + 1
	}
}

func (p *Part) addByKind(d *Dialect, a *Account, e *Entry) {
	s := &p.survey
	switch a.Kind {
	case KindDomain:
		p.addDomain(e)
		p.addPolicyLink(a, e)
	case KindPasswordPolicy:
		s.Policies[strings.Clone(FoldDN(e.DN))] = policyOf(e)
	case KindGroup, KindForeign:
		s.Groups = append(s.Groups, groupOf(d, a, e))
	case KindOU:
		s.Units = append(s.Units, Container{Subject: a.clone(), Created: a.Created})
		p.addPolicyLink(a, e)
	case KindPolicyContainer:
		s.GroupPolicies = append(s.GroupPolicies,
			Container{Subject: a.clone(), Title: strings.Clone(e.First("displayName")), Created: a.Created})
	case KindOther:
		p.addConfiguration(a, e)
	}
}

// addConfiguration reads the entries of the configuration partition that
// checks need: domain controllers (nTDSDSA marks one, the server above it
// has the host name), and sites, which group policies may be linked to.
func (p *Part) addConfiguration(a *Account, e *Entry) {
	s := &p.survey
	switch {
	case e.HasClass("nTDSDSA"):
		_, parent := SplitDN(e.DN)
		s.controllers[KeyOf(parent)] = struct{}{}
	case e.HasClass("server"):
		s.hosts[a.Key] = strings.Clone(e.First("dNSHostName"))
	case e.HasClass("site"):
		s.Sites++
		p.addPolicyLink(a, e)
	}
}

func (p *Part) addPolicyLink(a *Account, e *Entry) {
	if links := e.First("gPLink"); links != "" || a.Hidden.Has(AttrGPLink) {
		p.survey.PolicyLinks = append(p.survey.PolicyLinks, PolicyLink{a.clone(), strings.Clone(links)})
	}
}

func (p *Part) addUnreadable(a *Account, e *Entry, bad AttrSet) {
	subject := a.named()
	for id := range bad.All() {
		p.survey.Unreadable = append(p.survey.Unreadable, Unreadable{subject, id, strings.Clone(e.First(id.String()))})
	}
}

// misplaced tells whether a name holds the mark of a replication conflict
// (MS-ADTS 3.1.1.5.1.3: a newline, CNF: and a GUID), or stands below the
// place for entries that lost theirs.
func misplaced(dn string) bool {
	if strings.Contains(dn, "CNF:") && strings.Contains(LeafValue(dn), "\nCNF:") {
		return true
	}
	const place = ",cn=lostandfound,"
	for i := 1; i+len(place) <= len(dn); i++ {
		if dn[i] == ',' && equalFoldASCII(dn[i:i+len(place)], place) {
			return true
		}
	}
	return false
}

var referenceAttrs = []AttrID{AttrManager, AttrSecretary, AttrManagedBy, AttrOwner, AttrMember, AttrUniqueMember}

func (p *Part) addReferences(a *Account, e *Entry) {
	p.keys = append(p.keys, a.Key)
	var from *Subject
	for _, id := range referenceAttrs {
		if !a.Present.Has(id) {
			continue
		}
		if from == nil {
			subject := a.named()
			from = &subject
		}
		for _, name := range e.Get(id.String()) {
			if name = memberName(id, name); name != "" {
				p.survey.References = append(p.survey.References,
					Reference{From: from, Attr: id, Name: strings.Clone(name), Key: KeyOf(name)})
			}
		}
	}
}

// addDeletedNames takes note of values that name deleted objects, which servers of
// the `ad` schema show where they keep them whole.
func (p *Part) addDeletedNames(a *Account, e *Entry) {
	for _, id := range referenceAttrs {
		if !a.Present.Has(id) {
			continue
		}
		for _, name := range e.Get(id.String()) {
			if DeletedGUID(name) != "" {
				subject := a.named()
				p.survey.References = append(p.survey.References,
					Reference{From: &subject, Attr: id, Name: strings.Clone(name), Key: KeyOf(name)})
			}
		}
	}
}

// deletedMark stands in the name of a deleted object between the value that it had
// and its GUID, after a line feed (MS-ADTS 3.1.1.5.5).
const deletedMark = `\0ADEL:`

// DeletedGUID returns the GUID in the name of a deleted object of the `ad` schema,
// "" for every other name.
func DeletedGUID(dn string) string {
	at := strings.Index(dn, deletedMark)
	if at < 0 {
		return ""
	}
	guid, _, _ := strings.Cut(dn[at+len(deletedMark):], ",")
	return guid
}

// memberName returns the name in a value. A uniqueMember may have an
// identifier behind it (RFC 4517, section 3.3.21: a bit string).
func memberName(attr AttrID, value string) string {
	if at := strings.LastIndex(value, "#'"); attr == AttrUniqueMember && at > 0 && strings.HasSuffix(value, "'B") {
		return value[:at]
	}
	return value
}

func groupOf(d *Dialect, a *Account, e *Entry) Group {
	g := Group{Subject: a.clone(), Security: GivesRights(e.First("groupType")), Marked: a.Marked, Created: a.Created,
		Dynamic: e.Has(
			"memberURL",
		), Posix: e.HasClass("posixGroup") || a.Guessed && d.GuessedClass(e) == "posixGroup", GID: strings.Clone(e.First("gidNumber")), Incomplete: e.Incomplete("member") || e.Incomplete("uniqueMember")}
	if sid, err := ParseSID(e.First("objectSid")); err == nil {
		g.SID = sid
		g.BuiltIn = g.BuiltIn || IsBuiltinSID(sid)
	}
	for _, list := range []AttrID{AttrMember, AttrUniqueMember} {
		for _, name := range e.Get(list.String()) {
			g.Members = append(g.Members, KeyOf(memberName(list, name)))
		}
	}
	for _, logon := range e.Get("memberUid") {
		g.Logons = append(g.Logons, strings.Clone(logon))
	}
	for _, sid := range e.Get("sIDHistory") {
		g.HasHistory = append(g.HasHistory, strings.Clone(sid))
	}
	return g
}

func (p *Part) addDomain(e *Entry) {
	dom := Domain{DN: strings.Clone(FoldDN(e.DN)), Name: strings.Clone(e.DN), SID: strings.Clone(e.First("objectSid")), LogonLag: defaultLogonLag,
		LockoutDuration: lockDuration(
			e.First("lockoutDuration")), MaxPasswordAge: lockDuration(e.First("maxPwdAge")).For}
	if days, err := strconv.Atoi(e.First("msDS-LogonTimeSyncInterval")); err == nil {
		dom.LogonLag, dom.LogonLagKnown = time.Duration(days)*24*time.Hour, true
	}
	if p.domain == nil || len(dom.DN) < len(p.domain.DN) { // one below another, as a zone is, is not the domain
		p.domain = &dom
	}
	for _, v := range slices.Concat(e.Get("wellKnownObjects"), e.Get("otherWellKnownObjects")) {
		if _, place, ok := ParsePlace(v); ok {
			p.survey.wellKnown[KeyOf(place)] = struct{}{}
		}
	}
}

func policyOf(e *Entry) Policy {
	pol := Policy{Lockout: e.First("pwdLockout") == "TRUE" || e.HasClass("msDS-PasswordSettings"),
		Duration: lockDuration(
			e.First("msDS-LockoutDuration")), MaxAge: lockDuration(e.First("msDS-MaximumPasswordAge")).For}
	if s := e.First("pwdLockoutDuration"); s != "" {
		seconds, err := strconv.ParseInt(s, 10, 32)
		pol.Duration = LockDuration{For: time.Duration(seconds) * time.Second, Known: err == nil}
	} else if e.HasClass("pwdPolicy") {
		pol.Duration.Known = true // absent means 0: until an administrator unlocks
	}
	seconds, _ := strconv.ParseInt(e.First("pwdMaxAge"), 10, 33)
	if e.First("passwordExp") == "on" {
		seconds, _ = strconv.ParseInt(e.First("passwordMaxAge"), 10, 33)
	}
	if seconds > 0 {
		pol.MaxAge = time.Duration(seconds) * time.Second
	}
	pol.MaxFailure, _ = strconv.Atoi(e.First("passwordMaxFailure"))
	return pol
}

// ServerPolicy takes the password policy of the server's own configuration,
// which is in force for entries that name no other.
func (s *Survey) ServerPolicy(e *Entry) {
	s.DefaultPolicy = FoldDN(e.DN)
	s.Policies[s.DefaultPolicy] = policyOf(e)
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

// Merge takes a part that was made by NewPart into the survey. The part is whole then.
func (s *Survey) Merge(p *Part) {
	o := &p.survey
	p.above, p.policies, p.place, p.buf, p.arena = nil, nil, nil, nil, arena{} // what only Add needs
	if len(p.accounts) > 0 {
		s.Accounts.parts = append(s.Accounts.parts, p.accounts)
		s.Accounts.n += len(p.accounts)
	}
	if len(p.keys) > 0 {
		s.entries = append(s.entries, p.keys)
	}
	s.Entries += o.Entries
	s.NoClass += o.NoClass
	s.Sites += o.Sites
	if o.Base != "" && (s.Base == "" || len(o.Base) < len(s.Base)) {
		s.Base = FoldDN(o.Base)
	}
	if p.domain != nil && (s.Domain.DN == "" || len(p.domain.DN) < len(s.Domain.DN)) {
		s.Domain = *p.domain
	}
	for dn, pol := range o.Policies {
		s.Policies[dn] = pol
	}
	s.Groups = append(s.Groups, o.Groups...)
	s.Units = append(s.Units, o.Units...)
	s.GroupPolicies = append(s.GroupPolicies, o.GroupPolicies...)
	s.PolicyLinks = append(s.PolicyLinks, o.PolicyLinks...)
	s.Misplaced = append(s.Misplaced, o.Misplaced...)
	s.Unreadable = append(s.Unreadable, o.Unreadable...)
	s.References = append(s.References, o.References...)
	s.visibility.merge(&o.visibility)
	union(s.primaryGroups, o.primaryGroups)
	union(s.gidNumbers, o.gidNumbers)
	union(s.wellKnown, o.wellKnown)
	union(s.controllers, o.controllers)
	union(s.hosts, o.hosts)
	for group, n := range p.claims {
		s.claims[KeyOf(group)] += n
	}
	for class, n := range o.Foreign {
		s.countForeign(class, n)
	}
	for k := range s.Seen {
		s.Seen[k] = s.Seen[k].Union(o.Seen[k])
		s.Count[k] += o.Count[k]
	}
}

func union[K comparable, V any](into, from map[K]V) {
	for k, v := range from {
		into[k] = v
	}
}
