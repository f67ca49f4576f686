package audit

import (
	"cmp"
	"fmt"
	"maps"
	"net/mail"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"unicode"
	"unicode/utf8"

	"yardbroom/internal/directory"
)

var valueChecks = []*Check{
	{
		Name: "value-variant", Severity: Low, Short: "value that most others spell in another way",
		Suggest: []string{"set"}, Kinds: users, overAll: true,
		Guard:   restsOnNothing,
		prepare: countSpellings, judgeMany: valueVariant,
	},
	{
		Name: "value-missing", Severity: Low, Short: "account that lacks what every account should have",
		Suggest: []string{"fill"}, Kinds: users, Guard: enabledAttrs,
		needs: enabledNeeds,
		wants: func(p *pass) string {
			if len(p.requiredShown()) == 0 && p.Count[directory.KindUser] > 0 {
				return "users: none shows " + names(p.rules.required)
			}
			return ""
		},
		judge: valueMissing,
	},
	{
		Name: "value-malformed", Severity: Low, Short: "value that cannot be what it should be: mail, telephone, country, sign-in name",
		Suggest: []string{"set"}, Kinds: users, Guard: restsOnNothing, judge: valueMalformed,
	},
	{
		Name: "name-mismatch", Severity: Low, Short: "display name without the given name or the family name",
		Suggest: []string{"rename"}, Kinds: users, Guard: restsOnAttrs(directory.AttrDisplayName, directory.AttrGivenName, directory.AttrSN),
		judge: nameMismatch,
	},
	{
		Name: "logon-mismatch", Severity: Low, Short: "sign-in name that is neither the logon name nor the mail address",
		Suggest: []string{"rename"}, Kinds: users, Guard: restsOnAttrs(directory.AttrUserPrincipalName, directory.AttrMail),
		judge: logonMismatch,
	},
	{
		Name: "duplicate-value", Severity: Medium, Short: "value that only one account may have, on several",
		Kinds: accounts, overAll: true, Guard: restsOnNothing,
		prepare: findDuplicates, judgeMany: duplicateValue,
	},
}

func restsOnNothing(*directory.Dialect) []directory.AttrID { return nil }

func restsOnAttrs(ids ...directory.AttrID) func(*directory.Dialect) []directory.AttrID {
	return func(*directory.Dialect) []directory.AttrID { return ids }
}

// variant is one spelling of a value, and what it should be.
type variant struct {
	folded    string
	count     int
	preferred string
	of        int // entries with the preferred spelling
	likely    bool
}

// cluster is all spellings that fold alike.
type cluster struct {
	folded    string
	spellings []string
	count     int // entries, over all spellings
	preferred string
	known     bool // the preferred spelling is from the settings
	joins     *cluster
}

// spellings counts how often each value of each attribute occurs.
type spellings map[directory.AttrID]map[string]*variant

// countSpellings prepares value-variant: what each spelling should be.
func countSpellings(p *pass) {
	var compared directory.AttrSet
	for _, id := range p.rules.compared {
		compared.Add(id)
	}
	parts := tally(p.Accounts.Parts(), func() spellings {
		s := spellings{}
		for _, id := range p.rules.compared {
			s[id] = map[string]*variant{}
		}
		return s
	}, func(a *directory.Account, into spellings) {
		if a.Kind != directory.KindUser || a.BuiltIn {
			return
		}
		for id, value := range a.Text.Values() {
			if !compared.Has(id) {
				continue
			}
			if v := into[id][value]; v != nil {
				v.count++
			} else {
				into[id][value] = &variant{count: 1}
			}
		}
	})
	p.variants = spellings{}
	for _, id := range p.rules.compared {
		all := map[string]*variant{}
		for _, part := range parts {
			for value, v := range part[id] {
				if all[value] == nil {
					all[value] = &variant{folded: directory.FoldText(value)}
				}
				all[value].count += v.count
			}
		}
		prefer(all, p.rules.reference[id])
		// What is spelt right is not looked up again for each account.
		maps.DeleteFunc(all, func(value string, v *variant) bool { return v.preferred == "" || v.preferred == value })
		p.variants[id] = all
	}
}

