package directory

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// fileTimeEpoch is 1601-01-01 UTC in Unix seconds.
const fileTimeEpoch = -11644473600

// NeverExpires is the file time that means "no date".
const NeverExpires = math.MaxInt64

// ParseFileTime reads a count of 100 ns ticks since 1601-01-01 UTC. Zero
// and the largest value, which the servers use for "none" and "never", give
// the zero time.
func ParseFileTime(s string) (time.Time, error) {
	ticks, err := strconv.ParseInt(s, 10, 64)
	if err != nil || ticks < 0 {
		return time.Time{}, fmt.Errorf("%q is not a file time", s)
	}
	if ticks == 0 || ticks == NeverExpires {
		return time.Time{}, nil
	}
	return time.Unix(fileTimeEpoch+ticks/1e7, ticks%1e7*100).UTC(), nil
}

// FormatFileTime is the inverse of ParseFileTime; the zero time gives "0".
func FormatFileTime(t time.Time) string {
	if t.IsZero() {
		return "0"
	}
	return strconv.FormatInt((t.Unix()-fileTimeEpoch)*1e7+int64(t.Nanosecond()/100), 10)
}

// ParseGeneralizedTime reads a time by RFC 4517, section 3.3.13: minutes,
// seconds and a fraction of the last element given may be there or not, and
// the zone is Z or an offset. The result is in UTC.
func ParseGeneralizedTime(s string) (time.Time, error) {
	bad := func() (time.Time, error) { return time.Time{}, fmt.Errorf("%q is not a GeneralizedTime", s) }
	digits := 0
	for digits < len(s) && s[digits] >= '0' && s[digits] <= '9' {
		digits++
	}
	if digits != 10 && digits != 12 && digits != 14 {
		return bad()
	}
	var fields [6]int
	fields[0], _ = strconv.Atoi(s[:4])
	for i, at := 1, 4; at < digits; i, at = i+1, at+2 {
		fields[i] = int(s[at]-'0')*10 + int(s[at+1]-'0')
	}
	unit := time.Second
	switch digits {
	case 10:
		unit = time.Hour
	case 12:
		unit = time.Minute
	}
	rest := s[digits:]
	var fraction time.Duration
	if rest != "" && (rest[0] == '.' || rest[0] == ',') {
		end := 1
		for end < len(rest) && rest[end] >= '0' && rest[end] <= '9' {
			end++
		}
		if end == 1 {
			return bad()
		}
		if rest[1:end] != "0" {
			f, _ := strconv.ParseFloat("0."+rest[1:end], 64)
			fraction = time.Duration(math.Round(f * float64(unit)))
		}
		rest = rest[end:]
	}
	var offset time.Duration
	switch {
	case rest == "Z":
	case (len(rest) == 3 || len(rest) == 5) && (rest[0] == '+' || rest[0] == '-'):
		hours, err := strconv.ParseUint(rest[1:3], 10, 8)
		minutes := uint64(0)
		if err == nil && len(rest) == 5 {
			minutes, err = strconv.ParseUint(rest[3:], 10, 8)
		}
		if err != nil || hours > 23 || minutes > 59 {
			return bad()
		}
		offset = time.Duration(hours)*time.Hour + time.Duration(minutes)*time.Minute
		if rest[0] == '-' {
			offset = -offset
		}
	default:
		return bad()
	}
	month, day, hour, minute, second := fields[1], fields[2], fields[3], fields[4], fields[5]
	t := time.Date(fields[0], time.Month(month), day, hour, minute, min(second, 59), 0, time.UTC)
	if month < 1 || month > 12 || t.Day() != day || hour > 23 || minute > 59 || second > 60 {
		return bad()
	}
	if second == 60 {
		t = t.Add(time.Second)
	}
	return t.Add(fraction - offset), nil
}

// ParseSID reads a binary security identifier (MS-DTYP 2.4.2.2) into its
// S-1-… form.
func ParseSID(raw string) (string, error) {
	if len(raw) < 8 || raw[0] != 1 || int(raw[1]) > 15 || len(raw) != 8+4*int(raw[1]) {
		return "", errors.New("not a security identifier")
	}
	b := []byte(raw)
	authority := uint64(binary.BigEndian.Uint16(b[2:]))<<32 | uint64(binary.BigEndian.Uint32(b[4:]))
	sid := "S-1-" + strconv.FormatUint(authority, 10)
	for at := 8; at < len(b); at += 4 {
		sid += "-" + strconv.FormatUint(uint64(binary.LittleEndian.Uint32(b[at:])), 10)
	}
	return sid, nil
}

