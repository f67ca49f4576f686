package audit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"

	"yardbroom/internal/directory"
)

// sharedValue is a value of one of the spaces in which each may occur on one
// account only.
type sharedValue struct {
	space directory.AttrID
	value directory.Key
}

func (v sharedValue) compare(o sharedValue) int {
	return cmp.Or(cmp.Compare(v.value[0], o.value[0]), cmp.Compare(v.value[1], o.value[1]), cmp.Compare(v.space, o.space))
}

// holder is an account with a value that another one may have too.
type holder struct {
	value   sharedValue
	account *directory.Account
}

// sharedIn makes equal texts of two spaces different.
func sharedIn(space directory.AttrID, value string) sharedValue {
	k := directory.TextKey(value)
	k[0] ^= uint64(space) * 0x9e3779b97f4a7c15
	return sharedValue{space, k}
}

// uniqueAttrs are the attributes whose values are compared.
var uniqueAttrs = directory.Attrs(directory.AttrEmployeeID, directory.AttrEmployeeNumber, directory.AttrUserPrincipalName,
	directory.AttrServicePrincipalName, directory.AttrMail, directory.AttrProxyAddresses)

// uniqueValues goes through the values of an account that no other may have,
// with the space they are unique in.
func uniqueValues(a *directory.Account, yield func(space, attr directory.AttrID, value string)) {
	for id, text := range a.Text.Values(uniqueAttrs) {
		switch id {
		case directory.AttrEmployeeID,
			directory.AttrEmployeeNumber,
			directory.AttrUserPrincipalName,
			directory.AttrServicePrincipalName,
			directory.AttrMail:
			if value := text.Text(); value != "" {
				yield(id, id, value)
			}
		case directory.AttrProxyAddresses:
			if address, ok := directory.SMTPAddress(text.Text()); ok {
				yield(directory.AttrMail, id, address)
			}
		}
	}
}

// mayShare are the spaces in which an administrator's second account may
// have what the first one has.
func mayShare(space directory.AttrID) bool {
	return space == directory.AttrEmployeeID || space == directory.AttrEmployeeNumber || space == directory.AttrMail
}

// sieve remembers which hashes were met, and which of them twice, in two
// bits each. Different values may meet by chance; the same ones always do.
type sieve struct{ once, twice []atomic.Uint64 }

func newSieve(n int) *sieve {
	size := 1024
	for size*64 < 32*n {
		size *= 2
	}
	return &sieve{make([]atomic.Uint64, size), make([]atomic.Uint64, size)}
}

func (s *sieve) add(k directory.Key) {
	word, bit := k[0]>>6&uint64(len(s.once)-1), uint64(1)<<(k[0]&63)
	if s.once[word].Or(bit)&bit != 0 {
		s.twice[word].Or(bit)
	}
}

func (s *sieve) metTwice(k directory.Key) bool {
	return s.twice[k[0]>>6&uint64(len(s.twice)-1)].Load()&(1<<(k[0]&63)) != 0
}

// valueSet remembers the values of one account: most have few, some very many.
type valueSet struct {
	few  []sharedValue
	many map[sharedValue]bool
}

func (s *valueSet) reset() { s.few, s.many = s.few[:0], nil }

// add tells whether the value is new.
func (s *valueSet) add(v sharedValue) bool {
	const few = 16
	switch {
	case s.many != nil:
		if s.many[v] {
			return false
		}
		s.many[v] = true
		return true
	case slices.Contains(s.few, v):
		return false
	case len(s.few) == few:
		s.many = map[sharedValue]bool{v: true}
		for _, one := range s.few {
			s.many[one] = true
		}
		return true
	}
	s.few = append(s.few, v)
	return true
}

// sharers are the accounts that share a value, by name: ordinary ones, and
// apart from them administrators' second accounts where those may share it
// with the first.
type sharers struct{ ordinary, second []*directory.Account }

func (s *sharers) of(p *pass, space directory.AttrID, a *directory.Account) []*directory.Account {
	if mayShare(space) && p.rules.admin.MatchString(a.Logon) {
		return s.second
	}
	return s.ordinary
}

// findDuplicates prepares duplicate-value. The sieve picks out the few
// values that may occur twice, so that only those are remembered.
func findDuplicates(p *pass) {
	s := newSieve(p.Accounts.Len())
	counted := func(a *directory.Account) bool {
		return !a.BuiltIn && a.Kind != directory.KindResource && a.Kind != directory.KindTrust
	}
	tally(p.Accounts.Parts(), func() *valueSet { return &valueSet{} }, func(a *directory.Account, own *valueSet) {
		if !counted(a) || !p.asked(a) {
			return
		}
		own.reset()
		uniqueValues(a, func(space, _ directory.AttrID, value string) {
			// One account may hold one address in two attributes.
			if v := sharedIn(space, value); own.add(v) {
				s.add(v.value)
				if p.only != "" {
					s.add(v.value) // another one may have it
				}
			}
		})
	})
	type found struct {
		own valueSet
		all []holder
	}
	parts := tally(p.Accounts.Parts(), func() *found { return &found{} }, func(a *directory.Account, into *found) {
		if !counted(a) {
			return
		}
		into.own.reset()
		uniqueValues(a, func(space, _ directory.AttrID, value string) {
			if v := sharedIn(space, value); s.metTwice(v.value) && into.own.add(v) {
				into.all = append(into.all, holder{v, a})
			}
		})
	})
	var all []holder
	for _, part := range parts {
		all = append(all, part.all...)
	}
	slices.SortFunc(all, func(a, b holder) int { return a.value.compare(b.value) })
	p.duplicates, p.sharing = map[sharedValue]*sharers{}, map[*directory.Account]bool{}
	for len(all) > 0 {
		v, n := all[0].value, 1
		for n < len(all) && all[n].value == v {
			n++
		}
		if n > 1 {
			p.duplicates[v] = p.sharersOf(v.space, all[:n])
		}
		all = all[n:]
	}
}

// sharersOf sorts those who hold one value, and takes note of each of them.
func (p *pass) sharersOf(space directory.AttrID, holders []holder) *sharers {
	slices.SortFunc(holders, func(a, b holder) int {
		return cmp.Or(strings.Compare(a.account.Name(), b.account.Name()), strings.Compare(a.account.DN, b.account.DN))
	})
	both := &sharers{}
	for _, h := range holders {
		if mayShare(space) && p.rules.admin.MatchString(h.account.Logon) {
			both.second = append(both.second, h.account)
		} else {
			both.ordinary = append(both.ordinary, h.account)
		}
		p.sharing[h.account] = true
	}
	return both
}

func duplicateValue(p *pass, a *directory.Account) (out []Finding) {
	if !p.sharing[a] {
		return nil
	}
	var told valueSet
	uniqueValues(a, func(space, attr directory.AttrID, value string) {
		v := sharedIn(space, value)
		both := p.duplicates[v]
		if both == nil || !told.add(v) {
			return
		}
		if who := both.of(p, space, a); len(who) > 1 {
			out = append(out, Finding{bundle: space.String() + "\x00" + strings.ToLower(value),
				Evidence: []Evidence{{attr.String(), value}, {"shared with", others(who, a)}}})
		}
	})
	return out
}

// others names the accounts of a sorted list but for one, the first of many.
func others(who []*directory.Account, but *directory.Account) string {
	var names []string
	for _, o := range who {
		if len(names) == mostListed {
			break
		}
		if o != but {
			names = append(names, o.Name())
		}
	}
	text := strings.Join(names, "; ")
	if more := len(who) - 1 - len(names); more > 0 {
		text += fmt.Sprintf("; and %d more", more)
	}
	return text
}