// prefer decides which spelling each value should have.
func prefer(all map[string]*variant, reference []string) {
	clusters := map[string]*cluster{}
	for value, v := range all {
		if v.folded == "" {
			continue // blank, or nothing but punctuation
		}
		c := clusters[v.folded]
		if c == nil {
			c = &cluster{folded: v.folded}
			clusters[v.folded] = c
		}
		c.spellings = append(c.spellings, value)
		c.count += v.count
	}
	for _, c := range clusters {
		c.preferred = slices.MinFunc(c.spellings, func(a, b string) int {
			return cmp.Or(cmp.Compare(all[b].count, all[a].count), cmp.Compare(utf8.RuneCountInString(b), utf8.RuneCountInString(a)), strings.Compare(a, b))
		})
	}
	for _, right := range slices.Backward(reference) { // the first of two that fold alike is taken
		if c := clusters[directory.FoldText(right)]; c != nil {
			c.preferred, c.known = right, true
		}
	}
	join(clusters)
	for _, v := range all {
		c := clusters[v.folded]
		if c == nil {
			continue
		}
		for c.joins != nil {
			c, v.likely = c.joins, true
		}
		v.preferred = c.preferred
		if best := all[c.preferred]; best != nil {
			v.of = best.count
		}
	}
}

// Values of at least this length, and as many times more frequent, are taken
// for what another one, a letter apart, was meant to be.
const (
	joinLength = 6
	joinTimes  = 10
)

// join finds the clusters that are a slip of the finger away from a much
// larger one. Two texts are one edit apart only if they are equal after one
// letter at most is left out of each, so that each needs to be compared only
// with those that share such a form.
func join(clusters map[string]*cluster) {
	shortened := map[string][]*cluster{}
	for _, c := range clusters {
		if utf8.RuneCountInString(c.folded) >= joinLength-1 {
			for _, form := range forms(c.folded) {
				shortened[form] = append(shortened[form], c)
			}
		}
	}
	for _, c := range clusters {
		if c.known || utf8.RuneCountInString(c.folded) < joinLength {
			continue
		}
		for _, form := range forms(c.folded) {
			for _, o := range shortened[form] {
				if o == c || o.count < joinTimes*c.count || !oneEdit(c.folded, o.folded) {
					continue
				}
				if j := c.joins; j == nil || o.count > j.count || o.count == j.count && o.folded < j.folded {
					c.joins = o
				}
			}
		}
	}
}

