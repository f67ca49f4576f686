package directory

import "strings"

// The places that an `ad` directory itself names for something, by the GUIDs in
// hexadecimal under which wellKnownObjects of the domain's entry and its
// sibling list them (MS-ADTS 6.1.1.4).
const (
	PlaceUsers           = "A9D1CA15768811D1ADED00C04FD8D5CD"
	PlaceComputers       = "AA312825768811D1ADED00C04FD8D5CD"
	PlaceControllers     = "A361B2FFFFD211D1AA4B00C04FD7D83A"
	PlaceSystem          = "AB1D30F3768811D1ADED00C04FD8D5CD"
	PlaceLostAndFound    = "AB8153B7768811D1ADED00C04FD8D5CD"
	PlaceDeleted         = "18E2EA80684F11D2B9AA00C04F79F805"
	PlaceManagedAccounts = "1EB93889E40C45DF9F0C64D23BBB6237"
)

// WellKnownObjects are the values of a domain's entry that name its usual
// places.
func WellKnownObjects(base string) []string {
	var all []string
	for _, p := range [][2]string{{PlaceUsers, "CN=Users"}, {PlaceComputers, "CN=Computers"}, {PlaceControllers, "OU=Domain Controllers"}, {PlaceSystem, "CN=System"},
		{PlaceLostAndFound, "CN=LostAndFound"}, {PlaceDeleted, "CN=Deleted Objects"}} {
		all = append(all, "B:32:"+p[0]+":"+p[1]+","+base)
	}
	return all
}

// ParsePlace reads a value of wellKnownObjects: DN-Binary (MS-ADTS
// 3.1.1.2.2.2.1), B:count:hexadecimal:name.
func ParsePlace(value string) (guid, dn string, ok bool) {
	parts := strings.SplitN(value, ":", 4)
	if len(parts) != 4 {
		return "", "", false
	}
	return strings.ToUpper(parts[2]), parts[3], true
}
