package kept

import (
	"runtime"

	"yardbroom/internal/directory"
)

// Stream packs entries that come one by one, on other processors while more come.
type Stream struct {
	to      *Writer
	shape   *Shape
	batch   []directory.Entry
	size    int
	waiting []chan []Frame // in the order of the entries
}

// NewStream returns a Stream to a Writer.
func NewStream(to *Writer, shape *Shape) *Stream { return &Stream{to: to, shape: shape} }

// Add takes an entry. Its strings must not be written to again.
func (s *Stream) Add(e *directory.Entry) error {
	s.batch = append(s.batch, *e)
	s.size += len(e.DN)
	for i := range e.Attrs {
		for _, v := range e.Attrs[i].Values {
			s.size += len(e.Attrs[i].Name) + len(v)
		}
	}
	if s.size < frameSize {
		return nil
	}
	s.send()
	if len(s.waiting) <= runtime.GOMAXPROCS(0) {
		return nil
	}
	return s.receive()
}

func (s *Stream) send() {
	packed, batch := make(chan []Frame, 1), s.batch
	s.waiting = append(s.waiting, packed)
	s.batch, s.size = nil, 0
	go func() { packed <- Pack(batch, s.shape) }()
}

func (s *Stream) receive() error {
	frames := <-s.waiting[0]
	s.waiting = s.waiting[1:]
	return s.to.Add(frames...)
}

// Flush writes what is still held.
func (s *Stream) Flush() error {
	s.send()
	for len(s.waiting) > 0 {
		if err := s.receive(); err != nil {
			return err
		}
	}
	return nil
}