// forms are a text itself and all texts with one letter less.
func forms(s string) []string {
	all := []string{s}
	for i, r := range s {
		all = append(all, s[:i]+s[i+utf8.RuneLen(r):])
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// oneEdit tells whether one letter put in, taken out or exchanged makes one
// text of the other.
func oneEdit(a, b string) bool {
	x, y := []rune(a), []rune(b)
	if len(x) > len(y) {
		x, y = y, x
	}
	if len(y)-len(x) > 1 {
		return false
	}
	for i := range x {
		if x[i] == y[i] {
			continue
		}
		if len(x) == len(y) {
			return slices.Equal(x[i+1:], y[i+1:])
		}
		return slices.Equal(x[i:], y[i+1:])
	}
	return len(x) != len(y)
}

func valueVariant(p *pass, a *directory.Account) (out []Finding) {
	for id, value := range a.Text.Values() {
		v := p.variants[id][value]
		if v == nil {
			continue
		}
		f := Finding{fix: &Fix{id.String(), value, v.preferred}, bundle: id.String() + "\x00" + v.preferred + "\x00" + value,
			Evidence: []Evidence{{id.String(), fmt.Sprintf("%q", value)}, {"preferred", fmt.Sprintf("%q", v.preferred)},
				{"entries", fmt.Sprintf("%d, preferred %d", v.count, v.of)}}}
		if v.likely {
			f.Confidence = Likely
		}
		out = append(out, f)
	}
	return out
}

// requiredShown are the required attributes that at least one user carries.
func (p *pass) requiredShown() []directory.AttrID {
	return slices.DeleteFunc(slices.Clone(p.rules.required), func(id directory.AttrID) bool { return !p.Shows(directory.KindUser, id) })
}

func valueMissing(p *pass, a *directory.Account) *Finding {
	var missing []string
	for _, id := range p.rules.required {
		if p.Shows(directory.KindUser, id) && strings.TrimSpace(a.Text.First(id)) == "" {
			missing = append(missing, id.String())
		}
	}
	if len(missing) == 0 {
		return nil
	}
	f := p.enabled(a)
	if f != nil {
		f.Evidence = []Evidence{{"missing", strings.Join(missing, ", ")}}
	}
	return f
}

func valueMalformed(p *pass, a *directory.Account) *Finding {
	f := &Finding{}
	bad := func(id directory.AttrID, value string) {
		f.Evidence = append(f.Evidence, Evidence{id.String(), fmt.Sprintf("%q", clipped(value))})
	}
	for id, value := range a.Text.Values() {
		if pattern := p.rules.patterns[id]; malformed(id, value) || pattern != nil && !pattern.MatchString(value) {
			bad(id, value)
		}
	}
	if len(f.Evidence) == 0 {
		return nil
	}
	return f
}

// Malformed tells whether a value cannot be what its attribute is for.
func Malformed(attr, value string) bool { return malformed(directory.LookupAttr(attr), value) }

func malformed(id directory.AttrID, value string) bool {
	switch id {
	case directory.AttrMail:
		return !isAddress(value)
	case directory.AttrUserPrincipalName:
		local, domain, ok := strings.Cut(value, "@")
		return !ok || local == "" || domain == "" || strings.Contains(domain, "@")
	case directory.AttrTelephoneNumber, directory.AttrMobile:
		return !isTelephone(value)
	case directory.AttrC:
		return len(value) != 2 || !isLetter(value[0]) || !isLetter(value[1])
	}
	return false
}

// Unique tells whether a value of the attribute may occur on one account
// only.
func Unique(attr string) bool {
	switch directory.LookupAttr(attr) {
	case directory.AttrEmployeeID, directory.AttrEmployeeNumber, directory.AttrUserPrincipalName, directory.AttrServicePrincipalName, directory.AttrMail:
		return true
	}
	return false
}

func isLetter(c byte) bool { return 'a' <= c|0x20 && c|0x20 <= 'z' }

// isAddress tells whether a text is an addr-spec (RFC 5322, section 3.4.1,
// with the letters that RFC 6532 adds), without comments or blanks around
// it.
func isAddress(s string) bool {
	if plainAddress(s) {
		return true
	}
	local, _, _ := strings.Cut(s, "@")
	if strings.ContainsAny(s, "<>\r\n") || !strings.HasPrefix(local, `"`) && strings.ContainsAny(s, "() \t") {
		return false
	}
	parsed, err := mail.ParseAddress("<" + s + ">")
	return err == nil && parsed.Name == ""
}

// plainAddress answers for nearly all addresses: words of letters and digits
// with dots and dashes between.
func plainAddress(s string) bool {
	at, dot := -1, true
	for i := range len(s) {
		switch c := s[i]; {
		case isLetter(c) || '0' <= c && c <= '9' || c == '-' || c == '_' && at < 0:
			dot = false
		case c == '.' && !dot:
			dot = true
		case c == '@' && !dot && at < 0:
			at, dot = i, true
		default:
			return false
		}
	}
	return at > 0 && !dot
}

var extension = regexp.MustCompile(`(?i)\s*(?:extension|ext|x|#)[\s.:]*[0-9]+\s*$`)

func isTelephone(s string) bool {
	digits := 0
	if strings.ContainsAny(s, "xX#") { // few have one, and the pattern is slow
		if at := extension.FindStringIndex(s); at != nil {
			s = s[:at[0]]
		}
	}
	for _, r := range s {
		switch {
		case unicode.IsLetter(r):
			return false
		case unicode.IsDigit(r):
			digits++
		}
	}
	return digits >= 5
}

func nameMismatch(_ *pass, a *directory.Account) *Finding {
	display, given, family := a.Text.First(directory.AttrDisplayName), a.Text.First(directory.AttrGivenName), a.Text.First(directory.AttrSN)
	if strings.TrimSpace(display) == "" || strings.TrimSpace(given) == "" || strings.TrimSpace(family) == "" {
		return nil
	}
	if strings.Contains(display, given) && strings.Contains(display, family) {
		return nil // then their folded forms do too
	}
	folded := directory.FoldText(display)
	if strings.Contains(folded, directory.FoldText(given)) && strings.Contains(folded, directory.FoldText(family)) {
		return nil
	}
	return &Finding{Evidence: []Evidence{{directory.AttrDisplayName.String(), display}, {directory.AttrGivenName.String(), given}, {directory.AttrSN.String(), family}}}
}

// cutLogon is the length at which logon names are cut on the `ad` schema.
const cutLogon = 20

func logonMismatch(p *pass, a *directory.Account) *Finding {
	principal := a.Text.First(directory.AttrUserPrincipalName)
	local, _, ok := strings.Cut(principal, "@")
	if !ok || local == "" || strings.EqualFold(local, a.Logon) {
		return nil
	}
	address := a.Text.First(directory.AttrMail)
	if box, _, ok := strings.Cut(address, "@"); ok && strings.EqualFold(local, box) {
		return nil
	}
	if utf8.RuneCountInString(a.Logon) == cutLogon && strings.HasPrefix(strings.ToLower(local), strings.ToLower(a.Logon)) {
		return nil
	}
	logon := p.Dialect.Logon.String()
	f := &Finding{Evidence: []Evidence{{directory.AttrUserPrincipalName.String(), principal}, {logon, a.Logon}}}
	if address != "" {
		f.Evidence = append(f.Evidence, Evidence{directory.AttrMail.String(), address})
	}
	return f
}

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
