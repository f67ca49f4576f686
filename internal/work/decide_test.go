package work

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
	"yardbroom/internal/roster"
	"yardbroom/internal/settings"
	"yardbroom/internal/sheet"
)

// TestADecisionEndsThoseItContradicts decides in turn, and looks at what is in
// force afterwards.
func TestADecisionEndsThoseItContradicts(t *testing.T) {
	for name, c := range map[string]struct{ decisions, inForce string }{
		"one":                            {"+ada 1", "+ada 1"},
		"the same twice":                 {"+ada 1, +ada 1", "+ada 1"},
		"it is somebody else's":          {"+ada 1, +ada 2", "+ada 2"},
		"it is not theirs after all":     {"+ada 1, -ada 1", "-ada 1"},
		"it is theirs after all":         {"-ada 1, +ada 1", "+ada 1"},
		"neither of two":                 {"-ada 1, -ada 2", "-ada 1, -ada 2"},
		"one, and not another":           {"-ada 1, +ada 2", "-ada 1, +ada 2"},
		"two accounts of one person":     {"+ada 1, +bram 1", "+ada 1, +bram 1"},
		"back and forth ends each other": {"+ada 1, +ada 2, +ada 1", "+ada 1"},
	} {
		t.Run(name, func(t *testing.T) {
			y := newYard(t)
			y.reconciled(t, everybody)
			p := y.open(t)
			for text := range strings.SplitSeq(c.decisions, ", ") {
				account, person, _ := strings.Cut(text[1:], " ")
				verdict := Confirmed
				if text[0] == '-' {
					verdict = Rejected
				}
				_, err := y.Decide(t.Context(), p, Decision{Verdict: verdict, Account: account, Person: person})
				require.NoError(t, err)
			}
			all, err := y.Links(t.Context())
			require.NoError(t, err)
			var got []string
			for _, l := range all {
				mark := map[Verdict]string{Confirmed: "+", Rejected: "-"}[l.Verdict]
				got = append(got, mark+l.Account+" "+strings.TrimPrefix(l.Person, "id:"))
			}
			assert.Equal(t, c.inForce, strings.Join(got, ", "))
		})
	}
}

// asCSV writes a table as it is exported, harmless for spreadsheets.
func asCSV(t *testing.T, header []string, rows ...[]string) string {
	t.Helper()
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	w.UseCRLF = true
	require.NoError(t, w.Write(header))
	for _, row := range rows {
		harmless := make([]string, len(row))
		for i, cell := range row {
			harmless[i] = sheet.SafeCell(cell)
		}
		require.NoError(t, w.Write(harmless))
	}
	w.Flush()
	return out.String()
}

func TestFindPerson(t *testing.T) {
	list, err := roster.Read(strings.NewReader("id,given,family,mail,login\n017,Ada,Quill,ada@larkmoor.example,aquill\n18,Bram,Tern,b@larkmoor.example,\n19,Bram,Tern,,\n,Cleo,Birk,,18\n"), "people", roster.Options{})
	require.NoError(t, err)
	people := list.People(now, roster.TrustStatus)
	for name, want := range map[string]string{"17": "017", "ADA@larkmoor.example": "017", "aquill": "017", "Quill, Ada": "017", "ada quill": "017", "row 3": "18", "18": "18", "Cleo Birk": ""} {
		who, err := findPerson(people, name, "people")
		if assert.NoError(t, err, name) {
			assert.Equal(t, want, who.Values[roster.PersonID], name)
		}
	}
	for name, want := range map[string]string{"Bram Tern": "may be any of 2 people", "row x": "is not a row", "row 99": "nobody", "": "nobody", "Dov": "nobody on the roster people"} {
		_, err := findPerson(people, name, "people")
		assert.ErrorContains(t, err, want, name)
	}
}

func TestLinksAreTakenOverWholeOrNotAtAll(t *testing.T) {
	y := newYard(t)
	y.reconciled(t, everybody)
	_, err := y.Decide(t.Context(), y.open(t), Decision{Verdict: Confirmed, Account: "ada", Person: "2", Why: "=asked"})
	require.NoError(t, err)
	all, err := y.Links(t.Context())
	require.NoError(t, err)
	table := LinkSheet(all)
	var rows [][]string
	for _, row := range table.Rows {
		var cells []string
		for _, cell := range row {
			cells = append(cells, sheet.TextOf(cell))
		}
		rows = append(rows, cells)
	}
	var names []string
	for _, c := range table.Columns {
		names = append(names, c.Name)
	}
	exported := asCSV(t, names, rows...)

	other := newYard(t)
	n, err := other.ImportLinks(t.Context(), strings.NewReader(exported), "links.csv")
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	taken, err := other.Links(t.Context())
	require.NoError(t, err)
	assert.Equal(t, all, taken, "a formula is harmless in the file and itself again behind it")

	row := strings.Split(exported, "\r\n")[1]
	for bad, want := range map[string]string{
		strings.Replace(exported, "confirmed", "perhaps", 1): "links.csv: line 2: an account_id, a person and a verdict",
		strings.Replace(exported, ",ad,", ",ax,", 1):         "links.csv: line 2: ",
		strings.Replace(exported, "person", "Person", 1):     "is no list of links",
		exported + row + "x\r\n":                             "links.csv: line 3: at: ",
		exported + "a,b\r\n":                                 "links.csv: line 3: it has 2 cells",
		"":                                                   "links.csv: it is empty",
	} {
		third := newYard(t)
		_, err := third.ImportLinks(t.Context(), strings.NewReader(bad), "links.csv")
		assert.ErrorContains(t, err, want)
		none, err := third.Links(t.Context())
		require.NoError(t, err)
		assert.Empty(t, none)
	}
}

