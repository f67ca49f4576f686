package conformance

import (
	"encoding/binary"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/realserver"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

// auditor is an account that may read the test's part of a directory, but for
// what is denied to it.
type auditor struct {
	*subject
	dn, sid string // sid on the `ad` schema
	keeper  *source.Server
	yard    settings.Yard
	denied  []string // access rules of slapd, the first that fits counts
	undo    []func() // what takes denials back elsewhere
	config  *ldap.Conn
}

const auditorPassword = "Audit-secret1"

// auditor makes the account.
func (s *subject) auditor(t *testing.T) *auditor {
	t.Helper()
	a := &auditor{subject: s, keeper: s.connect(t), yard: s.yard}
	file := filepath.Join(t.TempDir(), "auditor")
	require.NoError(t, os.WriteFile(file, []byte(auditorPassword+"\n"), 0o600))
	a.yard.Base = s.base
	a.yard.Bind = settings.Bind{PasswordFile: file}
	if s.dir != nil {
		a.yard.Bind = s.yard.Bind // what is denied there is denied to everybody
		return a
	}
	if s.dialect == directory.AD {
		a.dn = s.DN("auditor", "Parked")
		attrs := map[string][]string{"objectClass": {"user"}, "sAMAccountName": {"auditor"}, "userAccountControl": {"512"}}
		if s.samba != nil {
			attrs["unicodePwd"] = []string{utf16Quoted(auditorPassword)}
		}
		s.add(t, a.keeper, a.dn, attrs)
		a.yard.Bind.DN = "auditor@larkmoor.example"
		sid, err := directory.ParseSID(s.entry(t, a.keeper, a.dn).First("objectSid"))
		require.NoError(t, err)
		a.sid = sid
		return a
	}
	a.dn = s.DN("auditor", "Parked")
	s.add(t, a.keeper, a.dn, map[string][]string{"objectClass": {"inetOrgPerson"}, "cn": {"auditor"}, "sn": {"auditor"}, "uid": {"auditor"}, "userPassword": {auditorPassword}})
	a.yard.Bind.DN = a.dn
	if s.dialect == directory.NS389 {
		a.rule(t, s.base, `(targetattr="* || nsUniqueId || createTimestamp || modifyTimestamp || nsAccountLock || numSubordinates || lastLoginTime || pwdUpdateTime || passwordExpirationTime || accountUnlockTime || passwordRetryCount || aci")(version 3.0; acl "auditor"; allow(read,search,compare) userdn="ldap:///`+a.dn+`";)`)
		a.undo = nil // this one stays
		return a
	}
	conn, err := ldap.DialURL(s.yard.Servers[0])
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	require.NoError(t, conn.Bind("cn=config", s.real.Password))
	a.config = conn
	a.apply(t)
	return a
}

// seeTop lets the auditor see the top of the directory, by which that is known from others,
// where only the test's part is for it to read.
func (a *auditor) seeTop(t *testing.T) {
	t.Helper()
	if a.dialect != directory.NS389 {
		return
	}
	_, top, _ := strings.Cut(a.base, ",")
	a.rule(t, top, `(targetfilter="(objectClass=domain)")(targetattr="* || nsUniqueId")(version 3.0; acl "top"; allow(read,search,compare) userdn="ldap:///`+a.dn+`";)`)
	t.Cleanup(a.undo[len(a.undo)-1])
	a.undo = nil
}

// rule adds an access rule to an entry of a 389 Directory Server.
func (a *auditor) rule(t *testing.T, dn, aci string) {
	t.Helper()
	req := ldap.NewModifyRequest(dn, nil)
	req.Add("aci", []string{aci})
	err := a.keeper.Conn().Modify(req)
	if ldap.IsErrorWithCode(err, ldap.LDAPResultAttributeOrValueExists) {
		return // it is denied already
	}
	require.NoError(t, err, aci)
	a.undo = append(a.undo, func() {
		back := ldap.NewModifyRequest(dn, nil)
		back.Delete("aci", []string{aci})
		require.NoError(t, a.keeper.Conn().Modify(back), aci)
	})
}

// apply writes slapd's access rules.
func (a *auditor) apply(t *testing.T) {
	t.Helper()
	rules := append([]string{`to attrs=userPassword by anonymous auth by * none`}, a.denied...)
	rules = append(rules, `to * by dn.exact="`+a.dn+`" read by users read by anonymous auth`)
	for i := range rules {
		rules[i] = fmt.Sprintf("{%d}%s", i, rules[i])
	}
	req := ldap.NewModifyRequest("olcDatabase={1}mdb,cn=config", nil)
	req.Replace("olcAccess", rules)
	require.NoError(t, a.config.Modify(req))
}

// deny takes the right to read attributes of an entry from the auditor, and of
// all that stands below it where below is said.
func (a *auditor) deny(t *testing.T, dn string, below bool, attrs ...string) {
	t.Helper()
	switch {
	case a.dir != nil:
		a.dir.Deny(dn, below, attrs...)
	case a.dialect == directory.AD:
		for _, attr := range attrs {
			a.prepend(t, dn, objectDenied(a.schemaID(t, attr), a.sid, 0x10, below))
		}
	case a.dialect == directory.NS389:
		target := fmt.Sprintf(`(target="ldap:///%s")`, dn)
		a.rule(t, dn, target+`(targetattr="`+strings.Join(attrs, " || ")+`")(version 3.0; acl "hidden"; deny(read,search,compare) userdn="ldap:///`+a.dn+`";)`)
	default:
		style := "dn.base"
		if below {
			style = "dn.subtree"
		}
		a.denied = append(a.denied, fmt.Sprintf(`to %s="%s" attrs=%s by dn.exact="%s" none by * break`, style, dn, strings.Join(attrs, ","), a.dn))
		a.apply(t)
	}
}

// schemaID is what an attribute is called in access lists.
func (a *auditor) schemaID(t *testing.T, attr string) string {
	t.Helper()
	found, err := a.keeper.Conn().Search(ldap.NewSearchRequest("CN=Schema,"+a.keeper.Root.Config, ldap.ScopeSingleLevel, ldap.NeverDerefAliases, 0, 0, false,
		"(lDAPDisplayName="+attr+")", []string{"schemaIDGUID"}, nil))
	require.NoError(t, err)
	require.Len(t, found.Entries, 1, attr)
	return found.Entries[0].GetAttributeValue("schemaIDGUID")
}

// objectDenied is an entry of an access list that denies rights to an
// attribute, or to a set of them (MS-DTYP 2.4.4.8).
func objectDenied(id, sid string, mask uint32, below bool) string {
	raw, err := directory.EncodeSID(sid)
	if err != nil {
		panic(err)
	}
	flags := byte(0)
	if below {
		flags = 0x2 // containers inherit it
	}
	body := binary.LittleEndian.AppendUint32(nil, mask)
	body = binary.LittleEndian.AppendUint32(body, 1)
	body = append(body, id...)
	body = append(body, raw...)
	ace := []byte{6, flags}
	ace = binary.LittleEndian.AppendUint16(ace, uint16(4+len(body)))
	return string(append(ace, body...))
}

// denied is an entry of an access list that denies rights to everything.
func denied(sid string, mask uint32, below bool) string {
	raw, err := directory.EncodeSID(sid)
	if err != nil {
		panic(err)
	}
	flags := byte(0)
	if below {
		flags = 0x2
	}
	ace := binary.LittleEndian.AppendUint16([]byte{1, flags}, uint16(8+len(raw)))
	return string(binary.LittleEndian.AppendUint32(ace, mask)) + raw
}

// prepend puts an entry in front of the access list of an entry.
func (a *auditor) prepend(t *testing.T, dn, ace string) {
	t.Helper()
	flags := ldap.NewControlMicrosoftSDFlags()
	flags.ControlValue = 4
	found, err := a.keeper.Conn().Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)", []string{"nTSecurityDescriptor"}, []ldap.Control{flags}))
	require.NoError(t, err)
	sd := []byte(found.Entries[0].GetAttributeValue("nTSecurityDescriptor"))
	at := binary.LittleEndian.Uint32(sd[16:])
	acl := append([]byte(nil), sd[at:]...)
	acl = acl[:binary.LittleEndian.Uint16(acl[2:])]
	acl[0] = 4 // object entries need this revision
	binary.LittleEndian.PutUint16(acl[4:], binary.LittleEndian.Uint16(acl[4:])+1)
	acl = append(acl[:8:8], append([]byte(ace), acl[8:]...)...)
	binary.LittleEndian.PutUint16(acl[2:], uint16(len(acl)))
	out := append([]byte{1, 0}, sd[2:4]...)
	out = append(out, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 20, 0, 0, 0)
	write := func(descriptor string) {
		req := ldap.NewModifyRequest(dn, []ldap.Control{flags})
		req.Replace("nTSecurityDescriptor", []string{descriptor})
		require.NoError(t, a.keeper.Conn().Modify(req))
	}
	write(string(append(out, acl...)))
	a.undo = append([]func(){func() { write(string(sd)) }}, a.undo...)
}

