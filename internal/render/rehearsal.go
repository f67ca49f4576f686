package render

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/wording"
	"yardbroom/internal/work"
)

// mostListed is how many findings of a rehearsal are listed one by one.
const mostListed = 20

// Rehearsal writes what a batch would do: first what would not be done, then
// what would be worse afterwards, then what would be better.
func Rehearsal(w io.Writer, p *work.Rehearsal, st Style) {
	total := len(p.Batch.Lines)
	fmt.Fprintf(w, "%s on a copy of %s: %d of %s would be done. Nothing was changed.\n",
		st.paint(fmt.Sprintf("Rehearsal of batch %d", p.Batch.ID), text.Bold), Visible(p.Where),
		p.Result.Counts[batch.Applied], wording.Count(total, "line"))
	if p.Result.Halted != "" {
		fmt.Fprintf(w, "It would halt: %s\n", Visible(p.Result.Halted))
	}
	notDone(w, p.Batch, st)
	c := p.Change
	appearing(w, st, fmt.Sprintf("%s that would appear", wording.Count(len(c.New), "finding")), c.New, mostListed)
	counts(w, st, fmt.Sprintf("%s that would disappear", wording.Count(len(c.Gone), "finding")), c.Gone)
	members(w, st, c.Members)
	if len(c.New) == 0 && len(c.Gone) == 0 && len(c.Members) == 0 {
		fmt.Fprintln(w, "\nNo finding would appear or disappear, and no group would lose or gain a member.")
	}
}

func notDone(w io.Writer, b *batch.Batch, st Style) {
	var rows [][]string
	for i := range b.Lines {
		if l := &b.Lines[i]; l.State != batch.Applied {
			rows = append(rows, []string{Visible(l.Account), Place(l.DN), string(l.State), Visible(l.Note)})
		}
	}
	if len(rows) > 0 {
		fmt.Fprintf(w, "\n%s\n",
			st.paint(fmt.Sprintf("%s that would not be done", wording.Count(len(rows), "line")), text.Bold))
		Table(w, st, []string{"Account", "Where", "State", "Why"}, rows, 3, 1)
	}
}

// appearing lists findings one by one, those for information by their number.
func appearing(w io.Writer, st Style, title string, list []audit.Finding, most int) {
	if len(list) == 0 {
		return
	}
	var worse, info []audit.Finding
	for _, f := range list {
		if f.Severity > audit.Info {
			worse = append(worse, f)
		} else {
			info = append(info, f)
		}
	}
	if len(worse) == 0 {
		counts(w, st, title, info)
		return
	}
	fmt.Fprintf(w, "\n%s\n", st.paint(title, text.Bold))
	var rows [][]string
	for i := range worse[:min(len(worse), most)] {
		f := &worse[i]
		rows = append(
			rows,
			[]string{
				f.Check,
				f.Severity.String(),
				Visible(f.Account),
				Visible(placeOf(f)),
				Visible(shortEvidence(f, st.Zone)),
			},
		)
	}
	Table(w, st, []string{"Check", "Severity", "Account", "Where", "Evidence"}, rows, 4, 3)
	if n := len(worse) - most; n > 0 {
		fmt.Fprintf(w, "… and %d more\n", n)
	}
	if len(info) > 0 {
		fmt.Fprintf(w, "For information: %s\n", tallies(info))
	}
}

// counts counts findings by their checks.
func counts(w io.Writer, st Style, title string, list []audit.Finding) {
	if len(list) > 0 {
		fmt.Fprintf(w, "\n%s\n%s\n", st.paint(title, text.Bold), tallies(list))
	}
}

func tallies(list []audit.Finding) string {
	number := map[string]int{}
	var names []string
	for i := range list {
		if number[list[i].Check]++; number[list[i].Check] == 1 {
			names = append(names, list[i].Check)
		}
	}
	slices.Sort(names)
	var parts []string
	for _, name := range names {
		parts = append(parts, fmt.Sprintf("%s %d", name, number[name]))
	}
	return strings.Join(parts, ", ")
}

// members counts who would leave and join which group.
func members(w io.Writer, st Style, list []audit.MemberChange) {
	if len(list) == 0 {
		return
	}
	type change struct {
		name       string
		left, join int
		privileged bool
	}
	groups := map[string]*change{}
	var order []string
	for _, m := range list {
		g := groups[m.GroupDN]
		if g == nil {
			g = &change{name: m.Group, privileged: m.Privileged}
			groups[m.GroupDN] = g
			order = append(order, m.GroupDN)
		}
		if m.What == audit.Left {
			g.left++
		} else {
			g.join++
		}
	}
	slices.SortFunc(order, func(a, b string) int { return strings.Compare(groups[a].name, groups[b].name) })
	fmt.Fprintf(w, "\n%s\n",
		st.paint(fmt.Sprintf("%s whose members would change", wording.Count(len(order), "group")), text.Bold))
	var rows [][]string
	for _, dn := range order {
		g := groups[dn]
		note := ""
		if g.privileged {
			note = "privileged"
		}
		rows = append(rows, []string{Visible(g.name), fmt.Sprint(g.left), fmt.Sprint(g.join), note})
	}
	Table(w, st, []string{"Group", "Leave", "Join", "Rights"}, rows)
}
