package audit

import (
	"fmt"
	"maps"
	"regexp"
	"slices"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
	"yardbroom/internal/wording"
)

// rules are what the settings say in texts, made ready for use.
type rules struct {
	admin   *regexp.Regexp // logon names of accounts for administration
	systems []*regexp.Regexp
	service *regexp.Regexp // logon names of service accounts
	// adminMachines are where privileged accounts may sign in.
	adminMachines []*regexp.Regexp
	start         directory.AttrID   // the attribute with the first day
	location      directory.AttrID   // the attribute that the roster calls location
	ids           []directory.AttrID // the attributes that hold the person id
	compared      []directory.AttrID
	required      []directory.AttrID
	patterns      map[directory.AttrID]*regexp.Regexp
	shaped        directory.AttrSet             // the attributes whose values may be malformed
	reference     map[directory.AttrID][]string // right spellings
}

// Attributes returns the attributes whose texts the settings make checks
// look at.
func Attributes(set *settings.Settings) (directory.AttrSet, error) {
	var keep directory.AttrSet
	r, err := compileRules(set)
	if err != nil {
		return keep, err
	}
	for _, id := range slices.Concat(r.compared, r.required, slices.Collect(maps.Keys(r.patterns))) {
		keep.Add(id)
	}
	for _, id := range append(r.ids, r.start, r.location) {
		if id != directory.AttrUnknown {
			keep.Add(id)
		}
	}
	return keep, nil
}

func compileRules(set *settings.Settings) (r rules, err error) {
	a := &set.Audit
	if r.admin, err = regexp.Compile("(?i)" + a.AdminAccountPattern); err != nil {
		return r, settings.Faulty(err, "audit", "admin_account_pattern")
	}
	if r.service, err = regexp.Compile("(?i)" + a.ServiceAccountPattern); err != nil {
		return r, settings.Faulty(err, "audit", "service_account_pattern")
	}
	for _, text := range a.AdminMachines {
		pattern, err := regexp.Compile("(?i)" + text)
		if err != nil {
			return r, settings.Faulty(err, "audit", "admin_machines")
		}
		r.adminMachines = append(r.adminMachines, pattern)
	}
	for _, text := range a.UnsupportedSystems {
		pattern, err := regexp.Compile("(?i)" + text)
		if err != nil {
			return r, settings.Faulty(err, "audit", "unsupported_systems")
		}
		r.systems = append(r.systems, pattern)
	}
	attr := func(where, name string) directory.AttrID {
		id := directory.LookupAttr(directory.PlainName(name))
		if id == directory.AttrUnknown && err == nil {
			err = settings.Faulty(notRead(name), "audit", where)
		}
		return id
	}
	if r.ids, err = RosterIDs(set); err != nil {
		return r, err
	}
	if name := set.Roster.LocationAttribute; name != "" {
		if r.location = directory.LookupAttr(directory.PlainName(name)); r.location == directory.AttrUnknown {
			return r, settings.Faulty(notRead(name), "roster", "location_attribute")
		}
	}
	if a.StartAttribute != "" {
		r.start = attr("start_attribute", a.StartAttribute)
	}
	for _, name := range a.Compare {
		r.compared = append(r.compared, attr("compare", name))
	}
	for _, name := range a.Required {
		r.required = append(r.required, attr("required", name))
	}
	r.shaped = shapedAttrs
	r.patterns, r.reference = map[directory.AttrID]*regexp.Regexp{}, map[directory.AttrID][]string{}
	for _, name := range slices.Sorted(maps.Keys(a.Patterns)) {
		pattern, bad := regexp.Compile(a.Patterns[name])
		if bad != nil {
			return r, settings.Faulty(bad, "audit", "patterns", name)
		}
		id := attr("patterns", name)
		r.patterns[id] = pattern
		r.shaped.Add(id)
	}
	for _, name := range slices.Sorted(maps.Keys(a.Values)) {
		id := attr("values", name)
		r.reference[id] = a.Values[name]
		if !slices.Contains(r.compared, id) {
			r.compared = append(r.compared, id)
		}
	}
	return r, err
}

// notRead is the error for an attribute that no check looks at.
func notRead(name string) error {
	return fmt.Errorf("%q is not an attribute that the audit reads%s", name, wording.DidYouMean(name, directory.AllAttributes()))
}

// RosterIDs returns the attributes that the settings name for the person id;
// none where they name none.
func RosterIDs(set *settings.Settings) (ids []directory.AttrID, err error) {
	for _, name := range set.Roster.IDAttributes {
		id := directory.LookupAttr(directory.PlainName(name))
		if id == directory.AttrUnknown {
			return nil, settings.Faulty(notRead(name), "roster", "id_attributes")
		}
		ids = append(ids, id)
	}
	return ids, nil
}
