package batch

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/hiddeco/sshsig"
	"golang.org/x/crypto/ssh"

	"yardbroom/internal/settings"
	"yardbroom/internal/store"
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
}

// Statement is the text that is signed: what the batch is, and the digest of
// all that decides what it does.
func (b *Batch) Statement() ([]byte, error) {
	digest, err := b.Digest()
	return b.statement(digest), err
}

func (b *Batch) statement(digest string) []byte {
	return fmt.Appendf(nil, "yardbroom batch signature 1\nbatch %d of %s\nstaged by %s at %s\n%s, %d lines\ndigest %s\n",
		b.ID, b.Identity, b.By, b.Created.UTC().Format(time.RFC3339), strings.Join(b.Actions, ","), b.kept(), digest)
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

// Signers are the keys whose signatures count, and whose they are.
type Signers []signer

type signer struct {
	principals    []string // patterns
	key           ssh.PublicKey
	namespaces    []string // patterns; none means all
	after, before time.Time
}

// ReadSigners reads a list of allowed signers in the form of OpenSSH
// (ssh-keygen(1), ALLOWED SIGNERS). Certificate authorities are refused.
func ReadSigners(file string) (Signers, error) {
	in, err := os.Open(file)
	if err != nil {
		return nil, fmt.Errorf("allowed signers: %w", err)
	}
	defer in.Close()
	var all Signers
	lines := bufio.NewScanner(in)
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		s, err := parseSigner(line)
		if err != nil {
			return nil, fmt.Errorf("allowed signers %s:%d: %w", file, n, err)
		}
		all = append(all, s)
	}
	return all, lines.Err()
}

func parseSigner(line string) (s signer, err error) {
	who, rest, ok := strings.Cut(line, " ")
	if strings.HasPrefix(line, `"`) {
		who, rest, ok = strings.Cut(line[1:], `"`)
	}
	if !ok {
		return s, errors.New("it has no key")
	}
	s.principals = strings.Split(who, ",")
	var options []string
	if s.key, _, options, _, err = ssh.ParseAuthorizedKey([]byte(strings.TrimSpace(rest))); err != nil {
		return s, fmt.Errorf("the key of %s: %w", who, err)
	}
	for _, o := range options {
		name, value, _ := strings.Cut(o, "=")
		value = strings.Trim(value, `"`)
		switch strings.ToLower(name) {
		case "namespaces":
			s.namespaces = strings.Split(value, ",")
		case "valid-after":
			s.after, err = signerTime(value)
		case "valid-before":
			s.before, err = signerTime(value)
		default:
			return s, fmt.Errorf("the option %s is not supported", name)
		}
		if err != nil {
			return s, err
		}
	}
	return s, nil
}

