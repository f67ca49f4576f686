package conformance

import (
	"cmp"
	"context"
	"flag"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/realserver"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

var update = flag.Bool("update", false, "write the schema tables anew from the servers")

// schemaLine is one line of a table: names, letter and marks, superior.
type schemaLine struct{ names, code, super string }

// TestSchemaTables holds the tables that filters on files are evaluated by
// against what the servers themselves say of their attributes.
func TestSchemaTables(t *testing.T) {
	t.Run("ad", func(t *testing.T) {
		server := sambaServer(t)
		checkTable(t, "ad", adSchema(t, server.Yard, server.Base), nil)
	})
	t.Run("standard", func(t *testing.T) {
		lines, classes := subschema(t, realserver.OpenLDAP(t).Yard, "cn=Subschema")
		more, _ := subschema(t, ns389.get(t, realserver.NS389).Yard, "cn=schema")
		for name, line := range more {
			if _, ok := lines[name]; !ok && !taken(lines, line.names) {
				lines[name] = line
			}
		}
		checkTable(t, "standard", lines, classes)
	})
}

func taken(lines map[string]schemaLine, names string) bool {
	for _, l := range lines {
		for name := range strings.SplitSeq(names, ",") {
			if slices.ContainsFunc(strings.Split(l.names, ","), func(n string) bool { return strings.EqualFold(n, name) }) {
				return true
			}
		}
	}
	return false
}

// added are attributes of servers that no test starts.
var added = map[string][]string{
	"ad": {"msLAPS-PasswordExpirationTime i<@1", "ms-Mcs-AdmPwdExpirationTime i<@1", "msExchRecipientTypeDetails i<1", "msExchMasterAccountSid S1", "msExchHideFromAddressLists b1",
		"extensionAttribute1,extensionAttribute2,extensionAttribute3,extensionAttribute4,extensionAttribute5,extensionAttribute6,extensionAttribute7,extensionAttribute8,extensionAttribute9,extensionAttribute10,extensionAttribute11,extensionAttribute12,extensionAttribute13,extensionAttribute14,extensionAttribute15 c<*1"},
}

func checkTable(t *testing.T, name string, lines map[string]schemaLine, classes map[string]string) {
	path := "../directory/schema/" + name + ".txt"
	var b strings.Builder
	b.WriteString("# Attribute types: names and the number, the letter of the syntax with marks, the superior type.\n# Written from the servers by: go test ./internal/conformance -run TestSchemaTables -update\n")
	for _, key := range slices.Sorted(maps.Keys(lines)) {
		l := lines[key]
		b.WriteString(strings.TrimSpace(l.names+" "+l.code+" "+l.super) + "\n")
	}
	for _, line := range added[name] {
		names, code, _ := strings.Cut(line, " ")
		for n := range strings.SplitSeq(names, ",") {
			if _, ok := lines[n]; !ok {
				b.WriteString(n + " " + code + "\n")
			}
		}
	}
	for _, class := range slices.Sorted(maps.Keys(classes)) {
		b.WriteString("class " + class + " " + classes[class] + "\n")
	}
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(b.String()), 0o644))
	}
	have, err := os.ReadFile(path)
	require.NoError(t, err)
	known := map[string]bool{}
	for line := range strings.Lines(string(have)) {
		known[line] = true
	}
	for line := range strings.Lines(b.String()) {
		assert.True(t, known[line], "not in %s: %s", path, line)
	}
}

// adCodes are the letters and marks of the syntaxes of MS-ADTS 3.1.1.2.2.2.
var adCodes = map[string]string{
	"2.5.5.12": "c<*", "2.5.5.4": "c<*", "2.5.5.3": "e<*", "2.5.5.5": "v<*", "2.5.5.6": "v<*", "2.5.5.2": "k", "2.5.5.1": "d", "2.5.5.9": "i<", "2.5.5.16": "i<",
	"2.5.5.8": "b", "2.5.5.10": "o<*", "2.5.5.11": "g<", "2.5.5.17": "S",
}

var fileTimes = []string{"accountExpires", "badPasswordTime", "lastLogoff", "lastLogon", "lastLogonTimestamp", "lockoutTime", "pwdLastSet", "creationTime", "lastSetTime",
	"priorSetTime", "msDS-LastSuccessfulInteractiveLogonTime", "msDS-LastFailedInteractiveLogonTime", "msDS-UserPasswordExpiryTimeComputed"}

func adSchema(t *testing.T, yard settings.Yard, base string) map[string]schemaLine {
	c, err := source.Connect(context.Background(), source.Target{Yard: yard})
	require.NoError(t, err)
	defer c.Close()
	lines := map[string]schemaLine{}
	_, err = c.Search(context.Background(), source.Query{Base: "CN=Schema,CN=Configuration," + base, Scope: ldap.ScopeSingleLevel, Filter: "(objectClass=attributeSchema)",
		Attributes: []string{"lDAPDisplayName", "attributeID", "attributeSyntax", "linkID", "isSingleValued"}}, func(page []directory.Entry) error {
		for i := range page {
			e := &page[i]
			name := e.First("lDAPDisplayName")
			if directory.IsSecret(name) {
				continue
			}
			code := cmp.Or(adCodes[e.First("attributeSyntax")], "x")
			switch {
			case strings.EqualFold(name, "objectGUID"):
				code = "G"
			case slices.Contains(fileTimes, name):
				code += "@"
			}
			if e.Has("linkID") {
				code += "&"
			}
			if e.First("isSingleValued") == "TRUE" {
				code += "1"
			}
			lines[name] = schemaLine{names: name + "," + e.First("attributeID"), code: code}
		}
		return nil
	})
	require.NoError(t, err)
	_, err = c.Search(context.Background(), source.Query{Base: "CN=Schema,CN=Configuration," + base, Scope: ldap.ScopeSingleLevel, Filter: "(objectClass=classSchema)",
		Attributes: []string{"lDAPDisplayName", "defaultObjectCategory", "governsID"}}, func(page []directory.Entry) error {
		for i := range page {
			name := page[i].First("lDAPDisplayName")
			lines["category "+name] = schemaLine{names: "category " + name, code: directory.LeafValue(page[i].First("defaultObjectCategory")), super: page[i].First("governsID")}
		}
		return nil
	})
	require.NoError(t, err)
	return lines
}

