package audit

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

// facts is an account as people would put it: what the random directory was
// made from, in days and words, not in attributes.
type facts struct {
	name, kind                                  string // user, service, computer
	off, builtin, room                          bool
	logon, stamp, created, password, changed    float64 // days ago; below 0: never
	expired, lockedMinutes                      float64 // below 0: not
	neverExpires, noPassword, weak, transition  bool
	marked                                      bool
	primary                                     int // RID
	given, family, display, department          string
	mail, principal, telephone, country, number string
	boss                                        string
	groups                                      []string
}

var (
	departments = []string{"Astronomy", "Astronomy", "Astronomy", "Astronomy", "astronomy", "Astro nomy", "Astronmy", "Archive", "ARCHIVE", "Workshop", "Work-shop", "Shop", "Shp", "", "  "}
	ages        = []float64{0, 1, 29, 30, 31, 60, 89, 90, 91, 103, 104, 105, 179, 180, 181, 364, 365, 366, 500}
)

func newFacts(r *rand.Rand, i int) *facts {
	pick := func(all ...string) string { return all[r.IntN(len(all))] }
	age := func() float64 { return ages[r.IntN(len(ages))] }
	one := func(in int) bool { return r.IntN(in) == 0 }
	f := &facts{name: fmt.Sprintf("acc%04d", i), kind: pick("user", "user", "user", "user", "service", "computer"), logon: -1, stamp: -1, expired: -1, lockedMinutes: -1,
		created: age(), password: age(), changed: age(), primary: 513}
	if one(6) {
		f.name = pick("a-", "sa-", "adm.", "t0_") + f.name
	}
	if !one(4) {
		f.logon = age()
	}
	if !one(3) {
		f.stamp = age()
	}
	if one(8) {
		f.password = -1
	}
	f.off, f.builtin, f.room = one(5), one(15), one(15)
	if one(6) {
		f.expired = float64(r.IntN(20))
	}
	if one(6) {
		f.lockedMinutes = float64(r.IntN(60))
	}
	f.neverExpires, f.noPassword, f.weak, f.transition, f.marked = one(8), one(10), one(10), one(12), one(8)
	if one(10) {
		f.primary = 1000 + r.IntN(6)
	}
	f.given, f.family = pick("Ada", "Bram", "José", ""), pick("Quill", "Tern", "O'Dell", "")
	f.display = pick(f.given+" "+f.family, f.family+", "+f.given, "Ada Quill", "Jose ODell", "")
	f.department = pick(departments...)
	f.mail = pick(f.name+"@x.example", f.name+"@x.example", "shared@x.example", "Shared@X.example", "none", "")
	f.principal = pick(f.name+"@x", f.name+"@x", "other@x", "two@at@x", "shared@x", "")
	f.telephone, f.country = pick("+353 1 555 0001", "none", "123", ""), pick("IE", "Ireland", "")
	f.number = pick(fmt.Sprint(10000+i), fmt.Sprint(10000+i), "7", "")
	return f
}

// entry writes the facts as the ad schema holds them.
func (f *facts) entry() directory.Entry {
	days := func(n float64) string {
		if n < 0 {
			return "0"
		}
		return ticks(n)
	}
	flags := 512
	for bit, on := range map[int]bool{2: f.off, 0x20: f.noPassword, 0x10000: f.neverExpires, 0x400000: f.weak, 0x1000000: f.transition} {
		if on {
			flags |= bit
		}
	}
	class := map[string]string{"user": "user", "service": "user|computer|msDS-ManagedServiceAccount", "computer": "user|computer"}[f.kind]
	changes := []string{"objectClass=" + class, "lastLogon=" + days(f.logon), "whenCreated=" + gen(f.created), "whenChanged=" + gen(f.changed), "pwdLastSet=" + days(f.password),
		fmt.Sprintf("userAccountControl=%d", flags), fmt.Sprintf("primaryGroupID=%d", f.primary)}
	if changes = append(changes, "lastLogonTimestamp"); f.stamp >= 0 {
		changes[len(changes)-1] += "=" + ticks(f.stamp)
	}
	if f.expired >= 0 {
		changes = append(changes, "accountExpires="+ticks(f.expired))
	}
	if f.lockedMinutes >= 0 {
		changes = append(changes, "lockoutTime="+ticks(f.lockedMinutes/24/60))
	}
	if f.builtin {
		changes = append(changes, "isCriticalSystemObject=TRUE")
	}
	if f.room {
		changes = append(changes, "msExchRecipientTypeDetails=16")
	}
	if f.marked {
		changes = append(changes, "adminCount=1")
	}
	for attr, v := range map[string]string{"givenName": f.given, "sn": f.family, "displayName": f.display, "department": f.department, "mail": f.mail, "userPrincipalName": f.principal,
		"telephoneNumber": f.telephone, "c": f.country, "employeeID": f.number, "manager": f.boss} {
		if v != "" {
			changes = append(changes, attr+"="+v)
		}
	}
	return user(f.name, changes...)
}

