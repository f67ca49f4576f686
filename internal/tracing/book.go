// Package tracing makes of what logs say of sign-ins who was refused, since when, from
// where, by what and how often, and what that most likely is.
package tracing

import (
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/logs"
)

// Names are what one account is called in logs.
type Names struct {
	Logon string   // sAMAccountName, or uid; of a computer with its $
	Also  []string // userPrincipalName, mail: whole names, whatever domain is in them
	DN    string
	SID   string // S-1-5-21-…, "" for none
}

// Book joins the names that logs hold with accounts. The zero value knows nobody.
type Book struct {
	// Realms are the directory's own names: larkmoor.example, LARKMOOR. What stands
	// before a backslash, or behind an @, is one of them or somebody else's.
	Realms []string
	// SID is the domain's, "" where accounts have none.
	SID string
	// Base is the folded name of its top.
	Base string

	known map[directory.Key]int
}

// several stands for a name that more than one account has: it is nobody's then.
const several = -1

// The kinds of names, so that a logon name is not taken for a DN.
const (
	byLogon = "l:"
	byUPN   = "u:"
	byDN    = "d:"
	bySID   = "s:"
)

// Add makes an account known under its names; the number is the caller's.
func (b *Book) Add(number int, n Names) {
	if b.known == nil {
		b.known = map[directory.Key]int{}
	}
	b.put(byLogon, n.Logon, number)
	for _, name := range n.Also {
		b.put(byUPN, name, number)
	}
	b.put(bySID, n.SID, number)
	if n.DN != "" {
		b.put(byDN, directory.FoldDN(n.DN), number)
	}
}

func (b *Book) put(kind, name string, number int) {
	if name == "" {
		return
	}
	k := directory.TextKey(kind + name)
	if other, taken := b.known[k]; taken && other != number {
		number = several
	}
	b.known[k] = number
}

// Match is what a name in a log is to a directory.
type Match uint8

// A name is that of an account, of nobody, of somebody of another directory or of one
// machine only, or of several accounts.
const (
	Known Match = iota + 1
	Nobody
	Elsewhere
	Several
)

// Find tells whose name an event has. A name that no account has may be of a deleted
// account, or made up.
func (b *Book) Find(e *logs.Event) (number int, m Match) {
	if e.SID != "" {
		if number, is := b.get(bySID, e.SID); is {
			return number, match(number)
		}
		if b.SID != "" && !strings.HasPrefix(e.SID, b.SID+"-") {
			return 0, Elsewhere // of another domain, or of one machine
		}
		if b.SID != "" {
			return 0, Nobody
		}
	}
	if strings.IndexByte(e.Name, '=') > 0 {
		if folded, is := directory.FoldValidDN(e.Name); is {
			if number, is := b.get(byDN, folded); is {
				return number, match(number)
			}
			if b.Base != "" && folded != b.Base && !strings.HasSuffix(folded, ","+b.Base) {
				return 0, Elsewhere
			}
			return 0, Nobody
		}
	}
	if number, is := b.get(byUPN, e.Name); is {
		return number, match(number)
	}
	name, domain := split(e)
	if domain != "" && domain != "." && !b.ours(domain) {
		return 0, Elsewhere
	}
	if number, is := b.get(byLogon, name); is {
		return number, match(number)
	}
	return 0, Nobody
}

// split takes the domain off a name: domain\name, or name@domain.
func split(e *logs.Event) (name, domain string) {
	name, domain = e.Name, e.Domain
	if before, after, is := strings.Cut(name, `\`); is {
		name, domain = after, before
	}
	if at := strings.LastIndexByte(name, '@'); at > 0 {
		name, domain = name[:at], name[at+1:]
	}
	return name, domain
}

// plain is a name that no account has, however it is written: the logon name in it, in
// lower case.
func (b *Book) plain(e *logs.Event) string {
	if e.Name == "" {
		return e.SID
	}
	if folded, is := directory.FoldValidDN(e.Name); is && strings.IndexByte(e.Name, '=') > 0 {
		return folded
	}
	name, domain := split(e)
	if domain == "" || domain == "." || b.ours(domain) {
		return strings.ToLower(name)
	}
	return strings.ToLower(name + "@" + domain)
}

func match(number int) Match {
	if number == several {
		return Several
	}
	return Known
}

func (b *Book) get(kind, name string) (int, bool) {
	n, is := b.known[directory.TextKey(kind+name)]
	return n, is
}

func (b *Book) ours(domain string) bool {
	for _, realm := range b.Realms {
		if strings.EqualFold(realm, domain) {
			return true
		}
	}
	return false
}