// EncodeSID is the inverse of ParseSID.
func EncodeSID(sid string) (string, error) {
	parts := strings.Split(sid, "-")
	if len(parts) < 3 || len(parts) > 18 || parts[0] != "S" || parts[1] != "1" {
		return "", fmt.Errorf("%q is not a security identifier", sid)
	}
	authority, err := strconv.ParseUint(parts[2], 10, 48)
	if err != nil {
		return "", fmt.Errorf("%q is not a security identifier", sid)
	}
	b := make([]byte, 8, 8+4*len(parts))
	b[0], b[1] = 1, byte(len(parts)-3)
	binary.BigEndian.PutUint16(b[2:], uint16(authority>>32))
	binary.BigEndian.PutUint32(b[4:], uint32(authority))
	for _, p := range parts[3:] {
		n, err := strconv.ParseUint(p, 10, 32)
		if err != nil {
			return "", fmt.Errorf("%q is not a security identifier", sid)
		}
		b = binary.LittleEndian.AppendUint32(b, uint32(n))
	}
	return string(b), nil
}

// RID returns the last number of a binary security identifier, 0 where it
// is none.
func RID(raw string) uint32 {
	if len(raw) < 12 || len(raw) != 8+4*int(raw[1]) {
		return 0
	}
	return binary.LittleEndian.Uint32([]byte(raw[len(raw)-4:]))
}

// FormatGUID writes a binary objectGUID (MS-DTYP 2.3.4.2) in the usual
// 8-4-4-4-12 form.
func FormatGUID(raw string) (string, error) {
	if len(raw) != 16 {
		return "", errors.New("not a GUID")
	}
	b := []byte(raw)
	return fmt.Sprintf("%08x-%04x-%04x-%x-%x", binary.LittleEndian.Uint32(b), binary.LittleEndian.Uint16(b[4:]),
		binary.LittleEndian.Uint16(b[6:]), b[8:10], b[10:]), nil
}

// ParseGUID is the inverse of FormatGUID.
func ParseGUID(s string) (string, error) {
	b, err := hex.DecodeString(strings.ReplaceAll(s, "-", ""))
	if err != nil || len(b) != 16 || len(s) != 36 {
		return "", fmt.Errorf("%q is not a GUID", s)
	}
	for _, span := range [][2]int{{0, 4}, {4, 6}, {6, 8}} {
		for i, j := span[0], span[1]-1; i < j; i, j = i+1, j-1 {
			b[i], b[j] = b[j], b[i]
		}
	}
	return string(b), nil
}

// Flags of userAccountControl (MS-ADTS 2.2.16) and of its computed sibling.
const (
	UACDisabled             = 0x2
	UACLockedOut            = 0x10
	UACPasswordNotRequired  = 0x20
	UACReversiblePassword   = 0x80
	UACNormal               = 0x200
	UACTrust                = 0x800
	UACWorkstation          = 0x1000
	UACDomainController     = 0x2000
	UACPasswordNeverExpires = 0x10000
	UACUnconstrained        = 0x80000 // trusted for delegation to any service
	UACDESOnly              = 0x200000
	UACNoPreauthentication  = 0x400000
	UACProtocolTransition   = 0x1000000 // trusted to authenticate for delegation
	UACReadOnlyDC           = 0x4000000
)

// ParseFlags reads a signed 32-bit integer attribute such as
// userAccountControl.
func ParseFlags(s string) (int64, error) {
	n, err := strconv.ParseInt(s, 10, 33)
	if err != nil {
		return 0, fmt.Errorf("%q is not an integer", s)
	}
	return n, nil
}

// SMTPAddress reads a value of proxyAddresses, which names the kind of address
// before a colon: the address, of one that mail goes to.
func SMTPAddress(proxy string) (address string, ok bool) {
	const kind = "smtp:"
	if len(proxy) <= len(kind) || !strings.EqualFold(proxy[:len(kind)], kind) {
		return "", false
	}
	return proxy[len(kind):], true
}
