package conformance

import (
	"context"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/realserver"
)

// whatSambaChanges are the attributes that an object of the `ad` schema comes back
// with otherwise than it was, and why.
var whatSambaChanges = map[string]string{
	"whenChanged":            "written last by the return",
	"uSNChanged":             "written last by the return",
	"pwdLastSet":             "a client may set it to nothing but 0",
	"msDS-LastKnownRDN":      "the server's mark of a deletion, where objects are kept whole",
	"dSCorePropagationData":  "the server's own book-keeping of access lists",
	"userAccountControl":     "it comes back disabled",
	"isCriticalSystemObject": "of computers FALSE, which means the same as none; a client may not write it",
	// The security descriptor is compared too, and comes back as it was.
}

// everything are all values of an entry that its server shows to an
// administrator, the access list among them.
func (st *story) everything(dn string) map[string][]string {
	st.t.Helper()
	res, err := st.c.Conn().Search(ldap.NewSearchRequest(dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)", []string{"*", "+", "nTSecurityDescriptor"}, nil))
	if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
		return nil
	}
	require.NoError(st.t, err)
	all := map[string][]string{}
	for _, a := range res.Entries[0].Attributes {
		all[a.Name] = slices.Sorted(slices.Values(a.Values))
	}
	return all
}

func differing(before, after map[string][]string) (names []string) {
	all := maps.Clone(before)
	maps.Copy(all, after)
	for name := range all {
		if !slices.Equal(before[name], after[name]) {
			names = append(names, name)
		}
	}
	return names
}

// everyKind makes an entry of each kind that can be deleted, and others that name
// them, and returns those to delete and all of them.
func (st *story) everyKind() (targets, all []string) {
	s := st.s
	keeper := s.person(st.t, st.c, "Kee Per", "kper")
	ada := s.person(st.t, st.c, "Ada Quill", "aquill")
	make := func(cn, container string, attrs map[string][]string) string {
		dn := s.DN(cn, container)
		s.add(st.t, st.c, dn, attrs)
		return dn
	}
	crew, lab := s.group(st.t, st.c, "Crew", ada, keeper), s.group(st.t, st.c, "Lab", ada)
	hollow := make("Hollow", "Groups", map[string][]string{"objectClass": {"group"}, "sAMAccountName": {"Hollow"}, "groupType": {"-2147483640"}, "description": {"nobody"}, "managedBy": {keeper}})
	holder := s.group(st.t, st.c, "Holder", hollow)
	box := make("Box", "Staff", map[string][]string{"objectClass": {"computer"}, "sAMAccountName": {"BOX$"}, "userAccountControl": {"4098"}, "dNSHostName": {"box.larkmoor.example"}, "servicePrincipalName": {"HOST/box.larkmoor.example"}})
	cora := make("Cora Contact", "Staff", map[string][]string{"objectClass": {"contact"}, "mail": {"cora@larkmoor.example"}, "description": {"a contact"}})
	service := make("Dome Service", "Staff", map[string][]string{"objectClass": {"msDS-GroupManagedServiceAccount"}, "sAMAccountName": {"domesvc$"}, "userAccountControl": {"4098"}, "msDS-ManagedPasswordInterval": {"17"}, "dNSHostName": {"dome.larkmoor.example"}})
	attic := make("Attic", "Staff", map[string][]string{"objectClass": {"container"}, "description": {"of old"}})
	unit := strings.Replace(s.container("Unit"), ","+s.base, ","+s.container("Staff"), 1)
	s.add(st.t, st.c, unit, map[string][]string{"objectClass": {"organizationalUnit"}, "description": {"of old"}, "managedBy": {keeper}})
	st.tell(keeper, func(r *ldap.ModifyRequest) { r.Replace("manager", []string{ada}) })
	st.tell(crew, func(r *ldap.ModifyRequest) { r.Add("member", []string{cora}); r.Replace("managedBy", []string{ada}) })
	st.tell(ada, func(r *ldap.ModifyRequest) {
		r.Replace("description", []string{"of the dome"})
		r.Replace("accountExpires", []string{"134000000000000000"})
		r.Replace("countryCode", []string{"276"})
		r.Replace("userAccountControl", []string{"66050"})
	})
	return []string{ada, hollow, box, cora, service, unit}, []string{ada, hollow, box, cora, service, unit, attic, keeper, crew, lab, holder}
}

