package source

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRealmsOnOneLineAreSpread(t *testing.T) {
	for text, want := range map[string]string{
		"[realms]\n X.EXAMPLE = { kdc = a:88 }\n":                  "[realms]\n X.EXAMPLE = {\n  kdc = a:88\n}\n",
		"[realms]\nX = { kdc = a kdc = b admin_server = c }":       "[realms]\nX = {\n  kdc = a\n  kdc = b\n  admin_server = c\n}",
		"[realms]\n X = {}\n":                                      "[realms]\n X = {\n}\n",
		"[realms]\n X = {\n  kdc = a\n }\n[libdefaults]\n a = b\n": "[realms]\n X = {\n  kdc = a\n }\n[libdefaults]\n a = b\n",
		"# X = { kdc = a }\n":                                      "# X = { kdc = a }\n",
	} {
		assert.Equal(t, want, spreadRealms(text), text)
	}
}

func TestAKerberosConfigurationNeverStopsTheProgram(t *testing.T) {
	dir := t.TempDir()
	cache := filepath.Join(dir, "cache")
	require.NoError(t, os.WriteFile(cache, []byte("nothing"), 0o600))
	for _, text := range []string{"[realms]\n X = { kdc = a }\n", "[realms]\n X = {\n", "[realms]\n{\n}\n", "= = {", "[libdefaults]\n default_realm = X\n[realms]\n X = { kdc = {", "\x00"} {
		conf := filepath.Join(dir, "krb5.conf")
		require.NoError(t, os.WriteFile(conf, []byte(text), 0o600))
		_, err := kerberosClient(cache, conf)
		assert.Error(t, err, text) // the cache is none
		_, err = kerberosClient(filepath.Join(dir, "no cache"), conf)
		assert.Error(t, err, text)
	}
	_, err := kerberosClient(cache, filepath.Join(dir, "missing"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "yardbroom-krb5-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
