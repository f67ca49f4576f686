package carry_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"flag"
	"fmt"
	"maps"
	mrand "math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/practice"
	"yardbroom/internal/privilege"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

var (
	realmRuns = flag.Int("realm.runs", 400, "how many random directories with powers and bounds to change")
	realmSeed = flag.Uint64("realm.seed", 0, "change only the directory of this seed")
)

// TestNothingProtectedIsTouchedAndNoPowerChangesHandsUnsigned changes random
// directories with privileged groups (nested, by primary group, by logon name
// and number), and with protected, exempt and out-of-scope entries, some of them
// below others, naming each other. Roles and settings change between staging and
// carrying out, and again before it is taken back. What may change is said
// here once more, slowly and by the words of the rules alone.
func TestNothingProtectedIsTouchedAndNoPowerChangesHandsUnsigned(t *testing.T) {
	if *realmSeed != 0 {
		newRealm(t, *realmSeed).live()
		return
	}
	var seeds, done, waited atomic.Uint64
	var wait sync.WaitGroup
	for range 16 {
		wait.Go(func() {
			for {
				seed := seeds.Add(1)
				if int(seed) > runs(*realmRuns) || t.Failed() {
					return
				}
				if !t.Run(fmt.Sprintf("seed=%d", seed), func(t *testing.T) {
					r := newRealm(t, seed)
					r.live()
					done.Add(uint64(r.done))
					waited.Add(uint64(r.stopped))
				}) {
					t.Errorf("again with: go test ./internal/carry -run NothingProtected -realm.seed=%d", seed)
				}
			}
		})
	}
	wait.Wait()
	t.Logf("%d lines done, %d kept from being done", done.Load(), waited.Load())
	require.Positive(t, done.Load(), "a model in which nothing is ever done proves nothing")
	require.Positive(t, waited.Load())
}

// realm is one directory, and what bounds it.
type realm struct {
	t       *testing.T
	r       *mrand.Rand
	d       *directory.Dialect
	base    string
	dir     *practice.Directory
	conn    *source.Server
	st      *store.Store
	set     *settings.Settings
	yard    settings.Yard
	exempt  []audit.Exemption
	key     ssh.Signer
	people  []string // DNs when it was made
	groups  []string
	ids     map[string]string // identities by those names
	bound   string
	policy  string
	done    int
	stopped int
}

func newRealm(t *testing.T, seed uint64) *realm {
	w := &realm{t: t, r: mrand.New(mrand.NewPCG(seed, 13)), d: directory.AD, base: "DC=larkmoor,DC=example", ids: map[string]string{}}
	if seed%2 == 0 {
		w.d, w.base = directory.OpenLDAP, "dc=larkmoor,dc=example"
	}
	w.set = settings.Defaults()
	w.set.Batch = settings.Batch{MaxLines: 1000, MaxShare: 100, DayLines: 100000, DayShare: 100, DeleteMinDisabled: calendar.Span{}}
	w.set.Signing.Needed, w.set.Signing.Proved = map[string]int{batch.Delete: 0}, []string{}
	w.populate()
	server := &practice.Server{Dir: w.dir, Account: "keeper", Password: "secret", Assertions: w.d == directory.OpenLDAP}
	url, err := server.Listen(t.Context(), "127.0.0.1:0")
	require.NoError(t, err)
	state := stateFolder(t)
	password := filepath.Join(state, "password")
	require.NoError(t, os.WriteFile(password, []byte("secret\n"), 0o600))
	w.yard = settings.Yard{Servers: []string{url}, Base: w.base, Dialect: w.d.Name, DefaultPolicy: w.policy, Bind: settings.Bind{DN: "keeper", PasswordFile: password}}
	w.conn, err = source.Connect(t.Context(), source.Target{Yard: w.yard})
	require.NoError(t, err)
	t.Cleanup(func() { w.conn.Close() })
	w.st, err = store.Open(t.Context(), filepath.Join(state, "state"))
	require.NoError(t, err)
	t.Cleanup(func() { w.st.Close() })
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	w.key, err = ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	w.set.Signing.AllowedSigners = filepath.Join(state, "signers")
	require.NoError(t, os.WriteFile(w.set.Signing.AllowedSigners, append([]byte("mira@x "), ssh.MarshalAuthorizedKey(w.key.PublicKey())...), 0o600))
	return w
}

