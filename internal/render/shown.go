package render

import (
	"fmt"
	"io"
	"unicode/utf8"
)

// Shown returns a writer for a terminal: what a terminal would act on, control
// characters, escapes and what reorders text, is shown instead of sent, in
// every format; line ends and tabs go through. Files get everything as it is.
// Close writes what is left; it does not close w.
func Shown(w io.Writer) io.WriteCloser { return &shown{w: w} }

type shown struct {
	w    io.Writer
	rest []byte // the begin of a character, or a carriage return
	out  []byte
}

func (s *shown) Write(p []byte) (int, error) {
	text := append(s.rest, p...)
	s.out, s.rest = s.out[:0], nil
	for len(text) > 0 {
		if !utf8.FullRune(text) || len(text) == 1 && text[0] == '\r' {
			s.rest = append([]byte(nil), text...)
			break
		}
		text = s.take(text)
	}
	if _, err := s.w.Write(s.out); err != nil {
		return 0, err
	}
	return len(p), nil
}

// take shows one character and returns what stands behind it.
func (s *shown) take(text []byte) []byte {
	r, n := utf8.DecodeRune(text)
	switch {
	case r == '\n' || r == '\t':
		s.out = append(s.out, byte(r))
	case r == '\r' && len(text) > 1 && text[1] == '\n':
		s.out = append(s.out, '\r')
	case r == utf8.RuneError && n == 1:
		s.out = fmt.Appendf(s.out, `\x%02x`, text[0])
	case hidden(r):
		s.out = append(s.out, Visible(string(r))...)
	default:
		s.out = append(s.out, text[:n]...)
	}
	return text[n:]
}

func (s *shown) Close() error {
	s.out = s.out[:0]
	for len(s.rest) > 0 {
		s.rest = s.take(s.rest)
	}
	_, err := s.w.Write(s.out)
	return err
}
