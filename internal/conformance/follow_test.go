package conformance

import (
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/practice"
	"yardbroom/internal/realserver"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

var (
	historySeed  = flag.Uint64("history.seed", 1, "the random history of a directory to live through")
	historySteps = flag.Int("history.steps", 12, "how many surveys are taken of it")
)

// A survey of what has changed is the same, entry by entry and value by value, as one of
// everything at that moment, whatever people have done in between.
func TestASurveyOfWhatHasChangedIsAsOneOfEverything(t *testing.T) {
	eachWay(t, func(t *testing.T, s *subject) { newHistory(t, s, *historySeed).compare(*historySteps / 2) })
}

// eachWay runs a test against every server, in every way that it tells what has changed.
func eachWay(t *testing.T, test func(t *testing.T, s *subject)) {
	each(t, test)
	usual := []string{realserver.SlapdLastBind, realserver.SlapdPolicies, realserver.SlapdMemberOf}
	for name, parts := range map[string][]string{
		"slapd, syncing":               {realserver.SlapdSync},
		"slapd, syncing, with its log": {realserver.SlapdSyncLog},
		"slapd, references kept whole": {realserver.SlapdSyncLog, realserver.SlapdRefint},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := slapdSubjectWith(t, slices.Concat(usual, parts)...)
			if slices.Contains(parts, realserver.SlapdRefint) {
				s.settles = 200 * time.Millisecond
			}
			test(t, s)
		})
	}
	t.Run("389ds, syncing", func(t *testing.T) {
		t.Parallel()
		server := realserver.SyncingNS389(t, t.TempDir())
		t.Cleanup(server.Stop)
		s := &subject{name: "389ds", yard: server.Yard, base: server.Base, dialect: directory.NS389, real: server}
		s.fresh(t)
		test(t, s)
	})
}

// The same holds for a reader who may not see everything, and whose rights change.
func TestASurveyOfWhatHasChangedShowsWhatItsReaderMaySee(t *testing.T) {
	eachWay(t, func(t *testing.T, s *subject) {
		h, a := newAuditedHistory(t, s)
		if s.dialect == directory.NS389 {
			a.rule(t, h.yard.Base, `(targetattr="* || nsUniqueId || createTimestamp || modifyTimestamp || nsAccountLock || numSubordinates || lastLoginTime || pwdUpdateTime || passwordExpirationTime || accountUnlockTime || passwordRetryCount || aci")(version 3.0; acl "auditor"; allow(read,search,compare) userdn="ldap:///`+a.dn+`";)`)
			t.Cleanup(a.undo[len(a.undo)-1])
		}
		a.undo = nil
		deniable := map[*directory.Dialect][]string{
			directory.AD:       {"title", "mail", "member", "manager", "managedBy", "uSNChanged"},
			directory.OpenLDAP: {"mail", "member", "manager", "modifyTimestamp", "entryCSN"},
			directory.NS389:    {"title", "mail", "member", "manager", "modifyTimestamp"},
		}[s.dialect]
		if s.dialect == directory.OpenLDAP { // it says nothing of rights, which show by entries that nobody touches
			for i, where := range []string{"Staff", "Groups", "Parked"} {
				who := s.person(t, h.c, fmt.Sprintf("Still %d", i), fmt.Sprintf("still%d", i))
				team := s.group(t, h.c, fmt.Sprintf("still%d", i), who)
				for dn, rdn := range map[string]string{who: fmt.Sprintf("cn=Still %d", i), team: fmt.Sprintf("cn=still%d", i)} {
					if !directory.Under(directory.FoldDN(dn), directory.FoldDN(h.container(where))) {
						h.note(h.c.Conn().ModifyDN(ldap.NewModifyDNRequest(dn, rdn, true, h.container(where))), "move %s", dn)
					}
					h.still[directory.FoldDN(rdn+","+h.container(where))] = true
				}
			}
		}
		h.rights = func() {
			if h.r.IntN(3) > 0 {
				return
			}
			seen := append(h.those(h.class("user", "inetOrgPerson")), append(h.those(h.class("group", "groupOfNames")), h.container("Staff"), h.container("Groups"))...)
			dn := h.one(slices.DeleteFunc(seen, func(dn string) bool { return strings.EqualFold(dn, a.dn) }))
			below := h.r.IntN(2) == 0
			if s.dialect == directory.OpenLDAP { // rights of single entries are noticed by the next survey of everything
				dn, below = h.one([]string{h.container("Staff"), h.container("Groups"), h.container("Parked")}), true
			}
			switch h.r.IntN(4) {
			case 0:
				if s.dir != nil || s.dialect == directory.OpenLDAP { // elsewhere rules stand at entries that may be gone
					a.free(t)
					h.unseen = false
					h.note(nil, "free")
				}
			case 1:
				if !strings.EqualFold(dn, h.container("Groups")) || s.dialect != directory.AD { // what hides its classes there shows itself
					a.hide(t, dn, below)
					h.unseen = s.dialect == directory.OpenLDAP
					h.note(nil, "hide %s (below: %t)", dn, below)
				}
			default:
				attr := h.one(deniable)
				a.deny(t, dn, below, attr)
				h.note(nil, "deny %s of %s (below: %t)", attr, dn, below)
			}
			a.undo = nil
		}
		h.compare(0)
	})
}

