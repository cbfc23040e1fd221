package child

import "syscall"

// endWithUs has the kernel end a process when the thread that started it ends.
func endWithUs(a *syscall.SysProcAttr) { a.Pdeathsig = syscall.SIGKILL }
