package batch

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/hiddeco/sshsig"
	"golang.org/x/crypto/ssh"

	"yardbroom/internal/settings"
	"yardbroom/internal/store"
	"yardbroom/internal/wording"
)

// SignatureNamespace is the namespace of signatures on batches (OpenSSH,
// PROTOCOL.sshsig), so that none made for another purpose counts.
const SignatureNamespace = "batch@yardbroom"

// EventSigned is the journal's event of a signature.
const EventSigned = "signed"

// Signature is somebody's agreement to exactly one state of a batch.
type Signature struct {
	Principal string    `json:"principal"` // as the list of allowed signers calls them
	Key       string    `json:"key"`       // fingerprint
	At        time.Time `json:"at"`        // when it was taken in
	Digest    string    `json:"digest"`    // of the batch that was signed
	Armored   string    `json:"armored"`
	// Void says why it does not count, "" where it does.
	Void string `json:"-"`

	owner *owner // where it was verified
}

// Statement is the text that is signed: what the batch is, and the digest of
// all that decides what it does.
func (b *Batch) Statement() ([]byte, error) {
	digest, err := b.Digest()
	return b.statement(digest), err
}

func (b *Batch) statement(digest string) []byte {
	return fmt.Appendf(nil,
		"yardbroom batch signature 1\nbatch %d of %s\nstaged by %s at %s\n%s, %d lines\ndigest %s\n", b.ID, b.Identity,
		b.By, b.Created.UTC().Format(time.RFC3339), strings.Join(b.Actions, ","), b.kept(), digest)
}

// kept counts the lines that were not dropped.
func (b *Batch) kept() int {
	n := 0
	for i := range b.Lines {
		if b.Lines[i].State != Dropped {
			n++
		}
	}
	return n
}

// ErrNoSigners is the error where no list of allowed signers is set.
var ErrNoSigners = errors.New("the settings name no allowed signers (signing: allowed_signers)")

// Sign signs a batch with a key, in the form of sshsig.
func Sign(b *Batch, with ssh.Signer) ([]byte, error) {
	text, err := b.Statement()
	if err != nil {
		return nil, err
	}
	sig, err := sshsig.Sign(bytes.NewReader(text), with, sshsig.HashSHA512, SignatureNamespace)
	if err != nil {
		return nil, err
	}
	return sshsig.Armor(sig), nil
}

// Verify tells whose signature on a batch this is. It fails where it is of
// another state of the batch, or of nobody who may sign it.
func (all Signers) Verify(b *Batch, armored []byte, at time.Time) (*Signature, error) {
	digest, err := b.Digest()
	if err != nil {
		return nil, err
	}
	return all.verify(b.statement(digest), digest, armored, at)
}

func (all Signers) verify(statement []byte, digest string, armored []byte, at time.Time) (*Signature, error) {
	sig, err := sshsig.Unarmor(armored)
	if err != nil {
		return nil, fmt.Errorf("this is no signature: %w", err)
	}
	who, err := all.find(sig.PublicKey, at, SignatureNamespace)
	if err != nil {
		return nil, err
	}
	if err := sshsig.Verify(bytes.NewReader(statement), sig, sig.PublicKey, sig.HashAlgorithm, SignatureNamespace); err != nil {
		return nil, fmt.Errorf("the signature is not of this batch as it is now: %w", err)
	}
	return &Signature{
		Principal: who.principal,
		Key:       ssh.FingerprintSHA256(sig.PublicKey),
		At:        at,
		Digest:    digest,
		Armored:   string(armored),
		owner:     who,
	}, nil
}

// AddSignature takes a signature into the journal. Who staged the batch, or
// changed it since, cannot sign it.
func (b *Batch) AddSignature(ctx context.Context, s *store.Store, all Signers, sig *Signature, by string) error {
	if err := s.Whole(ctx); err != nil {
		return err
	}
	unlock, err := b.lock(ctx, s)
	if err != nil {
		return err
	}
	defer unlock()
	if b.State != Staged && b.State != Begun {
		return fmt.Errorf("batch %d is %s; there is nothing to agree to", b.ID, b.State)
	}
	past, err := readAgreement(ctx, s, b)
	if err != nil {
		return err
	}
	if why := past.barred(sig, all); why != "" {
		return errors.New(why)
	}
	for _, old := range past.signatures {
		if old.Key == sig.Key && old.Digest == sig.Digest {
			return fmt.Errorf("%s has signed it already", sig.Principal)
		}
	}
	body, err := json.Marshal(sig)
	if err != nil {
		return err
	}
	_, err = s.Append(ctx, &store.Record{At: sig.At, By: by, Event: EventSigned, Batch: b.ID, Body: body})
	return err
}

