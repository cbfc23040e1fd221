package cli_test

import (
	"context"
	"encoding/json"
	"fmt"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	cdppage "github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"vividstrain/core/chromium/headless"
	"vividstrain/core/logbook"
)

// The page of a run needs nothing else and makes no error in a browser; its numbers are the run
// document's, in its tables and under the pointer; it prints.
func TestReportInABrowser(t *testing.T) {
	s := newSession(t)
	doc := document(t, s.ok("climb", "--json", "--device", "skerry-s1", "--ladder", "lounge", "--name", "Box <b>A</b>"))
	s.ok("note", "--run", doc.ID, "fan <script>alert(1)</script> is loud")
	require.Contains(t, s.ok("report", "--out", "r.html", "--png", "pictures", "--size", "900x500", "--markdown", "r.md"), "The report of 1 run is r.html")
	var exported logbook.Document
	require.NoError(t, json.Unmarshal([]byte(s.ok("export")), &exported))
	require.Greater(t, len(exported.Readings), 1000)

	tab, end, err := headless.Start(context.Background())
	require.NoError(t, err)
	defer end()
	var complaints []string
	require.NoError(t, chromedp.Listen(tab, func(event any) {
		switch e := event.(type) {
		case *runtime.EventExceptionThrown:
			complaints = append(complaints, e.ExceptionDetails.Text)
		case *runtime.EventConsoleAPICalled:
			complaints = append(complaints, string(e.Type))
		}
	}))
	require.NoError(t, chromedp.Do(tab, chromedp.EmulateViewport(1280, 800), chromedp.Navigate("file://"+filepath.Join(s.dir, "r.html"))))
	text, err := chromedp.Run(tab, chromedp.Evaluate[string]("document.body.innerText"))
	require.NoError(t, err)
	require.Contains(t, text, "Box <b>A</b> plays up to h264 1080p50 20M smoothly.", "markup in a name is shown as it is")
	require.Contains(t, text, "fan <script>alert(1)</script> is loud")
	for _, r := range doc.Rungs {
		for _, a := range r.Attempts {
			if a.Frames != nil {
				require.Contains(t, text, fmt.Sprintf("%d of %d", a.Frames.Dropped, a.Frames.Due))
			}
		}
	}
	// The greatest value of each curve is one of the document's readings.
	greatest, err := chromedp.Run(tab, chromedp.Evaluate[map[string]float64](`(function () {
		var out = {}, data = JSON.parse(document.getElementById('data').textContent);
		data.forEach(function (c) { (c.curves || []).forEach(function (k) {
			var most = -1e99, i;
			for (i = 1; i < k.p.length; i += 2) { most = Math.max(most, k.p[i]); }
			out[k.name] = most;
		}); });
		return out;
	})()`))
	require.NoError(t, err)
	for name, quantity := range map[string]string{"all cores": "cpu_pct", "as the device measures it": "power_w", "processor": "temp_c", "decoding": "gpu_decode_pct", "whole device": "mem_used_bytes"} {
		most := 0.0
		for _, r := range exported.Readings {
			if r.Quantity == quantity {
				most = max(most, r.Value)
			}
		}
		require.InEpsilon(t, most, greatest[name], 1e-3, name)
	}
	tip, err := chromedp.Run(tab, chromedp.Evaluate[string](`(function () {
		var d = document.querySelector('figure[data-chart] .drawing'), b = d.getBoundingClientRect();
		d.dispatchEvent(new PointerEvent('pointermove', {clientX: b.left + b.width / 2, clientY: b.top + 5}));
		return d.querySelector('.tip').innerText;
	})()`))
	require.NoError(t, err)
	require.Regexp(t, `all cores \d+(\.\d+)? %`, tip)
	pdf, err := chromedp.Run(tab, func(ctx context.Context, target *chromedp.Target) (cdppage.PrintToPDFResult, error) {
		return cdp.Call(ctx, target, cdppage.PrintToPDF, cdppage.PrintToPDFParams{})
	})
	require.NoError(t, err)
	require.Greater(t, len(pdf.Data), 20_000)
	require.Empty(t, complaints)
	page := s.read("r.html")
	require.Less(t, len(page), 2<<20)
	require.NotContains(t, page, "src=\"http")
	require.NotContains(t, page, "<script>alert")

	for _, name := range []string{"ladder", "cpu", "memory", "power"} {
		file, err := os.Open(filepath.Join(s.dir, "pictures", name+".png"))
		require.NoError(t, err)
		defer file.Close()
		config, err := png.DecodeConfig(file)
		require.NoError(t, err)
		require.InDelta(t, 900, config.Width, 5)
		require.InDelta(t, 500, config.Height, 5)
	}
	require.Contains(t, s.read("r.md"), "### Attempts\n\n| load | verdict |")
}

