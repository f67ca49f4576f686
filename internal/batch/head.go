package batch

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/hiddeco/sshsig"
	"golang.org/x/crypto/ssh"

	"yardbroom/internal/store"
)

// HeadNamespace is the namespace of signatures on the journal's head (OpenSSH,
// PROTOCOL.sshsig). A head that is signed cannot be followed by another past:
// whoever writes all hashes anew has not the key.
const HeadNamespace = "journal@yardbroom"

// EventHeadSigned is the journal's event of a signature on its head.
const EventHeadSigned = "head-signed"

// SignedHead is a signature on the journal up to one of its records.
type SignedHead struct {
	Seq     int    `json:"seq"`
	Hash    string `json:"hash"`
	Key     string `json:"key"` // fingerprint
	Armored string `json:"armored"`
	// Principal is whose key it is, "" where nobody can tell.
	Principal string `json:"-"`
}

func (h *SignedHead) statement() []byte {
	return fmt.Appendf(nil, "yardbroom journal head 1\nrecord %d\nhash %s\n", h.Seq, h.Hash)
}

// SignHead signs the journal as it is now, and writes the signature into it.
func SignHead(ctx context.Context, s *store.Store, with ssh.Signer, by string, at time.Time) (*SignedHead, error) {
	seq, hash, err := s.Head(ctx)
	if err != nil {
		return nil, err
	}
	h := &SignedHead{Seq: seq, Hash: hash, Key: ssh.FingerprintSHA256(with.PublicKey())}
	sig, err := sshsig.Sign(bytes.NewReader(h.statement()), with, sshsig.HashSHA512, HeadNamespace)
	if err != nil {
		return nil, err
	}
	h.Armored = string(sshsig.Armor(sig))
	body, err := json.Marshal(h)
	if err != nil {
		return nil, err
	}
	_, err = s.Append(ctx, &store.Record{At: at, By: by, Event: EventHeadSigned, Body: body})
	return h, err
}

// VerifyHeads proves every signature on the journal's head, and returns them,
// the latest first. With signers, each must be of a key that was allowed at its
// time.
func VerifyHeads(ctx context.Context, s *store.Store, signers Signers) ([]SignedHead, error) {
	var all []SignedHead
	err := s.Since(ctx, EventHeadSigned, time.Time{}, func(r *store.Sealed) error {
		var h SignedHead
		if err := json.Unmarshal(r.Body, &h); err != nil {
			return fmt.Errorf("journal record %d: %w", r.Seq, err)
		}
		if err := h.verify(ctx, s, signers, r.At); err != nil {
			return fmt.Errorf("journal record %d: the signature on the head of record %d: %w", r.Seq, h.Seq, err)
		}
		all = append(all, h)
		return nil
	})
	return all, err
}

func (h *SignedHead) verify(ctx context.Context, s *store.Store, signers Signers, at time.Time) error {
	hash, err := s.HashOf(ctx, h.Seq)
	if err != nil {
		return err
	}
	if hash != h.Hash {
		return errors.New("that record has another hash now; the journal was written anew")
	}
	sig, err := sshsig.Unarmor([]byte(h.Armored))
	if err != nil {
		return err
	}
	if signers != nil {
		who, err := signers.find(sig.PublicKey, at, HeadNamespace)
		if err != nil {
			return err
		}
		h.Principal = who.principal
	}
	h.Key = ssh.FingerprintSHA256(sig.PublicKey)
	return sshsig.Verify(bytes.NewReader(h.statement()), sig, sig.PublicKey, sig.HashAlgorithm, HeadNamespace)
}
