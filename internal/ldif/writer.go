package ldif

import (
	"bufio"
	"encoding/base64"
	"io"
	"unicode/utf8"

	"yardbroom/internal/directory"
)

// lineWidth is where the writer folds, as RFC 2849's examples do.
const lineWidth = 76

// Writer writes content and change records.
type Writer struct {
	w       *bufio.Writer
	started bool
}

// NewWriter returns a Writer on w.
func NewWriter(w io.Writer) *Writer { return &Writer{w: bufio.NewWriterSize(w, 1<<16)} }

// Write writes one entry. Secret attributes are left out, whatever holds them.
func (w *Writer) Write(e *directory.Entry) error {
	w.head()
	_, err := w.w.Write(AppendEntry(w.w.AvailableBuffer(), e))
	return err
}

// Version is the line that a file begins with.
const Version = "version: 1\n"

// AppendEntry appends an entry as it stands behind others in a file, a blank line
// before it. Secret attributes are left out, whatever holds them.
func AppendEntry(b []byte, e *directory.Entry) []byte {
	b = append(b, '\n')
	b = appendLine(b, "dn", e.DN)
	for _, a := range e.Attrs {
		if directory.IsSecret(a.Name) {
			continue
		}
		for _, v := range a.Values {
			b = appendLine(b, a.Name, v)
		}
	}
	return b
}

// Flush writes out what is buffered.
func (w *Writer) Flush() error { return w.w.Flush() }

// err reports a failed write early: bufio keeps the first one.
func (w *Writer) err() error {
	_, err := w.w.Write(nil)
	return err
}

func (w *Writer) line(name, value string) {
	w.w.Write(appendLine(w.w.AvailableBuffer(), name, value))
}

// appendLine appends an attribute and its value, folded.
func appendLine(b []byte, name, value string) []byte {
	sep := ": "
	if !safe(value) {
		sep, value = ":: ", base64.StdEncoding.EncodeToString([]byte(value))
	}
	if value == "" {
		sep = ":"
	}
	room := max(lineWidth-len(name)-len(sep), 1)
	b = append(b, name...)
	b = append(b, sep...)
	for len(value) > room {
		b = append(b, value[:room]...)
		b = append(b, "\n "...)
		value, room = value[room:], lineWidth-1
	}
	b = append(b, value...)
	return append(b, '\n')
}

// safe tells whether a value may stand as it is (SAFE-STRING of RFC 2849).
func safe(s string) bool {
	if s == "" {
		return true
	}
	if c := s[0]; c == ' ' || c == ':' || c == '<' {
		return false
	}
	if s[len(s)-1] == ' ' {
		return false
	}
	for i := range len(s) {
		if c := s[i]; c == 0 || c == '\n' || c == '\r' || c >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// WriteChange writes one change record. Secret attributes are left out.
func (w *Writer) WriteChange(dn string, c *Change) error {
	w.begin()
	w.line("dn", dn)
	w.line("changetype", c.Type)
	switch c.Type {
	case "modify":
		for _, m := range c.Mods {
			if directory.IsSecret(m.Name) {
				continue
			}
			w.line(m.Op, m.Name)
			for _, v := range m.Values {
				w.line(m.Name, v)
			}
			w.w.WriteString("-\n")
		}
	case "modrdn", "moddn":
		w.line("newrdn", c.NewRDN)
		w.line("deleteoldrdn", map[bool]string{true: "1", false: "0"}[c.DeleteOldRDN])
		if c.HasSuperior {
			w.line("newsuperior", c.NewSuperior)
		}
	case "add":
		for _, m := range c.Mods {
			for _, v := range m.Values {
				w.line(m.Name, v)
			}
		}
	}
	return w.err()
}

// Remark writes a comment between records, on one line.
func (w *Writer) Remark(text string) error {
	w.begin()
	w.w.WriteString("# ")
	w.w.WriteString(directory.OneLine(text))
	w.w.WriteByte('\n')
	return w.err()
}

// head begins the file, once.
func (w *Writer) head() {
	if !w.started {
		w.w.WriteString(Version)
		w.started = true
	}
}

// begin begins a record, and the file before the first one.
func (w *Writer) begin() {
	w.head()
	w.w.WriteByte('\n')
}
