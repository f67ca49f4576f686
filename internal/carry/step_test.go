package carry

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/homes"
)

// TestOnlyWhatWasDoneIsTheLinesOwn holds which steps a guard makes allowance for.
func TestOnlyWhatWasDoneIsTheLinesOwn(t *testing.T) {
	step := func(op Op, attr string, o *outcome) pastStep {
		return pastStep{Step: Step{Op: op, Mods: []batch.Mod{{Attr: attr}}}, outcome: o}
	}
	h := &history{steps: []pastStep{
		step(OpModify, "done", &outcome{Done: true}), step(OpModify, "not done", &outcome{}), step(OpModify, "not known", nil),
		step(OpReanimate, "brought back", &outcome{Done: true}), step(OpReanimate, "not brought back", &outcome{}), step(OpPassword, "pwdLastSet", &outcome{Done: true}),
	}}
	var attrs []string
	for _, m := range h.mods() {
		attrs = append(attrs, m.Attr)
	}
	assert.Equal(t, []string{"done", "brought back"}, attrs)
	assert.True(t, h.begun())
	assert.False(t, (&history{steps: h.steps[1:3]}).begun())
	assert.True(t, (&history{steps: h.steps[:3]}).open())
}

func TestAHomeComesBackToWhereItWas(t *testing.T) {
	home := &homes.Place{Path: "/home/ada"}
	l := &batch.Line{}
	homeBack(l, &pastStep{Step: Step{Op: OpSetAside, Home: home}})
	assert.Equal(t, []batch.Action{{Name: batch.PutHomeBack, Home: home}}, l.Actions)
	assert.Equal(t, home.String(), l.Changes[0].New)
}

// TestEveryKindOfStepIsSeenByItsEffect holds what each operation takes for done,
// for not done, and for neither.
func TestEveryKindOfStepIsSeenByItsEffect(t *testing.T) {
	e := func(dn string, pairs ...string) *directory.Entry {
		e := &directory.Entry{DN: dn}
		for i := 0; i < len(pairs); i += 2 {
			e.Set(pairs[i], pairs[i+1])
		}
		return e
	}
	mods := []batch.Mod{{Attr: "title", Old: []batch.Octets{"Keeper"}, New: []batch.Octets{"Warden"}}}
	values := []ValueMod{{Attr: "member", Remove: "CN=a,DC=x", Add: "CN=b,DC=x"}}
	for _, c := range []struct {
		step Step
		e    *directory.Entry
		want effect
	}{
		{Step{Op: OpModify, Mods: mods}, e("CN=g", "title", "Warden"), effectDone},
		{Step{Op: OpModify, Mods: mods}, e("CN=g", "title", "Keeper"), effectNone},
		{Step{Op: OpModify, Mods: mods}, e("CN=g", "title", "Cook"), effectOther},
		{Step{Op: OpModify, Mods: mods}, nil, effectOther},
		{Step{Op: OpValues, Values: values}, e("CN=g", "member", "CN=b,DC=x"), effectDone},
		{Step{Op: OpValues, Values: values}, e("CN=g", "member", "CN=a,DC=x"), effectNone},
		{Step{Op: OpValues, Values: values}, nil, effectOther},
		{Step{Op: OpRename, DN: "CN=a,DC=x", RDN: "CN=a", Superior: "OU=p,DC=x"}, e("cn=A,ou=P,dc=x"), effectDone},
		{Step{Op: OpRename, DN: "CN=a,DC=x", RDN: "CN=a", Superior: "OU=p,DC=x"}, e("cn=A,dc=x"), effectNone},
		{Step{Op: OpRename, DN: "CN=a,DC=x", RDN: "CN=a", Superior: "OU=p,DC=x"}, e("CN=a,OU=q,DC=x"), effectOther},
		{Step{Op: OpRename}, nil, effectOther},
		{Step{Op: OpDelete}, nil, effectDone},
		{Step{Op: OpDelete}, e("CN=a,DC=x"), effectNone},
		{Step{Op: OpReanimate, RDN: "CN=a", Superior: "DC=x"}, e("CN=a,DC=x"), effectDone},
		{Step{Op: OpReanimate, RDN: "CN=a", Superior: "DC=x"}, e("CN=a,DC=x", "isDeleted", "TRUE"), effectNone},
		{Step{Op: OpReanimate, RDN: "CN=a", Superior: "DC=x"}, e("CN=a,DC=y"), effectOther},
		{Step{Op: OpReanimate}, nil, effectOther},
		{Step{Op: OpPassword}, nil, effectOther},
		{Step{Op: "conjure"}, e("CN=a,DC=x"), effectHidden},
	} {
		assert.Equal(t, c.want, effectOf(&c.step, c.e), "%+v, %+v", c.step, c.e)
	}
	assert.Equal(t, "conjure", (&Step{Op: "conjure"}).operation().describe())
	assert.ErrorContains(t, (&Step{Op: "conjure"}).write().send(nil, ""), "unknown step")
}
