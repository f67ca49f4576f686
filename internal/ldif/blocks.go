package ldif

import (
	"bytes"
	"fmt"
	"io"
	"unsafe"
)

// block is a run of whole records.
type block struct {
	text   string
	memory []byte // that the text stands in
	line   int    // number of its first line
	at     int64  // how many octets stand before it
}

// splitter cuts a stream into blocks at blank lines.
type splitter struct {
	r    io.Reader
	rest []byte      // of what was read last; nobody else writes to that
	used chan []byte // memory to read into again
	line int
	at   int64
	err  error
}

func (s *splitter) next() (block, error) {
	buf := append(s.room(), s.rest...)
	s.rest = nil
	searched := 0
	for s.err == nil {
		if cap(buf) == len(buf) {
			grown := make([]byte, len(buf), 2*cap(buf))
			copy(grown, buf)
			buf = grown
		}
		var n int
		n, s.err = s.r.Read(buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		if len(buf) < cap(buf) && s.err == nil {
			continue
		}
		if s.line == 1 && bytes.IndexByte(buf, '\n') < 0 && bytes.IndexByte(buf, '\r') >= 0 {
			s.err = errCR
			return block{}, s.err
		}
		if s.err != nil {
			break
		}
		if cut := lastBlankLine(buf, searched); cut > 0 {
			s.rest = buf[cut:]
			return s.block(buf, cut), nil
		}
		searched = max(0, len(buf)-3)
		if len(buf) > maxRecord {
			s.err = &Error{
				Line: s.line,
				Err:  fmt.Errorf("no blank line in %d MiB: this is not LDIF, or one entry is too large", maxRecord>>20),
			}
			return block{}, s.err
		}
	}
	if s.err != io.EOF {
		return block{}, s.err
	}
	if len(buf) == 0 {
		return block{}, io.EOF
	}
	return s.block(buf, len(buf)), nil
}

// room is memory for a block: of one that nobody needs any more, where there is one.
func (s *splitter) room() []byte {
	select {
	case b := <-s.used:
		return b[:0]
	default:
		return make([]byte, 0, blockSize)
	}
}

// block is the first octets of what was read, as many as size.
func (s *splitter) block(read []byte, size int) block {
	b := read[:size:size]
	// The bytes are not written again before somebody says that the block is used, so
	// they may serve as a string.
	out := block{text: unsafe.String(unsafe.SliceData(b), len(b)), memory: read, line: s.line, at: s.at}
	s.line += bytes.Count(b, []byte{'\n'})
	s.at += int64(len(b))
	return out
}

// Spoil has what stood in a block overwritten as soon as the work with it has returned,
// so that tests show whoever keeps a string of it. It is set before anything is read.
var Spoil bool

// again lets the memory of a block be read into once more, unless it has grown.
func (b block) again(used chan<- []byte) {
	if Spoil {
		clear(b.memory[:len(b.text)]) // what stands behind is for the next block
	}
	if cap(b.memory) != blockSize {
		return
	}
	select {
	case used <- b.memory:
	default:
	}
}

// lastBlankLine returns the offset behind the last blank line of b that ends
// after from, or 0.
func lastBlankLine(b []byte, from int) int {
	for end := len(b); ; {
		lf := bytes.LastIndexByte(b[from:end], '\n') + from
		if lf <= from {
			return 0
		}
		switch {
		case b[lf-1] == '\n', lf >= from+2 && b[lf-1] == '\r' && b[lf-2] == '\n':
			return lf + 1
		}
		end = lf
	}
}
