package cli

import (
	"bufio"
	"cmp"
	"context"
	"embed"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/urfave/cli/v3"
)

// Shells complete by asking: their scripts hand the line so far to the command complete,
// which answers "values" and a line for each, or "files" where the shell is to offer
// those.

//go:embed completion
var completionScripts embed.FS

// completionShells are the shells that there is a script for.
var completionShells = map[string]string{"bash": "bash.sh", "zsh": "zsh.sh", "fish": "fish.fish", "pwsh": "pwsh.ps1"}

func (a *app) completionCommand() *cli.Command {
	return &cli.Command{
		Name: "completion", Usage: "print the script by which a shell completes commands, options and names", ArgsUsage: "bash|zsh|fish|pwsh",
		Description: help("completion"),
		Action: func(_ context.Context, cmd *cli.Command) error {
			file, known := completionShells[cmd.Args().First()]
			if !known || cmd.NArg() > 1 {
				return usage("say for which shell: bash, zsh, fish or pwsh")
			}
			script, err := completionScripts.ReadFile("completion/" + file)
			if err == nil {
				_, err = a.out.Write(script)
			}
			return err
		},
	}
}

// completeName is the command that scripts ask.
const completeName = "complete"

func (a *app) completeCommand() *cli.Command {
	return &cli.Command{
		Name: completeName, Hidden: true, Usage: "answer a shell's question what may come next", SkipFlagParsing: true,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args := cmd.Args().Slice()
			if len(args) == 0 {
				return nil
			}
			if args[0] == "bash" {
				return a.completeBash(ctx, cmd.Root(), args[1:])
			}
			found := a.complete(ctx, cmd.Root(), args[1:])
			w := bufio.NewWriter(a.out)
			fmt.Fprintln(w, found.kind())
			for _, one := range found.values {
				fmt.Fprintln(w, strings.TrimRight(one.text+"\t"+one.about, "\t"))
			}
			return w.Flush()
		},
	}
}

// completion is what may come next.
type completion struct {
	files  bool // any file
	values []suggestion
}

// suggestion is a word that may stand there, and what it means.
type suggestion struct{ text, about string }

func (c *completion) kind() string {
	if c.files && len(c.values) == 0 {
		return "files"
	}
	return "values"
}

// complete tells what the last of some words may become; the first is the program.
func (a *app) complete(ctx context.Context, root *cli.Command, words []string) (found completion) {
	if len(words) < 2 {
		return found
	}
	line := readLine(root, words[1:len(words)-1])
	if err := a.open(line.flags["config"], line.flags["state"]); err != nil {
		return found
	}
	current := words[len(words)-1]
	name, value, inFlag := strings.Cut(current, "=")
	switch option := line.option(name); {
	case line.awaits != "":
		found = a.valuesOf(ctx, line, line.awaits, current)
	case strings.HasPrefix(current, "--") && inFlag && option != nil:
		found = a.valuesOf(ctx, line, option.Names()[0], value)
		for i := range found.values {
			found.values[i].text = name + "=" + found.values[i].text
		}
		found.files = false
	case strings.HasPrefix(current, "-") && !line.ended:
		found.values = line.options()
	default:
		found = a.argumentsOf(ctx, line, current)
	}
	found.values = matching(found.values, current)
	return found
}

// matching keeps what begins with a text; in any case, where nothing does in the same.
func matching(all []suggestion, begins string) []suggestion {
	same := slices.DeleteFunc(slices.Clone(all), func(s suggestion) bool { return !strings.HasPrefix(s.text, begins) })
	if len(same) > 0 {
		return same
	}
	return slices.DeleteFunc(all, func(s suggestion) bool {
		return len(s.text) < len(begins) || !strings.EqualFold(s.text[:len(begins)], begins)
	})
}

// typedLine is a command line as far as it was typed.
type typedLine struct {
	path   []*cli.Command // the program, its command, and so on
	args   []string       // what else stands there
	flags  map[string]string
	awaits string // the option whose value comes next, "" where none does
	ended  bool   // by --
}

func readLine(root *cli.Command, words []string) *typedLine {
	l := &typedLine{path: []*cli.Command{root}, flags: map[string]string{}}
	for _, f := range root.Flags { // what the environment says
		if s, ok := f.(*cli.StringFlag); ok {
			l.flags[s.Name], _ = s.Sources.Lookup()
		}
	}
	for _, word := range words {
		name, value, has := strings.Cut(word, "=")
		switch option := l.option(name); {
		case l.awaits != "":
			l.flags[l.awaits], l.awaits = word, ""
		case word == "--":
			l.ended = true
		case strings.HasPrefix(word, "-") && !l.ended:
			switch {
			case option == nil:
			case has:
				l.flags[option.Names()[0]] = value
			case takesValue(option):
				l.awaits = option.Names()[0]
			}
		default:
			if sub := l.command().Command(word); sub != nil && len(l.args) == 0 {
				l.path = append(l.path, sub)
			} else {
				l.args = append(l.args, word)
			}
		}
	}
	return l
}

func (l *typedLine) command() *cli.Command { return l.path[len(l.path)-1] }

