package conformance

import (
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"

	"yardbroom/internal/realserver"
)

// inNamespace is set for a test that runs in a network namespace of its own.
const inNamespace = "YARDBROOM_TEST_NETWORK"

// ownNetwork runs the test that calls it once more, in namespaces of its own, of
// the network, where servers with fixed ports are in nobody's way, and of mounts. It is true there.
func ownNetwork(t *testing.T) bool {
	t.Helper()
	if os.Getenv(inNamespace) != "" {
		return true
	}
	realserver.Program(t, "unshare", "util-linux")
	realserver.Program(t, "ip", "iproute2")
	realserver.Root(t, "a network namespace can be made")
	if out, err := exec.Command("unshare", "--net", "--mount", "true").CombinedOutput(); err != nil {
		t.Skipf("network namespaces are not allowed here: %s", out)
	}
	cmd := exec.Command("unshare", "--net", "--mount", "sh", "-c", `ip link set lo up && exec "$0" "$@"`, os.Args[0], "-test.run=^"+t.Name()+"$", "-test.v")
	cmd.Env = append(os.Environ(), inNamespace+"=1")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return false
}
