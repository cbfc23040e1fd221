// Package child runs other programs as process groups that end with this program.
package child

import (
	"os/exec"
	"runtime"
	"time"
)

// Child is a program that was started.
type Child struct {
	Cmd   *exec.Cmd
	Ended chan struct{} // closed when it has ended

	began, ended time.Time
}

// Start starts a command, which becomes the first of a process group.
func Start(cmd *exec.Cmd) (*Child, error) {
	c := &Child{Cmd: cmd, Ended: make(chan struct{})}
	groupOf(cmd)
	started := make(chan error)
	go func() {
		defer close(c.Ended)
		runtime.LockOSThread() // the child ends with the thread that started it
		c.began = time.Now()
		err := cmd.Start()
		if started <- err; err == nil {
			_ = cmd.Wait() // how it ended is in cmd.ProcessState
			c.ended = time.Now()
		}
	}()
	if err := <-started; err != nil {
		return nil, err
	}
	return c, nil
}

// Lasted returns how long a program that has ended has run.
func (c *Child) Lasted() time.Duration { return c.ended.Sub(c.began) }

// End ends the group: politely, and after a while hard. It reports whether it was polite enough.
func (c *Child) End(patience time.Duration) (polite bool) {
	end(c.Cmd, false)
	timer := time.NewTimer(patience)
	defer timer.Stop()
	select {
	case <-c.Ended:
		polite = true
	case <-timer.C:
	}
	end(c.Cmd, true) // also what the first of the group left
	<-c.Ended
	return polite
}
