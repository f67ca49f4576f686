package conformance

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/directory"
	"yardbroom/internal/realserver"
)

// otherTool carries a file of change records out with ldapmodify.
func otherTool(t *testing.T, s *subject, file string) {
	t.Helper()
	cmd := exec.Command(realserver.Program(t, "ldapmodify", "ldap-utils"), "-x", "-H", s.yard.Servers[0], "-D", s.yard.Bind.DN, "-w", s.real.Password, "-f", file)
	cmd.Env = append(os.Environ(), "LDAPTLS_CACERT="+s.yard.CAFile)
	out, err := cmd.CombinedOutput()
	text, _ := os.ReadFile(file)
	require.NoError(t, err, "%s\n%s", out, text)
}

// TestAnExportedBatchIsForOtherToolsToo exports batches as change records, has
// ldapmodify carry them out, and take them back by the second file.
func TestAnExportedBatchIsForOtherToolsToo(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.real == nil {
			t.Skip("the practice directory is served for this tool only")
		}
		d, st := newDesk(t, s), newStory(t, s)
		d.crew(t, st, 3)
		before := normal(st.picture())
		file := filepath.Join(t.TempDir(), "b.ldif")
		undo := strings.TrimSuffix(file, ".ldif") + ".undo.ldif"

		d.staged(t, []string{"p0", "p1", "p2"})
		d.must(t, "batch", "export", "1", "--output", file)
		otherTool(t, s, file)
		d.allParked(t, st, 3)
		otherTool(t, s, undo)
		assert.Equal(t, before, normal(st.picture()))

		d.must(t, "stage", "delete", "--even-enabled", "p0", "p2")
		d.must(t, "batch", "export", "2", "--output", file)
		otherTool(t, s, file)
		assert.Nil(t, s.entry(t, st.c, s.DN("Person 0", "Staff")))
		assert.Len(t, s.entry(t, st.c, s.DN("Crew", "Groups")).Get("member"), 2)
		otherTool(t, s, undo)
		after := normal(st.picture())
		assert.Equal(t, keysOf(before), keysOf(after))
		for dn, attrs := range before {
			for name, values := range attrs {
				if name == "mail" || name == "displayName" || name == "sn" || strings.HasPrefix(name, "member") {
					assert.Equal(t, values, after[dn][name], "%s of %s", name, dn)
				}
			}
		}
		if s.dialect == directory.AD {
			assert.True(t, st.switchedOff(s.entry(t, st.c, s.DN("Person 2", "Staff"))), "it has no password, and is disabled")
		}
	})
}
