package cli

import (
	"bytes"
	"cmp"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"os/signal"
	"syscall"
)

// paged writes a result to standard output: on a terminal, what is longer than the
// screen goes through a pager, that of PAGER or a usual one.
func (a *app) paged(write func(io.Writer) error) error {
	screen := a.style(nil).Screen
	if _, typing := a.terminal(); a.noPager || screen == 0 || !typing {
		return write(a.out)
	}
	p := &pager{out: a.out, screen: screen - 1}
	return errors.Join(write(p), p.close())
}

// pager holds back as much as fits on a screen, and starts a program to show it once
// there is more.
type pager struct {
	out    io.Writer
	screen int // lines that fit
	held   bytes.Buffer
	cmd    *exec.Cmd
	in     io.WriteCloser
	quit   bool // whoever reads has seen enough
	plain  bool // there is no pager
}

func (p *pager) Write(b []byte) (int, error) {
	switch {
	case p.quit:
		return len(b), nil
	case p.plain:
		return p.out.Write(b)
	case p.in != nil:
		return len(b), p.pass(b)
	}
	p.held.Write(b)
	if bytes.Count(p.held.Bytes(), []byte("\n")) <= p.screen {
		return len(b), nil
	}
	if !p.start() {
		p.plain = true
		_, err := p.held.WriteTo(p.out)
		return len(b), err
	}
	return len(b), p.pass(p.held.Bytes())
}

// pass hands text to the pager; one that was quit takes no more.
func (p *pager) pass(b []byte) error {
	_, err := p.in.Write(b)
	if errors.Is(err, syscall.EPIPE) || errors.Is(err, fs.ErrClosed) {
		p.quit, err = true, nil
	}
	return err
}

// start starts the pager, and tells whether there is one.
func (p *pager) start() bool {
	shell := os.Getenv("PAGER")
	if shell == "" {
		for _, name := range []string{"less", "more"} {
			if path, err := exec.LookPath(name); err == nil {
				shell = path
				break
			}
		}
	}
	if shell == "" {
		return false
	}
	cmd := exec.Command("sh", "-c", shell)
	cmd.Stdout, cmd.Stderr = p.out, os.Stderr
	cmd.Env = append(os.Environ(), "LESS="+cmp.Or(os.Getenv("LESS"), "-R"))
	in, err := cmd.StdinPipe()
	if err != nil || cmd.Start() != nil {
		return false
	}
	signal.Ignore(os.Interrupt) // it is the pager's now
	p.cmd, p.in = cmd, in
	return true
}

// close shows what was held back, or waits until whoever reads has seen enough.
func (p *pager) close() error {
	if p.in == nil {
		_, err := p.held.WriteTo(p.out)
		return err
	}
	_ = p.in.Close()
	_ = p.cmd.Wait() // how a pager ends says nothing of the result
	return nil
}
