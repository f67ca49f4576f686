// Package practice is a directory in memory with the behaviour of the `ad`
// schema that the tool relies on: entries with identities of their own,
// linked membership, guarded modifies, renames, deletion into a container of
// deleted objects and their return, and the usual refusals. Server puts it
// on a socket as an LDAP server.
//
// It serves the demo, and tests that need a server to fail at the worst
// moment. A suite of behaviours is run against it and against real servers
// alike, so that it cannot drift from the truth.
package practice

import (
	"cmp"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/ldif"
)

// Directory is the data of the practice server. Its methods answer as an
// LDAP server does: with a *ldap.Error where they refuse.
type Directory struct {
	// ChangeOnReturn lets the write that brings a deleted object back change
	// its attributes too, which Samba refuses.
	ChangeOnReturn bool

	mu      sync.Mutex
	dialect *directory.Dialect
	base    string
	sid     string // S-1-5-21-… of the domain
	nextRID uint32
	serial  uint64 // makes GUIDs and update numbers
	// database is what tells this one from another that numbers its changes too.
	database string
	listed   map[string]uint64 // by objectGUID: the number of the last change of its access list
	now      func() time.Time
	entries  map[string]*directory.Entry // by folded name
	index    *index
	byGUID   map[string]string          // raw objectGUID → folded name
	kids     map[string]map[string]bool // folded parent → folded children
	linked   map[string]map[link]bool   // folded target → who names it, and how
	denied   map[string][]string        // by folded name: what access lists deny
	closed   map[string]bool            // by objectGUID: whose list was written, and whether it takes nothing in from above

	passwords map[string]string // by raw objectGUID: those that were set, to sign in with

	behind Behind           // nil where it holds everything
	taken  map[string]taken // from there, by their folded names there
	asked  map[string]bool  // there
	broken error            // what came from there instead of an answer
}

// link is an entry, by its folded name, and the attribute by which it names
// another.
type link struct{ from, attr string }

// backlinks maps the attributes that name another entry to the attribute the
// server shows at that entry.
var backlinks = map[string]string{"member": "memberOf", "manager": "directReports", "managedby": "managedObjects"}

// serverOnly are attributes that no client may write.
var serverOnly = []string{"objectGUID", "objectSid", "memberOf", "directReports", "managedObjects", "whenCreated",
	"whenChanged", "uSNChanged", "isDeleted", "lastKnownParent", "name", "distinguishedName", "msDS-User-Account-Control-Computed"}

var singleValued = []string{
	"userAccountControl",
	"sAMAccountName",
	"userPrincipalName",
	"displayName",
	"manager",
	"managedBy",
	"employeeID",
	"lockoutTime",
	"accountExpires",
	"pwdLastSet",
	"primaryGroupID",
	"mail",
	"givenName",
	"sn",
	"department",
}

// New returns a directory with what every domain has: its top entry, the
// groups of its administrators, and its container of deleted objects. The clock dates what is written.
func New(base, domainSID string, now func() time.Time) *Directory {
	d := empty(directory.AD, base, now)
	d.sid = domainSID
	rawSID, err := directory.EncodeSID(domainSID)
	if err != nil {
		panic(err) // the caller's constant
	}
	top := directory.Entry{DN: base}
	top.Set("objectClass", "top", "domain", "domainDNS")
	top.Set("objectSid", rawSID)
	top.Set("lockoutDuration", "-18000000000")
	top.Set("lockoutThreshold", "5")
	top.Set("msDS-LogonTimeSyncInterval", "14")
	top.Set("wellKnownObjects", directory.WellKnownObjects(base)...)
	d.put(&top)
	for _, e := range []struct{ dn, class, sid string }{{"CN=Users," + base, "container", ""}, {"CN=Builtin," + base, "container", ""},
		{"CN=Domain Admins,CN=Users," + base, "group", domainSID + "-512"}, {"CN=Administrators,CN=Builtin," + base, "group", "S-1-5-32-544"}} {
		made := directory.Entry{DN: e.dn}
		made.Set("objectClass", "top", e.class)
		made.Set("isCriticalSystemObject", "TRUE")
		if e.sid != "" {
			raw, err := directory.EncodeSID(e.sid)
			if err != nil {
				panic(err)
			}
			made.Set("objectSid", raw)
			made.Set("sAMAccountName", directory.LeafValue(e.dn))
		}
		d.put(&made)
	}
	d.putDeletedObjects()
	return d
}

