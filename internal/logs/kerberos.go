package logs

import (
	"bytes"
	"net/netip"
	"strings"
	"time"
)

// mitAnswers are what a key server of MIT says of a request for a first ticket.
var mitAnswers = map[string]Why{"PREAUTH_FAILED": WrongPassword, "CLIENT_NOT_FOUND": NoSuchAccount, "LOCKED_OUT": AccountLocked,
	"CLIENT LOCKED OUT": Revoked, "CLIENT EXPIRED": AccountExpired, "CLIENT KEY EXPIRED": PasswordExpired, "REQUIRED PWCHANGE": MustChange,
	"BAD_ENCRYPTION_TYPE": Encryption, "CANT_FIND_CLIENT_KEY": Encryption, "CLOCK_SKEW": ClockSkew}

// mitLine takes a line of a key server of MIT: AS_REQ (8 etypes {18 17}) 10.0.0.1:
// PREAUTH_FAILED: ada@REALM for krbtgt/REALM@REALM, Preauthentication failed.
func (r *Reader) mitLine(h *header, message []byte) {
	if bytes.Contains(message, []byte("verify failure: Clock skew")) {
		r.skewed = h.at // the line that names somebody comes next
		return
	}
	_, rest, ok := bytes.Cut(message, []byte("AS_REQ ("))
	if !ok {
		return
	}
	if _, rest, ok = bytes.Cut(rest, []byte(") ")); !ok {
		return
	}
	from, rest, ok := bytes.Cut(rest, []byte(": "))
	if !ok {
		return
	}
	answer, rest, ok := bytes.Cut(rest, []byte(": "))
	if !ok {
		return
	}
	e := &Event{At: h.at, Via: "Kerberos", Address: address(string(from)), Server: h.host, Kind: "MIT KDC", Line: r.number}
	skewed := r.skewed
	r.skewed = time.Time{}
	switch string(answer) {
	case "NEEDED_PREAUTH", "MORE_PREAUTH_DATA_REQUIRED":
		return
	case "ISSUE":
		e.What = SignedIn
		at := bytes.LastIndex(rest, []byte("}, ")) // after the kinds of encryption
		if at < 0 {
			return
		}
		rest = rest[at+3:]
	default:
		e.What, e.Code, e.Why = Refused, string(answer), mitAnswers[string(answer)]
		if e.Why == WrongPassword && !skewed.IsZero() && h.at.Sub(skewed) <= time.Second {
			e.Why = ClockSkew
		}
	}
	name, service, ok := bytes.Cut(rest, []byte(" for "))
	if !ok {
		return
	}
	if bytes.HasPrefix(service, []byte("kadmin/")) {
		e.Via = "Kerberos, to change the password"
	}
	e.Name = string(name)
	r.give(e)
}

// heimdalLine takes a line of a key server of Heimdal, which says in several what came of
// a request: AS-REQ ada@REALM from IPv4:10.0.0.1 for krbtgt/REALM@REALM, and then what
// it found.
func (r *Reader) heimdalLine(h *header, message []byte) bool {
	message = bytes.TrimPrefix(message, []byte("Kerberos: "))
	if rest, is := bytes.CutPrefix(message, []byte("AS-REQ ")); is {
		name, rest, ok := bytes.Cut(rest, []byte(" from "))
		if !ok {
			return true // when it was answered
		}
		from, service, _ := bytes.Cut(rest, []byte(" for "))
		r.settle()
		r.asked = request{name: string(name), address: heimdalAddress(string(from)), change: bytes.HasPrefix(service, []byte("kadmin/"))}
		return true
	}
	name, what, why, ok := heimdalAnswer(string(message))
	if !ok {
		return false
	}
	if r.passed != nil && r.passed.Name != name {
		r.settle()
	}
	e := &Event{At: h.at, What: what, Why: why, Name: name, Via: "Kerberos", Server: h.host, Kind: "Heimdal KDC", Line: r.number}
	if what == Refused {
		e.Code = heimdalWords(string(message), name)
	}
	if r.asked.name == name {
		e.Address = r.asked.address
		if r.asked.change {
			e.Via = "Kerberos, to change the password"
		}
	}
	if what == SignedIn {
		// What comes after it may still refuse: wait for the next line of another kind.
		r.passed = e
		return true
	}
	r.passed = nil
	r.give(e)
	return true
}

// settle gives a sign-in by Kerberos against which no later line has spoken.
func (r *Reader) settle() {
	if r.passed != nil {
		e := r.passed
		r.passed = nil
		r.give(e)
	}
}

// request is what a key server was asked for last.
type request struct {
	name    string
	address netip.Addr
	change  bool
}

func heimdalAddress(text string) netip.Addr {
	kind, rest, ok := strings.Cut(text, ":")
	if !ok || kind != "IPv4" && kind != "IPv6" && kind != "ipv4" && kind != "ipv6" {
		return netip.Addr{}
	}
	if at, err := netip.ParseAddrPort(rest); err == nil { // as Samba has it
		return at.Addr().Unmap().WithZone("")
	}
	return address(rest)
}

// heimdalAnswer reads what a line says of whom.
func heimdalAnswer(m string) (name string, what What, why Why, ok bool) {
	dashed := func(prefix string) bool {
		if !strings.HasPrefix(m, prefix) {
			return false
		}
		_, after, found := strings.Cut(m, " -- ")
		name, _, _ = strings.Cut(after, " ")
		name = strings.TrimSuffix(name, ":")
		return found
	}
	switch {
	case dashed("Failed to decrypt PA-DATA"):
		return name, Refused, WrongPassword, true
	case dashed("UNKNOWN"), dashed("Client no longer in database"):
		return name, Refused, NoSuchAccount, true
	case dashed("Too large time skew"):
		return name, Refused, ClockSkew, true
	case dashed("Client expired"):
		return name, Refused, AccountExpired, true
	case dashed("Client's key has expired"):
		return name, Refused, PasswordExpired, true
	case dashed("No preauth found, returning PREAUTH_REQUIRED"), dashed("Need to use PA-ENC-TIMESTAMP"):
		return "", 0, 0, false
	case dashed("ENC-TS Pre-authentication succeeded"), dashed("ENC-TS pre-authentication succeeded"), dashed("PKINIT pre-authentication succeeded"),
		dashed("ENC-CHAL Pre-authentication succeeded"):
		return name, SignedIn, 0, true
	}
	if rest, is := strings.CutPrefix(m, "Client ("); is {
		name, rest, ok = strings.Cut(rest, ")")
		switch {
		case !ok:
		case strings.Contains(rest, "invalid bit set"), strings.Contains(rest, "is locked out"):
			return name, Refused, Revoked, true
		case strings.Contains(rest, "has no common enctypes"):
			return name, Refused, Encryption, true
		}
	}
	return "", 0, 0, false
}

// heimdalWords is what a line says, without whom it is about.
func heimdalWords(m, name string) string {
	m = strings.ReplaceAll(m, " -- "+name, "")
	m = strings.ReplaceAll(m, " ("+name+")", "")
	if len(m) > 60 {
		m, _, _ = strings.Cut(m, " (")
	}
	return m[:min(len(m), 60)]
}
