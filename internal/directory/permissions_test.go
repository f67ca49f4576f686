package directory

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestInheritanceIsSwitchedAndNothingElse(t *testing.T) {
	open := descriptorOf(ace{kind: aceAllowed, mask: rightReadProperty, sid: everyone}, ace{kind: aceAllowed, flags: aceWasInherited, mask: 3, sid: crew})
	closed, err := InheritPermissions(open, false)
	require.NoError(t, err)
	assert.Equal(t, open[:2]+"\x04\x90"+open[4:], closed, "one bit of the control field")
	for descriptor, want := range map[string]bool{open: true, closed: false} {
		got, err := InheritsPermissions(descriptor)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	again, err := InheritPermissions(closed, true)
	require.NoError(t, err)
	assert.Equal(t, open, again)
}

func TestPermissionsAreTheSameByTheEntrysOwnRules(t *testing.T) {
	own, other := ace{kind: aceAllowed, mask: 1, sid: me}, ace{kind: aceDenied, mask: 1, sid: me}
	handed := ace{kind: aceAllowed, flags: aceWasInherited, mask: 1, sid: crew}
	is := descriptorOf(own, other)
	closed, err := InheritPermissions(is, false)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		now  string
		same bool
	}{
		"the same":           {is, true},
		"handed down":        {descriptorOf(own, other, handed), true},
		"another order":      {descriptorOf(other, own), false},
		"one fewer":          {descriptorOf(own), false},
		"one more":           {descriptorOf(own, other, own), false},
		"inherits no longer": {closed, false},
		"unreadable":         {"\x01", false},
	} {
		assert.Equal(t, c.same, SamePermissions(is, c.now), name)
	}
	assert.False(t, SamePermissions("", ""), "what cannot be read is like nothing")
}

func TestADescriptorWithoutAListHasNoInheritance(t *testing.T) {
	none := append([]byte{1, 0, 0, 0x80}, make([]byte, 16)...)
	for _, raw := range []string{"", "\x01\x00\x04\x80", string(none), descriptorOf(ace{kind: aceAllowed, sid: me})[:30]} {
		_, err := InheritsPermissions(raw)
		assert.Error(t, err)
		_, err = InheritPermissions(raw, true)
		assert.Error(t, err)
	}
}