// putDeletedObjects makes the container of deleted objects.
func (d *Directory) putDeletedObjects() {
	deleted := directory.Entry{DN: d.deletedObjects()}
	deleted.Set("objectClass", "top", "container")
	deleted.Set("isDeleted", "TRUE")
	deleted.Set("isCriticalSystemObject", "TRUE")
	d.put(&deleted)
}

// Identity is what a copied directory is called.
type Identity struct {
	Dialect *directory.Dialect
	Base    string // of the naming context
	SID     string // of the domain, on the `ad` schema
}

func empty(dialect *directory.Dialect, base string, now func() time.Time) *Directory {
	return &Directory{dialect: dialect, base: base, nextRID: 1103, now: now, database: newDatabase(), listed: map[string]uint64{},
		entries: map[string]*directory.Entry{}, byGUID: map[string]string{}, kids: map[string]map[string]bool{}, linked: map[string]map[link]bool{}, index: newIndex(dialect), passwords: map[string]string{}}
}

// Copy returns a directory that holds entries as they are, of any dialect, for
// a rehearsal. It takes them over. On dialects whose servers do not keep links by
// themselves, this one does not either, and nothing is kept of what is
// deleted.
func Copy(id Identity, entries []directory.Entry, now func() time.Time) *Directory {
	d := empty(id.Dialect, id.Base, now)
	d.sid = id.SID
	for i := range entries {
		e := entries[i]
		if d.dialect == directory.AD {
			for _, back := range backlinks {
				e.Set(back)
			}
		}
		d.put(&e)
		d.nextRID = max(d.nextRID, directory.RID(e.First("objectSid"))+1)
	}
	if d.dialect == directory.AD && d.entries[directory.FoldDN(d.deletedObjects())] == nil {
		d.putDeletedObjects()
	}
	return d
}

// Load puts the entries of an LDIF file into the directory as they are, with
// their own times, identities and flags.
func (d *Directory) Load(r io.Reader) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	in := ldif.NewReader(r)
	for {
		rec, err := in.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		e := rec.Clone()
		for _, back := range backlinks {
			e.Set(back)
		}
		if key := directory.FoldDN(e.DN); d.entries[key] != nil {
			d.forget(key)
		}
		d.put(&e)
		d.nextRID = max(d.nextRID, directory.RID(e.First("objectSid"))+1)
	}
}

// put stores an entry and gives it what every entry has.
func (d *Directory) put(e *directory.Entry) {
	key := directory.FoldDN(e.DN)
	_, parent := directory.SplitDN(e.DN)
	d.serial++
	d.entries[key] = e
	if d.kids[directory.FoldDN(parent)] == nil {
		d.kids[directory.FoldDN(parent)] = map[string]bool{}
	}
	d.kids[directory.FoldDN(parent)][key] = true
	defer func() { d.link(key, e, true) }()
	if d.dialect != directory.AD {
		if id := d.dialect.Identity.String(); !e.Has(id) {
			e.Set(id, fmt.Sprintf("00000000-0000-4000-8000-%012d", d.serial))
		}
		return
	}
	if !e.Has("objectGUID") {
		sum := sha256.Sum256(binary.LittleEndian.AppendUint64([]byte(d.sid), d.serial))
		e.Set("objectGUID", string(sum[:16]))
	}
	if !e.Has("whenCreated") {
		e.Set("whenCreated", d.stamp())
	}
	if !e.Has("whenChanged") {
		e.Set("whenChanged", d.stamp())
	}
	e.Set("uSNChanged", strconv.FormatUint(d.serial, 10))
	e.Set("distinguishedName", e.DN)
	e.Set("name", directory.LeafValue(e.DN))
	d.byGUID[e.First("objectGUID")] = key
}

