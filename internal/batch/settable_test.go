package batch

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
)

func TestEveryAttributeHasItsClass(t *testing.T) {
	for want, names := range map[Class][]string{
		Allowed: {"mail", "title", "DEPARTMENT", "manager", "employeeID", "extensionAttribute3", "description", "telephoneNumber", "info", "gecos"},
		ByAction: {"userAccountControl", "USERACCOUNTCONTROL", "sAMAccountName", "uid", "cn", "userPrincipalName", "accountExpires", "shadowExpire", "pwdEndTime", "pwdAccountLockedTime",
			"member", "memberUid", "userPassword", "msExchHideFromAddressLists", "distinguishedName", "nsRoleDN", "adminCount", "nTSecurityDescriptor"},
		Never: {"objectClass", "groupType", "gPLink", "scriptPath", "logonHours", "authzTo", "sshPublicKey", "homeDirectory", "loginShell", "primaryGroupID", "sIDHistory",
			"servicePrincipalName", "msDS-AllowedToDelegateTo", "msDS-KeyCredentialLink", "nsManagedRoleDN", "pwdPolicySubentry", "krbPrincipalKey", "ms-Mcs-AdmPwd", "msLAPS-Password",
			"uidNumber", "gidNumber", "owner", "aci", "sudoUser", "olcAccess", "userCertificate", "altSecurityIdentities", "oathSecret", "", "a b", "mail;lang-fr", "mail)(", "*", "2.5.4.12", "OID.2.5.4.12"},
		Unlisted: {"favouriteColour", "thumbnailLogo"},
	} {
		for _, attr := range names {
			assert.Equal(t, want, ClassOf(attr), attr)
		}
	}
	for name := range allowedAttributes {
		assert.Equal(t, Allowed, ClassOf(name), "%s is in two tables", name)
		assert.False(t, directory.IsSecret(name), name)
	}
}

func TestTheSettingsAddOnlyWhatDecidesOnNothing(t *testing.T) {
	from := fileOf(t, directory.OpenLDAP, family()...)
	for _, c := range []struct {
		attr, want string
		more       []string
	}{
		{"title", "", nil},
		{"surname", "", nil}, // another name of sn
		{"favouriteColour", "not among the attributes", nil},
		{"favouriteColour", "", []string{"FavouriteColour"}},
		{"userAccountControl", "disable and enable only", []string{"userAccountControl"}},
		{"groupType", "rights, sign-in, identity or policy", []string{"groupType"}},
		{"userid", "userid is uid: uid is changed by rename", []string{"userid"}}, // another name of uid
		{"2.5.4.12", "is a number", []string{"2.5.4.12"}},
		{"title;binary", "has an option", []string{"title;binary"}},
		{"title;lang-en", "not among the attributes", nil},
		{"title;lang-en", "not among the attributes", []string{"title"}},
		{"title;lang-en", "", []string{"title;lang-EN"}},
		{"uid;lang-en", "is changed by rename", []string{"uid;lang-en"}},
		{"favouritePassword", "", nil},
	} {
		why, err := Settable(context.Background(), from, c.attr, c.more)
		require.NoError(t, err)
		if c.want == "" && c.attr != "favouritePassword" {
			assert.Empty(t, why, c.attr)
		} else {
			assert.NotEmpty(t, why, c.attr)
			assert.Contains(t, why, c.want)
		}
	}
}