func (w *realm) add(entries *[]directory.Entry, dn string, attrs ...string) string {
	e := directory.Entry{DN: dn}
	for _, a := range attrs {
		name, value, _ := strings.Cut(a, "=")
		e.Set(name, append(e.Get(name), value)...)
	}
	*entries = append(*entries, e)
	return dn
}

func (w *realm) dn(rdn, container string) string {
	if container == "" {
		return rdn + "," + w.base
	}
	return rdn + ",ou=" + container + "," + w.base
}

// populate makes the entries.
func (w *realm) populate() {
	var all []directory.Entry
	onAD := w.d == directory.AD
	sid := func(rid int) string {
		raw, err := directory.EncodeSID(fmt.Sprintf("S-1-5-21-1-2-3-%d", rid))
		require.NoError(w.t, err)
		return "objectSid=" + raw
	}
	if onAD {
		all = practice.New(w.base, "S-1-5-21-1-2-3", time.Now).Dump()
	} else {
		w.add(&all, w.base, "objectClass=dcObject", "objectClass=organization", "o=x")
		w.policy = w.add(&all, "cn=policy,"+w.base, "objectClass=pwdPolicy", "cn=policy", "pwdLockout=TRUE")
	}
	for _, ou := range []string{"Staff", "Parked", "Left", "Quiet", "Groups"} {
		w.add(&all, w.dn("ou="+ou, ""), "objectClass=organizationalUnit", "ou="+ou)
	}
	for i := range 3 + w.r.IntN(5) {
		parent := w.dn("ou="+[]string{"Staff", "Staff", "Left", "Quiet"}[w.r.IntN(4)], "")
		if i > 0 && w.r.IntN(3) == 0 {
			parent = w.people[w.r.IntN(len(w.people))] // somebody stands below somebody
		}
		name := fmt.Sprintf("p%d", i)
		attrs := []string{"objectClass=user", "sAMAccountName=" + name, "userAccountControl=" + []string{"512", "512", "514"}[w.r.IntN(3)], "primaryGroupID=" + []string{"513", "513", "2001"}[w.r.IntN(3)], sid(1500 + i)}
		if !onAD {
			attrs = []string{"objectClass=inetOrgPerson", "objectClass=posixAccount", "cn=" + name, "sn=" + name, "uid=" + name, fmt.Sprintf("gidNumber=%d", 100+w.r.IntN(4)), "department=x"}
		}
		if i > 0 && w.r.IntN(2) == 0 {
			attrs = append(attrs, "manager="+w.people[w.r.IntN(len(w.people))])
		}
		w.people = append(w.people, w.add(&all, "cn="+name+","+parent, attrs...))
	}
	for i := range 3 + w.r.IntN(3) {
		name := fmt.Sprintf("g%d", i)
		dn := w.dn("cn="+name, []string{"Groups", "Groups", "Left"}[w.r.IntN(3)])
		attrs := []string{"objectClass=group", "sAMAccountName=" + name, sid(2000 + i), "groupType=" + []string{"-2147483646", "-2147483646", "2"}[w.r.IntN(3)]}
		list := "member"
		if !onAD {
			class := w.r.IntN(3)
			list = []string{"member", "uniqueMember", "memberUid"}[class]
			attrs = []string{"objectClass=" + []string{"groupOfNames", "groupOfUniqueNames", "posixGroup"}[class], "cn=" + name, fmt.Sprintf("gidNumber=%d", 100+i)}
			if list != "memberUid" {
				attrs = append(attrs, list+"="+w.base) // so that it is never empty
			}
		}
		for _, p := range w.people {
			if w.r.IntN(3) == 0 {
				if list == "memberUid" {
					p = directory.LeafValue(p)
				}
				attrs = append(attrs, list+"="+p)
			}
		}
		if list != "memberUid" {
			for _, g := range w.groups {
				if w.r.IntN(3) == 0 {
					attrs = append(attrs, list+"="+g)
				}
			}
		}
		if onAD && w.r.IntN(3) == 0 {
			attrs = append(attrs, "managedBy="+w.people[w.r.IntN(len(w.people))])
		}
		w.groups = append(w.groups, w.add(&all, dn, attrs...))
	}
	if onAD {
		w.bound = w.add(&all, w.dn("cn=Keeper", ""), "objectClass=user", "sAMAccountName=keeper", "userAccountControl=512", sid(1499))
		w.add(&all, w.dn("cn=Reserved", "Staff"), "objectClass=user", "sAMAccountName=reserved", "userAccountControl=512", sid(521))
		w.people = append(w.people, w.dn("cn=Reserved", "Staff"))
		w.dir = practice.Copy(practice.Identity{Dialect: w.d, Base: w.base, SID: "S-1-5-21-1-2-3"}, all, time.Now)
		admins := []string{w.bound}
		for _, x := range slices.Concat(w.people, w.groups) {
			if w.r.IntN(5) == 0 {
				admins = append(admins, x)
			}
		}
		w.dir.Edit("CN=Domain Admins,CN=Users,"+w.base, func(e *directory.Entry) { e.Set("member", admins...) })
	} else {
		w.bound = w.add(&all, w.dn("cn=keeper", ""), "objectClass=inetOrgPerson", "cn=keeper", "sn=keeper", "uid=keeper")
		w.dir = practice.Copy(practice.Identity{Dialect: w.d, Base: w.base}, all, time.Now)
	}
	if !onAD || w.r.IntN(3) == 0 {
		w.set.Audit.PrivilegedGroups = []string{w.groups[w.r.IntN(len(w.groups))]}
	}
	for _, dn := range slices.Concat(w.people, w.groups) {
		w.ids[w.dir.Entry(dn).First(w.d.Identity.String())] = dn
	}
	w.rule()
}