func (f *facts) dn() string    { return in(f.name) }
func (f *facts) enabled() bool { return !f.off && f.expired < 0 }
func (f *facts) inNone() bool  { return f.builtin || f.room && f.kind == "user" }

// world is a whole random directory with its groups, each a list of members.
type world struct {
	people []*facts
	groups map[string][]string // cn → names of accounts and groups
}

var groupRIDs = map[string]uint32{"Administrators": 544, "Domain Admins": 512, "g0": 1000, "g1": 1001, "g2": 1002, "g3": 1003, "g4": 1004, "g5": 1005}

func newWorld(r *rand.Rand, n int) *world {
	w := &world{groups: map[string][]string{"Administrators": {"Domain Admins"}, "Domain Admins": nil}}
	for i := range n {
		f := newFacts(r, i)
		if i > 0 && r.IntN(3) == 0 {
			f.boss = w.people[r.IntN(i)].dn()
		}
		w.people = append(w.people, f)
	}
	names := []string{"g0", "g1", "g2", "g3", "g4", "g5"}
	for _, g := range names {
		w.groups[g] = nil
		for range r.IntN(3) {
			w.groups[g] = append(w.groups[g], names[r.IntN(len(names))])
		}
	}
	for g := range w.groups {
		w.groups[g] = slices.Compact(slices.Sorted(slices.Values(w.groups[g])))
	}
	if r.IntN(2) == 0 {
		w.groups["Domain Admins"] = []string{names[r.IntN(6)]}
	}
	for _, p := range w.people {
		for _, g := range []string{"Domain Admins", "g0", "g1", "g2", "g3", "g4"} {
			if r.IntN(25) == 0 {
				w.groups[g] = append(w.groups[g], p.name)
				p.groups = append(p.groups, g)
			}
		}
	}
	return w
}

func (w *world) entries() []directory.Entry {
	// The bearers show every attribute once for each kind, so that every
	// check is looked at; nothing is wrong with them.
	all := []directory.Entry{realm}
	for kind, class := range map[string]string{"u": "user", "s": "user|computer|msDS-ManagedServiceAccount", "c": "user|computer"} {
		all = append(all, user("bearer-"+kind, "objectClass="+class, "mail=bearer"+kind+"@x.example", "userPrincipalName=bearer-"+kind+"@x", "givenName=Good", "sn=Bearer", "displayName=Good Bearer", "primaryGroupID=513", "managedBy=DC=x",
			"whenChanged="+gen(1)))
	}
	for cn, members := range w.groups {
		var dns []string
		for _, m := range members {
			if groupRIDs[m] != 0 {
				dns = append(dns, nest(m))
			} else {
				dns = append(dns, in(m))
			}
		}
		g := group(cn, groupRIDs[cn], dns...)
		if cn == "Administrators" {
			g.Set("objectSid", sid("S-1-5-32-544"))
		}
		all = append(all, g)
	}
	for _, p := range w.people {
		all = append(all, p.entry())
	}
	return all
}

// holds tells by plain recursion whether a group leads to an account or to
// another group.
func (w *world) holds(group, name string, seen map[string]bool) bool {
	if seen[group] {
		return false
	}
	seen[group] = true
	for _, m := range w.groups[group] {
		if m == name || groupRIDs[m] != 0 && w.holds(m, name, seen) {
			return true
		}
	}
	return false
}

