package ldif

import (
	"encoding/base64"
	"fmt"
	"strings"
	"unsafe"

	"yardbroom/internal/directory"
)

// parser reads the records of one block after the other. Attributes and
// values of all records of a block stand in two arrays, which the next block
// uses again.
type parser struct {
	text   string
	pos    int
	line   int // number of the line at pos
	first  bool
	others func(name string) bool
	naming bool // the line being read names the record
	// referrals are the references to other servers in this block.
	referrals int

	records []Record
	attrs   []directory.Attribute
	values  []string
	seen    directory.AttrSet // of the record being read
	buf     []byte            // of a line being unfolded
	made    []byte            // lines that were unfolded, values out of base64
	names   []knownName
	index   map[string]int // of names
	last    int            // the name of the line before
	dn      int            // "dn" among names, and one more; 0 before the first
}

// all reads a whole block. It stops at the first broken record unless told
// to go on.
func (p *parser) all(b block, goOn bool) (records []Record, errs []*Error) {
	p.text, p.pos, p.line, p.first = b.text, 0, b.line, b.line == 1
	p.records, p.attrs, p.values, p.referrals = p.records[:0], p.attrs[:0], p.values[:0], 0
	if p.first {
		p.text = strings.TrimPrefix(p.text, "\ufeff")
		b.at += int64(len(b.text) - len(p.text))
	}
	for {
		var rec Record
		ok, err := p.record(&rec)
		if err != nil {
			errs = append(errs, err)
			if !goOn {
				return p.records, errs
			}
			p.skipRecord()
			continue
		}
		if !ok {
			return p.records, errs
		}
		rec.Text = p.text[rec.At:p.pos]
		rec.At += b.at
		p.records = append(p.records, rec)
	}
}

// logical returns the next line that is not a comment, unfolded, without its
// end. A blank line is "". ok is false at the end of the block.
func (p *parser) logical() (line string, number int, ok bool) {
	for p.pos < len(p.text) {
		number = p.line
		line = p.physical()
		if p.pos < len(p.text) && p.text[p.pos] == ' ' && line != "" {
			line = p.unfold(line)
		}
		if line != "" && line[0] == '#' {
			continue
		}
		return line, number, true
	}
	return "", p.line, false
}

func (p *parser) physical() string {
	rest := p.text[p.pos:]
	end := strings.IndexByte(rest, '\n')
	p.line++
	if end < 0 {
		p.pos = len(p.text)
		return strings.TrimSuffix(rest, "\r")
	}
	p.pos += end + 1
	if end > 0 && rest[end-1] == '\r' {
		end--
	}
	return rest[:end]
}

func (p *parser) unfold(line string) string {
	p.buf = append(p.buf[:0], line...)
	for p.pos < len(p.text) && p.text[p.pos] == ' ' {
		p.buf = append(p.buf, p.physical()[1:]...)
	}
	p.room(len(p.buf))
	return p.takes(append(p.made, p.buf...))
}

// madeSize is how much room for what is made of the text of a block is taken at a time.
const madeSize = 256 << 10

// room sees to it that so many octets can be made. Of a short text little can: whoever keeps
// an entry of it keeps all that was made.
func (p *parser) room(need int) {
	if cap(p.made)-len(p.made) < need {
		p.made = make([]byte, 0, max(min(madeSize, len(p.text)), need))
	}
}

// takes returns what was appended to all that was made before.
func (p *parser) takes(all []byte) string {
	begins := len(p.made)
	if p.made = all; len(all) == begins {
		return ""
	}
	return unsafe.String(&all[begins], len(all)-begins)
}

func (p *parser) skipRecord() {
	for {
		line, _, ok := p.logical()
		if !ok || line == "" {
			return
		}
	}
}

func (p *parser) record(rec *Record) (bool, *Error) {
	var line string
	var ok bool
	for line == "" {
		rec.At = int64(p.pos)
		if line, rec.Line, ok = p.logical(); !ok {
			return false, nil
		}
	}
	fail := func(number int, format string, args ...any) *Error {
		return &Error{Line: number, DN: strings.Clone(rec.DN), Err: fmt.Errorf(format, args...)}
	}
	if p.dn > 0 && len(line) > 4 && line[:4] == "dn: " && line[4] != ' ' && strings.IndexByte(line, '=') > 0 {
		rec.DN, p.last, p.first = line[4:], p.dn-1, false // as nearly every record begins
		return true, p.body(rec, fail)
	}
	var l pair
	p.naming = true // the first line is a name or a version, wanted in any case
	err := p.split(line, &l)
	p.naming = false
	if err != nil {
		return false, fail(rec.Line, "%w", err)
	}
	name, value := l.name, l.value
	if strings.EqualFold(name, "version") && p.first {
		if value != "1" {
			return false, fail(rec.Line, "LDIF version %q; only 1 exists", value)
		}
		p.first = false
		return p.record(rec)
	}
	p.first = false
	if strings.EqualFold(name, "search") {
		return false, p.trailer()
	}
	if strings.EqualFold(name, "ref") {
		p.referrals++
		p.skipRecord()
		return p.record(rec)
	}
	if !strings.EqualFold(name, "dn") {
		return false, fail(rec.Line, "a record must start with \"dn:\", not %q", clip(name))
	}
	if value != "" && strings.IndexByte(value, '=') < 0 {
		return false, fail(rec.Line, "%q is not a distinguished name", clip(value))
	}
	if rec.DN = value; name == "dn" && p.last < len(p.names) && p.names[p.last].label == "dn:" {
		p.dn = p.last + 1
	}
	return true, p.body(rec, fail)
}

