//go:build unix

package child

import (
	"os/exec"
	"syscall"
)

// groupOf makes a command and all that it starts a process group, which ends with this program
// where the system can do that.
func groupOf(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	endWithUs(cmd.SysProcAttr)
}

// end ends a process group.
func end(cmd *exec.Cmd, hard bool) {
	signal := syscall.SIGTERM
	if hard {
		signal = syscall.SIGKILL
	}
	_ = syscall.Kill(-cmd.Process.Pid, signal) // it may have ended already
}
