package directory

import (
	"strconv"
	"strings"
)

// LinkedPolicy is one link of an entry to a group policy.
type LinkedPolicy struct {
	GUID     string // in braces, upper case
	Disabled bool
}

// ParsePolicyLinks reads a gPLink value (MS-GPOL 2.2.2): any number of
// [LDAP://name;options], where bit 0x1 of the options disables the link and
// bit 0x2 enforces it. What is not of this form is left out.
func ParsePolicyLinks(value string) []LinkedPolicy {
	var all []LinkedPolicy
	for part := range strings.SplitSeq(value, "[") {
		part, _, ok := strings.Cut(part, "]")
		at := strings.LastIndexByte(part, ';')
		if !ok || at < 0 {
			continue
		}
		name := part[:at]
		if len(name) < 7 || !strings.EqualFold(name[:7], "LDAP://") {
			continue
		}
		options, err := strconv.ParseUint(strings.TrimSpace(part[at+1:]), 10, 32)
		if err != nil {
			continue
		}
		all = append(all, LinkedPolicy{GUID: strings.ToUpper(LeafValue(name[7:])), Disabled: options&1 != 0})
	}
	return all
}
