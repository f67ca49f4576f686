package whole

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAFileIsWrittenWholeOrNotAtAll(t *testing.T) {
	path := filepath.Join(t.TempDir(), "findings.csv")
	put := func(text string, fail error) error {
		return Write(path, func(w io.Writer) error {
			_, err := io.WriteString(w, text)
			return errors.Join(err, fail)
		})
	}
	require.NoError(t, put("first", nil))
	require.NoError(t, os.Chmod(path, 0o644))
	broken := errors.New("broken")
	require.ErrorIs(t, put("half", broken), broken)
	require.NoError(t, put("second", nil))
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "second", string(text))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o644), info.Mode().Perm())
	left, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	assert.Len(t, left, 1)
	below := filepath.Join(path, "below a file")
	for _, write := range []func(string, func(io.Writer) error) error{Write, Share} {
		assert.EqualError(t, write(below, func(io.Writer) error { return nil }), "open "+below+": not a directory", "the name is the one that was asked for")
	}
}

func TestADeviceIsNotReplaced(t *testing.T) {
	require.NoError(t, Write(os.DevNull, func(w io.Writer) error {
		_, err := io.WriteString(w, "gone")
		return err
	}))
	info, err := os.Stat(os.DevNull)
	require.NoError(t, err)
	assert.False(t, info.Mode().IsRegular())
}

func TestWhatIsAbandonedLeavesNothing(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "findings.csv")
	require.NoError(t, Write(path, func(w io.Writer) error { return nil }))
	err := Write(path, func(w io.Writer) error {
		_, err := io.WriteString(w, "half")
		Abandon()
		return err
	})
	assert.Error(t, err, "it can have its name no more")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Equal(t, "findings.csv", left[0].Name(), "what is written stays")
}