// free gives the auditor back what was denied.
func (a *auditor) free(t *testing.T) {
	t.Helper()
	for _, undo := range a.undo {
		undo()
	}
	a.undo = nil
	if a.dir != nil {
		a.dir.Deny("", false)
	}
	if a.dialect == directory.OpenLDAP {
		a.denied = nil
		a.apply(t)
	}
}

// hide hides an entry whole.
func (a *auditor) hide(t *testing.T, dn string, below bool) {
	t.Helper()
	switch {
	case a.dir != nil:
		a.dir.Deny(dn, below)
	case a.dialect == directory.AD:
		a.prepend(t, dn, denied(a.sid, 0x10, below))
	case a.dialect == directory.NS389:
		a.rule(t, dn, fmt.Sprintf(`(target="ldap:///%s")(targetattr="*")(version 3.0; acl "hidden"; deny(all) userdn="ldap:///%s";)`, dn, a.dn))
	default:
		style := map[bool]string{false: "dn.base", true: "dn.subtree"}[below]
		a.denied = append(a.denied, fmt.Sprintf(`to %s="%s" by dn.exact="%s" none by * break`, style, dn, a.dn))
		a.apply(t)
	}
}

// TestAFilterTellsAbsence holds what the seer of rights rests on elsewhere than
// on the `ad` schema: of an attribute that the reader may not read neither its
// presence nor its absence is true.
func TestAFilterTellsAbsence(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.dialect == directory.AD {
			t.Skip("access lists tell there")
		}
		a := s.auditor(t)
		t.Cleanup(func() { a.free(t) })
		shown, absent, hidden := s.person(t, a.keeper, "Shown", "shown"), s.person(t, a.keeper, "Absent", "absent"), s.person(t, a.keeper, "Hidden", "hidden")
		for _, dn := range []string{hidden, shown} {
			require.Zero(t, modify(a.keeper, dn, func(r *ldap.ModifyRequest) { r.Replace("title", []string{"x"}) }))
		}
		a.deny(t, hidden, false, "title")
		c, err := source.Connect(t.Context(), source.Target{Yard: a.yard})
		require.NoError(t, err)
		defer c.Close()
		for filter, want := range map[string][]string{"(title=*)": {shown}, "(!(title=*))": {absent}, "(|(title=*)(!(title=*)))": {shown, absent}, "(!(title=y))": {shown, absent}} {
			var got []string
			_, err := c.Search(t.Context(), source.Query{Base: s.container("Staff"), Scope: ldap.ScopeSingleLevel, Filter: "(&(objectClass=person)" + filter + ")", Attributes: []string{"1.1"}}, func(page []directory.Entry) error {
				for i := range page {
					got = append(got, page[i].DN)
				}
				return nil
			})
			require.NoError(t, err)
			assert.ElementsMatch(t, directory.FoldAll(want), directory.FoldAll(got), filter)
		}
	})
}

var trials = flag.Int("rights.rounds", 12, "how many random denials to try on each server")
var rightsSeed = flag.Uint64("rights.seed", 1, "which denials")

// observatory is a yard for the auditor: accounts, groups, containers.
type observatory struct {
	*auditor
	entries []string // DNs of what can be hidden
	places  []string
}

func newObservatory(t *testing.T, s *subject, r *rand.Rand) *observatory {
	o := &observatory{auditor: s.auditor(t)}
	c := o.keeper
	for n, place := range []string{"Staff", "Parked", "Lenses", "Domes"} {
		if n > 1 {
			s.add(t, c, s.container(place), map[string][]string{"objectClass": {"organizationalUnit"}})
		}
		o.places = append(o.places, s.container(place))
		for i := range 4 {
			logon := fmt.Sprintf("%s%d", strings.ToLower(place), i)
			dn := s.person(t, c, place+fmt.Sprint(i), logon)
			if place != "Staff" {
				to := s.DN(place+fmt.Sprint(i), place)
				rdn, parent := directory.SplitDN(to)
				require.NoError(t, c.Conn().ModifyDN(ldap.NewModifyDNRequest(dn, rdn, true, parent)))
				dn = to
			}
			o.entries = append(o.entries, dn)
			switch r.IntN(4) {
			case 0: // never used
			case 1:
				o.signIn(t, dn, logon)
				o.disable(t, dn)
			default:
				o.signIn(t, dn, logon)
			}
			if r.IntN(2) == 0 {
				require.Zero(t, modify(c, dn, func(r *ldap.ModifyRequest) { r.Replace("title", []string{"Optician"}) }))
			}
		}
	}
	for i := range 4 {
		var members []string
		if i != 3 || s.dialect == directory.OpenLDAP {
			members = o.entries[i : i+2]
		}
		o.entries = append(o.entries, s.group(t, c, fmt.Sprintf("crew%d", i), members...))
	}
	for _, place := range []string{"Empty", "Nested"} {
		s.add(t, c, s.container(place), map[string][]string{"objectClass": {"organizationalUnit"}})
	}
	_, nested := directory.SplitDN("x," + s.container("Nested"))
	inner := strings.Replace(s.container("Inner"), ","+s.base, ","+nested, 1)
	s.add(t, c, inner, map[string][]string{"objectClass": {"organizationalUnit"}})
	o.places = append(o.places, s.container("Groups"), nested)
	o.entries = append(o.entries, inner)
	if s.dialect == directory.AD {
		o.power(t)
	}
	return o
}