// comeBack deletes every kind of entry and takes that back, with a password
// settings object in the domain, and compares all that there was.
func comeBack(t *testing.T, s *subject) {
	st := newStory(t, s)
	targets, all := st.everyKind()
	pso := "CN=Strict,CN=Password Settings Container,CN=System," + realserver.SambaBase
	s.add(t, st.c, pso, map[string][]string{"objectClass": {"msDS-PasswordSettings"}, "msDS-PasswordSettingsPrecedence": {"10"}, "msDS-PasswordReversibleEncryptionEnabled": {"FALSE"},
		"msDS-PasswordHistoryLength": {"0"}, "msDS-PasswordComplexityEnabled": {"TRUE"}, "msDS-MinimumPasswordLength": {"7"}, "msDS-MinimumPasswordAge": {"0"}, "msDS-MaximumPasswordAge": {"-9223372036854775808"},
		"msDS-LockoutThreshold": {"0"}, "msDS-LockoutObservationWindow": {"-18000000000"}, "msDS-LockoutDuration": {"-18000000000"}, "msDS-PSOAppliesTo": {s.DN("Lab", "Groups")}})
	t.Cleanup(func() { _ = st.c.Conn().Del(ldap.NewDelRequest(pso, nil)) })
	// Its primary group is another than the usual one, which it is not in.
	lab := s.entry(t, st.c, s.DN("Lab", "Groups"))
	sid, err := directory.ParseSID(lab.First("objectSid"))
	require.NoError(t, err)
	st.tell(targets[0], func(r *ldap.ModifyRequest) {
		r.Replace("primaryGroupID", []string{sid[strings.LastIndexByte(sid, '-')+1:]})
	})
	users := "CN=Domain Users,CN=Users," + realserver.SambaBase
	st.tell(users, func(r *ldap.ModifyRequest) { r.Delete("member", []string{targets[0]}) })
	before := map[string]map[string][]string{}
	for _, dn := range all {
		before[dn] = st.everything(dn)
	}
	b, refusals, err := st.stage(batch.Delete, "", targets...)
	require.NoError(t, err)
	require.Empty(t, refusals)
	res, kept := st.apply(b)
	require.Equal(t, map[batch.LineState]int{batch.Applied: len(targets)}, res.Counts, "%+v", kept.Lines)
	back, refusals := st.undoNow(b)
	require.Empty(t, refusals)
	require.NoError(t, back.Save(context.Background(), st.Store))
	res, kept = st.apply(back)
	for i := range kept.Lines {
		l := &kept.Lines[i]
		require.Equal(t, batch.Applied, l.State, "%s: %s", l.DN, l.Note)
		if slices.Contains([]string{"group", "contact", "organizational unit"}, l.Kind) {
			assert.Empty(t, l.Note, "%s: nothing to say of what is no account", l.DN)
		}
	}
	for _, dn := range all {
		after := st.everything(dn)
		require.NotNil(t, after, dn)
		for _, name := range differing(before[dn], after) {
			assert.Contains(t, whatSambaChanges, name, "%s of %s was %q and is %q", name, dn, before[dn][name], after[name])
		}
		if name := "userAccountControl"; len(before[dn][name]) > 0 {
			assert.Equal(t, before[dn][name], after[name], "%s was disabled before", dn)
		}
	}
}

func TestWhatWasDeletedComesBackAsItWas(t *testing.T) {
	server := sambaServer(t)
	s := &subject{name: "samba", yard: server.Yard, base: server.Base, dialect: directory.AD, samba: server, real: server}
	s.fresh(t)
	t.Cleanup(func() { s.sweep(t) })
	comeBack(t, s)
}

func TestWhatWasKeptWholeComesBackAsItWas(t *testing.T) {
	if !ownNetwork(t) {
		return
	}
	server := sambaServer(t)
	server.KeepDeleted(t)
	s := &subject{name: "samba", yard: server.Yard, base: server.Base, dialect: directory.AD, samba: server, real: server}
	s.fresh(t)
	comeBack(t, s)
}

// whatIsAnew are the attributes in which an entry that was added anew differs from
// the old one, on servers that keep nothing of what is deleted.
var whatIsAnew = map[string]string{
	"entryUUID": "its identity", "nsUniqueId": "its identity", "nsuniqueid": "its identity", "entryid": "its place in the database", "entryCSN": "written last by the return", "dsEntryDN": "spelt as it was added",
	"createTimestamp": "made by the return", "creatorsName": "made by the return", "modifyTimestamp": "written last by the return", "modifiersName": "written last by the return",
	"parentid": "the identity of what it stands in", "userPassword": "never read", "pwdChangedTime": "of the password", "pwdUpdateTime": "of the password", "passwordExpirationTime": "of the password",
	"pwdAccountLockedTime": "it was disabled before, and is", "nsAccountLock": "it was disabled before, and is", "passwordGraceUserTime": "of the password", "entryusn": "the server's own count",
}

