package audit

import (
	"fmt"
	"net/mail"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"yardbroom/internal/directory"
	"yardbroom/internal/pattern"
)

var valueChecks = []*Check{
	{
		Name: "value-variant", Severity: Low, Short: "value spelt differently from most others",
		Suggest: []string{"set"}, Kinds: users, GivesValues: true, overAll: true, AlsoByRoster: true,
		Guard:   restsOnNothing,
		prepare: countSpellings, judgeMany: valueVariant,
	},
	{
		Name: "value-missing", Severity: Low, Short: "account without a required attribute",
		Suggest: []string{"fill"}, Kinds: users, Guard: enabledAttrs,
		needs: enabledNeeds, absent: func(p *pass) []directory.AttrID { return p.rules.required },
		wants: func(p *pass) string {
			if len(p.requiredShown()) == 0 && p.Count[directory.KindUser] > 0 {
				return "users: none shows " + directory.AttrNames(p.rules.required)
			}
			return ""
		},
		judge: valueMissing,
	},
	{
		Name: "value-malformed", Severity: Low, Short: "malformed value: mail, telephone, country, sign-in name",
		Suggest: []string{"set"}, Kinds: users, Guard: restsOnNothing,
		prepare: findMalformed, judge: valueMalformed,
	},
	{
		Name: "name-mismatch", Severity: Low, Short: "display name that lacks the given or the family name",
		Suggest: []string{
			"rename",
		}, Kinds: users, Guard: restsOnAttrs(directory.AttrDisplayName, directory.AttrGivenName, directory.AttrSN),
		judge: nameMismatch,
	},
	{
		Name: "logon-mismatch", Severity: Low, Short: "sign-in name that is neither the logon name nor the mail address",
		Suggest: []string{
			"rename",
		}, Kinds: users, Guard: restsOnAttrs(directory.AttrUserPrincipalName, directory.AttrMail),
		judge: logonMismatch,
	},
	{
		Name: "duplicate-value", Severity: Medium, Short: "value that should be unique, on several accounts",
		Kinds: accounts, overAll: true, Guard: restsOnNothing,
		prepare: findDuplicates, judgeMany: duplicateValue,
	},
}

func restsOnNothing(*directory.Dialect) []directory.AttrID { return nil }

func restsOnAttrs(ids ...directory.AttrID) func(*directory.Dialect) []directory.AttrID {
	return func(*directory.Dialect) []directory.AttrID { return ids }
}

// requiredShown are the required attributes that at least one user carries.
func (p *pass) requiredShown() []directory.AttrID {
	return slices.DeleteFunc(slices.Clone(p.rules.required),
		func(id directory.AttrID) bool { return !p.Shows(directory.KindUser, id) })
}

func valueMissing(p *pass, a *directory.Account) *Finding {
	var missing []string
	for _, id := range p.rules.required {
		if a.Nameless && slices.Contains(personNames, id) {
			continue
		}
		if p.Shows(directory.KindUser, id) && strings.TrimSpace(a.Text.First(id)) == "" {
			missing = append(missing, id.String())
		}
	}
	if len(missing) == 0 {
		return nil
	}
	f := p.enabled(a)
	if f != nil {
		f.Evidence = []Evidence{{evidenceMissing, strings.Join(missing, ", ")}}
	}
	return f
}

// personNames are what only entries of a class of persons can have.
var personNames = []directory.AttrID{
	directory.AttrGivenName,
	directory.AttrSN,
	directory.AttrDisplayName,
	directory.AttrInitials,
	directory.AttrTitle,
	directory.AttrMail,
	directory.AttrMobile,
	directory.AttrEmployeeNumber,
}

func valueMalformed(p *pass, a *directory.Account) *Finding {
	var evidence []Evidence
	for id, value := range a.Text.Values(p.rules.shaped) {
		if p.isMalformed(id, value) {
			evidence = append(evidence, Evidence{id.String(), fmt.Sprintf("%q", clipped(value.Text()))})
		}
	}
	if len(evidence) == 0 {
		return nil
	}
	return &Finding{Evidence: evidence}
}

func (p *pass) isMalformed(id directory.AttrID, value directory.Value) bool {
	if n, ok := value.Word(); ok {
		return p.malformed[n]
	}
	return p.rules.malformed(id, value.Text())
}

// findMalformed prepares value-malformed: what many accounts share is judged once.
func findMalformed(p *pass) {
	p.malformed = make([]bool, p.Words.Limit())
	for n, one := range p.Words.All() {
		p.malformed[n] = p.rules.malformed(one.Attr, one.Text)
	}
}

// malformed tells whether a value cannot be what its attribute is for, or
// does not look as the settings say.
func (r *rules) malformed(id directory.AttrID, value string) bool {
	if malformed(id, value) {
		return true
	}
	pattern := r.patterns[id]
	return pattern != nil && !pattern.MatchString(value)
}

// Malformed tells whether a value cannot be what its attribute is for.
func Malformed(attr, value string) bool { return malformed(directory.LookupAttr(attr), value) }

// shapedAttrs are the attributes of which it can be told.
var shapedAttrs = directory.Attrs(directory.AttrMail, directory.AttrUserPrincipalName, directory.AttrTelephoneNumber,
	directory.AttrMobile, directory.AttrC)

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
	case directory.AttrEmployeeID,
		directory.AttrEmployeeNumber,
		directory.AttrUserPrincipalName,
		directory.AttrServicePrincipalName,
		directory.AttrMail:
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

var extension = pattern.Lazy(`(?i)\s*(?:extension|ext|x|#)[\s.:]*[0-9]+\s*$`)

func isTelephone(s string) bool {
	digits := 0
	if strings.ContainsAny(s, "xX#") { // few have one, and the pattern is slow
		if at := extension().FindStringIndex(s); at != nil {
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
	display, given, family := a.Text.First(directory.AttrDisplayName), a.Text.First(
		directory.AttrGivenName), a.Text.First(directory.AttrSN)
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
	return &Finding{
		Evidence: []Evidence{
			{directory.AttrDisplayName.String(), display},
			{directory.AttrGivenName.String(), given},
			{directory.AttrSN.String(), family},
		},
	}
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
	if utf8.RuneCountInString(a.Logon) == cutLogon &&
		strings.HasPrefix(strings.ToLower(local), strings.ToLower(a.Logon)) {
		return nil
	}
	logon := p.Dialect.Logon.String()
	f := &Finding{Evidence: []Evidence{{directory.AttrUserPrincipalName.String(), principal}, {logon, a.Logon}}}
	if address != "" {
		f.Evidence = append(f.Evidence, Evidence{directory.AttrMail.String(), address})
	}
	return f
}
