package cli_test

import (
	"bytes"
	"io"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// In a terminal a run is shown on a screen of its own, a key marks a stutter, and the result stays
// when the screen is left.
func TestRunsAreShownInATerminal(t *testing.T) {
	s := newSession(t)
	c := s.command("climb", "--baseline", "500ms", "--hold", "3s", "--settle", "500ms", "h264 240p25 0.5M")
	terminal := exec.Command("script", "-qec", "stty cols 100 rows 30; exec '"+strings.Join(c.Args, "' '")+"'", "/dev/null")
	terminal.Dir, terminal.Env = c.Dir, append(c.Env, "TERM=xterm-256color")
	keys, err := terminal.StdinPipe()
	require.NoError(t, err)
	var screen bytes.Buffer
	terminal.Stdout, terminal.Stderr = &screen, &screen
	go func() {
		for range 60 {
			if _, err := io.WriteString(keys, "s"); err != nil {
				return
			}
			time.Sleep(200 * time.Millisecond)
		}
	}()
	require.NoError(t, terminal.Run(), screen.String())
	view, result, left := strings.Cut(screen.String(), "\x1b[?1049l")
	require.True(t, left, "the screen of its own is left")
	require.Contains(t, view, "\x1b[?1049h")
	require.Contains(t, view, "h264 240p25 500k")
	require.Contains(t, result, "h264 240p25 500k")
	require.NotContains(t, result, "\x1b[?1049h")
	require.Contains(t, s.ok("show"), "stutter")
}
