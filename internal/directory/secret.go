package directory

import (
	"fmt"
	"strings"
	"sync"
)

// secrets are attributes whose values the tool never asks for, keeps, journals
// or shows, in lower case: those that no part of their name gives away, and
// some that are known.
var secrets = setOf(
	`userpassword unicodepwd dbcspwd ntpwdhistory lmpwdhistory pwdhistory supplementalcredentials sambantpassword
	sambalmpassword sambapasswordhistory authpassword msfve-recoverypassword mstpm-ownerinformation mstpm-ownerinformationtemp
	msds-managedpassword msds-managedpasswordid msds-managedpasswordpreviousid nsroledefaultpassword unixuserpassword currentvalue
	priorvalue trustauthincoming trustauthoutgoing initialauthincoming initialauthoutgoing olcrootpw nsslapd-rootpw orclpassword
	msds-keycredentiallink userpkcs12 pkcs8privatekey nssymmetrickey krbprincipalkey krb5key userauthinfo olcsyncrepl olcdbaclbind
	olcdbidassertbind olcchainuri userparameters msds-executescriptpassword msds-transformationrulescompiled mssfu30keyvalues
	bootparameter radiussharedsecret radiuscheckitem radiusreplyitem dhcpkey dhcpfailoverendpointstate idnssecalgorithm
	samlprivatekey oathsecret totpsecret googleauthenticatorsecret yubikeyid u2fregistration fidokey otpsecret recoverycodes
	securityanswer secretanswer secretquestion passportnumber`,
)

// telling are the parts of a name that give a secret away wherever they stand
// in it.
var telling = []string{
	"password",
	"passwd",
	"passphrase",
	"pwd",
	"secret",
	"token",
	"credential",
	"hash",
	"privatekey",
	"admpw",
	"recoverykey",
	"keypackage",
}

// tellingEnd are those that do so at its end only: elsewhere they are parts of
// other words (shipping, keyboard).
var tellingEnd = []string{"key", "keys", "pin", "pins", "otp", "otpkey", "pass", "cipher", "seed"}

// harmless are names that give nothing away but sound as if they did.
var harmless = setOf(
	`keywords ms-sql-keywords msdfsr-keywords meetingkeyword tokengroups tokengroupsglobalanduniversal tokengroupsnogcacceptable
	publickey sshpublickey nssshpublickey ipasshpubkey ldappublickey pkiextendedkeyusage pkikeyusage publickeypolicy mssfu30keyattributes msimaging-hashalgorithm
	passwordstoragescheme passwordexp passwordmustchange passwordchange passwordlockout passwordunlock passwordisglobalpolicy passwordlegacypolicy
	passwordhistorysize passwordinhistory passwordkeephistory passwordchecksyntax passworddictcheck passworddictpath passwordpalindrome passwordtrackupdatetime
	passwordsendexpiringtime passwordwarning passwordexpwarned passwordgraceusertime passwordgracelimit passwordretrycount passwordresetfailurecount
	passwordresetduration passwordmaxage passwordminage passwordmaxfailure passwordlockoutduration passworduserattributes passwordbadwords
	passwordminlength passwordmindigits passwordminalphas passwordminuppers passwordminlowers passwordminspecials passwordmin8bit passwordmaxrepeats
	passwordmincategories passwordmintokenlength passwordmaxsequence passwordtprmaxuse passwordpolicy pwdpolicy passwordpolicydn krbpwdpolicyreference
	pwdexpirationwarned pwdgraceusertime pwdsendexpiringtime pwdpalindrome pwduserattributes pwdbadwords pwdchecksyntax pwddictcheck pwddictpath pwdmaxrepeats
	pwdmincategories pwdmintokenlength pwdmin8bit pwdminalphas pwdmindigits pwdminlowers pwdminspecials pwdminuppers pwdmaxsequence pwdcheckmodule
	pwdtprexpireat pwdtprvalidfrom pwdtprreset krblastpwdchange krbpasswordexpiration mslaps-passwordexpirationtime ms-mcs-admpwdexpirationtime
	nsslapd-rootpwstoragescheme dhcpmaxkey primarygrouptoken msds-keyversionnumber automountkey nsslapd-hash-filters nsslapd-enable-upgrade-hash
	olcpasswordhash olcindexhash64 pekkeychangeinterval`,
)

func setOf(names string) map[string]bool {
	set := map[string]bool{}
	for name := range strings.FieldsSeq(names) {
		set[name] = true
	}
	return set
}

// judgedNames remembers what was found out of names that no table of numbers
// holds, since the same few come a million times. It is emptied when it grows
// beyond what honest entries carry.
var judgedNames struct {
	sync.RWMutex
	secret map[string]bool
}