// rule changes what bounds the yard.
func (w *realm) rule() {
	any := func(list []string) string { return list[w.r.IntN(len(list))] }
	switch w.r.IntN(8) {
	case 0:
		w.yard.Scope = []string{w.dn("ou=Staff", ""), w.dn("ou=Groups", ""), w.dn("ou=Parked", "")}
	case 1:
		w.yard.LeaveOut = append(w.yard.LeaveOut, w.dn("ou=Left", ""))
	case 2:
		w.yard.LeaveOut = append(w.yard.LeaveOut, any(w.groups))
	case 3:
		w.exempt = append(w.exempt, audit.Exemption{Exemption: settings.Exemption{Match: settings.Match{Subtree: w.dn("ou=Quiet", "")}, Reason: "quiet", Owner: "o"}})
	case 4:
		w.exempt = append(w.exempt, audit.Exemption{Exemption: settings.Exemption{Match: settings.Match{Account: directory.LeafValue(any(w.people))}, Reason: "named", Owner: "o"}})
	case 5:
		w.yard.LeaveOut = append(w.yard.LeaveOut, any(w.people))
	}
}

// colleague changes roles and places behind the tool's back.
func (w *realm) colleague() {
	any := func(list []string) string { return list[w.r.IntN(len(list))] }
	switch w.r.IntN(5) {
	case 0, 1: // somebody, or some group, gets into a group
		g, x := any(w.groups), any(slices.Concat(w.people, w.groups))
		if w.d == directory.AD { // elsewhere a name may be listed that nobody has now
			x = ""
			pictured := w.picture()
			ids := slices.Sorted(maps.Keys(w.ids))
			if e, there := pictured[ids[w.r.IntN(len(ids))]]; there {
				x = e.DN
			}
			if x == "" {
				return
			}
		}
		if w.d == directory.AD && w.r.IntN(3) == 0 {
			g = "CN=Domain Admins,CN=Users," + w.base
		}
		w.dir.Edit(g, func(e *directory.Entry) {
			for _, list := range []string{"member", "uniqueMember"} {
				if (e.Has(list) || list == "member" && w.d == directory.AD) && !slices.Contains(e.Get(list), x) && g != x && w.dir != nil {
					e.Set(list, append(e.Get(list), x)...)
					return
				}
			}
		})
	case 2: // one more group is called privileged
		if dn := any(w.groups); w.dir.Entry(dn) != nil {
			w.set.Audit.PrivilegedGroups = append(slices.Clone(w.set.Audit.PrivilegedGroups), dn)
		}
	default:
		w.rule()
	}
}

