package ladder

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"yardbroom/internal/pattern"
)

// Key makes tokens that nobody can guess who has only the journal.
type Key []byte

// ReadKey reads the key of a state folder, and makes it where there is none.
func ReadKey(state string) (Key, error) {
	path := filepath.Join(state, "answers.key")
	key, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		key = make([]byte, keyOctets)
		if _, err := rand.Read(key); err != nil {
			return nil, err
		}
		var f *os.File
		if f, err = os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600); errors.Is(err, fs.ErrExist) {
			return ReadKey(state) // somebody else has just made it
		} else if err != nil {
			return nil, err
		}
		_, err = f.Write(key)
		err = errors.Join(err, f.Sync(), f.Close())
	}
	if err == nil && len(key) != keyOctets {
		err = fmt.Errorf("%s is not whole; without it no answer can be believed: remove it, and those who were told are told again", path)
	}
	return key, err
}

const keyOctets = 32

var letters = base32.NewEncoding("abcdefghijkmnpqrstuvwxyz23456789").WithPadding(base32.NoPadding)

// refOctets and macOctets make 16 letters each.
const refOctets, macOctets = 10, 10

// NewRef makes a number that nothing else has.
func NewRef() (string, error) {
	raw := make([]byte, refOctets)
	_, err := rand.Read(raw)
	return letters.EncodeToString(raw), err
}

// Token is the word by which somebody who was told of one account answers: bound to
// the account, the ladder, the rung and the address that it was sent to.
func (k Key) Token(e *Event) string {
	return e.Ref + k.mac("answer 1", e.Directory.ID, e.Ladder, e.Rung, e.ID, strings.ToLower(e.Address), e.Ref)
}

// MailToken is the same of a whole mail, by which an answer to it is known.
func (k Key) MailToken(address, ref string) string {
	return ref + k.mac("mail 1", strings.ToLower(address), ref)
}

func (k Key) mac(parts ...string) string {
	h := hmac.New(sha256.New, k)
	for _, p := range parts {
		fmt.Fprintf(h, "%d:%s\n", len(p), p)
	}
	return letters.EncodeToString(h.Sum(nil)[:macOctets])
}

// TokenPrefix begins a token where it is written in a text.
const TokenPrefix = "keep-"

var tokenForm = pattern.Lazy(TokenPrefix + `([a-km-np-z2-9]{32})\b`)

// Tokens are the tokens in a text, each once. Mail readers break long lines, but
// never such a word.
func Tokens(text string) (all []string) {
	seen := map[string]bool{}
	for _, m := range tokenForm().FindAllStringSubmatch(strings.ToLower(text), -1) {
		if !seen[m[1]] {
			seen[m[1]] = true
			all = append(all, m[1])
		}
	}
	return all
}

// Ref is what a token is found by in the journal.
func Ref(token string) string {
	if len(token) != 32 {
		return ""
	}
	return token[:16]
}

// IsToken tells whether a token is that of an event, without telling by the time it
// takes how much of it is right.
func (k Key) IsToken(token string, e *Event) bool {
	return hmac.Equal([]byte(token), []byte(k.Token(e)))
}

// IsMailToken tells the same of that of a mail to somebody.
func (k Key) IsMailToken(token, address string) bool {
	return hmac.Equal([]byte(token), []byte(k.MailToken(address, Ref(token))))
}