const mostJudged = 10000

// declared are the names that somebody has said to be secret, or not to be, in
// lower case.
var declared map[string]bool

// DeclareSecrets says of attributes that they hold secrets, and of others that
// they only sound so: those of the servers' own table stay what they are. It is
// called once, before anything is read.
func DeclareSecrets(also, harmless []string) {
	judgedNames.Lock()
	defer judgedNames.Unlock()
	declared, judgedNames.secret = map[string]bool{}, nil
	for _, name := range harmless {
		declared[strings.ToLower(name)] = false
	}
	for _, name := range also {
		declared[strings.ToLower(name)] = true
	}
}

// IsSecret tells whether an attribute holds a password, a key or their like, by
// its name, whatever its case and options. A name that sounds like one is one,
// unless it is known to be harmless; and so is a number in the place of a name
// that no table has, which tells nothing. What a server's schema says, the server is asked for.
func IsSecret(name string) bool {
	if LookupAttr(name) != AttrUnknown && len(declared) == 0 {
		return false // the tool's own list holds no secret
	}
	judgedNames.RLock()
	secret, known := judgedNames.secret[name]
	judgedNames.RUnlock()
	if known {
		return secret
	}
	secret = soundsSecret(name)
	judgedNames.Lock()
	defer judgedNames.Unlock()
	if judgedNames.secret == nil || len(judgedNames.secret) > mostJudged {
		judgedNames.secret = map[string]bool{}
	}
	judgedNames.secret[strings.Clone(name)] = secret
	return secret
}

func soundsSecret(name string) bool {
	name, _, _ = strings.Cut(name, ";")
	name = strings.ToLower(strings.TrimSpace(name))
	bare := strings.ReplaceAll(name, "-", "")
	said, isSaid := declared[name]
	switch {
	case name == "":
		return false
	case IsOID(name):
		plain := PlainName(name) // no table holds the number of a secret
		return plain == name || IsSecret(plain)
	case secrets[name]:
		return true
	case isSaid:
		return said
	case harmless[name] || LookupAttr(name) != AttrUnknown:
		return false
	}
	for _, part := range telling {
		if strings.Contains(bare, part) {
			return !holdsNoText(name)
		}
	}
	for _, part := range tellingEnd {
		if strings.HasSuffix(bare, part) {
			return !holdsNoText(name)
		}
	}
	return false
}

// SecretError refuses a question about an attribute that holds secrets.
func SecretError(name string) error {
	if IsOID(name) {
		return fmt.Errorf("%s is a number, which does not tell what it holds: give the attribute's name", name)
	}
	return fmt.Errorf("%s holds secrets, or sounds as if it did; such attributes are never asked for", name)
}

// IsOID tells whether a name of an attribute is a number (RFC 4512, section
// 1.4), with or without "oid." before it.
func IsOID(name string) bool {
	name = strings.TrimPrefix(strings.ToLower(name), "oid.")
	return name != "" && name[0] >= '0' && name[0] <= '9'
}

// numberHides tells whether a number under this name would be a secret too.
func numberHides(name string) bool {
	name = strings.ToLower(name)
	return strings.HasSuffix(name, "pin") || strings.HasSuffix(name, "otp") || strings.HasSuffix(name, "seed")
}

// holdsNoText tells whether the servers' own schemas know the attribute as one
// that holds a number, a time, a truth or a name: the age of a password, not
// the password.
func holdsNoText(name string) bool {
	if numberHides(name) {
		return false
	}
	for _, schema := range []func() *Schema{schemaAD, schemaStandard} {
		if t := schema().Type(name); t != nil {
			switch t.Syntax {
			case SyntaxNumber, SyntaxTime, SyntaxBoolean, SyntaxDN, SyntaxClass:
				return true
			}
			return false
		}
	}
	return false
}

// SecretBySchema returns which attributes of a server's schema (RFC 4512,
// section 4.1.2) hold secrets, under all their names and numbers, in lower
// case: those that sound so, those derived from one, and all names of one that
// has such a name.
func SecretBySchema(types []*Definition) map[string]bool {
	found := map[string]bool{}
	mark := func(d *Definition) bool {
		fresh := !found[d.OID]
		found[d.OID] = true
		for _, name := range d.Names {
			found[strings.ToLower(name)] = true
		}
		return fresh
	}
	for _, d := range types {
		for _, name := range d.Names {
			if (!d.plainValue() || numberHides(name)) && IsSecret(name) {
				mark(d)
			}
		}
	}
	for again := true; again; {
		again = false
		for _, d := range types {
			if d.Super != "" && found[strings.ToLower(d.Super)] && mark(d) {
				again = true
			}
		}
	}
	return found
}
