package conformance

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"yardbroom/internal/batch"
	"yardbroom/internal/carry"
	"yardbroom/internal/directory"
)

// signer makes a key and puts it on the list of allowed signers.
func (st *story) signer(principal, options string) ssh.Signer {
	st.t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(st.t, err)
	with, err := ssh.NewSignerFromKey(private)
	require.NoError(st.t, err)
	if st.set.Signing.AllowedSigners == "" {
		st.set.Signing.AllowedSigners = filepath.Join(st.t.TempDir(), "allowed_signers")
	}
	file, err := os.OpenFile(st.set.Signing.AllowedSigners, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(st.t, err)
	defer file.Close()
	_, err = fmt.Fprintf(file, "# colleagues\n%s %s %s", principal, options, ssh.MarshalAuthorizedKey(with.PublicKey()))
	require.NoError(st.t, err)
	return with
}

// agree lets the holder of a key sign a batch.
func (st *story) agree(b *batch.Batch, with ssh.Signer) error {
	armored, err := batch.Sign(b, with)
	require.NoError(st.t, err)
	signers, err := batch.ReadSigners(st.set.Signing.AllowedSigners)
	require.NoError(st.t, err)
	sig, err := signers.Verify(b, armored, time.Now())
	if err != nil {
		return err
	}
	return b.AddSignature(context.Background(), st.Store, signers, sig, "somebody@here")
}

// sign lets a colleague sign a batch.
func (st *story) sign(b *batch.Batch) {
	st.t.Helper()
	require.NoError(st.t, st.agree(b, st.signer("mira@larkmoor.example", "")))
}

func TestABatchThatNeedsSignaturesWaitsForThem(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	ctx := context.Background()
	st.set.Signing.Needed = map[string]int{batch.Delete: 2}
	ada, bram := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern")
	for _, dn := range []string{ada, bram} {
		s.dir.Edit(dn, func(e *directory.Entry) { e.Set("userAccountControl", "514") })
	}
	b := st.mustStage(batch.Delete, "", ada, bram)
	refused := func(want string) {
		t.Helper()
		kept, err := batch.Load(ctx, st.Store, b.ID)
		require.NoError(t, err)
		_, err = st.job(kept).Run(ctx, carry.Pace{})
		require.ErrorIs(t, err, batch.ErrNotSigned)
		assert.ErrorContains(t, err, want)
		assert.NotNil(t, s.dir.Entry(ada))
	}
	refused("allowed signers")
	mira, noor, self := st.signer("mira@larkmoor.example", ""), st.signer(`"noor@larkmoor.example"`, `namespaces="batch@yardbroom,git"`), st.signer("tester@larkmoor.example", "")
	_, stranger, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	unknown, err := ssh.NewSignerFromKey(stranger)
	require.NoError(t, err)
	late, other := st.signer("late@larkmoor.example", `valid-before="20200101Z"`), st.signer("other@larkmoor.example", `namespaces="file"`)

	refused("needs 2 signatures, since it has the action delete, and has none")
	assert.ErrorContains(t, st.agree(b, self), "staged or changed this batch")
	assert.ErrorContains(t, st.agree(b, unknown), "not among the allowed signers")
	assert.ErrorContains(t, st.agree(b, late), "not valid now")
	assert.ErrorContains(t, st.agree(b, other), "not allowed for batch@yardbroom")
	require.NoError(t, st.agree(b, mira))
	assert.ErrorContains(t, st.agree(b, mira), "signed it already")
	refused("and has one")
	require.NoError(t, st.agree(b, noor))

	// A change makes them void, and whoever made it cannot sign.
	_, err = b.Drop(ctx, st.Store, []string{"btern"}, "noor@desk", time.Now())
	require.NoError(t, err)
	refused("and has none")
	require.NoError(t, st.agree(b, mira))
	assert.ErrorContains(t, st.agree(b, noor), "staged or changed")
	third := st.signer("ola@larkmoor.example", "")
	require.NoError(t, st.agree(b, third))
	res, kept := st.apply(b)
	assert.Equal(t, map[batch.LineState]int{batch.Applied: 1, batch.Dropped: 1}, res.Counts, kept.Lines[0].Note)
	st.verify()

	// A signature of another batch, or a damaged one, is none.
	armored, err := batch.Sign(b, mira)
	require.NoError(t, err)
	signers, err := batch.ReadSigners(st.set.Signing.AllowedSigners)
	require.NoError(t, err)
	next := st.mustStage(batch.Delete, "", bram)
	_, err = signers.Verify(next, armored, time.Now())
	assert.ErrorContains(t, err, "not of this batch as it is now")
	for i := range armored {
		damaged := append([]byte{}, armored...)
		damaged[i] ^= 1
		if sig, err := signers.Verify(kept, damaged, time.Now()); err == nil {
			again, err := signers.Verify(kept, armored, time.Now())
			require.NoError(t, err)
			require.Equal(t, again.Principal, sig.Principal, "only what does not matter, such as a line's end, may differ: octet %d", i)
		}
	}
}

func TestWhoStagesIsProvedByAKeyAndCannotSignWithAnother(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	ctx := context.Background()
	st.set.Signing.Proved = nil // as it is where nothing is set
	st.set.Signing.Needed = map[string]int{batch.Delete: 1}
	ada := s.person(t, st.c, "Ada Quill", "aquill")
	s.dir.Edit(ada, func(e *directory.Entry) { e.Set("userAccountControl", "514") })
	mine, second, mira := st.signer("pia@larkmoor.example", ""), st.signer("PIA@laptop,pia2", ""), st.signer("mira@larkmoor.example", "")
	signers, err := batch.ReadSigners(st.set.Signing.AllowedSigners)
	require.NoError(t, err)

	// The name that the operating system gives proves nothing.
	b := st.mustStage(batch.Delete, "", ada)
	require.NoError(t, st.agree(b, mira))
	kept, err := batch.Load(ctx, st.Store, b.ID)
	require.NoError(t, err)
	_, err = st.job(kept).Run(ctx, carry.Pace{})
	require.ErrorIs(t, err, batch.ErrNotSigned)
	require.ErrorContains(t, err, "staged by an unproved name, tester, which is not enough since it has the action delete")

	b = st.mustStage(batch.Delete, "", ada)
	who, err := b.Prove(ctx, st.Store, signers, mine, "root@vm", time.Now())
	require.NoError(t, err)
	assert.Equal(t, "pia@larkmoor.example", who)
	assert.ErrorContains(t, st.agree(b, mine), "staged or changed this batch")
	assert.ErrorContains(t, st.agree(b, second), "staged or changed this batch", "another key of the same person, by another spelling")
	kept, err = batch.Load(ctx, st.Store, b.ID)
	require.NoError(t, err)
	_, err = st.job(kept).Run(ctx, carry.Pace{})
	require.ErrorContains(t, err, "needs a signature")
	require.NoError(t, st.agree(b, mira))
	res, _ := st.apply(b)
	assert.Equal(t, 1, res.Counts[batch.Applied])

	// What is harmless needs no proof.
	bram := s.person(t, st.c, "Bram Tern", "btern")
	res, _ = st.apply(st.mustStage(batch.Disable, "", bram))
	assert.Equal(t, 1, res.Counts[batch.Applied])
	// A proof is no agreement.
	agreed, err := b.Agreement(ctx, st.Store, st.set, time.Now())
	require.NoError(t, err)
	assert.Equal(t, 1, agreed.Valid)
	_, err = b.Prove(ctx, st.Store, signers[:1], mira, "root@vm", time.Now())
	assert.ErrorContains(t, err, "not among the allowed signers")
}

func TestOnePersonWithTwoKeysCountsOnce(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	st.set.Signing.Needed = map[string]int{batch.Delete: 2}
	ada := s.person(t, st.c, "Ada Quill", "aquill")
	s.dir.Edit(ada, func(e *directory.Entry) { e.Set("userAccountControl", "514") })
	b := st.mustStage(batch.Delete, "", ada)
	require.NoError(t, st.agree(b, st.signer("mira@larkmoor.example", "")))
	require.NoError(t, st.agree(b, st.signer("Mira@laptop", "")))
	agreed, err := b.Agreement(context.Background(), st.Store, st.set, time.Now())
	require.NoError(t, err)
	assert.Equal(t, 1, agreed.Valid)
	assert.False(t, agreed.Enough())
}

func TestADayHasItsLimit(t *testing.T) {
	s := practiceSubject(t)
	st := newStory(t, s)
	ctx := context.Background()
	st.set.Batch.DayLines = 3
	ada, bram, cleo := s.person(t, st.c, "Ada Quill", "aquill"), s.person(t, st.c, "Bram Tern", "btern"), s.person(t, st.c, "Cleo Vane", "cvane")
	first := st.mustStage(batch.Disable, "", ada, bram)
	res, _ := st.apply(first)
	require.Equal(t, 2, res.Counts[batch.Applied])
	second := st.mustStage("describe", "", bram, cleo)
	kept, err := batch.Load(ctx, st.Store, second.ID)
	require.NoError(t, err)
	_, err = st.job(kept).Run(ctx, carry.Pace{})
	assert.ErrorContains(t, err, "in the last 24 hours 2 entries were changed")
	assert.ErrorContains(t, err, "--day-lines 4")
	res, err = st.job(kept).Run(ctx, carry.Pace{Only: 1})
	require.NoError(t, err)
	assert.True(t, res.Planned)
	assert.Equal(t, map[batch.LineState]int{batch.Applied: 1, batch.Waiting: 1}, res.Counts)
	res, _ = st.undo(first)
	assert.Equal(t, 2, res.Counts[batch.Applied], "taking back is not held up")
	r := st.job(kept)
	r.Now = func() time.Time { return time.Now().Add(25 * time.Hour) }
	res, err = r.Run(ctx, carry.Pace{})
	require.NoError(t, err)
	assert.Equal(t, map[batch.LineState]int{batch.Applied: 2}, res.Counts)
}
