package cli

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yardbroom/internal/render"
)

// The groups of options, in the order in which help shows them.
const (
	groupWhat    = "What"
	groupWho     = "Which accounts"
	groupSafety  = "Safety"
	groupOutput  = "Output"
	groupRest    = "Other options"
	groupKnown   = "Roster, logs and time"
	groupConnect = "Where entries come from"
	groupAll     = "For every command"
)

var groups = []string{groupWhat, groupWho, groupSafety, groupOutput, groupRest, groupKnown, groupConnect, groupAll}

// groupOf tells to which group an option belongs, by its name; what is in none stands
// with the others, before all.
var groupOf = map[string]string{}

// rankOf is the place of an option in its group.
var rankOf = map[string]int{}

func init() {
	for group, names := range map[string]string{
		groupWho:     "check file column under enabled disabled idle never-used used used-within locked expired expires-within password-older new created-before disabled-for here-for member-of match filter not kind dn subtree person since new-to",
		groupWhat:    "given family display logon mail principal keep to text expires group unlock",
		groupSafety:  "until even-enabled on-collision include-likely whole-roster another-roster refused max-lines max-share why yes dry-run rehearse accept-unproved only connections rate day-lines day-share wait await-replication server stage anew passwords passwords-each passwords-for on",
		groupOutput:  "format output columns sort limit brief names all fail-on remember title",
		groupConnect: "from keep-going dialect base bind password-file password-env password-command kerberos ca-file starttls",
		groupAll:     "config state quiet no-pager verbose help",
	} {
		for i, name := range strings.Fields(names) {
			groupOf[name], rankOf[name] = group, i
		}
	}
	// The package offers its printer as a variable only.
	cli.HelpPrinter = func(w io.Writer, _ string, data any) {
		cmd, ok := data.(*cli.Command)
		if !ok {
			return
		}
		if cmd.Root() == cmd {
			fmt.Fprintln(w, help("yardbroom"))
			return
		}
		writeUsage(w, cmd, helpWidth(w))
	}
}

// helpWidth is how wide help is: as wide as the terminal, but not so that it is hard to
// read.
func helpWidth(w io.Writer) int {
	const usual, most = 80, 110
	if f, ok := w.(*os.File); ok {
		if width, _, err := term.GetSize(int(f.Fd())); err == nil && width >= leastColumns {
			return min(width, most)
		}
	}
	return usual
}

// writeUsage writes the help of a command: what it does and is called by, examples, its
// commands, and its options in groups.
func writeUsage(w io.Writer, cmd *cli.Command, width int) {
	fmt.Fprintln(w, render.Wrap(cmd.FullName()+": "+cmd.Usage, width, "  "))
	fmt.Fprintf(w, "\n  %s\n", strings.TrimSpace(cmd.FullName()+" "+usageArgs(cmd)))
	if examples := examplesOf(cmd); len(examples) > 0 {
		fmt.Fprintln(w, "\nExamples")
		for _, line := range examples {
			fmt.Fprintln(w, "  "+line)
		}
	}
	if text := strings.TrimSpace(cmd.Description); text != "" {
		fmt.Fprintln(w)
		for line := range strings.SplitSeq(text, "\n") {
			if strings.HasPrefix(line, " ") { // laid out by hand
				fmt.Fprintln(w, hung(line, width))
			} else {
				fmt.Fprintln(w, render.Wrap(line, width, ""))
			}
		}
	}
	writeCommands(w, cmd, width)
	writeOptions(w, cmd, width)
}

// hung wraps a line of two columns below the second one.
func hung(line string, width int) string {
	at := strings.LastIndex(strings.TrimRight(line, " "), "  ") + 2
	if len([]rune(line)) <= width || strings.HasPrefix(strings.TrimSpace(line), "yardbroom ") || at < 4 {
		return line
	}
	return line[:at] + render.Hang(line[at:], width, len([]rune(line[:at])))
}

// usageArgs are what stands behind a command.
func usageArgs(cmd *cli.Command) string {
	args := cmd.ArgsUsage
	if len(cmd.VisibleCommands()) > 0 && args == "" {
		args = "COMMAND"
	}
	return strings.TrimSpace(args + " [OPTIONS]")
}

