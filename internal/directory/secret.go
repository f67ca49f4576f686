package directory

import "strings"

// secrets are the attributes whose values the tool never asks for, keeps,
// journals or shows, in lower case.
var secrets = map[string]bool{
	"userpassword": true, "unicodepwd": true, "dbcspwd": true, "ntpwdhistory": true, "lmpwdhistory": true,
	"pwdhistory": true, "supplementalcredentials": true, "sambantpassword": true, "sambalmpassword": true,
	"sambapasswordhistory": true, "krbprincipalkey": true, "krb5key": true, "authpassword": true,
	"ms-mcs-admpwd": true, "mslaps-password": true, "mslaps-encryptedpassword": true,
	"mslaps-encryptedpasswordhistory": true, "mslaps-encrypteddsrmpassword": true,
	"mslaps-encrypteddsrmpasswordhistory": true, "msfve-recoverypassword": true, "msfve-keypackage": true,
	"mstpm-ownerinformation": true, "msds-managedpassword": true, "msds-managedpasswordid": true,
	"msds-managedpasswordpreviousid": true, "passwordhistory": true, "nsroledefaultpassword": true,
	"unixuserpassword": true, "currentvalue": true, "priorvalue": true, "trustauthincoming": true,
	"trustauthoutgoing": true, "initialauthincoming": true, "initialauthoutgoing": true,
	"olcrootpw": true, "nsslapd-rootpw": true, "orclpassword": true, "ipanthash": true,
	"sambapreviousclearpassword": true, "sambacleartextpassword": true, "oathsecret": true,
	"ipatokenotpkey": true, "nsmultiplexorcredentials": true, "nsds5replicacredentials": true,
	"msds-keycredentiallink": true, "sshprivatekey": true, "userpkcs12": true,
}

// IsSecret tells whether an attribute holds a password, a key or their like,
// whatever its case and options.
func IsSecret(name string) bool {
	name, _, _ = strings.Cut(name, ";")
	if len(name) > 40 {
		return false
	}
	var lower [40]byte
	for i := range len(name) {
		c := name[i]
		if 'A' <= c && c <= 'Z' {
			c |= 0x20
		}
		lower[i] = c
	}
	return secrets[string(lower[:len(name)])]
}
