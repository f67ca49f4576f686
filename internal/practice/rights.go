package practice

import (
	"crypto/md5"
	"encoding/binary"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
)

// Rights to read, as servers of the `ad` schema have them: each entry has an
// access list, by default one that shows everything to everybody. Those who may
// write may read all the same; only what the server shows is held back.

const (
	descriptor   = "nTSecurityDescriptor"
	schemaParent = "CN=Schema,CN=Configuration,"
	everyone     = "S-1-1-0"

	readProperty = 0x10
	listChildren = 0x4
)

// schemaID is what access lists call an attribute.
func schemaID(name string) string {
	sum := md5.Sum([]byte(strings.ToLower(name)))
	return string(sum[:])
}

// accessEntry writes one entry of an access list (MS-DTYP 2.4.4), about an
// attribute or, where that is "", about everything.
func accessEntry(deny bool, flags byte, mask uint32, attr string) string {
	sid, _ := directory.EncodeSID(everyone)
	body := string(binary.LittleEndian.AppendUint32(nil, mask))
	kind := byte(0)
	if deny {
		kind = 1
	}
	if attr != "" {
		kind += 5
		body += string(binary.LittleEndian.AppendUint32(nil, 1)) + schemaID(attr)
	}
	body += sid
	return string(binary.LittleEndian.AppendUint16([]byte{kind, flags}, uint16(4+len(body)))) + body
}

// Bits of the control field of a security descriptor (MS-DTYP 2.4.6).
const (
	selfRelative  = 0x8000
	listPresent   = 0x0004
	listProtected = 0x1000
	wasInherited  = 0x10 // of an entry of the list, from a container above
)

// accessList writes a security descriptor with a list.
func accessList(control uint16, entries []string) string {
	body := strings.Join(entries, "")
	acl := binary.LittleEndian.AppendUint16([]byte{4, 0}, uint16(8+len(body)))
	acl = append(binary.LittleEndian.AppendUint16(acl, uint16(len(entries))), 0, 0)
	head := binary.LittleEndian.AppendUint16([]byte{1, 0}, selfRelative|listPresent|control)
	head = append(head, make([]byte, 12)...)
	return string(append(append(head, 20, 0, 0, 0), acl...)) + body
}

// openToAll lets everybody do everything but what is denied before it: it names
// each right, since the one for all of them would stand for the denied ones too.
var openToAll = accessEntry(false, 0, openMask, "")

const openMask = readProperty | listChildren | 0xf0123

// Deny hides attributes of an entry, and of those below it where below is said;
// without names, all of them. Deny with the empty name shows everything again.
func (d *Directory) Deny(dn string, below bool, attributes ...string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if dn == "" {
		for key := range d.denied {
			d.countList(key)
		}
		d.denied = nil
		return
	}
	d.countList(d.key(dn))
	if d.denied == nil {
		d.denied = map[string][]string{}
	}
	for _, key := range d.sorted(d.key(dn), 2) {
		if key != d.key(dn) && !below {
			continue
		}
		flags := byte(0)
		if below {
			flags = 0x2
		}
		if len(attributes) == 0 {
			d.denied[key] = append(d.denied[key], accessEntry(true, flags, readProperty, ""))
		}
		for _, attr := range attributes {
			d.denied[key] = append(d.denied[key], accessEntry(true, flags, readProperty, attr))
		}
	}
}

// listOf is the security descriptor of an entry. One that is marked as privileged has
// a list that takes nothing in from above, until somebody writes another; one that takes
// in shows that too.
func (d *Directory) listOf(key string) string {
	e, control := d.entries[key], uint16(0)
	entries := append(slices.Clone(d.denied[key]), openToAll)
	protected := e != nil && e.First("adminCount") == "1"
	if e != nil {
		if written, ok := d.closed[e.First("objectGUID")]; ok {
			protected = written
		}
	}
	if protected {
		control = listProtected
	} else {
		entries = append(entries, accessEntry(false, wasInherited, openMask, ""))
	}
	return accessList(control, entries)
}

// permit writes the list of an entry. Only whether it takes in from above can be changed.
func (d *Directory) permit(e *directory.Entry, values []string) error {
	if len(values) != 1 {
		return refuse(ldap.LDAPResultConstraintViolation, "an entry has one security descriptor")
	}
	inherits, err := directory.InheritsPermissions(values[0])
	if err != nil {
		return refuse(ldap.LDAPResultConstraintViolation, "%v", err)
	}
	if same, err := directory.InheritPermissions(d.listOf(d.key(e.DN)), inherits); err != nil || !directory.SamePermissions(same, values[0]) {
		return refuse(ldap.LDAPResultUnwillingToPerform, "the rules of an access list are not changed here")
	}
	if d.closed == nil {
		d.closed = map[string]bool{}
	}
	d.closed[e.First("objectGUID")] = !inherits
	d.listed[e.First("objectGUID")] = d.serial + 1 // of the write that this is a part of
	return nil
}

// shown takes out of an entry what may not be read of it.
func (d *Directory) shown(key string, e *directory.Entry) *directory.Entry {
	if len(d.denied[key]) == 0 {
		return e
	}
	sid, _ := directory.EncodeSID(everyone)
	properties := map[directory.AttrID]directory.Property{directory.AttrObjectClass: {ID: schemaID("objectClass")}}
	for _, a := range e.Attrs {
		if id := directory.LookupAttr(a.Name); id != directory.AttrUnknown {
			properties[id] = directory.Property{ID: schemaID(a.Name)}
		}
	}
	hidden := directory.NewReader([]string{sid}, properties).Sight(d.listOf(key), "").Hidden
	out := e.Clone()
	out.Attrs = slices.DeleteFunc(out.Attrs,
		func(a directory.Attribute) bool { return hidden.Has(directory.LookupAttr(a.Name)) })
	return &out
}

// schemaEntries are what the schema says of attributes that a filter selects,
// as far as access lists need it.
func schemaEntries(base string, cond filter.Filter) (found []directory.Entry) {
	m, err := cond.For(directory.AD, map[string]bool{"ldapdisplayname": true})
	if err != nil {
		return nil
	}
	for _, name := range directory.AllAttributes() {
		e := directory.Entry{DN: "CN=" + name + "," + base}
		e.Set("objectClass", "attributeSchema")
		e.Set("lDAPDisplayName", name)
		e.Set("schemaIDGUID", schemaID(name))
		if m.Match(&e) == filter.True {
			found = append(found, e)
		}
	}
	return found
}
