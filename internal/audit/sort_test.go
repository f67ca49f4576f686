package audit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// slowSort is the order of reports, said word for word.
func slowSort(c Catalog, findings []Finding) {
	at := func(name string) int {
		return slices.IndexFunc(c, func(check *Check) bool { return check.Name == name })
	}
	slices.SortFunc(findings, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(b.Severity, a.Severity), cmp.Compare(at(a.Check), at(b.Check)), strings.Compare(a.bundle, b.bundle), cmp.Compare(b.Days, a.Days),
			strings.Compare(a.Account, b.Account), strings.Compare(a.DN, b.DN), slices.CompareFunc(a.Evidence, b.Evidence, func(x, y Evidence) int {
				return cmp.Or(strings.Compare(x.Attr, y.Attr), strings.Compare(x.Value, y.Value))
			}))
	})
}

func TestFindingsAreSortedAsReportsShowThem(t *testing.T) {
	c := Catalog(Checks[:4])
	few := func(texts ...string) *rapid.Generator[string] { return rapid.SampledFrom(texts) }
	one := rapid.Custom(func(t *rapid.T) Finding {
		return Finding{Check: c[rapid.IntRange(0, len(c)-1).Draw(t, "check")].Name, Severity: Severity(rapid.IntRange(0, 3).Draw(t, "severity")), bundle: few("", "", "a", "b").Draw(t, "bundle"),
			Days: rapid.SampledFrom([]int{0, 1, 2, 400, -3, 150000}).Draw(t, "days"), Account: few("", "ada", "bram").Draw(t, "account"), DN: few("CN=a", "CN=b").Draw(t, "dn"),
			Evidence: []Evidence{{few("mail", "sn").Draw(t, "attr"), few("x", "y").Draw(t, "value")}}}
	})
	rapid.Check(t, func(t *rapid.T) {
		findings := rapid.SliceOf(one).Draw(t, "findings")
		want := slices.Clone(findings)
		slowSort(c, want)
		at := rapid.IntRange(0, len(findings)).Draw(t, "part")
		assert.Equal(t, want, c.sorted([][]*Finding{pointers(findings[:at]), pointers(findings[at:])}))
	})
}

func pointers(findings []Finding) (all []*Finding) {
	for i := range findings {
		all = append(all, &findings[i])
	}
	return all
}

func TestManyFindingsAreSortedOnSeveralProcessors(t *testing.T) {
	c := Catalog(Checks[:2])
	var findings []Finding
	for i := range 3*worthSharing + 5 {
		n := i * 7919 % 4099
		findings = append(findings, Finding{Check: c[n%2].Name, Severity: Severity(n % 3), Days: n % 5, Account: fmt.Sprintf("observer %d", n/2), DN: fmt.Sprint(n)})
	}
	want := slices.Clone(findings)
	slowSort(c, want)
	for processors := 1; processors < 6; processors++ {
		keys := c.keys([][]*Finding{pointers(findings[:100]), nil, pointers(findings[100:])})
		sortTogether(keys, processors)
		var got []Finding
		for _, k := range keys {
			got = append(got, *k.of)
		}
		assert.Equal(t, want, got, processors)
	}
}
