package cli

import (
	"bytes"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/source"
)

func TestProgressShowsOnlyWhatTakesLong(t *testing.T) {
	var out bytes.Buffer
	now := time.Unix(0, 0)
	p := &progress{out: &out, width: 80, now: func() time.Time { return now }}
	// Many short steps one after the other, as when a batch is carried out.
	for range 50 {
		p.report("reading from here", 1, 0)
		now = now.Add(100 * time.Millisecond)
		p.report("reading from here", 2, 0)
		p.report("reading from here", source.Over, 0)
	}
	assert.Empty(t, out.String())

	p.report("reading a\x1b[31mfile", 1, 100)
	now = now.Add(2 * time.Second)
	p.report("reading a\x1b[31mfile", 50, 100)
	assert.Contains(t, out.String(), `reading a\x1b[31mfile`, "what a name holds is shown, not sent")
	assert.Contains(t, out.String(), "50%")

	// Whatever is written next stands on a line of its own.
	out.Reset()
	_, _ = io.WriteString(clearing{p, &out}, "a note\n")
	assert.True(t, strings.HasSuffix(out.String(), "\r\x1b[Ka note\n"), "%q", out.String())
	out.Reset()
	p.clear()
	assert.Empty(t, out.String(), "there is nothing left to clear")
	(*progress)(nil).report("nobody looks", 1, 2)
}