// name is what the command is called, without the program.
func (l *typedLine) name() string {
	var names []string
	for _, c := range l.path[1:] {
		names = append(names, c.Name)
	}
	return strings.Join(names, " ")
}

// option is the option of some name, of the command or of those above it.
func (l *typedLine) option(word string) cli.Flag {
	name := strings.TrimLeft(word, "-")
	if name == word || name == "" {
		return nil
	}
	for _, c := range slices.Backward(l.path) {
		for _, f := range c.Flags {
			if slices.Contains(f.Names(), name) {
				return f
			}
		}
	}
	return nil
}

func takesValue(f cli.Flag) bool {
	d, ok := f.(cli.DocGenerationFlag)
	return ok && d.TakesValue()
}

// options are those that there are.
func (l *typedLine) options() (all []suggestion) {
	for _, c := range slices.Backward(l.path) {
		for _, f := range c.VisibleFlags() {
			d, ok := f.(cli.DocGenerationFlag)
			if !ok || slices.ContainsFunc(all, func(s suggestion) bool { return s.text == "--"+f.Names()[0] }) {
				continue
			}
			all = append(all, suggestion{"--" + f.Names()[0], strings.ReplaceAll(d.GetUsage(), "`", "")})
		}
	}
	return append(all, suggestion{"--help", "show what there is to say of the command"})
}

// placeholder is what an option's text calls its value, "" where it does not say.
func placeholder(f cli.Flag) string {
	if d, ok := f.(cli.DocGenerationFlag); ok {
		if _, after, ok := strings.Cut(d.GetUsage(), "`"); ok {
			word, _, _ := strings.Cut(after, "`")
			return word
		}
	}
	return ""
}

// argument is what the usage of the command calls the argument that comes next.
func (l *typedLine) argument() string {
	words := strings.Fields(strings.NewReplacer("[,ACTION…]", "", "[", "", "]", "").Replace(l.command().ArgsUsage))
	words = slices.DeleteFunc(words, func(w string) bool { return w == "[OPTIONS]" || strings.HasPrefix(w, "-") })
	n := len(l.args)
	if n >= len(words) {
		if len(words) == 0 || !strings.HasSuffix(words[len(words)-1], "…") {
			return ""
		}
		n = len(words) - 1
	}
	return strings.TrimSuffix(words[n], "…")
}

// completeBash answers bash, which hands over the line as it is typed and the part of
// its last word that it will put something else in the place of: bash breaks words at
// more signs than blanks. What comes back is quoted as it can stand there.
func (a *app) completeBash(ctx context.Context, root *cli.Command, args []string) error {
	if len(args) != 3 {
		return nil
	}
	words, quote := shellWords(args[0])
	found := a.complete(ctx, root, words)
	tail, _ := shellWords(args[1])
	word := words[len(words)-1]
	kept := utf8.RuneCountInString(strings.TrimSuffix(word, tail[len(tail)-1]))
	listing := args[2] == "63" && len(found.values) > 1 // the second tab, which shows them
	longest := 0
	for i := range found.values {
		found.values[i].text = string([]rune(found.values[i].text)[min(kept, utf8.RuneCountInString(found.values[i].text)):])
		longest = max(longest, utf8.RuneCountInString(found.values[i].text))
	}
	w := bufio.NewWriter(a.out)
	fmt.Fprintln(w, found.kind())
	for _, one := range found.values {
		text := one.text
		if listing && one.about != "" {
			text = fmt.Sprintf("%-*s  -- %s", longest, text, clip(one.about))
		} else if !listing {
			text = forShell(text, quote)
		}
		fmt.Fprintln(w, text)
	}
	return w.Flush()
}

// clip keeps what a terminal has room for in a list of suggestions.
func clip(text string) string {
	const most = 60
	if r := []rune(text); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return text
}

// shellWords are the words of a line that is being typed in a shell, what quotes them
// taken away; there is always a last one, and quote is the sign that it still stands in.
func shellWords(line string) (words []string, quote rune) {
	var word strings.Builder
	begun, escaped := false, false
	for _, r := range line {
		switch {
		case escaped:
			word.WriteRune(r)
			escaped = false
		case r == '\\' && quote != '\'':
			begun, escaped = true, true
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word.WriteRune(r)
		case r == '\'' || r == '"':
			begun, quote = true, r
		case unicode.IsSpace(r):
			if begun {
				words = append(words, word.String())
				word.Reset()
			}
			begun = false
		default:
			begun = true
			word.WriteRune(r)
		}
	}
	return append(words, word.String()), quote
}

// forShell writes a word so that a shell takes it as it is, where it stands in quotes
// already, or in none.
func forShell(text string, quote rune) string {
	special := cmp.Or(map[rune]string{'\'': "'", '"': "\"\\$`!"}[quote], " \t\\'\"`$&|;<>()*?[]{}#~!^")
	if quote == '\'' {
		return strings.ReplaceAll(text, "'", `'\''`)
	}
	var b strings.Builder
	for _, r := range text {
		if strings.ContainsRune(special, r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}
