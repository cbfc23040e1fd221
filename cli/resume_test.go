package cli_test

import (
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/logbook"
	"vividstrain/core/verdict"
)

// killedIn starts a run and kills the program so long after an attempt has ended.
func (s *session) killedIn(attempts int, args ...string) logbook.Document {
	c := s.command(args...)
	require.NoError(s.t, c.Start())
	require.Eventually(s.t, func() bool {
		out, _, status := s.run("show", "--json")
		if status != 0 {
			return false
		}
		d := document(s.t, out)
		return d.Attempts() >= attempts
	}, 90*time.Second, 100*time.Millisecond)
	time.Sleep(1500 * time.Millisecond) // the next one is under way
	require.NoError(s.t, c.Process.Signal(syscall.SIGKILL))
	require.Error(s.t, c.Wait())
	d := document(s.t, s.ok("show", "--json"))
	require.False(s.t, d.Complete)
	return d
}

// A crowd and a climb on a server that were killed are named and gone on with, the older
// one first, by their own settings; only the credentials are asked for again.
func TestKilledRunsOnAServerAreResumedByName(t *testing.T) {
	t.Parallel()
	s := newSession(t)
	s.ok("clips", "build", "--out", "clips", "--seconds", "6", "h264 240p25 0.5M")
	address := s.served("--segment", "1s")
	url := address + "film/{clip}/hls/{goal}/list.m3u8"
	common := []string{"--url", url, "--settle", "1s", "--baseline", "0s", "--rest", "1s", "--look", "0%", "--ahead", "5s", "--criterion", "smooth.dropped_pct=0.5"}

	s.env = append(s.env, "VIVIDSTRAIN_BEARER=hunter3")
	climb := s.killedIn(1, append([]string{"climb", "--hold", "4s", "h264 240p25 0.5M", "h264 240p25 0.5M x2", "h264 240p25 0.5M x3"}, common...)...)
	s.env = s.env[:len(s.env)-1]
	crowd := s.killedIn(1, append([]string{"crowd", "--every", "4s", "--most", "2", "--need", "2", "h264 240p25 0.5M"}, common...)...)

	_, errOut, status := s.run("climb", "--resume", climb.ID)
	require.Equal(t, 2, status)
	require.Contains(t, errOut, "used credentials; give --bearer again, or VIVIDSTRAIN_BEARER in the environment")
	s.env = append(s.env, "VIVIDSTRAIN_BEARER=hunter3")
	resumed := document(t, s.ok("climb", "--resume", climb.ID, "--json"))
	s.env = s.env[:len(s.env)-1]
	require.True(t, resumed.Complete)
	require.Equal(t, climb.ID, resumed.ID)
	require.Equal(t, climb.Plan, resumed.Plan)
	require.Equal(t, climb.Route, resumed.Route)
	require.Equal(t, climb.Criteria, resumed.Criteria)
	require.NotContains(t, s.ok("show", "--json"), "hunter3")
	killed := resumed.Rungs[1].Attempts[0]
	require.Equal(t, verdict.VoidKilled, killed.Void)
	for i, r := range resumed.Rungs {
		require.NotEmpty(t, r.Counted(), "rung %d", i)
	}

	again := document(t, s.ok("crowd", "--resume", "--json"))
	require.Equal(t, crowd.ID, again.ID)
	require.True(t, again.Complete)
	require.Equal(t, 2, again.Crowd.Highest)
	require.True(t, *again.Crowd.Met)
	// Known only where the server was busy enough to show its pace: either the number or the reason.
	require.Equal(t, again.Crowd.Comfortable == nil, again.Crowd.ComfortableWhy != "")

	for says, args := range map[string][]string{"is complete; there is nothing to resume": {"climb", "--resume", climb.ID}, "nothing to resume": {"crowd", "--resume"}, "leave --hold out": {"climb", "--resume", "--hold", "3s"}} {
		_, errOut, status := s.run(args...)
		require.Equal(t, 2, status, says)
		require.Contains(t, errOut, says)
		require.Equal(t, 1, strings.Count(errOut, "\n"))
	}
}

// An idle reading that was interrupted is taken again, whole, before anything is played.
func TestResumeOfAnInterruptedBaseline(t *testing.T) {
	t.Parallel()
	s := newSession(t)
	c := s.command("climb", "--hold", "2s", "--settle", "500ms", "--baseline", "4s", "--clips", "clips", "mjpeg 240p25 4M")
	require.NoError(t, c.Start())
	require.Eventually(t, func() bool {
		_, _, status := s.run("show")
		return status == 0
	}, 30*time.Second, 100*time.Millisecond)
	time.Sleep(time.Second)
	require.NoError(t, c.Process.Signal(syscall.SIGKILL))
	require.Error(t, c.Wait())
	before := document(t, s.ok("show", "--json"))
	require.Zero(t, before.Attempts())
	require.Zero(t, before.Baseline.ToS)
	after := document(t, s.ok("climb", "--resume", "--json"))
	require.True(t, after.Complete)
	resumed := after.ResumedAt[0].Sub(after.Started).Seconds()
	require.GreaterOrEqual(t, after.Baseline.FromS, resumed)
	require.InDelta(t, 4, after.Baseline.ToS-after.Baseline.FromS, 1)
	require.Greater(t, after.Rungs[0].Attempts[0].Started, after.ResumedAt[0])
}