// power adds what there is on the `ad` schema only: somebody who is privileged,
// and group policies, linked and not. What stands outside the test's own
// container goes with it.
func (o *observatory) power(t *testing.T) {
	c := o.keeper
	top := realserver.SambaBase
	if o.dir != nil {
		return // it has neither
	}
	require.Zero(t, modify(c, "CN=Backup Operators,CN=Builtin,"+top, func(r *ldap.ModifyRequest) { r.Add("member", []string{o.entries[2], o.entries[5]}) }))
	policy := func(n int) string {
		guid := fmt.Sprintf("{0000000%d-0000-4000-8000-%012d}", n, serial.Load())
		dn := "CN=" + guid + ",CN=Policies,CN=System," + top
		o.add(t, c, dn, map[string][]string{"objectClass": {"groupPolicyContainer"}, "displayName": {fmt.Sprint("Policy ", n)}})
		t.Cleanup(func() { assert.NoError(t, c.Conn().Del(ldap.NewDelRequest(dn, nil))) })
		return dn
	}
	linked := policy(1)
	policy(2)
	require.Zero(t, modify(c, o.container("Lenses"), func(r *ldap.ModifyRequest) { r.Replace("gPLink", []string{"[LDAP://" + linked + ";0]"}) }))
	o.yard.Base, o.places = top, append(o.places, o.base)
}

func (o *observatory) signIn(t *testing.T, dn, logon string) {
	t.Helper()
	if o.dir != nil {
		o.dir.Edit(dn, func(e *directory.Entry) { e.Set("lastLogon", directory.FormatFileTime(time.Now())) })
		return
	}
	if o.samba != nil {
		dn = logon + "@larkmoor.example"
	}
	c := o.keeper
	other, err := c.Another(t.Context())
	require.NoError(t, err)
	defer other.Close()
	require.NoError(t, other.Conn().Bind(dn, "Right-secret1"), dn)
}

func (o *observatory) disable(t *testing.T, dn string) {
	t.Helper()
	attr, value := "pwdAccountLockedTime", directory.PermanentLockValue
	switch o.dialect {
	case directory.AD:
		attr, value = "userAccountControl", "514"
	case directory.NS389:
		attr, value = "nsAccountLock", "true"
	}
	require.Zero(t, modify(o.keeper, dn, func(r *ldap.ModifyRequest) { r.Replace(attr, []string{value}) }))
}

// effect is what a denial has to be told as: what is hidden of entries right
// below a place.
type effect struct{ place, what string }

// denials hide something at random. They return what they hid, and what of it
// can be seen to be hidden.
func (o *observatory) denials(t *testing.T, r *rand.Rand) (said []string, effects []effect) {
	telling := map[*directory.Dialect][]string{
		directory.AD:       {"lastLogon", "lastLogonTimestamp", "userAccountControl", "accountExpires", "pwdLastSet", "lockoutTime", "mail", "displayName", "member", "whenCreated", "gPLink", "primaryGroupID", "adminCount"},
		directory.OpenLDAP: {"pwdLastSuccess", "pwdAccountLockedTime", "pwdChangedTime", "mail", "sn", "member", "createTimestamp"},
		directory.NS389:    {"lastLoginTime", "nsAccountLock", "pwdUpdateTime", "mail", "sn", "member", "createTimestamp"},
	}[o.dialect]
	// What one denial hides another cannot be seen to hide.
	whole, veiled := []string{}, map[string][]string{}
	for range 1 + r.IntN(3) {
		attr := telling[r.IntN(len(telling))]
		entry, place := o.entries[r.IntN(len(o.entries))], o.places[r.IntN(len(o.places))]
		switch r.IntN(5) {
		case 0, 1:
			o.deny(t, entry, false, attr)
			said, veiled[attr] = append(said, attr+" of "+entry), append(veiled[attr], entry)
		case 2:
			o.deny(t, place, true, attr)
			said, veiled[attr] = append(said, attr+" below "+place), append(veiled[attr], o.below(place)...)
		case 3:
			o.hide(t, entry, false)
			said, whole = append(said, "all of "+entry), append(whole, entry)
		case 4:
			o.hide(t, place, true)
			said, whole = append(said, "all below "+place), append(append(whole, place), o.below(place)...)
		}
	}
	// What an entry itself allows counts before what it inherits.
	eye, err := source.Connect(t.Context(), source.Target{Yard: o.yard})
	require.NoError(t, err)
	defer eye.Close()
	for attr, entries := range veiled {
		for _, dn := range entries {
			if _, place := directory.SplitDN(dn); !slices.Contains(whole, dn) && o.shows(t, o.keeper, dn, attr) && !o.shows(t, eye, dn, attr) {
				effects = append(effects, effect{place, attr})
			}
		}
	}
	for _, dn := range whole {
		// slapd says no more than whether there is anything below an entry, and
		// nobody says anything of what stands below a hidden one.
		if _, place := directory.SplitDN(dn); o.dialect != directory.OpenLDAP && !slices.Contains(whole, place) && !o.shows(t, eye, dn, "objectClass") {
			effects = append(effects, effect{place, "entries below"})
		}
	}
	return said, effects
}

// shows tells whether an account is shown an attribute of an entry.
func (o *observatory) shows(t *testing.T, c *source.Server, dn, attr string) (shown bool) {
	t.Helper()
	if o.dir != nil && c == o.keeper {
		return o.dir.Entry(dn).Has(attr)
	}
	_, err := c.Search(t.Context(), source.Query{Base: dn, Scope: ldap.ScopeBaseObject, Attributes: []string{attr}}, func(page []directory.Entry) error {
		for i := range page {
			shown = shown || page[i].Has(attr)
		}
		return nil
	})
	require.True(t, err == nil || errors.Is(err, source.ErrNotFound), "%v", err)
	return shown
}

// below are the entries at or below a place.
func (o *observatory) below(place string) (dns []string) {
	for _, dn := range append(o.entries, o.places...) {
		if dn != place && directory.Under(directory.FoldDN(dn), directory.FoldDN(place)) {
			dns = append(dns, dn)
		}
	}
	return dns
}

