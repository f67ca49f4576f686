package batch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// Assignment is a value that an account is to get.
type Assignment struct {
	Attr string
	// Old is the value to replace; "" means all that there are.
	Old string
	// New is the value, or for fill the rule that makes it. For clear it is the
	// one value to take away, "" for all.
	New string
	// Rule says that New is a rule, as for fill, and not the value itself.
	Rule bool
}

// assign plans the values that an entry is to get.
func (s *Stager) assign(ctx context.Context, name string, e *directory.Entry, want []Assignment, line *Line) error {
	if len(want) == 0 {
		return errors.New("no finding says what it should be")
	}
	var mods []Mod
	for _, w := range want {
		if why, err := s.settable(ctx, w.Attr); err != nil || why != "" {
			return cmp.Or(err, errors.New(why))
		}
		if rdn, _ := directory.SplitDN(e.DN); strings.EqualFold(strings.SplitN(rdn, "=", 2)[0], w.Attr) {
			return fmt.Errorf("%s is in its name: use rename", w.Attr)
		}
		if e.Incomplete(w.Attr) {
			return fmt.Errorf("its %s could not be read whole", w.Attr)
		}
		value := w.New
		if name == Fill || w.Rule {
			var err error
			if value, err = Expand(w.New, e); err != nil {
				return err
			}
		}
		if name != Clear && s.unlisted(w.Attr, value) {
			line.Warnings = append(line.Warnings, fmt.Sprintf("%s %q is not among the values that the settings list (audit: values)", w.Attr, value))
		}
		m, err := assignment(name, e, w, value)
		if err != nil {
			return err
		}
		if name == Clear {
			mods = append(mods, m)
			continue
		}
		if err := s.allowed(ctx, e, w.Attr, value); err != nil {
			return err
		}
		mods = append(mods, m)
	}
	line.Actions = append(line.Actions, Action{Name: name, Put: mods})
	for _, m := range mods {
		line.Changes = append(line.Changes, ChangeOf(m))
	}
	return nil
}

// unlisted tells whether the settings list the right values of an attribute, and this
// one is not among them.
func (s *Stager) unlisted(attr, value string) bool {
	for name, listed := range s.Settings.Audit.Values {
		if strings.EqualFold(name, attr) {
			return !slices.Contains(listed, value)
		}
	}
	return false
}

// settable is Settable, asked once for each attribute.
func (s *Stager) settable(ctx context.Context, attr string) (string, error) {
	if why, known := s.unsettable[attr]; known {
		return why, nil
	}
	why, err := Settable(ctx, s.From, attr, s.Settings.Batch.Attributes)
	if err == nil {
		s.unsettable[attr] = why
	}
	return why, err
}

func assignment(name string, e *directory.Entry, w Assignment, value string) (Mod, error) {
	now := e.Get(w.Attr)
	m := Mod{Attr: w.Attr, Old: OctetsOf(now), New: []Octets{Octets(value)}}
	blank := !slices.ContainsFunc(now, func(v string) bool { return strings.TrimSpace(v) != "" })
	switch {
	case name == Clear && len(now) == 0:
		return m, fmt.Errorf("it has no %s", w.Attr)
	case name == Clear && w.New == "":
		m.New = nil
	case name == Clear:
		at := slices.Index(now, w.New)
		if at < 0 {
			return m, fmt.Errorf("its %s is %s, not %q", w.Attr, readable(w.Attr, m.Old), w.New)
		}
		m.New = slices.Delete(slices.Clone(m.Old), at, at+1)
	case name == Add && slices.ContainsFunc(now, func(v string) bool { return strings.EqualFold(v, value) }):
		return m, already("its %s has %q already", w.Attr, value)
	case name == Add && value != "":
		m.New = append(slices.Clone(m.Old), Octets(value))
	case value == "":
		return m, fmt.Errorf("the new %s would be empty", w.Attr)
	case name == Fill && !blank:
		return m, already("it has a %s already: %q", w.Attr, now[0])
	case w.Old != "":
		at := slices.Index(now, w.Old)
		if at < 0 {
			return m, fmt.Errorf("its %s is %s now, not %q", w.Attr, readable(w.Attr, m.Old), w.Old)
		}
		m.New = OctetsOf(now)
		if m.New[at] = Octets(value); slices.Contains(now, value) {
			m.New = slices.Delete(m.New, at, at+1)
		}
	case len(now) == 1 && now[0] == value:
		return m, already("its %s is %q already", w.Attr, value)
	}
	return m, nil
}

// allowed refuses a value that would itself be a finding: malformed, or one
// that another account has.
func (s *Stager) allowed(ctx context.Context, e *directory.Entry, attr, value string) error {
	if audit.Malformed(attr, value) {
		return fmt.Errorf("%q cannot be a %s", value, attr)
	}
	if !audit.Unique(attr) {
		return nil
	}
	key := strings.ToLower(attr) + "\x00" + strings.ToLower(value)
	if holder, taken := s.given[key]; taken && holder != directory.FoldDN(e.DN) {
		return fmt.Errorf("another line of the batch gives %s %q already", attr, value)
	}
	s.given[key] = directory.FoldDN(e.DN)
	filter := "(" + attr + "=" + source.EscapeFilter(value) + ")"
	if strings.EqualFold(attr, "mail") {
		filter = "(|" + filter + "(proxyAddresses=smtp:" + source.EscapeFilter(value) + "))"
	}
	found, err := s.From.Select(ctx, filter, []string{"1.1"})
	if err != nil {
		return err
	}
	for i := range found {
		if directory.FoldDN(found[i].DN) != directory.FoldDN(e.DN) {
			return fmt.Errorf("%s has the %s %q", found[i].DN, attr, value)
		}
	}
	return nil
}

// RuleNames are the names in the braces of a rule.
func RuleNames(rule string) (names []string, err error) {
	_, err = substitute(rule, func(name string) (string, error) {
		names = append(names, name)
		return "", nil
	})
	return names, err
}

// Expand makes a value by a rule: a text in which {attribute} stands for the
// entry's value of it. Two braces stand for one.
func Expand(rule string, e *directory.Entry) (string, error) {
	value, err := substitute(rule, func(name string) (string, error) {
		switch {
		case !attributeForm().MatchString(name):
			return "", fmt.Errorf("the rule %q has a { that begins no {attribute}", rule)
		case directory.IsSecret(name):
			return "", fmt.Errorf("%s is secret and stands in no rule", name)
		}
		value := strings.TrimSpace(e.First(name))
		if value == "" {
			return "", fmt.Errorf("its %s is blank, so the rule gives nothing", name)
		}
		return value, nil
	})
	return strings.TrimSpace(value), err
}
