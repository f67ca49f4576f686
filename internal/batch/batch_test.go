package batch

import (
	"context"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yardbroom/internal/directory"
	"yardbroom/internal/store"
)

func TestPlan(t *testing.T) {
	honoured, inVain := LockPolicy{Known: true, Honoured: true}, LockPolicy{Known: true}
	for _, c := range []struct {
		name    string
		d       *directory.Dialect
		action  string
		e       *directory.Entry
		lock    LockPolicy
		want    string // "attr old → new"
		refusal string
	}{
		{"disable keeps the other flags", directory.AD, Disable, entry("CN=a", "userAccountControl=66048"), LockPolicy{}, "userAccountControl 66048 (enabled) → 66050 (disabled)", ""},
		{"disable twice", directory.AD, Disable, entry("CN=a", "userAccountControl=514"), LockPolicy{}, "", "disabled already"},
		{"disable without flags", directory.AD, Disable, entry("CN=a"), LockPolicy{}, "", "cannot be read"},
		{"enable", directory.AD, Enable, entry("CN=a", "userAccountControl=514"), LockPolicy{}, "userAccountControl 514 (disabled) → 512 (enabled)", ""},
		{"enable twice", directory.AD, Enable, entry("CN=a", "userAccountControl=512"), LockPolicy{}, "", "enabled already"},
		{"unlock", directory.AD, Unlock, entry("CN=a", "lockoutTime=134398939261212720"), LockPolicy{}, "lockoutTime 2026-11-23T07:52:06Z → not locked", ""},
		{"unlock what is not locked", directory.AD, Unlock, entry("CN=a", "lockoutTime=0"), LockPolicy{}, "", "not locked"},
		{"disable on OpenLDAP", directory.OpenLDAP, Disable, entry("uid=a"), honoured, "pwdAccountLockedTime (none) → 000001010000Z (disabled)", ""},
		{"disable a locked one", directory.OpenLDAP, Disable, entry("uid=a", "pwdAccountLockedTime=20261123075206Z"), honoured, "pwdAccountLockedTime 20261123075206Z → 000001010000Z (disabled)", ""},
		{"disable in vain", directory.OpenLDAP, Disable, entry("uid=a"), inVain, "", "no effect"},
		{"disable under who knows what", directory.OpenLDAP, Disable, entry("uid=a"), LockPolicy{}, "", "cannot be read"},
		{"enable on OpenLDAP", directory.OpenLDAP, Enable, entry("uid=a", "pwdAccountLockedTime=000001010000Z"), honoured, "pwdAccountLockedTime 000001010000Z (disabled) → (none)", ""},
		{"enable what another attribute disables", directory.OpenLDAP, Enable, entry("uid=a", "pwdEndTime=20200101000000Z"), honoured, "", "pwdEndTime"},
		{"unlock must not enable a leaver", directory.OpenLDAP, Unlock, entry("uid=a", "pwdAccountLockedTime=000001010000Z"), honoured, "", "use enable"},
		{"unlock on OpenLDAP", directory.OpenLDAP, Unlock, entry("uid=a", "pwdAccountLockedTime=20261123075206Z"), honoured, "pwdAccountLockedTime 20261123075206Z → (none)", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			mods, err := Plan(c.d, c.action, c.e, c.lock)
			if c.refusal != "" {
				assert.ErrorContains(t, err, c.refusal)
				return
			}
			require.NoError(t, err)
			require.Len(t, mods, 1)
			d := ChangeOf(mods[0])
			assert.Equal(t, c.want, d.What+" "+d.Old+" → "+d.New)
		})
	}
}

func TestParseActions(t *testing.T) {
	got, err := ParseActions("disable, move")
	require.NoError(t, err)
	assert.Equal(t, []string{"disable", "move"}, got)
	for list, want := range map[string]string{"": "not an action", "disable,disable": "twice", "delete,move": "nothing can follow", "enable,disable": "do not go together", "restore": "not an action"} {
		_, err := ParseActions(list)
		assert.ErrorContains(t, err, want, list)
	}
}