func (d *Directory) forget(key string) {
	e := d.entries[key]
	d.link(key, e, false)
	_, parent := directory.SplitDN(e.DN)
	delete(d.kids[directory.FoldDN(parent)], key)
	delete(d.entries, key)
	if guid := e.First("objectGUID"); d.byGUID[guid] == key {
		delete(d.byGUID, guid)
	}
}

// link keeps the indexes: of who names whom, and of what is asked most.
func (d *Directory) link(key string, e *directory.Entry, on bool) {
	d.index.set(key, e, on)
	for attr := range backlinks {
		for _, target := range e.Get(attr) {
			t := directory.FoldDN(target)
			if d.linked[t] == nil {
				d.linked[t] = map[link]bool{}
			}
			if on {
				d.linked[t][link{key, attr}] = true
			} else {
				delete(d.linked[t], link{key, attr})
			}
		}
	}
}

// key finds the folded name for a name as a client writes it: a DN, or the
// form <GUID=…> (MS-ADTS 3.1.1.3.1.2.4).
func (d *Directory) key(dn string) string {
	guid, ok := strings.CutPrefix(dn, "<GUID=")
	if !ok {
		return directory.FoldDN(dn)
	}
	raw, err := directory.ParseGUID(strings.TrimSuffix(guid, ">"))
	if err != nil {
		return dn
	}
	if d.byGUID[raw] == "" && d.behind != nil {
		d.wantFilter("(objectGUID=" + filter.Escape(raw) + ")")
	}
	if key, ok := d.byGUID[raw]; ok {
		return key
	}
	return dn
}

// identities are what entries are known by while they may be renamed: on the `ad` schema
// their identities, elsewhere their folded names.
func (d *Directory) identities(keys []string) []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.dialect != directory.AD {
		return keys
	}
	ids := make([]string, 0, len(keys))
	for _, key := range keys {
		if e := d.entries[key]; e != nil {
			ids = append(ids, e.First("objectGUID"))
		}
	}
	return ids
}

// standing are the folded names that entries have now, of what identities returned.
func (d *Directory) standing(ids []string, showDeleted bool) []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.dialect != directory.AD {
		return ids
	}
	keys := make([]string, 0, len(ids))
	for _, id := range ids {
		if key, ok := d.byGUID[id]; ok && (showDeleted || !d.entries[key].Has("isDeleted")) {
			keys = append(keys, key)
		}
	}
	return keys
}

func (d *Directory) stamp() string {
	return d.now().UTC().Format("20060102150405") + ".0Z"
}

func (d *Directory) deletedObjects() string { return "CN=Deleted Objects," + d.base }

func refuse(code uint16, format string, args ...any) error {
	return &ldap.Error{ResultCode: code, Err: fmt.Errorf(format, args...)}
}

// view returns the entry as a reader sees it: with the attributes that the
// server works out.
func (d *Directory) view(key string) *directory.Entry {
	e := d.entries[key]
	v := directory.Entry{DN: e.DN, Attrs: slices.Clone(e.Attrs)}
	if d.dialect != directory.AD {
		return &v
	}
	named := map[string][]string{}
	for l := range d.linked[key] {
		if d.behind != nil && l.attr != "member" {
			continue // those are shown as they were behind: not all who name it are here
		}
		named[backlinks[l.attr]] = append(named[backlinks[l.attr]], d.entries[l.from].DN)
	}
	for back, dns := range named {
		dns = append(dns, v.Get(back)...)
		slices.Sort(dns)
		v.Set(back, dns...)
	}
	if e.HasClass("user") {
		flags, _ := directory.ParseFlags(e.First("userAccountControl"))
		computed := int64(0)
		if t, err := directory.ParseFileTime(e.First("lockoutTime")); err == nil && !t.IsZero() &&
			flags&directory.UACDisabled == 0 {
			if ticks, _ := strconv.ParseInt(d.entries[directory.FoldDN(d.base)].First("lockoutDuration"), 10, 64); t.Add(time.Duration(-ticks) * 100).
				After(d.now()) {
				computed = directory.UACLockedOut
			}
		}
		v.Set("msDS-User-Account-Control-Computed", strconv.FormatInt(computed, 10))
	}
	return &v
}