// newAuditedHistory is one whose surveys are read by an account that rights are taken from.
func newAuditedHistory(t *testing.T, s *subject) (*history, *auditor) {
	a := s.auditor(t)
	h := newHistory(t, s, *historySeed)
	h.apart = a.dn
	_, h.yard.Base, _ = strings.Cut(s.base, ",")
	h.yard.Bind = a.yard.Bind
	return h, a
}

// Of an entry that has changed, and of which its reader may not see all, the survey of
// changes says so as one of everything does.
func TestWhatAChangedEntryHidesIsWrittenDown(t *testing.T) {
	s := slapdSubjectWith(t, realserver.SlapdLastBind, realserver.SlapdPolicies, realserver.SlapdMemberOf, realserver.SlapdSyncLog)
	h, a := newAuditedHistory(t, s)
	who := s.person(t, h.c, "Ada Quill", "ada")
	a.deny(t, h.container("Staff"), true, "mail")
	h.survey("start", true)
	h.changes(who, "title", "Keeper of the dome")
	h.asEverything("hidden")
}

// What does not show by what slapd knows whether it has changed is read each time, and
// looked for where it is new, or has come there.
func TestWhatHidesThatItHasChangedIsReadEachTime(t *testing.T) {
	for name, parts := range map[string][]string{
		"session log": {realserver.SlapdSyncLog}, "no session log": {realserver.SlapdSync}, "times": nil,
	} {
		for _, hidden := range [][]string{{"entryCSN"}, {"modifyTimestamp"}, {"entryCSN", "modifyTimestamp"}} {
			t.Run(name+" without "+strings.Join(hidden, ", "), func(t *testing.T) {
				s := slapdSubjectWith(t, append(parts, realserver.SlapdLastBind, realserver.SlapdPolicies, realserver.SlapdMemberOf)...)
				h, a := newAuditedHistory(t, s)
				if slices.Contains(hidden, "modifyTimestamp") {
					h.ahead = 60 * 24 * time.Hour // so that times do not tell of what has changed just now
				}
				who, other := s.person(t, h.c, "Ada Quill", "ada"), s.person(t, h.c, "Bo Wren", "bo")
				for i := range 30 { // so that looking at some does not find it
					s.person(t, h.c, fmt.Sprintf("Lark %d", i), fmt.Sprintf("lark%d", i))
				}
				parked := s.person(t, h.c, "Cy Lark", "cy")
				h.note(h.c.Conn().ModifyDN(ldap.NewModifyDNRequest(parked, "cn=Cy Lark", true, h.container("Parked"))), "park")
				a.deny(t, who, false, hidden...)
				a.deny(t, h.container("Parked"), true, hidden...)
				a.undo = nil
				h.survey("start", true)
				for i, change := range []func(){
					func() { h.changes(who, "title", "Keeper of the dome") },
					func() {
						h.note(h.c.Conn().ModifyDN(ldap.NewModifyDNRequest(other, "cn=Bo Wren", true, h.container("Parked"))), "park")
					},
					func() {
						dn := "cn=Di Tarn," + h.container("Parked")
						s.add(t, h.c, dn, map[string][]string{"objectClass": {"inetOrgPerson"}, "cn": {"Di Tarn"}, "sn": {"Tarn"}})
					},
				} {
					change()
					m := h.asEverything(fmt.Sprintf("changed-%d", i))
					assert.NotZero(t, m.Changed)
				}
			})
		}
	}
}

// A group that is hidden shows by who is in it: whoever else comes into it, or leaves it, is
// found though servers count that as no change of theirs.
func TestWhoIsInAGroupThatIsHidden(t *testing.T) {
	for name, parts := range map[string][]string{
		"session log": {realserver.SlapdSyncLog}, "no session log": {realserver.SlapdSync}, "times": nil,
	} {
		t.Run(name, func(t *testing.T) {
			s := slapdSubjectWith(t, append(parts, realserver.SlapdLastBind, realserver.SlapdPolicies, realserver.SlapdMemberOf)...)
			h, a := newAuditedHistory(t, s)
			var people []string
			for i := range 30 { // so that looking at some does not find it
				people = append(people, s.person(t, h.c, fmt.Sprintf("Lark %d", i), fmt.Sprintf("lark%d", i)))
			}
			team := s.group(t, h.c, "Domers", people[0], people[1])
			late := s.group(t, h.c, "Mirrors", people[0])
			a.hide(t, team, false)
			member := func(dn string, add, drop []string) func() {
				return func() {
					require.Zero(t, modify(h.c, dn, func(r *ldap.ModifyRequest) {
						r.Add("member", add)
						if len(drop) > 0 {
							r.Delete("member", drop)
						}
					}))
				}
			}
			h.survey("start", true)
			for i, change := range []func(){
				member(team, people[2:3], people[:1]),
				member(team, people[3:4], people[1:3]),
				func() { // nobody is in it, and it is hidden, which tells nobody who gets no list of all
					member(late, []string{"cn=nobody," + s.base}, people[:1])()
					if name != "session log" {
						a.hide(t, late, false)
					}
				},
				member(late, people[7:8], nil),
			} {
				change()
				m := h.asEverything(fmt.Sprintf("changed-%d", i))
				assert.NotZero(t, m.Changed)
			}
			a.free(t)
		})
	}
}

