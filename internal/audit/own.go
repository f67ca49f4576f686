package audit

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
	"yardbroom/internal/listing"
	"yardbroom/internal/pattern"
	"yardbroom/internal/settings"
	"yardbroom/internal/wording"
)

// Catalog is the checks there are: those built in, and those that the
// settings define by filters.
type Catalog []*Check

var ownName = pattern.Lazy(`^[a-z][a-z0-9-]{0,30}$`)

// NewCatalog returns the checks there are under some settings.
func NewCatalog(set *settings.Audit) (Catalog, error) {
	all := Catalog(slices.Clone(Checks))
	for _, name := range slices.Sorted(maps.Keys(set.Filters)) {
		c, err := ownCheck(name, set.Filters[name])
		if err == nil && byName(Checks, name) != nil {
			err = fmt.Errorf("%q is the name of a built-in check", name)
		}
		if err != nil {
			return nil, settings.Faulty(err, "audit", "filters", name)
		}
		all = append(all, c)
	}
	return all, nil
}

// CheckSettings refuses settings that the checks cannot go by. The error is a
// *settings.Fault.
func (c Catalog) CheckSettings(set *settings.Settings) error {
	if _, _, err := choose(c, set, nil); err != nil {
		return err
	}
	_, err := compileRules(set)
	return err
}

// Find returns a check by its name, nil where none has it.
func (c Catalog) Find(name string) *Check { return byName(c, name) }

// Named returns a check by its name; the error says what may have been meant.
func (c Catalog) Named(name string) (*Check, error) {
	if check := c.Find(name); check != nil {
		return check, nil
	}
	names := make([]string, len(c))
	for i := range c {
		names[i] = c[i].Name
	}
	return nil, fmt.Errorf("no check is called %q%s; \"yardbroom checks\" lists them", name, wording.DidYouMean(name, names))
}

// Own returns the checks that filters define.
func (c Catalog) Own() []*Check {
	return slices.DeleteFunc(slices.Clone(c), func(check *Check) bool { return check.Filter == "" || check.own == nil })
}

// ownCheck makes a check of a filter. What the filter selects is found by
// whoever reads the directory, and given to Run.
func ownCheck(name string, f settings.Filter) (*Check, error) {
	if !ownName().MatchString(name) {
		return nil, fmt.Errorf("%q cannot name a check: use small letters, digits and dashes", name)
	}
	c := &Check{
		Name:     name,
		Severity: Low,
		Short:    f.Text,
		Suggest:  f.Suggest,
		Kinds:    anything,
		Filter:   f.Filter,
		own:      &f,
	}
	if f.Kind != "" && listing.Kinds[f.Kind] == nil {
		return nil, fmt.Errorf("kind: %q is none of %s", f.Kind, strings.Join(listing.KindNames, ", "))
	}
	if f.Empty() {
		return nil, errors.New("give a filter, conditions (where), or a place (under)")
	}
	if f.Filter != "" {
		parsed, err := filter.Parse(f.Filter)
		if err != nil {
			return nil, err
		}
		c.attributes = parsed.Attributes()
	}
	if kinds := listing.Kinds[f.Kind]; f.Filter == "" && len(kinds) > 0 && !kinds[0].IsAccount() {
		c.Filter = listing.Selecting(f.Kind) // since only accounts are at hand without one
	}
	if f.Kind == "people" { // as a list of them, or more would be staged than it shows
		c.Filter = "(&" + f.Filter + listing.PersonFilter + ")"
	}
	for _, attr := range c.attributes {
		if directory.IsSecret(attr) {
			return nil, fmt.Errorf("%s: %w", name, directory.SecretError(attr))
		}
	}
	if f.Severity != "" {
		severity, err := ParseSeverity(f.Severity)
		if err != nil {
			return nil, err
		}
		c.Severity = severity
	}
	if c.Short == "" {
		c.Short = "entry that fulfils " + f.Describe()
	}
	if !f.Where.Empty() {
		if c.Kinds = accounts; f.Kind != "" {
			c.Kinds = listing.Kinds[f.Kind]
		}
		c.needs = func(d *directory.Dialect) [][]directory.AttrID { return ownNeeds(&f.Where, d) }
	}
	c.wants = func(p *pass) string {
		if _, given := p.selected[name]; c.Filter != "" && !given {
			return "what its filter selects was not read"
		}
		if _, err := p.test(&f.Where); err != nil {
			return err.Error()
		}
		return ""
	}
	c.gather = func(p *pass, report func(*directory.Subject, Finding)) { p.gatherOwn(c, report) }
	return c, nil
}