// agreement is what the journal knows of who made a batch and who signed it.
type agreement struct {
	makers     []string // as whom the operating system knew them
	proofs     []proof  // by which makers have proved who they are
	signatures []Signature
}

// proof is a maker's signature on what they staged, and the statement.
type proof struct {
	Signature
	statement []byte
}

func readAgreement(ctx context.Context, s *store.Store, b *Batch) (*agreement, error) {
	records, err := s.About(ctx, b.ID)
	if err != nil {
		return nil, err
	}
	a := &agreement{makers: []string{b.By}}
	staged := ""
	for _, r := range records {
		switch r.Event {
		case EventStaged, EventDropped:
			a.makers = append(a.makers, r.By)
			var body summary
			if err := json.Unmarshal(r.Body, &body); err != nil {
				return nil, fmt.Errorf("journal record %d: %w", r.Seq, err)
			}
			staged = body.Digest
		case EventProved:
			p := proof{statement: b.stagedStatement(staged)}
			if err := json.Unmarshal(r.Body, &p.Signature); err != nil {
				return nil, fmt.Errorf("journal record %d: %w", r.Seq, err)
			}
			a.proofs = append(a.proofs, p)
		case EventSigned:
			var sig Signature
			if err := json.Unmarshal(r.Body, &sig); err != nil {
				return nil, fmt.Errorf("journal record %d: %w", r.Seq, err)
			}
			a.signatures = append(a.signatures, sig)
		}
	}
	return a, nil
}

// proved returns the people who have proved that they staged or changed the
// batch. A proof counts as of its own time: a key may have ended since.
func (a *agreement) proved(all Signers) (owners []*owner) {
	for _, p := range a.proofs {
		if sig, err := all.verify(p.statement, p.Digest, []byte(p.Armored), p.At); err == nil {
			owners = append(owners, sig.owner)
		}
	}
	return owners
}

// barred tells why somebody cannot sign: they made the batch, by any of their
// names, as the operating system knew them or as they have proved.
func (a *agreement) barred(sig *Signature, all Signers) string {
	made := slices.ContainsFunc(a.makers, sig.owner.is) || slices.ContainsFunc(a.proved(all), sig.owner.same)
	if made {
		return fmt.Sprintf("%s staged or changed this batch, and cannot sign it as well", sig.Principal)
	}
	return ""
}

// EventProved is the journal's event of a proof who staged a batch.
const EventProved = "proved"

// stagedStatement is the text by whose signature somebody proves that they
// staged a batch. It agrees to nothing.
func (b *Batch) stagedStatement(digest string) []byte {
	return fmt.Appendf(nil, "yardbroom batch staging 1\nbatch %d of %s\nstaged at %s\ndigest %s\n", b.ID, b.Identity,
		b.Created.UTC().Format(time.RFC3339), digest)
}

// Prove takes into the journal who staged a batch that was just kept: with a key
// that is among the allowed signers.
func (b *Batch) Prove(
	ctx context.Context, s *store.Store, all Signers, with ssh.Signer, by string, at time.Time,
) (principal string, err error) {
	digest, err := b.Digest()
	if err != nil {
		return "", err
	}
	statement := b.stagedStatement(digest)
	sig, err := sshsig.Sign(bytes.NewReader(statement), with, sshsig.HashSHA512, SignatureNamespace)
	if err != nil {
		return "", err
	}
	made, err := all.verify(statement, digest, sshsig.Armor(sig), at)
	if err != nil {
		return "", err
	}
	body, err := json.Marshal(made)
	if err != nil {
		return "", err
	}
	_, err = s.Append(ctx, &store.Record{At: at, By: by, Event: EventProved, Batch: b.ID, Body: body})
	return made.Principal, err
}

// Agreement is what a batch needs to be carried out, and what it has.
type Agreement struct {
	Needed     int
	Because    []string // why signatures are needed
	Valid      int      // signatures of different people that count
	Signatures []Signature
	// Stagers are the people who have proved that they staged the batch.
	Stagers []string
	// Unproved says why it is not enough that nobody has; none where it is.
	Unproved []string
}