// grant gives the auditor rights to an entry: those of a mask to all of it, or to
// what an access list knows by an identity. Elsewhere the mask is not looked at:
// words are the rights, and attributes what they are to.
func (a *auditor) grant(t *testing.T, dn string, mask uint32, id, words, attributes string) {
	t.Helper()
	if a.dialect == directory.NS389 {
		to := ""
		if attributes != "" {
			to = `(targetattr="` + attributes + `")`
		}
		a.rule(t, dn, fmt.Sprintf(`(target="ldap:///%s")%s(version 3.0; acl "granted"; allow(%s) userdn="ldap:///%s";)`, dn, to, words, a.dn))
		return
	}
	ace := denied(a.sid, mask, false)
	if id != "" {
		ace = objectDenied(id, a.sid, mask, false)
	}
	a.prepend(t, dn, string([]byte{ace[0] - 1})+ace[1:]) // the kinds that allow
}

// TestWhatMayBeDoneIsForeseen grants at random, asks what the server will do,
// and tries it.
func TestWhatMayBeDoneIsForeseen(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		a := s.auditor(t)
		t.Cleanup(func() { a.free(t) })
		dn := s.person(t, a.keeper, "Ada Quill", "aquill")
		full := source.Intent{DN: dn, Write: []string{"mail", "description"}, Rename: true, Into: s.container("Parked"), Delete: true}
		why, err := a.keeper.Foresight().MayNot(t.Context(), &full)
		require.NoError(t, err)
		assert.Empty(t, why, "the keeper may everything")
		eye, err := source.Connect(t.Context(), source.Target{Yard: a.yard})
		require.NoError(t, err)
		t.Cleanup(func() { eye.Close() })
		why, err = eye.Foresight().MayNot(t.Context(), &full)
		require.NoError(t, err)
		switch {
		case s.dialect == directory.OpenLDAP:
			assert.Empty(t, why, "OpenLDAP does not tell")
			return
		case s.dir != nil:
			return // there the two are one
		}
		assert.Equal(t, "may not write mail and description of it", why)
		r := rand.New(rand.NewPCG(*rightsSeed, 3))
		for i := range 8 {
			a.tryGranted(t, eye, r, i)
		}
	})
}

// tryGranted makes an account, grants some rights to it, and tries everything.
func (a *auditor) tryGranted(t *testing.T, eye *source.Server, r *rand.Rand, i int) {
	logon := fmt.Sprint("granted", i)
	dn := a.person(t, a.keeper, "Granted "+fmt.Sprint(i), logon)
	group := a.group(t, a.keeper, "crew"+fmt.Sprint(i), a.dn)
	ad := a.dialect == directory.AD
	schema := func(name string) string {
		if !ad {
			return ""
		}
		return a.schemaID(t, name)
	}
	naming := "cn"
	if !ad {
		naming, _, _ = strings.Cut(dn, "=")
	}
	one := func() bool { return r.IntN(2) == 0 }
	kept := slices.Clone(a.undo)
	defer func() { a.undo = kept }() // the entries go
	if one() {
		a.grant(t, dn, 0x20, schema("mail"), "write", "mail")
	}
	if one() {
		a.grant(t, group, 0x20, schema("member"), "write", "member")
	}
	if one() {
		a.grant(t, dn, 0x20, schema(naming), "write", naming)
		if ad {
			a.grant(t, dn, 0x20, schema("name"), "", "")
		}
	}
	if one() {
		a.grant(t, dn, 0x10000, "", "delete", "")
	}
	if ad && one() {
		a.grant(t, dn, 0x100, directory.ForceChangePassword, "", "")
	}
	places := len(a.undo)
	if ad && one() {
		a.grant(t, a.container("Parked"), 0x1, "", "", "")
	}
	if ad && one() {
		a.grant(t, a.container("Staff"), 0x2, "", "", "")
	}
	for i := range len(a.undo) - places { // the newest stand first
		defer a.undo[i]()
	}
	try := func(n source.Intent, do func() error) bool {
		t.Helper()
		why, err := eye.Foresight().MayNot(t.Context(), &n)
		require.NoError(t, err)
		err = do()
		if err != nil {
			require.True(t, ldap.IsErrorWithCode(err, ldap.LDAPResultInsufficientAccessRights), "%v", err)
		}
		assert.Equal(t, err == nil, why == "", "%+v: foreseen %q, and it was %v", n, why, err)
		return err == nil
	}
	conn := eye.Conn()
	change := func(dn, attr, value string) func() error {
		return func() error {
			req := ldap.NewModifyRequest(dn, nil)
			req.Add(attr, []string{value})
			return conn.Modify(req)
		}
	}
	try(source.Intent{DN: dn, Write: []string{"description"}}, change(dn, "description", "x"))
	mail := source.Intent{DN: dn, Write: []string{"mail"}}
	if a.entry(t, a.keeper, dn).Has("mail") {
		try(mail, func() error {
			req := ldap.NewModifyRequest(dn, nil)
			req.Replace("mail", []string{"other@larkmoor.example"})
			return conn.Modify(req)
		})
	}
	try(source.Intent{DN: group, Write: []string{"member"}}, change(group, "member", dn))
	_, parent := directory.SplitDN(dn)
	if ad && a.samba != nil {
		try(source.Intent{DN: dn, Reset: true}, func() error { return eye.SetPassword(source.Entry{DN: dn}, "Other-Secret2", nil) })
	}
	if rdn := naming + "=Renamed " + fmt.Sprint(i); try(source.Intent{DN: dn, Rename: true}, func() error { return conn.ModifyDN(ldap.NewModifyDNRequest(dn, rdn, true, "")) }) {
		dn = rdn + "," + parent
	}
	rdn, _ := directory.SplitDN(dn)
	if ad && try(source.Intent{DN: dn, Rename: true, Into: a.container("Parked")}, func() error { return conn.ModifyDN(ldap.NewModifyDNRequest(dn, rdn, true, a.container("Parked"))) }) {
		dn = rdn + "," + a.container("Parked")
	}
	try(source.Intent{DN: dn, Delete: true}, func() error { return conn.Del(ldap.NewDelRequest(dn, nil)) })
}

