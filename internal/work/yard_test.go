package work

import (
	"context"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/practice"
	"yardbroom/internal/settings"
)

const base = "DC=larkmoor,DC=example"

// now is when the tests play. The practice directory's clock says the same.
var now = time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)

// yard is a small live directory and a session on it.
type yard struct {
	*Session
	dir    *practice.Directory
	server *practice.Server
	at     time.Time    // the session's clock
	clock  atomic.Int64 // the directory's, in nanoseconds
	notes  []string
}

// newYard serves Ada Quill, Bram Tern, Cleo Birk and Dov Ekholm, of whom Cleo is
// disabled, with employee numbers 1 to 4; and a keeper, number 5, who is signed in.
func newYard(t *testing.T) *yard {
	t.Helper()
	y := &yard{at: now}
	y.clock.Store(now.UnixNano())
	y.dir = practice.New(base, "S-1-5-21-1-2-3", func() time.Time { return time.Unix(0, y.clock.Load()).UTC() })
	for _, ou := range []string{"Staff", "Parked"} {
		y.add(t, "OU="+ou+","+base, "objectClass", "organizationalUnit")
	}
	for i, who := range []string{"Ada Quill", "Bram Tern", "Cleo Birk", "Dov Ekholm"} {
		given, family, _ := strings.Cut(who, " ")
		flags := "512"
		if given == "Cleo" {
			flags = "514"
		}
		y.add(t, "CN="+who+",OU=Staff,"+base, "objectClass", "user", "sAMAccountName", strings.ToLower(given), "userAccountControl", flags,
			"givenName", given, "sn", family, "displayName", who, "employeeNumber", string(rune('1'+i)), "mail", strings.ToLower(given)+"@larkmoor.example",
			"pwdLastSet", directory.FormatFileTime(now.AddDate(0, -1, 0)), "lastLogon", directory.FormatFileTime(now.AddDate(0, 0, -3)))
	}
	for _, e := range y.dir.Dump() {
		y.dir.Edit(e.DN, func(e *directory.Entry) { e.Set("whenCreated", "20200101000000.0Z") })
	}
	y.add(t, "CN=Keeper,OU=Staff,"+base, "objectClass", "user", "sAMAccountName", "keeper", "userAccountControl", "512", "displayName", "Kay Keeper", "employeeNumber", "5")
	y.server = &practice.Server{Dir: y.dir, Account: "keeper", Password: "practice only"}
	url, err := y.server.Listen(t.Context(), "127.0.0.1:0")
	require.NoError(t, err)
	set := settings.Defaults()
	set.Default = "small"
	set.Batch.MaxShare, set.Batch.DayShare = 100, 100
	set.Yards = map[string]settings.Yard{"small": {Servers: []string{url}, Bind: settings.Bind{DN: "keeper@larkmoor.example", Ask: true},
		SettleWithin: settings.Wait(50 * time.Millisecond)}}
	y.Session, err = New(set)
	require.NoError(t, err)
	y.State, y.By, y.Now = t.TempDir(), "tester", func() time.Time { return y.at }
	y.Ask = func(string) (string, error) { return "practice only", nil }
	y.Note = func(text string) { y.notes = append(y.notes, text) }
	t.Cleanup(func() { require.NoError(t, y.Close()) })
	return y
}

func (y *yard) add(t *testing.T, dn string, pairs ...string) {
	t.Helper()
	e := directory.Entry{DN: dn}
	for i := 0; i < len(pairs); i += 2 {
		e.Set(pairs[i], append(e.Get(pairs[i]), pairs[i+1])...)
	}
	require.NoError(t, y.dir.Add(e), dn)
}

func (y *yard) open(t *testing.T) *Place {
	t.Helper()
	p, err := y.Open(context.Background(), From{})
	require.NoError(t, err)
	t.Cleanup(func() { p.Close() })
	return p
}

// must stages something that can be.
func (y *yard) must(t *testing.T, r *StageRequest) *batch.Batch {
	t.Helper()
	staged, err := y.Stage(context.Background(), y.open(t), r)
	require.NoError(t, err, "%v", staged.Refusals)
	return staged.Batch
}

// reconciled makes a list the last roster of the yard.
func (y *yard) reconciled(t *testing.T, rows string) *Reconciliation {
	t.Helper()
	y.rosters = map[string]*Roster{}
	y.Stdin = strings.NewReader("id,given,family,end\n" + rows)
	r, err := y.Reconcile(context.Background(), y.open(t), &ReconcileRequest{Question: Question{Roster: RosterFrom{Where: "-"}}})
	require.NoError(t, err)
	return r
}

// everybody is a roster on which all of the yard work here.
const everybody = "1,Ada,Quill,\n2,Bram,Tern,\n3,Cleo,Birk,\n4,Dov,Ekholm,\n5,Kay,Keeper,\n"

func (y *yard) flags(t *testing.T, cn string) string {
	t.Helper()
	for _, place := range []string{"OU=Staff,", "OU=Parked,"} {
		if e := y.dir.Entry("CN=" + cn + "," + place + base); e != nil {
			return e.First("userAccountControl")
		}
	}
	return ""
}
