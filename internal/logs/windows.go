package logs

import (
	"net/netip"
	"strconv"
	"strings"
	"time"
)

// The security events of Windows that tell of sign-ins and of changed accounts, by
// their public identifiers.
const (
	evSignedIn        = 4624
	evRefused         = 4625
	evCreated         = 4720
	evEnabled         = 4722
	evPasswordChange  = 4723
	evPasswordReset   = 4724
	evDisabled        = 4725
	evDeleted         = 4726
	evChanged         = 4738
	evLocked          = 4740
	evUnlocked        = 4767
	evTicket          = 4768
	evPreAuthFailed   = 4771
	evCredentials     = 4776
	evRenamed         = 4781
	noSecurityAccount = "S-1-0-0"
)

var windowsChanges = map[int]What{evCreated: Created, evEnabled: Enabled, evPasswordChange: PasswordChanged, evPasswordReset: PasswordReset,
	evDisabled: Disabled, evDeleted: Deleted, evChanged: Changed, evUnlocked: Unlocked, evRenamed: Renamed}

// record is one security event of Windows, however it was written.
type record struct {
	id       int
	at       time.Time
	computer string
	data     map[string]string // by name, in lower case
}

// get returns a value; "-" stands for none.
func (r *record) get(name string) string {
	if v := strings.TrimSpace(r.data[strings.ToLower(name)]); v != "-" {
		return v
	}
	return ""
}

// event tells what a security event says of an account; nil for one that says nothing of
// sign-ins.
func (r *record) event() *Event {
	e := &Event{At: r.at, Server: r.computer, Kind: strconv.Itoa(r.id), Name: r.get("TargetUserName"), Domain: r.get("TargetDomainName"),
		SID: r.get("TargetSid"), Address: address(r.get("IpAddress"))}
	if e.SID == "" {
		e.SID = r.get("TargetUserSid")
	}
	if e.SID == noSecurityAccount || !strings.HasPrefix(e.SID, "S-") {
		e.SID = ""
	}
	switch r.id {
	case evSignedIn, evRefused:
		e.What, e.Machine = SignedIn, r.get("WorkstationName")
		if r.id == evRefused {
			e.What = Refused
			e.Why, e.Code = whyOf(r.get("Status"), r.get("SubStatus"))
		}
		if n, err := strconv.ParseUint(r.get("LogonType"), 10, 8); err == nil {
			e.Type = LogonType(n)
		}
		e.Via = logonTypes[e.Type]
		if p := r.get("ProcessName"); p != "" && e.Type != Network {
			e.Via = joinWords(e.Via, baseName(p))
		}
		if e.Machine == "" && !e.Address.IsValid() {
			e.Machine = r.computer
		}
	case evCredentials:
		e.What, e.Machine, e.Via = SignedIn, r.get("Workstation"), "NTLM"
		if e.Why, e.Code = whyOf(r.get("Status"), ""); e.Code != "" {
			e.What = Refused
		}
	case evPreAuthFailed:
		e.What, e.Via = Refused, "Kerberos"
		e.Why, e.Code = whyOfTicket(r.get("Status"))
	case evTicket:
		e.What, e.Via = SignedIn, "Kerberos"
		if e.Why, e.Code = whyOfTicket(r.get("Status")); e.Code != "" {
			e.What = Refused
		}
	case evLocked:
		// What stands under TargetDomainName is the machine that the last try came from.
		e.What, e.Machine, e.Domain = Locked, r.get("TargetDomainName"), ""
	default:
		what, known := windowsChanges[r.id]
		if !known {
			return nil
		}
		e.What, e.By = what, r.get("SubjectUserName")
		if d := r.get("SubjectDomainName"); d != "" && e.By != "" {
			e.By = d + `\` + e.By
		}
		if r.id == evRenamed {
			e.Name = r.get("NewTargetUserName")
			e.Change = "from " + r.get("OldTargetUserName") + " to " + e.Name
		}
	}
	e.Machine = strings.TrimPrefix(e.Machine, `\\`)
	return e
}

func joinWords(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + ", " + b
}

// baseName is the file of a Windows path.
func baseName(path string) string { return path[strings.LastIndexAny(path, `\/`)+1:] }

// address reads an address as logs write it: ::ffff:10.0.0.1 is 10.0.0.1, and what is
// none is the zero Addr.
func address(text string) netip.Addr {
	a, err := netip.ParseAddr(strings.Trim(text, "[]"))
	if err != nil {
		return netip.Addr{}
	}
	return a.Unmap().WithZone("")
}

// statuses are the NTSTATUS values of refused sign-ins (MS-ERREF 2.3.1).
var statuses = map[uint64]Why{
	0xC000006A: WrongPassword, 0xC000006D: WrongPassword, 0xC0000064: NoSuchAccount, 0xC0000234: AccountLocked, 0xC0000072: AccountDisabled,
	0xC0000193: AccountExpired, 0xC0000071: PasswordExpired, 0xC0000224: MustChange, 0xC000006F: NotNow, 0xC0000070: NotHere,
	0xC000015B: NotHere, 0xC000006E: NotHere, 0xC0000133: ClockSkew, 0xC00002EE: WhyOther, 0xC0000192: WhyOther, 0xC000005E: WhyOther, 0xC0000413: NotHere,
}

// whyOf explains the status of an event; the code is "" for success. The sub-status says
// it more exactly where there is one.
func whyOf(status, sub string) (Why, string) {
	for _, text := range []string{sub, status} {
		if n, ok := number(text); ok && n != 0 {
			return statuses[n], "0x" + strconv.FormatUint(n, 16)
		}
	}
	if _, ok := number(status); ok || status == "" {
		return WhyOther, ""
	}
	return WhyOther, status
}

// tickets are the error codes of Kerberos (RFC 4120, section 7.5.9).
var tickets = map[uint64]Why{
	0x1: AccountExpired, 0x6: NoSuchAccount, 0x9: WhyOther, 0xC: NotHere, 0xE: Encryption, 0x12: Revoked, 0x17: PasswordExpired, 0x18: WrongPassword,
	0x22: Replay, 0x25: ClockSkew,
}

func whyOfTicket(status string) (Why, string) {
	n, ok := number(status)
	if !ok {
		return WhyOther, status
	}
	if n == 0 {
		return WhyOther, ""
	}
	return tickets[n], "0x" + strconv.FormatUint(n, 16)
}

// number reads a status: hexadecimal, or as a signed or unsigned decimal.
func number(text string) (uint64, bool) {
	text = strings.TrimSpace(text)
	if hex, ok := strings.CutPrefix(strings.ToLower(text), "0x"); ok {
		n, err := strconv.ParseUint(hex, 16, 64)
		return n & 0xFFFFFFFF, err == nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	return uint64(n) & 0xFFFFFFFF, err == nil
}