// A batch that the bound account has no right to carry out stays open, whoever
// tries it how often, and goes on when somebody has the right.
func TestALineWithoutTheRightToItStaysOpen(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.dir != nil {
			t.Skip("whoever may read there may write")
		}
		a := s.auditor(t)
		t.Cleanup(func() { a.free(t) })
		st := newStory(t, s)
		var dns []string
		for i := range 6 {
			dns = append(dns, s.person(t, a.keeper, fmt.Sprint("Ada ", i), fmt.Sprint("ada", i)))
		}
		b := st.mustStage("describe", "", dns...)
		if s.dialect == directory.NS389 { // who the directory is has to be seen
			a.rule(t, realserver.OpenLDAPBase, `(targetattr="objectClass || nsUniqueId")(version 3.0; acl "top"; allow(read,search) userdn="ldap:///`+a.dn+`";)`)
		}
		keeper := st.c
		eye, err := source.Connect(t.Context(), source.Target{Yard: a.yard})
		require.NoError(t, err)
		t.Cleanup(func() { eye.Close() })
		st.c = eye

		for from, want := range map[*source.Server]int{eye: 6, keeper: 0} {
			if s.dialect == directory.OpenLDAP {
				want = 0
			}
			not, err := (&batch.Stager{From: from, Dialect: s.dialect}).Foreseen(t.Context(), b)
			require.NoError(t, err)
			assert.Len(t, not, want, "staging marks them")
		}
		kept, err := batch.Load(t.Context(), st.Store, b.ID)
		require.NoError(t, err)
		foretold, err := st.job(kept).DryRun(t.Context(), carry.Pace{})
		require.NoError(t, err)
		require.Len(t, foretold.Lines, 6)
		if s.dialect == directory.OpenLDAP {
			assert.Equal(t, 6, foretold.Done(), "OpenLDAP does not tell who may write")
		} else {
			assert.Zero(t, foretold.Done(), "it is foreseen")
			assert.Equal(t, batch.Refused, foretold.Lines[0].State)
			assert.Contains(t, foretold.Lines[0].Note, "may not write description of it")
		}
		var res carry.Result
		for range 3 {
			res, kept = st.apply(b)
			assert.Contains(t, res.Halted, "the line stays open")
			assert.Equal(t, 6, kept.Open(), "no line is lost")
		}
		st.c = keeper
		res, kept = st.apply(b)
		assert.Empty(t, res.Halted)
		assert.Equal(t, 6, res.Counts[batch.Applied])
		assert.Zero(t, kept.Open())
		st.verify()
	})
}

// A unit that holds a subentry only, which a 389 Directory Server shows to those
// who ask for it, is not empty.
func TestAUnitWithARoleIsNotEmpty(t *testing.T) {
	server := ns389.get(t, realserver.NS389)
	s := &subject{name: "389ds", yard: server.Yard, base: server.Base, dialect: directory.NS389, real: server}
	s.fresh(t)
	t.Cleanup(func() { s.sweep(t) })
	a := s.auditor(t)
	t.Cleanup(func() { a.free(t) })
	role := "cn=guides," + s.container("Groups")
	s.add(t, a.keeper, role, map[string][]string{"objectClass": {"top", "ldapsubentry", "nsRoleDefinition", "nsSimpleRoleDefinition", "nsManagedRoleDefinition"}, "cn": {"guides"}})
	t.Cleanup(func() { assert.NoError(t, a.keeper.Conn().Del(ldap.NewDelRequest(role, nil))) })
	assert.NotContains(t, strings.Join(a.audited(t, time.Now().AddDate(0, 0, 400), "ou-empty"), " "), "Groups")
	c, err := source.Connect(t.Context(), source.Target{Yard: a.yard})
	require.NoError(t, err)
	defer c.Close()
	survey, err := c.Survey(t.Context())
	require.NoError(t, err)
	assert.Empty(t, survey.Hiding(), "it was read, and is not taken for hidden")
}

// What a role disables does not stand in the entry: it can be neither taken away
// nor rewritten, and moves and deletes are guarded by something else.
func TestAnAccountThatARoleDisables(t *testing.T) {
	server := ns389.get(t, realserver.NS389)
	s := &subject{name: "389ds", yard: server.Yard, base: server.Base, dialect: directory.NS389, real: server}
	s.fresh(t)
	t.Cleanup(func() { s.sweep(t) })
	st := newStory(t, s)
	c := st.c
	role, off, templates := "cn=retired,"+s.base, "cn=off,"+s.base, "cn=templates,"+s.base
	for _, e := range []struct {
		dn    string
		attrs map[string][]string
	}{
		{role, map[string][]string{"objectClass": {"top", "ldapsubentry", "nsRoleDefinition", "nsSimpleRoleDefinition", "nsManagedRoleDefinition"}}},
		{off, map[string][]string{"objectClass": {"top", "ldapsubentry", "nsRoleDefinition", "nsComplexRoleDefinition", "nsNestedRoleDefinition"}, "nsRoleDN": {role}}},
		{templates, map[string][]string{"objectClass": {"top", "nsContainer"}}},
		{`cn="` + off + `",` + templates, map[string][]string{"objectClass": {"top", "extensibleObject", "cosTemplate", "ldapsubentry"}, "cosPriority": {"1"}, "nsAccountLock": {"true"}, "cn": {off}}},
		{"cn=switch," + s.base, map[string][]string{"objectClass": {"top", "ldapsubentry", "cosSuperDefinition", "cosClassicDefinition"}, "cosTemplateDn": {templates}, "cosSpecifier": {"nsRole"}, "cosAttribute": {"nsAccountLock operational"}}},
	} {
		s.add(t, c, e.dn, e.attrs)
		t.Cleanup(func() { assert.NoError(t, c.Conn().Del(ldap.NewDelRequest(e.dn, nil))) })
	}
	ada, bram, clara := s.person(t, c, "Ada Quill", "aquill"), s.person(t, c, "Bram Tern", "btern"), s.person(t, c, "Clara Birk", "cbirk")
	for _, dn := range []string{ada, bram} {
		require.Zero(t, modify(c, dn, func(r *ldap.ModifyRequest) { r.Add("nsRoleDN", []string{role}) }))
	}
	require.Zero(t, modify(c, clara, func(r *ldap.ModifyRequest) { r.Add("nsAccountLock", []string{"true"}) }))
	require.Eventually(t, func() bool { return s.entry(t, c, ada).First("nsAccountLock") == "true" }, 20*time.Second, 100*time.Millisecond, "the role disables it")

	for dn, want := range map[string]string{ada: role, clara: ""} {
		got, err := c.LockingRole(t.Context(), s.entry(t, c, dn))
		require.NoError(t, err)
		assert.Equal(t, directory.FoldDN(want), directory.FoldDN(got), dn)
	}
	_, refusals, err := st.stage("enable", "", ada)
	require.ErrorIs(t, err, batch.ErrNothing)
	assert.Contains(t, refusals[0].Why, "disabled by the role "+role)
	_, _, err = st.stage("enable", "", clara)
	require.NoError(t, err)

	_, refusals, err = st.stage("leave-role", "", clara)
	require.ErrorIs(t, err, batch.ErrNothing)
	assert.Contains(t, refusals[0].Why, "no role disables it")
	before := st.picture()
	b := st.mustStage("leave-role", "", ada)
	assert.True(t, b.Lines[0].SwitchesOn(), "which a leaver's roster forbids")
	res, kept := st.apply(b)
	assert.Equal(t, 1, res.Counts[batch.Applied], kept.Lines[0].Note)
	require.Eventually(t, func() bool { return !s.entry(t, c, ada).Has("nsAccountLock") }, 20*time.Second, 100*time.Millisecond, "it can sign in again")
	st.undo(b)
	require.Eventually(t, func() bool { return s.entry(t, c, ada).First("nsAccountLock") == "true" }, 20*time.Second, 100*time.Millisecond)
	assert.Equal(t, normal(before), normal(st.picture()))

	b = st.mustStage("move", s.container("Parked"), ada)
	res, kept = st.apply(b)
	assert.Equal(t, 1, res.Counts[batch.Applied], kept.Lines[0].Note)
	moved := s.DN("Ada Quill", "Parked")
	assert.NotNil(t, s.entry(t, c, moved))
	st.undo(b)
	assert.NotNil(t, s.entry(t, c, ada))
	st.set.Batch.DeleteMinDisabled = calendar.Span{}
	b, refusals, err = st.stageOrder(batch.Order{Actions: []string{batch.Delete}, EvenEnabled: true}, nil, bram)
	require.NoError(t, err, "%v", refusals)
	st.sign(b)
	res, kept = st.apply(b)
	assert.Equal(t, 1, res.Counts[batch.Applied], kept.Lines[0].Note)
	st.verify()
}

