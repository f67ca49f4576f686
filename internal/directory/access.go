package directory

import (
	"encoding/binary"
	"errors"
	"slices"
)

// Rights of directory objects (MS-ADTS 5.1.3.2).
const (
	rightDeleteChild   = 0x00000002
	rightListChildren  = 0x00000004
	rightReadProperty  = 0x00000010
	rightWriteProperty = 0x00000020
	rightControlAccess = 0x00000100
	rightDelete        = 0x00010000
	rightGenericAll    = 0x10000000
	rightGenericWrite  = 0x40000000
	rightGenericRead   = 0x80000000
)

// Kinds and flags of the entries of an access list (MS-DTYP 2.4.4.1).
const (
	aceAllowed, aceDenied                                   = 0, 1
	aceAllowedObject, aceDeniedObject                       = 5, 6
	aceAllowedConditional, aceDeniedConditional             = 9, 10
	aceAllowedObjectConditional, aceDeniedObjectConditional = 11, 12

	aceInherited     = 0x02 // by containers below
	aceInheritOnly   = 0x08
	aceWasInherited  = 0x10 // from a container above
	aceObjectType    = 0x1
	aceInheritedType = 0x2

	daclPresent     = 0x0004
	sdHeaderSize    = 20
	aclHeaderSize   = 8
	everyoneSID     = "S-1-1-0"
	principalSelf   = "S-1-5-10"
	guidSize        = 16
	leastACE        = 8
	objectACEHeader = 12
)

var errDescriptor = errors.New("the security descriptor cannot be read")

// ace is one entry of an access list.
type ace struct {
	kind, flags byte
	mask        uint32
	object      string // raw identity of the property, set of properties or class that it is about, "" for all
	sid         string // raw
	raw         string // all of it
}

// accessList reads the discretionary list of a security descriptor (MS-DTYP
// 2.4.6). Without one, everybody may do everything, and there is none.
func accessList(descriptor string) (list []ace, there bool, err error) {
	raw := []byte(descriptor)
	if len(raw) < sdHeaderSize || raw[0] != 1 {
		return nil, false, errDescriptor
	}
	at := int(binary.LittleEndian.Uint32(raw[16:]))
	if binary.LittleEndian.Uint16(raw[2:])&daclPresent == 0 || at == 0 {
		return nil, false, nil
	}
	if at+aclHeaderSize > len(raw) {
		return nil, false, errDescriptor
	}
	count := int(binary.LittleEndian.Uint16(raw[at+4:]))
	at += aclHeaderSize
	for range count {
		if at+leastACE > len(raw) {
			return nil, false, errDescriptor
		}
		size := int(binary.LittleEndian.Uint16(raw[at+2:]))
		if size < leastACE || at+size > len(raw) {
			return nil, false, errDescriptor
		}
		one := ace{kind: raw[at], flags: raw[at+1], mask: binary.LittleEndian.Uint32(raw[at+4:]), raw: descriptor[at : at+size]}
		sid := at + leastACE
		switch one.kind {
		case aceAllowedObject, aceDeniedObject, aceAllowedObjectConditional, aceDeniedObjectConditional:
			if size < objectACEHeader {
				return nil, false, errDescriptor
			}
			what := binary.LittleEndian.Uint32(raw[sid:])
			sid += 4
			if what&aceObjectType != 0 {
				if sid+guidSize > at+size {
					return nil, false, errDescriptor
				}
				one.object = string(raw[sid : sid+guidSize])
				sid += guidSize
			}
			if what&aceInheritedType != 0 {
				sid += guidSize
			}
		}
		if sid+leastACE > at+size || sid+8+4*int(raw[sid+1]) > at+size {
			return nil, false, errDescriptor
		}
		one.sid = string(raw[sid : sid+8+4*int(raw[sid+1])])
		list = append(list, one)
		at += size
	}
	return list, true, nil
}

// DeniesDelete tells whether a security descriptor denies everybody to delete
// the entry it is on, which is how consoles protect an entry against
// accidents. No descriptor denies nothing.
func DeniesDelete(descriptor string) (bool, error) {
	if descriptor == "" {
		return false, nil
	}
	list, _, err := accessList(descriptor)
	if err != nil {
		return false, err
	}
	return slices.ContainsFunc(list, func(a ace) bool {
		sid, err := ParseSID(a.sid)
		return a.kind == aceDenied && a.flags&aceInheritOnly == 0 && a.mask&rightDelete != 0 && err == nil &&
			sid == everyoneSID
	}), nil
}

// Property is how access lists know an attribute: by its identity in the
// schema, and by the set of properties that it belongs to.
type Property struct {
	ID, Set string // raw; Set is "" where it is in none
	// Confidential tells that reading it takes another right besides.
	Confidential bool
}

// Reader judges what one account may read, by the access lists of entries on
// the `ad` schema. What it has judged it remembers, since most entries have
// one of few lists. It is not safe for use by several goroutines.
type Reader struct {
	token      map[string]bool // raw identities of the account and its groups
	properties map[AttrID]Property
	class      Property // of objectClass
	judged     map[string]Sight
}

// Sight is what an account may see of an entry.
type Sight struct {
	Hidden AttrSet // may not be read
	// Children tells that all that stands right below is shown. Where the
	// container does not list it, entries may still be shown one by one (list
	// object mode, MS-ADTS 6.1.1.2.4.1.2), but not all of them must be.
	Children bool
	Known    bool // the access list was there and could be read
}

