package conformance

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/ldif"
	"yardbroom/internal/source"
)

// filterPeople fills the directory with entries on which filters can differ:
// values that are absent, several, oddly spaced, of other case, and links.
func filterPeople(t *testing.T, s *subject, c *source.Server) {
	names := []string{"Ada Quill", "ada  tern", "Bram Öst", "Clara de la Mare", "Dorian Quill-Tern", "Edda Møller (the *)", "Fenn O'Hara", "Gwen, Lady"}
	var dns []string
	for i, name := range names {
		dn := s.person(t, c, name, fmt.Sprintf("filter%d", i))
		dns = append(dns, dn)
		changes := map[string][]string{"telephoneNumber": {fmt.Sprintf("+44 20 7946 %04d", i*7)}, "description": {strings.ToUpper(name)}, "title": {"Night  Observer"}}
		if i%2 == 0 {
			changes["employeeNumber"] = []string{fmt.Sprintf("%d", 90+i*5)}
			changes["l"] = []string{"St. Ives"}
		}
		if i%3 == 0 {
			changes["givenName"] = []string{strings.Fields(name)[0]}
		}
		if i > 0 {
			changes["manager"] = []string{dns[0]}
		}
		if s.dialect == directory.AD {
			changes["userAccountControl"] = []string{[]string{"512", "514", "66048", "66050"}[i%4]}
			changes["accountExpires"] = []string{[]string{"0", "9223372036854775807", "133801632000000000", "134000000000000000"}[i%4]}
			if i == 3 {
				changes["physicalDeliveryOfficeName"] = []string{"Dome 3"}
			}
		} else {
			changes["mobile"] = []string{fmt.Sprintf("07700-900 %03d", i)}
			changes["sn"] = []string{"Quill", "tern"}
			changes["cn"] = []string{name, "Second " + name}
			changes["o"] = []string{"Larkmoor"}
			changes["description"] = append(changes["description"], fmt.Sprintf("  spaced %d  out ", i))
		}
		req := ldap.NewModifyRequest(dn, nil)
		for attr, values := range changes {
			req.Replace(attr, values)
		}
		require.NoError(t, c.Conn().Modify(req))
	}
	inner := s.group(t, c, "inner", dns[1], dns[2])
	outer := s.group(t, c, "outer", inner, dns[3])
	s.group(t, c, "top", outer)
}

// filterMaker makes filters at random from the attributes and values of a
// directory, and from what is nearly one of them.
type filterMaker struct {
	*rand.Rand
	attrs   []string
	values  map[string][]string
	dialect *directory.Dialect
	rules   bool // servers of the `ad` schema know chains of links
}

// numbers are what attributes may be called by, too.
var numbers = map[string]string{"cn": "2.5.4.3", "sn": "2.5.4.4", "title": "2.5.4.12", "description": "2.5.4.13", "mail": "0.9.2342.19200300.100.1.3", "objectClass": "2.5.4.0",
	"manager": "0.9.2342.19200300.100.1.10", "surname": "commonName", "o": "organizationName"}

func newFilterMaker(entries []directory.Entry, dialect *directory.Dialect, seed uint64) *filterMaker {
	m := &filterMaker{Rand: rand.New(rand.NewPCG(seed, 4)), values: map[string][]string{}, dialect: dialect, rules: dialect == directory.AD}
	wanted := []string{"objectClass", "cn", "sn", "givenName", "displayName", "mail", "telephoneNumber", "description", "title", "l", "employeeNumber", "manager", "member", "memberOf",
		"noSuchAttribute", "department"}
	if m.rules {
		wanted = append(wanted, "sAMAccountName", "userAccountControl", "accountExpires", "whenCreated", "objectCategory", "distinguishedName", "name", "physicalDeliveryOfficeName",
			"objectSid", "objectGUID", "instanceType", "lastLogon", "groupType", "isCriticalSystemObject", "badPwdCount")
	} else {
		wanted = append(wanted, "uid", "createTimestamp", "entryUUID", "mobile", "o", "ou", "name", "surname", "entryDN", "hasSubordinates", "departmentNumber")
	}
	m.attrs = wanted
	for i := range entries {
		for _, a := range entries[i].Attrs {
			if slices.Contains(wanted, a.Name) {
				m.values[a.Name] = append(m.values[a.Name], a.Values...)
			}
		}
	}
	return m
}