func (w *world) privileged(p *facts) bool {
	for _, top := range []string{"Domain Admins", "Administrators"} {
		if w.holds(top, p.name, map[string]bool{}) {
			return true
		}
		for cn, n := range groupRIDs {
			if int(n) == p.primary && (cn == top || w.holds(top, cn, map[string]bool{})) {
				return true
			}
		}
	}
	return false
}

// plainFold folds the few texts of this file by listing what goes away.
var plainFold = strings.NewReplacer(" ", "", ",", "", "-", "", "'", "", "é", "e")

func folded(s string) string { return strings.ToLower(plainFold.Replace(s)) }

// expected says by the words of the specification what must be found.
func (w *world) expected() []string {
	var all []string
	for _, p := range w.people {
		add := func(yes bool, name string) {
			if yes {
				all = append(all, p.name+" "+name)
			}
		}
		add(p.room && p.kind == "user" && !p.builtin && p.enabled(), "resource-enabled")
		if p.inNone() {
			continue
		}
		isUser := p.kind == "user"
		person := isUser || p.kind == "service"
		last := p.logon
		if last < 0 || p.stamp >= 0 && p.stamp < last {
			last = p.stamp
		}
		life := last
		if p.password >= 0 && (life < 0 || p.password < life) {
			life = p.password
		}
		stale := person && p.enabled() && last >= 90
		never := person && p.enabled() && last < 0 && p.created >= 30
		oldPassword := isUser && p.enabled() && p.password >= 365
		add(stale, "stale")
		add(p.kind == "computer" && p.enabled() && life >= 90, "stale-computer")
		add(never, "never-used")
		add(p.kind == "computer" && p.enabled() && last < 0 && p.created >= 30 && (p.password < 0 || p.password-p.created <= 1 && p.created-p.password <= 1), "unjoined-computer")
		add(isUser && p.enabled() && p.password < 0 && p.created >= 30, "must-change-overdue")
		add(!p.off && p.expired >= 0, "expired")
		add(p.off, "disabled")
		add(p.off && p.kind != "service", "disabled-astray")
		since := p.changed
		for _, d := range []float64{last, p.password} {
			if d >= 0 && d < since {
				since = d
			}
		}
		add(p.off && since >= 180, "disabled-overdue")
		direct := slices.DeleteFunc(slices.Clone(p.groups), func(g string) bool { return int(groupRIDs[g]) == p.primary })
		add(isUser && p.off && len(direct) > 0, "disabled-entitled")
		add(person && !p.off && p.lockedMinutes >= 0 && p.lockedMinutes < 30, "locked-out")
		add(isUser && p.enabled() && p.neverExpires, "password-never-expires")
		add(isUser && p.enabled() && p.noPassword, "password-not-required")
		add(oldPassword, "password-old")
		add(p.enabled() && p.weak, "weak-sign-in")
		add(p.enabled() && p.transition, "delegation")
		add(p.kind == "service" && p.enabled() && p.boss == "", "service-ownerless")

		power := w.privileged(p)
		administrative := slices.ContainsFunc([]string{"a-", "sa-", "adm.", "t0_"}, func(s string) bool { return strings.HasPrefix(p.name, s) })
		add(person && power, "privileged")
		add(isUser && p.marked && !power, "privileged-residue")
		add(isUser && power && p.enabled() && p.mail != "" && !administrative, "privileged-daily")
		add(isUser && power && (stale || never || oldPassword), "privileged-idle")

		for _, boss := range w.people {
			add(p.boss == boss.dn() && boss.off, "dangling-reference")
		}
		if isUser {
			add(p.enabled() && (p.given == "" || p.family == "" || p.display == "" || p.display == " "), "value-missing")
			add(p.mail == "none" || p.principal == "two@at@x" || p.telephone == "none" || p.telephone == "123" || p.country == "Ireland", "value-malformed")
			blank := strings.TrimSpace(p.display) == "" || p.given == "" || p.family == ""
			add(!blank && (!strings.Contains(folded(p.display), folded(p.given)) || !strings.Contains(folded(p.display), folded(p.family))), "name-mismatch")
			local, _, ok := strings.Cut(p.principal, "@")
			box, _, hasBox := strings.Cut(p.mail, "@")
			add(ok && local != p.name && !(hasBox && strings.EqualFold(local, box)), "logon-mismatch")
			add(w.misspelt(p), "value-variant")
		}
		shares := func(value func(*facts) string, mayDiffer bool) {
			for _, o := range w.people {
				otherAdmin := slices.ContainsFunc([]string{"a-", "sa-", "adm.", "t0_"}, func(s string) bool { return strings.HasPrefix(o.name, s) })
				if o != p && !o.inNone() && value(p) != "" && strings.EqualFold(value(o), value(p)) && !(mayDiffer && otherAdmin != administrative) {
					add(true, "duplicate-value")
					return
				}
			}
		}
		shares(func(f *facts) string { return f.number }, true)
		shares(func(f *facts) string { return f.mail }, true)
		shares(func(f *facts) string { return f.principal }, false)
	}
	for cn, members := range w.groups {
		primaryOf := slices.ContainsFunc(w.people, func(p *facts) bool { return p.primary == int(groupRIDs[cn]) })
		if groupRIDs[cn] >= 1000 && len(members) == 0 && !primaryOf {
			all = append(all, cn+" group-empty")
		}
		if w.holds(cn, cn, map[string]bool{}) {
			all = append(all, cn+" group-loop")
		}
	}
	return all
}

