package render

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardbroom/internal/audit"
)

// slowLine is a finding as the package for JSON writes it.
func slowLine(t require.TestingT, f *audit.Finding) string {
	var b bytes.Buffer
	require.NoError(t, encoder(&b).Encode(shape(f)))
	return b.String()
}

func TestFindingsAreWrittenAsTheJSONPackageDoes(t *testing.T) {
	text := rapid.OneOf(rapid.String(), rapid.StringMatching(`[\x00-\x7f"\\<>&]{0,12}`), rapid.SampledFrom([]string{"", "\xff\xfe", "a\u2028b\u2029", "佐藤", "\x1b[31m", "x\xc3"}))
	rapid.Check(t, func(t *rapid.T) {
		f := &audit.Finding{Check: text.Draw(t, "check"), Severity: audit.Severity(rapid.IntRange(0, 3).Draw(t, "severity")), Kind: "user", DN: text.Draw(t, "dn"), Account: text.Draw(t, "account"),
			Confidence: audit.Likely, Change: rapid.SampledFrom([]string{"", "new"}).Draw(t, "change"), Suggest: rapid.SliceOfN(text, 0, 2).Draw(t, "suggest")}
		for range rapid.IntRange(0, 3).Draw(t, "evidence") {
			f.Evidence = append(f.Evidence, audit.Evidence{Attr: text.Draw(t, "attr"), Value: text.Draw(t, "value")})
		}
		if rapid.Bool().Draw(t, "dated") {
			f.Since, f.Days = time.Unix(rapid.Int64Range(0, 4e9).Draw(t, "since"), rapid.Int64Range(0, 1e9-1).Draw(t, "nanos")).In(time.FixedZone("", 3600)), rapid.Int().Draw(t, "days")
		}
		assert.Equal(t, slowLine(t, f), string(appendFinding(nil, f))+"\n")
	})
}

func TestFindingsInLinesAreWhole(t *testing.T) {
	var b bytes.Buffer
	findings := make([]audit.Finding, 5000)
	for i := range findings {
		findings[i] = audit.Finding{Check: "stale", DN: strings.Repeat("x", i%300)}
	}
	require.NoError(t, FindingsJSONL(&b, findings))
	lines := strings.SplitAfter(b.String(), "\n")
	require.Len(t, lines, len(findings)+1)
	for i := range findings {
		assert.Equal(t, slowLine(t, &findings[i]), lines[i])
	}
}
