package logs

import (
	"bytes"
	"strings"
)

// ldapLine takes a line of a server that numbers its connections: slapd at the level
// "stats", or the access log of a 389 Directory Server.
func (r *Reader) ldapLine(h *header, message []byte, ds bool) bool {
	if bytes.HasPrefix(message, []byte("slapd starting")) {
		return true
	}
	n, op, rest, ok := numbered(message)
	if !ok {
		return false
	}
	id := connection{hostKey(h.host), n}
	switch {
	case bytes.HasPrefix(rest, []byte("BIND ")):
		r.bindLine(h, id, op, rest)
	case bytes.HasPrefix(rest, []byte("RESULT ")) && op >= 0:
		if tag, _ := value(rest, "tag"); tag == "97" {
			kind := "slapd"
			if ds {
				kind = "389 access"
			}
			r.joined.end(id, op, func(b *bind) *Event { return r.answered(b, rest, h, kind) }, r.give)
		}
	}
	return true
}

// bindLine takes a line that says who tries to sign in: dn="…" with the name that was
// given, or authcid="…" where a mechanism of its own names somebody.
func (r *Reader) bindLine(h *header, id connection, op int64, rest []byte) {
	name, ok := quoted(rest, "authcid")
	if !ok {
		if name, ok = quoted(rest, "dn"); !ok {
			return
		}
		if method, _ := value(rest, "method"); name == "" && method != "163" && method != "sasl" {
			return // anonymous
		}
	}
	if name != "" && !r.matters(name) {
		return
	}
	r.joined.begin(&bind{connection: id, place: r.place, op: op, name: name, at: h.at, line: r.number}, r.give)
}

// ldapResults are the results of a bind (RFC 4511, appendix A) that say why.
var ldapResults = map[string]Why{"49": WrongOrLocked, "32": NoSuchAccount, "53": AccountDisabled, "19": AccountLocked, "50": NotHere, "8": NotHere,
	"7": WhyOther, "13": NotHere, "48": NotHere, "51": WhyOther, "52": WhyOther}

// answered makes the event of a bind and its result; nil where a mechanism only asks for
// more.
func (r *Reader) answered(b *bind, rest []byte, h *header, kind string) *Event {
	code, _ := value(rest, "err")
	e := &Event{At: h.at, What: SignedIn, Name: b.name, Via: "LDAP", Server: h.host, Kind: kind, Line: b.line}
	if at := b.at; !at.IsZero() {
		e.At = at
	}
	switch code {
	case "0":
		if dn, ok := quoted(rest, "dn"); ok && dn != "" {
			e.Name = dn // as the server has found it
		}
	case "14":
		return nil
	default:
		e.What, e.Code = Refused, "err="+code
		why, known := ldapResults[code]
		if !known {
			why = WhyOther
		}
		e.Why = why
		said := strings.ToLower(string(rest))
		switch {
		case code == "49" && kind == "389 access" && strings.Contains(said, "no such entry"), strings.Contains(said, "no suffix for bind dn"):
			e.Why = NoSuchAccount
		case code == "49" && kind == "389 access":
			e.Why = WrongPassword // it has other words for a locked and a disabled account
		}
	}
	if e.Name == "" || !r.matters(e.Name) {
		return nil
	}
	return e
}

// securityEvents are the words of the security log of a 389 Directory Server.
var securityEvents = map[string]Why{"INVALID_PASSWORD": WrongPassword, "NO_SUCH_ENTRY": NoSuchAccount, "ACCOUNT_LOCKED": Revoked,
	"ACCOUNT_INACTIVE": AccountDisabled, "CERT_MAP_FAILED": NotHere}

// securityLine is a line of that log.
type securityLine struct {
	Date     string `json:"date"`
	Event    string `json:"event"`
	DN       string `json:"dn"`
	ClientIP string `json:"client_ip"`
	Msg      string `json:"msg"`
}

func (r *Reader) securityEvent(l *securityLine) (*Event, error) {
	at, err := r.o.stamp(strings.Trim(l.Date, "[] "))
	if err != nil {
		return nil, err
	}
	r.saw(at)
	e := &Event{At: at, Name: l.DN, Address: address(l.ClientIP), Via: "LDAP", Kind: "389 security", Line: r.number}
	switch l.Event {
	case "BIND_SUCCESS":
		e.What = SignedIn
	case "BIND_FAILED":
		e.What, e.Code, e.Why = Refused, l.Msg, securityEvents[l.Msg]
	default:
		return nil, nil
	}
	if l.DN == "" {
		return nil, nil
	}
	return e, nil
}
