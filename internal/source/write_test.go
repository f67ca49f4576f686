package source

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOneFileWrites says that nothing but write.go sends a change to a server,
// and that no package above speaks the protocol.
func TestOneFileWrites(t *testing.T) {
	allowed := []string{"internal/source/", "internal/practice/", "internal/realserver/", "internal/filter/", "bench/"}
	writes := regexp.MustCompile(`\bldap\.New(Modify|Add|Del|ModifyDN|PasswordModify)\w*Request|\.conn\.(Modify|Add|Del|ModifyDN|PasswordModify)\(`)
	require.NoError(t, filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		name := filepath.ToSlash(strings.TrimPrefix(path, filepath.Join("..", "..")+string(filepath.Separator)))
		if err != nil || d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		in := false
		for _, prefix := range allowed {
			in = in || strings.HasPrefix(name, prefix)
		}
		if !in {
			assert.NotContains(t, string(text), `"github.com/go-ldap/ldap`, name)
		}
		if !strings.HasPrefix(name, "bench/") && !strings.HasPrefix(name, "internal/realserver/") && name != "internal/source/write.go" {
			assert.Empty(t, writes.FindString(string(text)), "%s writes by itself", name)
		}
		return nil
	}))
}

func TestRefusalsAreOfAKindThatCallersDecideOn(t *testing.T) {
	answer := func(code uint16, text string) error { return &ldap.Error{ResultCode: code, Err: errors.New(text)} }
	for _, c := range []struct {
		err  error
		why  Reason
		text string
	}{
		{answer(ldap.LDAPResultNoSuchAttribute, ""), Drifted, "the server refused: a value that was to be taken out is not there"},
		{answer(ldap.LDAPResultAssertionFailed, "x"), Drifted, "the server refused: the entry is not as it was read (assertion failed) (x)"},
		{answer(ldap.LDAPResultInsufficientAccessRights, ""), Denied, "the server refused: the bound account may not do this"},
		{answer(ldap.LDAPResultEntryAlreadyExists, ""), Taken, "the server refused: an entry of that name exists"},
		{answer(ldap.LDAPResultUnwillingToPerform, "no\r\n\x1b[31mway\x00"), Unsupported, "the server refused: Unwilling To Perform (no [31mway)"},
		{answer(ldap.LDAPResultObjectClassViolation, ""), Needed, "the server refused: Object Class Violation"},
		{answer(ldap.LDAPResultNotAllowedOnNonLeaf, ""), NotEmpty, "the server refused: there are entries below it"},
		{answer(ldap.LDAPResultConstraintViolation, ""), Unfit, "the server refused: Constraint Violation"},
		{answer(ldap.LDAPResultOther, ""), Other, "the server refused: Other"},
		{answer(ldap.LDAPResultAttributeOrValueExists, ""), Drifted, "the server refused: a value that was to be put in is there"},
	} {
		got := refusal(fmt.Errorf("on the way: %w", c.err))
		assert.True(t, RefusedFor(got, c.why), c.text)
		assert.EqualError(t, got, c.text)
		assert.False(t, Lost(got))
		assert.False(t, RefusedFor(got, Missing), c.text)
	}
	for _, err := range []error{errors.New("connection reset"), answer(ldap.LDAPResultBusy, ""), answer(ldap.ErrorNetwork, "")} {
		assert.True(t, Lost(refusal(err)), "nobody knows what became of it")
		assert.False(t, RefusedFor(refusal(err), Other))
	}
	assert.NoError(t, refusal(nil))
}
