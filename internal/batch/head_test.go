package batch

import (
	"crypto/ed25519"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"yardbroom/internal/store"
)

func newKey(t *testing.T) (ssh.Signer, string) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	with, err := ssh.NewSignerFromSigner(private)
	require.NoError(t, err)
	return with, string(ssh.MarshalAuthorizedKey(with.PublicKey()))
}

// TestAJournalWrittenAnewDoesNotMatchItsSignedHeads is about somebody who may
// write the state folder and computes every hash anew, but has no key.
func TestAJournalWrittenAnewDoesNotMatchItsSignedHeads(t *testing.T) {
	ctx, dir := t.Context(), t.TempDir()
	s, err := store.Open(ctx, dir)
	require.NoError(t, err)
	for _, who := range []string{"ada", "bram", "cleo"} {
		_, err := s.Append(ctx, &store.Record{At: time.Unix(1000, 0).UTC(), By: who, Event: "line"})
		require.NoError(t, err)
	}
	with, public := newKey(t)
	head, err := SignHead(ctx, s, with, "ada", time.Unix(2000, 0).UTC())
	require.NoError(t, err)
	assert.Equal(t, 3, head.Seq)
	_, err = s.Append(ctx, &store.Record{At: time.Unix(3000, 0).UTC(), By: "dora", Event: "line"})
	require.NoError(t, err)

	allowed := filepath.Join(dir, "allowed")
	signers := func(line string) Signers {
		require.NoError(t, os.WriteFile(allowed, []byte(line), 0o600))
		all, err := ReadSigners(allowed)
		require.NoError(t, err)
		return all
	}
	heads, err := VerifyHeads(ctx, s, signers("ada@larkmoor.example "+public))
	require.NoError(t, err)
	require.Len(t, heads, 1)
	assert.Equal(t, "ada@larkmoor.example", heads[0].Principal)
	_, other := newKey(t)
	_, err = VerifyHeads(ctx, s, signers("ada@larkmoor.example "+other))
	require.ErrorContains(t, err, "is not among the allowed signers")
	_, err = VerifyHeads(ctx, s, signers(`ada@larkmoor.example namespaces="`+SignatureNamespace+`" `+public))
	require.ErrorContains(t, err, "is not allowed for journal@yardbroom")
	require.NoError(t, s.Close())

	writeAnew(t, filepath.Join(dir, "yardbroom.db"), `UPDATE journal SET record = replace(record, 'bram', 'eve')`)
	s, err = store.Open(ctx, dir)
	require.NoError(t, err)
	defer s.Close()
	_, err = s.Verify(ctx, "")
	require.NoError(t, err, "the chain alone does not show it")
	_, err = VerifyHeads(ctx, s, nil)
	require.ErrorContains(t, err, "the signature on the head of record 3: that record has another hash now")
}

// writeAnew changes a journal and computes every hash again.
func writeAnew(t *testing.T, path, change string) {
	t.Helper()
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.ExecContext(t.Context(), change)
	require.NoError(t, err)
	head := "yardbroom journal"
	for seq := 1; ; seq++ {
		var record string
		if db.QueryRowContext(t.Context(), "SELECT record FROM journal WHERE seq = ?", seq).Scan(&record) != nil {
			return
		}
		sum := sha256.Sum256(fmt.Appendf(nil, "%s\n%d\n%s", head, seq, record))
		head = hex.EncodeToString(sum[:])
		_, err := db.ExecContext(t.Context(), "UPDATE journal SET hash = ? WHERE seq = ?", head, seq)
		require.NoError(t, err)
	}
}
