package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/media/clip"
	"vividstrain/core/route/server"
	"vividstrain/core/run"
	"vividstrain/core/run/climb"
	"vividstrain/core/sense"
	"vividstrain/core/sense/meter"
	"vividstrain/core/verdict"
	"vividstrain/report/text"
)

// demoServed is what the demo asks of its media box: a cabin's film as-is, and made smaller for four
// cabins at once.
var demoServed = []string{"h264 480p25 1M", "h264 480p25 1M x4 -> 240p 0.3M"}

// demoBox climbs on the practice media server as the media box of a boat, in a process of its
// own with a limit of less than half a core.
func (a *app) demoBox(ctx context.Context, c *cli.Command, book *logbook.Book, dir string) (*logbook.Document, error) {
	var rungs []load.Load
	for _, line := range demoServed {
		l, err := load.Parse(line)
		if err != nil {
			return nil, err
		}
		rungs = append(rungs, l)
	}
	progress := a.newProgress()
	defer progress.close()
	progress.line(fmt.Sprintf("Climbing on a media box, by HTTP, %d rungs:", len(rungs)))
	films := filepath.Join(dir, "films")
	order := clip.Order{Format: rungs[0].Format, Seconds: 12, Threads: runtime.NumCPU(), Progress: func(done, total int) {
		progress.set("making "+rungs[0].String(), done, total, fmt.Sprintf("frame %d of %d", done, total))
	}}
	if _, err := clip.Clip(ctx, films, order); err != nil {
		return nil, err
	}
	address, stop, err := startServer(ctx, films)
	if err != nil {
		return nil, err
	}
	defer stop()
	metrics, err := meter.NewMetrics("box", address+"metrics", "", 500*time.Millisecond, nil)
	if err != nil {
		return nil, err
	}
	defer metrics.Close()
	r, err := server.New(server.Options{URL: address + "film/{clip}/hls/{goal}/list.m3u8", Verify: 0.2, Seed: 1, Name: "Breakwater N2 by HTTP"})
	if err != nil {
		return nil, err
	}
	return climb.Run(ctx, book, climb.Config{Ladder: &load.Ladder{Name: "cabins", Columns: []load.Column{{Name: rungs[0].Codec, Rungs: rungs}}}, Once: true, Config: run.Config{
		Route: r, Criteria: verdict.Default(),
		Version: built().short(), Hold: 3 * time.Second, Settle: demoSettle, Baseline: demoBaseline, Rest: 10 * time.Second,
		Sensors: []sense.Source{metrics}, Watch: watcher(progress, text.Style{Color: a.style(c).Color && progress.live}),
	}})
}

var boxAddress = regexp.MustCompile(`http://\S+/`)

// startServer starts this program again as a practice media server.
func startServer(ctx context.Context, films string) (address string, stop func(), err error) {
	program, err := os.Executable()
	if err != nil {
		return "", nil, err
	}
	box := exec.CommandContext(ctx, program, "serve", "--clips", films, "--listen", "127.0.0.1:0", "--cores", "0.4",
		"--segment", "1s", "--idle", "1s", "--ahead", "4s", "--threads", "1")
	said, err := box.StderrPipe()
	if err != nil {
		return "", nil, err
	}
	if err := box.Start(); err != nil {
		return "", nil, err
	}
	stop = func() {
		box.Process.Kill()
		box.Wait() // the error is that it was killed
	}
	lines, last := bufio.NewScanner(said), ""
	for lines.Scan() {
		last = lines.Text()
		if address = boxAddress.FindString(last); address != "" {
			go func() { // drains its output, so that it never blocks
				for lines.Scan() {
				}
			}()
			return address, stop, nil
		}
	}
	stop()
	return "", nil, fmt.Errorf("the practice media server did not start: %s", last)
}
