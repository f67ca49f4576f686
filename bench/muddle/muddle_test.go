package muddle

import (
	"bytes"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/ldif"
)

func TestTheTruthIsAboutWhatIsThere(t *testing.T) {
	for _, d := range Levels {
		t.Run(d.Name, func(t *testing.T) {
			c := Make(d, 500, 1)
			logons := map[string]bool{}
			for i := range c.Entries {
				if logon := c.Entries[i].First("sAMAccountName"); logon != "" {
					assert.False(t, logons[logon], "%s is there twice", logon)
					logons[logon] = true
				}
			}
			for logon, row := range c.Owner {
				assert.True(t, logons[logon], logon)
				assert.Less(t, row, len(c.Rows))
				assert.Positive(t, row)
			}
			for logon := range c.First {
				assert.NotZero(t, c.Owner[logon], logon)
			}
			assert.Greater(t, len(c.First), 400)
			assert.Less(t, len(c.First), 500, "some have none")
			assert.Greater(t, len(logons), len(c.Owner), "some belong to nobody")
		})
	}
}

func TestOneSeedIsOneCase(t *testing.T) {
	write := func(seed uint64) (string, string) {
		c := Make(Levels[3], 200, seed)
		var entries, rows bytes.Buffer
		require.NoError(t, c.WriteLDIF(&entries))
		require.NoError(t, c.WriteRoster(&rows))
		in, n := ldif.NewReader(bytes.NewReader(entries.Bytes())), 0
		for {
			_, err := in.Next()
			if err == io.EOF {
				break
			}
			require.NoError(t, err)
			n++
		}
		assert.Equal(t, len(c.Entries), n)
		return entries.String(), rows.String()
	}
	e1, r1 := write(1)
	e2, r2 := write(1)
	assert.Equal(t, e1, e2)
	assert.Equal(t, r1, r2)
	e3, _ := write(2)
	assert.NotEqual(t, e1, e3)
}

func TestDirtIsDirt(t *testing.T) {
	blank := func(d Dirt, column int) int {
		n := 0
		for _, row := range Make(d, 1000, 5).Rows[1:] {
			if row[column] == "" {
				n++
			}
		}
		return n
	}
	assert.Less(t, blank(Levels[0], 3), 100, "nearly all of the clean ones have an address")
	assert.Greater(t, blank(Levels[3], 3), 500)
	assert.Greater(t, blank(Levels[3], 0), blank(Levels[0], 0), "and an id")
}