// live stages, changes the world, carries out, changes it again, takes back.
func (w *realm) live() {
	ctx := context.Background()
	b := w.stage()
	if b == nil {
		return
	}
	promised := w.powers() // what whoever signs it can know of
	signed := w.r.IntN(2) == 0
	if signed {
		w.sign(b)
	}
	for range w.r.IntN(4) {
		w.colleague()
	}
	w.carryOut(b, signed, promised)
	if b.State == batch.Staged {
		return
	}
	for range w.r.IntN(3) {
		w.colleague()
	}
	back, _, err := carry.Inverse(ctx, w.st, b, nil, "tester", time.Now())
	if errors.Is(err, carry.ErrNothingToUndo) {
		return
	}
	require.NoError(w.t, err)
	if w.r.IntN(2) == 0 { // as the command does it; else as one that was staged long ago
		p := w.protection()
		_, err = back.Reassess(ctx, w.conn, &privilege.Climber{From: w.conn, Dialect: w.d, Rules: w.rules()}, &p)
		require.NoError(w.t, err)
		if _, err := carry.WithoutPrivileged(back, "undo 1"); errors.Is(err, carry.ErrNothingToUndo) {
			return
		}
	}
	if len(back.Lines) == 0 {
		return
	}
	require.NoError(w.t, back.Save(ctx, w.st))
	w.carryOut(back, false, w.powers())
}

func (w *realm) rules() privilege.Rules {
	id, err := w.conn.Identity(context.Background())
	require.NoError(w.t, err)
	return privilege.RulesFor(id, w.set.Audit.PrivilegedGroups)
}

func (w *realm) protection() batch.Protection {
	ctx := context.Background()
	id, err := w.conn.Identity(ctx)
	require.NoError(w.t, err)
	p, err := batch.NewProtection(ctx, w.conn, id, &w.yard, w.set.Audit.PrivilegedGroups, w.exempt, time.Now(), w.bound)
	require.NoError(w.t, err)
	return p
}

func (w *realm) sign(b *batch.Batch) {
	ctx := context.Background()
	signers, err := batch.ReadSigners(w.set.Signing.AllowedSigners)
	require.NoError(w.t, err)
	armored, err := batch.Sign(b, w.key)
	require.NoError(w.t, err)
	sig, err := signers.Verify(b, armored, time.Now())
	require.NoError(w.t, err)
	require.NoError(w.t, b.AddSignature(ctx, w.st, signers, sig, "mira"))
}

// stage makes a random batch of people and groups.
func (w *realm) stage() *batch.Batch {
	ctx := context.Background()
	o := batch.Order{By: "tester", At: time.Now(), Text: "by {batch}", EvenEnabled: w.r.IntN(2) == 0, Server: w.conn.HostName(),
		Expires: time.Now().AddDate(0, 1, 0).Truncate(time.Hour)}
	pool := [][]string{{batch.Describe}, {batch.Disable}, {batch.Enable}, {batch.Move}, {batch.LeaveGroups}, {batch.LeaveGroup}, {batch.JoinGroup}, {batch.Delete},
		{batch.Disable, batch.LeaveGroups, batch.Move}, {batch.Disable, batch.Delete}, {batch.Move, batch.JoinGroup}, {batch.Set}}
	if w.d == directory.AD {
		pool = append(pool, []string{batch.Expire})
	}
	o.Actions = pool[w.r.IntN(len(pool))]
	var values []batch.Assignment
	if o.Actions[0] == batch.Set {
		values = []batch.Assignment{{Attr: "department", New: "Workshop"}}
	}
	if slices.Contains(o.Actions, batch.Move) {
		o.To = w.dn("ou="+[]string{"Parked", "Parked", "Left", "Quiet"}[w.r.IntN(4)], "")
	}
	if slices.Contains(o.Actions, batch.JoinGroup) || slices.Contains(o.Actions, batch.LeaveGroup) {
		found, err := w.conn.Get(ctx, []string{w.groups[w.r.IntN(len(w.groups))]})
		require.NoError(w.t, err)
		o.Groups = found
	}
	var candidates []batch.Candidate
	for _, dn := range slices.Concat(w.people, w.groups) {
		if e, err := w.conn.Get(ctx, []string{dn}); err == nil && len(e) == 1 && w.r.IntN(3) > 0 {
			candidates = append(candidates, batch.Candidate{Entry: e[0], Values: values})
		}
	}
	id, err := w.conn.Identity(ctx)
	require.NoError(w.t, err)
	holders, err := privilege.Read(ctx, w.conn, w.d, w.rules(), time.Now())
	require.NoError(w.t, err)
	s := &batch.Stager{From: w.conn, Identity: id, Dialect: w.d, Settings: w.set, Privilege: holders, Catalog: audit.Checks, Protection: w.protection(), DefaultPolicy: w.policy}
	b, refusals, err := s.Stage(ctx, o, candidates)
	w.stopped += len(refusals)
	if errors.Is(err, batch.ErrNothing) {
		return nil
	}
	require.NoError(w.t, err)
	require.NoError(w.t, b.Save(ctx, w.st))
	return b
}