// More hidden groups than can be asked about have everything read.
func TestVeryManyHiddenGroupsHaveEverythingRead(t *testing.T) {
	s := slapdSubjectWith(t, realserver.SlapdLastBind, realserver.SlapdPolicies, realserver.SlapdMemberOf, realserver.SlapdSyncLog)
	h, a := newAuditedHistory(t, s)
	who := s.person(t, h.c, "Ada Quill", "ada")
	for i := range 201 {
		s.group(t, h.c, fmt.Sprintf("Team %d", i), who)
	}
	a.hide(t, h.container("Groups"), true)
	require.Len(t, h.survey("start", true).Mark.Unseen, 201)
	m := h.survey("next", false)
	assert.Empty(t, m.Since)
	assert.Equal(t, "entries name 201 groups or managers that are hidden, more than are asked about", m.FullWhy)
}

// Somebody who is moved into a container that is not listed is gone for whoever reads, though
// nothing was deleted, which an administrator would see.
func TestWhoeverIsMovedOutOfSightIsGone(t *testing.T) {
	s := sambaSubject(t)
	h, a := newAuditedHistory(t, s)
	admins := "CN=Domain Admins,CN=Users," + s.samba.Base
	require.Zero(t, modify(h.c, admins, func(r *ldap.ModifyRequest) { r.Add("member", []string{a.dn}) }))
	t.Cleanup(func() { modify(h.c, admins, func(r *ldap.ModifyRequest) { r.Delete("member", []string{a.dn}) }) })
	who := s.person(t, h.c, "Ada Quill", "ada")
	for i := range 12 { // so that looking at some does not find it
		s.person(t, h.c, fmt.Sprintf("Lark %d", i), fmt.Sprintf("lark%d", i))
	}
	require.NoError(t, h.c.Conn().Del(ldap.NewDelRequest(s.person(t, h.c, "Bo Wren", "bo"), nil))) // which shows that the deleted are seen
	a.prepend(t, h.container("Groups"), denied(a.sid, 0x4, false))                                 // to list what is in it
	h.survey("start", true)
	require.NoError(t, h.c.Conn().ModifyDN(ldap.NewModifyDNRequest(who, "CN=Ada Quill", true, h.container("Groups"))))
	m := h.asEverything("moved")
	assert.Equal(t, 1, m.Gone)
}

// The same on the ad schema, where a container that is not listed hides what stands in it,
// and the other ends of its links are shown.
func TestWhoIsNamedFromAContainerThatIsHidden(t *testing.T) {
	s := sambaSubject(t)
	h, a := newAuditedHistory(t, s)
	var people []string
	for i := range 12 { // so that looking at some does not find it
		people = append(people, s.person(t, h.c, fmt.Sprintf("Lark %d", i), fmt.Sprintf("lark%d", i)))
	}
	team := s.group(t, h.c, "Domers", people[0], people[1])
	h.changes(team, "managedBy", people[4])
	a.prepend(t, h.container("Groups"), denied(a.sid, 0x4, false)) // to list what is in it
	start := h.survey("start", true)
	require.Equal(t, []string{directory.FoldDN(team)}, start.Mark.Unseen)
	for i, change := range []func(){
		func() {
			require.Zero(t, modify(h.c, team, func(r *ldap.ModifyRequest) {
				r.Add("member", people[2:3])
				r.Delete("member", people[:1])
			}))
		},
		func() { h.changes(team, "managedBy", people[5]) },
	} {
		change()
		m := h.asEverything(fmt.Sprintf("changed-%d", i))
		assert.Equal(t, 2, m.Changed)
	}
}

// A group of which neither who is in it nor that it has changed may be seen is doubted.
func TestAGroupThatLooksAsBeforeIsDoubtedWhereItHasChanged(t *testing.T) {
	s := slapdSubjectWith(t, realserver.SlapdLastBind, realserver.SlapdPolicies, realserver.SlapdMemberOf, realserver.SlapdSyncLog)
	h, a := newAuditedHistory(t, s)
	who, other := s.person(t, h.c, "Ada Quill", "ada"), s.person(t, h.c, "Bo Wren", "bo")
	team := s.group(t, h.c, "Domers", who)
	a.deny(t, team, false, "member", "modifyTimestamp", "entryCSN")
	h.survey("start", true)
	h.changes(team, "member", other)
	m := h.survey("changed", false)
	assert.Equal(t, team+" has changed, and does not show who is in it", m.FullWhy)
}