// Enough tells whether enough people have agreed.
func (a *Agreement) Enough() bool { return a.Valid >= a.Needed && len(a.Unproved) == 0 }

func (a *Agreement) String() string {
	if a.Needed == 0 {
		return "none needed"
	}
	return fmt.Sprintf("%d of %d (%s)", a.Valid, a.Needed, strings.Join(a.Because, "; "))
}

// Agreement verifies the signatures of a batch against its state now and the
// settings' rule.
func (b *Batch) Agreement(
	ctx context.Context, s *store.Store, set *settings.Settings, at time.Time,
) (*Agreement, error) {
	out := &Agreement{}
	out.Needed, out.Because = b.needs(&set.Signing)
	past, err := readAgreement(ctx, s, b)
	if err != nil {
		return nil, err
	}
	var signers Signers
	if set.Signing.AllowedSigners != "" {
		signers, err = ReadSigners(set.Signing.AllowedSigners)
		if err != nil && (len(past.signatures)+len(past.proofs) > 0 || !errors.Is(err, fs.ErrNotExist)) {
			return nil, err // a list that is not there yet allows nobody
		}
	}
	for _, who := range past.proved(signers) {
		out.Stagers = append(out.Stagers, who.principal)
	}
	if len(out.Stagers) == 0 {
		out.Unproved = b.wantsProof(&set.Signing)
	}
	if len(past.signatures) == 0 {
		return out, nil
	}
	if set.Signing.AllowedSigners == "" {
		return nil, ErrNoSigners
	}
	var counted []*owner
	for _, sig := range past.signatures {
		found, err := signers.Verify(b, []byte(sig.Armored), at)
		switch {
		case err != nil:
			sig.Void = err.Error()
		case past.barred(found, signers) != "":
			sig.Void = past.barred(found, signers)
		case slices.ContainsFunc(counted, found.owner.same):
			sig.Void = found.Principal + " counts once"
		default:
			counted = append(counted, found.owner)
			out.Valid++
		}
		out.Signatures = append(out.Signatures, sig)
	}
	return out, nil
}

// wantsProof tells why the name under which the batch was staged is not enough.
func (b *Batch) wantsProof(rule *settings.Signing) []string {
	var because []string
	for i := range b.Lines {
		l := &b.Lines[i]
		if l.State == Dropped {
			continue
		}
		var reasons []string
		for _, a := range l.Actions {
			if rule.WantsProof(a.Name) {
				reasons = append(reasons, "it has the action "+a.Name)
			}
		}
		if l.Powerful() && rule.WantsProof(settings.ProvedPrivileged) {
			reasons = append(reasons, "it is about privileged accounts or groups")
		}
		because = merge(because, reasons)
	}
	return because
}

// needs tells how many people must sign, and why.
func (b *Batch) needs(rule *settings.Signing) (int, []string) {
	n, because := 0, []string{}
	need := func(count int, why string) {
		if count > 0 && !slices.Contains(because, why) {
			because = append(because, why)
		}
		n = max(n, count)
	}
	lines, along := 0, 0
	for i := range b.Lines {
		l := &b.Lines[i]
		if l.State == Dropped {
			continue
		}
		lines, along = lines+1, along+l.Along()
		for _, a := range l.Actions {
			switch {
			case a.Name == ResetPassword:
				need(rule.For(a.Name), "it resets passwords") // of privileged accounts it takes one always
			case a.Name == Unmark:
				need(max(1, rule.For(a.Name)), "it opens the permissions of what was privileged")
			default:
				need(rule.For(a.Name), "it has the action "+a.Name)
			}
		}
		switch {
		case len(l.Privileged) > 0:
			need(1, "it changes a privileged account")
		case len(l.Joins()) > 0:
			need(1, "it puts somebody into a privileged group")
		case len(l.Leaves()) > 0:
			need(1, "it takes somebody out of a privileged group")
		}
		if l.Anew {
			need(1, "it may bring an entry back as another one, with a new SID")
		}
	}
	if b.Signed {
		need(1, "its rung wants a signature")
	}
	if b.EvenEnabled {
		need(1, "it may delete what is enabled")
	}
	switch {
	case b.UndoOf != 0 || rule.Over <= 0 || lines+along <= rule.Over:
	case lines > rule.Over:
		need(1, "it has more than "+wording.Count(rule.Over, "line"))
	default:
		need(1, fmt.Sprintf("it has %d lines, and %d entries move along: more than %d", lines, along, rule.Over))
	}
	return n, because
}

