package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/realserver"
)

// A copy in memory hides nothing, and need not know what an exemption goes by, here an
// attribute of the directory's own schema: no line is refused in a rehearsal for what cannot
// be told there.
func TestARehearsalAsksItsCopyForNoRights(t *testing.T) {
	server := realserver.OpenLDAPWith(t, "attributetype ( 1.1.2.1.1 NAME 'domeTag' EQUALITY caseIgnoreMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15 )\n")
	dir := t.TempDir()
	config := filepath.Join(dir, "settings.yaml")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "password"), []byte(server.Password), 0o600))
	require.NoError(t, os.WriteFile(config, []byte(`default: observatory
yards:
  observatory: {servers: ["`+server.TLSURL+`"], base: "`+server.Base+`", ca_file: "`+server.Yard.CAFile+`", bind: {dn: "`+server.Yard.Bind.DN+`", password_file: password}}
exemptions:
  - {match: {filter: "(domeTag=east)"}, reason: an old server, owner: rosa@larkmoor.example}
`), 0o600))
	run := func(args ...string) string {
		out, err := program(t, []string{"YARDBROOM_CONFIG=" + config, "YARDBROOM_STATE=" + filepath.Join(dir, "state")}, args...).CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	run("stage", "describe", "--text", "left", "reader")
	assert.Contains(t, run("apply", "1", "--rehearse"), "1 of 1 line would be done")
	assert.Contains(t, run("apply", "1", "--yes"), "Batch 1: 1 done")
}
