package realserver

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yardbroom/internal/settings"
)

// OpenLDAPBase is the naming context of the slapd that OpenLDAP starts.
const OpenLDAPBase = "dc=larkmoor,dc=example"

const slapdConf = `include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
include /etc/ldap/schema/nis.schema
attributetype ( 1.3.6.1.4.1.32473.1.1 NAME ( 'gateCode' 'doorCode' ) SUP userPassword )
attributetype ( 1.3.6.1.4.1.32473.1.2 NAME 'favouriteColour' EQUALITY caseIgnoreMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15 )
attributetype ( 1.3.6.1.4.1.32473.1.3 NAME 'orderedNote' EQUALITY caseIgnoreMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15 X-ORDERED 'VALUES' )
objectclass ( 1.3.6.1.4.1.32473.2.1 NAME 'observer' SUP top AUXILIARY MAY ( gateCode $ favouriteColour $ orderedNote ) )
objectclass ( 1.3.6.1.4.1.32473.2.2 NAME 'stargazer' SUP inetOrgPerson STRUCTURAL MAY favouriteColour )
pidfile %[1]s/slapd.pid
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload ppolicy
moduleload memberof
%[5]sTLSCACertificateFile %[1]s/tls/ca.pem
TLSCertificateFile %[1]s/tls/cert.pem
TLSCertificateKeyFile %[1]s/tls/key.pem
sizelimit unlimited
database config
rootpw %[3]s
database mdb
suffix "%[2]s"
rootdn "cn=admin,%[2]s"
rootpw %[3]s
directory %[1]s/db
maxsize 2147483648
index objectClass,uid,member,entryUUID eq
access to attrs=userPassword by anonymous auth by * none
access to dn.subtree="ou=hidden,%[2]s" by * none
access to * by dn.exact="uid=reader,ou=people,%[2]s" read by users read by anonymous auth
%[4]s`

// Parts of a slapd's configuration that servers have or have not.
const (
	SlapdLastBind = "lastbind on\n"
	SlapdPolicies = "overlay ppolicy\nppolicy_default \"cn=default,ou=policies," + OpenLDAPBase + "\"\n"
	SlapdMemberOf = "overlay memberof\n"
	// SlapdSync tells others what has changed (RFC 4533), SlapdSyncLog also what is gone.
	SlapdSync    = "overlay syncprov\n"
	SlapdSyncLog = "overlay syncprov\nsyncprov-sessionlog 1000\n"
	// SlapdReplica takes what it holds from another server, and no writes.
	SlapdReplica = "syncrepl rid=001 provider=ldap://127.0.0.1:1 type=refreshAndPersist retry=\"60 +\" bindmethod=simple searchbase=\"" + OpenLDAPBase + "\"\nupdateref ldap://primary.larkmoor.example\n"
	// SlapdSmallPages refuses whoever asks for more than 150 entries at once.
	SlapdSmallPages = "limits users size=unlimited size.pr=150 time=unlimited\n"
	// SlapdRefint keeps references whole, a moment after each write. Groups that
	// must have a member get one that stands for none.
	SlapdRefint = "overlay refint\nrefint_attributes member uniqueMember manager secretary owner seeAlso\nrefint_nothing cn=admin," + OpenLDAPBase + "\n"
)

const slapdData = `dn: %[1]s
objectClass: top
objectClass: dcObject
objectClass: organization
o: Larkmoor Observatory
dc: larkmoor

dn: ou=people,%[1]s
objectClass: organizationalUnit
ou: people

dn: ou=parked,%[1]s
objectClass: organizationalUnit
ou: parked

dn: ou=groups,%[1]s
objectClass: organizationalUnit
ou: groups

dn: ou=policies,%[1]s
objectClass: organizationalUnit
ou: policies

dn: cn=default,ou=policies,%[1]s
objectClass: top
objectClass: device
objectClass: pwdPolicy
cn: default
pwdAttribute: userPassword
pwdLockout: TRUE
pwdMaxFailure: 3
pwdLockoutDuration: 0

dn: cn=nolock,ou=policies,%[1]s
objectClass: top
objectClass: device
objectClass: pwdPolicy
cn: nolock
pwdAttribute: userPassword
pwdLockout: FALSE

dn: uid=reader,ou=people,%[1]s
objectClass: inetOrgPerson
uid: reader
cn: Rita Reader
sn: Reader
userPassword: reader-secret
`

