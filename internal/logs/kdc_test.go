package logs

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/realserver"
)

// A key server of MIT signs people in and refuses them; its log, whose times have
// neither year nor zone, says the same.
func TestKeyServer(t *testing.T) {
	k := realserver.MIT(t)
	for _, command := range []string{"addprinc -pw Right-secret1 ada.quill", "addprinc -pw Right-secret1 bo.off", "modprinc -allow_tix bo.off",
		"addprinc -pw Right-secret1 cleo.old", "modprinc -expire 2020-01-01 cleo.old", "addpol -maxfailure 2 strict", "addprinc -pw Right-secret1 -policy strict dov"} {
		k.Admin(t, command)
	}
	began := time.Now().Truncate(time.Second)
	require.True(t, k.SignIn(t, "ada.quill", "Right-secret1"))
	require.False(t, k.SignIn(t, "ada.quill", "wrong"))
	require.False(t, k.SignIn(t, "bo.off", "Right-secret1"))
	require.False(t, k.SignIn(t, "cleo.old", "Right-secret1"))
	require.False(t, k.SignIn(t, "no.body", "wrong"))
	for range 3 {
		require.False(t, k.SignIn(t, "dov", "wrong"))
	}
	text, err := os.ReadFile(k.Log)
	require.NoError(t, err)
	events, report := readAll(t, string(text), &Options{Zone: time.Local, Written: time.Now()}, nil)
	assert.Zero(t, report.Broken, report.Fault)
	whys := map[string][]Why{}
	for _, e := range events {
		assert.Equal(t, "127.0.0.1", e.Address.String())
		assert.WithinRange(t, e.At, began, time.Now())
		assert.Equal(t, "Kerberos", e.Via)
		if e.What == Refused {
			whys[e.Name] = append(whys[e.Name], e.Why)
		} else {
			whys[e.Name] = append(whys[e.Name], WhyOther)
		}
	}
	assert.Equal(t, map[string][]Why{"ada.quill@LARKMOOR.EXAMPLE": {WhyOther, WrongPassword}, "bo.off@LARKMOOR.EXAMPLE": {Revoked}, "cleo.old@LARKMOOR.EXAMPLE": {AccountExpired},
		"no.body@LARKMOOR.EXAMPLE": {NoSuchAccount}, "dov@LARKMOOR.EXAMPLE": {WrongPassword, WrongPassword, AccountLocked}}, whys)
}
