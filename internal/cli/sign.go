package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"

	"github.com/urfave/cli/v3"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"yardbroom/internal/batch"
	"yardbroom/internal/render"
	"yardbroom/internal/store"
	"yardbroom/internal/trust"
)

func (a *app) signCommand() *cli.Command {
	return &cli.Command{
		Name: "sign", Usage: "agree to a batch as it is, with an SSH key", ArgsUsage: "BATCH",
		Description: "A second person, who has read the batch, signs it. The signature is in the open form of ssh-keygen -Y (sshsig), for the\nnamespace " + batch.SignatureNamespace +
			", and counts if the key is among the allowed signers of the settings (signing: allowed_signers). Whoever staged or\nchanged the batch cannot sign it, and any change voids the signatures.\n\n" +
			"  yardbroom batch sign 7                              with the key of the settings, of --key, or of the agent\n" +
			"  yardbroom batch sign --file batch-7.json            an exported batch that came by mail; writes batch-7.json.sig\n" +
			"  yardbroom batch sign 7 --signature batch-7.json.sig takes such a signature in",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "key", Usage: "the private key's `FILE`, or the public one's where the agent holds it"},
			&cli.StringFlag{Name: "file", Usage: "sign an exported batch, a JSON `FILE`, instead of one of the state folder"},
			&cli.StringFlag{Name: "signature", Usage: "take in a signature made elsewhere, from a `FILE`"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if file := cmd.String("file"); file != "" {
				if cmd.Args().Present() || cmd.String("signature") != "" {
					return usage("--file stands alone: the signature is written beside the file")
				}
				return a.signFile(cmd, file)
			}
			return a.withBatch(ctx, cmd, func(s *store.Store, b *batch.Batch) error { return a.signBatch(ctx, cmd, s, b) })
		},
	}
}

func (a *app) signBatch(ctx context.Context, cmd *cli.Command, s *store.Store, b *batch.Batch) error {
	if a.set.Signing.AllowedSigners == "" {
		return usage("%w", batch.ErrNoSigners)
	}
	signers, err := batch.ReadSigners(a.set.Signing.AllowedSigners)
	if err != nil {
		return err
	}
	var armored []byte
	if file := cmd.String("signature"); file != "" {
		armored, err = os.ReadFile(file)
	} else {
		armored, err = a.signWith(cmd, b, signers)
	}
	if err != nil {
		return err
	}
	sig, err := signers.Verify(b, armored, a.now().UTC())
	if err != nil {
		return err
	}
	if err := b.AddSignature(ctx, s, signers, sig, actor()); err != nil {
		return err
	}
	agreed, err := b.Agreement(ctx, s, a.set, a.now().UTC())
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "Batch %d is signed by %s (%s).\nSignatures: %s\n", b.ID, render.Visible(sig.Principal), sig.Key, render.Visible(agreed.String()))
	return nil
}

// signFile signs an exported batch, and shows what is signed.
func (a *app) signFile(cmd *cli.Command, file string) error {
	in, err := os.Open(file)
	if err != nil {
		return fmt.Errorf("--file: %w", err)
	}
	defer in.Close()
	b, err := batch.ReadExported(in)
	if err != nil {
		return fmt.Errorf("--file %s: %w", file, err)
	}
	armored, err := a.signWith(cmd, b, nil)
	if err != nil {
		return err
	}
	text, err := b.Statement()
	if err != nil {
		return err
	}
	if err := a.result(file+".sig", func(w io.Writer) error { _, err := w.Write(armored); return err }); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s\nSigned, in %s.sig; send it back.\n", render.Visible(string(text)), file)
	return nil
}

// prove signs a batch that was just staged, so that it is known who did, where
// signers are allowed and a key is at hand. Else the name that the operating
// system gives is all that is known.
//
// It returns why not, where that is so.
func (a *app) prove(ctx context.Context, s *store.Store, b *batch.Batch) error {
	if a.set.Signing.AllowedSigners == "" {
		return nil
	}
	signers, err := batch.ReadSigners(a.set.Signing.AllowedSigners)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	with, done, err := a.ownKey(signers)
	if err == nil {
		defer done()
		_, err = b.Prove(ctx, s, signers, with, actor(), a.now().UTC())
	}
	return err
}

