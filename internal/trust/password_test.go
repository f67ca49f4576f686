package trust

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAPasswordIsReadFromWhereItIsKept(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "auditor")
	require.NoError(t, os.WriteFile(file, []byte("from a file\r\nmore\n"), 0o600))
	t.Setenv("YARD_TEST_PASSWORD", "from a variable")
	for want, kept := range map[string]Kept{
		"from a file":     {File: file},
		"from a variable": {Env: "YARD_TEST_PASSWORD"},
		"from a command":  {Command: "echo from a command"},
	} {
		got, err := kept.Read(t.Context())
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for why, kept := range map[string]Kept{
		"password_file":    {File: filepath.Join(dir, "none")},
		"is not set":       {Env: "YARD_TEST_NONE"},
		"password_command": {Command: "exit 3"},
	} {
		_, err := kept.Read(t.Context())
		assert.ErrorContains(t, err, why)
	}
	assert.True(t, Kept{}.Nowhere())
}

func TestAServiceIsHandedItsCredential(t *testing.T) {
	handed := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(handed, "auditor"), []byte("handed\n"), 0o400))
	t.Setenv("CREDENTIALS_DIRECTORY", handed)
	got, err := Kept{File: "/etc/yardbroom/auditor"}.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "handed", got)
}
