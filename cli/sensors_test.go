package cli_test

import (
	"encoding/json"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

type sensorList struct {
	Readings []struct {
		Source, Quantity, Unit string
		Value                  float64
	}
	Absent []struct{ Quantity, Why, Remedy string }
	Failed []struct{ Source, Reason string }
}

func (s *session) sensors(args ...string) (l sensorList) {
	text := s.ok(append([]string{"sensors", "--json", "--for", "1s"}, args...)...)
	require.NoError(s.t, json.Unmarshal([]byte(text), &l), text)
	return l
}

func (l *sensorList) value(quantity string) (float64, bool) {
	for _, r := range l.Readings {
		if r.Quantity == quantity {
			return r.Value, true
		}
	}
	return 0, false
}

// Every quantity that is not read is absent with its reason and a remedy; meters
// of the settings file are read, and those that are away say so.
func TestSensorsAreListed(t *testing.T) {
	s := newSession(t)
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "power.csv"), []byte("t,W\n1,20\n2,24.5\n"), 0o666))
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "vividstrain.yaml"), []byte(`
sensors:
  - name: wall
    csv: power.csv
    read: {wall_power_w: W}
  - name: away
    json: http://127.0.0.1:1/
    read: {temp_c: x}
`), 0o666))
	l := s.sensors()
	cpu, known := l.value("cpu_pct")
	require.True(t, known)
	require.LessOrEqual(t, cpu, 100.0)
	total, _ := l.value("mem_total_bytes")
	require.Greater(t, total, 1e8)
	wall, _ := l.value("wall_power_w")
	require.Equal(t, 24.5, wall)
	require.Len(t, l.Failed, 1)
	require.Contains(t, l.Failed[0].Reason, "http://127.0.0.1:1/")
	for _, a := range l.Absent {
		require.NotEmpty(t, a.Why)
		require.NotEmpty(t, a.Remedy)
		_, known := l.value(a.Quantity)
		require.False(t, known, a.Quantity)
	}
	text := s.ok("sensors", "--for", "600ms")
	require.Contains(t, text, "wall_power_w")
	require.Contains(t, text, "Gave nothing:")
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "vividstrain.yaml"), []byte("hold: 1s\nsensors:\n  - csv: x\n    reed: 5\n"), 0o666))
	_, errOut, status := s.run("sensors")
	require.Equal(t, 2, status)
	require.Contains(t, errOut, "vividstrain.yaml: line 4: reed")
}

// A busy helper is found by its number, and its load with it.
func TestWatchedProcess(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("other systems are asked for this program alone")
	}
	s := newSession(t)
	busy := s.command("inspect", "/dev/zero") // replaced below
	busy.Path, busy.Args = "/bin/sh", []string{"sh", "-c", "(while kill -0 $$; do :; done) & wait"}
	require.NoError(t, busy.Start())
	defer func() { busy.Process.Kill(); busy.Wait() }()
	l := s.sensors("--process", "sh")
	n, _ := l.value("group_processes")
	require.GreaterOrEqual(t, n, 2.0)
	cpu, _ := l.value("group_cpu_pct")
	require.Greater(t, cpu, 20.0, "the child is what is busy")
	_, errOut, status := s.run("sensors", "--pid", "999999999")
	require.Equal(t, 2, status)
	require.Contains(t, errOut, "there is no process 999999999")
}

// Without a terminal the live view is lines; recorded, it is a run, to which
// notes can be added.
func TestWatchIsRecorded(t *testing.T) {
	s := newSession(t)
	out := s.ok("watch", "--for", "3500ms", "--record")
	lines := strings.Split(strings.TrimSpace(out), "\n")
	require.LessOrEqual(t, len(lines), 3)
	require.Contains(t, lines[len(lines)-1], "cpu_pct ")
	require.NotContains(t, out, "\x1b")
	require.Contains(t, s.ok("note", "--reading", "noise=53dB", "--reading", "wall_power=2,5kW", "fan is loud"), "Noted in run")
	require.Contains(t, s.ok("note", "--stutter", "--at", "+1s"), "1.0 s after its start")
	for _, bad := range [][]string{{"note"}, {"note", "--reading", "noise"}, {"note", "--reading", "noise=loud"}, {"note", "--reading", "noise=5"}, {"note", "--at", "soon", "x"}, {"note", "--run", "2001", "x"}, {"note", "--reading", "temp_c=5W"}} {
		_, errOut, status := s.run(bad...)
		require.Equal(t, 2, status, bad)
		require.NotEmpty(t, errOut)
	}
	show := s.ok("show")
	require.Contains(t, show, "cpu_pct")
	require.Contains(t, show, "stutter seen")
	require.Contains(t, show, "fan is loud, noise_db 53 dB, wall_power_w 2500 W")
	d := document(t, s.ok("show", "--json"))
	require.Equal(t, "watch", d.Kind)
	require.True(t, d.Complete)
	require.Len(t, d.Remarks, 2)
	require.Greater(t, len(d.Baseline.Readings), 50)
	require.Contains(t, s.ok("runs"), "watch")
}

// One computer's readings reach another's climb through a page with a token.
func TestReadingsFromAnotherComputer(t *testing.T) {
	t.Parallel()
	s := newSession(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	l.Close()
	other := s.command("watch", "--listen", address, "--token", "gangway")
	require.NoError(t, other.Start())
	defer func() { other.Process.Kill(); other.Wait() }()
	require.Eventually(t, func() bool {
		c, err := net.DialTimeout("tcp", address, time.Second)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 10*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool {
		list := s.sensors("--sensors", "http://"+address, "--token", "gangway")
		found := false
		for _, r := range list.Readings {
			found = found || r.Source == "box" && r.Quantity == "cpu_pct"
		}
		return found
	}, 20*time.Second, 100*time.Millisecond)
	list := s.sensors("--sensors", "http://"+address, "--token", "lifebelt")
	require.Len(t, list.Failed, 1)
	require.Contains(t, list.Failed[0].Reason, "401")
	d := document(t, s.ok("climb", "--once", "--json", "--sensors", "http://"+address, "--token", "gangway", "--hold", "2s", "--baseline", "1s", "mjpeg 240p25 2M"))
	use := d.Rungs[0].Attempts[0].Use
	require.Contains(t, use, "cpu_pct@box")
	require.Contains(t, use, "cpu_pct", "both are kept")
	text, err := json.Marshal(d)
	require.NoError(t, err)
	require.NotContains(t, string(text), "gangway", "secrets are not kept")
}
