package cli

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/listing"
	"yardbroom/internal/settings"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// condition is one option that chooses entries by what the tool knows of them. Exactly
// one of its setters is there, by what the option takes.
type condition struct {
	name, usage string
	yes         func(*settings.Filter) *bool
	span        func(*settings.Filter) **calendar.Span
	text        func(*settings.Filter) *string
}

// conditionOptions are the conditions there are. Each may be turned round: --not NAME.
var conditionOptions = []condition{
	{name: "enabled", usage: "only accounts that are neither disabled nor expired", yes: func(f *settings.Filter) *bool { return &f.Where.Enabled }},
	{name: "disabled", usage: "only disabled accounts", yes: func(f *settings.Filter) *bool { return &f.Where.Disabled }},
	{name: "locked", usage: "only accounts that wrong passwords have locked", yes: func(f *settings.Filter) *bool { return &f.Where.Locked }},
	{name: "expired", usage: "only accounts past their expiry date", yes: func(f *settings.Filter) *bool { return &f.Where.Expired }},
	{name: "never-used", usage: "only accounts without any sign-in", yes: func(f *settings.Filter) *bool { return &f.Where.NeverUsed }},
	{name: "used", usage: "only accounts that have signed in at least once", yes: func(f *settings.Filter) *bool { return &f.Where.Used }},
	{
		name: "idle", usage: "only accounts without a sign-in for this `SPAN` (90d, 12w, 6mo), or ever since they were made so long ago",
		span: func(f *settings.Filter) **calendar.Span { return &f.Where.Idle },
	},
	{name: "used-within", usage: "only accounts that have signed in within this `SPAN`", span: func(f *settings.Filter) **calendar.Span { return &f.Where.UsedWithin }},
	{
		name: "password-older", usage: "only accounts whose password is older than this `SPAN`",
		span: func(f *settings.Filter) **calendar.Span { return &f.Where.PasswordOlder },
	},
	{
		name: "expires-within", usage: "only accounts that expire within this `SPAN`",
		span: func(f *settings.Filter) **calendar.Span { return &f.Where.ExpiresIn },
	},
	{name: "new", usage: "only entries made within this `SPAN`", span: func(f *settings.Filter) **calendar.Span { return &f.Where.New }},
	{name: "disabled-for", usage: "only accounts that have been disabled for this `SPAN` or longer", span: func(f *settings.Filter) **calendar.Span { return &f.Where.DisabledFor }},
	{name: "here-for", usage: "only entries that have stood where they are for this `SPAN` or longer", span: func(f *settings.Filter) **calendar.Span { return &f.Where.HereFor }},
	{name: "member-of", usage: "only who is in this `GROUP`, directly or through other groups", text: func(f *settings.Filter) *string { return &f.Where.MemberOf }},
}

// conditionFlags choose entries by a filter, by place and by what the tool knows of
// them.
func conditionFlags() []cli.Flag {
	flags := []cli.Flag{
		&cli.StringFlag{
			Name:  "filter",
			Usage: "what this RFC 4515 `FILTER` selects, or the filter of this name in the settings; times may be relative: (whenCreated>={90d ago})",
		},
		&cli.StringSliceFlag{
			Name:  "match",
			Usage: "only entries with this value, as `ATTRIBUTE=VALUE`; * stands for any text; may be given several times",
		},
		&cli.StringFlag{Name: "under", Usage: "only at or below this `OU`, by its DN, or its name where that is unique"},
		&cli.StringFlag{Name: "created-before", Usage: "only entries made before this `DATE`, or at least this span ago (1y)"},
		&cli.StringSliceFlag{
			Name:  "not",
			Usage: "turn a `CONDITION` round: --not locked, --not idle=90d, --not member-of=Staff, --not under=OU=…; may be given several times",
		},
	}
	for _, c := range conditionOptions {
		if c.yes != nil {
			flags = append(flags, &cli.BoolFlag{Name: c.name, Usage: c.usage})
		} else {
			flags = append(flags, &cli.StringFlag{Name: c.name, Usage: c.usage})
		}
	}
	return flags
}

// kindFlag says of which kind the entries are that conditions choose.
func kindFlag(usual string) cli.Flag {
	return &cli.StringFlag{
		Name: "kind",
		Usage: "with conditions: which `KIND` of entries, as \"list\" calls it: " + strings.Join(listing.KindNames, ", ") +
			" (default: " + usual + ")",
	}
}

// set reads one condition into a filter.
func (c *condition) set(f *settings.Filter, value string) error {
	switch {
	case c.yes != nil:
		if value != "" {
			return usage("--not %s takes no value, and %q is one", c.name, value)
		}
		*c.yes(f) = true
	case value == "":
		return usage("--%s needs a value", c.name)
	case c.span != nil:
		span, err := calendar.ParseSpan(value)
		if err != nil {
			return usage("--%s: %w", c.name, err)
		}
		*c.span(f) = &span
	default:
		*c.text(f) = value
	}
	return nil
}

