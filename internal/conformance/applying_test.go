package conformance

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
	"yardbroom/internal/realserver"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// BenchmarkApplying carries out 10,000 modifies on slapd, journal synced, and
// lets ldapmodify do the same, by turns, and reports the ratio of the times:
//
//	go test ./internal/conformance -run '^$' -bench Applying -benchtime 1x
func BenchmarkApplying(b *testing.B) {
	const people = 10000
	tool := realserver.Program(b, "ldapmodify", "ldap-utils")
	server := realserver.OpenLDAP(b)
	ctx := context.Background()
	c, err := source.Connect(ctx, source.Target{Yard: server.Yard})
	require.NoError(b, err)
	defer c.Close()
	for i := range people {
		add := ldap.NewAddRequest(fmt.Sprintf("uid=p%05d,ou=people,%s", i, server.Base), nil)
		add.Attribute("objectClass", []string{"inetOrgPerson"})
		for _, name := range []string{"uid", "cn", "sn"} {
			add.Attribute(name, []string{fmt.Sprintf("p%05d", i)})
		}
		add.Attribute("description", []string{"0"})
		require.NoError(b, c.Conn().Add(add))
	}
	id, err := c.Identity(ctx)
	require.NoError(b, err)
	set := settings.Defaults()
	set.Signing.Over = 0
	value := 0
	ours := func() time.Duration {
		st, err := store.Open(ctx, b.TempDir())
		require.NoError(b, err)
		defer st.Close()
		entries, err := c.Find(ctx, "(uid=p*)")
		require.NoError(b, err)
		value++
		var candidates []batch.Candidate
		for i := range entries {
			candidates = append(candidates, batch.Candidate{Entry: entries[i], Values: []batch.Assignment{{Attr: "description", New: fmt.Sprint(value)}}})
		}
		stager := &batch.Stager{From: c, Identity: id, Dialect: directory.OpenLDAP, Settings: set, Catalog: audit.Checks, Protection: batch.Protection{Dialect: directory.OpenLDAP}}
		staged, _, err := stager.Stage(ctx, batch.Order{Actions: []string{batch.Set}, By: "tester", At: time.Now(), MaxLines: people, MaxShare: 100}, candidates)
		require.NoError(b, err)
		require.Len(b, staged.Lines, people)
		require.NoError(b, staged.Save(ctx, st))
		r := &carry.Job{Store: st, Batch: staged, Server: c, Protection: stager.Protection, Settings: set, By: "tester", Now: time.Now}
		began := time.Now()
		res, err := r.Run(ctx, carry.Pace{DayLines: people, Connections: 8})
		require.NoError(b, err)
		require.Equal(b, people, res.Counts[batch.Applied], res.Halted)
		return time.Since(began)
	}
	theirs := func() time.Duration {
		value++
		var in bytes.Buffer
		for i := range people {
			fmt.Fprintf(&in, "dn: uid=p%05d,ou=people,%s\nchangetype: modify\nreplace: description\ndescription: %d\n\n", i, server.Base, value)
		}
		file := filepath.Join(b.TempDir(), "changes.ldif")
		require.NoError(b, os.WriteFile(file, in.Bytes(), 0o600))
		began := time.Now()
		out, err := exec.CommandContext(ctx, tool, "-x", "-H", server.Yard.Servers[0], "-D", server.Yard.Bind.DN, "-w", server.Password, "-f", file).CombinedOutput()
		require.NoError(b, err, "%.500s", out)
		return time.Since(began)
	}
	for b.Loop() {
		for round := range 3 {
			a, t := ours(), theirs()
			var mem runtime.MemStats
			runtime.ReadMemStats(&mem)
			b.Logf("round %d: apply %v, ldapmodify %v, ratio %.2f, heap %d MB", round+1, a.Round(time.Millisecond), t.Round(time.Millisecond), a.Seconds()/t.Seconds(), mem.HeapSys>>20)
			b.ReportMetric(a.Seconds()/t.Seconds(), "ratio")
		}
	}
}