// NewReader returns a reader with the identities of an account and of all its
// groups, raw.
func NewReader(token []string, properties map[AttrID]Property) *Reader {
	r := &Reader{
		token:      map[string]bool{},
		properties: properties,
		class:      properties[AttrObjectClass],
		judged:     map[string]Sight{},
	}
	for _, sid := range token {
		r.token[sid] = true
	}
	return r
}

const mostRemembered = 20000

// Sight tells what the account may see of an entry with a security descriptor
// and an identity, both raw.
func (r *Reader) Sight(descriptor, sid string) Sight {
	if descriptor == "" {
		return Sight{}
	}
	self := sid != "" && r.token[sid]
	if !self {
		if known, ok := r.judged[descriptor]; ok {
			return known
		}
	}
	list, there, err := accessList(descriptor)
	if err != nil {
		return Sight{}
	}
	out := Sight{Known: true, Children: true}
	if there {
		mine := r.concerning(list, self)
		here := effective(slices.Clone(mine))
		for id, p := range r.properties {
			if !grants(here, rightReadProperty, p) || p.Confidential && !grants(here, rightControlAccess, p) {
				out.Hidden.Add(id)
			}
		}
		below := slices.DeleteFunc(mine, func(a ace) bool { return a.flags&aceInherited == 0 })
		out.Children = grants(here, rightListChildren, Property{}) && !denies(below, rightReadProperty, r.class)
	}
	if !self {
		if len(r.judged) >= mostRemembered {
			clear(r.judged)
		}
		r.judged[string([]byte(descriptor))] = out
	}
	return out
}

// ForceChangePassword is the extended right to reset a password (MS-ADTS
// 5.1.3.2.1), as access lists name it.
var ForceChangePassword = func() string {
	raw, err := ParseGUID("00299570-246d-11d0-a768-00aa006e0529")
	if err != nil {
		panic(err)
	}
	return raw
}()

// MayDelete tells whether the account may delete an entry of a class, or move it
// away (MS-ADTS 3.1.1.5.5.1.1): by the access list of the entry, or by that of
// what it stands in. Known is false where the lists do not tell.
func (r *Reader) MayDelete(descriptor, sid, parent, class string) (may, known bool) {
	of, known := r.here(descriptor, sid)
	if known && (of == nil || grants(*of, rightDelete, Property{})) {
		return true, true
	}
	above, knownAbove := r.here(parent, "")
	if knownAbove && (above == nil || grants(*above, rightDeleteChild, Property{ID: class})) {
		return true, true
	}
	return false, known && knownAbove
}

// MayWrite tells whether the account may write an attribute of an entry.
func (r *Reader) MayWrite(descriptor, sid string, p Property) (may, known bool) {
	of, known := r.here(descriptor, sid)
	return known && (of == nil || grants(*of, rightWriteProperty, p)), known
}

// MayControl tells whether the account has an extended right to an entry.
func (r *Reader) MayControl(descriptor, sid, right string) (may, known bool) {
	of, known := r.here(descriptor, sid)
	return known && (of == nil || grants(*of, rightControlAccess, Property{ID: right})), known
}

// here are the entries of a list that are about the account and about this very
// entry; nil where everybody may do everything. They are not known where one of
// them has a condition, which is not evaluated.
func (r *Reader) here(descriptor, sid string) (mine *[]ace, known bool) {
	list, there, err := accessList(descriptor)
	if err != nil || !there {
		return nil, err == nil
	}
	of := effective(r.concerning(list, sid != "" && r.token[sid]))
	conditional := func(a ace) bool {
		switch a.kind {
		case aceAllowedConditional, aceDeniedConditional, aceAllowedObjectConditional, aceDeniedObjectConditional:
			return true
		}
		return false
	}
	return &of, !slices.ContainsFunc(of, conditional)
}

// concerning returns the entries of a list that are about the account.
func (r *Reader) concerning(list []ace, self bool) (mine []ace) {
	for _, a := range list {
		if r.token[a.sid] || self && isSelf(a.sid) {
			mine = append(mine, a)
		}
	}
	return mine
}

// effective leaves those of a list that are about the entry it stands on, and not
// only about those below.
func effective(list []ace) []ace {
	return slices.DeleteFunc(list, func(a ace) bool { return a.flags&aceInheritOnly != 0 })
}

var rawSelf, _ = EncodeSID(principalSelf)

func isSelf(sid string) bool { return sid == rawSelf }

// decide finds the first entry of a list that settles a right to a property
// (MS-DTYP 2.5.3.2, for one right and one leaf of the tree of objects). A
// condition is not evaluated: one that may deny does, one that may allow does
// not.
func decide(list []ace, right uint32, p Property) (allowed, settled bool) {
	for _, a := range list {
		mask := a.mask
		if mask&rightGenericAll != 0 {
			mask |= right
		}
		if mask&rightGenericRead != 0 {
			mask |= rightReadProperty | rightListChildren
		}
		if mask&rightGenericWrite != 0 {
			mask |= rightWriteProperty
		}
		if mask&right == 0 || a.object != "" && a.object != p.ID && a.object != p.Set {
			continue
		}
		switch a.kind {
		case aceAllowed, aceAllowedObject:
			return true, true
		case aceDenied, aceDeniedObject, aceDeniedConditional, aceDeniedObjectConditional:
			return false, true
		}
	}
	return false, false
}

func grants(list []ace, right uint32, p Property) bool {
	allowed, _ := decide(list, right, p)
	return allowed
}

func denies(list []ace, right uint32, p Property) bool {
	allowed, settled := decide(list, right, p)
	return settled && !allowed
}
