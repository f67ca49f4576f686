package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/urfave/cli/v3"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/render"
	"yardbroom/internal/wording"
)

func (a *app) pickCommand() *cli.Command {
	return &cli.Command{
		Name: "pick", Usage: "choose the lines of a batch on the whole screen", ArgsUsage: "BATCH",
		Description: help("pick"),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			in, ok := a.terminal()
			if !ok || !a.outIsTerminal() {
				return usage(
					"there is no terminal to draw on; use \"yardbroom batch export\" and \"batch import\", or \"batch drop\"",
				)
			}
			b, err := a.batchNamed(ctx, cmd)
			if err != nil {
				return err
			}
			if b.State != batch.Staged {
				return fmt.Errorf("batch %d is %s; lines can be chosen only before it is carried out", b.ID, b.State)
			}
			final, err := tea.NewProgram(newPicker(b), tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(a.out), tea.WithEnvironment(os.Environ())).
				Run()
			if err != nil && !errors.Is(err, tea.ErrInterrupted) {
				return err
			}
			p, ok := final.(*picker)
			if !ok || !p.save {
				fmt.Fprintf(a.out, "Batch %d is as it was; %s to carry out.\n", b.ID, wording.Count(b.Open(), "line"))
				return nil
			}
			n, err := a.work.DropLines(ctx, b, p.unmarked())
			if err != nil {
				return err
			}
			a.tellDropped(b, n)
			return nil
		},
	}
}

// picker is the screen on which the lines of a batch are chosen.
type picker struct {
	batch  *batch.Batch
	lines  []*batch.Line
	marked map[*batch.Line]bool
	texts  map[*batch.Line]string // what the filter looks at, in lower case
	shown  []*batch.Line          // those that the filter lets through, sorted

	at, top       int // the line under the cursor, and the first one on the screen
	width, height int
	filter        string
	typing        bool // the filter
	order         int  // of pickOrders
	asking        bool // whether to save
	save          bool
}

// pickOrders are the ways in which lines are sorted.
var pickOrders = []struct {
	name string
	key  func(l *batch.Line) string
}{
	{"batch", func(l *batch.Line) string { return fmt.Sprintf("%09d", l.N) }},
	{"account", func(l *batch.Line) string { return strings.ToLower(l.Account) }},
	{"where", func(l *batch.Line) string { return strings.ToLower(render.Place(l.DN)) }},
	{"why", func(l *batch.Line) string { return strings.ToLower(l.Reason) }},
}

func newPicker(b *batch.Batch) *picker {
	p := &picker{batch: b, marked: map[*batch.Line]bool{}, texts: map[*batch.Line]string{}, width: 80, height: 24}
	for i := range b.Lines {
		if l := &b.Lines[i]; l.State == batch.Waiting {
			p.lines = append(p.lines, l)
			p.marked[l] = true
			p.texts[l] = strings.ToLower(strings.Join([]string{
				strconv.Itoa(l.N), l.Account, directory.LeafValue(l.DN), directory.Place(l.DN), l.Kind, render.LineReason(l), render.LineChanges(l),
			}, " ")) // what is shown of it, and not the base that all have
		}
	}
	p.look()
	return p
}

func (p *picker) unmarked() (out []*batch.Line) {
	for _, l := range p.lines {
		if !p.marked[l] {
			out = append(out, l)
		}
	}
	return out
}

// look applies the filter and the order.
func (p *picker) look() {
	var under *batch.Line
	if p.at < len(p.shown) {
		under = p.shown[p.at]
	}
	p.shown = nil
	words := strings.Fields(strings.ToLower(p.filter))
	for _, l := range p.lines {
		if !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(p.texts[l], w) }) {
			p.shown = append(p.shown, l)
		}
	}
	key := pickOrders[p.order].key
	slices.SortStableFunc(p.shown, func(a, b *batch.Line) int { return strings.Compare(key(a), key(b)) })
	p.at = max(0, slices.Index(p.shown, under))
	p.scroll()
}

// Init asks for nothing.
func (p *picker) Init() tea.Cmd { return nil }

