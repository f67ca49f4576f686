package conformance

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/reconcile"
	"yardbroom/internal/roster"
)

// found are the findings of the roster's checks, briefly.
func found(t *testing.T, st *story, survey *directory.Survey, people []roster.Person, links ...reconcile.Link) (*audit.Report, []string) {
	t.Helper()
	result, err := reconcile.Run(people, survey, reconcile.Options{Links: links})
	require.NoError(t, err)
	var names []string
	for _, c := range audit.Checks {
		if c.ByRoster && c.Name != "no-person" { // the servers hold accounts of their own
			names = append(names, c.Name)
		}
	}
	r, err := audit.Run(survey, st.set, audit.Options{AsOf: time.Now(), Checks: names, People: result})
	require.NoError(t, err)
	var out []string
	for _, f := range r.Findings {
		out = append(out, f.Check+" "+f.Account)
	}
	return r, out
}

func TestLeaversAreFoundAndSwitchedOffOnEveryServer(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		st := newStory(t, s)
		ctx := context.Background()
		left := s.person(t, st.c, "Ada Quill", "aquill")
		stays := s.person(t, st.c, "Bram Tern", "btern")
		for dn, number := range map[string]string{left: "7001", stays: "7002"} {
			require.Zero(t, modify(st.c, dn, func(r *ldap.ModifyRequest) { r.Replace("employeeNumber", []string{number}) }))
		}
		list, err := roster.Read(strings.NewReader("id,family,given,mail,end\n7001,Quill,Ada,,2020-01-31\n7002,Tern,Bram,,\n7003,Birk,Clara,,\n"), "people", roster.Options{})
		require.NoError(t, err)
		people := list.People(time.Now().UTC().Truncate(24*time.Hour), roster.TrustStatus)
		want := []string{"leaver-enabled aquill", "no-account Birk, Clara (7003)"}
		survey, err := st.c.Survey(ctx)
		require.NoError(t, err)
		report, got := found(t, st, survey, people)
		assert.Equal(t, want, slices.DeleteFunc(slices.Clone(got), func(f string) bool { return strings.HasPrefix(f, "roster-drift") }))
		file, _ := fileOf(t, st.c)
		again, err := file.Survey(ctx)
		require.NoError(t, err)
		_, fromFile := found(t, st, again, people)
		assert.Equal(t, got, fromFile, "an export says the same")
		assert.Equal(t, 2, report.Roster.ByKey[reconcile.ByPersonID])

		// A link by the server's own identity outranks the person id.
		var raw string
		for a := range survey.Accounts.All() {
			if a.Logon == "aquill" {
				raw = a.ID
			}
		}
		require.NotEmpty(t, raw)
		_, linked := found(t, st, survey, people, reconcile.Link{Account: raw, Person: "id:7003"})
		assert.NotContains(t, linked, "leaver-enabled aquill")
		assert.NotContains(t, linked, "no-account Birk, Clara (7003)")

		b := st.mustStage("disable", "", left)
		_, applied := st.apply(b)
		require.Equal(t, batch.Applied, applied.Lines[0].State, applied.Lines[0].Note)
		survey, err = st.c.Survey(ctx)
		require.NoError(t, err)
		_, after := found(t, st, survey, people)
		assert.NotContains(t, after, "leaver-enabled aquill")
		st.undo(b)
		st.verify()
	})
}
