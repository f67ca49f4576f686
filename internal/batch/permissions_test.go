package batch

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
)

func TestWhoIsPrivilegedKeepsMarkAndPermissions(t *testing.T) {
	p := Protection{Dialect: directory.AD}
	ada := directory.Entry{DN: "CN=Ada,OU=Staff,DC=x"}
	for name, values := range map[string][]string{"objectClass": {"top", "person", "user"}, "objectGUID": {"0123456789abcdef"}, "objectSid": {ownSID(t)}, "sAMAccountName": {"ada"}, "adminCount": {"1"}} {
		ada.Set(name, values...)
	}
	unmark, describe := &Line{Actions: []Action{{Name: Unmark}}}, &Line{Actions: []Action{{Name: Describe}}}
	for _, f := range []*Footprint{{Powers: []string{"Domain Admins"}}, {Given: []string{"Domain Admins"}}} {
		assert.Contains(t, p.Refuse(unmark, &ada, f), "it is privileged by Domain Admins, and the directory would mark it again")
		assert.Empty(t, p.Refuse(describe, &ada, f))
	}
	assert.Empty(t, p.Refuse(unmark, &ada, &Footprint{}))
}

func ownSID(t *testing.T) string {
	t.Helper()
	sid, err := directory.EncodeSID("S-1-5-21-1-2-3-1104")
	require.NoError(t, err)
	return sid
}

func TestPermissionsAreGuardedByWhatIsReadNow(t *testing.T) {
	closed, err := directory.EncodeSID("S-1-1-0")
	require.NoError(t, err)
	rule := "\x00\x00" + string([]byte{byte(8 + len(closed)), 0}) + "\x10\x00\x00\x00" + closed
	list := "\x04\x00" + string([]byte{byte(8 + len(rule)), 0}) + "\x01\x00\x00\x00" + rule
	was := "\x01\x00\x04\x90" + string(make([]byte, 12)) + "\x14\x00\x00\x00" + list
	open, err := directory.InheritPermissions(was, true)
	require.NoError(t, err)
	other := was[:len(was)-1] + "\x07"
	guards := []Guard{{Attr: directory.AttrSecurityDescriptor, Rule: Permissions, Values: []Octets{Octets(was)}}}
	for now, want := range map[string]string{
		was:   "",
		open:  "its permissions are inherited now, they were not inherited",
		other: "its permissions were changed since this was staged",
		"":    "its permissions cannot be read now",
	} {
		drift, err := PermissionsDrift(guards, func() (string, error) { return now, nil })
		require.NoError(t, err)
		assert.Equal(t, want, drift)
	}
	_, err = PermissionsDrift(guards, func() (string, error) { return "", errors.New("lost") })
	require.Error(t, err)
	_, err = PermissionsDrift(nil, func() (string, error) { return "", errors.New("nobody asks") })
	require.NoError(t, err)
	assert.Empty(t, Drift(guards, &directory.Entry{}, nil), "which values of the entry say nothing of")
	assert.Empty(t, Attributes(guards), "and no filter can test")
}
