package cli

import (
	"io"
	"log/slog"
	"os"
	"sync"
	"time"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"

	"yardbroom/internal/render"
	"yardbroom/internal/source"
)

// patience is how long something takes before a person wants to know how far
// it is.
const patience = time.Second

// progress shows on a terminal how far a long work is. It is nil where nobody
// looks.
type progress struct {
	mu    sync.Mutex
	out   io.Writer
	width int
	now   func() time.Time
	began time.Time
	step  string
	bar   *progressbar.ProgressBar
}

// newProgress returns a progress for standard error, nil where that is no
// terminal or nobody wants it.
func (a *app) newProgress() *progress {
	f, ok := a.err.(*os.File)
	if !ok || a.quiet || !term.IsTerminal(int(f.Fd())) {
		return nil
	}
	p := &progress{out: f, width: 80, now: time.Now}
	if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
		p.width = w
	}
	return p
}

// report says that a step is so far. A total of 0 is not known.
func (p *progress) report(step string, done, total int64) {
	if p == nil {
		return
	}
	if done == source.Over {
		p.clear()
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.step != step {
		p.wipe()
		p.step, p.began = step, p.now()
	}
	if p.bar == nil {
		if p.now().Sub(p.began) < patience {
			return
		}
		p.bar = p.draw(total)
	}
	_ = p.bar.Set64(done) // what cannot be drawn is no failure of the work
}

func (p *progress) draw(total int64) *progressbar.ProgressBar {
	options := []progressbar.Option{
		progressbar.OptionSetWriter(p.out),
		progressbar.OptionSetDescription(render.Clip(render.Visible(p.step), p.width/2)),
		progressbar.OptionSetWidth(min(30, p.width/4)),
		progressbar.OptionThrottle(200 * time.Millisecond),
		progressbar.OptionSetPredictTime(total > 0),
		progressbar.OptionSetElapsedTime(false),
	}
	if total > 0 {
		options = append(options, progressbar.OptionShowBytes(true),
			progressbar.OptionSetTheme(progressbar.Theme{Saucer: "━", SaucerPadding: "─", BarStart: "", BarEnd: ""}))
	} else {
		total = -1
		options = append(options, progressbar.OptionShowCount(), progressbar.OptionSpinnerType(14))
	}
	return progressbar.NewOptions64(total, options...)
}

// clear takes the bar off the terminal, before anything else is written
// there.
func (p *progress) clear() {
	if p == nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.wipe()
	p.step = ""
}

func (p *progress) wipe() {
	if p.bar != nil {
		_ = p.bar.Clear()
		_ = p.bar.Close()
		_, _ = io.WriteString(p.out, "\r\x1b[K")
		p.bar = nil
	}
}

// counting is a writer that tells how much it has written.
type counting struct {
	w    io.Writer
	n    int64
	told func(int64)
}

func (c *counting) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n += int64(n)
	c.told(c.n)
	return n, err
}

// clearing is a writer that takes the bar away first.
type clearing struct {
	p *progress
	w io.Writer
}

func (c clearing) Write(b []byte) (int, error) {
	c.p.clear()
	return c.w.Write(b)
}

// setLog makes the core's log go to standard error, or nowhere.
func (a *app) setLog(verbose bool) {
	handler := slog.DiscardHandler
	if verbose {
		handler = slog.NewTextHandler(clearing{a.progress, a.err}, &slog.HandlerOptions{Level: slog.LevelDebug})
	}
	slog.SetDefault(slog.New(handler))
}
