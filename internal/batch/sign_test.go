package batch

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// circle is a few people with keys, and a batch that one of them stages.
type circle struct {
	t    *testing.T
	ctx  context.Context
	dir  string
	st   *store.Store
	keys map[string]ssh.Signer
	set  settings.Settings
	now  time.Time
}

func newCircle(t *testing.T, people ...string) *circle {
	c := &circle{t: t, ctx: context.Background(), dir: t.TempDir(), keys: map[string]ssh.Signer{}, now: time.Unix(1800000000, 0).UTC()}
	var err error
	c.st, err = store.Open(c.ctx, c.dir)
	require.NoError(t, err)
	list := ""
	for _, who := range people {
		_, private, err := ed25519.GenerateKey(rand.Reader)
		require.NoError(t, err)
		c.keys[who], err = ssh.NewSignerFromKey(private)
		require.NoError(t, err)
		list += fmt.Sprintf("%s %s", who, ssh.MarshalAuthorizedKey(c.keys[who].PublicKey()))
	}
	c.set.Signing = settings.Signing{AllowedSigners: filepath.Join(t.TempDir(), "signers"), Proved: []string{Delete}}
	require.NoError(t, os.WriteFile(c.set.Signing.AllowedSigners, []byte(list), 0o600))
	return c
}

func (c *circle) staged(action string, privileged ...string) *Batch {
	b := &Batch{Identity: source.Identity{Dialect: "ad", Base: "DC=larkmoor,DC=example", ID: "S-1-5-21-1-2-3"}, Created: c.now, By: "root@vm", Actions: []string{action}}
	for i, name := range []string{"ada", "bram"} {
		b.Lines = append(b.Lines, Line{N: i + 1, DN: "CN=" + name + ",DC=larkmoor,DC=example", ID: fmt.Sprint(i), Account: name, Confidence: "sure", Privileged: privileged,
			Guard: []Guard{}, Actions: []Action{{Name: action}}, Changes: []Change{}})
	}
	require.NoError(c.t, b.Save(c.ctx, c.st))
	return b
}

func (c *circle) signers() Signers {
	all, err := ReadSigners(c.set.Signing.AllowedSigners)
	require.NoError(c.t, err)
	return all
}

func (c *circle) sign(b *Batch, who string) error {
	armored, err := Sign(b, c.keys[who])
	require.NoError(c.t, err)
	sig, err := c.signers().Verify(b, armored, c.now)
	if err != nil {
		return err
	}
	return b.AddSignature(c.ctx, c.st, c.signers(), sig, who)
}

func (c *circle) agreement(b *Batch) *Agreement {
	a, err := b.Agreement(c.ctx, c.st, &c.set, c.now)
	require.NoError(c.t, err)
	return a
}

func TestWhoStagedABatchDoesNotAgreeToIt(t *testing.T) {
	c := newCircle(t, "root@elsewhere", "mira@larkmoor.example", "keeper@larkmoor.example")
	b := c.staged(Disable, "Domain Admins")
	assert.Equal(t, "0 of 1 (it changes a privileged account)", c.agreement(b).String())
	assert.ErrorContains(t, c.sign(b, "root@elsewhere"), "staged or changed this batch", "by the name that the system knew")

	// Who has proved to have staged it is barred by every name of the key.
	principal, err := b.Prove(c.ctx, c.st, c.signers(), c.keys["keeper@larkmoor.example"], "root@vm", c.now)
	require.NoError(t, err)
	assert.Equal(t, "keeper@larkmoor.example", principal)
	assert.Equal(t, []string{"keeper@larkmoor.example"}, c.agreement(b).Stagers)
	assert.ErrorContains(t, c.sign(b, "keeper@larkmoor.example"), "staged or changed this batch")
	assert.False(t, c.agreement(b).Enough())

	require.NoError(t, c.sign(b, "mira@larkmoor.example"))
	a := c.agreement(b)
	assert.True(t, a.Enough())
	assert.Equal(t, 1, a.Valid)
	assert.ErrorContains(t, c.sign(b, "mira@larkmoor.example"), "has signed it already")

	// A line less is another batch: what was agreed to is void.
	n, err := b.Drop(c.ctx, c.st, []string{"bram"}, "root@vm", c.now)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	a = c.agreement(b)
	assert.False(t, a.Enough())
	require.Len(t, a.Signatures, 1)
	assert.Contains(t, a.Signatures[0].Void, "not of this batch as it is now")
	require.NoError(t, c.sign(b, "mira@larkmoor.example"))
	assert.True(t, c.agreement(b).Enough())

	require.NoError(t, b.Discard(c.ctx, c.st, "root@vm", c.now))
	assert.ErrorContains(t, c.sign(b, "mira@larkmoor.example"), "is discarded; there is nothing to agree to")
}

