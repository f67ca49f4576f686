package filter

import (
	"math/rand/v2"
	"strings"
	"testing"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asSent reads a filter as the protocol package sends it to a server.
func asSent(text string) (Filter, error) {
	packet, err := ldap.CompileFilter(text)
	if err != nil {
		return Filter{}, err
	}
	if packet, err = ber.DecodePacketErr(packet.Bytes()); err != nil {
		return Filter{}, err
	}
	return Decode(packet)
}

// TestFiltersAreReadAsTheyAreSent makes texts of the pieces that filters are made
// of, at random, and reads each as a server gets it.
func TestFiltersAreReadAsTheyAreSent(t *testing.T) {
	pieces := []string{"(", ")", "(", ")", "&", "|", "!", "=", "*", ">=", "<=", "~=", ":", ":dn:", ":=", `\2a`, `\`, `\zz`, `\4`, "cn", "a", "1.2.3", " ", "ü", "\xff", "�", "<", ">", "~"}
	r := rand.New(rand.NewPCG(17, 4))
	good := 0
	for range 100_000 {
		var b strings.Builder
		b.WriteByte('(')
		for range r.IntN(9) {
			b.WriteString(pieces[r.IntN(len(pieces))])
		}
		if r.IntN(4) > 0 {
			b.WriteByte(')')
		}
		text := b.String()
		got, gotErr := Parse(text)
		want, wantErr := asSent(strings.TrimSpace(text))
		require.Equal(t, wantErr == nil, gotErr == nil, "%q: %v, %v", text, wantErr, gotErr)
		if wantErr == nil {
			require.Equal(t, want, got, "%q", text)
			good++
			again, err := Parse(got.String())
			require.NoError(t, err, "%q", got.String())
			require.Equal(t, got.String(), again.String())
		}
	}
	assert.Greater(t, good, 3_000)
}

func TestWhatIsWrongWithAFilter(t *testing.T) {
	for text, want := range map[string]string{
		"":                                  "does not start with a bracket",
		"(cn=a":                             "ends before all brackets are closed",
		"(cn=a))":                           `goes on behind its end: ")"`,
		"(&(cn=a)x)":                        `a closing bracket is missing before "x)"`,
		"(cn)":                              `"cn" asks nothing`,
		`(cn=a\2)`:                          "two hexadecimal digits are missing",
		`(cn=a\zz)`:                         `\zz of "a\\zz" is not`,
		"(cn=\xff)":                         "no UTF-8",
		strings.Repeat("(!", 200) + "(a=b)": "nested deeper than 100",
	} {
		_, err := Parse(text)
		require.ErrorContains(t, err, want, text)
		assert.ErrorContains(t, err, "is not a filter: ")
	}
}

func TestEscape(t *testing.T) {
	for _, text := range []string{"", "plain", "a(b)*\\\x00c", "Müller", "\xff"} {
		assert.Equal(t, ldap.EscapeFilter(text), Escape(text))
		f, err := Parse("(cn=" + Escape(text) + ")")
		require.NoError(t, err)
		assert.Equal(t, text, f.value)
	}
}
