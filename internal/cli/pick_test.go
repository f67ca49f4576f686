package cli

import (
	"fmt"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
)

func pickable(lines int) *batch.Batch {
	b := &batch.Batch{ID: 7, Actions: []string{"disable"}}
	for i := range lines {
		b.Lines = append(b.Lines, batch.Line{N: i + 1, State: batch.Waiting, Account: fmt.Sprintf("p%03d", lines-i), DN: fmt.Sprintf("CN=p%d,OU=%s,DC=larkmoor,DC=example", i, []string{"Staff", "Dome"}[i%2]),
			Reason: "stale 100 days (lastLogon 2026-01-01)", Confidence: "sure", Changes: []batch.Change{{What: "userAccountControl", Old: "512 (enabled)", New: "514 (disabled)"}}})
	}
	b.Lines[0].State = batch.Dropped
	return b
}

// press sends keys by their names; what is in quotes is typed.
func press(p *picker, keys ...string) (quit bool) {
	special := map[string]tea.KeyPressMsg{"enter": {Code: tea.KeyEnter}, "esc": {Code: tea.KeyEscape}, "down": {Code: tea.KeyDown}, "up": {Code: tea.KeyUp}, "end": {Code: tea.KeyEnd},
		"home": {Code: tea.KeyHome}, "pgdown": {Code: tea.KeyPgDown}, "space": {Code: tea.KeySpace, Text: " "}, "backspace": {Code: tea.KeyBackspace}, "ctrl+c": {Code: 'c', Mod: tea.ModCtrl}}
	for _, k := range keys {
		msgs := []tea.KeyPressMsg{special[k]}
		if _, ok := special[k]; !ok {
			msgs = nil
			for _, r := range strings.Trim(k, `"`) {
				msgs = append(msgs, tea.KeyPressMsg{Code: r, Text: string(r)})
			}
		}
		for _, m := range msgs {
			if _, cmd := p.Update(m); cmd != nil {
				return true
			}
		}
	}
	return false
}

func screen(p *picker) string { return ansi.Strip(p.View().Content) }

func TestPicking(t *testing.T) {
	p := newPicker(pickable(31))
	require.Len(t, p.lines, 30, "what was dropped before is not shown")
	assert.False(t, press(p, "space", "down", "space"))
	assert.Contains(t, screen(p), "28 in, 2 out")
	assert.Equal(t, []string{"p030", "p028"}, accounts(p.unmarked()))

	press(p, "/", `"dome"`, "enter", "n")
	assert.Contains(t, screen(p), "15 shown")
	assert.Len(t, p.unmarked(), 15, "none of those shown")
	press(p, "esc", "a")
	assert.Empty(t, p.unmarked())
	assert.True(t, press(p, "enter"), "nothing to save")

	press(p, "s", "home")
	assert.Equal(t, "p001", p.shown[0].Account)
	press(p, "end")
	assert.Equal(t, 29, p.at)
	assert.Contains(t, screen(p), "p030")
	press(p, "space", "enter")
	assert.Contains(t, screen(p), "Take 1 line out of the batch?")
	press(p, "x")
	assert.False(t, p.asking, "anything but y is no")
	assert.True(t, press(p, "enter", "y"))
	assert.True(t, p.save)

	p = newPicker(pickable(5))
	press(p, "n")
	assert.False(t, press(p, "enter"), "an empty batch is not made this way")
	assert.Contains(t, screen(p), "nothing is left")
	assert.True(t, press(p, "q"))
	assert.False(t, p.save)
	press(p, "/", `"nobody here"`)
	assert.Contains(t, screen(p), "no line has that")
	press(p, "down", "space", "up")
	assert.True(t, press(p, "ctrl+c"))
}

func accounts(lines []*batch.Line) (names []string) {
	for _, l := range lines {
		names = append(names, l.Account)
	}
	return names
}

func TestThePickerFitsItsScreen(t *testing.T) {
	b := pickable(200)
	b.Lines[3].Account, b.Lines[3].Reason = "\x1b[31mred\x1b[0m 佐藤"+strings.Repeat("x", 300), "why\n"+strings.Repeat("long ", 100)
	for _, size := range [][2]int{{80, 24}, {200, 50}, {130, 20}, {40, 10}, {20, 5}, {300, 3}} {
		p := newPicker(b)
		p.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		for range 60 {
			press(p, "down")
			lines := strings.Split(p.View().Content, "\n")
			require.LessOrEqual(t, len(lines), size[1])
			for _, l := range lines {
				require.LessOrEqual(t, ansi.StringWidth(l), max(size[0], 70), "%v: %q", size, l)
			}
			require.NotContains(t, p.View().Content, "\x1b[31m", "escapes of a directory stay text")
		}
	}
}