// audited is what the auditor finds, as "check name confidence".
func (a *auditor) audited(t *testing.T, asOf time.Time, checks ...string) (found []string) {
	t.Helper()
	c, err := source.Connect(t.Context(), source.Target{Yard: a.yard})
	require.NoError(t, err)
	defer c.Close()
	survey, err := c.Survey(t.Context())
	require.NoError(t, err)
	report, err := audit.Run(survey, settings.Defaults(), audit.Options{AsOf: asOf, Checks: checks})
	require.NoError(t, err)
	for _, f := range report.Findings {
		found = append(found, f.Check+" "+directory.LeafValue(f.DN)+" "+string(f.Confidence))
	}
	return found
}

// An answer that an entry is not there proves nothing where the entry may be
// hidden.
func TestAReferenceToAHiddenEntryIsNotSurelyDangling(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.dialect.KeepsLinks {
			t.Skip("the server keeps references whole")
		}
		a := s.auditor(t)
		t.Cleanup(func() { a.free(t) })
		hidden := s.person(t, a.keeper, "Hidden", "hidden")
		for logon, boss := range map[string]string{"one": hidden, "two": s.DN("Nobody", "Staff")} {
			require.Zero(t, modify(a.keeper, s.person(t, a.keeper, logon, logon), func(r *ldap.ModifyRequest) { r.Replace("manager", []string{boss}) }))
		}
		a.hide(t, hidden, false)
		found := a.audited(t, time.Now(), "dangling-reference")
		assert.Contains(t, found, "dangling-reference two sure")
		assert.NotContains(t, found, "dangling-reference one sure")
	})
}

// A slapd forgets the last sign-in when the password changes, and people may be
// of a class of the house's own.
func TestWhatSlapdForgetsAndWhoIsAPerson(t *testing.T) {
	s := slapdSubject(t)
	a := s.auditor(t)
	dn := s.DN("Star", "Staff")
	s.add(t, a.keeper, dn, map[string][]string{"objectClass": {"stargazer"}, "cn": {"Star"}, "sn": {"Star"}, "uid": {"star"}, "userPassword": {"Right-secret1"}})
	other := s.person(t, a.keeper, "Other", "other")
	o := &observatory{auditor: a}
	o.signIn(t, dn, "star")
	o.signIn(t, other, "other")
	o.disable(t, s.person(t, a.keeper, "Off", "off"))
	later := time.Now().AddDate(0, 0, 400)
	assert.Contains(t, a.audited(t, later, "stale"), "stale Star sure")
	time.Sleep(1100 * time.Millisecond) // the times are of whole seconds
	require.Zero(t, modify(a.keeper, dn, func(r *ldap.ModifyRequest) { r.Replace("userPassword", []string{"Other-secret1"}) }))
	shown := s.entry(t, a.keeper, dn)
	require.False(t, shown.Has("pwdLastSuccess"), "this is what the rule is for")
	// What is judged likely for it comes of these two (a minute apart at least,
	// for which no test waits).
	created, err := directory.ParseGeneralizedTime(shown.First("createTimestamp"))
	require.NoError(t, err)
	changed, err := directory.ParseGeneralizedTime(shown.First("pwdChangedTime"))
	require.NoError(t, err)
	assert.True(t, changed.After(created))
}

// TestNothingSureRestsOnWhatIsHidden audits random yards with least rights and
// holds that against what is seen with all rights.
func TestNothingSureRestsOnWhatIsHidden(t *testing.T) {
	asOf := time.Now().AddDate(0, 0, 400)
	findings := func(t *testing.T, yard settings.Yard) *audit.Report {
		t.Helper()
		c, err := source.Connect(t.Context(), source.Target{Yard: yard})
		require.NoError(t, err)
		defer c.Close()
		survey, err := c.Survey(t.Context())
		require.NoError(t, err)
		report, err := audit.Run(survey, settings.Defaults(), audit.Options{AsOf: asOf})
		require.NoError(t, err)
		return report
	}
	each(t, func(t *testing.T, s *subject) {
		r := rand.New(rand.NewPCG(*rightsSeed, 1))
		o := newObservatory(t, s, r)
		full := s.yard
		full.Base = o.yard.Base
		findings(t, o.yard) // the auditor signs in
		truth := map[string]bool{}
		for _, f := range findings(t, full).Findings {
			truth[f.Check+" "+directory.FoldDN(f.DN)] = true
		}
		require.NotEmpty(t, truth)
		sure, tries := 0, *trials
		if s.dir != nil {
			tries = max(tries, 200) // it is quick
		}
		for round := range tries {
			said, effects := o.denials(t, r)
			report := findings(t, o.yard)
			for _, f := range report.Findings {
				if f.Confidence != audit.Sure {
					continue
				}
				sure++
				if !truth[f.Check+" "+directory.FoldDN(f.DN)] {
					t.Errorf("round %d, with %q hidden: %s of %s is false, and sure: %v\nnotes: %q", round, said, f.Check, f.DN, f.Evidence, report.Notes)
				}
			}
			told := strings.Join(audit.DescribeHidden(report.Survey, directory.AttrSet{}), "\n")
			for _, e := range effects {
				assert.Regexp(t, "(?m)^"+regexp.QuoteMeta(e.place)+": .*"+e.what, told, "round %d, with %q hidden", round, said)
			}
			o.free(t)
		}
		assert.Greater(t, sure, tries, "there is something that can be said for sure")
	})
}

