package houses

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheTruthIsAboutWhatIsThere(t *testing.T) {
	c := Make(2000, 1)
	logons := map[string]bool{}
	for i := range c.Entries {
		if logon := c.Entries[i].First("sAMAccountName"); logon != "" {
			assert.False(t, logons[logon], "%s is there twice", logon)
			logons[logon] = true
		}
	}
	cultures, dirt := map[string]bool{}, map[string]bool{}
	for logon, rows := range c.Owner {
		assert.True(t, logons[logon], logon)
		for _, row := range rows {
			assert.Positive(t, row)
			assert.Less(t, row, len(c.Rows))
		}
		cultures[c.Culture[logon]] = true
		for _, kind := range c.Dirt[logon] {
			dirt[kind] = true
		}
	}
	assert.GreaterOrEqual(t, len(cultures), 30)
	assert.GreaterOrEqual(t, len(dirt), 40)
	assert.Greater(t, len(logons), len(c.Owner), "some belong to nobody")
}

func TestOneSeedIsOneHouse(t *testing.T) {
	write := func(seed uint64) string {
		var b bytes.Buffer
		c := Make(200, seed)
		require.NoError(t, c.WriteLDIF(&b))
		require.NoError(t, c.WriteRoster(&b))
		return b.String()
	}
	assert.Equal(t, write(1), write(1))
	assert.NotEqual(t, write(1), write(2))
}
