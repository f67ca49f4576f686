package audit

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/settings"
)

// Catalog is the checks there are: those built in, and those that the
// settings define by filters.
type Catalog []*Check

var ownName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}$`)

// NewCatalog returns the checks there are under some settings.
func NewCatalog(set *settings.Audit) (Catalog, error) {
	all := Catalog(slices.Clone(Checks))
	for _, name := range slices.Sorted(maps.Keys(set.Filters)) {
		c, err := ownCheck(name, set.Filters[name])
		if err == nil && byName(Checks, name) != nil {
			err = fmt.Errorf("%q is the name of a built-in check", name)
		}
		if err != nil {
			return nil, fmt.Errorf("settings: audit: filters: %w", err)
		}
		all = append(all, c)
	}
	return all, nil
}

// Named returns a check by its name.
func (c Catalog) Named(name string) (*Check, error) {
	if check := byName(c, name); check != nil {
		return check, nil
	}
	return nil, fmt.Errorf("no check is called %q; \"yardbroom checks\" lists them", name)
}

// Own returns the checks that filters define.
func (c Catalog) Own() []*Check {
	return slices.DeleteFunc(slices.Clone(c), func(check *Check) bool { return check.Filter == "" })
}

// ownCheck makes a check of a filter. What the filter selects is found by
// whoever reads the directory, and given to Run.
func ownCheck(name string, f settings.Filter) (*Check, error) {
	if !ownName.MatchString(name) {
		return nil, fmt.Errorf("%q cannot name a check: use small letters, digits and dashes", name)
	}
	parsed, err := filter.Parse(f.Filter)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	c := &Check{Name: name, Severity: Low, Short: f.Text, Suggest: f.Suggest, Kinds: anything, Filter: f.Filter, attributes: parsed.Attributes()}
	for _, attr := range c.attributes {
		if directory.IsSecret(attr) {
			return nil, fmt.Errorf("%s: %w", name, directory.SecretError(attr))
		}
	}
	if f.Severity != "" {
		if c.Severity, err = ParseSeverity(f.Severity); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	}
	if c.Short == "" {
		c.Short = "entry that fulfils " + f.Filter
	}
	c.gather = func(p *pass, report func(*directory.Subject, Finding)) {
		for i := range p.selected[name] {
			e := &p.selected[name][i]
			a := p.Dialect.Account(e)
			if !a.BuiltIn && a.Kind != directory.KindTrust {
				report(&a.Subject, Finding{Evidence: c.evidenceOf(e)})
			}
		}
	}
	c.wants = func(p *pass) string {
		if _, given := p.selected[name]; !given {
			return "what its filter selects was not read"
		}
		return ""
	}
	return c, nil
}

// shown are the attributes that a filter looks at, but for those that say
// what the entry is, which its kind tells.
func (c *Check) shown() []string {
	return slices.DeleteFunc(slices.Clone(c.attributes), func(name string) bool {
		return strings.EqualFold(name, "objectClass") || strings.EqualFold(name, "objectCategory")
	})
}

// byServer are attributes that any change of an entry changes too.
var byServer = []string{"whenChanged", "uSNChanged", "modifyTimestamp", "modifiersName", "entryCSN"}

// evidenceOf shows the values of the attributes that the filter looks at.
func (c *Check) evidenceOf(e *directory.Entry) []Evidence {
	var out []Evidence
	for _, name := range c.shown() {
		values := e.Get(name)
		if len(values) == 0 {
			out = append(out, Evidence{name, "absent"})
			continue
		}
		shown := make([]string, 0, len(values))
		for _, v := range values[:min(len(values), 5)] {
			shown = append(shown, directory.Readable(name, v))
		}
		text := strings.Join(shown, ", ")
		if more := len(values) - len(shown); more > 0 {
			text += fmt.Sprintf(" and %d more", more)
		}
		out = append(out, Evidence{name, text})
	}
	return out
}