func (p *parser) body(rec *Record, fail func(int, string, ...any) *Error) *Error {
	start := len(p.attrs)
	p.seen = directory.AttrSet{}
	var controls []string
	var l pair
	for {
		p.usual(start)
		line, number, ok := p.logical()
		if !ok || line == "" {
			break
		}
		if line[0] == ' ' {
			return fail(number, "a continued line with nothing before it")
		}
		if err := p.name(line, &l); err != nil {
			return fail(number, "%w", err)
		}
		if l.id == directory.AttrUnknown && strings.EqualFold(l.name, "dn") {
			return fail(number, "a second \"dn:\" in one entry: the line before a new entry must be empty")
		}
		if err := p.value(&l); err != nil {
			return fail(number, "%w", err)
		}
		if len(p.attrs) == start && l.id == directory.AttrUnknown {
			switch {
			case strings.EqualFold(l.name, "control"):
				controls = append(controls, l.value)
				continue
			case strings.EqualFold(l.name, "changetype"):
				rec.Change = &Change{Type: strings.ToLower(l.value), Controls: controls}
				if rec.Change.Type == "add" {
					continue
				}
				return p.change(rec.Change, fail)
			}
		}
		p.add(start, &l)
	}
	rec.Attrs = p.attrs[start:len(p.attrs):len(p.attrs)]
	return nil
}

// add puts a value behind the others of its attribute. Attributes start at
// start in the block's array.
func (p *parser) add(start int, l *pair) {
	if l.idle || l.id == directory.AttrUnknown && directory.IsSecret(l.name) {
		return
	}
	if n := len(p.attrs); n > start && sameAttribute(&p.attrs[n-1], l) {
		// The values of an attribute mostly stand together: then the last
		// value in the array is this attribute's, and growing is free.
		p.values = append(p.values, l.value)
		a := &p.attrs[n-1]
		a.Values = append(a.Values, l.value)
		return
	}
	if l.id == directory.AttrUnknown || p.seen.Has(l.id) {
		for i := start; i < len(p.attrs); i++ {
			if a := &p.attrs[i]; sameAttribute(a, l) {
				a.Values = append(a.Values[:len(a.Values):len(a.Values)], l.value)
				return
			}
		}
	}
	p.begin(l.name, l.id, l.value)
}

// begin puts the first value of an attribute behind all others.
func (p *parser) begin(name string, id directory.AttrID, value string) {
	p.seen.Add(id)
	p.values = append(p.values, value)
	n := len(p.values)
	p.attrs = append(p.attrs, directory.Attribute{Name: name, ID: id, Values: p.values[n-1 : n]})
}

func sameAttribute(a *directory.Attribute, l *pair) bool {
	return a.ID == l.id && len(a.Name) == len(l.name) && (a.Name == l.name || strings.EqualFold(a.Name, l.name))
}

// pair is a line taken apart: an attribute description and a value.
type pair struct {
	name, value string
	id          directory.AttrID
	idle        bool // nobody wants the value
}

// nameByte tells which octets an attribute description may hold: those of
// RFC 4512, of ranges, and the underscore that some servers take.
var nameByte = func() (t [256]bool) {
	for _, c := range []byte("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-.;=*_") {
		t[c] = true
	}
	return t
}()

// split takes a line apart, into its name and its value.
func (p *parser) split(line string, l *pair) error {
	if err := p.name(line, l); err != nil {
		return err
	}
	return p.value(l)
}