// Update takes a key.
func (p *picker) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		p.width, p.height = msg.Width, msg.Height
		p.scroll()
	case tea.PasteMsg:
		if p.typing {
			p.filter += render.Visible(msg.Content)
			p.look()
		}
	case tea.KeyPressMsg:
		return p, p.key(msg)
	}
	return p, nil
}

func (p *picker) key(k tea.KeyPressMsg) tea.Cmd {
	word := k.String()
	switch {
	case word == "ctrl+c":
		return tea.Quit
	case p.asking:
		if p.asking = false; word == "y" {
			p.save = true
			return tea.Quit
		}
		return nil
	case p.typing:
		p.edit(k, word)
		return nil
	}
	switch word {
	case "up", "k":
		p.at--
	case "down", "j":
		p.at++
	case "pgup", "ctrl+b":
		p.at -= p.rows()
	case "pgdown", "ctrl+f":
		p.at += p.rows()
	case "home", "g":
		p.at = 0
	case "end", "G":
		p.at = len(p.shown)
	case "space", "x":
		if p.at < len(p.shown) {
			l := p.shown[p.at]
			p.marked[l] = !p.marked[l]
			p.at++
		}
	case "a":
		p.mark(true)
	case "n":
		p.mark(false)
	case "s":
		p.order = (p.order + 1) % len(pickOrders)
		p.look()
	case "/":
		p.typing = true
	case "esc":
		if p.filter == "" {
			return nil
		}
		p.filter = ""
		p.look()
	case "enter", "w":
		switch gone := len(p.unmarked()); gone {
		case 0:
			return tea.Quit
		default:
			p.asking = gone < len(p.lines)
		}
	case "q":
		return tea.Quit
	}
	p.scroll()
	return nil
}

// edit changes the filter; the list follows as one types.
func (p *picker) edit(k tea.KeyPressMsg, word string) {
	switch word {
	case "enter":
		p.typing = false
	case "esc":
		p.typing, p.filter = false, ""
	case "backspace":
		if r := []rune(p.filter); len(r) > 0 {
			p.filter = string(r[:len(r)-1])
		}
	case "ctrl+u":
		p.filter = ""
	default:
		p.filter += k.Text
	}
	p.look()
}

// mark marks all lines that are shown, or none of them.
func (p *picker) mark(on bool) {
	for _, l := range p.shown {
		p.marked[l] = on
	}
}

// beside tells whether the details stand beside the list, not below it.
func (p *picker) beside() bool { return p.width >= 130 }

// detailRows is how many rows the details below the list take.
func (p *picker) detailRows() int {
	switch {
	case p.beside():
		return 0
	case p.height >= 20:
		return 8
	}
	return 3
}

// rows is how many lines the list shows.
func (p *picker) rows() int { return max(1, p.height-4-p.detailRows()) }

func (p *picker) scroll() {
	p.at = max(0, min(p.at, len(p.shown)-1))
	p.top = max(0, min(p.top, p.at), p.at-p.rows()+1)
}

var (
	pickBold  = lipgloss.NewStyle().Bold(true)
	pickFaint = lipgloss.NewStyle().Faint(true)
	pickHere  = lipgloss.NewStyle().Reverse(true)
)

// View draws the screen.
func (p *picker) View() tea.View {
	width := p.width
	if p.beside() {
		width = p.width * 3 / 5
	}
	out := []string{p.title(), ""}
	list := p.list(width)
	if p.beside() {
		details := p.details(p.width-width-3, p.rows()+1)
		for i := range list {
			side := ""
			if i < len(details) {
				side = details[i]
			}
			list[i] = fill(list[i], width) + " │ " + side
		}
	}
	out = append(out, list...)
	if n := p.detailRows(); n > 0 {
		details := p.details(p.width, n-1)
		for len(details) < n-1 {
			details = append(details, "")
		}
		out = append(out, pickFaint.Render(strings.Repeat("─", p.width)))
		out = append(out, details...)
	}
	out = append(out, p.foot())
	v := tea.NewView(strings.Join(out[:min(len(out), p.height)], "\n"))
	v.AltScreen = true
	return v
}

