// Package logs reads what servers write down about sign-ins: Windows security
// events (exported as XML or as JSON lines), the JSON audit lines of Samba, the
// statistics log of slapd, the access and security logs of 389 Directory Server, logs
// of Kerberos key servers (MIT, Heimdal), and anything else as CSV or JSON lines with
// a mapping. Each line is told by its own shape, whatever stands around it, so one file
// may hold several.
package logs

import (
	"net/netip"
	"time"
)

// Event is one thing that a log says of an account. Texts are as the log has them:
// they are somebody's, and may hold anything.
type Event struct {
	At   time.Time // UTC
	What What
	Why  Why    // why a sign-in was refused
	Code string // the log's own word for that: 0xc000006a, err=49, PREAUTH_FAILED

	Name   string // the account: a logon name, domain\name, a UPN or principal, a DN
	Domain string // that the log gives for it, often what somebody typed
	SID    string // S-1-5-…, "" where the log has none

	Machine string     // that it came from, as the log names it
	Address netip.Addr // that it came from; the zero Addr where the log has none
	Via     string     // by what: "Kerberos", "LDAP", "network", "at the machine"
	Type    LogonType
	Server  string // whose log it is: the settings' word, else the log's own

	By     string // who changed the account: a logon name or a SID
	Change string // what was changed, for people

	Kind string // of record: "4625", "slapd", "samba"; what tells two reports of one attempt apart
	Line int    // of the file, from 1
}

// What is what happened.
type What uint8

// What happens to accounts.
const (
	Refused  What = iota + 1 // somebody tried to sign in, and was refused
	SignedIn                 // somebody signed in
	Locked                   // the account was locked out
	Unlocked
	Created
	Enabled
	Disabled
	Deleted
	Renamed         // or moved, where a server has one word for both
	PasswordChanged // by its owner, who knew the old one
	PasswordReset   // by somebody else
	Changed         // something else of it
)

var whats = [...]string{"", "refused", "signed in", "locked out", "unlocked", "created", "enabled", "disabled",
	"deleted", "renamed", "password changed", "password reset", "changed"}

func (w What) String() string { return whats[w] }

// IsChange tells whether somebody changed the account.
func (w What) IsChange() bool { return w >= Unlocked }

// Why is why a sign-in was refused.
type Why uint8

// Why sign-ins are refused.
const (
	WhyOther Why = iota
	WrongPassword
	// WrongOrLocked is what servers say that do not tell a wrong password from a locked
	// or disabled account, or from a name that they do not know.
	WrongOrLocked
	NoSuchAccount
	AccountLocked
	AccountDisabled
	AccountExpired
	// Revoked is disabled, expired or locked out: Kerberos has one word for all.
	Revoked
	PasswordExpired
	MustChange
	NotNow     // outside the hours in which it may
	NotHere    // not from this machine, or not in this way
	ClockSkew  // the clocks of client and server differ too much
	Encryption // no kind of encryption that both sides have
	Replay     // the very same request was seen before
)

var whys = [...]string{"refused", "wrong password", "wrong password, or locked", "no such account", "locked out", "disabled", "expired",
	"disabled, expired or locked", "password expired", "password must be changed", "outside its hours", "not allowed from there",
	"clocks differ", "no common encryption", "a repeated request"}

func (w Why) String() string { return whys[w] }

// IsPassword tells whether a password was, or may have been, wrong.
func (w Why) IsPassword() bool { return w == WrongPassword || w == WrongOrLocked }

// LogonType is how somebody signs in to a Windows machine, by its public number; 0
// where nobody says.
type LogonType uint8

// The types that judgements need.
const (
	Interactive       LogonType = 2
	Network           LogonType = 3
	BatchJob          LogonType = 4
	Service           LogonType = 5
	Unlock            LogonType = 7
	NetworkCleartext  LogonType = 8
	NewCredentials    LogonType = 9
	RemoteInteractive LogonType = 10
	CachedInteractive LogonType = 11
)

var logonTypes = map[LogonType]string{Interactive: "at the machine", Network: "network", BatchJob: "scheduled task", Service: "service",
	Unlock: "unlocking the screen", NetworkCleartext: "network, password in clear", NewCredentials: "other credentials",
	RemoteInteractive: "remote desktop", CachedInteractive: "at the machine, offline"}

// IsPerson tells whether somebody sat before the machine, or its remote desktop.
func (t LogonType) IsPerson() bool {
	return t == Interactive || t == Unlock || t == RemoteInteractive || t == CachedInteractive
}