// Servers count a new manager as no change of whoever manages: where an entry does not
// show its manager, who names it is asked the other way round.
func TestWhoManagesIsToldByTheOtherEndWhereItIsHidden(t *testing.T) {
	test := func(t *testing.T, s *subject) {
		h, a := newAuditedHistory(t, s)
		who, other := s.person(t, h.c, "Ada Quill", "ada"), s.person(t, h.c, "Bo Wren", "bo")
		team := s.group(t, h.c, "Domers", other)
		managers := []string{s.person(t, h.c, "Cy Lark", "cy"), s.person(t, h.c, "Di (Moor)", "di")}
		owners := []string{s.person(t, h.c, "Ed Fell", "ed"), s.person(t, h.c, "Flo Tarn", "flo")}
		h.changes(who, "manager", managers[0])
		h.changes(team, "managedBy", owners[0])
		for _, dn := range []string{who, other} {
			a.deny(t, dn, false, "manager")
		}
		a.deny(t, team, false, "managedBy")
		a.undo = nil
		time.Sleep(h.settles)
		h.survey("start", true)
		for i, change := range []func(){
			func() { h.changes(who, "manager", managers[1]) },
			func() { h.changes(other, "manager", managers[1]) },
			func() { h.changes(team, "managedBy", owners[1]) },
			func() { // it is shown from now on, and was another one until now
				a.free(t)
				h.changes(team, "managedBy", owners[0])
			},
			func() { h.note(h.c.Conn().Del(ldap.NewDelRequest(who, nil)), "delete") },
		} {
			change()
			time.Sleep(h.settles)
			h.asEverything(fmt.Sprintf("changed-%d", i))
		}
		var reports []string
		for _, e := range h.entries("changed-4") {
			for _, name := range []string{"directReports", "managedObjects"} {
				reports = append(reports, e[name]...)
			}
		}
		assert.ElementsMatch(t, []string{other, team}, reports)
	}
	t.Run("practice", func(t *testing.T) { test(t, practiceSubject(t)) })
	t.Run("samba", func(t *testing.T) { test(t, sambaSubject(t)) })
}

// A sign-in that a server does not count as a change is read all the same.
func TestASignInIsReadThoughNobodySaysSo(t *testing.T) {
	s := practiceSubject(t)
	h := newHistory(t, s, 1)
	who := s.person(t, h.c, "Ada Quill", "ada")
	h.survey("start", true)
	h.survey("once", false) // with what changed just now
	s.dir.SignIn(who, time.Now())
	m := h.asEverything("signed-in")
	assert.Equal(t, "once", m.Since)
	assert.Equal(t, 1, m.Changed)
}

func (h *history) changes(dn, attr, value string) {
	req := ldap.NewModifyRequest(dn, nil)
	req.Replace(attr, []string{value})
	require.NoError(h.t, h.c.Conn().Modify(req))
}

// asEverything takes a survey of changes, and holds it against one of everything.
func (h *history) asEverything(name string) *source.Manifest {
	m, whole := h.survey(name, false), h.survey("whole-"+name, true)
	require.NotEmpty(h.t, m.Since, m.FullWhy)
	assert.Equal(h.t, h.entries(whole.Name), h.entries(m.Name))
	assert.Equal(h.t, whole.Hidden, m.Hidden)
	return m
}

// compare lives on and takes surveys both ways, of which more than so many are to be taken
// the cheap way.
func (h *history) compare(least int) {
	t := h.t
	for range 60 {
		h.live()
	}
	start := h.survey("start", true)
	how := source.MarkKind(start.FullWhy)
	if start.Mark != nil {
		how = start.Mark.How
	}
	followed := 0
	for i := range *historySteps {
		for range 1 + h.r.IntN(5) {
			h.live()
		}
		if h.rights != nil {
			h.rights()
		}
		time.Sleep(h.settles)
		m := h.survey(fmt.Sprintf("step-%d", i), false)
		if m.Since != "" {
			followed++
		}
		t.Logf("%s: by %s, %d changed, %d gone, of %d; full because: %s", m.Name, how, m.Changed, m.Gone, m.Entries, m.FullWhy)
		whole := h.survey(fmt.Sprintf("whole-%d", i), true)
		want, got := h.entries(whole.Name), h.entries(m.Name)
		if !assert.Equal(t, slices.Sorted(maps.Keys(want)), slices.Sorted(maps.Keys(got)), "seed %d, step %d", *historySeed, i) {
			t.Fatal(strings.Join(h.did, "\n"))
		}
		for id := range want {
			if h.unseen {
				delete(want[id], "memberOf")
				delete(got[id], "memberOf")
			}
			if !assert.Equal(t, want[id], got[id], "seed %d, step %d", *historySeed, i) {
				t.Fatal(strings.Join(h.did, "\n"))
			}
		}
		assert.Equal(t, whole.Hidden, m.Hidden)
		assert.Equal(t, whole.Complete, m.Complete)
	}
	assert.Greater(t, followed, least, "many are taken the cheap way")
}