func (m *filterMaker) one(depth int) string {
	if depth > 0 && m.IntN(3) > 0 {
		switch m.IntN(4) {
		case 0:
			return "(!" + m.one(depth-1) + ")"
		case 1:
			return "(|" + m.one(depth-1) + m.one(depth-1) + ")"
		default:
			return "(&" + m.one(depth-1) + m.one(depth-1) + ")"
		}
	}
	attr := m.attrs[m.IntN(len(m.attrs))]
	value := m.value(attr)
	if number := numbers[attr]; number != "" && !m.rules && m.IntN(4) == 0 { // Samba takes names only
		attr = number
	}
	if attr == "objectClass" && m.IntN(4) == 0 && !m.rules {
		value = []string{"2.5.6.6", "2.16.840.1.113730.3.2.2", "2.5.6.9", "2.5.6.5"}[m.IntN(4)]
	}
	sign := []string{"=", "=", "=", ">=", "<="}[m.IntN(5)] // what is nearly equal each server tells in its own way
	kind := m.dialect.Schema().Type(attr)
	textual := kind == nil || strings.ContainsRune("tcepn", rune(kind.Syntax))
	if kind != nil && m.rules && !kind.Ordered {
		sign = "=" // what order such values have is an accident of the server
	}
	switch m.IntN(9) {
	case 0:
		return "(" + attr + "=*)"
	case 1, 2:
		if !textual && m.rules {
			return "(!(" + attr + "=*))" // what is a part of such a value is an accident of the server
		}
		return m.substrings(attr, value)
	case 3:
		rule := []string{"1.2.840.113556.1.4.803", "1.2.840.113556.1.4.804"}[m.IntN(2)]
		if m.rules {
			attr = []string{"userAccountControl", "instanceType", "groupType"}[m.IntN(3)] // what bits a text has is an accident of the server
		}
		return "(" + attr + ":" + rule + ":=" + []string{"2", "65536", "0", "66050", "5"}[m.IntN(5)] + ")"
	case 4:
		if m.rules && (attr == "member" || attr == "memberOf" || attr == "manager") {
			return "(" + attr + ":1.2.840.113556.1.4.1941:=" + ldap.EscapeFilter(value) + ")"
		}
	}
	return "(" + attr + sign + ldap.EscapeFilter(value) + ")"
}

// value is one that some entry has, or nearly.
func (m *filterMaker) value(attr string) string {
	of := m.values[attr]
	v := "Quill"
	if len(of) > 0 {
		v = of[m.IntN(len(of))]
	}
	if kind := m.dialect.Schema().Type(attr); m.rules && kind != nil && strings.ContainsRune("igbGS", rune(kind.Syntax)) {
		return v // what another value means is an accident of the server
	}
	switch m.IntN(8) {
	case 0:
		return strings.ToUpper(v)
	case 1:
		return strings.ToLower(v)
	case 2:
		return strings.ReplaceAll(v, " ", "  ")
	case 3:
		return []string{"Quill", "100", "20260101000000Z", "TRUE", "CN=Nobody,DC=x", "zz"}[m.IntN(6)]
	}
	return v
}

func (m *filterMaker) substrings(attr, v string) string {
	runes := []rune(v)
	if len(runes) < 3 || len(runes) > 100 {
		return "(" + attr + "=*a*)"
	}
	at := 1 + m.IntN(len(runes)-2)
	if blank := slices.Index(runes, ' '); blank > 0 && m.IntN(2) == 0 {
		at = min(blank+m.IntN(3), len(runes)-1) // beside blanks, which count only once
	}
	head, tail := ldap.EscapeFilter(string(runes[:at])), ldap.EscapeFilter(string(runes[at:]))
	return "(" + attr + "=" + []string{head + "*", "*" + tail, "*" + tail + "*", head + "*" + tail}[m.IntN(4)] + ")"
}

// TestFiltersMeanTheSameOnAFile asks a server and a kept survey of it the
// same some hundred filters.
func TestFiltersMeanTheSameOnAFile(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		switch s.name {
		case "practice":
			t.Skip("it evaluates filters by the same code")
		case "389ds":
			t.Skip("it orders what has no order and knows no subtypes; files are evaluated as RFC 4511 asks")
		}
		c := s.connect(t)
		filterPeople(t, s, c)
		ctx := context.Background()
		file, all := fileOf(t, c)
		file.Dialect = s.dialect
		made := newFilterMaker(all, s.dialect, 7)
		bad, refused := 0, 0
		for range 600 {
			f := made.one(2)
			live, err := c.Select(ctx, f, []string{"1.1"})
			if ldap.IsErrorAnyOf(err, ldap.LDAPResultOperationsError, ldap.LDAPResultInappropriateMatching, ldap.LDAPResultUnwillingToPerform) {
				refused++
				continue
			}
			require.NoError(t, err, f)
			local, err := file.Select(ctx, f, []string{"1.1"})
			require.NoError(t, err, f)
			onlyThere, onlyHere := apart(names(live), names(local)), apart(names(local), names(live))
			if !assert.Empty(t, onlyThere, "only the server finds, by %s", f) || !assert.Empty(t, onlyHere, "only the file finds, by %s", f) {
				if bad++; bad == 12 {
					t.Fatal("and so on")
				}
			}
		}
		assert.Less(t, refused, 60)
	})
}

// fileOf keeps all entries that a server shows in an LDIF file.
func fileOf(t *testing.T, c *source.Server) (*source.File, []directory.Entry) {
	t.Helper()
	all, err := c.Find(context.Background(), "(objectClass=*)")
	require.NoError(t, err)
	var text bytes.Buffer
	w := ldif.NewWriter(&text)
	for i := range all {
		require.NoError(t, w.Write(&all[i]))
	}
	require.NoError(t, w.Flush())
	path := filepath.Join(t.TempDir(), "all.ldif")
	require.NoError(t, os.WriteFile(path, text.Bytes(), 0o600))
	file, err := source.OpenFile(path, nil)
	require.NoError(t, err)
	return file, all
}

// apart returns some of what only the first list holds.
func apart(list, other []string) (some []string) {
	for _, name := range list {
		if len(some) < 3 && !slices.Contains(other, name) {
			some = append(some, name)
		}
	}
	return some
}

func names(entries []directory.Entry) []string {
	out := []string{}
	for i := range entries {
		out = append(out, directory.FoldDN(entries[i].DN))
	}
	slices.Sort(out)
	return out
}