func TestWhoChangedABatchDoesNotAgreeToItEither(t *testing.T) {
	c := newCircle(t, "mira@larkmoor.example")
	b := c.staged(Disable, "Domain Admins")
	require.NoError(t, c.sign(b, "mira@larkmoor.example"))
	_, err := b.Drop(c.ctx, c.st, []string{"bram"}, "mira@vm", c.now)
	require.NoError(t, err)
	assert.ErrorContains(t, c.sign(b, "mira@larkmoor.example"), "staged or changed this batch")
}

func TestWhatIsDangerousIsStagedByAKey(t *testing.T) {
	c := newCircle(t, "mira@larkmoor.example", "keeper@larkmoor.example")
	assert.Empty(t, c.agreement(c.staged(Disable)).Unproved)
	b := c.staged(Delete)
	require.NoError(t, c.sign(b, "mira@larkmoor.example"))
	a := c.agreement(b)
	assert.Equal(t, []string{"it has the action delete"}, a.Unproved)
	assert.False(t, a.Enough())
	_, err := b.Prove(c.ctx, c.st, c.signers(), c.keys["keeper@larkmoor.example"], "root@vm", c.now)
	require.NoError(t, err)
	assert.True(t, c.agreement(b).Enough())
	c.set.Signing.Proved = []string{settings.ProvedPrivileged}
	assert.Equal(t, []string{"it is about privileged accounts or groups"}, c.agreement(c.staged(Disable, "Domain Admins")).Unproved)
	assert.Empty(t, c.agreement(c.staged(Disable)).Unproved)
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	stranger, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	_, err = b.Prove(c.ctx, c.st, c.signers(), stranger, "root@vm", c.now)
	assert.Error(t, err, "whose key nobody knows")

	// The list of signers decides at each moment.
	c.set.Signing.AllowedSigners = ""
	_, err = b.Agreement(c.ctx, c.st, &c.set, c.now)
	assert.ErrorIs(t, err, ErrNoSigners)
	c.set.Signing.AllowedSigners = filepath.Join(c.dir, "gone")
	_, err = b.Agreement(c.ctx, c.st, &c.set, c.now)
	assert.ErrorIs(t, err, os.ErrNotExist)
	assert.Empty(t, c.agreement(c.staged(Disable)).Signatures, "where nobody has signed, nobody need be known")
}