func TestExemptions(t *testing.T) {
	y := newYard(t)
	y.Settings.Exemptions = []settings.Exemption{{Match: settings.Match{Account: "bram"}, Reason: "r", Owner: "o", Until: "2026-11-01"}}
	match := settings.Match{Account: "ada"}
	for _, Wrong := range []settings.Exemption{
		{Match: match, Owner: "o"}, {Match: match, Reason: "r"}, {Reason: "r", Owner: "o"},
		{Match: match, Reason: "r", Owner: "o", Until: "soon"}, {Match: match, Reason: "r", Owner: "o", Checks: []string{"tidy"}},
	} {
		_, err := y.Exempt(t.Context(), Wrong)
		assert.ErrorAs(t, err, new(RequestError), "%+v", Wrong)
	}
	kept, err := y.Exempt(t.Context(), settings.Exemption{Match: match, Reason: "r", Owner: "o", Until: "30d"})
	require.NoError(t, err)
	assert.Equal(t, "2026-12-20", kept.Until, "a span counts from now")

	all, err := y.Exemptions(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.True(t, all[0].Ended(now))
	assert.False(t, all[1].Ended(now))
	assert.Equal(t, []int{0, kept.Number}, []int{all[0].Number, all[1].Number})

	staged, err := y.Stage(t.Context(), y.open(t), disable("ada", "bram"))
	require.NoError(t, err)
	require.Len(t, staged.Refusals, 1, "one that has ended protects nobody")
	assert.Equal(t, "ada", staged.Refusals[0].Account)
	require.NoError(t, y.EndExemption(t.Context(), kept.Number))
	y.must(t, disable("ada"))
}

func TestWhatIsNewSinceAnEarlierRun(t *testing.T) {
	y := newYard(t)
	reconcile := func(r ReconcileRequest, rows string) (*Reconciliation, error) {
		y.rosters, y.Stdin = map[string]*Roster{}, strings.NewReader("id,given,family,end\n"+rows)
		r.Roster.Where = "-"
		return y.Reconcile(t.Context(), y.open(t), &r)
	}
	last := Before{Since: "last"}
	_, err := reconcile(ReconcileRequest{Before: Before{Since: "2020-01-01"}}, everybody)
	assert.ErrorContains(t, err, "no comparison of this yard with a roster is remembered")

	first, err := reconcile(ReconcileRequest{Question: Question{Checks: []string{"leaver-enabled"}}}, strings.Replace(everybody, "Quill,", "Quill,2020-01-31", 1))
	require.NoError(t, err)
	assert.Len(t, first.Findings, 1)
	whole, err := reconcile(ReconcileRequest{Before: last}, strings.Replace(everybody, "Quill,", "Quill,2020-01-31", 1))
	require.NoError(t, err)
	assert.Nil(t, whole.Earlier, "a comparison by some checks only is none to compare with")
	assert.Contains(t, y.notes, "note: nothing is remembered of this yard yet, so everything is new")
	y.at = now.AddDate(0, 0, 1)
	second, err := reconcile(ReconcileRequest{Before: last}, strings.NewReplacer("Quill,", "Quill,2020-01-31", "Tern,", "Tern,2020-01-31").Replace(everybody))
	require.NoError(t, err)
	var accounts []string
	for _, f := range second.Findings {
		accounts = append(accounts, f.Account)
	}
	assert.Equal(t, []string{"bram"}, accounts)
	assert.Equal(t, len(whole.Findings), second.Earlier.Known)
	assert.Equal(t, now, second.Earlier.At)

	_, err = reconcile(ReconcileRequest{Question: Question{Checks: []string{"stale"}}}, everybody)
	assert.ErrorContains(t, err, "looks at no roster")
}

func TestABatchThatCameBackFromASpreadsheet(t *testing.T) {
	y := newYard(t)
	b := y.must(t, disable("ada", "bram", "dov"))
	var rows [][]string
	for i := range b.Lines {
		rows = append(rows, b.Lines[i].Cells())
	}
	exported := asCSV(t, batch.CellNames, rows...)
	lines := strings.SplitAfter(exported, "\r\n")
	_, err := y.Import(t.Context(), b, nil, "b.csv")
	assert.ErrorContains(t, err, "b.csv: it is empty")
	_, err = y.Import(t.Context(), b, []byte(strings.Replace(exported, "bram", "bert", 1)), "b.csv")
	assert.ErrorContains(t, err, "b.csv: ")
	n, err := y.Import(t.Context(), b, []byte(lines[0]+lines[1]+lines[3]), "b.csv")
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	now, err := y.Batch(t.Context(), b.ID)
	require.NoError(t, err)
	assert.Equal(t, []batch.LineState{batch.Waiting, batch.Dropped, batch.Waiting}, []batch.LineState{now.Lines[0].State, now.Lines[1].State, now.Lines[2].State})
	// It comes back once more, with another row taken out.
	n, err = y.Import(t.Context(), now, []byte(lines[0]+lines[1]), "b.csv")
	require.NoError(t, err)
	assert.Equal(t, 1, n)
}
