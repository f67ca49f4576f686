package logs

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// Looking for a name, whatever octet of it is taken for the rarest, finds what comparing
// in lower case finds.
func TestNeedlesAreFoundAsByComparing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		alphabet := rapid.SampledFrom([]rune("abAB. \n"))
		name := rapid.StringOfN(alphabet, 3, 6, -1).Draw(t, "name")
		text := rapid.StringOfN(alphabet, 0, 80, -1).Draw(t, "text")
		o := NewOnly(name)
		if o == nil {
			return // no piece of it is long enough
		}
		piece := string(o.needles[0].text)
		want := strings.Index(strings.ToLower(text), piece)
		for _, one := range []*Only{o, o.tune([]byte(text))} {
			assert.Equal(t, want, one.needles[0].index([]byte(text)), "%q in %q", piece, text)
		}
	})
}

// However a log is cut, all of its lines come once, and in order.
func TestBlocksAreAllOfALog(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var b bytes.Buffer
		n := rapid.IntRange(0, 40).Draw(t, "lines")
		for range n {
			b.WriteString(strings.Repeat("x", rapid.IntRange(0, 200_000).Draw(t, "length")))
			b.WriteByte('\n')
		}
		text := b.Bytes()
		if rapid.Bool().Draw(t, "unfinished") {
			text = append(text, "end"...)
		}
		var got bytes.Buffer
		lines := 0
		blocks := newBlocks(bytes.NewReader(text))
		blocks.peek()
		err := blocks.each(t.Context(), []byte("\n"), nil, func(*block) *ahead { return nil }, func(one *block) error {
			got.Write(one.text)
			lines += one.lines
			return nil
		})
		assert.NoError(t, err)
		assert.True(t, bytes.Equal(text, got.Bytes()))
		assert.Equal(t, bytes.Count(text, []byte("\n"))+b2i(len(text) > 0 && text[len(text)-1] != '\n'), lines)
	})
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}