func TestDrift(t *testing.T) {
	guard := func(attr string, rule Rule, values ...Octets) Guard {
		return Guard{Attr: attr, Rule: rule, Values: values}
	}
	const early, late = "134398939261212720", "134399939261212720"
	logons := []Guard{guard("lastLogon", NoLater, early), guard("lastLogonTimestamp", NoLater)}
	for _, c := range []struct {
		name   string
		guards []Guard
		e      *directory.Entry
		done   []Mod
		want   string // part of the drift, "" for none
	}{
		{"same value", []Guard{guard("userAccountControl", Equal, "512")}, entry("CN=a", "userAccountControl=512"), nil, ""},
		{"other value", []Guard{guard("userAccountControl", Equal, "512")}, entry("CN=a", "userAccountControl=66048"), nil, "is 66048 (enabled) now, it was 512 (enabled)"},
		{"gone", []Guard{guard("userAccountControl", Equal, "512")}, entry("CN=a"), nil, "is (none) now"},
		{"still absent", []Guard{guard("pwdEndTime", Equal)}, entry("CN=a"), nil, ""},
		{"came up", []Guard{guard("pwdEndTime", Equal)}, entry("CN=a", "pwdEndTime=x"), nil, "pwdEndTime is x now"},
		{"order and case do not count", []Guard{guard("mail", Equal, "A", "b")}, entry("CN=a", "mail=B", "mail=a"), nil, ""},
		{"our own change", []Guard{guard("userAccountControl", Equal, "512")}, entry("CN=a", "userAccountControl=514"), []Mod{{Attr: "useraccountcontrol", Old: []Octets{"512"}, New: []Octets{"514"}}}, ""},
		{"same place", []Guard{guard("container", Container, "OU=Staff,DC=x")}, entry("CN=b,ou=staff,dc=X"), nil, ""},
		{"other place", []Guard{guard("container", Container, "OU=Staff,DC=x")}, entry("CN=a,OU=Parked,DC=x"), nil, "it is in OU=Parked,DC=x now"},
		{"no new sign-in", logons, entry("CN=a", "lastLogon="+early), nil, ""},
		{"the same sign-in, replicated late", logons, entry("CN=a", "lastLogon="+early, "lastLogonTimestamp="+early), nil, ""},
		{"a new sign-in", logons, entry("CN=a", "lastLogon="+late), nil, "signed in since"},
		{"a new sign-in elsewhere", logons, entry("CN=a", "lastLogon="+early, "lastLogonTimestamp="+late), nil, "signed in since"},
		{"the first sign-in", []Guard{guard("lastLogon", NoLater, "0")}, entry("CN=a", "lastLogon="+early), nil, "signed in since"},
		{"unreadable", logons, entry("CN=a", "lastLogon=soon"), nil, "cannot be read"},
		{"OpenLDAP's form", []Guard{guard("pwdLastSuccess", NoLater, "20260101000000Z")}, entry("uid=a", "pwdLastSuccess=20260102000000.000000Z"), nil, "signed in since"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := Drift(c.guards, c.e, c.done)
			if c.want == "" {
				assert.Empty(t, got)
				return
			}
			assert.Contains(t, got, c.want)
		})
	}
}

func TestOctetsSurviveJSON(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		values := OctetsOf([]string{string(rapid.SliceOf(rapid.Byte()).Draw(t, "octets")), "base64:" + rapid.String().Draw(t, "text")})
		text, err := json.Marshal(values)
		require.NoError(t, err)
		var back []Octets
		require.NoError(t, json.Unmarshal(text, &back))
		require.Equal(t, values, back)
	})
}

func TestImagesHoldNoSecrets(t *testing.T) {
	im := ImageOf(entry("CN=a", "cn=a", "userPassword=x", "unicodePwd=y"))
	assert.Equal(t, Image{DN: "CN=a", Attrs: []ImageAttr{{Name: "cn", Values: []Octets{"a"}}}}, im)
}

func TestTheDigestCoversEverythingThatDecides(t *testing.T) {
	make := func() *Batch {
		return &Batch{Why: "x", Actions: []string{Move}, Lines: []Line{{N: 1, DN: "CN=a", ID: "1", Actions: []Action{{Name: Move, To: "OU=x"}}, Guard: []Guard{{Attr: "a", Rule: Equal}}}}}
	}
	base, err := make().Digest()
	require.NoError(t, err)
	for name, change := range map[string]func(*Batch){
		"why": func(b *Batch) { b.Why = "y" }, "directory": func(b *Batch) { b.Identity.ID = "z" }, "target": func(b *Batch) { b.Lines[0].Actions[0].To = "OU=y" },
		"entry": func(b *Batch) { b.Lines[0].ID = "2" }, "guard": func(b *Batch) { b.Lines[0].Guard = nil }, "dropping": func(b *Batch) { b.Lines[0].State = Dropped },
		"a line more": func(b *Batch) { b.Lines = append(b.Lines, Line{N: 2}) },
	} {
		b := make()
		change(b)
		got, err := b.Digest()
		require.NoError(t, err)
		assert.NotEqual(t, base, got, name)
	}
	b := make()
	b.Lines[0].State, b.Lines[0].Note = Applied, "done"
	got, err := b.Digest()
	require.NoError(t, err)
	assert.Equal(t, base, got, "carrying out changes no decision")
}

