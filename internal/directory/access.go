package directory

import (
	"encoding/binary"
	"errors"
)

// Access rights and types of a discretionary access list (MS-DTYP 2.4.3 and
// 2.4.4).
const (
	rightDelete     = 0x00010000
	aceDenied       = 1
	aceInheritOnly  = 0x08
	everyoneSID     = "S-1-1-0"
	daclPresent     = 0x0004
	sdHeaderSize    = 20
	aceHeaderAndACL = 8
)

var errDescriptor = errors.New("the security descriptor cannot be read")

// DeniesDelete tells whether a security descriptor (MS-DTYP 2.4.6) denies
// everybody to delete the entry it is on, which is how consoles protect an
// entry against accidents. No descriptor denies nothing.
func DeniesDelete(descriptor string) (bool, error) {
	raw := []byte(descriptor)
	if len(raw) == 0 {
		return false, nil
	}
	if len(raw) < sdHeaderSize || raw[0] != 1 {
		return false, errDescriptor
	}
	at := int(binary.LittleEndian.Uint32(raw[16:]))
	if binary.LittleEndian.Uint16(raw[2:])&daclPresent == 0 || at == 0 {
		return false, nil
	}
	if at+aceHeaderAndACL > len(raw) {
		return false, errDescriptor
	}
	count := int(binary.LittleEndian.Uint16(raw[at+4:]))
	at += aceHeaderAndACL
	for range count {
		if at+8 > len(raw) {
			return false, errDescriptor
		}
		size := int(binary.LittleEndian.Uint16(raw[at+2:]))
		if size < 8 || at+size > len(raw) {
			return false, errDescriptor
		}
		if raw[at] == aceDenied && raw[at+1]&aceInheritOnly == 0 && binary.LittleEndian.Uint32(raw[at+4:])&rightDelete != 0 {
			if sid, err := ParseSID(string(raw[at+8 : at+size])); err == nil && sid == everyoneSID {
				return true, nil
			}
		}
		at += size
	}
	return false, nil
}