// SignIn dates a sign-in of an entry, which a server does not count as a change of it.
func (d *Directory) SignIn(dn string, at time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.entries[directory.FoldDN(dn)].Set("lastLogon", directory.FormatFileTime(at))
}

// Edit changes an entry behind everybody's back, past all rules. Tests use
// it as the colleague who is also at work.
func (d *Directory) Edit(dn string, change func(e *directory.Entry)) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	key := directory.FoldDN(dn)
	e := d.entries[key]
	if e == nil {
		return false
	}
	d.link(key, e, false)
	change(e)
	d.count(e)
	d.link(key, e, true)
	return true
}

// Entry returns a copy of an entry as a reader sees it, nil where there is
// none.
func (d *Directory) Entry(dn string) *directory.Entry {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.entries[directory.FoldDN(dn)] == nil {
		return nil
	}
	e := d.view(directory.FoldDN(dn)).Clone()
	return &e
}

// Dump returns every entry as a reader sees it, sorted by name.
func (d *Directory) Dump() []directory.Entry {
	d.mu.Lock()
	defer d.mu.Unlock()
	var all []directory.Entry
	for _, key := range d.sorted("", 2) {
		all = append(all, d.view(key).Clone())
	}
	return all
}

// among returns those of some folded names that are in scope, parents before
// children.
func (d *Directory) among(keys []string, base string, scope int) []string {
	return byDepth(slices.DeleteFunc(keys, func(k string) bool {
		switch scope {
		case ldap.ScopeBaseObject:
			return k != base
		case ldap.ScopeSingleLevel:
			return !d.kids[base][k]
		}
		return !directory.Under(k, base)
	}))
}

// Each hands every entry over as a reader sees it, sorted by name, until yield
// fails. The entries must not be kept.
func (d *Directory) Each(yield func(*directory.Entry) error) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, key := range d.sorted("", 2) {
		if d.entries[key].Has("isDeleted") {
			continue
		}
		if err := yield(d.view(key)); err != nil {
			return err
		}
	}
	return nil
}

// sorted returns the folded names in scope, parents before children.
func (d *Directory) sorted(base string, scope int) []string {
	var keys []string
	switch scope {
	case ldap.ScopeBaseObject:
		keys = []string{base}
	case ldap.ScopeSingleLevel:
		for k := range d.kids[base] {
			keys = append(keys, k)
		}
	default:
		for k := range d.entries {
			if directory.Under(k, base) {
				keys = append(keys, k)
			}
		}
	}
	return byDepth(keys)
}

func byDepth(keys []string) []string {
	slices.SortFunc(keys, func(a, b string) int { return cmp.Or(len(a)-len(b), strings.Compare(a, b)) })
	return keys
}

// superclasses are what the server adds to the class of a new entry.
var superclasses = map[string][]string{
	"user":               {"top", "person", "organizationalPerson", "user"},
	"computer":           {"top", "person", "organizationalPerson", "user", "computer"},
	"group":              {"top", "group"},
	"organizationalunit": {"top", "organizationalUnit"},
}

