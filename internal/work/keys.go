package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"yardbroom/internal/batch"
	"yardbroom/internal/trust"
)

// SignWith signs a batch with the key in a file, else with that of the settings,
// else with the one of the SSH agent that is among the allowed signers, or that
// is its only one.
func (s *Session) SignWith(file string, b *batch.Batch, allowed batch.Signers) (armored []byte, err error) {
	if file = cmp.Or(file, s.Settings.Signing.Key); file != "" {
		with, done, err := keyIn(file, s.Ask)
		if err != nil {
			return nil, fmt.Errorf("--key %s: %w", file, err)
		}
		defer done()
		return batch.Sign(b, with)
	}
	conn, keys, err := agentKeys()
	if err != nil {
		return nil, Wrong("say with --key which key to sign with: %w", err)
	}
	defer conn.Close()
	for _, k := range keys {
		if len(keys) == 1 || allowed.Holds(k.PublicKey()) {
			return batch.Sign(b, k)
		}
	}
	return nil, Wrong("say with --key which of the agent's %d keys to sign with: none is among the allowed signers",
		len(keys))
}

// Sign agrees to a batch, by a signature that is made with a key (see SignWith),
// or that was made elsewhere and is armored.
func (s *Session) Sign(ctx context.Context, b *batch.Batch, key string, armored []byte) (*batch.Signature, error) {
	if s.Settings.Signing.AllowedSigners == "" {
		return nil, asRequest(batch.ErrNoSigners)
	}
	signers, err := batch.ReadSigners(s.Settings.Signing.AllowedSigners)
	if err != nil {
		return nil, err
	}
	if armored == nil {
		if armored, err = s.SignWith(key, b, signers); err != nil {
			return nil, err
		}
	}
	sig, err := signers.Verify(b, armored, s.now())
	if err != nil {
		return nil, err
	}
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	return sig, b.AddSignature(ctx, kept, signers, sig, s.By)
}

// prove signs a batch that was just staged, so that it is known who did, where
// signers are allowed and a key is at hand. Else the name that the operating
// system gives is all that is known, and the error is why.
func (s *Session) prove(ctx context.Context, b *batch.Batch) error {
	if s.Settings.Signing.AllowedSigners == "" {
		return nil
	}
	signers, err := batch.ReadSigners(s.Settings.Signing.AllowedSigners)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	with, done, err := s.ownKey(signers)
	if err != nil {
		return err
	}
	defer done()
	kept, err := s.Store(ctx)
	if err == nil {
		_, err = b.Prove(ctx, kept, signers, with, s.By, s.now())
	}
	return err
}

// ownKey is the key by which the one who works here proves who they are: that
// of the settings, else the one of the agent that is allowed.
func (s *Session) ownKey(signers batch.Signers) (ssh.Signer, func(), error) {
	if file := cmp.Or(s.Settings.Signing.Me, s.Settings.Signing.Key); file != "" {
		with, done, err := keyIn(file, s.Ask)
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

// signHead signs the journal after a batch, where the settings name a key. One
// that cannot be used is noted: what was done was done.
func (s *Session) signHead(ctx context.Context) {
	file := s.Settings.Signing.Key
	if file == "" {
		return
	}
	head, err := s.signedHead(ctx, file)
	if err != nil {
		s.note("the head of the journal is not signed: %s: %v", file, err)
		return
	}
	s.note("the journal is signed up to here with %s", head.Key)
}

func (s *Session) signedHead(ctx context.Context, file string) (*batch.SignedHead, error) {
	with, done, err := keyIn(file, nil)
	if err != nil {
		return nil, err
	}
	defer done()
	kept, err := s.Store(ctx)
	if err != nil {
		return nil, err
	}
	return batch.SignHead(ctx, kept, with, s.By, s.now())
}

// keyIn is the key of a file, private, or public where the agent holds the
// other half. A passphrase is asked for with ask, if that is given. The key can
// be used until done is called.
func keyIn(file string, ask func(string) (string, error)) (with ssh.Signer, done func(), err error) {
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

// privateKey reads a private key, asking for its passphrase where it has one.
func privateKey(file string, text []byte, ask func(string) (string, error)) (ssh.Signer, error) {
	with, err := ssh.ParsePrivateKey(text)
	var missing *ssh.PassphraseMissingError
	if !errors.As(err, &missing) {
		return with, err
	}
	if ask == nil {
		return nil, errors.New(
			"it has a passphrase, and nobody to ask for it: put it into the agent, and name the public key")
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