// history is a directory in which people work.
type history struct {
	*subject
	t       *testing.T
	r       *rand.Rand
	c       *source.Server  // what people work with
	yard    settings.Yard   // what surveys are read with
	ahead   time.Duration   // how far the clock of surveys is
	rights  func()          // changes what their reader may see, if set
	unseen  bool            // groups may be hidden in which nobody is who is shown: nothing tells who comes into one
	apart   string          // who is left alone
	still   map[string]bool // folded names of others, which are compared
	kept    string
	full    string
	outside string
	n       int
	did     []string
}

func newHistory(t *testing.T, s *subject, seed uint64) *history {
	h := &history{subject: s, t: t, r: rand.New(rand.NewPCG(seed, 7)), c: s.connect(t), kept: t.TempDir(), full: t.TempDir(), still: map[string]bool{}}
	_, h.outside, _ = strings.Cut(s.base, ",")
	h.outside = strings.Replace(strings.SplitN(s.base, ",", 2)[0], "Test", "Outside", 1) + "," + h.outside
	s.add(t, h.c, h.outside, map[string][]string{"objectClass": {"organizationalUnit"}})
	t.Cleanup(func() {
		if s.dir != nil {
			return // it is gone already
		}
		swept := *s
		swept.base = h.outside
		swept.sweep(t)
	})
	h.yard = s.yard
	h.yard.ReplicatesWithin = settings.Wait(time.Second) // there is one server
	return h
}

// survey keeps a survey: of everything, in a folder apart, or of what has changed.
func (h *history) survey(name string, full bool) *source.Manifest {
	now := func() time.Time { return time.Now().Add(h.ahead) }
	k := source.Keeping{Dir: h.kept, Name: name, Now: now, Full: full}
	if full && name != "start" {
		k.Dir = h.full
	}
	reader, err := source.Connect(h.t.Context(), source.Target{Yard: h.yard, Now: now})
	require.NoError(h.t, err)
	defer reader.Close()
	m, err := source.Keep(h.t.Context(), reader, k)
	require.NoError(h.t, err, strings.Join(h.did, "\n"))
	return m
}

// entries are those of a survey by identity, their values sorted.
func (h *history) entries(name string) map[string]map[string][]string {
	dir := h.kept
	if strings.HasPrefix(name, "whole") {
		dir = h.full
	}
	f, err := source.OpenKept(dir, name)
	require.NoError(h.t, err)
	found, err := f.Find(h.t.Context(), "(|(objectClass=*)(!(objectClass=*)))")
	require.NoError(h.t, err)
	all := map[string]map[string][]string{}
	for i := range found {
		if strings.EqualFold(found[i].DN, h.apart) {
			continue // reading is signing in
		}
		e := map[string][]string{"dn": {found[i].DN}}
		for _, a := range found[i].Attrs {
			if a.Name == "contextCSN" {
				continue // of the whole database, which the next sign-in changes
			}
			e[a.Name] = slices.Sorted(slices.Values(a.Values))
		}
		id := source.ShowIdentity(h.dialect, found[i].First(h.dialect.Identity.String()))
		if id == "" {
			id = found[i].DN
		}
		require.NotContains(h.t, all, id, "no entry twice")
		all[id] = e
	}
	return all
}

// those are the names of entries of a class that there are now.
func (h *history) those(class string) (dns []string) {
	for _, base := range []string{h.base, h.outside} {
		_, err := h.c.Search(h.t.Context(), source.Query{Base: base, Scope: ldap.ScopeWholeSubtree, Filter: "(objectClass=" + class + ")", Attributes: []string{"1.1"}},
			func(page []directory.Entry) error {
				for i := range page {
					if !strings.EqualFold(page[i].DN, base) && !strings.EqualFold(page[i].DN, h.apart) && !h.still[directory.FoldDN(page[i].DN)] {
						dns = append(dns, page[i].DN)
					}
				}
				return nil
			})
		require.NoError(h.t, err)
	}
	slices.Sort(dns)
	return dns
}

func (h *history) one(of []string) string {
	if len(of) == 0 {
		return ""
	}
	return of[h.r.IntN(len(of))]
}

func (h *history) class(ad, other string) string {
	if h.dialect == directory.AD {
		return ad
	}
	return other
}