func TestNothingIsSignedOnABrokenJournal(t *testing.T) {
	c := newCircle(t, "mira@larkmoor.example")
	b := c.staged(Disable, "Domain Admins")
	db, err := sql.Open("sqlite", "file:"+filepath.Join(c.dir, "yardbroom.db"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.ExecContext(c.ctx, "UPDATE journal SET hash = replace(hash, substr(hash, 1, 1), 'x') WHERE seq = 1")
	require.NoError(t, err)
	assert.Error(t, c.sign(b, "mira@larkmoor.example"))
}

func TestGuardsNameTheAttributesThatTheyRead(t *testing.T) {
	assert.Equal(t, []string{"mail", "lastLogon"}, Attributes([]Guard{{Attr: "mail", Rule: Equal}, {Attr: "dn", Rule: Container}, {Attr: "lastLogon", Rule: NoLater},
		{Attr: "groups", Rule: Groups}, {Attr: "groups", Rule: IsMember}, {Attr: "groups", Rule: NotMember}}))
}

func TestWhatNeedsSignatures(t *testing.T) {
	in := []Membership{{DN: "cn=g", Attr: "member", Privileged: []string{"Domain Admins"}}}
	line := func(name string, groups []Membership) Line {
		return Line{Actions: []Action{{Name: name, Groups: groups}}}
	}
	for _, c := range []struct {
		b    Batch
		rule settings.Signing
		want string
	}{
		{Batch{Lines: []Line{line(Disable, nil)}}, settings.Signing{}, "none needed"},
		{Batch{Lines: []Line{line(Delete, nil)}}, settings.Signing{}, "0 of 1 (it has the action delete)"},
		{Batch{Lines: []Line{line(Delete, nil)}}, settings.Signing{Needed: map[string]int{Delete: 0}}, "none needed"},
		{Batch{Lines: []Line{line(Disable, nil), line(Delete, nil)}}, settings.Signing{Needed: map[string]int{Disable: 2}}, "0 of 2 (it has the action disable; it has the action delete)"},
		{Batch{Lines: []Line{line(ResetPassword, nil)}}, settings.Signing{}, "0 of 1 (it resets passwords)"},
		{Batch{Lines: []Line{line(ResetPassword, nil)}}, settings.Signing{Needed: map[string]int{ResetPassword: 0}}, "none needed"},
		{Batch{Lines: []Line{line(ResetPassword, nil)}}, settings.Signing{Needed: map[string]int{ResetPassword: 2}}, "0 of 2 (it resets passwords)"},
		{Batch{Lines: []Line{{Actions: []Action{{Name: ResetPassword}}, Privileged: []string{"g"}}}}, settings.Signing{Needed: map[string]int{ResetPassword: 0}}, "0 of 1 (it changes a privileged account)"},
		{Batch{Lines: []Line{line(Unmark, nil)}}, settings.Signing{Needed: map[string]int{Unmark: 0}}, "0 of 1 (it opens the permissions of what was privileged)"},
		{Batch{Lines: []Line{line(JoinGroup, in)}}, settings.Signing{}, "0 of 1 (it puts somebody into a privileged group)"},
		{Batch{Lines: []Line{line(LeaveGroup, in)}}, settings.Signing{}, "0 of 1 (it takes somebody out of a privileged group)"},
		{Batch{Lines: []Line{line(LeaveGroups, in)}}, settings.Signing{}, "0 of 1 (it takes somebody out of a privileged group)"},
		{Batch{Lines: []Line{{Actions: []Action{{Name: Disable}}, Privileged: []string{"g"}}}}, settings.Signing{}, "0 of 1 (it changes a privileged account)"},
		{Batch{Lines: []Line{{Actions: []Action{{Name: Disable}}, Privileged: []string{"g"}, State: Dropped}}}, settings.Signing{}, "none needed"},
		{Batch{EvenEnabled: true, Lines: []Line{line(Disable, nil)}}, settings.Signing{}, "0 of 1 (it may delete what is enabled)"},
		{Batch{Lines: []Line{line(Disable, nil), line(Disable, nil)}}, settings.Signing{Over: 2}, "none needed"},
		{Batch{Lines: []Line{line(Disable, nil), line(Disable, nil)}}, settings.Signing{Over: 1}, "0 of 1 (it has more than 1 line)"},
		{Batch{UndoOf: 3, Lines: []Line{line(Disable, nil), line(Disable, nil)}}, settings.Signing{Over: 1}, "none needed"},
		{Batch{Lines: []Line{{Actions: []Action{{Name: Move}}, Also: []Touched{{"CN=k", MovesAlong}, {"CN=g", "member"}}}}}, settings.Signing{Over: 1}, "0 of 1 (it has 1 lines, and 1 entries move along: more than 1)"},
		{Batch{Lines: []Line{{Actions: []Action{{Name: Move}}, Also: []Touched{{"CN=g", "member"}}}}}, settings.Signing{Over: 1}, "none needed"},
	} {
		n, because := c.b.needs(&c.rule)
		assert.Equal(t, c.want, (&Agreement{Needed: n, Because: because}).String())
	}
}

func TestAStatementSaysHowManyLinesAreLeft(t *testing.T) {
	b := &Batch{ID: 3, Actions: []string{Disable}, Lines: []Line{{N: 1}, {N: 2, State: Dropped}, {N: 3}}}
	text, err := b.Statement()
	require.NoError(t, err)
	assert.Contains(t, string(text), "\ndisable, 2 lines\n")
}

func TestALineTellsWhatElseItWrites(t *testing.T) {
	l := Line{Actions: []Action{{Name: LeaveGroup, Groups: []Membership{{DN: "CN=g", Attr: "member"}}}},
		Also: []Touched{{"CN=g", "member"}, {"CN=g", "managedBy"}, {"CN=h", "member"}, {"CN=k", MovesAlong}}}
	assert.Equal(t, []Touched{{"CN=g", "managedBy"}, {"CN=h", "member"}}, l.Touches())
}

func TestWhichLinesAloneNeedASignature(t *testing.T) {
	plain := func(n int) Line { return Line{N: n, Actions: []Action{{Name: Disable}}} }
	privileged := func(n int) Line {
		l := plain(n)
		l.Privileged = []string{"Domain Admins"}
		return l
	}
	dropped := privileged(9)
	dropped.State = Dropped
	for _, c := range []struct {
		lines []Line
		rule  settings.Signing
		want  string
	}{
		{[]Line{plain(1), privileged(2), plain(3), privileged(4), dropped}, settings.Signing{}, "\nwithout line 2,4 it needs none: \"yardbroom batch drop 7 2,4\""},
		{[]Line{privileged(1)}, settings.Signing{}, ""},
		{[]Line{plain(1), plain(2), privileged(3)}, settings.Signing{Over: 1}, ""},
		{[]Line{plain(1), privileged(2), privileged(3), privileged(4), privileged(5), privileged(6), privileged(7)}, settings.Signing{}, ""},
	} {
		b := &Batch{ID: 7, Lines: c.lines}
		assert.Equal(t, c.want, b.withoutSignature(&c.rule))
	}
}
