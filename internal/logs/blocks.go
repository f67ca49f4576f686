package logs

import (
	"bytes"
	"context"
	"errors"
	"io"
	"runtime"
	"sync"
)

// blocks cuts a log into blocks at the ends of its pieces, so that several processors
// can look for names in them. Memory is that of a few blocks, however long the log.
type blocks struct {
	in   io.Reader
	head []byte // that was read already
}

// block is a part of a log: whole pieces.
type block struct {
	text  []byte
	lines int   // pieces in it
	long  []int // the numbers in it of pieces that are too long and left out
	hits  []int // offsets of pieces that may matter
	turns []turn
	ahead *ahead // what it says, where its pieces need not be read in order
	first bool   // of the log
	ready chan struct{}
}

func newBlocks(in io.Reader) *blocks { return &blocks{in: in} }

// peek is the beginning of the log. What keeps it from being read is said by the rest.
func (b *blocks) peek() []byte {
	buf := make([]byte, 1<<16)
	n, _ := fill(b.in, buf)
	b.head = buf[:n]
	return b.head
}

// fill reads until buf is full or in has an error, which is io.EOF at its end: data that
// is cut off must not look as if it ended there.
func fill(in io.Reader, buf []byte) (n int, err error) {
	for n < len(buf) && err == nil {
		var more int
		more, err = in.Read(buf[n:])
		n += more
	}
	return n, err
}

// rest is all of the log.
func (b *blocks) rest() io.Reader { return io.MultiReader(bytes.NewReader(b.head), b.in) }

// each hands the blocks over in order.
// Of a log of which all is wanted, read is given the chance to read each ahead of its turn.
func (b *blocks) each(ctx context.Context, end []byte, only *Only, read func(*block) *ahead, take func(*block) error) error {
	ctx, cancel := context.WithCancel(ctx)
	workers := runtime.GOMAXPROCS(0)
	inOrder, toSearch := make(chan *block, workers+1), make(chan *block, workers+1)
	var free sync.Pool
	var readError error
	var all sync.WaitGroup
	all.Go(func() {
		defer close(inOrder)
		defer close(toSearch)
		readError = b.cut(ctx, end, &free, func(made *block) bool {
			select {
			case inOrder <- made:
			case <-ctx.Done():
				return false
			}
			toSearch <- made
			return true
		})
	})
	tuned := only
	if only != nil {
		tuned = only.tune(b.head)
	}
	for range workers {
		all.Go(func() {
			for one := range toSearch {
				one.lines += bytes.Count(one.text, end)
				if !bytes.HasSuffix(one.text, end) && len(one.text) > 0 {
					one.lines++
				}
				one.turns = turnsOf(one.text)
				if tuned != nil {
					one.hits = tuned.hits(one.text, end, one.turns, one.first)
				}
				if only == nil {
					one.ahead = read(one)
				}
				close(one.ready)
			}
		})
	}
	var takeError error
	for one := range inOrder {
		if takeError != nil {
			continue
		}
		<-one.ready
		if takeError = take(one); takeError == nil {
			takeError = ctx.Err()
		}
		if takeError != nil {
			cancel()
		}
		free.Put(&one.text)
	}
	cancel()
	all.Wait()
	if takeError != nil {
		return takeError
	}
	return readError
}

// cut reads the log in blocks that end with the end of a piece. What is longer than any
// piece is left out.
func (b *blocks) cut(ctx context.Context, end []byte, free *sync.Pool, out func(*block) bool) error {
	in := b.rest()
	var carry []byte
	skipping, first := false, true
	var long []int
	for ctx.Err() == nil {
		var buf []byte
		if old, is := free.Get().(*[]byte); is && cap(*old) >= blockSize+len(carry) {
			buf = (*old)[:0]
		} else {
			buf = make([]byte, 0, blockSize+mostRecord+len(end))
		}
		buf = append(buf, carry...)
		from := len(buf)
		n, err := fill(in, buf[from:from+blockSize])
		buf = buf[:from+n]
		last := err != nil
		if errors.Is(err, io.EOF) {
			err = nil
		}
		if skipping {
			stop := bytes.Index(buf, end)
			if stop < 0 {
				if last {
					return err
				}
				carry = carry[:0]
				carry = append(carry, buf[max(0, len(buf)-len(end)):]...)
				continue
			}
			buf = append(buf[:0], buf[stop+len(end):]...)
			skipping = false
		}
		text := buf
		carry = carry[:0]
		if !last {
			cutAt := bytes.LastIndex(buf, end)
			switch {
			case cutAt >= 0:
				text, carry = buf[:cutAt+len(end)], append(carry, buf[cutAt+len(end):]...)
			case len(buf) > mostRecord:
				skipping, text = true, nil
				long = append(long, 1)
				carry = append(carry, buf[max(0, len(buf)-len(end)):]...)
			default:
				text, carry = nil, append(carry, buf...)
			}
		}
		if len(text) > 0 || len(long) > 0 && last {
			made := &block{text: text, long: long, lines: len(long), ready: make(chan struct{}), first: first}
			long, first = nil, false
			if !out(made) {
				return ctx.Err()
			}
		}
		if last {
			return err
		}
	}
	return ctx.Err()
}
