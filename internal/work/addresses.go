package work

import (
	"context"
	"net/mail"
	"slices"

	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// AddressBook knows the mail addresses of entries, and of those who answer for
// them.
type AddressBook struct {
	entries map[string]*directory.Entry // by folded DN
}

// Contact is somebody with a mail address.
type Contact struct {
	Name, Address string
	Entry         *directory.Entry
}

// Relations are the attributes of an entry that name its manager, and its owners.
var Relations = struct{ Manager, Owner []string }{[]string{"manager"}, []string{"managedBy", "owner", "manager"}}

// Addresses reads entries and those whom they name as manager or owner.
func Addresses(ctx context.Context, from source.Source, dns []string) (*AddressBook, error) {
	b := &AddressBook{entries: map[string]*directory.Entry{}}
	read := func(dns []string) ([]directory.Entry, error) {
		slices.Sort(dns)
		entries, err := from.Get(ctx, slices.Compact(dns))
		for i := range entries {
			b.entries[directory.FoldDN(entries[i].DN)] = &entries[i]
		}
		return entries, err
	}
	entries, err := read(slices.Clone(dns))
	if err != nil {
		return nil, err
	}
	var theirs []string
	for i := range entries {
		for _, attr := range Relations.Owner { // which are more
			theirs = append(theirs, entries[i].Get(attr)...)
		}
	}
	_, err = read(theirs)
	return b, err
}

// Itself is the entry as somebody to write to, false where it has no address.
func (b *AddressBook) Itself(dn string) (Contact, bool) {
	e := b.entries[directory.FoldDN(dn)]
	if e == nil {
		return Contact{}, false
	}
	address := e.First("mail")
	name := e.First("displayName")
	if name == "" {
		name = directory.LeafValue(e.DN)
	}
	return Contact{name, address, e}, isAddress(address)
}

// isAddress tells whether a value of a directory is one mail address and nothing else.
func isAddress(text string) bool {
	a, err := mail.ParseAddress(text)
	return err == nil && a.Address == text
}

// Named are those whom attributes of an entry name and who have an address, each
// once.
func (b *AddressBook) Named(dn string, attrs []string) (all []Contact) {
	e := b.entries[directory.FoldDN(dn)]
	if e == nil {
		return nil
	}
	for _, attr := range attrs {
		for _, other := range e.Get(attr) {
			c, has := b.Itself(other)
			if has && !slices.ContainsFunc(all, func(o Contact) bool { return o.Address == c.Address }) {
				all = append(all, c)
			}
		}
	}
	return all
}