// Runs are compared, put into sets, and judged by a need; a folder of run documents serves as well.
func TestRunsAreComparedAndJudged(t *testing.T) {
	s := newSession(t)
	for _, device := range []string{"skerry-s1", "breakwater-n2"} {
		for _, command := range [][]string{{"climb", "--device", device, "h264 720p25 4M", "h264 1080p50 20M", "h264 2160p25 40M"}, {"climb", "--device", device, "--repeat", "3", "h264 720p25 4M", "h264 1080p50 20M"}} {
			s.ok(command...)
		}
	}
	var runs []map[string]any
	require.NoError(t, json.Unmarshal([]byte(s.ok("runs", "--json")), &runs))
	require.Len(t, runs, 8)
	id := func(i int) string { return runs[i]["id"].(string) }
	first, second := id(7), id(3) // the single climbs
	s.ok("runs", "name", first, "the tiny one")
	s.ok("runs", "tag", first, second, "--add", "review1")
	s.ok("runs", "set", "boats", first, second)
	list := s.ok("runs", "--tag", "review1")
	require.Contains(t, list, "the tiny one")
	require.Equal(t, 3, strings.Count(list, "\n"))
	require.Equal(t, 5, strings.Count(s.ok("runs", "--device", "SKERRY"), "\n"))
	require.Contains(t, s.ok("runs", "--route", "page"), "No run in the logbook is like that")
	require.Contains(t, s.ok("runs", "--since", "1h"), "Breakwater N2")

	words := strings.Join(strings.Fields(s.ok("compare", "boats", "--out", "c.html")), " ")
	for _, part := range []string{"Skerry S1 Breakwater N2", "h264 2160p25 40M ○ choppy ● smooth", "cores 4 2", "The page is c.html"} {
		require.Contains(t, words, part)
	}
	require.Contains(t, s.read("c.html"), "From the same second of the film")
	several := strings.Join(strings.Fields(s.ok("compare", id(6)[:len(id(6))-2], id(2)[:len(id(2))-2])), " ")
	require.Regexp(t, `h264 720p25 4M all cores Skerry S1 and Breakwater N2 \+\d`, several, "three runs each tell a difference from chance")

	s.write("need.yaml", "loads: [h264 1080p25 10M]\npower_w: 5\nprice: 100\n")
	met := s.ok("need", "need.yaml")
	require.Contains(t, met, "Skerry S1 meets the need.")
	require.Regexp(t, `power +× +[\d.]+ W, [\d.]+ too much`, met)
	s.write("hard.yaml", "loads: [h264 2160p50 80M x3]\n")
	out, _, status := s.run("need", "hard.yaml")
	require.Equal(t, 3, status)
	require.Contains(t, out, "No device that was measured meets the need.")

	require.NoError(t, os.Mkdir(filepath.Join(s.dir, "documents"), 0o777))
	for _, run := range []string{first, second} {
		s.ok("export", run, "--out", "documents/"+run+".json")
	}
	require.Contains(t, s.ok("need", "need.yaml", "--in", "documents"), "Skerry S1 meets the need.")
	require.Equal(t, s.ok("compare", "boats"), s.ok("compare", "documents"))
	require.Contains(t, s.ok("report", "documents", "--out", "d.html"), "2 runs")
	require.Contains(t, s.ok("capacity", "h264 720p25 4M", "--in", "documents", "--device", "breakwater"), "Breakwater N2 carries h264 720p25 4M")

	s.ok("--logbook", "other.db", "import", "documents")
	require.Equal(t, s.ok("show", first), s.ok("--logbook", "other.db", "show", first))
	require.Equal(t, s.ok("export", first), s.ok("--logbook", "other.db", "export", first), "a run is the same on another computer")
	_, errOut, status := s.run("--logbook", "other.db", "import", "documents/"+first+".json")
	require.Equal(t, 1, status)
	require.Contains(t, errOut, "is in the logbook already")
	require.Contains(t, s.ok("--logbook", "other.db", "runs", "delete", first, "--yes"), "1 run deleted")
	require.NotContains(t, s.ok("--logbook", "other.db", "runs"), first)
	require.Contains(t, s.ok("export", first, "--format", "csv", "--table", "rungs"), "Skerry S1,given,h264 720p25 4M,1,")
	require.Contains(t, s.ok("export", first, "--format", "openmetrics"), "vividstrain_cpu_pct{")
	s.ok("export", first, "--format", "parquet", "--out", "r.parquet")
	require.Equal(t, "PAR1", s.read("r.parquet")[:4])
}