// ownKey is the key by which the one who works here proves who they are: that
// of the settings, else the one of the agent that is allowed.
func (a *app) ownKey(signers batch.Signers) (ssh.Signer, func(), error) {
	if file := cmp.Or(a.set.Signing.Me, a.set.Signing.Key); file != "" {
		with, done, err := a.keyIn(file, a.ask())
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", file, err)
		}
		return with, done, nil
	}
	conn, keys, err := agentKeys()
	if err != nil {
		return nil, nil, fmt.Errorf("the settings name no key (signing: me), and %w", err)
	}
	for _, k := range keys {
		if signers.Holds(k.PublicKey()) {
			return k, func() { conn.Close() }, nil
		}
	}
	conn.Close()
	return nil, nil, errors.New("none of the SSH agent's keys is among the allowed signers")
}

// signWith signs with the key that was asked for, else with the settings', else
// with the one of the agent that is allowed.
func (a *app) signWith(cmd *cli.Command, b *batch.Batch, allowed batch.Signers) ([]byte, error) {
	if file := cmp.Or(cmd.String("key"), a.set.Signing.Key); file != "" {
		with, done, err := a.keyIn(file, a.ask())
		if err != nil {
			return nil, fmt.Errorf("--key %s: %w", file, err)
		}
		defer done()
		return batch.Sign(b, with)
	}
	conn, keys, err := agentKeys()
	if err != nil {
		return nil, usage("say with --key which key to sign with: %w", err)
	}
	defer conn.Close()
	for _, k := range keys {
		if len(keys) == 1 || allowed.Holds(k.PublicKey()) {
			return batch.Sign(b, k)
		}
	}
	return nil, usage("say with --key which of the agent's %d keys to sign with: none is among the allowed signers", len(keys))
}

// keyIn is the key of a file, private, or public where the agent holds the
// other half. A passphrase is asked for with ask, if that is given. The key can
// be used until done is called.
func (a *app) keyIn(file string, ask func(string) (string, error)) (with ssh.Signer, done func(), err error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, nil, err
	}
	public, _, _, _, err := ssh.ParseAuthorizedKey(text)
	if err != nil {
		if text, err = trust.ReadSecret(file); err != nil {
			return nil, nil, err
		}
		with, err = privateKey(file, text, ask)
		return with, func() {}, err
	}
	conn, keys, err := agentKeys()
	if err != nil {
		return nil, nil, fmt.Errorf("it is a public key: %w", err)
	}
	for _, k := range keys {
		if string(k.PublicKey().Marshal()) == string(public.Marshal()) {
			return k, func() { conn.Close() }, nil
		}
	}
	conn.Close()
	return nil, nil, errors.New("the agent does not hold its private key")
}

// signHead signs the journal after a batch, where the settings name a key. One
// that cannot be used is noted: what was done was done.
func (a *app) signHead(ctx context.Context, s *store.Store) {
	file := a.set.Signing.Key
	if file == "" {
		return
	}
	with, done, err := a.keyIn(file, nil)
	if err == nil {
		defer done()
		var head *batch.SignedHead
		if head, err = batch.SignHead(ctx, s, with, actor(), a.now().UTC()); err == nil {
			a.note("the journal is signed up to here with %s", head.Key)
			return
		}
	}
	a.note("the head of the journal is not signed: %s: %v", file, err)
}

// privateKey reads a private key, asking for its passphrase where it has one.
func privateKey(file string, text []byte, ask func(string) (string, error)) (ssh.Signer, error) {
	with, err := ssh.ParsePrivateKey(text)
	var missing *ssh.PassphraseMissingError
	if !errors.As(err, &missing) {
		return with, err
	}
	if ask == nil {
		return nil, errors.New("it has a passphrase, and nobody to ask for it: put it into the agent, and name the public key")
	}
	phrase, err := ask("Passphrase of " + file + ": ")
	if err != nil {
		return nil, err
	}
	return ssh.ParsePrivateKeyWithPassphrase(text, []byte(phrase))
}

// agentKeys returns the keys that the SSH agent holds, and the connection to
// it, which has to stay until they were used.
func agentKeys() (net.Conn, []ssh.Signer, error) {
	socket := os.Getenv("SSH_AUTH_SOCK")
	if socket == "" {
		return nil, nil, errors.New("there is no SSH agent (SSH_AUTH_SOCK)")
	}
	conn, err := (&net.Dialer{}).DialContext(context.Background(), "unix", socket)
	if err != nil {
		return nil, nil, fmt.Errorf("the SSH agent: %w", err)
	}
	keys, err := agent.NewClient(conn).Signers()
	if err == nil && len(keys) == 0 {
		err = errors.New("the SSH agent holds no key")
	}
	if err != nil {
		conn.Close()
		return nil, nil, err
	}
	return conn, keys, nil
}
