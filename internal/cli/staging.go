package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/roster"
)

// staging is what the command line asks to stage, and of whom.
type staging struct {
	actions     []string
	attr, value string // for set and fill
	name        batch.NewName
	names       []string
	chosen      bool // by conditions
}

// is tells whether this one action is staged.
func (s *staging) is(action string) bool { return len(s.actions) == 1 && s.actions[0] == action }

// fromRoster begins what stands for a value of the roster in a rule.
const fromRoster = "{roster."

// byRoster tells whether the roster gives the values.
func (s *staging) byRoster() bool { return s.is(batch.Fill) && strings.Contains(s.value, fromRoster) }

// values tells whether attributes get values, or lose them.
func (s *staging) values() bool {
	return s.is(batch.Set) || s.is(batch.Fill) || s.is(batch.Add) || s.is(batch.Clear)
}

// takes tells whether a finding is meant: for set and fill one about the
// attribute, and of the accounts named, if any are.
func (s *staging) takes(f *audit.Finding) bool {
	if f.DN == "" || f.Kind == directory.KindExemption.String() {
		return false // it is about no entry
	}
	if !s.values() {
		return true
	}
	if len(s.names) > 0 && !slices.ContainsFunc(s.names, func(n string) bool { return nameKey(n) == nameKey(f.Account) || nameKey(n) == nameKey(f.DN) }) {
		return false
	}
	if s.attr == "" {
		return true
	}
	return slices.ContainsFunc(f.Evidence, func(e audit.Evidence) bool {
		return strings.EqualFold(e.Attr, s.attr) ||
			e.Attr == "missing" && slices.ContainsFunc(strings.Split(e.Value, ", "), func(name string) bool { return strings.EqualFold(name, s.attr) })
	})
}

func parseStaging(cmd *cli.Command) (*staging, error) {
	name := batch.NewName{Given: cmd.String("given"), Family: cmd.String("family"), Display: cmd.String("display"),
		Logon: cmd.String("logon"), Mail: cmd.String("mail"), Principal: cmd.String("principal")}
	args := cmd.Args().Tail()
	s := &staging{actions: []string{cmd.Args().First()}, name: name}
	if s.actions[0] != batch.Rename && !name.Empty() {
		return nil, usage("--given, --family, --display, --logon, --mail and --principal go with rename")
	}
	switch s.actions[0] {
	case batch.Set:
		return s, s.parseSet(cmd, args)
	case batch.Add, batch.Clear:
		return s, s.parseValue(args)
	case batch.Fill:
		if len(args) < 2 {
			return nil, usage("fill needs an attribute and a rule: yardbroom stage fill displayName '{givenName} {sn}' --check value-missing")
		}
		s.attr, s.value, s.names = args[0], args[1], args[2:]
		if s.byRoster() {
			if len(checkNames(cmd))+len(cmd.StringSlice("match")) > 0 || cmd.String("file") != "" {
				return nil, usage("fill from the roster takes accounts by name, or all whose person is sure")
			}
			if _, err := rosterRule(s.value, nil); err != nil {
				return nil, err
			}
		}
		return s, settable(s.attr)
	case batch.Rename:
		if len(args) != 1 || len(checkNames(cmd))+len(cmd.StringSlice("match")) > 0 || cmd.String("file") != "" {
			return nil, usage("rename takes one account: yardbroom stage rename ACCOUNT --family NAME")
		}
		if name.Empty() {
			return nil, usage("say what changes: --given, --family, --display, --logon, --mail or --principal")
		}
		s.names = args
		return s, nil
	}
	if s.is(batch.ArchiveHome) {
		if len(checkNames(cmd))+len(cmd.StringSlice("match")) > 0 || cmd.String("file") != "" {
			return nil, usage("archive-home takes accounts by name, or all whose homes were held long enough")
		}
		s.names = args
		return s, nil
	}
	actions, err := batch.ParseActions(cmd.Args().First())
	if err != nil {
		return nil, usage("%w; \"%s --help\" shows how", err, cmd.FullName())
	}
	s.actions, s.names = actions, args
	return s, nil
}

// parseSet reads ATTRIBUTE=VALUE ACCOUNT…, or, where findings give the
// values, [ATTRIBUTE [ACCOUNT…]].
func (s *staging) parseSet(cmd *cli.Command, args []string) error {
	byFindings := slices.ContainsFunc(checkNames(cmd), func(c string) bool { return c == "value-variant" || c == "roster-drift" })
	if len(args) == 0 {
		if !byFindings {
			return usage("set needs ATTRIBUTE=VALUE, or --check value-variant or roster-drift")
		}
		return nil
	}
	attr, value, given := strings.Cut(args[0], "=")
	s.attr, s.value, s.names = attr, value, args[1:]
	switch {
	case given && value == "":
		return usage("set needs a value: %s=VALUE", attr)
	case !given && !byFindings:
		return usage("set needs ATTRIBUTE=VALUE: %q has no value", args[0])
	}
	return settable(attr)
}

// parseValue reads ATTRIBUTE=VALUE for add, and ATTRIBUTE[=VALUE] for clear.
func (s *staging) parseValue(args []string) error {
	if len(args) == 0 {
		return usage("%s needs an attribute: yardbroom stage %s ATTRIBUTE=VALUE ACCOUNT…", s.actions[0], s.actions[0])
	}
	var given bool
	s.attr, s.value, given = strings.Cut(args[0], "=")
	s.names = args[1:]
	if s.value == "" && (given || s.is(batch.Add)) {
		return usage("%s needs a value: %s=VALUE", s.actions[0], s.attr)
	}
	return settable(s.attr)
}

func settable(attr string) error {
	if why := batch.Unsettable(attr); why != "" {
		return usage("%s", why)
	}
	return nil
}

// rosterRule puts a person's values into a rule, in place of {roster.FIELD}.
// Without a person it only reads the rule.
func rosterRule(rule string, who *roster.Person) (string, error) {
	var b strings.Builder
	for {
		before, rest, found := strings.Cut(rule, fromRoster)
		b.WriteString(before)
		if !found {
			return b.String(), nil
		}
		name, after, closed := strings.Cut(rest, "}")
		f, err := roster.ParseField(name)
		if err != nil || !closed {
			return "", usage("the rule %q: {roster.FIELD} names one of %s", rule, roster.FieldNames)
		}
		if who != nil {
			if who.Values[f] == "" {
				return "", fmt.Errorf("the roster gives no %s", f)
			}
			b.WriteString(strings.NewReplacer("{", "{{", "}", "}}").Replace(who.Values[f]))
		}
		rule = after
	}
}