// Reason is what a batch says of why a line is in it: the name of the check, or
// of one that only one staging has asked for, what it asked for.
func (c *Check) Reason() string {
	if c.own == nil || c.own.Reason == "" {
		return c.Name
	}
	return c.own.Reason
}

// ownNeeds are the attributes without which conditions cannot be told.
func ownNeeds(asked *settings.Conditions, d *directory.Dialect) (needs [][]directory.AttrID) {
	w := asked.Looked()
	if w.Enabled || w.Disabled || w.DisabledFor != nil {
		needs = enabledNeeds(d)
	}
	for _, one := range []struct {
		asked bool
		ids   []directory.AttrID
	}{{w.AskSignIns(), d.LastLogon}, {w.PasswordOlder != nil, d.PasswordSet}, {w.New != nil || w.CreatedBefore != nil, []directory.AttrID{d.Created}}} {
		if one.asked {
			needs = append(needs, one.ids)
		}
	}
	return needs
}

// test is the test of conditions on the accounts of the survey.
func (p *pass) test(w *settings.Conditions) (func(*directory.Account) filter.Truth, error) {
	return listing.Test(w, p.Survey, p.asOf, func(name string) (string, error) { return GroupNamed(p.Survey, name) })
}

// GroupNamed returns the DN of the one group of a survey that has a DN or a name.
func GroupNamed(s *directory.Survey, name string) (string, error) {
	var found []string
	for i := range s.Groups {
		if g := &s.Groups[i]; g.Key == directory.KeyOf(name) || strings.EqualFold(g.Logon, name) ||
			strings.EqualFold(directory.LeafValue(g.DN), name) {
			found = append(found, g.DN)
		}
	}
	if len(found) != 1 {
		return "", fmt.Errorf("%d groups are called %q; give a DN (member_of)", len(found), name)
	}
	return found[0], nil
}

// gatherOwn reports what a check of the settings selects: what its filter does,
// and of that the accounts that fulfil its conditions.
func (p *pass) gatherOwn(c *Check, report func(*directory.Subject, Finding)) {
	holds, err := p.test(&c.own.Where)
	if err != nil {
		return // it was not looked at
	}
	under, notUnder := directory.FoldDN(c.own.Under), directory.FoldAll(c.own.NotUnder)
	take := func(a *directory.Account, e *directory.Entry) {
		if a.BuiltIn || a.Kind == directory.KindTrust ||
			c.own.Kind != "" && !slices.Contains(listing.Kinds[c.own.Kind], a.Kind) ||
			under != "" && !directory.Under(directory.FoldDN(a.DN), under) ||
			len(notUnder) > 0 && !directory.InScope(a.DN, nil, notUnder) ||
			holds(a) != filter.True { // what cannot be told the notes name
			return
		}
		f := Finding{Evidence: p.factsOf(c, a), Confidence: p.ownConfidence(c, a)}
		if e != nil {
			f.Evidence = append(c.evidenceOf(e), f.Evidence...)
		}
		report(&a.Subject, f)
	}
	if c.Filter == "" {
		for a := range p.Accounts.All() {
			take(a, nil)
		}
		return
	}
	for i := range p.selected[c.Name] {
		e := &p.selected[c.Name][i]
		a := p.Account(e)
		a.Key = directory.KeyOf(a.DN)
		take(&a, e)
	}
}