// live does one thing that people do. What the server refuses is no matter.
func (h *history) live() {
	people, groups, units := h.those(h.class("user", "inetOrgPerson")), h.those(h.class("group", "groupOfNames")), h.those("organizationalUnit")
	h.n++
	// New ones are made in the usual containers, which stay.
	usual := []string{h.container("Staff"), h.container("Groups"), h.container("Parked")}
	who, group, unit := h.one(people), h.one(groups), h.one(slices.DeleteFunc(slices.Clone(units), func(dn string) bool { return slices.Contains(usual, dn) }))
	anybody := h.one(append(people, groups...))
	modify := func(what, dn string, change func(*ldap.ModifyRequest)) {
		if dn == "" {
			return
		}
		req := ldap.NewModifyRequest(dn, nil)
		change(req)
		h.note(h.c.Conn().Modify(req), "%s %s", what, dn)
	}
	switch h.r.IntN(22) {
	case 0, 1, 2:
		h.person(h.t, h.c, fmt.Sprintf("Person %d", h.n), fmt.Sprintf("person%d", h.n))
		h.note(nil, "add person%d", h.n)
	case 3:
		var members []string
		if who != "" {
			members = []string{who}
		} else if h.dialect != directory.AD {
			return
		}
		h.group(h.t, h.c, fmt.Sprintf("group%d", h.n), members...)
		h.note(nil, "add group%d of %s", h.n, who)
	case 4:
		dn := h.class("OU", "ou") + fmt.Sprintf("=Unit %d,", h.n) + h.one(units)
		h.note(h.c.Conn().Add(&ldap.AddRequest{DN: dn, Attributes: []ldap.Attribute{{Type: "objectClass", Vals: []string{"organizationalUnit"}}}}), "add %s", dn)
	case 5, 6:
		modify("join "+anybody, group, func(r *ldap.ModifyRequest) { r.Add("member", []string{anybody}) })
	case 7:
		modify("leave "+anybody, group, func(r *ldap.ModifyRequest) { r.Delete("member", []string{anybody}) })
	case 8:
		modify("title of", who, func(r *ldap.ModifyRequest) { r.Replace("title", []string{fmt.Sprintf("Title %d", h.n)}) })
	case 9:
		modify("manager "+anybody+" of", who, func(r *ldap.ModifyRequest) { r.Replace("manager", []string{anybody}) })
	case 10:
		modify("no manager of", who, func(r *ldap.ModifyRequest) { r.Replace("manager", nil) })
	case 11:
		modify("secretary "+anybody+" of", who, func(r *ldap.ModifyRequest) { r.Replace("secretary", []string{anybody}) })
	case 12, 13:
		h.rename(anybody, "")
	case 14, 15:
		h.rename(anybody, h.one(append(units, h.outside)))
	case 16:
		h.rename(unit, h.one(append(units, h.outside, h.base)))
	case 17:
		h.rename(unit, "")
	case 18:
		h.note(h.c.Conn().Del(ldap.NewDelRequest(anybody, nil)), "delete %s", anybody)
	case 19:
		h.note(h.c.Conn().Del(ldap.NewDelRequest(unit, nil)), "delete %s", unit)
	case 20:
		h.signs(who, "wrong")
	case 21:
		h.signs(who, "Right-secret1")
	}
}

func (h *history) note(err error, format string, args ...any) {
	did := fmt.Sprintf(format, args...)
	if err != nil {
		did += ": refused: " + err.Error()
	}
	h.did = append(h.did, did)
}

// rename gives an entry another name, and another place where one is given.
func (h *history) rename(dn, to string) {
	if dn == "" {
		return
	}
	kind, _, _ := strings.Cut(dn, "=")
	req := ldap.NewModifyDNRequest(dn, fmt.Sprintf("%s=Renamed %d", kind, h.n), true, to)
	h.note(h.c.Conn().ModifyDN(req), "rename %s to %s below %s", dn, req.NewRDN, to)
}

// signs signs somebody in, or is refused.
func (h *history) signs(dn, password string) {
	if dn == "" {
		return
	}
	conn, err := ldap.DialURL(h.subject.yard.Servers[0])
	if h.samba != nil {
		c := h.connect(h.t)
		h.note(c.Conn().Bind(dn, password), "sign in %s with %s", dn, password)
		return
	}
	require.NoError(h.t, err)
	defer conn.Close()
	h.note(conn.Bind(dn, password), "sign in %s with %s", dn, password)
}