// What entries hide is the same, however many come at once and whoever asks: a survey
// looks at them in the end, one that is kept and a list while they are read, by their
// identities or, of very many, all at once. Elsewhere than on the `ad` schema the server
// says so too when it is asked for one attribute of one entry.
func TestWhatEntriesHideIsTheSameHoweverTheyAreRead(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		r := rand.New(rand.NewPCG(*rightsSeed, 4))
		o := newObservatory(t, s, r)
		o.seeTop(t)
		few := o.yard
		few.PageSize = 2 // so that pages follow each other, and 10 doubtful ones are very many
		hidden := func(survey *directory.Survey) map[string][]string {
			all := map[string][]string{}
			survey.Subjects(func(of *directory.Subject) {
				for id := range of.Hidden.All() {
					all[of.DN] = append(all[of.DN], id.String())
				}
			})
			return all
		}
		open := func(yard settings.Yard) *source.Server {
			c, err := source.Connect(t.Context(), source.Target{Yard: yard})
			require.NoError(t, err)
			t.Cleanup(func() { c.Close() })
			return c
		}
		most := 0
		for round := range max(4, *trials/3) {
			said, _ := o.denials(t, r)
			if round%2 == 0 { // of very many
				attr := map[*directory.Dialect]string{directory.AD: "pwdLastSet", directory.OpenLDAP: "pwdChangedTime", directory.NS389: "pwdUpdateTime"}[s.dialect]
				o.deny(t, o.base, true, attr)
				o.deny(t, o.places[0], true, "mail") // those of other places show it
				o.deny(t, o.entries[len(o.entries)-1], false, "sn")
				said = append(said, attr+" of all, mail of the first, sn of the last")
			}
			whole, err := open(o.yard).Survey(t.Context())
			require.NoError(t, err)
			want := hidden(whole)
			most = max(most, len(want))

			c := open(few)
			paged, err := c.Survey(t.Context())
			require.NoError(t, err)
			assert.Equal(t, want, hidden(paged), "a survey in small pages, with %q hidden", said)

			folder := t.TempDir()
			_, err = source.Keep(t.Context(), c, source.Keeping{Dir: folder, Name: "kept", Now: time.Now})
			require.NoError(t, err, "with %q hidden", said)
			kept, err := source.OpenKept(folder, "kept")
			require.NoError(t, err)
			again, err := kept.Survey(t.Context())
			require.NoError(t, err)
			assert.Equal(t, want, hidden(again), "a kept survey, with %q hidden", said)

			var listed []*directory.Entry
			require.NoError(t, c.Each(t.Context(), source.Selection{Filter: "(objectClass=*)", Rights: true},
				func() { listed = nil },
				func(e *directory.Entry) any { kept := e.Clone(); return &kept },
				func(e any) { listed = append(listed, e.(*directory.Entry)) }))
			judged := map[string]bool{}
			whole.Subjects(func(of *directory.Subject) { judged[of.DN] = true })
			for _, e := range listed {
				if judged[e.DN] {
					assert.ElementsMatch(t, want[e.DN], e.Get(directory.AttrHidden.String()), "%s in a list, with %q hidden", e.DN, said)
				}
			}
			if s.dialect != directory.AD {
				o.agrees(t, c, whole, want)
			}
			o.free(t)
		}
		assert.Greater(t, most, 15, "entries that hide something")
	})
}

// agrees holds what is hidden of the entries of a survey against what the server says of
// each attribute of each.
func (o *observatory) agrees(t *testing.T, c *source.Server, survey *directory.Survey, want map[string][]string) {
	t.Helper()
	survey.Subjects(func(of *directory.Subject) {
		for id := range o.dialect.Telling(of.Kind).All() {
			shown, err := c.Defined(t.Context(), id.String())
			require.NoError(t, err)
			if shown == nil {
				continue // the server knows no such attribute
			}
			told := false
			_, err = c.Search(t.Context(), source.Query{Base: of.DN, Scope: ldap.ScopeBaseObject, Attributes: []string{"1.1"},
				Filter: fmt.Sprintf("(|(%[1]s=*)(!(%[1]s=*)))", id)}, func(page []directory.Entry) error {
				told = told || len(page) > 0
				return nil
			})
			require.NoError(t, err)
			assert.Equal(t, !told, slices.Contains(want[of.DN], id.String()), "%s of %s", id, of.DN)
		}
	})
}

// A search that somebody stops in the middle leaves nothing behind on the connection that
// the next one could take for its own.
func TestTheNextSearchBeginsAnew(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		yard := s.yard
		yard.PageSize = 3
		c, err := source.Connect(t.Context(), source.Target{Yard: yard})
		require.NoError(t, err)
		defer c.Close()
		for n := range 9 {
			s.person(t, c, fmt.Sprint("Somebody ", n), fmt.Sprint("somebody", n))
		}
		q := source.Query{Base: s.container("Staff"), Scope: ldap.ScopeWholeSubtree, Filter: "(cn=Somebody *)", Attributes: []string{"cn"}}
		count := func(stop error) (n int) {
			_, err := c.Search(t.Context(), q, func(page []directory.Entry) error {
				n += len(page)
				return stop
			})
			require.Equal(t, stop, err)
			return n
		}
		enough := errors.New("enough")
		for range 100 {
			require.Equal(t, 3, count(enough))
			require.Equal(t, 9, count(nil))
		}
		assert.NoError(t, c.Conn().GetLastError(), "an answer that nobody waited for")
	})
}

// Servers may show their schema to others only. What they hide of entries is known all the
// same.
func TestWhatIsHiddenIsKnownWithoutASchema(t *testing.T) {
	for _, subject := range []func(*testing.T) *subject{slapdSubject, ns389Subject} {
		s := subject(t)
		t.Run(s.name, func(t *testing.T) {
			a := s.auditor(t)
			t.Cleanup(func() { a.free(t) })
			ada := s.person(t, a.keeper, "Ada Quill", "ada")
			bram := s.person(t, a.keeper, "Bram Tern", "btern")
			for _, dn := range []string{ada, bram} {
				require.Zero(t, modify(a.keeper, dn, func(r *ldap.ModifyRequest) { r.Replace("title", []string{"Keeper of the dome"}) }))
			}
			crew := s.group(t, a.keeper, "Crew", ada, bram)
			a.deny(t, ada, false, "mail", "manager")
			a.deny(t, crew, false, "member")
			hidden := func(schema bool) map[string]string {
				c, err := source.Connect(t.Context(), source.Target{Yard: a.yard})
				require.NoError(t, err)
				defer c.Close()
				known, err := c.Definitions(t.Context())
				require.NoError(t, err)
				require.Equal(t, schema, len(known) > 0)
				survey, err := c.Survey(t.Context())
				require.NoError(t, err)
				assert.True(t, survey.RightsRead)
				all := map[string]string{}
				survey.Subjects(func(one *directory.Subject) { all[one.DN] = directory.AttrNames(slices.Collect(one.Hidden.All())) })
				return all
			}
			shown := hidden(true)
			require.Contains(t, shown[ada], "mail")
			require.Contains(t, shown[crew], "member")
			a.hideSchema(t)
			assert.Equal(t, shown, hidden(false))
		})
	}
}