// ErrNotSigned is the error for a batch that not enough people have signed.
var ErrNotSigned = errors.New("it is not signed")

// unsigned is ErrNotSigned with what is missing.
type unsigned string

func (u unsigned) Error() string { return string(u) }
func (u unsigned) Unwrap() error { return ErrNotSigned }

// CheckAgreed fails where a batch needs more signatures than it has.
func (b *Batch) CheckAgreed(
	ctx context.Context, s *store.Store, set *settings.Settings, at time.Time,
) (*Agreement, error) {
	a, err := b.Agreement(ctx, s, set, at)
	if err != nil || a.Enough() {
		return a, err
	}
	if len(a.Unproved) > 0 {
		return a, unsigned(
			fmt.Sprintf(
				"batch %d was staged by an unproved name, %s, which is not enough since %s: stage it again with a key that is among the allowed signers (signing: me names it, or the SSH agent holds it)",
				b.ID,
				b.By,
				strings.Join(a.Unproved, " and "),
			),
		)
	}
	has := map[int]string{0: "none", 1: "one"}[a.Valid]
	text := fmt.Sprintf(
		"batch %d needs %s, since %s, and has %s: another person than %s signs it with \"yardbroom batch sign %d\"",
		b.ID, cmp.Or(map[int]string{1: "a signature"}[a.Needed], fmt.Sprintf("%d signatures", a.Needed)),
		strings.Join(a.Because, " and "), cmp.Or(has, strconv.Itoa(a.Valid)), b.By, b.ID)
	text += b.withoutSignature(&set.Signing)
	for _, sig := range a.Signatures {
		if sig.Void != "" {
			text += fmt.Sprintf("\nnot counted, of %s: %s", sig.Principal, sig.Void)
		}
	}
	if set.Signing.AllowedSigners == "" {
		text += "\n" + ErrNoSigners.Error()
	}
	return a, unsigned(text)
}

// withoutSignature says which lines to drop for the rest to need none, "" where that is
// all of them, or too many to name.
func (b *Batch) withoutSignature(rule *settings.Signing) string {
	const most = 5
	var needing []string
	rest := *b
	rest.Lines = nil
	for i := range b.Lines {
		l := &b.Lines[i]
		if l.State == Dropped {
			continue
		}
		alone := *b
		alone.Lines = []Line{*l}
		if n, _ := alone.needs(rule); n > 0 {
			needing = append(needing, strconv.Itoa(l.N))
		} else {
			rest.Lines = append(rest.Lines, *l)
		}
	}
	if n, _ := rest.needs(rule); n > 0 || len(rest.Lines) == 0 || len(needing) == 0 || len(needing) > most {
		return ""
	}
	lines := strings.Join(needing, ",")
	return fmt.Sprintf("\nwithout line %s it needs none: \"yardbroom batch drop %d %s\"", lines, b.ID, lines)
}

// ReadExported reads a batch that was exported as JSON. It proves nothing by
// itself: a signature on it counts only if the batch in the state folder is
// the same.
func ReadExported(r io.Reader) (*Batch, error) {
	var shape struct {
		Schema string `json:"schema"`
		ID     int    `json:"id"`
		State  State  `json:"state"`
		Batch
		Lines []struct {
			State LineState `json:"state"`
			Note  string    `json:"note"`
			Line
		} `json:"lines"`
	}
	dec := json.NewDecoder(r)
	dec.DisallowUnknownFields()
	if err := dec.Decode(&shape); err != nil {
		return nil, fmt.Errorf("this is no exported batch: %w", err)
	}
	if _, err := dec.Token(); err != io.EOF {
		return nil, errors.New("this is no exported batch: something stands behind its end")
	}
	if shape.Schema != "yardbroom/batch/1" {
		return nil, fmt.Errorf("this is no exported batch: its schema is %q", shape.Schema)
	}
	if shape.ID == 0 || len(shape.Lines) == 0 {
		return nil, errors.New("this is no exported batch: it has no number or no lines")
	}
	b := shape.Batch
	b.ID, b.State = shape.ID, shape.State
	for _, l := range shape.Lines {
		l.Line.State, l.Line.Note = l.State, l.Note
		b.Lines = append(b.Lines, l.Line)
	}
	return &b, nil
}