// Add makes an entry.
func (d *Directory) Add(e directory.Entry) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	key := directory.FoldDN(e.DN)
	_, parent := directory.SplitDN(e.DN)
	d.wantNamed(key, directory.FoldDN(parent))
	switch {
	case d.entries[key] != nil:
		return refuse(ldap.LDAPResultEntryAlreadyExists, "%s exists", e.DN)
	case d.entries[directory.FoldDN(parent)] == nil:
		return refuse(ldap.LDAPResultNoSuchObject, "no parent %s", parent)
	}
	for _, a := range e.Attrs {
		if slices.ContainsFunc(serverOnly, func(n string) bool { return strings.EqualFold(n, a.Name) }) {
			return refuse(ldap.LDAPResultUnwillingToPerform, "%s is the server's", a.Name)
		}
		if err := d.checkLinks(a.Name, a.Values); err != nil {
			return err
		}
	}
	if err := d.unique(key, e.First("sAMAccountName")); err != nil {
		return err
	}
	e = e.Clone()
	if d.dialect != directory.AD {
		d.put(&e)
		return nil
	}
	var classes []string
	for _, class := range e.Get("objectClass") {
		for _, c := range append(slices.Clone(superclasses[strings.ToLower(class)]), class) {
			if !slices.ContainsFunc(classes, func(have string) bool { return strings.EqualFold(have, c) }) {
				classes = append(classes, c)
			}
		}
	}
	e.Set("objectClass", classes...)
	if e.HasClass("user") || e.HasClass("group") || e.HasClass("computer") {
		sid, err := directory.EncodeSID(d.sid + "-" + strconv.FormatUint(uint64(d.nextRID), 10))
		if err != nil {
			return err
		}
		d.nextRID++
		e.Set("objectSid", sid)
		if !e.Has("sAMAccountName") {
			e.Set("sAMAccountName", directory.LeafValue(e.DN))
		}
	}
	if e.HasClass("user") {
		for name, value := range map[string]string{"userAccountControl": "546", "accountExpires": "9223372036854775807",
			"pwdLastSet": "0", "lastLogon": "0", "primaryGroupID": "513"} {
			if !e.Has(name) {
				e.Set(name, value)
			}
		}
	}
	rdn, err := directory.ParseDN(e.DN)
	if err != nil {
		return refuse(ldap.LDAPResultInvalidDNSyntax, "%v", err)
	}
	e.Set(rdn[0][0].Type, rdn[0][0].Value)
	d.put(&e)
	return nil
}

func (d *Directory) unique(key, logon string) error {
	if logon == "" {
		return nil
	}
	for _, other := range d.named(logon) {
		if e := d.entries[other]; other != key && strings.EqualFold(e.First("sAMAccountName"), logon) &&
			!e.Has("isDeleted") {
			return refuse(ldap.LDAPResultEntryAlreadyExists, "sAMAccountName %s is taken", logon)
		}
	}
	return nil
}

// named returns all that can have a logon name.
func (d *Directory) named(logon string) []string {
	if d.behind != nil {
		d.wantFilter("(sAMAccountName=" + filter.Escape(logon) + ")")
	}
	eq, ok := filter.EqualityOf(d.dialect, "sAMAccountName")
	if form, valid := eq.Form(logon); ok && valid {
		if keys, indexed := d.index.having(eq.Name, form); indexed {
			return keys
		}
	}
	return slices.Collect(maps.Keys(d.entries))
}

func (d *Directory) checkLinks(attr string, targets []string) error {
	if backlinks[strings.ToLower(attr)] == "" || !d.dialect.KeepsLinks {
		return nil
	}
	for _, t := range targets {
		d.wantNamed(directory.FoldDN(t))
		if e := d.entries[directory.FoldDN(t)]; e == nil || e.Has("isDeleted") {
			return refuse(ldap.LDAPResultNoSuchObject, "%s names %s, which does not exist", attr, t)
		}
	}
	return nil
}

// Modify carries out the changes in order, all or none.
func (d *Directory) Modify(dn string, changes []ldap.Change, showDeleted bool) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	key := d.key(dn)
	d.wantNamed(key)
	e := d.entries[key]
	if e == nil || e.Has("isDeleted") && !showDeleted {
		return refuse(ldap.LDAPResultNoSuchObject, "no entry %s", dn)
	}
	if e.Has("isDeleted") {
		return d.reanimate(key, changes)
	}
	next := e.Clone()
	for _, c := range changes {
		if err := d.change(&next, c); err != nil {
			return err
		}
	}
	if d.dialect == directory.OpenLDAP && next.HasClass("groupOfNames") && !next.Has("member") {
		return refuse(ldap.LDAPResultObjectClassViolation, "object class 'groupOfNames' requires attribute 'member'")
	}
	if !strings.EqualFold(next.First("sAMAccountName"), e.First("sAMAccountName")) {
		if err := d.unique(key, next.First("sAMAccountName")); err != nil {
			return err
		}
	}
	d.replace(key, &next)
	return nil
}