// mayDisable gives the auditor the right to disable accounts.
func (a *auditor) mayDisable(t *testing.T) {
	t.Helper()
	if a.dialect == directory.NS389 {
		a.rule(t, a.base, `(targetattr="nsAccountLock")(version 3.0; acl "disable"; allow(write) userdn="ldap:///`+a.dn+`";)`)
		return
	}
	a.denied = append(a.denied, fmt.Sprintf(`to dn.subtree="%s" attrs=pwdAccountLockedTime by dn.exact="%s" manage by * break`, a.base, a.dn))
	a.apply(t)
}

// hideSchema hides the schema of the server.
func (a *auditor) hideSchema(t *testing.T) {
	t.Helper()
	if a.dialect == directory.NS389 {
		a.rule(t, "cn=schema", `(targetattr="*")(version 3.0; acl "hidden"; deny(all) userdn="ldap:///`+a.dn+`";)`)
		return
	}
	frontend := "olcDatabase={-1}frontend,cn=config"
	was, err := a.config.Search(ldap.NewSearchRequest(frontend, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)", []string{"olcAccess"}, nil))
	require.NoError(t, err)
	before := was.Entries[0].GetAttributeValues("olcAccess")
	set := func(rules []string) {
		req := ldap.NewModifyRequest(frontend, nil)
		req.Replace("olcAccess", rules)
		require.NoError(t, a.config.Modify(req))
	}
	set(append([]string{`to dn.base="cn=Subschema" by * none`, `to dn.base="" by * read`}, before...))
	t.Cleanup(func() { set(before) })
}

// Whoever may not see who is in a privileged group cannot tell whom a batch must not touch,
// and neither stages nor carries one out.
func TestNothingIsStagedOrDoneWhereWhoIsPrivilegedIsHidden(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		a := s.auditor(t)
		a.seeTop(t)
		t.Cleanup(func() { a.free(t) })
		st := newStory(t, s)
		ada, bram := s.person(t, st.c, "Ada Quill", "ada"), s.person(t, st.c, "Bram Tern", "btern")
		inner := s.group(t, st.c, "Inner Rulers", ada)
		rulers := s.group(t, st.c, "Rulers", inner)
		st.set.Audit.PrivilegedGroups = []string{rulers}
		b := st.mustStage("disable", "", bram)
		keeper := st.c
		reader := func() {
			c, err := source.Connect(t.Context(), source.Target{Yard: a.yard})
			require.NoError(t, err)
			t.Cleanup(func() { c.Close() })
			st.c = c
		}
		reader()
		_, _, err := st.stage("disable", "", bram)
		require.NoError(t, err, "nothing is hidden")
		for _, group := range []string{rulers, inner} {
			a.deny(t, group, false, "member", "uniqueMember")
			reader()
			leaf, _ := directory.SplitDN(group)
			_, name, _ := strings.Cut(leaf, "=")
			_, _, err = st.stage("disable", "", bram)
			assert.ErrorContains(t, err, "does not show who is in ")
			assert.ErrorContains(t, err, name+", so who is privileged cannot be told")
			kept, err := batch.Load(t.Context(), st.Store, b.ID)
			require.NoError(t, err)
			_, err = st.job(kept).Run(t.Context(), carry.Pace{})
			assert.ErrorContains(t, err, "does not show who is in "+name+" to ")
			assert.ErrorContains(t, err, ", so who is privileged cannot be told: nothing was done")
			a.free(t)
		}
		st.c = keeper
		res, _ := st.apply(b)
		assert.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts)
	})
}

// An exemption protects also whom nobody can say that it does not mean, since what it goes by
// may not be read. Servers of the `ad` schema take what is hidden for absent.
func TestWhoeverMayBeExemptIsProtected(t *testing.T) {
	for _, subject := range []func(*testing.T) *subject{slapdSubject, ns389Subject} {
		s := subject(t)
		t.Run(s.name, func(t *testing.T) {
			a := s.auditor(t)
			a.seeTop(t)
			t.Cleanup(func() { a.free(t) })
			st := newStory(t, s)
			// The first line is carried out by itself, the others together.
			abe := s.person(t, st.c, "Abe Wren", "awren")
			zoe, bram := s.person(t, st.c, "Zoe Quill", "zquill"), s.person(t, st.c, "Bram Tern", "btern")
			for dn, title := range map[string]string{abe: "Optician", zoe: "Keeper of the dome", bram: "Optician"} {
				require.Zero(t, modify(st.c, dn, func(r *ldap.ModifyRequest) { r.Replace("title", []string{title}) }))
			}
			b := st.mustStage("disable", "", abe, zoe, bram)
			for attr, match := range map[string]settings.Match{"title": {Filter: "(title=Keeper of the dome)"}, "uid": {Account: "zquill"}} {
				st.exempt = []audit.Exemption{{Exemption: settings.Exemption{Match: match, Reason: "the dome", Owner: "rosa"}, Selected: map[directory.Key]bool{}},
					{Exemption: settings.Exemption{Match: settings.Match{Filter: "(extensionAttribute1=dome)"}, Reason: "of another directory", Owner: "rosa"}}}
				a.mayDisable(t)
				a.deny(t, zoe, false, attr)
				c, err := source.Connect(t.Context(), source.Target{Yard: a.yard})
				require.NoError(t, err)
				t.Cleanup(func() { c.Close() })
				keeper := st.c
				st.c = c
				staged, refusals, err := st.stage("disable", "", zoe, bram)
				require.NoError(t, err)
				require.Len(t, refusals, 1)
				assert.True(t, directory.FoldDN(zoe) == directory.FoldDN(refusals[0].DN))
				assert.Contains(t, refusals[0].Why, "whether it is exempt cannot be told: ")
				assert.Contains(t, refusals[0].Why, attr)
				require.Len(t, staged.Lines, 1)
				p := st.protection()
				unsure, err := p.Unsure(t.Context(), c, []*directory.Entry{s.entry(t, keeper, zoe), s.entry(t, keeper, bram)})
				require.NoError(t, err)
				assert.Len(t, unsure, 1)

				res, kept := st.apply(b) // which was staged when nothing was hidden
				require.Equal(t, map[batch.LineState]int{batch.Applied: 2, batch.Refused: 1}, res.Counts)
				for _, l := range kept.Lines {
					assert.Equal(t, directory.FoldDN(l.DN) == directory.FoldDN(zoe), strings.Contains(l.Note, "whether it is exempt cannot be told"), l.Note)
				}
				st.c, st.exempt = keeper, nil
				assert.False(t, st.disabled(zoe))
				assert.True(t, st.disabled(bram))
				a.free(t)
				st.undo(b)
				b = st.mustStage("disable", "", abe, zoe, bram)
			}
		})
	}
}
