// Package tracing makes of what logs say of sign-ins who was refused, since when, from
// where, by what and how often, and what that most likely is.
package tracing

import (
	"strconv"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/logs"
)

// Names are what one account is called in logs.
type Names struct {
	Logon string   // sAMAccountName, or uid; of a computer with its $
	Also  []string // userPrincipalName, mail: whole names, whatever domain is in them
	DN    string
	Key   directory.Key // of the DN, where that is known already
	SID   string        // S-1-5-21-…, "" for none
	RID   uint32        // the last part of it, where that is known already
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

	logons, whole, names map[directory.Key]int32
	rids                 map[uint32]int32
}

// several stands for a name that more than one account has: it is nobody's then.
const several = -1

// Add makes an account known under its names; the number is the caller's.
func (b *Book) Add(number int, n Names) {
	b.Expect(0)
	put(b.logons, directory.TextKey(n.Logon), number, n.Logon != "")
	for _, name := range n.Also {
		put(b.whole, directory.TextKey(name), number, name != "")
	}
	key := n.Key
	if n.DN != "" {
		key = directory.KeyOf(n.DN)
	}
	put(b.names, key, number, key != directory.Key{})
	rid := n.RID
	if r, ok := b.rid(n.SID); ok {
		rid = r
	}
	put(b.rids, rid, number, rid != 0)
}

// Expect makes room for so many accounts.
func (b *Book) Expect(accounts int) {
	if b.logons == nil {
		b.logons, b.whole = make(map[directory.Key]int32, accounts), make(map[directory.Key]int32, accounts)
		b.names, b.rids = make(map[directory.Key]int32, accounts), make(map[uint32]int32, accounts)
	}
}

func put[K comparable](known map[K]int32, k K, number int, is bool) {
	if !is {
		return
	}
	if other, taken := known[k]; taken && other != int32(number) {
		number = several
	}
	known[k] = int32(number)
}

// rid is the last part of an identifier of the domain.
func (b *Book) rid(sid string) (rid uint32, ok bool) {
	last, ok := strings.CutPrefix(sid, b.SID+"-")
	if !ok || b.SID == "" {
		return 0, false
	}
	n, err := strconv.ParseUint(last, 10, 32)
	return uint32(n), err == nil
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
		if rid, ours := b.rid(e.SID); ours {
			if number, is := b.rids[rid]; is {
				return found(number)
			}
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
			if number, is := b.names[directory.KeyOf(folded)]; is {
				return found(number)
			}
			if b.Base != "" && folded != b.Base && !strings.HasSuffix(folded, ","+b.Base) {
				return 0, Elsewhere
			}
			return 0, Nobody
		}
	}
	if number, is := b.whole[directory.TextKey(e.Name)]; is {
		return found(number)
	}
	name, domain := split(e)
	if domain != "" && domain != "." && !b.ours(domain) {
		return 0, Elsewhere
	}
	if number, is := b.logons[directory.TextKey(name)]; is {
		return found(number)
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

func found(number int32) (int, Match) {
	if number == several {
		return several, Several
	}
	return int(number), Known
}

func (b *Book) ours(domain string) bool {
	for _, realm := range b.Realms {
		if strings.EqualFold(realm, domain) {
			return true
		}
	}
	return false
}
