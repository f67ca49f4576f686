package store

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheLaterSignInStays(t *testing.T) {
	s := open(t, t.TempDir())
	day := time.Date(2026, 11, 3, 8, 0, 0, 0, time.UTC)
	require.NoError(t, s.KeepSignIns(t.Context(), "here", []SignIn{{"1", "PC1", "Kerberos", day}, {"1", "PC2", "NTLM", day.Add(time.Hour)}, {"2", "", "LDAP", day}}))
	require.NoError(t, s.KeepSignIns(t.Context(), "here", []SignIn{{"1", "PC1", "Kerberos", day.Add(-time.Hour)}, {"2", "", "LDAP", day.Add(time.Minute)}}))
	require.NoError(t, s.KeepSignIns(t.Context(), "there", []SignIn{{"1", "PC9", "LDAP", day.AddDate(0, 1, 0)}}))
	all, err := s.SignIns(t.Context(), "here")
	require.NoError(t, err)
	assert.ElementsMatch(t, []SignIn{{"1", "PC2", "NTLM", day.Add(time.Hour)}, {"2", "", "LDAP", day.Add(time.Minute)}}, all)
}