// Whatever makes it doubtful what has changed has everything read, and says why.
func TestASurveyThatCannotBeGoneOnFromIsTakenWhole(t *testing.T) {
	s := practiceSubject(t)
	c := s.connect(t)
	ada := s.person(t, c, "Ada Quill", "aquill")
	inner, outer := s.group(t, c, "inner", ada), s.group(t, c, "outer")
	strict := "CN=Strict," + s.base
	s.add(t, c, strict, map[string][]string{"objectClass": {"msDS-PasswordSettings"}})
	manifest := func(dir, name string) string { return filepath.Join(dir, name+".json") }
	edit := func(t *testing.T, path, old, now string) {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Contains(t, string(text), old)
		require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(text), old, now, 1)), 0o600))
	}
	for name, one := range map[string]struct {
		spoil func(t *testing.T, dir string, target *source.Target, k *source.Keeping)
		why   string
	}{
		"nothing is wrong": {func(*testing.T, string, *source.Target, *source.Keeping) {}, ""},
		"the number was written over": {func(t *testing.T, dir string, _ *source.Target, _ *source.Keeping) {
			edit(t, manifest(dir, "first"), `"at": "`, `"at": "9`)
		}, "what is written down about the survey first is not as it was written"},
		"kept by an earlier version": {func(t *testing.T, dir string, _ *source.Target, _ *source.Keeping) {
			edit(t, manifest(dir, "first"), `"mark"`, `"unknown"`)
		}, "the survey first cannot be gone on from: it was kept by an earlier version"},
		"another one is damaged": {func(t *testing.T, dir string, _ *source.Target, _ *source.Keeping) {
			require.NoError(t, os.WriteFile(manifest(dir, "other"), []byte("{"), 0o600))
		}, "other.json: damaged manifest"},
		"a part is damaged": {func(t *testing.T, dir string, _ *source.Target, _ *source.Keeping) {
			path := filepath.Join(dir, "first.ldif.zst")
			raw, err := os.ReadFile(path)
			require.NoError(t, err)
			raw[200] ^= 1
			require.NoError(t, os.WriteFile(path, raw, 0o600))
		}, "the survey first is damaged"},
		"the file of another survey lies there": {func(t *testing.T, dir string, _ *source.Target, _ *source.Keeping) {
			other := t.TempDir()
			_, err := source.Keep(t.Context(), c, source.Keeping{Dir: other, Name: "first", Now: time.Now})
			require.NoError(t, err)
			raw, err := os.ReadFile(filepath.Join(other, "first.ldif.zst"))
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "first.ldif.zst"), raw, 0o600))
		}, "the survey first is not as it was written"},
		"a part of a file lies there": {func(t *testing.T, dir string, _ *source.Target, k *source.Keeping) {
			raw, err := os.ReadFile(filepath.Join(dir, "first.ldif.zst"))
			require.NoError(t, err)
			path := filepath.Join(dir, "first.ldif.zst")
			require.NoError(t, os.WriteFile(path, raw[:len(raw)-9], 0o600))
		}, "its file has no index, or a damaged one"},
		"it is old": {func(_ *testing.T, _ string, _ *source.Target, k *source.Keeping) {
			k.FullAfter = time.Now().Add(time.Hour)
		},
			"everything was read last on " + time.Now().UTC().Format(time.DateOnly)},
		"other attributes are wanted": {func(_ *testing.T, _ string, target *source.Target, _ *source.Keeping) {
			target.Keep.Add(directory.LookupAttr("operatingSystem"))
			target.Keep.Add(directory.LookupAttr("description"))
		}, "with another base or other attributes"},
		"a part of it is read": {func(_ *testing.T, _ string, target *source.Target, _ *source.Keeping) {
			target.Yard.Base = s.container("Staff")
		},
			"the base is only a part of DC=larkmoor,DC=example"},
		"the directory was made anew": {func(t *testing.T, _ string, target *source.Target, _ *source.Keeping) {
			target.Yard = practiceSubject(t).yard
		}, "is of another server, or of a database that was restored"},
		"everything is asked for": {func(_ *testing.T, _ string, _ *source.Target, k *source.Keeping) { k.Full = true }, ""},
		"groups within groups, and password settings": {func(t *testing.T, _ string, _ *source.Target, _ *source.Keeping) {
			require.Zero(t, modify(c, outer, func(r *ldap.ModifyRequest) { r.Add("member", []string{inner}) }))
		}, "what " + inner + " is in has changed, and password settings hold for groups"},
		"password settings": {func(t *testing.T, _ string, _ *source.Target, _ *source.Keeping) {
			require.True(t, s.dir.Edit(strict, func(e *directory.Entry) { e.Set("description", "stricter") }))
		}, "the password policy " + strict + " has changed"},
		"the access list of a container": {func(t *testing.T, _ string, _ *source.Target, _ *source.Keeping) {
			s.dir.Deny(s.container("Staff"), true, "title")
		}, "the access list of " + s.container("Staff") + " has changed, or may have"},
		"a group that does not show who is in it": {func(t *testing.T, _ string, _ *source.Target, _ *source.Keeping) {
			s.dir.Deny(inner, false, "member")
		}, inner + " has changed, and does not show who is in it"},
		"an entry that hides which it is": {func(t *testing.T, _ string, _ *source.Target, _ *source.Keeping) {
			s.dir.Deny(ada, false)
		}, ada + " does not show which entry it is, nor whether it has changed"},
		"nobody says what is behind a change": {func(t *testing.T, _ string, _ *source.Target, _ *source.Keeping) {
			require.True(t, s.dir.Edit("DC=larkmoor,DC=example", func(e *directory.Entry) { e.Set("lockoutDuration", "-1") }))
		}, "the password policy of the domain has changed"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Cleanup(func() { s.dir.Deny("", false) })
			dir := t.TempDir()
			keep := func(target source.Target, k source.Keeping) *source.Manifest {
				c, err := source.Connect(t.Context(), target)
				require.NoError(t, err)
				defer c.Close()
				k.Dir, k.Now = dir, time.Now
				m, err := source.Keep(t.Context(), c, k)
				require.NoError(t, err)
				return m
			}
			target := source.Target{Yard: s.yard}
			keep(target, source.Keeping{Name: "first"})
			require.True(t, s.dir.Edit(ada, func(e *directory.Entry) { e.Set("title", name) }))
			k := source.Keeping{Name: "second"}
			one.spoil(t, dir, &target, &k)
			m := keep(target, k)
			if name == "nothing is wrong" {
				assert.Equal(t, "first", m.Since)
				assert.Equal(t, 1, m.Changed)
				return
			}
			assert.Empty(t, m.Since)
			assert.Contains(t, m.FullWhy, one.why)
			kept, err := source.OpenKept(dir, "second")
			require.NoError(t, err)
			survey, err := kept.Survey(t.Context())
			require.NoError(t, err)
			assert.Equal(t, m.Entries, survey.Entries)
		})
	}
}

