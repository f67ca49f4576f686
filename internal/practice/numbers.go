package practice

import (
	"crypto/rand"
	"encoding/binary"
	"strconv"
	"strings"

	"yardbroom/internal/directory"
)

// Servers of the `ad` schema number what is written to them (MS-ADTS 3.1.1.1.9), and say
// of each attribute of an entry by which number it was changed last.

// accessListAttid stands for nTSecurityDescriptor in replication metadata.
const accessListAttid = 0x00020119

// newDatabase is what a database is told from others by. A directory that is made anew
// numbers from the beginning, so that it must not be taken for the one before.
func newDatabase() string {
	b := make([]byte, 16)
	_, _ = rand.Read(b) // it never fails
	return string(b)
}

// count numbers a change of an entry.
func (d *Directory) count(e *directory.Entry) {
	d.serial++
	if d.dialect == directory.AD {
		e.Set("uSNChanged", strconv.FormatUint(d.serial, 10))
	}
}

// countList numbers a change of the access list of an entry.
func (d *Directory) countList(key string) {
	e := d.entries[key]
	if e == nil {
		return
	}
	next := e.Clone()
	d.count(&next)
	d.entries[key] = &next
	d.listed[next.First("objectGUID")] = d.serial
}

// metadataOf is what replPropertyMetaData (MS-DRSR 5.170) says of the access list of an
// entry: a header, and 48 octets with the number, version, time, database and sequence
// numbers of the change.
func (d *Directory) metadataOf(key string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	e := d.entries[key]
	if e == nil {
		return ""
	}
	number := max(d.listed[e.First("objectGUID")], 1)
	b := binary.LittleEndian.AppendUint64(nil, 1)
	b = binary.LittleEndian.AppendUint64(b, 1)
	b = binary.LittleEndian.AppendUint32(b, accessListAttid)
	b = binary.LittleEndian.AppendUint32(b, 1)
	b = binary.LittleEndian.AppendUint64(b, 0)
	b = append(b, d.database...)
	b = binary.LittleEndian.AppendUint64(b, number)
	b = binary.LittleEndian.AppendUint64(b, number)
	return string(b)
}

// service is the name of the entry that stands for the server itself.
func (d *Directory) service() string { return "CN=NTDS Settings,CN=PRACTICE,CN=Servers," + d.base }

// serviceEntry is that entry where a search begins at it, nil elsewhere.
func (d *Directory) serviceEntry(base string) *directory.Entry {
	if d.dialect != directory.AD || !strings.EqualFold(base, d.service()) {
		return nil
	}
	e := &directory.Entry{DN: d.service()}
	e.Set("objectClass", "top", "nTDSDSA")
	e.Set("invocationId", d.database)
	return e
}

// counted is the highest number so far.
func (d *Directory) counted() uint64 {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.serial
}
