package logs

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"yardbroom/internal/pattern"
)

// Log is where logs of one server are: a file, a folder, a pattern such as
// /var/log/slapd.log*, or "-" for standard input.
type Log struct {
	Path    string
	Server  string
	Zone    *time.Location
	Mapping *Mapping
}

// file is one file of a log.
type file struct {
	*Log
	path    string
	written time.Time
	series  string // the files that a rotation has made of one log have one
}

// rotated are the endings that rotation gives: .1, .2.gz, -20261128.zst, .2026-11-28.
var rotated = pattern.Lazy(`([.-]\d{1,3}|[.-]\d{8}(-\d{6})?|[.-]\d{4}-\d{2}-\d{2})?(\.gz|\.zst)?$`)

func seriesOf(path string) string { return rotated().ReplaceAllString(path, "") }

// files finds the files of a log, the oldest of each series first.
func (l *Log) files() ([]*file, error) {
	paths := []string{l.Path}
	info, err := os.Stat(l.Path)
	switch {
	case err == nil && info.IsDir():
		paths, err = filepath.Glob(filepath.Join(globQuoted(l.Path), "*"))
	case errors.Is(err, fs.ErrNotExist) && !strings.ContainsAny(l.Path, "*?["):
		return nil, errors.New("there is no such file")
	case errors.Is(err, fs.ErrNotExist):
		paths, err = filepath.Glob(l.Path)
	}
	if err != nil {
		return nil, reason(err)
	}
	var all []*file
	for _, path := range paths {
		info, err := os.Stat(path)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, reason(err))
		}
		if info.IsDir() {
			continue
		}
		if !info.Mode().IsRegular() && path != l.Path {
			continue // a pipe would be waited for without end
		}
		all = append(all, &file{Log: l, path: path, written: info.ModTime(), series: seriesOf(path)})
	}
	if len(all) == 0 {
		return nil, errors.New("there is no such file")
	}
	slices.SortFunc(all, func(a, b *file) int {
		return cmp.Or(strings.Compare(a.series, b.series), a.written.Compare(b.written), strings.Compare(b.path, a.path))
	})
	return all, nil
}

// Newest is the file of a log that was written to last, and when.
func (l *Log) Newest() (path string, written time.Time, err error) {
	files, err := l.files()
	if err != nil {
		return "", written, err
	}
	newest := slices.MaxFunc(files, func(a, b *file) int { return a.written.Compare(b.written) })
	in, closing, err := open(newest.path)
	if err != nil {
		return newest.path, newest.written, err
	}
	defer closing()
	if _, err := in.Read(make([]byte, 1)); err != nil && !errors.Is(err, io.EOF) {
		return newest.path, newest.written, reason(err)
	}
	return newest.path, newest.written, nil
}

func reason(err error) error {
	if inner := (*fs.PathError)(nil); errors.As(err, &inner) {
		return inner.Err
	}
	return err
}

// globQuoted is a path in which no character stands for others.
func globQuoted(path string) string {
	return strings.NewReplacer("*", "[*]", "?", "[?]", "[", "[[]").Replace(path)
}

// Reading is a reading of several logs.
type Reading struct {
	Logs  []*Log
	Stdin io.Reader
	Now   time.Time // times without a year on standard input are not after it
	Only  *Only     // some accounts; nil is all
	Take  func(*Event) error

	reports []*Report
	tails   []*tail // of what is still written, where it is followed
}

// All reads the logs, each series of files in the order in which it was written. What of
// a log cannot be read is in its report; only what Take says, and an end of ctx, end it.
func (g *Reading) All(ctx context.Context) ([]*Report, error) {
	err := g.each(ctx, func(r *Reader, f *file, last bool) error {
		report := g.report(f.path, f.series)
		report.Error = f.read(ctx, r, report)
		if last && report.Error == nil {
			report.Error = r.End()
		}
		return r.ended(ctx)
	})
	return g.reports, err
}

// each hands over all files, with the reader of their series.
func (g *Reading) each(ctx context.Context, one func(r *Reader, f *file, last bool) error) error {
	for _, l := range g.Logs {
		if l.Path == "-" {
			report := g.report("standard input", "")
			r := NewReader(g.Only, g.Take)
			report.Error = errors.Join(r.Read(ctx, g.Stdin, &Options{Server: l.Server, Zone: l.Zone, Written: g.Now, Mapping: l.Mapping}, report), r.End())
			if err := r.ended(ctx); err != nil {
				return err
			}
			continue
		}
		files, err := l.files()
		if err != nil {
			g.report(l.Path, l.Path).Error = err
			continue
		}
		var r *Reader
		for i, f := range files {
			if i == 0 || files[i-1].series != f.series {
				r = NewReader(g.Only, g.Take)
			}
			if err := one(r, f, i+1 == len(files) || files[i+1].series != f.series); err != nil {
				return err
			}
		}
	}
	return nil
}

func (g *Reading) report(name, series string) *Report {
	r := &Report{Name: name, Series: series, Oldest: true, Newest: true}
	if n := len(g.reports); n > 0 && g.reports[n-1].Series == series {
		g.reports[n-1].Newest, r.Oldest = false, false
	}
	g.reports = append(g.reports, r)
	return r
}

// ended is why no other log is to be read.
func (r *Reader) ended(ctx context.Context) error {
	if r.failed != nil {
		return r.failed
	}
	return ctx.Err()
}

func (f *file) read(ctx context.Context, r *Reader, report *Report) error {
	in, closing, err := open(f.path)
	if err != nil {
		return err
	}
	defer closing()
	return r.Read(ctx, in, f.options(), report)
}

func (f *file) options() *Options {
	return &Options{Server: f.Server, Zone: f.Zone, Written: f.written, Mapping: f.Mapping}
}

// open returns the text of a file, plain or compressed, which is told by looking.
func open(path string) (io.Reader, func(), error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, nil, reason(err)
	}
	in := bufio.NewReaderSize(f, 1<<16)
	start, _ := in.Peek(4)
	switch {
	case bytes.HasPrefix(start, []byte{0x1f, 0x8b}):
		z, err := gzip.NewReader(in)
		if err != nil {
			f.Close()
			return nil, nil, fmt.Errorf("damaged gzip data: %w", err)
		}
		return z, func() { f.Close() }, nil
	case bytes.HasPrefix(start, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		z, err := zstd.NewReader(in)
		if err != nil {
			f.Close()
			return nil, nil, fmt.Errorf("damaged zstd data: %w", err)
		}
		return z, func() { z.Close(); f.Close() }, nil
	}
	// The buffer would only be copied from.
	if _, err := f.Seek(0, io.SeekStart); err == nil {
		return f, func() { f.Close() }, nil
	}
	return in, func() { f.Close() }, nil
}