// conditions reads what conditionFlags ask for. A filter may be the name of one
// of the settings, with its conditions.
func (a *app) conditions(cmd *cli.Command) (settings.Filter, error) {
	f := settings.Filter{Filter: cmd.String("filter"), Under: cmd.String("under"), Kind: cmd.String("kind")}
	if f.Kind != "" && listing.Kinds[f.Kind] == nil {
		return f, usage("--kind: %q is none of %s%s", f.Kind, strings.Join(listing.KindNames, ", "), wording.DidYouMean(f.Kind, listing.KindNames))
	}
	for _, c := range conditionOptions {
		if !cmd.IsSet(c.name) {
			continue
		}
		if c.yes != nil && !cmd.Bool(c.name) {
			return f, usage("--%s=false is not a condition: leave it out, or say --not %s", c.name, c.name)
		}
		if err := c.set(&f, cmd.String(c.name)); err != nil {
			return f, err
		}
	}
	if text := cmd.String("created-before"); text != "" {
		past, err := calendar.ParsePast(text)
		if err != nil {
			return f, usage("--created-before: %w", err)
		}
		f.Where.CreatedBefore = &past
	}
	if err := turned(cmd.StringSlice("not"), &f); err != nil {
		return f, err
	}
	if own, ok := a.work.Settings.Audit.Filters[f.Filter]; ok {
		if !own.Where.Empty() && !f.Where.Empty() {
			return f, usage("--filter %s: it has conditions of its own in the settings, so give no others", f.Filter)
		}
		f.Filter, f.Under, f.Kind = own.Filter, cmp.Or(f.Under, own.Under), cmp.Or(f.Kind, own.Kind)
		f.NotUnder = append(f.NotUnder, own.NotUnder...)
		if f.Where.Empty() {
			f.Where = own.Where
		}
	}
	for _, text := range cmd.StringSlice("match") {
		one, err := matchFilter("--match", text)
		if err != nil {
			return f, err
		}
		f.Filter = bothFilters(f.Filter, one)
	}
	a.asked = f.Describe()
	if checks := checkNames(cmd); len(checks) > 0 {
		a.asked = strings.Join(append(slices.DeleteFunc([]string{a.asked}, func(s string) bool { return s == "" }), "checks "+strings.Join(checks, ", ")), "; ")
	}
	return f, nil
}

// choose finds who fulfils conditions, and says of how many that cannot be told; nil
// where there are no conditions.
func (a *app) choose(ctx context.Context, p *work.Place, asked settings.Filter, q *work.Question) (*work.Chosen, error) {
	return a.chosenBy(ctx, p, asked, q, a.work.Choose)
}

// chosenBy is choose in one of the ways there are.
func (a *app) chosenBy(
	ctx context.Context, p *work.Place, asked settings.Filter, q *work.Question,
	by func(context.Context, *work.Place, settings.Filter, *work.Question) (*work.Chosen, error),
) (*work.Chosen, error) {
	chosen, err := by(ctx, p, asked, q)
	if err == nil && chosen != nil {
		a.tellUntold(chosen.Untold)
	}
	return chosen, err
}

// namedAmong are those named that are among those chosen, or all of these where nobody is
// named.
func (a *app) namedAmong(ctx context.Context, p *work.Place, names []string, chosen *work.Chosen) ([]directory.Entry, error) {
	if len(names) == 0 {
		return chosen.Entries, nil
	}
	entries, err := a.work.FindAll(ctx, p, names)
	return slices.DeleteFunc(entries, func(e directory.Entry) bool { return !chosen.Has(e.DN) }), err
}

// tellUntold says of how many entries it cannot be told whether they are meant.
func (a *app) tellUntold(n int) {
	if n > 0 {
		a.note("note: whether %d more are meant cannot be told, since what decides it may not be read of them, or is not dated; \"yardbroom yard test\" says what may not be read, and where", n)
	}
}

// turned reads conditions that must not be fulfilled.
func turned(all []string, f *settings.Filter) error {
	not := settings.Filter{}
	for _, text := range all {
		name, value, _ := strings.Cut(text, "=")
		at := slices.IndexFunc(conditionOptions, func(c condition) bool { return c.name == name })
		switch {
		case value == "" && (name == "under" || name == "filter"):
			return usage("--not %s needs a value", name)
		case name == "under":
			f.NotUnder = append(f.NotUnder, value)
		case name == "created-before":
			past, err := calendar.ParsePast(value)
			if err != nil {
				return usage("--not created-before: %w", err)
			}
			not.Where.CreatedBefore = &past
		case name == "match":
			one, err := matchFilter("--not match", value)
			if err != nil {
				return err
			}
			f.Filter = bothFilters(f.Filter, "(!"+one+")")
		case name == "filter":
			f.Filter = bothFilters(f.Filter, "(!"+bracketed(value)+")")
		case at < 0:
			return usage("--not: there is no condition %q%s; conditions are %s", name, wording.DidYouMean(name, conditionNames()), strings.Join(conditionNames(), ", "))
		default:
			if err := conditionOptions[at].set(&not, value); err != nil {
				return err
			}
		}
	}
	if !not.Where.Empty() {
		f.Where.Not = &not.Where
	}
	return nil
}

func conditionNames() []string {
	names := []string{"under", "match", "filter", "created-before"}
	for _, c := range conditionOptions {
		names = append(names, c.name)
	}
	return names
}

// bothFilters is the filter that asks for what two do; the outermost brackets may be
// left out of the first one.
func bothFilters(a, b string) string {
	if a == "" {
		return b
	}
	return "(&" + bracketed(a) + b + ")"
}

// bracketed is a filter with its outermost brackets.
func bracketed(text string) string {
	if text = strings.TrimSpace(text); !strings.HasPrefix(text, "(") {
		return "(" + text + ")"
	}
	return text
}

// matchFilter is the filter that ATTRIBUTE=VALUE means. A * in the value stands for
// any text.
func matchFilter(option, text string) (string, error) {
	attr, value, ok := strings.Cut(text, "=")
	if !ok || attr == "" || strings.ContainsAny(attr, "()*&|! :<>~") {
		return "", usage("%s: %q is not ATTRIBUTE=VALUE", option, text)
	}
	if value == "" {
		return "", usage("%s: %s has no value; %s=* means any, --not match=%s=* means none", option, text, attr, attr)
	}
	if directory.IsSecret(attr) {
		return "", usage("%s: %w", option, directory.SecretError(attr))
	}
	return "(" + attr + "=" + work.Wildcards(value) + ")", nil
}
