package conformance

import (
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
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

// rule adds an access rule to an entry of a 389 Directory Server.
func (a *auditor) rule(t *testing.T, dn, aci string) {
	t.Helper()
	req := ldap.NewModifyRequest(dn, nil)
	req.Add("aci", []string{aci})
	require.NoError(t, a.keeper.Conn().Modify(req), aci)
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
	switch a.dialect {
	case directory.AD:
		for _, attr := range attrs {
			a.prepend(t, dn, objectDenied(a.schemaID(t, attr), a.sid, 0x10, below))
		}
	case directory.NS389:
		target := fmt.Sprintf(`(target="ldap:///%s")`, dn)
		if !below {
			target += `(targetscope="base")`
			target = fmt.Sprintf(`(target="ldap:///%s")`, dn)
		}
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
	req := ldap.NewModifyRequest(dn, []ldap.Control{flags})
	req.Replace("nTSecurityDescriptor", []string{string(append(out, acl...))})
	require.NoError(t, a.keeper.Conn().Modify(req))
}

func TestExperiment(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.name == "practice" {
			t.Skip()
		}
		a := s.auditor(t)
		hidden, absent, shown := s.person(t, a.keeper, "Hidden", "hid"), s.person(t, a.keeper, "Absent", "abs"), s.person(t, a.keeper, "Shown", "sho")
		attr := "title"
		for _, dn := range []string{hidden, shown} {
			require.Zero(t, modify(a.keeper, dn, func(r *ldap.ModifyRequest) { r.Replace(attr, []string{"x"}) }))
		}
		a.deny(t, hidden, false, attr)
		_ = absent
		c, err := source.Connect(context.Background(), source.Target{Yard: a.yard})
		require.NoError(t, err)
		defer c.Close()
		for _, f := range []string{"(title=*)", "(!(title=*))", "(|(title=*)(!(title=*)))", "(title=x)", "(!(title=x))", "(!(|(title=*)(!(title=*))))"} {
			res, err := c.Conn().Search(ldap.NewSearchRequest(s.container("Staff"), ldap.ScopeSingleLevel, 0, 0, 0, false, "(&(objectClass=person)"+f+")", []string{"cn", attr, "ntsecuritydescriptor"}, nil))
			var got []string
			for _, e := range res.Entries {
				got = append(got, fmt.Sprint(e.GetAttributeValue("cn"), "/", e.GetAttributeValue(attr), "/", len(e.GetAttributeValue("ntsecuritydescriptor")), len(e.GetAttributeValue("nTSecurityDescriptor"))))
			}
			fmt.Println("EXP", s.name, f, got, err)
		}
	})
}
