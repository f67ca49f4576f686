package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/listing"
	"yardbroom/internal/render"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// mostSuggested is how many names of a directory are offered at once.
const mostSuggested = 200

// argumentsOf are what may stand as the next argument of a command: its commands, and
// what its usage names.
func (a *app) argumentsOf(ctx context.Context, l *typedLine, current string) (found completion) {
	if len(l.args) == 0 {
		for _, c := range l.command().VisibleCommands() {
			found.values = append(found.values, suggestion{c.Name, c.Usage})
		}
	}
	if before, last, several := cutLast(current); several && l.name() == "stage" {
		for _, one := range actions {
			if slices.Contains(batch.ActionNames, one.name) && strings.HasPrefix(one.name, last) && !slices.Contains(strings.Split(before, ","), one.name) {
				found.values = append(found.values, suggestion{before + one.name, one.usage})
			}
		}
	}
	what := l.argument()
	for one := range strings.SplitSeq(what, "|") {
		switch {
		case one == "":
		case one == "FILE":
			found.files = true
		case one == strings.ToLower(one):
			if l.command().Command(one) == nil {
				found.values = append(found.values, suggestion{one, ""})
			}
		default:
			found.values = append(found.values, a.named(ctx, l, one, current)...)
		}
	}
	return found
}

// cutLast cuts a list with commas before its last part.
func cutLast(list string) (before, last string, several bool) {
	i := strings.LastIndexByte(list, ',')
	return list[:i+1], list[i+1:], i >= 0
}

// valuesOf are what an option may be given.
func (a *app) valuesOf(ctx context.Context, l *typedLine, option, current string) (found completion) {
	flag := l.option("--" + option)
	switch what := placeholder(flag); {
	case option == "check":
		return listOf(current, a.checkSuggestions())
	case option == "columns":
		return listOf(current, columnSuggestions())
	case option == "sort":
		found.values = columnSuggestions()
	case option == "from", option == "on":
		found.values, found.files = a.placeSuggestions(), true
	case option == "not":
		for _, c := range conditionOptions {
			found.values = append(found.values, suggestion{c.name, strings.ReplaceAll(c.usage, "`", "")})
		}
	case option == "match" && !strings.Contains(current, "="):
		for _, name := range directory.AllAttributes() {
			found.values = append(found.values, suggestion{name + "=", ""})
		}
	case option == "passwords-each":
		found.values = wordsOf("person, manager")
	case option == "dialect":
		found.values = wordsOf(directory.DialectNames)
	case option == "fail-on":
		found.values = wordsOf("low, medium, high, info")
	case option == "on-collision":
		found.values = wordsOf("append-account")
	case option == "rung":
		found.values = a.rungSuggestions(l.args)
	case option == "since" && slices.Contains([]string{"audit", "reconcile"}, l.name()):
		found.values = append(wordsOf("last"), a.surveySuggestions()...)
	case option == "to" || what == "OU":
		found.values = a.namesOf(l, work.UnitNames, current)
	case what == "FILE" || what == "DIR" || what == "FOLDER":
		found.files = true
	case slices.Contains([]string{"FORMAT", "PART", "STATE", "SCHEDULER", "WHAT", "KIND", "ORDER", ""}, what):
		if d, ok := flag.(interface{ GetUsage() string }); ok {
			found.values = wordsOf(d.GetUsage())
		}
	default:
		found.values = a.named(ctx, l, what, current)
	}
	return found
}

// listOf are the values of a list with commas: what may come last, behind the others.
func listOf(current string, all []suggestion) (found completion) {
	before, last, several := cutLast(current)
	for _, s := range all {
		if several && (!strings.HasPrefix(s.text, last) || slices.Contains(strings.Split(before, ","), s.text)) {
			continue
		}
		found.values = append(found.values, suggestion{before + s.text, s.about})
	}
	return found
}

// wordsOf are the words that a text lists: behind a colon, if there is one, and up to
// where it says something else.
func wordsOf(text string) (all []suggestion) {
	if _, list, ok := strings.Cut(text, ": "); ok {
		text = list
	}
	text, _, _ = strings.Cut(text, ";")
	text, _, _ = strings.Cut(text, " (")
	for word := range strings.FieldsFuncSeq(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		if word = strings.Trim(word, "`"); word != "or" && word != "and" && word != "" {
			all = append(all, suggestion{word, ""})
		}
	}
	return all
}

// named are the things that a word of a usage stands for.
func (a *app) named(ctx context.Context, l *typedLine, what, current string) (all []suggestion) {
	switch what {
	case "ACTION":
		return nil // they are commands
	case "ACCOUNT", "LINES":
		if len(l.args) > 0 && (strings.HasPrefix(l.name(), "batch ") || l.name() == "undo") {
			return a.lineSuggestions(ctx, l.args[0])
		}
		return a.namesOf(l, work.AccountNames, current)
	case "GROUP":
		return a.namesOf(l, work.GroupNames, current)
	case "DN":
		return nil
	case "BATCH":
		return a.batchSuggestions(ctx, l.name())
	case "YARD", "URL", "WHERE":
		if what == "URL" {
			return nil
		}
		return a.yardSuggestions()
	case "BEFORE", "AFTER":
		return a.placeSuggestions()
	case "LADDER":
		for i := range a.work.Settings.Ladders {
			all = append(all, suggestion{a.work.Settings.Ladders[i].Name, a.work.Settings.Ladders[i].Title})
		}
	case "ROUND":
		for _, name := range slices.Sorted(maps.Keys(a.work.Settings.Rounds)) {
			all = append(all, suggestion{name, ""})
		}
	case "RUN":
		return a.runSuggestions(ctx, l.args)
	case "NUMBER":
		return a.numberSuggestions(ctx, l.name())
	case "NAME":
		switch l.name() {
		case "checks":
			return a.checkSuggestions()
		case "schema":
			for _, name := range append(slices.Sorted(maps.Keys(render.Shapes)), "settings") {
				all = append(all, suggestion{name, ""})
			}
		}
	}
	return all
}