// signerTime reads a time of the list: YYYYMMDD or YYYYMMDDHHMM[SS], local
// or, with a Z behind it, UTC.
func signerTime(text string) (time.Time, error) {
	loc := time.Local
	digits, utc := strings.CutSuffix(text, "Z")
	if utc {
		loc = time.UTC
	}
	for _, layout := range []string{"20060102", "200601021504", "20060102150405"} {
		if len(layout) == len(digits) {
			return time.ParseInLocation(layout, digits, loc)
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a time of the form YYYYMMDD[HHMM[SS]]", text)
}

// find returns the signer with a key, as of a time, for a namespace.
func (all Signers) find(key ssh.PublicKey, at time.Time, namespace string) (*signer, error) {
	for i := range all {
		s := &all[i]
		if !bytes.Equal(s.key.Marshal(), key.Marshal()) {
			continue
		}
		switch {
		case len(s.namespaces) > 0 && !slices.ContainsFunc(s.namespaces, func(n string) bool { m, _ := path.Match(n, namespace); return m }):
			return nil, fmt.Errorf("the key of %s is not allowed for %s", s.principals[0], namespace)
		case !s.after.IsZero() && at.Before(s.after), !s.before.IsZero() && !at.Before(s.before):
			return nil, fmt.Errorf("the key of %s is not valid now", s.principals[0])
		}
		return s, nil
	}
	return nil, fmt.Errorf("the key %s is not among the allowed signers", ssh.FingerprintSHA256(key))
}

// Holds tells whether a key may sign now, for choosing one of an agent's.
func (all Signers) Holds(key ssh.PublicKey) bool {
	_, err := all.find(key, time.Now(), SignatureNamespace)
	return err == nil
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
	sig, err := sshsig.Unarmor(armored)
	if err != nil {
		return nil, fmt.Errorf("this is no signature: %w", err)
	}
	s, err := all.find(sig.PublicKey, at, SignatureNamespace)
	if err != nil {
		return nil, err
	}
	digest, err := b.Digest()
	if err != nil {
		return nil, err
	}
	if err := sshsig.Verify(bytes.NewReader(b.statement(digest)), sig, s.key, sig.HashAlgorithm, SignatureNamespace); err != nil {
		return nil, fmt.Errorf("the signature is not of this batch as it is now: %w", err)
	}
	return &Signature{Principal: s.principals[0], Key: ssh.FingerprintSHA256(s.key), At: at, Digest: digest, Armored: string(armored)}, nil
}

// samePerson compares whoever worked here, name@host, with a principal, by
// the name before the @.
func samePerson(by, principal string) bool {
	a, _, _ := strings.Cut(by, "@")
	b, _, _ := strings.Cut(principal, "@")
	return strings.EqualFold(a, b)
}

// AddSignature takes a signature into the journal. Who staged the batch, or
// changed it since, cannot sign it.
func (b *Batch) AddSignature(ctx context.Context, s *store.Store, sig *Signature, by string) error {
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
	if why := past.barred(sig); why != "" {
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
	makers     []string
	signatures []Signature
}

func readAgreement(ctx context.Context, s *store.Store, b *Batch) (*agreement, error) {
	records, err := s.About(ctx, b.ID)
	if err != nil {
		return nil, err
	}
	a := &agreement{makers: []string{b.By}}
	for _, r := range records {
		switch r.Event {
		case EventStaged, EventDropped:
			a.makers = append(a.makers, r.By)
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

// barred tells why somebody cannot sign.
func (a *agreement) barred(sig *Signature) string {
	for _, maker := range a.makers {
		if samePerson(maker, sig.Principal) {
			return fmt.Sprintf("%s staged or changed this batch, and cannot sign it as well", sig.Principal)
		}
	}
	return ""
}

// Agreement is what a batch needs to be carried out, and what it has.
type Agreement struct {
	Needed     int
	Because    []string // why signatures are needed
	Valid      int      // signatures of different people that count
	Signatures []Signature
}

// Enough tells whether enough people have agreed.
func (a *Agreement) Enough() bool { return a.Valid >= a.Needed }

func (a *Agreement) String() string {
	if a.Needed == 0 {
		return "none needed"
	}
	return fmt.Sprintf("%d of %d (%s)", a.Valid, a.Needed, strings.Join(a.Because, "; "))
}

// Agreement verifies the signatures of a batch against its state now and the
// settings' rule.
func (b *Batch) Agreement(ctx context.Context, s *store.Store, set *settings.Settings, at time.Time) (*Agreement, error) {
	out := &Agreement{}
	out.Needed, out.Because = b.needs(&set.Signing)
	past, err := readAgreement(ctx, s, b)
	if err != nil || len(past.signatures) == 0 {
		return out, err
	}
	if set.Signing.AllowedSigners == "" {
		return nil, ErrNoSigners
	}
	signers, err := ReadSigners(set.Signing.AllowedSigners)
	if err != nil {
		return nil, err
	}
	counted := map[string]bool{}
	for _, sig := range past.signatures {
		found, err := signers.Verify(b, []byte(sig.Armored), at)
		switch {
		case err != nil:
			sig.Void = err.Error()
		case past.barred(found) != "":
			sig.Void = past.barred(found)
		case counted[found.Principal]:
			sig.Void = found.Principal + " counts once"
		default:
			counted[found.Principal] = true
			out.Valid++
		}
		out.Signatures = append(out.Signatures, sig)
	}
	return out, nil
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
	lines := 0
	for i := range b.Lines {
		l := &b.Lines[i]
		if l.State == Dropped {
			continue
		}
		lines++
		for _, a := range l.Actions {
			switch {
			case a.Name == ResetPassword:
				need(max(1, rule.For(a.Name)), "it resets passwords")
			default:
				need(rule.For(a.Name), "it has the action "+a.Name)
			}
		}
		switch {
		case len(l.Privileged) > 0:
			need(1, "it changes a privileged account")
		case len(l.Joins()) > 0:
			need(1, "it puts somebody into a privileged group")
		}
	}
	if b.EvenEnabled {
		need(1, "it may delete what is enabled")
	}
	if b.UndoOf == 0 && rule.Over > 0 && lines > rule.Over {
		need(1, fmt.Sprintf("it has more than %d lines", rule.Over))
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
func (b *Batch) CheckAgreed(ctx context.Context, s *store.Store, set *settings.Settings, at time.Time) (*Agreement, error) {
	a, err := b.Agreement(ctx, s, set, at)
	if err != nil || a.Enough() {
		return a, err
	}
	has := map[int]string{0: "none", 1: "one"}[a.Valid]
	text := fmt.Sprintf("batch %d needs %s, since %s, and has %s: another person than %s signs it with \"yardbroom batch sign %d\"",
		b.ID, cmp.Or(map[int]string{1: "a signature"}[a.Needed], fmt.Sprintf("%d signatures", a.Needed)), strings.Join(a.Because, " and "), cmp.Or(has, strconv.Itoa(a.Valid)), b.By, b.ID)
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

// ReadExported reads a batch that was exported as JSON. It proves nothing by
// itself: a signature on it counts only if the batch in the state folder is
// the same.
func ReadExported(r io.Reader) (*Batch, error) {
	var shape struct {
		ID    int   `json:"id"`
		State State `json:"state"`
		Batch
		Lines []struct {
			State LineState `json:"state"`
			Note  string    `json:"note"`
			Line
		} `json:"lines"`
	}
	dec := json.NewDecoder(r)
	if err := dec.Decode(&shape); err != nil {
		return nil, fmt.Errorf("this is no exported batch: %w", err)
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
