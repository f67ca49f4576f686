package batch

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// Signers are the keys whose signatures count, and whose they are: a list in
// the form of OpenSSH (ssh-keygen(1), ALLOWED SIGNERS).
type Signers []signer

// signer is one line of the list.
type signer struct {
	principals    []string // names, or patterns
	key           ssh.PublicKey
	namespaces    string // a list of patterns; "" means all
	after, before time.Time
}

// ReadSigners reads a list of allowed signers. What OpenSSH would pass over is
// an error here, as are certificate authorities.
func ReadSigners(file string) (Signers, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("allowed signers: %w", err)
	}
	all, err := parseSigners(string(text))
	if err != nil {
		return nil, fmt.Errorf("allowed signers %s:%w", file, err)
	}
	return all, nil
}

func parseSigners(text string) (all Signers, err error) {
	if strings.HasPrefix(text, "\ufeff") {
		return nil, errors.New(
			"1: it begins with a byte order mark, which would be part of the first name: save it without")
	}
	n := 0
	for line := range strings.Lines(text) {
		n++
		line = strings.Trim(line, " \t\r\n")
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		s, err := parseSigner(line)
		if err != nil {
			return nil, fmt.Errorf("%d: %w", n, err)
		}
		all = append(all, s)
	}
	return all, nil
}

func parseSigner(line string) (s signer, err error) {
	who, rest := line, ""
	if strings.HasPrefix(line, `"`) {
		var closed bool
		if who, rest, closed = strings.Cut(line[1:], `"`); !closed {
			return s, errors.New("the names begin with a quote that does not end")
		}
	} else if at := strings.IndexAny(line, " \t"); at >= 0 {
		who, rest = line[:at], line[at:]
	}
	if rest = strings.Trim(rest, " \t"); rest == "" {
		return s, errors.New("it has no key")
	}
	s.principals = strings.Split(who, ",")
	if slices.Contains(s.principals, "") {
		return s, fmt.Errorf("%q holds an empty name", who)
	}
	var options []string
	var after []byte
	if s.key, _, options, after, err = ssh.ParseAuthorizedKey([]byte(rest)); err != nil || len(after) > 0 {
		return s, fmt.Errorf("the key of %s cannot be read", who)
	}
	return s, s.take(options)
}

// take reads the options of a line, each of which may be there once.
func (s *signer) take(options []string) (err error) {
	seen := map[string]bool{}
	for _, o := range options {
		name, quoted, given := strings.Cut(o, "=")
		name = strings.ToLower(name)
		if seen[name] {
			return fmt.Errorf("the option %s is there twice", name)
		}
		seen[name] = true
		value, isQuoted := unquoted(quoted)
		switch {
		case name != "namespaces" && name != "valid-after" && name != "valid-before":
			return fmt.Errorf("the option %s is not supported", name)
		case !given || !isQuoted || value == "":
			return fmt.Errorf("the option %s needs a value in quotes", name)
		case name == "namespaces":
			s.namespaces = value
		case name == "valid-after":
			s.after, err = signerTime(value)
		default:
			s.before, err = signerTime(value)
		}
		if err != nil {
			return err
		}
	}
	if !s.after.IsZero() && !s.before.IsZero() && !s.after.Before(s.before) {
		return errors.New("it is valid at no time: valid-after is not before valid-before")
	}
	return nil
}

func unquoted(text string) (string, bool) {
	if len(text) < 2 || text[0] != '"' || text[len(text)-1] != '"' {
		return "", false
	}
	return text[1 : len(text)-1], true
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

// owner is whose a key is, by all lines of the list that have it.
type owner struct {
	principal string   // the first name of the line that counts
	names     []string // every name of every line
}

// find returns the owner of a key that may sign in a namespace at a time. A key
// whose names are patterns is nobody's in particular, and counts for nobody.
func (all Signers) find(key ssh.PublicKey, at time.Time, namespace string) (*owner, error) {
	out := &owner{}
	var why error
	for i := range all {
		s := &all[i]
		if !bytes.Equal(s.key.Marshal(), key.Marshal()) {
			continue
		}
		out.names = append(out.names, s.principals...)
		switch {
		case s.namespaces != "" && !matchesList(namespace, s.namespaces):
			why = fmt.Errorf("the key of %s is not allowed for %s", s.principals[0], namespace)
		case !s.after.IsZero() && at.Before(s.after), !s.before.IsZero() && !at.Before(s.before):
			why = fmt.Errorf("the key of %s is not valid now", s.principals[0])
		case out.principal == "":
			out.principal = s.principals[0]
		}
	}
	if i := slices.IndexFunc(out.names, isPattern); i >= 0 {
		return nil, fmt.Errorf(
			"the owner of the key %s cannot be told: %q on the list of allowed signers is a pattern, not a name",
			ssh.FingerprintSHA256(key), out.names[i])
	}
	switch {
	case out.principal != "":
		return out, nil
	case why != nil:
		return nil, why
	}
	return nil, fmt.Errorf("the key %s is not among the allowed signers", ssh.FingerprintSHA256(key))
}

func isPattern(name string) bool { return strings.ContainsAny(name, "*?!") }

// Holds tells whether a key may sign now, for choosing one of an agent's.
func (all Signers) Holds(key ssh.PublicKey) bool {
	_, err := all.find(key, time.Now(), SignatureNamespace)
	return err == nil
}

// is tells whether somebody who is known by a name is the owner.
func (o *owner) is(name string) bool {
	return slices.ContainsFunc(o.names, func(mine string) bool { return samePerson(mine, name) })
}

// same tells whether two owners are one person, by any of their names.
func (o *owner) same(other *owner) bool { return slices.ContainsFunc(other.names, o.is) }

// samePerson compares two names, name@host, by what stands before the @.
func samePerson(a, b string) bool {
	a, _, _ = strings.Cut(a, "@")
	b, _, _ = strings.Cut(b, "@")
	return strings.EqualFold(strings.TrimSpace(a), strings.TrimSpace(b))
}

// matchesList tells whether a list of patterns, with commas between them, takes
// a name; one with ! before it that matches refuses it, wherever it stands.
func matchesList(name, patterns string) bool {
	taken := false
	for p := range strings.SplitSeq(patterns, ",") {
		p, negated := strings.CutPrefix(p, "!")
		if !matchesPattern(name, p) {
			continue
		}
		if negated {
			return false
		}
		taken = true
	}
	return taken
}

// matchesPattern matches a name against a pattern, in which * stands for any
// characters and ? for one.
func matchesPattern(name, pattern string) bool {
	for pattern != "" {
		switch {
		case pattern[0] == '*':
			for i := range len(name) + 1 {
				if matchesPattern(name[i:], pattern[1:]) {
					return true
				}
			}
			return false
		case name == "" || pattern[0] != '?' && pattern[0] != name[0]:
			return false
		}
		name, pattern = name[1:], pattern[1:]
	}
	return name == ""
}
