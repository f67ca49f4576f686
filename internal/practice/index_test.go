package practice

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
)

const base = "DC=larkmoor,DC=example"

// TestTheIndexFindsWhatLookingAtEverythingFinds changes directories at random
// and asks them by the filters that the index narrows.
func TestTheIndexFindsWhatLookingAtEverythingFinds(t *testing.T) {
	found := 0
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 1))
		d := New(base, "S-1-5-21-1-2-3", time.Now)
		if seed%2 == 1 {
			d = Copy(Identity{Dialect: directory.OpenLDAP, Base: base}, []directory.Entry{{DN: base}}, time.Now)
		}
		w := wild{t: t, r: r, d: d}
		for range 40 {
			w.change()
		}
		for range 40 {
			w.ask()
		}
		found += w.found
	}
	assert.Greater(t, found, 500)
}

// wild does random things to a directory.
type wild struct {
	t *testing.T
	r *rand.Rand
	d *Directory
	// found counts the hits, since a test that never finds anything proves nothing.
	found int
}

func (w *wild) one(of ...string) string { return of[w.r.IntN(len(of))] }

func (w *wild) name() string { return w.one("ada", "BRAM", "cleo  ray", "Dora", `eli\, the 2nd`) }

func (w *wild) dn() string {
	return "CN=" + w.name() + "," + w.one("", "OU=Staff,", "ou=parked,") + base
}

func (w *wild) attr() string {
	return w.one("member", "manager", "sAMAccountName", "uid", "userPrincipalName", "memberUid", "description", "uniqueMember")
}

// change may be refused; what matters is what is there afterwards.
func (w *wild) change() {
	switch w.r.IntN(6) {
	case 0, 1:
		e := directory.Entry{DN: w.one(w.dn(), w.dn(), "OU=Staff,"+base, "OU=Parked,"+base)}
		e.Set("objectClass", w.one("user", "group", "organizationalUnit", "groupOfNames"))
		e.Set(w.one("sAMAccountName", "uid"), w.name())
		e.Set(w.one("member", "manager"), w.dn())
		_ = w.d.Add(e)
	case 2, 3:
		op := uint(w.r.IntN(3))
		values := []string{w.one(w.dn(), w.name())}
		if op == ldap.ReplaceAttribute {
			values = append(values, w.dn(), w.name())
		}
		_ = w.d.Modify(w.dn(), []ldap.Change{{Operation: op, Modification: ldap.PartialAttribute{Type: w.attr(), Vals: values}}}, false)
	case 4:
		parent := w.one(base, "OU=Staff,"+base, "OU=Parked,"+base)
		_ = w.d.ModifyDN(w.one(w.dn(), "OU=Staff,"+base), "CN="+w.name(), &parent)
	case 5:
		_ = w.d.Delete(w.dn())
	}
}

// ask compares what a search finds with a look at every entry.
func (w *wild) ask() {
	leaf := func() string {
		return "(" + w.attr() + "=" + ldap.EscapeFilter(w.one(w.dn(), strings.ToUpper(w.dn()), w.name(), "nobody")) + ")"
	}
	text := w.one("(|"+leaf()+leaf()+leaf()+")", "(&"+leaf()+"(objectClass=*))", "(&"+leaf()+leaf()+")", "(!"+leaf()+")", leaf())
	cond, err := filter.Parse(text)
	require.NoError(w.t, err)
	from, scope := w.one(base, "OU=Staff,"+base), w.r.IntN(3)
	keys, err := w.d.find(from, scope, cond, false)
	if err != nil {
		return // the base does not exist
	}
	m, err := cond.For(w.d.dialect, nil)
	require.NoError(w.t, err)
	var want []string
	for _, key := range w.d.sorted(directory.FoldDN(from), scope) {
		if v := w.d.view(key); !v.Has("isDeleted") && m.Match(v) == filter.True && !w.d.apart(key, directory.FoldDN(from)) {
			want = append(want, key)
		}
	}
	w.found += len(keys)
	slices.Sort(keys)
	slices.Sort(want)
	assert.Equal(w.t, want, keys, fmt.Sprintf("%s below %s, scope %d", text, from, scope))
}