// misspelt compares the department of one account with those of all others.
func (w *world) misspelt(p *facts) bool {
	count := func(of func(string) bool) (n int) {
		for _, o := range w.people {
			if o.kind == "user" && !o.inNone() && of(o.department) {
				n++
			}
		}
		return n
	}
	times := func(spelling string) int { return count(func(d string) bool { return d == spelling }) }
	if folded(p.department) == "" {
		return false
	}
	target := folded(p.department)
	likes := count(func(d string) bool { return folded(d) == target })
	// The only pair of values here that is one letter apart and long enough.
	if target == "astronmy" {
		if n := count(func(d string) bool { return folded(d) == "astronomy" }); n >= 10*likes {
			return true
		}
	}
	if target == "astronomy" {
		if n := count(func(d string) bool { return folded(d) == "astronmy" }); n >= 10*likes {
			return true
		}
	}
	for _, other := range departments {
		if folded(other) != target || other == p.department {
			continue
		}
		a, b := times(other), times(p.department)
		if a > b || a == b && a > 0 && (len(other) > len(p.department) || len(other) == len(p.department) && other < p.department) {
			return true
		}
	}
	return false
}

// findingNames judges a survey and writes each finding as "account check".
func findingNames(t require.TestingT, s *directory.Survey, checks ...string) []string {
	set := settings.Defaults()
	set.Audit.Parking = []string{"OU=Parked,DC=x"}
	rep, err := Run(s, set, Options{AsOf: asOf, Checks: checks})
	require.NoError(t, err)
	var got []string
	for _, f := range rep.Findings {
		got = append(got, f.Account+" "+f.Check)
		for _, e := range f.Evidence {
			require.NotEmpty(t, e.Attr, "%s of %s: evidence without a name", f.Check, f.Account)
		}
	}
	slices.Sort(got)
	return got
}

func TestFindingsAreThoseOfAnObviousImplementation(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		w := newWorld(r, rapid.IntRange(0, 120).Draw(t, "accounts"))
		entries := w.entries()
		findingsOf := func(entries []directory.Entry) []string { return findingNames(t, survey(directory.AD, entries...)) }
		want := w.expected()
		slices.Sort(want)
		got := findingsOf(entries)
		require.Equal(t, want, got)

		// Neither the order of entries, nor that of attributes, nor the case
		// of their names changes anything.
		r.Shuffle(len(entries), func(i, j int) { entries[i], entries[j] = entries[j], entries[i] })
		for i := range entries {
			attrs := slices.Clone(entries[i].Attrs)
			slices.Reverse(attrs)
			for j := range attrs {
				attrs[j].Name = strings.ToUpper(attrs[j].Name)
			}
			entries[i].Attrs = attrs
		}
		require.Equal(t, got, findingsOf(entries))
	})
}

