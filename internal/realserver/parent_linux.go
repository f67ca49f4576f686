package realserver

import (
	"os/exec"
	"syscall"
)

// tie makes a server die with the test that started it, however that ends,
// and gives it a process group of its own, so that all of it can be killed.
func tie(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true}
}

func killAll(cmd *exec.Cmd) { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