func (d *Directory) replace(key string, next *directory.Entry) {
	old := d.entries[key]
	d.count(next)
	if d.dialect == directory.AD {
		next.Set("whenChanged", d.stamp())
	}
	d.entries[key] = next
	// Of a long list of members only what has changed is looked at.
	gone, came := differing(old, next)
	d.link(key, gone, false)
	d.link(key, came, true)
}

// differing returns what two states of an entry do not have in common.
func differing(a, b *directory.Entry) (onlyA, onlyB *directory.Entry) {
	onlyA, onlyB = &directory.Entry{DN: a.DN}, &directory.Entry{DN: b.DN}
	for _, attr := range slices.Concat(a.Attrs, b.Attrs) {
		x, y := a.Get(attr.Name), b.Get(attr.Name)
		for len(x) > 0 && len(y) > 0 && x[0] == y[0] {
			x, y = x[1:], y[1:]
		}
		for len(x) > 0 && len(y) > 0 && x[len(x)-1] == y[len(y)-1] {
			x, y = x[:len(x)-1], y[:len(y)-1]
		}
		onlyA.Set(attr.Name, x...)
		onlyB.Set(attr.Name, y...)
	}
	return onlyA, onlyB
}

func (d *Directory) change(e *directory.Entry, c ldap.Change) error {
	name, values := c.Modification.Type, c.Modification.Vals
	if d.dialect == directory.AD &&
		slices.ContainsFunc(serverOnly, func(n string) bool { return strings.EqualFold(n, name) }) {
		return refuse(ldap.LDAPResultUnwillingToPerform, "%s is the server's", name)
	}
	if strings.EqualFold(name, descriptor) && d.dialect == directory.AD {
		return d.permit(e, values)
	}
	if strings.EqualFold(name, "unicodePwd") {
		if len(values) == 1 {
			d.passwords[e.First("objectGUID")] = values[0] // kept beside the entry, where nobody reads it
		}
		return nil
	}
	if strings.EqualFold(name, "lockoutTime") && c.Operation != ldap.DeleteAttribute &&
		!slices.Equal(values, []string{"0"}) {
		return refuse(ldap.LDAPResultUnwillingToPerform, "lockoutTime can only be set to 0")
	}
	if c.Operation != ldap.DeleteAttribute {
		if err := d.checkLinks(name, values); err != nil {
			return err
		}
	}
	next, err := changed(e.Get(name), c.Operation, name, values)
	if err != nil {
		return err
	}
	if len(next) > 1 && slices.ContainsFunc(singleValued, func(n string) bool { return strings.EqualFold(n, name) }) {
		return refuse(ldap.LDAPResultConstraintViolation, "%s holds one value", name)
	}
	e.Set(name, next...)
	return nil
}

func changed(have []string, op uint, name string, values []string) ([]string, error) {
	same := func(a, b string) bool {
		if backlinks[strings.ToLower(name)] != "" {
			return directory.FoldDN(a) == directory.FoldDN(b)
		}
		return strings.EqualFold(a, b)
	}
	index := func(list []string, v string) int {
		return slices.IndexFunc(list, func(h string) bool { return same(h, v) })
	}
	switch op {
	case ldap.ReplaceAttribute:
		return values, nil
	case ldap.AddAttribute:
		next := slices.Clone(have)
		for _, v := range values {
			if index(next, v) >= 0 {
				if backlinks[strings.ToLower(name)] != "" {
					return nil, refuse(ldap.LDAPResultEntryAlreadyExists, "%s holds %s already", name, v)
				}
				return nil, refuse(ldap.LDAPResultAttributeOrValueExists, "%s holds %s already", name, v)
			}
			next = append(next, v)
		}
		return next, nil
	case ldap.DeleteAttribute:
		if len(have) == 0 {
			return nil, refuse(ldap.LDAPResultNoSuchAttribute, "no %s", name)
		}
		if len(values) == 0 {
			return nil, nil
		}
		next := slices.Clone(have)
		for _, v := range values {
			at := index(next, v)
			if at < 0 && backlinks[strings.ToLower(name)] != "" {
				return nil, refuse(ldap.LDAPResultUnwillingToPerform, "%s does not hold %s", name, v)
			}
			if at < 0 {
				return nil, refuse(ldap.LDAPResultNoSuchAttribute, "%s does not hold %s", name, v)
			}
			next = slices.Delete(next, at, at+1)
		}
		return next, nil
	}
	return nil, refuse(ldap.LDAPResultUnwillingToPerform, "unknown change %d", op)
}

