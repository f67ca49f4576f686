package logs

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// header is what stands before a message in a text log.
type header struct {
	at      time.Time
	host    string
	program string // "slapd", "krb5kdc"; "" where nobody says
}

// readHeader reads what stands before a message: a header of syslog (RFC 5424, RFC 3164,
// or with a time as in RFC 3339), the time in hexadecimal of a slapd that writes to a
// terminal, or only a time. It is false for a line that has none of these.
func (o *Options) readHeader(line []byte) (h header, message []byte, ok bool) {
	line = afterPriority(line)
	if rest, is := bytes.CutPrefix(line, []byte("1 ")); is {
		if h, message, ok = o.header5424(rest); ok {
			return h, message, true
		}
	}
	if len(line) > 18 && line[8] == '.' && isHex(line[:8]) && isHex(line[9:17]) {
		return o.slapdStamp(line)
	}
	if len(line) > 16 && line[3] == ' ' && line[6] == ' ' && line[9] == ':' && line[15] == ' ' {
		at, err := o.withoutYear(string(line[:15]))
		if err != nil {
			return h, nil, false
		}
		h.at = at
		return h, h.hostAndProgram(line[16:]), true
	}
	end := bytes.IndexByte(line, ' ')
	if end < 19 || line[4] != '-' && line[4] != '/' {
		return h, nil, false
	}
	at, err := o.stamp(string(line[:end]))
	if err != nil {
		return h, nil, false
	}
	h.at = at
	return h, h.hostAndProgram(line[end+1:]), true
}

// afterPriority cuts <134> off.
func afterPriority(line []byte) []byte {
	if len(line) > 3 && line[0] == '<' && line[1] >= '0' && line[1] <= '9' {
		if end := bytes.IndexByte(line[:min(len(line), 6)], '>'); end > 0 {
			return line[end+1:]
		}
	}
	return line
}

func isHex(b []byte) bool {
	for _, c := range b {
		if (c < '0' || c > '9') && (c < 'a' || c > 'f') {
			return false
		}
	}
	return true
}

// slapdStamp reads 6b0caba3.311bc0c8 0x7f67f0ffd6c0 message: seconds and nanoseconds.
func (o *Options) slapdStamp(line []byte) (h header, message []byte, ok bool) {
	var sec, frac [4]byte
	if _, err := hex.Decode(sec[:], line[:8]); err != nil {
		return h, nil, false
	}
	if _, err := hex.Decode(frac[:], line[9:17]); err != nil {
		return h, nil, false
	}
	number := func(b [4]byte) int64 { return int64(b[0])<<24 | int64(b[1])<<16 | int64(b[2])<<8 | int64(b[3]) }
	h.at, h.program = time.Unix(number(sec), number(frac)).UTC(), "slapd"
	message = bytes.TrimLeft(line[17:], " ")
	if bytes.HasPrefix(message, []byte("0x")) {
		if _, rest, found := bytes.Cut(message, []byte(" ")); found {
			message = rest
		}
	}
	return h, message, true
}

// hostAndProgram takes "host program[123]: " off a message. A message with none of
// these stays as it is.
func (h *header) hostAndProgram(rest []byte) []byte {
	colon := bytes.Index(rest, []byte(": "))
	space := bytes.IndexByte(rest, ' ')
	if colon < 0 || space < 0 || space > colon || bytes.IndexByte(rest[space+1:colon], ' ') >= 0 || bytes.IndexByte(rest[:colon], '=') >= 0 {
		return rest
	}
	program := rest[space+1 : colon]
	if end := bytes.IndexAny(program, "[("); end >= 0 {
		program = program[:end]
	}
	h.host, h.program = string(rest[:space]), string(program)
	return rest[colon+2:]
}

// header5424 reads TIMESTAMP HOST APP PROCID MSGID SD MSG.
func (o *Options) header5424(rest []byte) (h header, message []byte, ok bool) {
	var fields [5][]byte
	for i := range fields {
		var found bool
		if fields[i], rest, found = bytes.Cut(rest, []byte(" ")); !found {
			return h, nil, false
		}
	}
	at, err := o.stamp(string(fields[0]))
	if err != nil {
		return h, nil, false
	}
	h.at, h.host, h.program = at, string(fields[1]), string(fields[2])
	switch {
	case bytes.HasPrefix(rest, []byte("- ")):
		rest = rest[2:]
	case bytes.HasPrefix(rest, []byte("[")):
		end, quoted := 0, false
		for i := 0; i < len(rest); i++ {
			switch c := rest[i]; {
			case c == '\\' && quoted:
				i++
			case c == '"':
				quoted = !quoted
			case c == ']' && !quoted:
				end = i + 1
			}
			if end > 0 && (end == len(rest) || rest[end] != '[') {
				break
			}
		}
		rest = bytes.TrimPrefix(rest[end:], []byte(" "))
	}
	return h, bytes.TrimPrefix(rest, []byte("\ufeff")), true
}

// withoutYear reads a time of RFC 3164, which has neither year nor zone. The year is the
// latest in which that is not after the file was last written to, give or take a day.
func (o *Options) withoutYear(text string) (time.Time, error) {
	zone := o.zone()
	t, err := time.ParseInLocation("Jan _2 15:04:05 2006", text+" 2000", zone) // a leap year
	if err != nil {
		return t, err
	}
	last := o.Written.In(zone)
	for year := last.Year() + 1; year > last.Year()-5; year-- {
		made := time.Date(year, t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, zone)
		if made.Day() == t.Day() && !made.After(last.AddDate(0, 0, 1)) {
			return made.UTC(), nil
		}
	}
	return t, fmt.Errorf("%q is no day of these years", text)
}

// layouts are the times that logs write, with a zone and without.
var (
	zoned = []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999Z0700", "2006-01-02 15:04:05.999999999Z07:00", "2006-01-02 15:04:05.999999999 Z0700",
		"02/Jan/2006:15:04:05.999999999 -0700", time.RFC1123Z}
	unzoned = []string{"2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999", "2006/01/02 15:04:05.999999999", "02/Jan/2006:15:04:05.999999999"}
)

// stamp reads a time as logs write it; one without a zone is of the log's zone. A number
// is seconds, or milliseconds, since 1970.
func (o *Options) stamp(text string) (time.Time, error) {
	text = strings.TrimSpace(text)
	for _, layout := range zoned {
		if t, err := time.Parse(layout, text); err == nil {
			return t.UTC(), nil
		}
	}
	for _, layout := range unzoned {
		if t, err := time.ParseInLocation(layout, text, o.zone()); err == nil {
			return t.UTC(), nil
		}
	}
	if inner, ok := strings.CutPrefix(text, "/Date("); ok { // as JSON of one common library has it
		text, _, _ = strings.Cut(inner, ")")
	}
	n, err := strconv.ParseFloat(text, 64)
	switch {
	case err != nil:
		return time.Time{}, fmt.Errorf("%q is not a time", text)
	case n > 1e11 && n < 1e14:
		n /= 1000
	case n < 1e8 || n > 1e11:
		return time.Time{}, fmt.Errorf("%q is not a time", text)
	}
	sec := int64(n)
	return time.Unix(sec, int64((n-float64(sec))*1e9)).UTC(), nil
}

func (o *Options) zone() *time.Location {
	if o.Zone == nil {
		return time.UTC
	}
	return o.Zone
}

var errLong = errors.New("a line longer than any log has")
