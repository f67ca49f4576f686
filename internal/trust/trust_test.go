//go:build unix

package trust

import (
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// folder makes a folder of a mode below others.
func folder(t *testing.T, mode os.FileMode, names ...string) string {
	path := filepath.Join(append([]string{t.TempDir()}, names...)...)
	require.NoError(t, os.MkdirAll(path, 0o700))
	require.NoError(t, os.Chmod(path, mode))
	return path
}

func TestAFolderThatOthersMayWriteInIsRefused(t *testing.T) {
	for mode, want := range map[os.FileMode]string{0o700: "", 0o755: "", 0o750: "", 0o770: "others may write", 0o777: "others may write", 0o777 | os.ModeSticky: "others may write", 0o702: "others may write"} {
		err := Folder(folder(t, mode))
		if want == "" {
			assert.NoError(t, err, "%o", mode)
		} else {
			assert.ErrorContains(t, err, want, "%o", mode)
		}
	}
	assert.Error(t, Folder(filepath.Join(t.TempDir(), "nothing")))
}

func TestTheWayToAFolderIsLookedAtToo(t *testing.T) {
	inner := folder(t, 0o700, "open", "inner")
	require.NoError(t, os.Chmod(filepath.Dir(inner), 0o777))
	assert.ErrorContains(t, Folder(inner), "in which others may write")
	require.NoError(t, os.Chmod(filepath.Dir(inner), 0o777|os.ModeSticky))
	assert.NoError(t, Folder(inner), "what is in it is safe from them")

	link := filepath.Join(t.TempDir(), "link")
	require.NoError(t, os.Symlink(folder(t, 0o777), link))
	assert.ErrorContains(t, Folder(link), "others may write", "a link is what it leads to")
}

func TestAFolderOfSomebodyElseIsRefused(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can give folders away")
	}
	path := folder(t, 0o700, "a", "b")
	require.NoError(t, os.Chown(path, 12345, 12345))
	assert.ErrorContains(t, Folder(path), "belongs to somebody else (user 12345)")
	require.NoError(t, os.Chown(path, 0, 0))
	require.NoError(t, os.Chown(filepath.Dir(path), 12345, 12345))
	assert.ErrorContains(t, Folder(path), "belongs to somebody else (user 12345)")
}

func TestASecretThatOthersMayReadIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(path, []byte("x"), 0o600))
	for _, mode := range []os.FileMode{0o600, 0o400} {
		require.NoError(t, os.Chmod(path, mode))
		text, err := ReadSecret(path)
		require.NoError(t, err)
		assert.Equal(t, "x", string(text))
	}
	for _, mode := range []os.FileMode{0o640, 0o644, 0o604, 0o660, 0o620, 0o602} {
		require.NoError(t, os.Chmod(path, mode))
		_, err := ReadSecret(path)
		assert.ErrorContains(t, err, "chmod 600", "%o", mode)
	}
}

func TestANewFileIsNobodyElses(t *testing.T) {
	dir := folder(t, 0o700)
	path := filepath.Join(dir, "new")
	file, err := Create(path)
	require.NoError(t, err)
	defer file.Close()
	info, err := file.Stat()
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	_, err = Create(path)
	assert.ErrorContains(t, err, "there is something of that name")
	require.NoError(t, os.Symlink(filepath.Join(dir, "elsewhere"), filepath.Join(dir, "link")))
	_, err = Create(filepath.Join(dir, "link"))
	assert.ErrorContains(t, err, "there is something of that name")
	_, err = Create(filepath.Join(folder(t, 0o777), "new"))
	assert.ErrorContains(t, err, "others may write")
}

func TestTheProcessHidesItsMemory(t *testing.T) {
	status := "/proc/" + strconv.Itoa(os.Getpid()) + "/status"
	if _, err := os.Stat(status); err != nil {
		t.Skip("there is no /proc here")
	}
	Hide()
	info, err := os.Stat("/proc/self/mem")
	require.NoError(t, err)
	uid, known := owner(info)
	assert.True(t, known)
	assert.Zero(t, uid, "what cannot be dumped belongs to root")
	limits, err := os.ReadFile("/proc/self/limits")
	require.NoError(t, err)
	assert.Regexp(t, `Max core file size +0 +0`, string(limits))
}