// foretold holds what a dry run said against what became of the lines. One line
// may change what another's guards look at, so of several only those count that
// were done and should have been refused.
func (w *realm) foretold(b *batch.Batch, f *carry.Foretold, dryErr, err error) {
	if err != nil {
		if !errors.Is(err, batch.ErrNotSigned) {
			require.EqualError(w.t, dryErr, err.Error())
		}
		return
	}
	require.NoError(w.t, dryErr)
	for _, l := range f.Lines {
		is := b.Lines[l.Line.N-1]
		done := is.State == batch.Applied || is.State == batch.InPart
		say := fmt.Sprintf("%v of %s: foretold %s (%s), then %s (%s)", b.Actions, is.DN, l.State, l.Note, is.State, is.Note)
		switch {
		case len(b.Lines) > 1:
			require.False(w.t, done && l.State == batch.Refused, say)
		case is.State == batch.Waiting:
		case done:
			require.Equal(w.t, batch.Applied, l.State, say)
		default:
			require.Equal(w.t, is.State, l.State, say)
		}
	}
}

// carryOut runs a batch and holds what it did against the rules.
func (w *realm) carryOut(b *batch.Batch, signed bool, promised map[string][]string) {
	before, powers := w.picture(), w.powers()
	barred := w.untouchable(before)
	r := &carry.Job{Store: w.st, Batch: b, Server: w.conn, Protection: w.protection(), Settings: w.set, DefaultPolicy: w.policy, By: "tester", Now: time.Now}
	pace := carry.Pace{Connections: 1 + w.r.IntN(3)}
	foretold, dryErr := r.DryRun(context.Background(), pace)
	w.same(before, w.picture())
	res, err := r.Run(context.Background(), pace)
	w.foretold(b, foretold, dryErr, err)
	if errors.Is(err, batch.ErrNotSigned) {
		w.stopped += len(b.Lines)
		w.same(before, w.picture())
		return
	}
	if err != nil {
		require.ErrorContains(w.t, err, "privileged", "%v", b.Actions)
		w.same(before, w.picture())
		return
	}
	w.done += res.Counts[batch.Applied]
	w.stopped += res.Counts[batch.Refused]
	after := w.picture()
	note := func() string {
		text := fmt.Sprintf("batch %d %v, signed %v; scope %v, left out %v, exempt %d, privileged %v", b.ID, b.Actions, signed, w.yard.Scope, w.yard.LeaveOut, len(w.exempt), w.set.Audit.PrivilegedGroups)
		for i := range b.Lines {
			l := &b.Lines[i]
			text += fmt.Sprintf("\n  %s: %s %s", l.DN, l.State, l.Note)
		}
		return text
	}
	for id, was := range before {
		if !barred[id] {
			continue
		}
		now, there := after[id]
		require.True(w.t, there, "%s is protected, and gone\n%s", was.DN, note())
		require.Equal(w.t, was.DN, now.DN, "%s is protected, and elsewhere\n%s", was.DN, note())
		require.Equal(w.t, w.apart(was, before, after), w.apart(now, before, after), "%s is protected, and changed\n%s", was.DN, note())
	}
	given := func(id, group string) bool { // by a line that says so
		return slices.ContainsFunc(b.Lines, func(l batch.Line) bool {
			return l.ID == source.ShowIdentity(w.d, id) && slices.Contains(l.Joins(), group)
		})
	}
	w.powersKept(before, after, powers, signed, promised, given, note)
	w.referencesKept(before, after, note)
}

// same says that nothing at all has changed.
func (w *realm) same(before, after map[string]directory.Entry) {
	require.Len(w.t, after, len(before))
	for id, was := range before {
		require.Equal(w.t, was.DN, after[id].DN)
		require.Equal(w.t, w.apart(was, before, after), w.apart(after[id], before, after), was.DN)
	}
}