var (
	quotedNames = regexp.MustCompile(`NAME (?:\(\s*([^)]*)\)|('[^']*'))`)
	ruleOf      = regexp.MustCompile(`(EQUALITY|ORDERING|SUBSTR|SUP) ([\w-]+)`)
	numberIn    = regexp.MustCompile(`^\d+(\.\d+)+`)
	syntaxOf    = regexp.MustCompile(`SYNTAX ([0-9.]+)`)
)

var equalities = map[string]string{
	"caseIgnoreMatch": "t", "caseIgnoreIA5Match": "t", "caseExactMatch": "e", "caseExactIA5Match": "e", "integerMatch": "i", "generalizedTimeMatch": "g",
	"distinguishedNameMatch": "d", "uniqueMemberMatch": "d", "booleanMatch": "b", "octetStringMatch": "o", "UUIDMatch": "u", "telephoneNumberMatch": "p",
	"numericStringMatch": "n", "caseIgnoreListMatch": "l", "objectIdentifierMatch": "k",
}

// bySyntax are the letters where 389 Directory Server names no equality rule.
var bySyntax = map[string]string{"1.3.6.1.4.1.1466.115.121.1.15": "t*", "1.3.6.1.4.1.1466.115.121.1.24": "g<", "1.3.6.1.4.1.1466.115.121.1.27": "i<",
	"1.3.6.1.4.1.1466.115.121.1.12": "d", "1.3.6.1.4.1.1466.115.121.1.26": "e*"}

func subschema(t *testing.T, yard settings.Yard, base string) (map[string]schemaLine, map[string]string) {
	c, err := source.Connect(context.Background(), source.Target{Yard: yard})
	require.NoError(t, err)
	defer c.Close()
	lines, classes := map[string]schemaLine{}, map[string]string{}
	type raw struct {
		equality, ordering, substr, super, syntax string
		single                                    bool
	}
	raws := map[string]raw{}
	_, err = c.Search(context.Background(), source.Query{Base: base, Scope: ldap.ScopeBaseObject, Attributes: []string{"attributeTypes", "objectClasses"}}, func(page []directory.Entry) error {
		for _, text := range page[0].Get("attributeTypes") {
			names := namesIn(text)
			if len(names) == 0 || directory.IsSecret(names[0]) || strings.Contains(text, "1.3.6.1.4.1.32473.") { // ours
				continue
			}
			r := raw{single: strings.Contains(text, "SINGLE-VALUE")}
			for _, m := range ruleOf.FindAllStringSubmatch(text, -1) {
				switch m[1] {
				case "EQUALITY":
					r.equality = m[2]
				case "ORDERING":
					r.ordering = m[2]
				case "SUBSTR":
					r.substr = m[2]
				case "SUP":
					r.super = m[2]
				}
			}
			if m := syntaxOf.FindStringSubmatch(text); m != nil {
				r.syntax = m[1]
			}
			raws[strings.ToLower(names[0])] = r
			lines[names[0]] = schemaLine{names: strings.Join(append(names, numberOf(text)...), ","), super: r.super}
		}
		for _, text := range page[0].Get("objectClasses") {
			if names := namesIn(text); len(names) > 0 && !strings.Contains(text, "1.3.6.1.4.1.32473.") {
				for _, m := range ruleOf.FindAllStringSubmatch(text, -1) {
					if m[1] == "SUP" {
						classes[names[0]] = strings.Join(append([]string{m[2]}, numberOf(text)...), " ")
					}
				}
			}
		}
		return nil
	})
	require.NoError(t, err)
	for name, line := range lines {
		r := raws[strings.ToLower(name)]
		for up := strings.ToLower(r.super); up != ""; up = strings.ToLower(raws[up].super) {
			r.equality, r.ordering, r.substr = cmp.Or(r.equality, raws[up].equality), cmp.Or(r.ordering, raws[up].ordering), cmp.Or(r.substr, raws[up].substr)
			r.syntax = cmp.Or(r.syntax, raws[up].syntax)
		}
		line.code = equalities[r.equality]
		if line.code == "" && base == "cn=schema" {
			line.code = bySyntax[r.syntax]
		}
		line.code = cmp.Or(line.code, "x")
		if r.ordering != "" {
			line.code += "<"
		}
		if r.substr != "" {
			line.code += "*"
		}
		if name == "shadowExpire" || name == "shadowLastChange" {
			line.code += "#"
		}
		if r.single {
			line.code += "1"
		}
		lines[name] = line
	}
	return lines, classes
}

// numberOf is the number of a description, if it has one: 389 Directory Server
// has words for some.
func numberOf(text string) []string {
	if fields := strings.Fields(strings.TrimPrefix(text, "(")); len(fields) > 0 && numberIn.FindString(fields[0]) == fields[0] {
		return fields[:1]
	}
	return nil
}

func namesIn(text string) []string {
	m := quotedNames.FindStringSubmatch(text)
	if m == nil {
		return nil
	}
	return strings.Fields(strings.ReplaceAll(m[1]+m[2], "'", " "))
}