func writeCommands(w io.Writer, cmd *cli.Command, width int) {
	var rows [][2]string
	for _, c := range cmd.VisibleCommands() {
		if c.Name != "help" {
			rows = append(rows, [2]string{c.Name, c.Usage})
		}
	}
	if len(rows) > 0 {
		fmt.Fprintln(w, "\nCommands")
		writeRows(w, rows, width)
	}
}

// writeRows writes names with what they mean beside them.
func writeRows(w io.Writer, rows [][2]string, width int) {
	widest := 0
	for _, row := range rows {
		widest = max(widest, min(len([]rune(row[0])), width/3))
	}
	indent := strings.Repeat(" ", widest+4)
	for _, row := range rows {
		text := render.Hang(row[1], width, widest+4)
		if len([]rune(row[0])) > widest {
			fmt.Fprintf(w, "  %s\n%s%s\n", row[0], indent, text)
			continue
		}
		fmt.Fprintf(w, "  %-*s  %s\n", widest, row[0], text)
	}
}

// optionsOf are the options of a command by their groups: its own, and those of the
// command above it that go with it.
func optionsOf(cmd *cli.Command) map[string][][2]string {
	all := map[string][][2]string{}
	seen := map[string]bool{}
	for _, level := range cmd.Lineage() {
		for _, f := range level.Flags {
			name := f.Names()[0]
			if seen[name] || !goesWith(cmd, name) {
				continue
			}
			seen[name] = true
			group := cmp.Or(groupOf[name], groupRest)
			if level == cmd.Root() {
				group = groupAll
			}
			all[group] = append(all[group], optionRow(cmd, f))
		}
	}
	for _, rows := range all {
		slices.SortStableFunc(rows, func(a, b [2]string) int { return cmp.Compare(rankOf[optionName(a)], rankOf[optionName(b)]) })
	}
	return all
}

// optionName is the name of an option as it is written in a row.
func optionName(row [2]string) string {
	name, _, _ := strings.Cut(strings.TrimPrefix(row[0], "--"), " ")
	return name
}

// optionRow is how an option is written, and what it means.
func optionRow(cmd *cli.Command, f cli.Flag) [2]string {
	name, usage, value := "--"+f.Names()[0], "", ""
	if d, ok := f.(cli.DocGenerationFlag); ok {
		usage = d.GetUsage()
		if before, rest, found := strings.Cut(usage, "`"); found {
			if placeholder, after, closed := strings.Cut(rest, "`"); closed {
				value, usage = placeholder, before+placeholder+after
			}
		}
		if value == "" && d.TakesValue() {
			value = "VALUE"
		}
	}
	if value != "" {
		name += " " + value
	}
	if cmd.Name != "stage" {
		usage = strings.TrimPrefix(usage, "for "+cmd.Name+": ")
	}
	return [2]string{name, usage}
}

func writeOptions(w io.Writer, cmd *cli.Command, width int) {
	options := optionsOf(cmd)
	for _, group := range groups {
		rows := options[group]
		if len(rows) == 0 {
			continue
		}
		if group == groupAll {
			var names []string
			for _, row := range rows {
				names = append(names, row[0])
			}
			fmt.Fprintln(w, "\n"+render.Wrap("For every command: "+strings.Join(names, ", "), width, "  "))
			continue
		}
		fmt.Fprintln(w, "\n"+group)
		writeRows(w, rows, width)
	}
}

// examplesOf are the examples of a command.
func examplesOf(cmd *cli.Command) []string {
	_, key, _ := strings.Cut(cmd.FullName(), " ")
	return examples[key]
}

// examples are those of all commands, by their names without that of the program.
var examples = readExamples()

func readExamples() map[string][]string {
	all, key := map[string][]string{}, ""
	for line := range strings.SplitSeq(help("examples"), "\n") {
		switch {
		case strings.HasPrefix(line, "  "):
			all[key] = append(all[key], strings.TrimSpace(line))
		case line != "":
			key = strings.TrimSpace(line)
		}
	}
	return all
}

// goesWith tells whether an option of stage goes with the action that help is asked for.
// Options of other commands go with all that stand below them.
func goesWith(cmd *cli.Command, option string) bool {
	if len(cmd.Lineage()) < 3 || cmd.Lineage()[1].Name != "stage" {
		return true
	}
	for _, one := range actionOptions {
		if slices.Contains(one.options, option) {
			return slices.Contains(one.actions, cmd.Name)
		}
	}
	return true
}