// picture is every entry by its identity.
func (w *realm) picture() map[string]directory.Entry {
	all := map[string]directory.Entry{}
	for _, e := range w.dir.Dump() {
		for _, back := range []string{"memberOf", "managedObjects", "directReports", "uSNChanged", "whenChanged"} {
			e.Set(back) // what a server keeps by itself
		}
		if e.First("isDeleted") != "TRUE" {
			all[e.First(w.d.Identity.String())] = e
		}
	}
	return all
}

// untouchable says, by the words of the rules, what must stay as it is.
func (w *realm) untouchable(all map[string]directory.Entry) map[string]bool {
	out := map[string]bool{}
	for id, e := range all {
		dn := strings.ToLower(e.DN)
		below := func(base string) bool {
			return dn == strings.ToLower(base) || strings.HasSuffix(dn, ","+strings.ToLower(base))
		}
		rid := directory.RID(e.First("objectSid"))
		stays := e.First("isCriticalSystemObject") == "TRUE" || rid > 0 && rid < 1000 || dn == strings.ToLower(w.bound) ||
			slices.ContainsFunc(w.yard.LeaveOut, below) || len(w.yard.Scope) > 0 && !slices.ContainsFunc(w.yard.Scope, below)
		for _, x := range w.exempt {
			stays = stays || x.Match.Subtree != "" && below(x.Match.Subtree) || x.Match.Account != "" && strings.EqualFold(directory.LeafValue(e.DN), x.Match.Account)
		}
		out[id] = stays
	}
	return out
}

// apart is an entry without what a server keeps by itself, and with names of
// others as who they are. Members of built-in groups are for signatures.
func (w *realm) apart(e directory.Entry, before, after map[string]directory.Entry) map[string][]string {
	out := map[string][]string{}
	for _, a := range e.Attrs {
		name := strings.ToLower(a.Name)
		if name == "distinguishedname" {
			continue
		}
		builtIn := directory.RID(e.First("objectSid")) > 0 && directory.RID(e.First("objectSid")) < 1000
		if name == "member" && builtIn {
			continue
		}
		var values []string
		for _, v := range a.Values {
			if w.d == directory.AD && slices.Contains([]string{"member", "manager", "managedby"}, name) {
				if v = who(w.d, v, before, after); v == "" {
					continue // the server itself takes away what names the deleted
				}
			}
			values = append(values, v)
		}
		slices.Sort(values)
		if len(values) > 0 {
			out[name] = values
		}
	}
	return out
}

// who is the identity of the entry of a name, as it is or was; "" for one that
// was deleted.
func who(d *directory.Dialect, dn string, before, after map[string]directory.Entry) string {
	for _, all := range []map[string]directory.Entry{after, before} {
		for id, e := range all {
			if _, stays := after[id]; strings.EqualFold(e.DN, dn) && stays {
				return id
			}
		}
	}
	return ""
}

// powers are the privileged groups that each account and group reaches, by its
// identity, found by adding whatever lists anything found so far.
func (w *realm) powers() map[string][]string {
	all := w.picture()
	out := map[string][]string{}
	for id := range all {
		e := all[id]
		var names []string
		isGroup := func(g *directory.Entry) bool {
			return slices.ContainsFunc([]string{"group", "groupOfNames", "groupOfUniqueNames", "posixGroup"}, g.HasClass)
		}
		rights := func(g *directory.Entry) bool {
			return g.First("groupType") == "" || strings.HasPrefix(g.First("groupType"), "-")
		}
		power := func(g *directory.Entry) bool {
			rid := directory.RID(g.First("objectSid"))
			return slices.Contains([]uint32{512, 544}, rid) || slices.ContainsFunc(w.set.Audit.PrivilegedGroups, func(n string) bool { return strings.EqualFold(n, g.DN) })
		}
		if isGroup(&e) && power(&e) {
			names = append(names, e.DN)
		}
		in := map[string]bool{}
		todo := []*directory.Entry{&e}
		if isGroup(&e) && !rights(&e) {
			todo = nil
		}
		for len(todo) > 0 {
			one := todo[0]
			todo = todo[1:]
			for other := range all {
				g := all[other]
				if !isGroup(&g) || in[other] || !rights(&g) {
					continue
				}
				names2 := func(v string) bool { return strings.EqualFold(v, one.DN) }
				lists := slices.ContainsFunc(g.Get("member"), names2) || slices.ContainsFunc(g.Get("uniqueMember"), names2) ||
					one.Has("uid") && slices.Contains(g.Get("memberUid"), one.First("uid"))
				if one == &e && !isGroup(&e) {
					lists = lists || one.Has("primaryGroupID") && one.First("primaryGroupID") == fmt.Sprint(directory.RID(g.First("objectSid"))) ||
						w.d != directory.AD && g.HasClass("posixGroup") && one.Has("gidNumber") && g.First("gidNumber") == one.First("gidNumber")
				}
				if lists {
					in[other] = true
					if power(&g) && !slices.Contains(names, g.DN) {
						names = append(names, g.DN)
					}
					todo = append(todo, &g)
				}
			}
		}
		slices.Sort(names)
		out[id] = names
	}
	return out
}