// ofOneServer are attributes of the `ad` schema that each server keeps for
// itself (MS-ADTS 3.1.1.1.5: not replicated), in lower case.
var ofOneServer = []string{"lastlogon", "lastlogoff", "logoncount", "badpwdcount", "badpasswordtime"}

// ownConfidence tells whether the survey proves what a check of the settings
// says of an account. One server's value of what is not replicated proves
// nothing of the others.
func (p *pass) ownConfidence(c *Check, a *directory.Account) Confidence {
	raw := p.Dialect == directory.AD && len(p.Servers()) != 1 &&
		slices.ContainsFunc(c.attributes,
			func(name string) bool { return slices.Contains(ofOneServer, strings.ToLower(name)) })
	w := c.own.Where.Looked()
	missed, last := c.own.Where.MissSignIns(), p.LastSignIn(a, p.asOf)
	switch {
	case raw:
		return Likely
	case c.own.Where.Idle != nil && last.Known() && !p.everySignInShown(a, last.Time(), w.Idle.Before(p.asOf)),
		missed && last.Known() && c.own.Where.Not != nil && c.own.Where.Not.UsedWithin != nil && !p.everySignInShown(a, last.Time(), w.UsedWithin.Before(p.asOf)),
		missed && !last.Known() && (!p.allAsked && !p.replicated(a) || p.SignInForgotten(a).Known()):
		return Likely
	case w.Enabled:
		return confidence(p.Enabled(a, p.asOf))
	case w.Disabled || w.DisabledFor != nil:
		return confidence(p.Disabled(a, p.asOf))
	case w.Locked:
		return confidence(p.LockedOut(a, p.asOf))
	}
	return Sure
}

// factsOf are the facts that conditions look at.
func (p *pass) factsOf(c *Check, a *directory.Account) (out []Evidence) {
	w := c.own.Where.Looked()
	if w.AskSignIns() {
		out = append(out, p.logonEvidence(a, p.LastSignIn(a, p.asOf))...)
		if !p.LastSignIn(a, p.asOf).Known() {
			made := evidence(a.Created)
			made.Attr = p.Dialect.Created.String() // also where it is absent, and so shown by none
			out = append(out, made)
		}
	}
	if w.PasswordOlder != nil {
		out = append(out, evidence(p.PasswordSet(a)))
	}
	if w.ExpiresIn != nil || w.Expired {
		out = append(out, evidence(a.Expires))
	}
	if w.DisabledFor != nil {
		out = append(out, dated("disabled since", p.DisabledSince(a, p.asOf), a))
	}
	if w.HereFor != nil {
		out = append(out, dated("here since", p.HereSince(a, p.asOf), a))
	}
	if w.Enabled || w.Disabled || w.Locked || w.DisabledFor != nil {
		out = append(out, Evidence{"state", p.State(a, p.asOf)})
	}
	if w.New != nil || w.CreatedBefore != nil {
		out = append(out, evidence(a.Created))
	}
	if w.MemberOf != "" {
		out = append(out, Evidence{"member of", w.MemberOf})
	}
	return out
}

// dated is the evidence of since when something is so; where nothing dates that, the
// last change of the entry proves that it is so at least since then.
func dated(what string, since directory.Moment, a *directory.Account) Evidence {
	if since.Known() {
		return Evidence{what, since.Time().Format(time.RFC3339)}
	}
	return Evidence{what, "its last change, " + a.Changed.Time().Format(time.RFC3339) + ", or before"}
}

// ownNote warns of a filter on what one server keeps for itself, "" where there
// is nothing to warn of.
func (c *Check) ownNote(p *pass) string {
	for _, name := range c.attributes {
		if p.Dialect == directory.AD && len(p.Servers()) != 1 && slices.Contains(ofOneServer, strings.ToLower(name)) {
			return fmt.Sprintf(
				"%s: %s is each server's own value, so its findings are likely, not sure; \"where: {idle: 90d}\" asks all servers",
				c.Name,
				name,
			)
		}
	}
	return ""
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
			out = append(out, Evidence{name, absent})
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
