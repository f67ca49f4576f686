package cli

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/work"
)

// stageRequest is what the command line asks to stage, and of whom.
func (a *app) stageRequest(cmd *cli.Command) (*work.StageRequest, error) {
	q, err := question(cmd)
	if err != nil {
		return nil, err
	}
	r := &work.StageRequest{
		Question:      q,
		To:            cmd.String("to"),
		Text:          cmd.String("text"),
		Expires:       cmd.String("expires"),
		Groups:        cmd.StringSlice("group"),
		Unlock:        cmd.Bool("unlock"),
		EvenEnabled:   cmd.Bool("even-enabled"),
		Until:         cmd.String("until"),
		Why:           cmd.String("why"),
		IncludeLikely: cmd.Bool("include-likely"),
		WholeRoster:   cmd.Bool("whole-roster"),
		MaxLines:      cmd.Int("max-lines"),
		MaxShare:      cmd.Int("max-share"),
		Name: batch.NewName{Given: cmd.String("given"), Family: cmd.String("family"), Display: cmd.String("display"),
			Logon: cmd.String("logon"), Mail: cmd.String("mail"), Principal: cmd.String("principal")},
	}
	for _, what := range keptNames(cmd) {
		switch what {
		case "display":
			r.Name.KeepDisplay = true
		case "mail":
			r.Name.KeepMail = true
		case "principal":
			r.Name.KeepPrincipal = true
		default:
			return nil, usage("--keep: %q is none of mail, principal and display", what)
		}
	}
	if err := a.actionsOf(cmd, r); err != nil {
		return nil, err
	}
	if c := cmd.String("on-collision"); c != "" && c != "append-account" {
		return nil, usage("--on-collision: %q is not append-account", c)
	}
	r.AppendAccount = cmd.IsSet("on-collision")
	if r.Is(batch.ArchiveHome) {
		return r, nil
	}
	return r, a.choiceOf(cmd, r)
}

// keptNames are what --keep names, with or without commas.
func keptNames(cmd *cli.Command) (all []string) {
	for _, list := range cmd.StringSlice("keep") {
		for what := range strings.SplitSeq(list, ",") {
			all = append(all, strings.TrimSpace(what))
		}
	}
	return all
}

// choiceOf reads which accounts are meant, besides those that the arguments name.
func (a *app) choiceOf(cmd *cli.Command, r *work.StageRequest) error {
	asked, err := a.conditions(cmd)
	if err != nil {
		return err
	}
	file := cmd.String("file")
	switch named := len(r.Names) > 0 || len(r.Checks) > 0 || file != ""; {
	case !asked.Empty():
		if asked.Kind == "" && !named {
			asked.Kind = "users"
		}
		r.Where = &asked
	case cmd.IsSet("kind"):
		return usage("--kind goes with conditions, such as --idle or --filter")
	}
	if file != "" {
		r.Listed, err = a.namesIn(file, cmd.String("column"))
	}
	return err
}

// namesIn reads the names in a file, "-" for standard input.
func (a *app) namesIn(file, column string) ([]string, error) {
	in := a.in
	if file != "-" {
		opened, err := os.Open(file)
		if err != nil {
			return nil, fmt.Errorf("--file %s: %w", file, errors.Unwrap(err))
		}
		defer opened.Close()
		in = opened
	}
	return work.ReadNames(in, "--file "+file, column)
}

// elsewhere tells whether accounts are chosen otherwise than by name.
func elsewhere(cmd *cli.Command, r *work.StageRequest) bool {
	return len(r.Checks) > 0 || cmd.String("file") != ""
}

// actionsOf reads the actions and what stands behind them: what an action of its
// own writes, and the names of accounts.
func (a *app) actionsOf(cmd *cli.Command, r *work.StageRequest) error {
	action, args := stagedWords(cmd)
	if action != batch.Rename && r.Name != (batch.NewName{}) {
		return usage("--keep, --given, --family, --display, --logon, --mail and --principal go with rename")
	}
	r.Actions = []string{action}
	switch action {
	case batch.Set:
		return a.setOf(r, args)
	case batch.Add, batch.Clear:
		return valueOf(r, args)
	case batch.Fill:
		return fillOf(cmd, r, args)
	case batch.Rename:
		switch {
		case len(args) != 1 || elsewhere(cmd, r):
			return usage("rename takes one account: yardbroom stage rename ACCOUNT --family NAME")
		case r.Name.Empty():
			return usage("say what changes: --given, --family, --display, --logon, --mail or --principal")
		}
	case batch.ArchiveHome:
		if elsewhere(cmd, r) {
			return usage("archive-home takes accounts by name, or all whose homes were held long enough")
		}
	default:
		var err error
		if r.Actions, err = batch.ParseActions(action); err != nil {
			return usage("%w; \"%s --help\" shows how", err, cmd.FullName())
		}
	}
	r.Names = args
	return nil
}

// setOf reads ATTRIBUTE=VALUE ACCOUNT…, or, where findings give the values,
// [ATTRIBUTE [ACCOUNT…]].
func (a *app) setOf(r *work.StageRequest, args []string) error {
	byFindings := slices.ContainsFunc(r.Checks, func(name string) bool {
		c, err := a.work.Catalog.Named(name)
		return err == nil && c.GivesValues
	})
	if len(args) == 0 {
		if !byFindings {
			return usage("set needs ATTRIBUTE=VALUE, or --check value-variant or roster-drift")
		}
		return nil
	}
	attr, value, given := strings.Cut(args[0], "=")
	r.Attr, r.Value, r.Names = attr, value, args[1:]
	switch {
	case given && value == "":
		return usage("set needs a value: %s=VALUE", attr)
	case !given && !byFindings:
		return usage("set needs ATTRIBUTE=VALUE: %q has no value", args[0])
	}
	if err := work.CheckRule(value); err != nil {
		return err
	}
	return settable(attr)
}

// valueOf reads ATTRIBUTE=VALUE for add, and ATTRIBUTE[=VALUE] for clear.
func valueOf(r *work.StageRequest, args []string) error {
	if len(args) == 0 {
		return usage("%s needs an attribute: yardbroom stage %s ATTRIBUTE=VALUE ACCOUNT…", r.Actions[0], r.Actions[0])
	}
	var given bool
	r.Attr, r.Value, given = strings.Cut(args[0], "=")
	r.Names = args[1:]
	if r.Value == "" && (given || r.Is(batch.Add)) {
		return usage("%s needs a value: %s=VALUE", r.Actions[0], r.Attr)
	}
	if r.Is(batch.Add) {
		if err := work.CheckRule(r.Value); err != nil {
			return err
		}
	}
	return settable(r.Attr)
}

// fillOf reads ATTRIBUTE RULE ACCOUNT….
func fillOf(cmd *cli.Command, r *work.StageRequest, args []string) error {
	if len(args) < 2 {
		return usage(
			"fill needs an attribute and a rule: yardbroom stage fill displayName '{givenName} {sn}' --check value-missing",
		)
	}
	r.Attr, r.Value, r.Names = args[0], args[1], args[2:]
	if r.ByRoster() && elsewhere(cmd, r) {
		return usage("fill from the roster takes accounts by name, or all whose person is sure")
	}
	if err := work.CheckRule(r.Value); err != nil {
		return err
	}
	return settable(r.Attr)
}

func settable(attr string) error {
	if why := batch.Unsettable(attr); why != "" {
		return usage("%s", why)
	}
	return nil
}
