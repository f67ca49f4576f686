package audit

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
)

// TestWhatEachCheckNeeds holds the attributes without which a check is not
// looked at against the list that was read by hand.
func TestWhatEachCheckNeeds(t *testing.T) {
	var b strings.Builder
	for _, d := range []*directory.Dialect{directory.AD, directory.OpenLDAP, directory.NS389} {
		for _, c := range Checks {
			if c.needs == nil {
				continue
			}
			var parts []string
			for _, ids := range c.needs(d) {
				parts = append(parts, directory.AttrNames(ids))
			}
			b.WriteString(strings.TrimRight(d.Name+" "+c.Name+": "+strings.Join(parts, "; "), " ") + "\n")
		}
	}
	want, err := os.ReadFile("testdata/needs.txt")
	require.NoError(t, err)
	assert.Equal(t, string(want), b.String())
}