func TestABatchIsKeptAsItWasStaged(t *testing.T) {
	ctx := context.Background()
	s, err := store.Open(ctx, t.TempDir())
	require.NoError(t, err)
	defer s.Close()
	b := &Batch{Created: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), By: "ada", Actions: []string{Disable}, Lines: []Line{
		{N: 1, DN: "CN=a", ID: "1", Account: "ada", Guard: []Guard{}, Actions: []Action{{Name: Disable}}, Changes: []Change{ChangeOf(Mod{Attr: "x", Old: []Octets{"\x00\xff"}, New: []Octets{"b"}})}},
		{N: 2, DN: "CN=b", ID: "2", Account: "bram", Guard: []Guard{}, Actions: []Action{{Name: Disable}}, Changes: []Change{}}}}
	require.NoError(t, b.Save(ctx, s))
	kept, err := Load(ctx, s, b.ID)
	require.NoError(t, err)
	assert.Equal(t, Staged, kept.State)
	require.Len(t, kept.Lines, 2)
	n, err := kept.Drop(ctx, s, []string{"cn=B"}, "clara", time.Now())
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	kept, err = Load(ctx, s, b.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, kept.Open())
	require.NoError(t, kept.Discard(ctx, s, "clara", time.Now()))
	kept, err = Load(ctx, s, b.ID)
	require.NoError(t, err)
	assert.Error(t, kept.Discard(ctx, s, "clara", time.Now()))
	_, err = kept.Drop(ctx, s, []string{"ada"}, "clara", time.Now())
	assert.Error(t, err)
	_, err = Load(ctx, s, 99)
	assert.ErrorIs(t, err, store.ErrNoBatch)
}

// Whoever carries a batch out has loaded it before it is locked. What others do to it in
// between is noticed: lines that they drop, its end, and that they have begun with it.
func TestABatchThatWasChangedMeanwhileIsNoticed(t *testing.T) {
	ctx := context.Background()
	for name, change := range map[string]func(t *testing.T, s *store.Store, b *Batch){
		"nothing": nil,
		"a line was dropped": func(t *testing.T, s *store.Store, b *Batch) {
			_, err := b.Drop(ctx, s, []string{"bram"}, "clara", time.Now())
			require.NoError(t, err)
		},
		"it was discarded": func(t *testing.T, s *store.Store, b *Batch) {
			require.NoError(t, b.Discard(ctx, s, "clara", time.Now()))
		},
		"it was begun": func(t *testing.T, s *store.Store, b *Batch) {
			_, err := s.Append(ctx, &store.Record{At: time.Now(), By: "clara", Event: EventBegun, Batch: b.ID, Body: json.RawMessage(`{}`)})
			require.NoError(t, err)
		},
	} {
		t.Run(name, func(t *testing.T) {
			s, err := store.Open(ctx, t.TempDir())
			require.NoError(t, err)
			defer s.Close()
			b := &Batch{Created: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC), By: "ada", Actions: []string{Disable}, Lines: []Line{
				{N: 1, DN: "CN=a", ID: "1", Account: "ada", Guard: []Guard{}, Actions: []Action{{Name: Disable}}, Changes: []Change{}},
				{N: 2, DN: "CN=b", ID: "2", Account: "bram", Guard: []Guard{}, Actions: []Action{{Name: Disable}}, Changes: []Change{}}}}
			require.NoError(t, b.Save(ctx, s))
			mine, err := Load(ctx, s, b.ID)
			require.NoError(t, err)
			if change == nil {
				assert.NoError(t, mine.Unchanged(ctx, s))
				return
			}
			theirs, err := Load(ctx, s, b.ID)
			require.NoError(t, err)
			change(t, s, theirs)
			assert.ErrorContains(t, mine.Unchanged(ctx, s), "was changed meanwhile")
		})
	}
}

func TestALineTellsWhetherItSwitchesAnAccountOnOrOff(t *testing.T) {
	put := func(attr, old, new string) []Action {
		octets := func(v string) []Octets {
			if v == "" {
				return nil
			}
			return []Octets{Octets(v)}
		}
		return []Action{{Name: PutBack, Put: []Mod{{Attr: attr, Old: octets(old), New: octets(new)}}}}
	}
	for _, c := range []struct {
		actions []Action
		on, off bool
	}{
		{[]Action{{Name: Enable}}, true, false},
		{[]Action{{Name: Move}, {Name: Disable}}, false, true},
		{[]Action{{Name: Delete}}, false, true},
		{[]Action{{Name: Set}}, false, false},
		{put("userAccountControl", "514", "512"), true, false},
		{put("userAccountControl", "512", "514"), false, true},
		{put("userAccountControl", "512", "544"), false, false},
		{put("pwdAccountLockedTime", "000001010000Z", ""), true, false},
		{put("pwdAccountLockedTime", "", "000001010000Z"), false, true},
		{put("pwdAccountLockedTime", "", "20261101000000Z"), false, true},
		{put("pwdAccountLockedTime", "20261101000000Z", ""), false, false},
		{put("nsAccountLock", "TRUE", ""), true, false},
		{put("nsAccountLock", "", "true"), false, true},
		{put("department", "a", "b"), false, false},
	} {
		l := Line{Actions: c.actions}
		assert.Equal(t, [2]bool{c.on, c.off}, [2]bool{l.SwitchesOn(), l.SwitchesOff()}, "%+v", c.actions)
	}
}

