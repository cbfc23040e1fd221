// Package x11test gives tests a screen without a monitor.
package x11test

import (
	"bufio"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Display starts an X server for a test, whose environment then names it.
func Display(t testing.TB) {
	r, w, err := os.Pipe()
	require.NoError(t, err)
	defer r.Close()
	cmd := exec.Command("Xvfb", "-displayfd", "3", "-screen", "0", "800x600x24", "-nolisten", "tcp", "-noreset")
	cmd.ExtraFiles = []*os.File{w}
	require.NoError(t, cmd.Start(), "the tests need Xvfb: make setup installs it")
	w.Close()
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	number, err := bufio.NewReader(r).ReadString('\n')
	require.NoError(t, err)
	t.Setenv("DISPLAY", ":"+strings.TrimSpace(number))
}