// TestWhatWasAddedAnewIsAsItWas does the same on servers that keep nothing: with
// each set of overlays the exports are compared at once and a while later.
func TestWhatWasAddedAnewIsAsItWas(t *testing.T) {
	anew := func(t *testing.T, s *subject) {
		st := newStory(t, s)
		keeper, ada := s.person(t, st.c, "Kee Per", "kper"), s.person(t, st.c, "Ada Quill", "aquill")
		crew := s.group(t, st.c, "Crew", keeper, ada)
		unit := strings.Replace(s.container("Unit"), ","+s.base, ","+s.container("Staff"), 1)
		s.add(t, st.c, unit, map[string][]string{"objectClass": {"organizationalUnit"}, "description": {"of old"}, "seeAlso": {keeper}})
		hollow := s.DN("Hollow", "Groups")
		s.add(t, st.c, hollow, map[string][]string{"objectClass": {"posixGroup"}, "cn": {"Hollow"}, "gidNumber": {"701"}, "description": {"nobody"}})
		st.tell(keeper, func(r *ldap.ModifyRequest) {
			r.Replace("manager", []string{ada})
			r.Replace("secretary", []string{ada, keeper})
		})
		st.tell(ada, func(r *ldap.ModifyRequest) {
			r.Replace("description", []string{"of the dome", "und Kuppel"})
			r.Replace("title;lang-de", []string{"Sternwartin"})
			r.Replace("jpegPhoto", []string{"\xff\xd8\xff\x00"})
		})
		if s.yard.DefaultPolicy != "" {
			st.apply(st.mustStage(batch.Disable, "", ada))
		}
		all := []string{ada, hollow, unit, keeper, crew}
		before := map[string]map[string][]string{}
		for _, dn := range all {
			before[dn] = st.everything(dn)
		}
		b, refusals, err := st.stageOrder(batch.Order{Actions: []string{batch.Delete}, EvenEnabled: true}, nil, ada, hollow, unit)
		require.NoError(t, err)
		require.Empty(t, refusals)
		st.sign(b)
		res, kept := st.apply(b)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 3}, res.Counts, "%+v", kept.Lines)
		back, refusals := st.undoNow(b)
		require.Empty(t, refusals)
		require.NoError(t, back.Save(context.Background(), st.Store))
		res, kept = st.apply(back)
		require.Equal(t, map[batch.LineState]int{batch.Applied: 3}, res.Counts, "%+v", kept.Lines)
		for range 2 {
			for _, dn := range all {
				after := st.everything(dn)
				require.NotNil(t, after, dn)
				for _, name := range differing(before[dn], after) {
					assert.Contains(t, whatIsAnew, name, "%s of %s was %q and is %q", name, dn, before[dn][name], after[name])
				}
			}
			time.Sleep(time.Second) // for what a server does late
		}
	}
	t.Run("389ds", func(t *testing.T) {
		server := ns389.get(t, realserver.NS389)
		s := &subject{name: "389ds", yard: server.Yard, base: server.Base, dialect: directory.NS389, real: server}
		s.fresh(t)
		t.Cleanup(func() { s.sweep(t) })
		anew(t, s)
	})
	for name, parts := range map[string][]string{"bare": nil, "policies": {realserver.SlapdLastBind, realserver.SlapdPolicies}, "memberof": {realserver.SlapdPolicies, realserver.SlapdMemberOf},
		"refint": {realserver.SlapdRefint}, "all": {realserver.SlapdLastBind, realserver.SlapdPolicies, realserver.SlapdMemberOf, realserver.SlapdRefint}} {
		t.Run("slapd "+name, func(t *testing.T) {
			server := realserver.OpenLDAPWith(t, parts...)
			s := &subject{name: "slapd", yard: server.Yard, base: server.Base, dialect: directory.OpenLDAP, real: server}
			if len(parts) == 0 || name == "refint" {
				s.yard.DefaultPolicy = ""
			}
			s.fresh(t)
			anew(t, s)
		})
	}
}