func TestALineStaysOff(t *testing.T) {
	flags := Mod{Attr: "userAccountControl", Old: []Octets{"514"}, New: []Octets{"512"}}
	hidden := Mod{Attr: "msExchHideFromAddressLists", Old: []Octets{"TRUE"}, New: nil}
	expiry := Mod{Attr: "accountExpires", Old: []Octets{"130000000000000000"}, New: []Octets{"0"}}
	line := func(mods ...Mod) *Line {
		l := &Line{Actions: []Action{{Name: Move, To: "OU=Staff,DC=x"}, {Name: PutBack, Put: mods}}, Guard: []Guard{{Attr: "container", Rule: Container}}}
		for _, m := range mods {
			l.Guard = append(l.Guard, Guard{Attr: m.Attr, Rule: Equal, Values: m.Old})
			l.Changes = append(l.Changes, ChangeOf(m))
		}
		return l
	}
	l := line(flags, hidden, expiry)
	require.True(t, l.SwitchesOn())
	require.True(t, l.StayOff(directory.AD))
	assert.False(t, l.SwitchesOn())
	assert.Equal(t, []Action{{Name: Move, To: "OU=Staff,DC=x"}, {Name: PutBack, Put: []Mod{hidden}}}, l.Actions)
	assert.Equal(t, []string{"msExchHideFromAddressLists"}, Attributes(l.Guard), "what is not put back is not tested either")
	assert.Equal(t, []Change{ChangeOf(hidden)}, l.Changes)
	l = line(flags)
	require.True(t, l.StayOff(directory.AD))
	assert.Equal(t, []Action{{Name: Move, To: "OU=Staff,DC=x"}}, l.Actions)
	l.Actions = []Action{{Name: PutBack, Put: []Mod{flags}}}
	assert.False(t, l.StayOff(directory.AD), "nothing is left to do")
}

func TestLinesAreNamedByAccountPatternOrNumber(t *testing.T) {
	b := &Batch{ID: 3, Lines: []Line{{N: 1, Account: "ada", DN: "CN=Ada Quill,DC=x"}, {N: 2, Account: "LARK-1$", DN: "CN=LARK-1,DC=x"}, {N: 3, Account: "LARK-2$", DN: "CN=LARK-2,DC=x"}, {N: 4, Account: "7", DN: "CN=seven,DC=x"}}}
	for names, want := range map[string][]int{
		"ada": {1}, "ADA": {1}, "cn=ada quill,dc=X": {1}, "Ada Quill": {1}, "LARK-1": {2}, "LARK-*": {2, 3}, "*2": {3},
		"2": {2}, "2-4": {2, 3, 4}, "1,3-4": {1, 3, 4}, "7": {4}, "2-3 ada 2": {2, 3, 1},
	} {
		asked := []string{names}
		if strings.Contains(names, " ada ") {
			asked = strings.Fields(names)
		}
		found, err := b.Find(asked)
		require.NoError(t, err, names)
		var got []int
		for _, l := range found {
			got = append(got, l.N)
		}
		assert.Equal(t, want, got, names)
	}
	for names, want := range map[string]string{"5": "lines 1 to 4, so there is no 5", "3-2": "no 3-2", "0": "no 0", "adda": "(did you mean ada?)", "LARK-9*": "no line for"} {
		_, err := b.Find([]string{names})
		assert.ErrorContains(t, err, want, names)
	}
}

func TestWhatSpreadsheetsDoToACellIsNoChange(t *testing.T) {
	for got, want := range map[string]string{" a  b ": "a b", "a\nb": "a\r\nb", "17": "0017", "a ? b": "a → b", "Dvo?ák": "Dvořák"} {
		assert.True(t, sameCell(got, want), "%q %q", got, want)
	}
	for got, want := range map[string]string{"a": "b", "?": "b", "170": "0017", "": "0", "Dvo?": "Dvořák", "dn": "DN"} {
		assert.False(t, sameCell(got, want), "%q %q", got, want)
	}
}