// name finds the attribute description of a line. The value is left as it
// stands behind the colon.
func (p *parser) name(line string, l *pair) error {
	colon := strings.IndexByte(line, ':')
	if colon <= 0 {
		return fmt.Errorf("%w in %q", ErrNoPair, clip(line))
	}
	label := line[:colon]
	l.name, l.value = label, line[colon+1:]
	if at, ok := p.index[label]; ok {
		l.name, l.id, l.idle = p.names[at].name, p.names[at].id, p.names[at].idle
		p.follows(at)
		return nil
	}
	for i := range len(label) {
		if !nameByte[label[i]] {
			return fmt.Errorf("%q is not an attribute name", clip(label))
		}
	}
	if l.id = directory.LookupAttr(label); l.id == directory.AttrUnknown {
		if l.name = directory.PlainName(label); l.name != label {
			l.id = directory.LookupAttr(l.name)
		}
	}
	l.idle = l.id == directory.AttrUnknown && p.others != nil && !p.others(l.name)
	p.learn(label, l)
	return nil
}

// value reads what stands behind the colon: text, base64, or a URL, which is
// refused. The octets of an attribute that nobody wants are only tested.
func (p *parser) value(l *pair) error {
	value, ok := p.worth(l.value, !l.idle || p.naming)
	switch {
	case ok:
		l.value = value
		return nil
	case l.value[0] == ':':
		return fmt.Errorf("broken base64 in the value of %s", l.name)
	}
	return fmt.Errorf("the value of %s is behind a URL; values from other files are not read", l.name)
}

// worth reads what stands behind a colon, if it is text or well-formed base64.
func (p *parser) worth(value string, keep bool) (string, bool) {
	switch {
	case value == "":
	case value[0] == ' ':
		for value = value[1:]; value != "" && value[0] == ' '; {
			value = value[1:]
		}
	case value[0] == ':':
		decoded, err := p.decode(strings.Trim(value[1:], " "), keep)
		return decoded, err == nil
	case value[0] == '<':
		return "", false
	}
	return value, true
}

// decode decodes base64. Values that are kept stand side by side, so that
// each costs no allocation.
func (p *parser) decode(text string, keep bool) (string, error) {
	p.room(base64.StdEncoding.DecodedLen(len(text)))
	all, err := base64.StdEncoding.AppendDecode(p.made, unsafe.Slice(unsafe.StringData(text), len(text)))
	if err != nil || !keep {
		return "", err
	}
	return p.takes(all), nil
}

// trailer reads the record that a search tool leaves behind the last entry.
func (p *parser) trailer() *Error {
	for {
		line, at, ok := p.logical()
		if !ok || line == "" {
			return nil
		}
		if result, is := strings.CutPrefix(line, "result: "); is && !strings.HasPrefix(result, "0 ") && result != "0" {
			return &Error{Line: at, Err: fmt.Errorf("%w: result %s", ErrIncomplete, clip(result))}
		}
	}
}

// change reads the rest of a change record.
func (p *parser) change(c *Change, fail func(int, string, ...any) *Error) *Error {
	switch c.Type {
	case "delete", "modify", "modrdn", "moddn":
	default:
		return fail(p.line-1, "unknown changetype %q", clip(c.Type))
	}
	var mod *Mod
	for {
		line, number, ok := p.logical()
		if !ok || line == "" {
			return nil
		}
		if line == "-" {
			mod = nil
			continue
		}
		var l pair
		if err := p.split(line, &l); err != nil {
			return fail(number, "%w", err)
		}
		name, value := l.name, l.value
		switch {
		case c.Type == "delete":
			return fail(number, "a delete record has no more lines")
		case c.Type == "modify" && mod == nil:
			op := strings.ToLower(name)
			if op != "add" && op != "delete" && op != "replace" && op != "increment" {
				return fail(number, "%q is none of add, delete, replace, increment", clip(name))
			}
			c.Mods = append(c.Mods, Mod{Op: op, Name: value})
			mod = &c.Mods[len(c.Mods)-1]
		case c.Type == "modify":
			if !strings.EqualFold(name, mod.Name) {
				return fail(number, "a value of %q in a change of %q", clip(name), clip(mod.Name))
			}
			if !directory.IsSecret(name) {
				mod.Values = append(mod.Values, value)
			}
		case strings.EqualFold(name, "newrdn"):
			c.NewRDN = value
		case strings.EqualFold(name, "deleteoldrdn"):
			c.DeleteOldRDN = value == "1"
		case strings.EqualFold(name, "newsuperior"):
			c.NewSuperior, c.HasSuperior = value, true
		default:
			return fail(number, "%q has no place in a %s record", clip(name), c.Type)
		}
	}
}

// forget lets the memory of what was made of the text be written to again.
func (p *parser) forget() {
	if Spoil {
		clear(p.made)
	}
	if p.made = p.made[:0]; cap(p.made) > madeSize {
		p.made = nil
	}
}

// clip shortens a hostile text for an error message.
func clip(s string) string {
	const most = 60
	if len(s) <= most {
		return s
	}
	return s[:most] + "…"
}
