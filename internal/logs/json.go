package logs

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	fastjson "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// jsonLine takes an object that stands on a line of its own.
func (r *Reader) jsonLine(line []byte) error {
	switch {
	case r.o.Mapping != nil:
		return r.mappedObject(line)
	case bytes.Contains(line, []byte(`"conn_id"`)):
		var l securityLine
		if err := json.Unmarshal(line, &l); err != nil {
			return err
		}
		e, err := r.securityEvent(&l)
		if e != nil {
			r.give(e)
		}
		return err
	case bytes.Contains(line, []byte(`"Authentication"`)) || bytes.Contains(line, []byte(`"dsdbChange"`)) || bytes.Contains(line, []byte(`"passwordChange"`)):
		return r.sambaLine(line)
	case !bytes.Contains(line, []byte(`47`)) && !bytes.Contains(line, []byte(`46`)): // no identifier of a security event
		if !json.Valid(line) {
			return errors.New("not a JSON object")
		}
		r.foreign()
		return nil
	}
	rec, err := r.windowsObject(line)
	if err != nil || rec == nil {
		return err
	}
	r.saw(rec.at)
	if e := rec.event(); e != nil {
		e.Line = r.number
		r.give(e)
	}
	return nil
}

// sambaLine is a line of Samba's JSON audit.
type sambaLine struct {
	Timestamp      string `json:"timestamp"`
	Type           string `json:"type"`
	Authentication struct {
		EventID            int    `json:"eventId"`
		LogonType          int    `json:"logonType"`
		Status             string `json:"status"`
		RemoteAddress      string `json:"remoteAddress"`
		ServiceDescription string `json:"serviceDescription"`
		AuthDescription    string `json:"authDescription"`
		ClientDomain       string `json:"clientDomain"`
		ClientAccount      string `json:"clientAccount"`
		Workstation        string `json:"workstation"`
		BecameSid          string `json:"becameSid"`
		MappedAccount      string `json:"mappedAccount"`
		MappedDomain       string `json:"mappedDomain"`
		NetlogonComputer   string `json:"netlogonComputer"`
	} `json:"Authentication"`
	DSDBChange struct {
		Status            string `json:"status"`
		Operation         string `json:"operation"`
		RemoteAddress     string `json:"remoteAddress"`
		PerformedAsSystem bool   `json:"performedAsSystem"`
		UserSid           string `json:"userSid"`
		DN                string `json:"dn"`
		Attributes        map[string]struct {
			Actions []struct {
				Action string `json:"action"`
				Values []struct {
					Value string `json:"value"`
				} `json:"values"`
			} `json:"actions"`
		} `json:"attributes"`
	} `json:"dsdbChange"`
	PasswordChange struct {
		EventID       int    `json:"eventId"`
		Status        string `json:"status"`
		RemoteAddress string `json:"remoteAddress"`
		UserSid       string `json:"userSid"`
		DN            string `json:"dn"`
	} `json:"passwordChange"`
}

// sambaStatuses are the words of Samba for refused sign-ins.
var sambaStatuses = map[string]Why{"NT_STATUS_WRONG_PASSWORD": WrongPassword, "NT_STATUS_LOGON_FAILURE": WrongPassword, "NT_STATUS_NO_SUCH_USER": NoSuchAccount,
	"NT_STATUS_ACCOUNT_LOCKED_OUT": AccountLocked, "NT_STATUS_ACCOUNT_DISABLED": AccountDisabled, "NT_STATUS_ACCOUNT_EXPIRED": AccountExpired,
	"NT_STATUS_PASSWORD_EXPIRED": PasswordExpired, "NT_STATUS_PASSWORD_MUST_CHANGE": MustChange, "NT_STATUS_INVALID_LOGON_HOURS": NotNow,
	"NT_STATUS_INVALID_WORKSTATION": NotHere, "NT_STATUS_LOGON_TYPE_NOT_GRANTED": NotHere, "NT_STATUS_ACCOUNT_RESTRICTION": NotHere,
	"NT_STATUS_TIME_DIFFERENCE_AT_DC": ClockSkew, "NT_STATUS_AUTHENTICATION_FIREWALL_FAILED": NotHere}

// leniently takes what servers write as they write it: names may come twice, and octets
// that are no characters are somebody's.
var leniently = fastjson.JoinOptions(jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))