// reanimate brings a deleted object back: a modify that deletes isDeleted
// and replaces distinguishedName. Some servers of the schema let it change
// other attributes in the same write.
func (d *Directory) reanimate(key string, changes []ldap.Change) error {
	next := d.entries[key].Clone()
	var to string
	var undeleted bool
	var rest []ldap.Change
	for _, c := range changes {
		switch strings.ToLower(c.Modification.Type) {
		case "isdeleted":
			undeleted = c.Operation == ldap.DeleteAttribute
		case "distinguishedname":
			if c.Operation == ldap.ReplaceAttribute && len(c.Modification.Vals) == 1 {
				to = c.Modification.Vals[0]
			}
		default:
			rest = append(rest, c)
		}
	}
	switch {
	case !undeleted || to == "":
		return refuse(ldap.LDAPResultUnwillingToPerform, "a deleted object can only be brought back")
	case len(rest) > 0 && !d.ChangeOnReturn:
		return refuse(ldap.LDAPResultNoSuchObject,
			"a deleted object's attributes cannot be changed") // what Samba answers
	}
	_, parent := directory.SplitDN(to)
	d.wantNamed(directory.FoldDN(parent), directory.FoldDN(to))
	if d.entries[directory.FoldDN(parent)] == nil {
		return refuse(ldap.LDAPResultNoSuchObject, "no parent %s", parent)
	}
	if d.entries[directory.FoldDN(to)] != nil {
		return refuse(ldap.LDAPResultEntryAlreadyExists, "%s exists", to)
	}
	next.Set("isDeleted")
	next.Set("lastKnownParent")
	if next.HasClass("user") {
		next.Set("userAccountControl", "512")
		for name, value := range map[string]string{"pwdLastSet": "0", "accountExpires": "9223372036854775807", "primaryGroupID": "513", "lastLogon": "0"} {
			next.Set(name, value)
		}
	}
	for _, c := range rest {
		if err := d.change(&next, c); err != nil {
			return err
		}
	}
	rdn, err := directory.ParseDN(to)
	if err != nil {
		return refuse(ldap.LDAPResultInvalidDNSyntax, "%v", err)
	}
	next.Set(rdn[0][0].Type, rdn[0][0].Value)
	next.Set("whenChanged", d.stamp())
	d.forget(key)
	next.DN = to
	d.put(&next)
	return nil
}

// keptWhenDeleted are the attributes a deleted object still has.
var keptWhenDeleted = []string{
	"objectClass",
	"objectGUID",
	"objectSid",
	"sAMAccountName",
	"userAccountControl",
	"whenCreated",
	"sIDHistory",
}

// Delete turns an entry into a deleted object. Everybody who named it stops
// naming it.
func (d *Directory) Delete(dn string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	key := d.key(dn)
	d.wantNamed(key)
	d.wantTree(key)
	e := d.entries[key]
	switch {
	case e == nil || e.Has("isDeleted"):
		return refuse(ldap.LDAPResultNoSuchObject, "no entry %s", dn)
	case len(d.kids[key]) > 0:
		return refuse(ldap.LDAPResultNotAllowedOnNonLeaf, "%s has entries below it", dn)
	case e.First("isCriticalSystemObject") == "TRUE":
		return refuse(ldap.LDAPResultUnwillingToPerform, "%s is a system object", dn)
	}
	if d.dialect != directory.AD {
		d.forget(key)
		return nil
	}
	guid, err := directory.FormatGUID(e.First("objectGUID"))
	if err != nil {
		return refuse(ldap.LDAPResultOther, "%v", err)
	}
	rdn, parent := directory.SplitDN(e.DN)
	kind, _, _ := strings.Cut(rdn, "=")
	object := directory.Entry{
		DN: kind + "=" + directory.EscapeDN(directory.LeafValue(e.DN)+"\nDEL:"+guid) + "," + d.deletedObjects(),
	}
	for _, name := range keptWhenDeleted {
		object.Set(name, e.Get(name)...)
	}
	object.Set("isDeleted", "TRUE")
	object.Set("lastKnownParent", parent)
	d.unlink(key)
	d.forget(key)
	d.put(&object)
	return nil
}