func (p *picker) title() string {
	gone := len(p.unmarked())
	text := fmt.Sprintf("Batch %d: %s", p.batch.ID, strings.Join(p.batch.Actions, ", "))
	counts := fmt.Sprintf("%d in, %d out", len(p.lines)-gone, gone)
	if p.filter != "" || p.typing {
		counts += fmt.Sprintf(" · %d shown", len(p.shown))
	}
	if p.order > 0 {
		counts += " · by " + pickOrders[p.order].name
	}
	room := p.width - ansi.StringWidth(counts) - 2
	return pickBold.Render(fill(render.Visible(text), room)) + "  " + counts
}

// list draws the header and the rows.
func (p *picker) list(width int) []string {
	account, where := 18, 20
	if width >= 110 {
		account, where = 24, 30
	}
	why := max(10, (width-8-account-where)/2)
	change := max(10, width-8-account-where-why)
	row := func(mark, a, b, c, d string) string {
		return mark + fill(a, account) + " " + fill(b, where) + " " + fill(c, why) + " " + fill(d, change)
	}
	out := []string{pickFaint.Render(row("    ", "Account", "Where", "Why", "Would change"))}
	for i := p.top; i < min(len(p.shown), p.top+p.rows()); i++ {
		l := p.shown[i]
		mark := "[ ] "
		if p.marked[l] {
			mark = "[x] "
		}
		text := row(mark, render.Visible(l.Account), render.Place(l.DN), render.Visible(render.LineReason(l)),
			render.Visible(render.LineChanges(l)))
		switch {
		case i == p.at:
			text = pickHere.Render(text)
		case !p.marked[l]:
			text = pickFaint.Render(text)
		}
		out = append(out, text)
	}
	if len(p.shown) == 0 {
		out = append(out, "    no line has that; esc shows all")
	}
	for len(out) < p.rows()+1 {
		out = append(out, "")
	}
	return out
}

// details tell everything of the line under the cursor.
func (p *picker) details(width, most int) (out []string) {
	if p.at >= len(p.shown) || width < 10 {
		return nil
	}
	l := p.shown[p.at]
	add := func(text string) {
		for line := range strings.SplitSeq(ansi.Wrap(render.Visible(text), width, " "), "\n") {
			out = append(out, line)
		}
	}
	head := func(text string) {
		if p.beside() {
			out = append(out, pickBold.Render(fill(text, width)))
		}
	}
	head(render.Visible(l.Account))
	add(l.DN)
	if power := render.LinePower(l); power != "" {
		add(power)
	}
	add(l.Reason + ", " + string(l.Confidence))
	head("Would change")
	for _, c := range l.Changes {
		switch c.Kind() {
		case batch.Leaving:
			add("out of " + c.Old)
		case batch.Joining:
			add("into " + c.New)
		case batch.OfPlace:
			add("moved to " + c.New)
		default:
			add(c.What + ": " + c.Old + " → " + c.New)
		}
	}
	for _, text := range render.LineTouches(l) {
		add(text)
	}
	for _, w := range l.Remarks() {
		add("note: " + w)
	}
	if len(out) > most {
		out = append(out[:max(0, most-1)], "…")
	}
	return out
}

func (p *picker) foot() string {
	text := "space in/out · a all · n none · / filter · s sort · enter save · q leave"
	switch {
	case p.asking:
		return pickBold.Render(
			fill(fmt.Sprintf("Take %s out of the batch? y or n", wording.Count(len(p.unmarked()), "line")), p.width))
	case p.typing:
		text = "filter: " + p.filter + "▏  enter keeps it, esc shows all"
	case len(p.unmarked()) == len(p.lines):
		text = "nothing is left: give the batch up with \"yardbroom batch discard\" · a all · q leave"
	case p.filter != "":
		text = "filter: " + p.filter + " · esc shows all · space in/out · a all · n none · enter save"
	}
	return pickFaint.Render(fill(text, p.width))
}

// fill cuts a text to a width and fills it up with blanks.
func fill(text string, width int) string {
	text = ansi.Truncate(text, max(0, width), "…")
	return text + strings.Repeat(" ", max(0, width-ansi.StringWidth(text)))
}
