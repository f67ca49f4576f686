package audit

import (
	"fmt"
	"maps"
	"regexp"
	"slices"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

// rules are what the settings say in texts, made ready for use.
type rules struct {
	admin     *regexp.Regexp // logon names of accounts for administration
	systems   []*regexp.Regexp
	start     directory.AttrID // the attribute with the first day
	compared  []directory.AttrID
	required  []directory.AttrID
	patterns  map[directory.AttrID]*regexp.Regexp
	reference map[directory.AttrID][]string // right spellings
}

// Attributes returns the attributes whose texts the settings make checks
// look at.
func Attributes(a *settings.Audit) (directory.AttrSet, error) {
	var set directory.AttrSet
	r, err := compileRules(a)
	if err != nil {
		return set, err
	}
	for _, id := range slices.Concat(r.compared, r.required, slices.Collect(maps.Keys(r.patterns))) {
		set.Add(id)
	}
	if r.start != directory.AttrUnknown {
		set.Add(r.start)
	}
	return set, nil
}

func compileRules(a *settings.Audit) (r rules, err error) {
	if r.admin, err = regexp.Compile("(?i)" + a.AdminAccountPattern); err != nil {
		return r, fmt.Errorf("settings: audit: admin_account_pattern: %w", err)
	}
	for _, text := range a.UnsupportedSystems {
		pattern, err := regexp.Compile("(?i)" + text)
		if err != nil {
			return r, fmt.Errorf("settings: audit: unsupported_systems: %w", err)
		}
		r.systems = append(r.systems, pattern)
	}
	attr := func(where, name string) directory.AttrID {
		id := directory.LookupAttr(name)
		if id == directory.AttrUnknown && err == nil {
			err = fmt.Errorf("settings: audit: %s: %q is not an attribute that the audit reads", where, name)
		}
		return id
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
	r.patterns, r.reference = map[directory.AttrID]*regexp.Regexp{}, map[directory.AttrID][]string{}
	for _, name := range slices.Sorted(maps.Keys(a.Patterns)) {
		pattern, bad := regexp.Compile(a.Patterns[name])
		if bad != nil {
			return r, fmt.Errorf("settings: audit: patterns: %s: %w", name, bad)
		}
		r.patterns[attr("patterns", name)] = pattern
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
