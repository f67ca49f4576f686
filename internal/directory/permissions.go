package directory

import (
	"encoding/binary"
	"slices"
)

// AttrSecurityDescriptor holds who may do what to an entry of the `ad` schema
// (MS-DTYP 2.4.6). It is read and written by asking for it, part by part.
const AttrSecurityDescriptor = "nTSecurityDescriptor"

// daclProtected says that the discretionary access list takes nothing in from above
// (MS-DTYP 2.4.6, control bit PD).
const daclProtected = 0x1000

// InheritsPermissions tells whether the access list of a security descriptor takes in
// what the containers above hand down.
func InheritsPermissions(descriptor string) (bool, error) {
	_, there, err := accessList(descriptor)
	if err != nil {
		return false, err
	}
	if !there {
		return false, errDescriptor // everybody may do everything, which is no list to switch
	}
	return control(descriptor)&daclProtected == 0, nil
}

// InheritPermissions returns a security descriptor with inheritance switched on or off,
// and every other octet as it was.
func InheritPermissions(descriptor string, on bool) (string, error) {
	if _, err := InheritsPermissions(descriptor); err != nil {
		return "", err
	}
	flags := control(descriptor) | daclProtected
	if on {
		flags &^= daclProtected
	}
	raw := []byte(descriptor)
	binary.LittleEndian.PutUint16(raw[2:], flags)
	return string(raw), nil
}

// SamePermissions tells whether two security descriptors have the same access list: the
// same rules of the entry's own, octet by octet and in the same order, and inheritance
// on or off alike. Rules that come from above are the server's to fill in.
func SamePermissions(a, b string) bool {
	rulesA, onA, errA := ownPermissions(a)
	rulesB, onB, errB := ownPermissions(b)
	return errA == nil && errB == nil && onA == onB && slices.Equal(rulesA, rulesB)
}

// ownPermissions are the rules of an access list that were not handed down from above,
// as they stand there, and whether it takes any in.
func ownPermissions(descriptor string) (own []string, inherits bool, err error) {
	if inherits, err = InheritsPermissions(descriptor); err != nil {
		return nil, false, err
	}
	list, _, err := accessList(descriptor)
	for _, a := range list {
		if a.flags&aceWasInherited == 0 {
			own = append(own, a.raw)
		}
	}
	return own, inherits, err
}

func control(descriptor string) uint16 {
	return uint16(descriptor[2]) | uint16(descriptor[3])<<8
}
