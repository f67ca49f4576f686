package logs

import (
	"bytes"
	"context"
	"io"
	"os"
	"time"
)

// glance is how often files are looked at for what was added to them.
const glance = 250 * time.Millisecond

// mostAtOnce octets are read of one file before the others have their turn.
const mostAtOnce = 4 * blockSize

// tail is a file that is still written.
type tail struct {
	f      *file
	r      *Reader
	report *Report
	open   *os.File
	at     int64  // up to which it was read: the end of a line
	header []byte // of a table
}

// Follow reads the logs as All does, then calls caughtUp, and goes on with what is added
// to the newest file of each series, until ctx ends. Where a file is rotated away, the
// rest of it is read before the one that has taken its place. Compressed files, exports
// and standard input are read, not followed.
func (g *Reading) Follow(ctx context.Context, caughtUp func([]*Report) error) error {
	defer func() {
		for _, t := range g.tails {
			t.open.Close()
		}
	}()
	err := g.each(ctx, func(r *Reader, f *file, last bool) error {
		report := g.report(f.path, f.series)
		if last {
			if t := follow(r, f, report); t != nil {
				g.tails = append(g.tails, t)
				report.Error = t.first(ctx)
				return r.ended(ctx)
			}
		}
		report.Error = f.read(ctx, r, report)
		return r.ended(ctx)
	})
	if err != nil {
		return err
	}
	if err := caughtUp(g.reports); err != nil {
		return err
	}
	clock := time.NewTicker(glance)
	defer clock.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-clock.C:
		}
		for _, t := range g.tails {
			if err := t.more(ctx); err != nil {
				t.report.Error = err
			}
			if err := t.r.ended(ctx); err != nil {
				return err
			}
		}
	}
}

// follow opens a file that grows line by line; nil is one that does not.
func follow(r *Reader, f *file, report *Report) *tail {
	opened, err := os.Open(f.path)
	if err != nil {
		return nil
	}
	t := &tail{f: f, r: r, report: report, open: opened}
	head := make([]byte, 8)
	n, _ := opened.ReadAt(head, 0)
	head = head[:n]
	info, err := opened.Stat()
	for _, start := range []string{"\x1f\x8b", "\x28\xb5\x2f\xfd", "ElfFile", "\xff\xfe", "\xfe\xff", "<?xml"} {
		if bytes.HasPrefix(head, []byte(start)) {
			err = ErrBinary
		}
	}
	if err != nil || !info.Mode().IsRegular() {
		opened.Close()
		return nil
	}
	return t
}

// first reads what is there, up to the last whole line.
func (t *tail) first(ctx context.Context) error {
	info, err := t.open.Stat()
	if err != nil {
		return reason(err)
	}
	end, err := lastLine(t.open, 0, info.Size())
	if err != nil {
		return reason(err)
	}
	if t.f.Mapping != nil {
		head := make([]byte, 1<<16)
		n, _ := t.open.ReadAt(head, 0)
		if line, _, whole := bytes.Cut(head[:n], []byte("\n")); whole && !bytes.HasPrefix(line, []byte("{")) {
			t.header = append(bytes.Clone(line), '\n')
		}
	}
	t.at = end
	return t.r.Read(ctx, io.NewSectionReader(t.open, 0, end), t.f.options(), t.report)
}

// lastLine is where the last whole line between two offsets ends.
func lastLine(f *os.File, from, to int64) (int64, error) {
	buf := make([]byte, 1<<16)
	for to > from {
		start := max(from, to-int64(len(buf)))
		n, err := f.ReadAt(buf[:to-start], start)
		if err != nil && err != io.EOF {
			return from, err
		}
		if i := bytes.LastIndexByte(buf[:n], '\n'); i >= 0 {
			return start + int64(i) + 1, nil
		}
		to = start
	}
	return from, nil
}

// more reads what was added. A file that has become shorter was begun anew, and another
// of its name has taken its place.
func (t *tail) more(ctx context.Context) error {
	if err := t.added(ctx); err != nil {
		return err
	}
	now, err := os.Stat(t.f.path)
	if err != nil {
		return nil // between two files: the next one comes
	}
	was, err := t.open.Stat()
	switch {
	case err != nil:
		return reason(err)
	case os.SameFile(now, was) && now.Size() >= t.at:
		return nil
	case !os.SameFile(now, was):
		next, err := os.Open(t.f.path)
		if err != nil {
			return reason(err)
		}
		if err := t.added(ctx); err != nil { // what came before it was moved
			next.Close()
			return err
		}
		t.open.Close()
		t.open = next
	}
	t.at, t.report.Lines = 0, 0
	return t.added(ctx)
}

// added reads whole lines behind what was read.
func (t *tail) added(ctx context.Context) error {
	info, err := t.open.Stat()
	if err != nil {
		return reason(err)
	}
	for to := info.Size(); t.at < to; {
		end, err := lastLine(t.open, t.at, min(to, t.at+mostAtOnce))
		if err != nil {
			return reason(err)
		}
		if end == t.at {
			if to-t.at < mostAtOnce {
				return nil // somebody is still writing it
			}
			end = t.at + mostAtOnce // no line is that long
		}
		text := io.Reader(io.NewSectionReader(t.open, t.at, end-t.at))
		if t.header != nil && t.at > 0 {
			text = io.MultiReader(bytes.NewReader(t.header), text)
		}
		o := t.f.options()
		o.Written = info.ModTime()
		t.at = end
		if err := t.r.Read(ctx, text, o, t.report); err != nil {
			return err
		}
	}
	return nil
}
