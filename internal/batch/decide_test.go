package batch

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// threeLines is a batch as it was exported, in both forms, with one line
// dropped already.
func threeLines(t *testing.T) (b *Batch, rows []Row, exported string) {
	b = &Batch{ID: 7, State: Staged, By: "tester", Actions: []string{Disable}, Why: "tidying"}
	for i, name := range []string{"ada", "bram", "clara"} {
		b.Lines = append(b.Lines, Line{N: i + 1, Account: name, DN: "CN=" + name, Kind: "user", Confidence: "sure", State: Waiting, Guard: []Guard{}, Actions: []Action{{Name: Disable}}, Changes: []Change{}})
	}
	b.Lines[2].State = Dropped
	for i := range b.Lines {
		rows = append(rows, Row{Number: i + 2, Cells: b.Lines[i].Cells()})
	}
	type line struct {
		State LineState `json:"state"`
		Line
	}
	shape := struct {
		Schema string `json:"schema"`
		ID     int    `json:"id"`
		State  State  `json:"state"`
		*Batch
		Lines []line `json:"lines"`
	}{Schema: "yardbroom/batch/1", ID: b.ID, State: b.State, Batch: b}
	for i := range b.Lines {
		shape.Lines = append(shape.Lines, line{b.Lines[i].State, b.Lines[i]})
	}
	text, err := json.Marshal(shape)
	require.NoError(t, err)
	return b, rows, string(text)
}

func accountsOf(lines []*Line) (names []string) {
	for _, l := range lines {
		names = append(names, l.Account)
	}
	return names
}

func TestATableThatCameBackDecidesOrIsRefused(t *testing.T) {
	set := func(row, cell int, text string) func(rows []Row) []Row {
		return func(rows []Row) []Row { rows[row].Cells[cell] = text; return rows }
	}
	last := len(CellNames) - 1
	for _, c := range []struct {
		name   string
		change func(rows []Row) []Row
		drops  []string
		want   string // the error
	}{
		{"as it was", func(rows []Row) []Row { return rows }, nil, ""},
		{"a row is gone", func(rows []Row) []Row { return rows[1:] }, []string{"ada"}, ""},
		{"a row is said to go", set(1, last, " DROP "), []string{"bram"}, ""},
		{"a row is said to stay", set(1, last, "keep"), nil, ""},
		{"an empty row", func(rows []Row) []Row { return append(rows, Row{Number: 9, Cells: []string{"", " "}}) }, nil, ""},
		{"all are gone", func(rows []Row) []Row { return rows[:0] }, nil, "no line of batch 7 would be left"},
		{"what is dropped comes back", set(2, last, "keep"), nil, "row 4: the line of clara was dropped and does not come back"},
		{"another word", set(1, last, "maybe"), nil, `row 3: the decision "maybe" is neither keep nor drop`},
		{"another account", set(1, 1, "eve"), nil, `row 3: account of bram was changed from "bram" to "eve"`},
		{"another line", set(1, 0, "1"), nil, "row 3: line 1 is there twice"},
		{"a line that is not there", set(1, 0, "4"), nil, `row 3: "4" is no line of batch 7`},
		{"no number", set(1, 0, "0"), nil, `row 3: "0" is no line`},
		{"a cell moved the decision out", func(rows []Row) []Row { rows[1].Cells = append(rows[1].Cells, "drop"); return rows }, nil, `row 3: "drop" stands in column 12`},
	} {
		t.Run(c.name, func(t *testing.T) {
			b, rows, _ := threeLines(t)
			drop, err := b.Decide(CellNames, c.change(rows))
			if c.want != "" {
				require.ErrorContains(t, err, c.want)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.drops, accountsOf(drop))
		})
	}
	b, rows, _ := threeLines(t)
	_, err := b.Decide(slices.Delete(slices.Clone(CellNames), 2, 3), rows)
	assert.ErrorContains(t, err, `the column "dn" is missing`)
	_, err = b.Decide(append(slices.Clone(CellNames), "notes"), rows)
	assert.ErrorContains(t, err, `the column "notes" is not one of the export`)
}

func TestAnExportedBatchThatCameBackDecidesOrIsRefused(t *testing.T) {
	for _, c := range []struct {
		name, old, new string
		drops          []string
		want           string
	}{
		{"as it was", "", "", nil, ""},
		{"a line is dropped", `{"state":"waiting","n":2`, `{"state":"dropped","n":2`, []string{"bram"}, ""},
		{"a line gets a state", `{"state":"waiting","n":2`, `{"state":"done","n":2`, nil, "line 2, of bram, is waiting, not done"},
		{"the reason", `"tidying"`, `"fun"`, nil, "the head of the batch was changed"},
		{"a line's action", `"account":"bram"`, `"account":"eve"`, nil, "bram"},
		{"a key that is none", `"by":`, `"colour":"blue","by":`, nil, `unknown field "colour"`},
		{"another batch", `"id":7`, `"id":8`, nil, "this is batch 8"},
		{"another schema", `yardbroom/batch/1`, `yardbroom/batch/2`, nil, `its schema is "yardbroom/batch/2"`},
		{"a line twice", `"n":2`, `"n":1`, nil, "line 1 is there twice"},
		{"a line that is not there", `"n":2`, `"n":4`, nil, "4 is no line of batch 7"},
	} {
		t.Run(c.name, func(t *testing.T) {
			b, _, text := threeLines(t)
			require.Contains(t, text, c.old)
			edited, err := ReadExported(strings.NewReader(strings.Replace(text, c.old, c.new, 1)))
			var drop []*Line
			if err == nil {
				drop, err = b.DecideBy(edited)
			}
			if c.want != "" {
				require.ErrorContains(t, err, c.want)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.drops, accountsOf(drop))
		})
	}
	_, _, text := threeLines(t)
	_, err := ReadExported(strings.NewReader(text + " {}"))
	assert.ErrorContains(t, err, "something stands behind its end")
}