// OpenLDAP starts a slapd that records sign-ins, with the password policy and
// memberof overlays.
func OpenLDAP(t testing.TB) *Server {
	t.Helper()
	return OpenLDAPWith(t, SlapdLastBind, SlapdPolicies, SlapdMemberOf)
}

// OpenLDAPWith starts a slapd with some parts of its configuration and not others.
func OpenLDAPWith(t testing.TB, parts ...string) *Server {
	t.Helper()
	return FilledOpenLDAP(t, 0, parts...)
}

// FilledOpenLDAP starts one that holds so many people besides, and is as slow as
// that makes it.
func FilledOpenLDAP(t testing.TB, people int, parts ...string) *Server {
	t.Helper()
	slapd := Program(t, "slapd", "slapd")
	add := Program(t, "slapadd", "slapd")
	s := &Server{Name: "slapd", Base: OpenLDAPBase, Password: "admin-secret", Dir: t.TempDir()}
	Certificate(t, filepath.Join(s.Dir, "tls"), "localhost")
	require.NoError(t, os.Mkdir(filepath.Join(s.Dir, "db"), 0o700))
	modules := ""
	if slices.Contains(parts, SlapdRefint) {
		modules = "moduleload refint\n" // only there, since it adds to the schema
	}
	if slices.Contains(parts, SlapdSync) || slices.Contains(parts, SlapdSyncLog) {
		modules += "moduleload syncprov\n"
	}
	conf, data := filepath.Join(s.Dir, "slapd.conf"), filepath.Join(s.Dir, "data.ldif")
	require.NoError(
		t,
		os.WriteFile(conf, fmt.Appendf(nil, slapdConf, s.Dir, s.Base, s.Password, strings.Join(parts, ""), modules),
			0o600),
	)
	text := fmt.Appendf(nil, slapdData, s.Base)
	for i := range people {
		text = fmt.Appendf(
			text,
			"\ndn: uid=filler%[1]d,ou=people,%[2]s\nobjectClass: inetOrgPerson\nuid: filler%[1]d\ncn: Filler %[1]d\nsn: Filler\nmanager: uid=filler0,ou=people,%[2]s\n",
			i,
			s.Base,
		)
	}
	require.NoError(t, os.WriteFile(data, text, 0o600))
	command(t, s.Dir, add, "-q", "-f", conf, "-l", data)
	port, tlsPort := freePort(t), freePort(t)
	socket := filepath.Join(s.Dir, "ldapi")
	urls := fmt.Sprintf("ldap://127.0.0.1:%d ldaps://127.0.0.1:%d ldapi://%s", port, tlsPort, escapeSocket(socket))
	s.start = func(t testing.TB) {
		s.run(t, exec.Command(slapd, "-f", conf, "-h", urls, "-d", "stats"), fmt.Sprintf("127.0.0.1:%d", port))
	}
	s.Start(t)
	t.Cleanup(s.Stop)
	s.Log = s.output
	s.Yard = settings.Yard{
		Servers:       []string{fmt.Sprintf("ldap://127.0.0.1:%d", port)},
		Base:          s.Base,
		CAFile:        filepath.Join(s.Dir, "tls", "ca.pem"),
		DefaultPolicy: "cn=default,ou=policies," + s.Base,
		Bind:          settings.Bind{DN: "cn=admin," + s.Base, PasswordFile: s.passwordFile(t)},
	}
	s.TLSURL, s.SocketURL = fmt.Sprintf("ldaps://127.0.0.1:%d", tlsPort), "ldapi://"+escapeSocket(socket)
	return s
}

func escapeSocket(path string) string {
	out := ""
	for _, r := range path {
		if r == '/' {
			out += "%2F"
			continue
		}
		out += string(r)
	}
	return out
}