// namesOf are names of the yard that the line is about, as the last reading of all of
// it knows them.
func (a *app) namesOf(l *typedLine, kind work.NameKind, begins string) (all []suggestion) {
	yard := l.flags["from"]
	if _, known := a.work.Settings.Yards[yard]; !known {
		yard = a.work.Settings.Default
	}
	found, err := a.work.Names(yard, kind, begins, mostSuggested)
	if err != nil {
		return nil
	}
	for _, one := range found {
		all = append(all, suggestion{one.Name, one.About})
	}
	return all
}

func (a *app) checkSuggestions() (all []suggestion) {
	for _, c := range a.work.Catalog {
		all = append(all, suggestion{c.Name, c.Short})
	}
	return all
}

func columnSuggestions() (all []suggestion) {
	for i := range listing.Readable {
		all = append(all, suggestion{listing.Readable[i].Name, listing.Readable[i].Doc})
	}
	for _, name := range directory.AllAttributes() {
		all = append(all, suggestion{name, ""})
	}
	return all
}

func (a *app) yardSuggestions() (all []suggestion) {
	for _, name := range slices.Sorted(maps.Keys(a.work.Settings.Yards)) {
		all = append(all, suggestion{name, a.work.Settings.Yards[name].Base})
	}
	return all
}

func (a *app) surveySuggestions() (all []suggestion) {
	kept, _, err := a.work.Surveys()
	if err != nil {
		return nil
	}
	for _, m := range slices.Backward(kept) {
		all = append(all, suggestion{m.Name, fmt.Sprintf("survey of %s, %s", m.Taken.Format(time.DateOnly), wording.Count(m.Entries, "entry"))})
	}
	return all
}

func (a *app) placeSuggestions() []suggestion {
	return append(a.yardSuggestions(), a.surveySuggestions()...)
}

// batchStates are the batches that a command is about, for those that are not about all.
var batchStates = map[string][]batch.State{
	"apply": {batch.Staged, batch.Begun}, "undo": {batch.Done, batch.Begun}, "batch sign": {batch.Staged, batch.Begun}, "batch drop": {batch.Staged, batch.Begun},
	"batch keep": {batch.Staged, batch.Begun}, "batch pick": {batch.Staged, batch.Begun}, "batch discard": {batch.Staged, batch.Begun}, "batch import": {batch.Staged, batch.Begun},
}

func (a *app) batchSuggestions(ctx context.Context, command string) (all []suggestion) {
	heads, err := a.work.BatchHeads(ctx)
	if err != nil {
		return nil
	}
	for _, b := range slices.Backward(heads) {
		if states := batchStates[command]; states != nil && !slices.Contains(states, b.State) {
			continue
		}
		about := fmt.Sprintf("%s, %s, %s", strings.Join(b.Actions, ","), b.State, b.Created.Local().Format(time.DateOnly))
		if b.Why != "" {
			about += ", " + b.Why
		}
		all = append(all, suggestion{strconv.Itoa(b.ID), render.Visible(about)})
	}
	return all
}

// lineSuggestions are the accounts of a batch's lines.
func (a *app) lineSuggestions(ctx context.Context, id string) (all []suggestion) {
	n, err := strconv.Atoi(id)
	if err != nil || !a.work.HasState() {
		return nil
	}
	b, err := a.work.Batch(ctx, n)
	if err != nil {
		return nil
	}
	for i := range b.Lines {
		if l := &b.Lines[i]; l.Account != "" && render.Visible(l.Account) == l.Account {
			all = append(all, suggestion{l.Account, fmt.Sprintf("line %d, %s", l.N, directory.LeafValue(l.DN))})
		}
	}
	return all[:min(len(all), mostSuggested*5)]
}

func (a *app) rungSuggestions(args []string) (all []suggestion) {
	for i := range a.work.Settings.Ladders {
		l := &a.work.Settings.Ladders[i]
		if len(args) > 0 && args[0] != l.Name {
			continue
		}
		for _, r := range l.Rungs {
			all = append(all, suggestion{r.Name, l.Name})
		}
	}
	return all
}

func (a *app) runSuggestions(ctx context.Context, args []string) (all []suggestion) {
	runs, err := a.work.Runs(ctx, args[0], mostSuggested)
	if err != nil {
		return nil
	}
	for _, r := range runs {
		all = append(all, suggestion{strconv.Itoa(r.ID), r.Began.Local().Format("2006-01-02 15:04")})
	}
	return all
}

// numberSuggestions are the numbers of what a command ends, or uses.
func (a *app) numberSuggestions(ctx context.Context, command string) (all []suggestion) {
	if !a.work.HasState() {
		return nil
	}
	switch command {
	case "exempt end":
		list, _ := a.work.Exemptions(ctx)
		for i := range list {
			if e := &list[i]; e.Number != 0 {
				all = append(all, suggestion{strconv.Itoa(e.Number), render.Visible(fmt.Sprintf("%s: %s, until %s", e.Match, e.Reason, cmp.Or(e.Until, "it is ended")))})
			}
		}
	case "link end":
		list, _ := a.work.Links(ctx)
		for i := range list {
			all = append(all, suggestion{strconv.Itoa(list[i].Number), render.Visible(fmt.Sprintf("%s %s, %s", list[i].Account, list[i].Verdict, list[i].Name))})
		}
	}
	return all
}