func (r *Reader) sambaLine(line []byte) error {
	var l sambaLine
	if err := fastjson.Unmarshal(line, &l, leniently); err != nil {
		return err
	}
	at, err := r.o.stamp(l.Timestamp)
	if err != nil {
		return fmt.Errorf("timestamp: %w", err)
	}
	r.saw(at)
	switch l.Type {
	case "Authentication":
		a := &l.Authentication
		e := &Event{At: at, What: SignedIn, Name: a.ClientAccount, Domain: a.ClientDomain, SID: a.BecameSid, Kind: "samba", Line: r.number,
			Address: sambaAddress(a.RemoteAddress), Type: LogonType(a.LogonType), Via: sambaVia(a.ServiceDescription, a.AuthDescription)}
		if a.ServiceDescription != "LDAP" { // there it is the server itself
			e.Machine = strings.TrimPrefix(a.Workstation, `\\`)
		}
		if e.Machine == "" {
			e.Machine = a.NetlogonComputer
		}
		if a.MappedAccount != "" {
			e.Name, e.Domain = a.MappedAccount, a.MappedDomain
		}
		if a.Status != "NT_STATUS_OK" {
			e.What, e.Code, e.Why = Refused, a.Status, sambaStatuses[a.Status]
		}
		if e.Name != "" {
			r.give(e)
		}
	case "dsdbChange":
		if e := l.change(at); e != nil {
			e.Line = r.number
			r.give(e)
		}
	case "passwordChange":
		c := &l.PasswordChange
		if c.Status == "Success" {
			e := &Event{At: at, What: PasswordChanged, Name: c.DN, By: c.UserSid, Address: sambaAddress(c.RemoteAddress), Kind: "samba", Line: r.number}
			if c.EventID == evPasswordReset {
				e.What = PasswordReset
			}
			r.give(e)
		}
	}
	return nil
}

// bookkeeping are attributes that the server itself writes when somebody signs in.
var bookkeeping = []string{"lastlogon", "lastlogontimestamp", "logoncount", "badpwdcount", "badpasswordtime"}

// change tells what was changed of an entry.
func (l *sambaLine) change(at time.Time) *Event {
	c := &l.DSDBChange
	if c.Status != "Success" {
		return nil
	}
	e := &Event{At: at, Name: c.DN, By: c.UserSid, Address: sambaAddress(c.RemoteAddress), Kind: "samba"}
	switch c.Operation {
	case "Add":
		e.What = Created
		return e
	case "Delete":
		e.What = Deleted
		return e
	case "Rename":
		e.What, e.Change = Renamed, "or moved"
		return e
	}
	var others []string
	for name, attr := range c.Attributes {
		value := ""
		for _, a := range attr.Actions {
			if len(a.Values) > 0 {
				value = a.Values[len(a.Values)-1].Value
			}
		}
		switch lower := strings.ToLower(name); {
		case lower == "lockouttime" && value == "0":
			e.What = Unlocked
		case lower == "lockouttime" && value != "":
			e.What, e.By = Locked, ""
		case lower == "useraccountcontrol" && value != "":
			e.Change = "userAccountControl " + value
			if n, err := strconv.ParseInt(value, 10, 64); err == nil && e.What == 0 {
				if e.What = Enabled; n&2 != 0 {
					e.What = Disabled
				}
			}
		case slices.Contains(bookkeeping, lower):
		default:
			others = append(others, name)
		}
	}
	if e.What == 0 {
		if len(others) == 0 {
			return nil
		}
		slices.Sort(others)
		e.What, e.Change = Changed, strings.Join(others, ", ")
	}
	return e
}

// sambaAddress reads ipv4:10.0.0.1:41234.
func sambaAddress(text string) netip.Addr {
	_, rest, ok := strings.Cut(text, ":")
	if !ok {
		return netip.Addr{}
	}
	if at, err := netip.ParseAddrPort(rest); err == nil {
		return at.Addr().Unmap().WithZone("")
	}
	if i := strings.LastIndexByte(rest, ':'); i > 0 { // ipv6:fd00::1:41234
		return address(rest[:i])
	}
	return address(rest)
}

func sambaVia(service, how string) string {
	switch {
	case strings.HasPrefix(service, "Kerberos"):
		return "Kerberos"
	case service == "LDAP":
		return "LDAP"
	case strings.HasPrefix(service, "SMB"):
		return "file service"
	case strings.HasPrefix(service, "NETLOGON"), strings.HasPrefix(service, "SamLogon"):
		return "NTLM"
	}
	return joinWords(service, how)
}