// One that ends in the middle leaves nothing behind, and the next goes on from the same.
func TestASurveyOfChangesThatFailsLeavesTheOneBefore(t *testing.T) {
	s := practiceSubject(t)
	ada := s.person(t, s.connect(t), "Ada Quill", "aquill")
	dir := t.TempDir()
	c := s.connect(t)
	keep := func(name string) (*source.Manifest, error) {
		return source.Keep(t.Context(), c, source.Keeping{Dir: dir, Name: name, Now: time.Now})
	}
	_, err := keep("first")
	require.NoError(t, err)
	require.True(t, s.dir.Edit(ada, func(e *directory.Entry) { e.Set("title", "Optician") }))
	whole := 0
	for n := 1; ; n++ {
		hit := s.faultAt(n, practice.Fault{Code: ldap.LDAPResultUnwillingToPerform})
		m, err := keep("second")
		s.server.SetFault(nil)
		if err != nil {
			left, err := filepath.Glob(filepath.Join(dir, "second*"))
			require.NoError(t, err)
			assert.Empty(t, left)
			continue
		}
		if !hit.Load() {
			assert.Equal(t, "first", m.Since)
			break
		}
		if m.Since == "" {
			whole++
			assert.Contains(t, m.FullWhy, "refused for practice")
		}
		kept, err := source.OpenKept(dir, "second")
		require.NoError(t, err)
		found, err := kept.Find(t.Context(), "(title=Optician)")
		require.NoError(t, err)
		assert.Len(t, found, 1)
		for _, path := range source.KeptFiles(dir, "second") {
			require.NoError(t, os.Remove(path))
		}
	}
	assert.Greater(t, whole, 5, "a server that does not take such questions is read as ever")
}

// What changes while everything is read is in the next survey, although the one before
// holds a part of it already.
func TestWhatChangesWhileASurveyIsTakenIsInTheNext(t *testing.T) {
	h := newHistory(t, practiceSubject(t), *historySeed)
	h.yard.PageSize = 5
	for range 80 {
		h.live()
	}
	followed := 0
	for n := 1; ; n++ {
		h.kept, h.full, h.did = t.TempDir(), t.TempDir(), nil
		var count, busy atomic.Int32
		hit := false
		h.server.SetFault(func(practice.Operation) practice.Fault {
			if busy.Load() == 0 && int(count.Add(1)) >= n && !hit {
				hit = true
				busy.Store(1)
				for range 6 {
					h.live()
				}
				busy.Store(0)
			}
			return practice.Fault{}
		})
		h.survey("start", true)
		h.server.SetFault(nil)
		if !hit {
			break
		}
		if m := h.survey("step", false); m.Since != "" {
			followed++
		}
		h.survey("whole", true)
		if !assert.Equal(t, h.entries("whole"), h.entries("step"), "seed %d, request %d", *historySeed, n) {
			t.Fatal(strings.Join(h.did, "\n"))
		}
	}
	assert.Greater(t, followed, 5)
}

// slapd does not tell members that the container of their group has another name, but that
// the group has: so whoever is renamed has both ends of its links read.
func TestMembersOfARenamedGroupAreReadWhateverTheyShowed(t *testing.T) {
	s := slapdSubjectWith(t, realserver.SlapdLastBind, realserver.SlapdPolicies, realserver.SlapdMemberOf, realserver.SlapdSyncLog)
	h := newHistory(t, s, 1)
	ada := s.person(t, h.c, "Ada Quill", "aquill")
	s.group(t, h.c, "optics", ada)
	rename := func(dn, rdn string) {
		require.NoError(t, h.c.Conn().ModifyDN(ldap.NewModifyDNRequest(dn, rdn, true, "")))
	}
	rename(s.container("Groups"), "ou=Moved")
	h.survey("start", true)
	rename(s.DN("optics", "Moved"), "cn=lenses")
	m := h.survey("step", false)
	assert.Equal(t, "start", m.Since, m.FullWhy)
	h.survey("whole", true)
	assert.Equal(t, h.entries("whole"), h.entries("step"))
}
