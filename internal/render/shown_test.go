package render

import (
	"bytes"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestATerminalIsShownWhatItWouldActOn(t *testing.T) {
	for in, want := range map[string]string{
		"a,b\r\nc\td\n":         "a,b\r\nc\td\n",
		"\x1b]0;title\a":        `\x1b]0;title\x07`,
		"safe\u202eexe":         `safe\u202eexe`,
		"\u009b31m":             `\x9b31m`,
		"late\rearly":           `late\x0dearly`,
		"bad \xff":              `bad \xff`,
		"half \xe2\x82":         `half \xe2\x82`,
		"Zoë Øst, 天文":           "Zoë Øst, 天文",
		`{"a":"\u001b"}` + "\n": `{"a":"\u001b"}` + "\n",
	} {
		var out bytes.Buffer
		w := Shown(&out)
		_, err := w.Write([]byte(in))
		require.NoError(t, err)
		require.NoError(t, w.Close())
		assert.Equal(t, want, out.String())
	}
}

func TestHowItIsDividedMakesNoDifference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.SliceOf(rapid.Byte()).Draw(t, "text")
		show := func(parts ...[]byte) string {
			var out bytes.Buffer
			w := Shown(&out)
			for _, p := range parts {
				n, err := w.Write(p)
				require.NoError(t, err)
				require.Equal(t, len(p), n)
			}
			require.NoError(t, w.Close())
			return out.String()
		}
		at := rapid.IntRange(0, len(text)).Draw(t, "at")
		whole := show(text)
		require.Equal(t, whole, show(text[:at], text[at:]))
		for _, r := range whole {
			require.True(t, r == '\n' || r == '\t' || r == '\r' || !unicode.IsControl(r) && !unicode.Is(unicode.Cf, r), "%q", r)
		}
	})
}
