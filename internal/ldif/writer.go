package ldif

import (
	"bufio"
	"bytes"
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
	w.begin()
	w.line("dn", e.DN)
	for _, a := range e.Attrs {
		if directory.IsSecret(a.Name) {
			continue
		}
		for _, v := range a.Values {
			w.line(a.Name, v)
		}
	}
	return w.err()
}

// Records are entries as a Writer writes them behind others, so that several processors
// can make them at once; WriteRecords writes them.
func Records(records []Record) []byte {
	var b bytes.Buffer
	w := &Writer{w: bufio.NewWriterSize(&b, 1<<12), started: true}
	for i := range records {
		_ = w.Write(&records[i].Entry) // a buffer takes everything
	}
	_ = w.Flush()
	return b.Bytes()
}

// WriteRecords writes what Records has made.
func (w *Writer) WriteRecords(records []byte) error {
	if !w.started {
		w.w.WriteString("version: 1\n")
		w.started = true
	}
	_, err := w.w.Write(records)
	return err
}

// Flush writes out what is buffered.
func (w *Writer) Flush() error { return w.w.Flush() }

// err reports a failed write early: bufio keeps the first one.
func (w *Writer) err() error {
	_, err := w.w.Write(nil)
	return err
}

func (w *Writer) line(name, value string) {
	sep := ": "
	if !safe(value) {
		sep, value = ":: ", base64.StdEncoding.EncodeToString([]byte(value))
	}
	if value == "" {
		sep = ":"
	}
	room := lineWidth - len(name) - len(sep)
	w.w.WriteString(name)
	w.w.WriteString(sep)
	if room < 1 {
		room = 1
	}
	for len(value) > room {
		w.w.WriteString(value[:room])
		w.w.WriteString("\n ")
		value, room = value[room:], lineWidth-1
	}
	w.w.WriteString(value)
	w.w.WriteByte('\n')
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

// begin begins a record, and the file before the first one.
func (w *Writer) begin() {
	if !w.started {
		w.w.WriteString("version: 1\n")
		w.started = true
	}
	w.w.WriteByte('\n')
}