// TestOneAccountIsJudgedAsAllAre asks for one account at a time.
func TestOneAccountIsJudgedAsAllAre(t *testing.T) {
	set := settings.Defaults()
	set.Audit.Parking = []string{"OU=Parked,DC=x"}
	rapid.Check(t, func(t *rapid.T) {
		w := newWorld(rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1)), rapid.IntRange(1, 80).Draw(t, "accounts"))
		s := survey(directory.AD, w.entries()...)
		all, err := Run(s, set, Options{AsOf: asOf})
		require.NoError(t, err)
		for a := range s.Accounts.All() {
			of := func(r *Report) []Finding {
				return slices.DeleteFunc(slices.Clone(r.Findings), func(f Finding) bool { return f.DN != a.DN })
			}
			one, err := Run(s, set, Options{AsOf: asOf, About: a.DN})
			require.NoError(t, err)
			require.Equal(t, of(all), of(one), a.DN)
		}
	})
}

// elsewhere writes the facts that every dialect can hold, as one of the
// others does.
func (f *facts) elsewhere(d *directory.Dialect) directory.Entry {
	last := f.logon
	if last < 0 || f.stamp >= 0 && f.stamp < last {
		last = f.stamp
	}
	changes := []string{"objectClass=inetOrgPerson", "uid=" + f.name, "createTimestamp=" + gen(f.created)}
	if last >= 0 {
		changes = append(changes, map[string]string{"openldap": "pwdLastSuccess=", "389ds": "lastLoginTime="}[d.Name]+gen(last))
	}
	if f.password >= 0 {
		changes = append(changes, d.PasswordSet[0].String()+"="+gen(f.password))
	}
	if f.off {
		changes = append(changes, map[string]string{"openldap": "pwdAccountLockedTime=000001010000Z", "389ds": "nsAccountLock=true"}[d.Name])
	}
	for attr, v := range map[string]string{"givenName": f.given, "sn": f.family, "displayName": f.display, "department": f.department, "mail": f.mail,
		"telephoneNumber": f.telephone, "c": f.country, "employeeNumber": f.number} {
		if v != "" {
			changes = append(changes, attr+"="+v)
		}
	}
	return fill("uid="+f.name+",ou=people,dc=x", map[string]string{}, changes)
}

// shared are the checks that mean the same on every dialect.
var shared = []string{"stale", "never-used", "disabled", "password-old", "value-variant", "value-missing", "value-malformed", "name-mismatch", "duplicate-value"}

func TestTheDialectNeverChangesAResult(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 2))
		var all []*facts
		for i := range rapid.IntRange(0, 80).Draw(t, "accounts") {
			f := newFacts(r, i)
			f.kind, f.builtin, f.room, f.expired, f.lockedMinutes, f.principal, f.primary = "user", false, false, -1, -1, "", 513
			all = append(all, f)
		}
		findingsOf := func(s *directory.Survey) []string { return findingNames(t, s, shared...) }
		// The bearer shows what none of the others may show.
		bearer := newFacts(r, 9999)
		*bearer = facts{name: "bearer", kind: "user", off: true, logon: 1, stamp: 1, created: 1, password: 1, expired: -1, lockedMinutes: -1, primary: 513, given: "Good", family: "Bearer", display: "Good Bearer", mail: "bearer@x.example"}
		all = append(all, bearer)
		var ad, open, ns []directory.Entry
		for _, f := range all {
			f.number = strings.ReplaceAll(f.number, "7", "77")
			e := f.entry()
			e.Set("employeeNumber", e.Get("employeeID")...)
			e.Set("employeeID")
			ad, open, ns = append(ad, e), append(open, f.elsewhere(directory.OpenLDAP)), append(ns, f.elsewhere(directory.NS389))
		}
		s := survey(directory.OpenLDAP, open...)
		s.DefaultPolicy, s.Policies["p"] = "p", directory.Policy{Lockout: true}
		want := findingsOf(survey(directory.AD, append(ad, realm)...))
		require.Equal(t, want, findingsOf(s))
		require.Equal(t, want, findingsOf(survey(directory.NS389, ns...)))
	})
}