// windowsObject finds a security event in an object, however whoever forwarded it has
// nested and spelt it: the names of Windows' own values are known by their last part,
// in any case, with or without separators.
func (r *Reader) windowsObject(line []byte) (*record, error) {
	dec := json.NewDecoder(bytes.NewReader(line))
	dec.UseNumber()
	var top map[string]any
	if err := dec.Decode(&top); err != nil {
		return nil, err
	}
	w := &walked{record: record{data: map[string]string{}}}
	w.object(top, "", 0)
	if w.id == 0 {
		r.foreign()
		return nil, nil
	}
	if w.when == "" {
		return nil, errors.New("an event without a time")
	}
	var err error
	if w.at, err = r.o.stamp(w.when); err != nil {
		return nil, err
	}
	return &w.record, nil
}

// walked is what was found in an object so far.
type walked struct {
	record
	when     string
	rank     int // how well that name suits
	computer int
}

// times are names of the time of an event, the best first: the one at which it was
// received comes last.
var times = []string{"systemtime", "timecreated", "eventtime", "timegenerated", "timestamp", "time"}

// computers are names of the machine whose log it is, the best first.
var computers = []string{"computer", "computername", "hostname", "host"}

func foldKey(key string) string {
	return strings.Map(func(c rune) rune {
		switch {
		case c >= 'A' && c <= 'Z':
			return c + 'a' - 'A'
		case c == '_' || c == '-' || c == ' ' || c == '@' || c == '#' || c == '$':
			return -1
		}
		return c
	}, key)
}

const deepest = 12

func (w *walked) object(o map[string]any, parent string, depth int) {
	if depth > deepest {
		return
	}
	if name, value, is := named(o); is { // {"Name": "TargetUserName", "#text": "ada"}
		w.set(foldKey(name), value, "eventdata")
		return
	}
	keys := make([]string, 0, len(o))
	for key := range o {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	for _, key := range keys {
		up := parent
		last := key
		if i := strings.LastIndexByte(key, '.'); i >= 0 {
			up, last = foldKey(key[:i]), key[i+1:]
			if i := strings.LastIndexByte(up, '.'); i >= 0 {
				up = up[i+1:]
			}
		}
		switch v := o[key].(type) {
		case map[string]any:
			if text, is := textOf(v); is {
				w.set(foldKey(last), text, up)
			}
			w.object(v, foldKey(last), depth+1)
		case []any:
			for _, one := range v {
				if inner, is := one.(map[string]any); is {
					w.object(inner, foldKey(last), depth+1)
				}
			}
		case string:
			w.set(foldKey(last), v, up)
		case json.Number:
			w.set(foldKey(last), v.String(), up)
		}
	}
}

// named is a value that stands beside its name.
func named(o map[string]any) (name, value string, ok bool) {
	for key, v := range o {
		text, isText := v.(string)
		switch foldKey(key) {
		case "name":
			name = text
		case "text", "value", "content":
			value = text
			if n, isNumber := v.(json.Number); isNumber {
				value, isText = n.String(), true
			}
			ok = isText
		}
	}
	return name, value, ok && name != ""
}

// textOf is the text of an element that has attributes besides.
func textOf(o map[string]any) (string, bool) {
	for key, v := range o {
		if k := foldKey(key); k == "text" || k == "value" {
			switch t := v.(type) {
			case string:
				return t, true
			case json.Number:
				return t.String(), true
			}
		}
	}
	return "", false
}

func (w *walked) set(key, value, parent string) {
	switch {
	case key == "eventid" || key == "eventcode" || key == "id" && parent == "event":
		if n, err := strconv.Atoi(value); err == nil && w.id == 0 {
			w.id = n
		}
		return
	}
	if rank := len(times) - slices.Index(times, key); rank <= len(times) && rank > w.rank {
		w.when, w.rank = value, rank
	}
	if rank := len(computers) - slices.Index(computers, key); rank <= len(computers) && rank > w.computer {
		w.record.computer, w.computer = value, rank
	}
	if _, there := w.data[key]; len(w.data) < mostValues && (!there || parent == "eventdata") {
		w.data[key] = value
	}
}