func (w *realm) enabled(e directory.Entry) bool {
	flags, _ := directory.ParseFlags(e.First("userAccountControl"))
	return flags&directory.UACDisabled == 0 && e.First("pwdAccountLockedTime") == "" && (e.First("accountExpires") == "" || e.First("accountExpires") == "0")
}

// powersKept says that nobody has more or less power than before, and that
// nobody who has any was changed, unless somebody has agreed to a batch that was
// about that power already; and that no privileged group has lost its last
// enabled member.
func (w *realm) powersKept(before, after map[string]directory.Entry, powers map[string][]string, signed bool, promised map[string][]string, given func(id, group string) bool, note func() string) {
	now := w.powers()
	for id, was := range before {
		isNow, there := after[id]
		changed := !there || !slices.Equal(powers[id], now[id]) || w.enabled(was) != w.enabled(isNow)
		touched := changed || was.DN != isNow.DN || was.First("description") != isNow.First("description") || was.First("department") != isNow.First("department")
		power := slices.Concat(powers[id], now[id])
		if !touched || len(power) == 0 || !there && len(powers[id]) == 0 {
			continue
		}
		moved := there && was.DN != isNow.DN && !changed && !strings.EqualFold(parent(was.DN), parent(isNow.DN)) && w.alongWith(was, before, after)
		if moved {
			continue // it stands below somebody who was moved
		}
		require.True(w.t, signed, "%s has power (%v, then %v) and was changed unsigned\n%s", was.DN, powers[id], now[id], note())
		for _, g := range powers[id] {
			require.True(w.t, slices.Contains(promised[id], g) || given(id, directory.LeafValue(g)) || !changed && len(promised[id]) > 0, "%s has power by %s (%v, then %v; known %v), which nobody could know who signed\n%s", was.DN, g, powers[id], now[id], promised[id], note())
		}
	}
	count := func(all map[string]directory.Entry, powers map[string][]string) map[string]int {
		n := map[string]int{}
		for id, e := range all {
			if (e.HasClass("user") || e.HasClass("inetOrgPerson")) && w.enabled(e) {
				for _, g := range powers[id] {
					n[g]++
				}
			}
		}
		return n
	}
	had, has := count(before, powers), count(after, now)
	for g := range maps.Keys(had) {
		if w.dir.Entry(g) != nil {
			require.Positive(w.t, has[g], "%s has no enabled member left\n%s", g, note())
		}
	}
}

func parent(dn string) string { _, p := directory.SplitDN(dn); return p }

// alongWith tells whether an entry has moved with the one above it.
func (w *realm) alongWith(e directory.Entry, before, after map[string]directory.Entry) bool {
	for id, above := range before {
		if strings.EqualFold(above.DN, parent(e.DN)) {
			return !strings.EqualFold(above.DN, after[id].DN)
		}
	}
	return false
}

// referencesKept says that whoever named an entry that was moved names it
// still.
func (w *realm) referencesKept(before, after map[string]directory.Entry, note func() string) {
	for id, was := range before {
		now, there := after[id]
		if !there {
			continue
		}
		for _, attr := range []string{"member", "uniqueMember", "manager", "managedBy"} {
			for _, v := range now.Get(attr) {
				if slices.ContainsFunc(was.Get(attr), func(o string) bool { return strings.EqualFold(o, v) }) {
					for target, e := range before {
						moved, still := after[target]
						require.False(w.t, strings.EqualFold(e.DN, v) && still && !strings.EqualFold(moved.DN, v), "%s of %s names %s, which is %s now\n%s", attr, now.DN, v, moved.DN, note())
					}
				}
			}
		}
	}
}
