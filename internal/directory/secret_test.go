package directory

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSecretsAreKnownByTheirNames(t *testing.T) {
	for _, name := range []string{"userPassword", "USERPASSWORD;lang-en", "unicodePwd", "dBCSPwd", "supplementalCredentials", "krbPrincipalKey", "ms-Mcs-AdmPwd", "msLAPS-Password",
		"msLAPS-EncryptedPasswordHistory", "msFVE-RecoveryPassword", "msFVE-KeyPackage", "msDS-ManagedPassword", "sambaNTPassword", "ipaNTHash", "oathSecret", "totpSecret", "doorPIN", "user-pin",
		"webAuthToken", "apiKey", "sshPrivateKey", "authCredential", "wifiPassphrase", "vpnOTP", "linkTrackSecret", "2.5.4.35", "OID.2.5.4.35", "1.2.840.113556.1.4.90", "1.2.3.4", "nsds5ReplicaCredentials",
		"netscapeReversiblePassword", "ntUserNtPassword", "nsSymmetricKey", "userParameters"} {
		assert.True(t, IsSecret(name), name)
		assert.True(t, IsSecret(name), name) // and so the second time
	}
	for _, name := range []string{"pwdLastSet", "pwdChangedTime", "pwdAccountLockedTime", "badPwdCount", "badPasswordTime", "msDS-UserPasswordExpiryTimeComputed", "maxPwdAge", "pwdPolicySubentry",
		"passwordExpirationTime", "passwordRetryCount", "passwordMaxAge", "passwordExp", "tokenGroups", "keywords", "shippingState", "keyboardLayout", "description", "mail", "cn", "sshPublicKey",
		"primaryGroupToken", "secretary", "2.5.4.3", "oid.2.5.4.12", "msDS-KeyVersionNumber", "pwdMaxFailure", "pwdFailureTime", "passwordAllowChangeTime", "", "member;range=0-10"} {
		assert.False(t, IsSecret(name), name)
	}
	for id := AttrUnknown + 1; id < attrCount; id++ {
		assert.False(t, secrets[id.String()] || !harmless[id.String()] && soundsSecret(id.String()), "the tool reads %s", id)
	}
}

func TestSecretsAreKnownByTheSchema(t *testing.T) {
	var types []*Definition
	for _, text := range []string{
		"( 2.5.4.35 NAME 'userPassword' SYNTAX 1.3.6.1.4.1.1466.115.121.1.40{128} )",
		"( 1.2.3.1 NAME ( 'doorCode' 'gateCode' ) SUP userPassword )",
		"( 1.2.3.2 NAME 'innerDoorCode' SUP gateCode )",
		"( 1.2.3.3 NAME 'byNumber' SUP 2.5.4.35 )",
		"( 1.2.3.4 NAME 'lastTokenUse' DESC 'when (a ) token' SYNTAX 1.3.6.1.4.1.1466.115.121.1.24 )",
		"( 1.2.3.5 NAME 'gatePin' SYNTAX 1.3.6.1.4.1.1466.115.121.1.27 )",
		"( 1.2.3.6 NAME 'colour' SYNTAX 1.3.6.1.4.1.1466.115.121.1.15 USAGE directoryOperation NO-USER-MODIFICATION )",
	} {
		d, ok := ParseDefinition(text)
		assert.True(t, ok, text)
		types = append(types, &d)
	}
	found := SecretBySchema(types)
	for _, name := range []string{"userpassword", "2.5.4.35", "doorcode", "gatecode", "1.2.3.1", "innerdoorcode", "bynumber", "gatepin"} {
		assert.True(t, found[name], name)
	}
	assert.False(t, found["lasttokenuse"])
	assert.False(t, found["colour"])
}

func TestParseDefinition(t *testing.T) {
	d, ok := ParseDefinition("( 1.2.3 NAME ( 'a' 'b' ) DESC 'it''s NAME' SUP name EQUALITY x SYNTAX 1.3.6{5} SINGLE-VALUE NO-USER-MODIFICATION USAGE dSAOperation X-ORIGIN 'y' )")
	assert.True(t, ok)
	assert.Equal(t, Definition{OID: "1.2.3", Names: []string{"a", "b"}, Super: "name", Syntax: "1.3.6", ReadOnly: true, Operational: true}, d)
	for _, text := range []string{"", "(", "( )", "1.2.3", "( 1.2.3 NAME ( 'a'"} {
		ParseDefinition(text) // and does not run away
	}
}

func TestSecretsAreDeclared(t *testing.T) {
	defer DeclareSecrets(nil, nil)
	DeclareSecrets([]string{"badgeNumber", "employeeID"}, []string{"apiKey", "userPassword", "doorPin"})
	for name, want := range map[string]bool{"BadgeNumber": true, "employeeID": true, "apiKey": false, "doorPin": false, "userPassword": true, "mail": false, "webToken": true} {
		assert.Equal(t, want, IsSecret(name), name)
	}
}
