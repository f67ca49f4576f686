package carry

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/batch"
)

func TestADayCountsWhatMovesAlong(t *testing.T) {
	along := []batch.Touched{{DN: "CN=k", How: batch.MovesAlong}, {DN: "CN=l", How: batch.MovesAlong}, {DN: "CN=g", How: "member"}}
	b := &batch.Batch{Lines: []batch.Line{{State: batch.Applied, Also: along}, {State: batch.Waiting, Also: along}, {State: batch.Dropped}, {State: batch.Waiting}}}
	assert.Equal(t, 4, (&run{Job: &Job{Batch: b}}).coming())
	assert.Equal(t, 3, (&run{Job: &Job{Batch: b}, Pace: Pace{Only: 1}}).coming())
	assert.Equal(t, 4, (&run{Job: &Job{Batch: b}, Pace: Pace{Only: 2}}).coming())
	assert.Equal(t, 2, b.Lines[1].Settle(batch.Applied, "").Along)
}
