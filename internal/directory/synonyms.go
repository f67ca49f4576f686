package directory

import (
	"strings"
	"sync"
)

// synonym is another name of an attribute, or its number, and the name that the
// tool knows it by.
type synonym struct{ other, name string }

// synonyms are those that servers know without being told, by attrHash. What is
// another attribute on the `ad` schema (streetAddress) is no other name of one.
var synonyms = sync.OnceValue(func() (table [512][]synonym) {
	put := func(other, name string) {
		table[attrHash(other)] = append(table[attrHash(other)], synonym{other, name})
	}
	ad, standard := schemaAD(), schemaStandard()
	for lower, t := range standard.types {
		if !strings.EqualFold(lower, t.Name) && (IsOID(lower) || ad.types[lower] == nil) {
			put(lower, t.Name)
		}
	}
	for lower, t := range ad.types {
		if IsOID(lower) && standard.types[lower] == nil {
			put(lower, t.Name)
		}
	}
	return table
})

// PlainName returns the usual name of an attribute that is given by another of
// its names, or by its number (RFC 4512, section 2.5): "cn" for "commonName",
// "2.5.4.3" and "OID.2.5.4.3". Options stay; what is not known stays as it is.
func PlainName(name string) string {
	bare, options := name, ""
	if i := strings.IndexByte(name, ';'); i >= 0 {
		bare, options = name[:i], name[i:]
	}
	if len(bare) > 4 && equalFoldASCII(bare[:4], "oid.") {
		bare = bare[4:]
	}
	if bare == "" || LookupAttr(bare) != AttrUnknown { // what the tool knows, it knows by its usual name
		return name
	}
	for _, s := range synonyms()[attrHash(bare)] {
		if equalFoldASCII(s.other, bare) {
			return s.name + options
		}
	}
	return name
}
