package cli_test

import (
	"bufio"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/logbook"
	"vividstrain/core/tally"
)

// served starts the practice media server on a folder of clips.
func (s *session) served(flags ...string) (address string) {
	c := s.command(append([]string{"serve", "--clips", "clips", "--listen", "127.0.0.1:0"}, flags...)...)
	said, err := c.StderrPipe()
	require.NoError(s.t, err)
	require.NoError(s.t, c.Start())
	s.t.Cleanup(func() {
		c.Process.Signal(syscall.SIGTERM)
		c.Wait()
	})
	lines := bufio.NewScanner(said)
	for lines.Scan() {
		if address = regexp.MustCompile(`http://\S+/`).FindString(lines.Text()); address != "" {
			break
		}
	}
	require.NotEmpty(s.t, address)
	go func() {
		for lines.Scan() {
		}
	}()
	return address
}

func TestConvertWritesWhatItSays(t *testing.T) {
	s := newSession(t)
	_, _, status := s.run("clips", "build", "--out", "clips", "--seconds", "2", "h264 240p25 10bit hdr 1M")
	require.Zero(t, status)
	film := "clips/h264-240p25-10bit-hdr-1M-2s.mp4"
	out, _, status := s.run("convert", film, "--goal", "160p50 0.3M", "--out", "small.mkv")
	require.Zero(t, status)
	for _, word := range []string{"h264 240p25 10bit hdr -> 160p50", "times real time: ", "CPU of a core", "a frame", "decode", "scale", "map tones", "code", "Written to small.mkv."} {
		require.Contains(t, strings.Join(strings.Fields(out), " "), word)
	}
	out, _, status = s.run("inspect", "small.mkv")
	require.Zero(t, status)
	for _, word := range []string{"284x160, progressive, 8 bit 4:2:0", "50 frames/s", "100 frames", "BT.709, limited range"} {
		require.Contains(t, out, word)
	}
	out, _, status = s.run("convert", film, "--goal", "160p 0.3M", "--copies", "2", "--ahead", "2s")
	require.Zero(t, status)
	require.Equal(t, 2, strings.Count(out, "began after"))
	var report map[string]any
	out, _, status = s.run("convert", film, "--goal", "160p 0.3M", "--json")
	require.Zero(t, status)
	require.NoError(t, json.Unmarshal([]byte(out), &report))
	require.Greater(t, report["speed"], 0.1)
	for says, args := range map[string][]string{
		"convert to what?": {film}, "which file?": {"--goal", "160p 1M"}, "no such file": {"none.mp4", "--goal", "160p 1M"}, "progressive": {film, "--goal", "576i 1M"},
		"already exists": {film, "--goal", "160p 1M", "--out", "small.mkv"}, "is the source itself": {film, "--goal", "160p 1M", "--out", film, "--force"},
		"no files of this kind": {film, "--goal", "160p 1M", "--out", "a.avi"},
		"--ahead is 2s":         {film, "--goal", "160p 1M", "--ahead", "1s"}, "1 to 1000": {film, "--goal", "160p 1M", "--copies", "0"},
	} {
		_, errOut, status := s.run(append([]string{"convert"}, args...)...)
		require.Equal(t, 2, status, says)
		require.Contains(t, errOut, says)
		require.Equal(t, 1, strings.Count(errOut, "\n"))
	}
	require.NoFileExists(t, filepath.Join(s.dir, "a.avi"))
}

// A conversion that is interrupted leaves nothing behind; one that is killed what the next
// one clears away.
func TestStoppedConversionsLeaveNothing(t *testing.T) {
	s := newSession(t)
	s.ok("clips", "build", "--out", "clips", "--seconds", "20", "h264 240p25 0.5M")
	for _, signal := range []os.Signal{os.Interrupt, os.Kill} {
		c := s.command("convert", "clips/h264-240p25-500k-20s.mp4", "--goal", "144p 0.2M", "--ahead", "2s", "--out", "small/film.mkv")
		require.NoError(t, os.MkdirAll(filepath.Join(s.dir, "small"), 0o777))
		require.NoError(t, c.Start())
		left := func() []os.DirEntry {
			list, err := os.ReadDir(filepath.Join(s.dir, "small"))
			require.NoError(t, err)
			return list
		}
		require.Eventually(t, func() bool { return len(left()) > 0 }, 20*time.Second, 50*time.Millisecond)
		require.NoFileExists(t, filepath.Join(s.dir, "small/film.mkv"), "not before it is whole")
		require.NoError(t, c.Process.Signal(signal))
		require.Error(t, c.Wait())
		require.Len(t, left(), map[os.Signal]int{os.Interrupt: 0, os.Kill: 1}[signal])
	}
	leftover, err := filepath.Glob(filepath.Join(s.dir, "small", ".film.mkv.*.part"))
	require.NoError(t, err)
	old := time.Now().Add(-time.Minute) // for what is young may be another program's work
	require.NoError(t, os.Chtimes(leftover[0], old, old))
	s.ok("convert", "clips/h264-240p25-500k-20s.mp4", "--goal", "144p 0.2M", "--out", "small/other.mkv")
	list, err := os.ReadDir(filepath.Join(s.dir, "small"))
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, "other.mkv", list[0].Name())
}

