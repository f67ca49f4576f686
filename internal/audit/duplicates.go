package audit

import (
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

// sharedIn makes equal texts of two spaces different.
func sharedIn(space directory.AttrID, value string) sharedValue {
	k := directory.TextKey(value)
	k[0] ^= uint64(space) * 0x9e3779b97f4a7c15
	return sharedValue{space, k}
}

// uniqueValues goes through the values of an account that no other may have,
// with the space they are unique in.
func uniqueValues(a *directory.Account, yield func(space, attr directory.AttrID, value string)) {
	for id, value := range a.Text.Values() {
		if value == "" {
			continue
		}
		switch id {
		case directory.AttrEmployeeID, directory.AttrEmployeeNumber, directory.AttrUserPrincipalName, directory.AttrServicePrincipalName, directory.AttrMail:
			yield(id, id, value)
		case directory.AttrProxyAddresses:
			if len(value) > 5 && strings.EqualFold(value[:5], "smtp:") {
				yield(directory.AttrMail, id, value[5:])
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

// findDuplicates prepares duplicate-value. The sieve picks out the few
// values that may occur twice, so that only those are remembered.
func findDuplicates(p *pass) {
	s := newSieve(p.Accounts.Len())
	counted := func(a *directory.Account) bool {
		return !a.BuiltIn && a.Kind != directory.KindResource && a.Kind != directory.KindTrust
	}
	tally(p.Accounts.Parts(), func() struct{} { return struct{}{} }, func(a *directory.Account, _ struct{}) {
		if !counted(a) {
			return
		}
		own := make([]sharedValue, 0, 8)
		uniqueValues(a, func(space, _ directory.AttrID, value string) {
			// One account may hold one address in two attributes.
			if v := sharedIn(space, value); !slices.Contains(own, v) {
				own = append(own, v)
				s.add(v.value)
			}
		})
	})
	type found = map[sharedValue][]*directory.Account
	parts := tally(p.Accounts.Parts(), func() found { return found{} }, func(a *directory.Account, into found) {
		if !counted(a) {
			return
		}
		uniqueValues(a, func(space, _ directory.AttrID, value string) {
			v := sharedIn(space, value)
			if s.metTwice(v.value) && !slices.Contains(into[v], a) {
				into[v] = append(into[v], a)
			}
		})
	})
	p.duplicates = found{}
	for _, part := range parts {
		for v, who := range part {
			p.duplicates[v] = append(p.duplicates[v], who...)
		}
	}
	p.sharers = map[*directory.Account]bool{}
	for v, who := range p.duplicates {
		if len(who) < 2 {
			delete(p.duplicates, v)
			continue
		}
		for _, a := range who {
			p.sharers[a] = true
		}
	}
}

func duplicateValue(p *pass, a *directory.Account) (out []Finding) {
	if !p.sharers[a] {
		return nil
	}
	var told []sharedValue
	uniqueValues(a, func(space, attr directory.AttrID, value string) {
		v := sharedIn(space, value)
		who := p.duplicates[v]
		if len(who) == 0 || slices.Contains(told, v) {
			return
		}
		told = append(told, v)
		var others []string
		for _, o := range who {
			if o != a && (!mayShare(space) || p.rules.admin.MatchString(o.Logon) == p.rules.admin.MatchString(a.Logon)) {
				others = append(others, o.Name())
			}
		}
		if len(others) > 0 {
			out = append(out, Finding{bundle: space.String() + "\x00" + strings.ToLower(value),
				Evidence: []Evidence{{attr.String(), value}, {"shared with", listed(others)}}})
		}
	})
	return out
}
