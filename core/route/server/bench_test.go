package server

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"vividstrain/core/cputime"

	"github.com/stretchr/testify/require"

	"vividstrain/core/clock"
	"vividstrain/core/load"
	"vividstrain/core/media/clip"
	"vividstrain/core/media/registry"
	"vividstrain/core/route"
	"vividstrain/core/sense"
)

// TestMain serves a folder where a benchmark has started the program again as a
// plain static server.
func TestMain(m *testing.M) {
	if dir := os.Getenv("SERVE_FOLDER"); dir != "" {
		fmt.Fprintln(os.Stderr, http.ListenAndServe(os.Getenv("SERVE_ADDRESS"), http.FileServer(http.Dir(dir))))
		os.Exit(1)
	}
	os.Exit(m.Run())
}

// benchLine is what viewers watch; the bitrate is set with BITRATE.
var benchLine = "h264 360p25 " + cmp.Or(os.Getenv("BITRATE"), "1M")

// static is a plain static server in a process of its own, with a film in HLS segments of four seconds.
func static(b *testing.B) (address string) {
	dir := b.TempDir()
	l, err := load.Parse(benchLine)
	require.NoError(b, err)
	path, err := clip.Clip(b.Context(), b.TempDir(), clip.Order{Format: l.Format, Seconds: 64, Threads: 2})
	require.NoError(b, err)
	source, err := registry.Open(path)
	require.NoError(b, err)
	defer source.Close()
	w := &pieces{}
	_, err = registry.Rewrap(b.Context(), source, registry.MP4, w, true)
	require.NoError(b, err)
	require.NoError(b, os.WriteFile(filepath.Join(dir, "head.mp4"), w.list[0], 0o600))
	text := "#EXTM3U\n#EXT-X-TARGETDURATION:4\n#EXT-X-MAP:URI=\"head.mp4\"\n"
	for i := 1; i+3 < len(w.list); i += 4 {
		name := fmt.Sprintf("%d.m4s", i)
		var data []byte
		for _, part := range w.list[i : i+4] {
			data = append(data, part...)
		}
		require.NoError(b, os.WriteFile(filepath.Join(dir, name), data, 0o600))
		text += "#EXTINF:4,\n" + name + "\n"
	}
	require.NoError(b, os.WriteFile(filepath.Join(dir, "list.m3u8"), []byte(text+"#EXT-X-ENDLIST\n"), 0o600))
	const listen = "127.0.0.1:18431"
	server := exec.Command(os.Args[0])
	server.Env = append(os.Environ(), "SERVE_FOLDER="+dir, "SERVE_ADDRESS="+listen)
	server.Stderr = os.Stderr
	require.NoError(b, server.Start())
	b.Cleanup(func() {
		server.Process.Kill()
		server.Wait()
	})
	address = "http://" + listen
	for range 100 {
		if r, err := http.Get(address + "/list.m3u8"); err == nil {
			r.Body.Close()
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	return address
}

// BenchmarkViewers has many viewers watch at once. How many is set with VIEWERS.
func BenchmarkViewers(b *testing.B) {
	address := static(b)
	n := 5000
	if text := os.Getenv("VIEWERS"); text != "" {
		n, _ = strconv.Atoi(text)
	}
	for b.Loop() {
		s, err := New(Options{URL: address + "/list.m3u8", Ahead: 8 * time.Second})
		require.NoError(b, err)
		l, err := load.Parse(benchLine + " x" + strconv.Itoa(n))
		require.NoError(b, err)
		p := route.Plan{Loads: []load.Load{l}, Hold: 20 * time.Second, Settle: 5 * time.Second, Stagger: 20 * time.Second / time.Duration(n)}
		worst, sum, samples := 0.0, 0.0, 0.0
		var mu sync.Mutex
		var wakes []float64                           // by how much too late, in milliseconds
		over := time.Now().Add(p.Begin(n-1) + p.Hold) // then all viewers leave at once, which nothing is measured in
		s.own.woken = func(late time.Duration) {
			if time.Now().Before(over) {
				mu.Lock()
				wakes = append(wakes, late.Seconds()*1e3)
				mu.Unlock()
			}
		}
		before, cpu := time.Now(), cputime.Process()
		stop := clock.Real{}.Every(250*time.Millisecond, func(now time.Time) {
			list, _ := s.own.Sample(b.Context(), now, nil)
			for _, r := range list {
				if r.Quantity == sense.ViewerLag {
					worst, sum, samples = max(worst, r.Value), sum+r.Value, samples+1
				}
			}
		})
		result, err := s.Play(b.Context(), p, func(route.Live) {})
		stop()
		require.NoError(b, err)
		require.Empty(b, result.Failure)
		smooth, checked := 0, 0
		for _, v := range result.Streams {
			if v.Buffer.Stalls == 0 && v.Steady().Shown > 0 {
				smooth++
			}
			checked += v.Delivered.Checked
		}
		b.ReportMetric(float64(n), "viewers")
		b.ReportMetric(float64(smooth), "without-stall")
		b.ReportMetric(float64(checked), "segments-checked")
		b.ReportMetric(sum/samples, "mean-worst-lag-ms")
		b.ReportMetric(worst, "worst-lag-ms")
		slices.Sort(wakes)
		b.ReportMetric(wakes[len(wakes)*999/1000], "p99.9-lag-ms")
		b.ReportMetric(wakes[len(wakes)/2], "median-lag-ms")
		b.ReportMetric(100*(cputime.Process()-cpu).Seconds()/time.Since(before).Seconds(), "cpu-%")
		b.ReportMetric(peakMB(), "peak-MB")
	}
}

// peakMB is the most memory that the process has had.
func peakMB() float64 {
	text, _ := os.ReadFile("/proc/self/status")
	for _, line := range strings.Split(string(text), "\n") {
		if value, found := strings.CutPrefix(line, "VmHWM:"); found {
			kb, _ := strconv.ParseFloat(strings.Fields(value)[0], 64)
			return kb / 1e3
		}
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return float64(m.Sys) / 1e6
}

// BenchmarkBulk compares viewers that fetch all they can with a bare client that
// throws away what it gets, in turn, in the same run.
func BenchmarkBulk(b *testing.B) {
	address := static(b)
	const clients, span = 4, 12 * time.Second // three segments at least
	bare := func() float64 {
		var got atomic.Int64
		ctx, cancel := context.WithTimeout(b.Context(), span)
		defer cancel()
		var wait sync.WaitGroup
		for range clients {
			wait.Go(func() {
				c := &http.Client{Transport: &http.Transport{}}
				for i := 1; ctx.Err() == nil; i = (i+4)%64 | 1 {
					r, err := http.NewRequestWithContext(ctx, http.MethodGet, fmt.Sprintf("%s/%d.m4s", address, i), nil)
					if err != nil {
						return
					}
					answer, err := c.Do(r)
					if err != nil {
						return
					}
					n, _ := io.Copy(io.Discard, answer.Body)
					got.Add(n)
					answer.Body.Close()
				}
			})
		}
		wait.Wait()
		return float64(got.Load()) / span.Seconds()
	}
	viewers := func() float64 {
		s, err := New(Options{URL: address + "/list.m3u8", Ahead: time.Hour})
		require.NoError(b, err)
		s.options.Ahead = 1e6 * time.Hour
		l, err := load.Parse(benchLine + " x" + strconv.Itoa(clients))
		require.NoError(b, err)
		result, err := s.Play(b.Context(), route.Plan{Loads: []load.Load{l}, Hold: span}, func(route.Live) {})
		require.NoError(b, err)
		total := int64(0)
		for _, v := range result.Streams {
			total += v.Delivered.Bytes
		}
		return float64(total) / span.Seconds()
	}
	viewers() // so that all is in memory and known
	var a, v float64
	for b.Loop() {
		a += bare()
		v += viewers()
	}
	b.ReportMetric(a/float64(b.N)/1e6, "bare-MB/s")
	b.ReportMetric(v/float64(b.N)/1e6, "viewers-MB/s")
	b.ReportMetric(100*v/a, "%-of-bare")
}