// A climb on a media server, in a process of its own: as it is and converted, with
// jumps, its sensors read, and no secret in the record.
func TestClimbOnAServer(t *testing.T) {
	s := newSession(t)
	_, _, status := s.run("clips", "build", "--out", "clips", "--seconds", "8", "h264 240p25 0.5M")
	require.Zero(t, status)
	address := s.served("--segment", "2s", "--refuse", "hevc")
	url := strings.Replace(address, "http://", "http://mate:hunter2@", 1) + "film/{clip}/hls/{goal}/list.m3u8"
	s.env = append(s.env, "VIVIDSTRAIN_BEARER=hunter3")
	out, errOut, status := s.run("climb", "--once", "--url", url, "--sensors", address+"metrics", "--hold", "2s", "--settle", "500ms", "--baseline", "1s", "--jumps", "1", "--json",
		"h264 240p25 0.5M", "h264 240p25 0.5M -> 160p 0.2M")
	require.Zero(t, status, errOut)
	require.NotContains(t, out+errOut, "hunter")
	var doc logbook.Document
	require.NoError(t, json.Unmarshal([]byte(out), &doc))
	require.Equal(t, "server", doc.Route.Kind)
	require.True(t, doc.Complete)
	for i, want := range []string{"as-is", "converted"} {
		a := doc.Rungs[i].Attempts[0]
		require.Equal(t, want, a.Delivered.Treatment)
		require.Len(t, a.Buffer.Jumps, 1)
		require.Equal(t, tally.ByReadings, a.Buffer.Jumps[0].ShownBy)
		require.False(t, want == "as-is" && *a.Buffer.Jumps[0].BeganAnew, "nothing is converted")
		require.Contains(t, a.Use, "group_cpu_pct")
		require.Contains(t, a.Use, "viewer_lag_ms")
	}
	book, err := os.ReadFile(filepath.Join(s.dir, "data", "vividstrain", "vividstrain.db"))
	require.NoError(t, err)
	require.NotContains(t, string(book), "hunter")
	out, _, status = s.run("show")
	require.Zero(t, status)
	require.Contains(t, out, "arrived")
	require.Contains(t, out, "Jumps, to the first picture after each:")
	out, _, status = s.run("climb", "--once", "--url", address+"film/h264-240p25-500k/dash/as-is/main.mpd", "--hold", "1s", "--settle", "0s", "--baseline", "0s")
	require.Zero(t, status)
	require.Contains(t, out, "climb of offered")
	require.Contains(t, out, "as-is")
	_, errOut, status = s.run("climb", "--url", address+"film/none/file", "--baseline", "0s", "h264 240p25 0.5M")
	require.Equal(t, 1, status)
	require.Contains(t, errOut, "404 Not Found: there is no such film here")
	require.Contains(t, errOut, "nothing could be tried")
	_, errOut, status = s.run("climb", "--once", "--url", "http://127.0.0.1:9/x", "--baseline", "0s", "--hold", "1s", "--settle", "0s", "h264 240p25 0.5M")
	require.Equal(t, 1, status, errOut)
	require.Contains(t, errOut, "http://127.0.0.1:9 cannot be reached")
	for says, args := range map[string][]string{"is not the address": {"--url", "box/film"}, "where is the server": {"--route", "server"}, `there is no route "moon"; there are engine, server, page, program, simulated`: {"--route", "moon"},
		"--url does nothing on the route engine": {"--route", "engine", "--url", "http://a/b"}, "--verify is": {"--url", "http://a/b", "--look", "much"}, "--verify does nothing on the route engine": {"--look", "9%"}, "which device": {"--route", "standin"}} {
		_, errOut, status := s.run(append([]string{"climb", "h264 240p25 0.5M"}, args...)...)
		require.Equal(t, 2, status, says)
		require.Contains(t, errOut, says)
	}
}

