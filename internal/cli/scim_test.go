package cli

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestARosterComesFromAService runs the built program against a SCIM service.
func TestARosterComesFromAService(t *testing.T) {
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer s3cret" {
			http.Error(w, "no", http.StatusUnauthorized)
			return
		}
		fmt.Fprint(w, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"totalResults":1,"Resources":[{"userName":"nivarsen@larkmoor.example",
			"name":{"familyName":"Ivarsen","givenName":"Nadia"},"active":false,"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User":{"employeeNumber":"20363"}}]}`)
	}))
	defer service.Close()
	dir := t.TempDir()
	in, token, wrong := filepath.Join(dir, "in.ldif"), filepath.Join(dir, "token"), filepath.Join(dir, "wrong")
	require.NoError(t, os.WriteFile(in, demoLDIF(t), 0o600))
	require.NoError(t, os.WriteFile(token, []byte("s3cret\n"), 0o600))
	require.NoError(t, os.WriteFile(wrong, []byte("guess\n"), 0o600))
	run := func(args ...string) (string, error) {
		out, err := program(t, []string{"YARDBROOM_STATE=" + dir, "YARDBROOM_CONFIG=" + os.DevNull}, args...).CombinedOutput()
		return string(out), err
	}
	out, err := run("reconcile", "--roster", service.URL+"/scim/v2", "--roster-token-file", token, "--from", in, "--check", "leaver-enabled", "--format", "csv")
	require.NoError(t, err, out)
	assert.Contains(t, out, "leaver-enabled,high,user,nivarsen")
	out, err = run("reconcile", "--roster", service.URL+"/scim/v2", "--roster-token-file", wrong, "--from", in)
	require.Error(t, err)
	assert.Contains(t, out, "it answers 401")
	assert.NotContains(t, out, "guess", "a token is never shown")
	// What was read stays the yard's roster when the service is gone, and the
	// token is nowhere in the state folder.
	service.Close()
	out, err = run("show", "--from", in, "nivarsen")
	require.NoError(t, err, out)
	assert.Contains(t, out, "Ivarsen, Nadia (20363), left")
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || path == token {
			return err
		}
		text, err := os.ReadFile(path)
		assert.NotContains(t, string(text), "s3cret", path)
		return err
	}))
}