// unlink takes the entry out of everything that names it.
func (d *Directory) unlink(key string) {
	for l := range d.linked[key] {
		d.exchange(l, key, "")
	}
	delete(d.linked, key)
}

// exchange puts a name in the place of another in an entry that names it, or
// takes that away.
func (d *Directory) exchange(l link, key, name string) {
	e := d.entries[l.from]
	values := slices.Clone(e.Get(l.attr))
	at := slices.Index(values, d.entries[key].DN)
	if at < 0 {
		at = slices.IndexFunc(values, func(t string) bool { return directory.FoldDN(t) == key })
	}
	if at < 0 {
		return
	}
	link := directory.Entry{}
	link.Set(l.attr, values[at])
	d.index.set(l.from, &link, false)
	if name == "" {
		values = slices.Delete(values, at, at+1)
	} else {
		values[at] = name
		link.Set(l.attr, name)
		d.index.set(l.from, &link, true)
	}
	e.Set(l.attr, values...)
}

// ModifyDN renames or moves an entry with all below it. Links follow.
func (d *Directory) ModifyDN(dn, newRDN string, newSuperior *string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	key := d.key(dn)
	d.wantNamed(key)
	d.wantTree(key)
	e := d.entries[key]
	if e == nil || e.Has("isDeleted") {
		return refuse(ldap.LDAPResultNoSuchObject, "no entry %s", dn)
	}
	_, parent := directory.SplitDN(e.DN)
	if newSuperior != nil {
		parent = *newSuperior
	}
	target := newRDN + "," + parent
	levels, err := directory.ParseDN(target)
	if err != nil || len(levels[0]) != 1 {
		return refuse(ldap.LDAPResultInvalidDNSyntax, "%s is no name", target)
	}
	d.wantNamed(directory.FoldDN(parent), directory.FoldDN(target))
	switch to := directory.FoldDN(target); {
	case d.entries[directory.FoldDN(parent)] == nil:
		return refuse(ldap.LDAPResultOther, "no parent %s", parent) // what Samba answers
	case to != key && d.entries[to] != nil:
		return refuse(ldap.LDAPResultEntryAlreadyExists, "%s exists", target)
	case directory.Under(directory.FoldDN(parent), key):
		return refuse(ldap.LDAPResultUnwillingToPerform, "%s cannot move below itself", dn)
	}
	d.rename(key, target)
	moved := d.entries[directory.FoldDN(target)]
	next := moved.Clone()
	next.Set(levels[0][0].Type, levels[0][0].Value)
	d.replace(directory.FoldDN(target), &next)
	return nil
}

func (d *Directory) rename(key, target string) {
	var below []string
	for k := range d.kids[key] {
		below = append(below, k)
	}
	e := d.entries[key].Clone()
	for l := range d.linked[key] {
		switch {
		case !d.dialect.KeepsLinks:
		case l.from == key: // it names itself
			values := slices.Clone(e.Get(l.attr))
			for i := range values {
				if directory.FoldDN(values[i]) == key {
					values[i] = target
				}
			}
			e.Set(l.attr, values...)
		default:
			d.exchange(l, key, target)
		}
	}
	links := d.linked[key]
	d.forget(key)
	if d.dialect.KeepsLinks {
		delete(d.linked, key)
	} else {
		links = nil
	}
	e.DN = target
	number := e.Get("uSNChanged")
	d.put(&e)
	if d.dialect == directory.AD {
		e.Set("uSNChanged", number...) // whoever moves with a container is not written to
	}
	if len(links) > 0 {
		to := directory.FoldDN(target)
		if d.linked[to] == nil {
			d.linked[to] = map[link]bool{}
		}
		for l := range links {
			d.linked[to][l] = true
		}
	}
	for _, k := range below {
		rdn, _ := directory.SplitDN(d.entries[k].DN)
		d.rename(k, rdn+","+target)
	}
}