// The number that a simulated device carries, and whether a need is met.
func TestCrowd(t *testing.T) {
	s := newSession(t)
	out, errOut, status := s.run("crowd", "h264 720p25 5M", "--device", "breakwater-n2", "--need", "5")
	require.Zero(t, status, errOut)
	for _, line := range []string{"Breakwater N2 plays 15 streams of h264 720p25 5M smoothly for every viewer.", "why the cores are full: all cores at 100 %", "comfortable 11 streams", "from the readings at 2 streams", "5 streams: met, with the reserve of 20 %"} {
		require.Contains(t, strings.Join(strings.Fields(out), " "), line)
	}
	require.Equal(t, 10, strings.Count(errOut, "stream"))
	out, _, status = s.run("crowd", "h264 720p25 5M", "--device", "breakwater-n2", "--need", "30")
	require.Equal(t, 3, status)
	require.Contains(t, out, "30 streams: not met")
	out, _, status = s.run("show")
	require.Zero(t, status)
	require.Contains(t, out, "15  ● smooth")
	out, _, status = s.run("crowd", "h264 720p25 5M x2", "h264 576i25 3M", "--device", "breakwater-n5", "--json")
	require.Zero(t, status)
	var doc logbook.Document
	require.NoError(t, json.Unmarshal([]byte(out), &doc))
	require.Equal(t, 4, doc.Crowd.Highest)
	require.Equal(t, 12, doc.Crowd.Streams)
	require.Equal(t, "memory", string(doc.Crowd.Limiter))
	require.Len(t, doc.Rungs[0].Mix, 2)
	for says, args := range map[string][]string{"which load": {}, "the reserve is": {"h264 720p25 5M", "--reserve", "100%"},
		"--reserve is": {"h264 720p25 5M", "--reserve", "x"}, "load line": {"h264"}, "a minute apart": {"h264 720p25 5M", "--stagger", "2h"}, "at most 20000": {"h264 720p25 5M", "--most", "50000"}} {
		_, errOut, status := s.run(append([]string{"crowd", "--device", "skerry-s1"}, args...)...)
		require.Equal(t, 2, status, says)
		require.Contains(t, errOut, says)
	}
}

// A crowd may play a file of one's own, and says so.
func TestCrowdOfAFile(t *testing.T) {
	s := newSession(t)
	_, _, status := s.run("clips", "build", "--out", "clips", "--seconds", "1", "h264 240p25 0.5M")
	require.Zero(t, status)
	out, errOut, status := s.run("crowd", "clips/h264-240p25-500k-1s.mp4", "--most", "1", "--every", "1s", "--settle", "0s", "--baseline", "0s")
	require.Zero(t, status, errOut)
	require.Contains(t, out, "h264-240p25-500k-1s.mp4: h264 240p25")
	require.Contains(t, out, "more were not tried")
	_, errOut, status = s.run("crowd", "none.mp4")
	require.Equal(t, 2, status)
	require.Contains(t, errOut, "none.mp4: there is no such file or folder")
}

func TestServeRefusesNonsense(t *testing.T) {
	s := newSession(t)
	for says, args := range map[string][]string{"there are no films": {"--clips", "."}, "--memory is": {"--memory", "lots"}, "--link is": {"--link", "fast"}} {
		_, errOut, status := s.run(append([]string{"serve"}, args...)...)
		require.Equal(t, 2, status, says)
		require.Contains(t, errOut, says)
	}
}

// Sources are tried as they are and converted to each goal.
func TestSourcesTimesGoals(t *testing.T) {
	s := newSession(t)
	s.ok("clips", "build", "--out", "clips", "--seconds", "8", "h264 240p25 0.5M")
	address := s.served("--segment", "1s")
	out := s.ok("climb", "--once", "--url", address+"film/{clip}/hls/{goal}/list.m3u8?track={audio}", "--sensors", address+"metrics", "--hold", "2s", "--settle", "500ms", "--baseline", "0s", "--rest", "0s",
		"--goal", "160p 0.2M audio=2", "h264 240p25 0.5M")
	require.Contains(t, out, " plays 2 of 2 treatments smoothly (sources x goals).")
	require.Regexp(t, `(?m)^source +as-is +160p 200k audio=2\nh264 240p25 500k +● smooth .* s, .*x +● smooth .* s, .*x\n`, out)
	for says, args := range map[string][]string{"--viewers goes with --goal": {"--viewers", "h264 720p25 4M"}, "sources, without a goal": {"--goal", "480p 1M", "h264 720p25 4M -> 240p 0.4M"}, "audio=N": {"--goal", "480p 1M audio=x", "h264 720p25 4M"}} {
		_, errOut, status := s.run(append([]string{"climb"}, args...)...)
		require.Equal(t, 2, status, says)
		require.Contains(t, errOut, says)
	}
}
