package reconcile

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
)

func TestWhatWasFoundOutIsRecalled(t *testing.T) {
	lines, texts := crowd(40)
	who := people(t, append(lines, "17|Quill|Ada|ada@larkmoor.example||||||", "18|Tern|Bram|bram@larkmoor.example||||||")...)
	s := accounts(append(texts, "aquill employeeID=17 givenName=Ada", "x employeeID=18 mail=ada@larkmoor.example", "nobody")...)
	r := match(t, who, s, Options{})
	var b bytes.Buffer
	require.NoError(t, r.Keep(&b))
	at := map[string]*directory.Account{}
	var all []string
	for a := range s.Accounts.All() {
		at[a.Logon] = a
		all = append(all, a.ID)
	}
	found, err := Recall(bytes.NewReader(b.Bytes()), all...)
	require.NoError(t, err)
	assert.Len(t, found, 42, "of nobody there is nothing to tell")
	assert.Equal(t, &Known{Account: at["aquill"].ID, By: ByPersonID, Sure: true, Score: 1, People: []string{"id:17"}}, found[at["aquill"].ID])
	assert.ElementsMatch(t, []string{"id:17", "id:18"}, found[at["x"].ID].People)
	assert.Equal(t, "two keys disagree", found[at["x"].ID].Why)
	for logon, want := range map[string][]string{"aquill": {"aquill=17 person-id!"}, "x": {"x?17,18"}} {
		again := found[at[logon].ID].Again(who, at[logon], Options{})
		assert.Equal(t, want, told(again))
		require.NotNil(t, again.Explain(len(who)-2, at[logon]), "it can say why")
	}
	// Whoever is gone since is said to be.
	again := found[at["aquill"].ID].Again(who[:40], at["aquill"], Options{})
	assert.Empty(t, told(again))
	assert.Equal(t, "id:17", again.Gone[at["aquill"]].Person)
	only, err := Recall(bytes.NewReader(b.Bytes()), at["x"].ID)
	require.NoError(t, err)
	assert.Len(t, only, 1)
	_, err = Recall(strings.NewReader("6775,person-id,true"), "gu")
	assert.ErrorContains(t, err, "the kept pairs are damaged")
}
