package ldif

import (
	"strings"

	"yardbroom/internal/directory"
)

// Most lines of a file are alike: a name that was met before, a colon, text or base64, and
// an end that no folded line follows. usual reads runs of such lines in one loop; whatever
// is not quite so it leaves to body, which knows all that RFC 2849 allows, and which alone
// finds mistakes. So it may give up at any line.
//
// Entries of one export carry their attributes in much the same order. Each name remembers
// which came behind it the last time, so that a line mostly costs one comparison of names
// and one search for its end.

// knownName is an attribute description met before in this file.
type knownName struct {
	label  string // as the file has it, with the colon behind
	name   string // the usual name of the attribute
	id     directory.AttrID
	next   int  // which of the names came behind it the last time
	idle   bool // nobody wants its values
	begins bool // "dn", with which a record begins
}

const maxKnownNames = 4096

// usual reads lines of the entry whose attributes begin at start, as many as are as usual.
func (p *parser) usual(start int) {
	if len(p.names) == 0 {
		return
	}
	last := -1 // the name whose values stand last in the entry
	for p.pos < len(p.text) {
		rest := p.text[p.pos:]
		at := p.names[p.last].next
		if !strings.HasPrefix(rest, p.names[at].label) {
			if at = p.last; !strings.HasPrefix(rest, p.names[at].label) {
				if at = p.known(rest); at < 0 {
					return
				}
				p.names[p.last].next = at
			}
		}
		k := &p.names[at]
		if k.begins || k.id == directory.AttrUnknown && len(p.attrs) == start {
			return // a mistake, or the begin of a change
		}
		value := rest[len(k.label):]
		end, lines := strings.IndexByte(value, '\n'), 1
		for end >= 0 && end+1 < len(value) && value[end+1] == ' ' {
			if !k.idle || value[0] != ' ' {
				return
			}
			more := strings.IndexByte(value[end+1:], '\n')
			end, lines = end+1+more, lines+1
			if more < 0 {
				return
			}
		}
		if end < 0 {
			return
		}
		size := len(k.label) + end + 1
		if value = value[:end]; end > 0 && value[end-1] == '\r' {
			value = value[:end-1]
		}
		if !k.idle || value != "" && value[0] != ' ' {
			var ok bool
			if value, ok = p.worth(value, !k.idle); !ok {
				return
			}
		}
		p.pos += size
		p.line += lines
		p.last = at
		switch {
		case k.idle:
		case at == last:
			p.values = append(p.values, value)
			a := &p.attrs[len(p.attrs)-1]
			a.Values = append(a.Values, value)
		case k.id == directory.AttrUnknown || p.seen.Has(k.id):
			p.add(start, &pair{name: k.name, value: value, id: k.id})
			last = -1
		default:
			p.begin(k.name, k.id, value)
			last = at
		}
	}
}

// known finds the name that a line begins with among those met before, -1 where it is none.
func (p *parser) known(line string) int {
	if colon := strings.IndexByte(line, ':'); colon > 0 && nameByte[line[0]] {
		if at, ok := p.index[line[:colon]]; ok {
			return at
		}
	}
	return -1
}

// learn remembers a name that was not met before, which the file has as label.
func (p *parser) learn(label string, l *pair) {
	if len(p.names) == maxKnownNames {
		return
	}
	if p.index == nil {
		p.index = map[string]int{}
	}
	k := knownName{
		label:  label + ":",
		id:     l.id,
		idle:   l.idle,
		begins: strings.EqualFold(label, "dn"),
	}
	k.name = k.label[:len(label)]
	if l.name != label {
		k.name = strings.Clone(l.name)
	}
	l.name = k.name
	p.index[k.label[:len(label)]] = len(p.names)
	p.names = append(p.names, k)
	p.follows(len(p.names) - 1)
}

// follows takes note of which name came behind the last one.
func (p *parser) follows(at int) {
	p.names[p.last].next = at
	p.last = at
}