// Documents that are damaged, empty or odd end in one line, or in a page of what there is.
func TestOddDocuments(t *testing.T) {
	s := newSession(t)
	s.write("none.json", "{}")
	s.write("evil.json", `{"schema":"vividstrain.run/1","id":"../../evil"}`)
	s.write("half.json", `{"schema":"vividstrain.run/1","id":"half"`)
	s.write("bare.json", `{"schema":"vividstrain.run/1","id":"bare","kind":"climb","rungs":[{"load":"h264 720p25 4M","column":"h264","attempts":[{"verdict":"smooth","reasons":null},{}]}]}`)
	s.write("future.json", `{"schema":"vividstrain.run/1","id":"future","kind":"teleport","what":7,"device":{"name":"\u001b[2J<i>x</i>"},"started":"2026-01-01T00:00:00Z","readings":[{"at_s":-5,"quantity":"cpu_pct","value":1e300},{"at_s":1e18,"quantity":"cpu_pct","value":-4}]}`)
	for file, says := range map[string]string{"none.json": "this is no run document", "evil.json": "is not the id of a run", "half.json": "unexpected end", "absent.json": "there is no such logbook"} {
		_, errOut, status := s.run("report", file)
		require.Equal(t, 2, status, file)
		require.Contains(t, errOut, says)
	}
	for _, file := range []string{"bare.json", "future.json"} {
		s.ok("report", file, "--out", "x.html", "--png", "x")
		require.NotContains(t, s.read("x.html"), "\x1b")
		require.NotContains(t, s.read("x.html"), "<i>x")
	}
	s.ok("compare", "bare.json", "future.json")
	for args, says := range map[string]string{"report|bare.json|--size|10x10": "320x200 to", "report|bare.json|--size|big": "like 1280x800", "compare|bare.json": "name another", "export|bare.json|--format|xml": "--format is json",
		"export|bare.json|--table|rungs": "--table is for csv", "runs|--since|soon": "a date like", "runs|tag|x": "which tag", "runs|set|a b|x": "is letters", "capacity|x": "load line", "capacity|--reserve|all": "a share like",
		"climb|--device|skerry-s1|--quick|--all": "does not go with", "climb|--device|skerry-s1|--within|5%": "goes with --refine", "climb|--device|skerry-s1|--map|--within|0%": "1% to 100%", "climb|--device|skerry-s1|--map|--quick": "--map does not go with --quick",
		"climb|--device|skerry-s1|--adaptive|--once": "--adaptive does not go with --once"} {
		_, errOut, status := s.run(strings.Split(args, "|")...)
		require.Equal(t, 2, status, args+errOut)
		require.Contains(t, errOut, says, args)
	}
}

// A logbook of two thousand runs is listed quickly: BenchmarkRuns.
func BenchmarkRuns(b *testing.B) {
	path := filepath.Join(b.TempDir(), "book.db")
	book, err := logbook.Open(path)
	require.NoError(b, err)
	maker := &session{dir: b.TempDir(), env: []string{"HOME=" + b.TempDir()}}
	text, err := maker.command("climb", "--device", "skerry-s4", "--ladder", "lounge", "--json").Output()
	require.NoError(b, err)
	var d logbook.Document
	require.NoError(b, json.Unmarshal(text, &d))
	d.Readings = append(d.Readings, logbook.Reading{Source: "x", Quantity: "cpu_pct"}) // few: the other readings are in other tables
	for i := range 2000 {
		d.ID = fmt.Sprintf("20260101-000000-%04d", i)
		require.NoError(b, book.Add(&d))
	}
	require.NoError(b, book.Close())
	s := &session{env: []string{"HOME=" + b.TempDir()}}
	for b.Loop() {
		for name, args := range map[string][]string{"runs": {"runs"}, "show": {"show"}} {
			began := time.Now()
			c := s.command(append([]string{"--logbook", path}, args...)...)
			require.NoError(b, c.Run())
			b.ReportMetric(float64(time.Since(began).Milliseconds()), "ms-"+name)
		}
	}
}
