package work

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/batch"
	"yardbroom/internal/calendar"
	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

// TestThePartsOfAPolicyGoWithItOnly stages a policy and two accounts, one below
// the other, for deletion; the policy is free or in use, and the upper account is
// exempt or not.
func TestThePartsOfAPolicyGoWithItOnly(t *testing.T) {
	const name = "{11111111-2222-3333-4444-555555555555}"
	const policy = "CN=" + name + ",CN=Policies,CN=System," + base
	for _, c := range []struct {
		linked, exempt bool
		want           []string // who is staged
	}{
		{false, false, []string{"cleo", "scope", "CN=Machine," + policy, "CN=User," + policy, "Old desks"}},
		{true, false, []string{"cleo", "scope"}},
		{false, true, []string{"scope", "CN=Machine," + policy, "CN=User," + policy, "Old desks"}},
	} {
		y := newYard(t)
		y.Settings.Batch.DeleteMinDisabled = calendar.Span{}
		y.Settings.Signing.Needed = map[string]int{batch.Delete: 0}
		if y.dir.Entry("CN=System,"+base) == nil {
			y.add(t, "CN=System,"+base, "objectClass", "container")
		}
		y.add(t, "CN=Policies,CN=System,"+base, "objectClass", "container")
		y.add(t, policy, "objectClass", "groupPolicyContainer", "displayName", "Old desks")
		for _, part := range []string{"Machine", "User"} {
			y.add(t, "CN="+part+","+policy, "objectClass", "container")
		}
		y.add(t, "CN=Scope,CN=Cleo Birk,OU=Staff,"+base, "objectClass", "user", "sAMAccountName", "scope", "userAccountControl", "514")
		if c.linked {
			y.dir.Edit("OU=Staff,"+base, func(e *directory.Entry) { e.Set("gPLink", "[LDAP://"+policy+";0]") })
		}
		if c.exempt {
			y.Settings.Exemptions = []settings.Exemption{{Match: settings.Match{Account: "cleo"}, Reason: "r", Owner: "o"}}
		}
		staged, err := y.Stage(t.Context(), y.open(t), &StageRequest{Actions: []string{batch.Delete}, Choice: Choice{Names: []string{policy, "cleo", "scope"}}})
		if !assert.NoError(t, err, "%v", staged.Refusals) {
			continue
		}
		var got []string
		for i := range staged.Batch.Lines {
			got = append(got, staged.Batch.Lines[i].Account)
		}
		assert.ElementsMatch(t, c.want, got, "%v", staged.Refusals)
	}
}
