package audit

import (
	"context"
	"fmt"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

// Named is an entry that the settings name, or an exemption does.
type Named struct {
	Setting string // where it is named
	DN      string
	// Bounds tells that it decides what gets findings and may be changed.
	Bounds bool
}

func (n Named) String() string { return fmt.Sprintf("%s names %s", n.Setting, n.DN) }

// NamedIn are the entries that a yard's settings and exemptions name below the
// base of one directory. What bounds the yard is of this directory wherever it
// stands.
func NamedIn(set *settings.Settings, yard *settings.Yard, base string, exempt []Exemption) (all []Named) {
	add := func(setting string, bounds bool, dns ...string) {
		for _, dn := range dns {
			if dn != "" && (bounds || directory.Under(directory.FoldDN(dn), directory.FoldDN(base))) {
				all = append(all, Named{setting, dn, bounds})
			}
		}
	}
	add("scope", true, yard.Scope...)
	add("leave_out", true, yard.LeaveOut...)
	add("parking", false, set.Audit.Parking...)
	add("privileged_groups", false, set.Audit.PrivilegedGroups...)
	add("default_policy", false, yard.DefaultPolicy)
	for _, e := range exempt {
		add("an exemption ("+e.Reason+")", false, e.Match.DN, e.Match.Subtree)
	}
	return all
}

// Getter reads entries by their names.
type Getter interface {
	Get(ctx context.Context, dns []string) ([]directory.Entry, error)
}

// Missing returns those of the names that no entry has. What a survey knows, if
// one is given, need not be read again.
func Missing(ctx context.Context, from Getter, survey *directory.Survey, all []Named) (missing []Named, err error) {
	open := map[directory.Key]bool{}
	for _, n := range all {
		open[directory.KeyOf(n.DN)] = true
	}
	if survey != nil {
		survey.Find(open)
	}
	var ask []string
	for _, n := range all {
		if open[directory.KeyOf(n.DN)] {
			ask = append(ask, n.DN)
		}
	}
	if len(ask) == 0 {
		return nil, nil
	}
	found, err := from.Get(ctx, ask)
	if err != nil {
		return nil, err
	}
	for i := range found {
		delete(open, directory.KeyOf(found[i].DN))
	}
	for _, n := range all {
		if open[directory.KeyOf(n.DN)] {
			missing = append(missing, n)
		}
	}
	return missing, nil
}

// MissingBounds is the error where what bounds a yard is missing: a name that is
// misspelt protects nothing, or leaves everything out.
func MissingBounds(missing []Named) error {
	var texts []string
	for _, n := range missing {
		if n.Bounds {
			texts = append(texts, n.String())
		}
	}
	if len(texts) == 0 {
		return nil
	}
	return fmt.Errorf(
		"the yard's %s, and there is no such entry: correct the settings; nothing is judged nor changed by bounds that do not exist",
		strings.Join(texts, ", "),
	)
}
