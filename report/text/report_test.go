package text

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/media/inspect"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
	"vividstrain/report/model"
)

func parsed(t *testing.T, line string) load.Load {
	l, err := load.Parse(line)
	require.NoError(t, err)
	return l
}

func attempt(g verdict.Grade, dropped int) logbook.Attempt {
	a := logbook.Attempt{Verdict: g, Frames: &tally.Frames{Due: 450, Dropped: dropped, Shown: 450 - dropped},
		Use: sense.Use{sense.CPU: {Mean: 41.4, P95: 55.2}, sense.MemUsed: {Max: 1.26e9}}}
	if g != verdict.Smooth {
		a.Frames.Freezes, a.Frames.LongestFreezeMS = 2, 116.6
	}
	return a
}

// example is a run of two rungs: the first is smooth twice, the second is not.
func example(t *testing.T, device string) *logbook.Document {
	free := 38.4
	easy, hard := parsed(t, "h264 720p25 5M"), parsed(t, "h264 1080p25 10M")
	column := logbook.ColumnCeiling{Column: "h264", Load: &easy, Confirmed: true, Headroom: &free, Limiter: verdict.CPU,
		Evidence: "all cores at 97 %", Next: &logbook.Next{Load: hard, Verdict: verdict.Choppy}}
	return &logbook.Document{
		ID: "20261123-101502-k3f9", Kind: "climb", Complete: true, Started: time.Unix(0, 0), Ladder: "lounge",
		Device: logbook.Device{Name: device, Spec: map[string]string{"cores": "4"}, Facts: map[string]string{"price": "189EUR"}}, Route: logbook.Route{Kind: "simulated"},
		Criteria: verdict.Default(), Plan: logbook.Plan{HoldS: 20, SettleS: 2, BaselineS: 3}, Baseline: logbook.Baseline{CPUPct: 2.12, MemUsed: 310e6},
		Rungs: []logbook.Rung{
			{Load: easy, Attempts: []logbook.Attempt{attempt(verdict.Smooth, 0), attempt(verdict.Smooth, 1)}},
			{Load: hard, Attempts: []logbook.Attempt{attempt(verdict.Choppy, 43)}},
		},
		Ceiling: &logbook.Ceiling{Load: &easy, Confirmed: true, Headroom: &free, Limiter: verdict.CPU, Next: column.Next, Columns: []logbook.ColumnCeiling{column}},
	}
}

func TestRunIsDrawnAligned(t *testing.T) {
	require.Equal(t, strings.TrimLeft(`
Skerry S1 plays up to h264 720p25 5M smoothly.
  tries       2 of 2 smooth; 1 of 900 frames dropped: below 0.53 % at 95 %, if
              drops were independent
  next        h264 1080p25 10M was choppy
  why         the cores are full: all cores at 97 %
  left        59 % of all cores

load              verdict     dropped  freeze  all cores  memory
h264 720p25 5M    ● smooth   0 of 450    none       41 %  1.3 GB
  again           ● smooth   1 of 450    none       41 %  1.3 GB
h264 1080p25 10M  ○ choppy  43 of 450  117 ms       41 %  1.3 GB

Run 20261123-101502-k3f9: climb of lounge on Skerry S1, route simulated. Each
rung held for 20 s, the first 2 s not judged.
Skerry S1: 4 cores, price 189EUR. Idle: all cores 2 %, memory 310 MB.
`, "\n"), Style{}.Run(model.NewRun(example(t, "Skerry S1"), nil, false, model.Choice{Names: []string{"dropped", "freeze", "cores", "memory"}})))
}

// A table gives up its least important columns until it fits, and never wraps a cell.
func TestColumnsAreDroppedUntilTheyFit(t *testing.T) {
	table := model.Table{Head: []string{"load", "verdict", "important", "less"}, Rows: [][]model.Cell{model.Cells("h264 720p25 5M", "smooth", "12345", "67890")}, Optional: []int{3, 2}}
	for width, head := range map[int]string{80: "load            verdict  important  less", 36: "load            verdict  important", 30: "load            verdict", 5: "load            verdict"} {
		require.Equal(t, head, strings.SplitN(Style{Width: width}.Draw(table), "\n", 2)[0], width)
	}
}

func TestNothingIsWiderThanATerminal(t *testing.T) {
	d := example(t, "Breakwater N2")
	d.Rungs[0].Load = parsed(t, "hevc 2160p59.94 10bit hdr 60M")
	for _, line := range strings.Split(Style{}.Run(model.NewRun(d, d.Baseline.Readings, false, model.Choice{})), "\n") {
		require.LessOrEqual(t, len([]rune(line)), 80, line)
		require.Equal(t, strings.TrimRight(line, " "), line)
	}
}

func TestColourIsOnlyThereWhenAskedFor(t *testing.T) {
	d := example(t, "Skerry S1")
	require.NotContains(t, Style{}.Run(model.NewRun(d, d.Baseline.Readings, false, model.Choice{})), "\x1b")
	colored := Style{Color: true}.Run(model.NewRun(d, d.Baseline.Readings, false, model.Choice{}))
	require.Contains(t, colored, "\x1b[32m● smooth\x1b[0m")
	require.Contains(t, colored, "○ choppy")
}

func TestStateOfARun(t *testing.T) {
	d := example(t, "Skerry S1")
	d.Complete = false
	require.Contains(t, Style{}.Run(model.NewRun(d, d.Baseline.Readings, false, model.Choice{})), "interrupted after 3 attempts")
	require.Contains(t, Style{}.Run(model.NewRun(d, d.Baseline.Readings, true, model.Choice{})), "still goes on")
	entries := []logbook.Entry{{Document: *d, Attempts: 3}, {Document: *d, Attempts: 0}}
	table := strings.Split(Style{}.Runs(model.Runs(entries, true, time.Unix(7200, 0))), "\n")
	require.Contains(t, table[1], "running")
	require.Contains(t, table[1], "h264 720p25 5M")
	require.Contains(t, table[2], "interrupted")
	require.Contains(t, Style{}.Runs(model.Runs(nil, false, time.Unix(7200, 0))), "no runs yet")
}

// What was void, and a run of nothing else, is told from what was tried and is not smooth.
func TestVoidAttemptsAreShown(t *testing.T) {
	void := logbook.Attempt{Verdict: verdict.Void, Void: verdict.VoidHost, Reasons: []string{"the host took 49 % of the cores"}}
	d := example(t, "x")
	d.Rungs[1].Attempts = append(d.Rungs[1].Attempts, void)
	require.Contains(t, Style{}.Run(model.NewRun(d, d.Baseline.Readings, false, model.Choice{})), "◌ void")
	require.Equal(t, "h264 1080p25 10M  ◌ void      the host took 49 % of the cores", Style{}.Line("h264 1080p25 10M", 17, void))
	d.Rungs[0].Attempts, d.Rungs[1].Attempts = nil, []logbook.Attempt{void}
	d.Ceiling = &logbook.Ceiling{Columns: []logbook.ColumnCeiling{{}}}
	text := Style{}.Runs(model.Runs([]logbook.Entry{{Document: *d, Attempts: 1}}, false, time.Unix(7200, 0)))
	require.NotContains(t, text, "none smooth")
	require.Contains(t, Style{}.Draw(model.Compare(measured(d)).Table), "not known")
}

// measured are runs without readings.
func measured(docs ...*logbook.Document) (runs []model.Measured) {
	for _, d := range docs {
		runs = append(runs, model.Measured{Docs: []*logbook.Document{d}})
	}
	return runs
}

// Nothing that comes from elsewhere steers the terminal.
func TestNothingSteersTheTerminal(t *testing.T) {
	const evil = "a\x1b[31mb\u009b2Jc\x07\u202ed"
	d := example(t, evil)
	d.Rungs[0].Attempts[0].Reasons, d.Notes, d.Ladder = []string{evil}, []string{evil}, evil
	d.Rungs[0].Attempts[0].Delivered = &tally.Delivered{Treatment: evil, Notes: []string{evil}}
	d.Remarks = []logbook.Remark{{Text: evil, Load: evil}}
	d.Gaps = []logbook.Gap{{Source: evil, Reason: evil}}
	d.Ceiling.Columns[0].Evidence = evil
	out := Style{}.Run(model.NewRun(d, d.Baseline.Readings, false, model.Choice{})) + Style{}.Line(evil, 3, d.Rungs[0].Attempts[0]) + Style{}.Remark(d.Remarks[0]) + Style{}.Warning(evil) + Style{}.Draw(model.Compare(measured(d)).Table) +
		Style{}.Inspect([]inspect.Report{{File: evil}}) + Style{}.Wrap(strings.Join(model.NewRun(d, nil, false, model.Choice{}).Notes, " "))
	for _, r := range out {
		require.True(t, r == '\n' || model.Printable(string(r)) == string(r), "%q", r)
	}
	require.Contains(t, out, "a [31mb 2Jc  d")
	require.Equal(t, evil, d.Ladder, "the document itself stays as it is")
}

func TestCompareGoesByTheMajority(t *testing.T) {
	a, b := example(t, "Skerry S1"), example(t, "Breakwater N2")
	b.Rungs[1].Attempts = []logbook.Attempt{attempt(verdict.Choppy, 9), attempt(verdict.Smooth, 0), attempt(verdict.Smooth, 0)}
	b.Ceiling = &logbook.Ceiling{Load: &b.Rungs[1].Load, LadderEnd: true}
	lines := strings.Split(Style{}.Draw(model.Compare(measured(a, b)).Table), "\n")
	require.Equal(t, []string{"Skerry", "S1", "Breakwater", "N2"}, strings.Fields(lines[0]))
	require.Equal(t, []string{"h264", "1080p25", "10M", "○", "choppy", "●", "smooth"}, strings.Fields(lines[2]))
	require.Equal(t, []string{"ran", "out", "cpu", "nothing"}, strings.Fields(lines[4]))
	require.Equal(t, []string{"headroom", "38", "%", "-"}, strings.Fields(lines[5]))
}

func TestInspectTable(t *testing.T) {
	lines := strings.Split(Style{}.Inspect([]inspect.Report{
		{File: "a.mp4", Container: "mp4", Codec: "mjpeg", Width: 426, Height: 240, FrameRate: 23.97602, BitrateBPS: 4.01e6, BusiestBPS: 4.4e6, DurationS: 2, Frames: 48, KeyFrames: 48, KeyMax: 1},
		{File: "b.mp4", Container: "mp4", Codec: "h264", Width: 1280, Height: 720, FrameRate: 25, BitrateBPS: 900, DurationS: 10, Frames: 250, KeyFrames: 5, KeyMax: 50},
	}), "\n")
	require.Equal(t, []string{"a.mp4", "mp4", "mjpeg", "240p23.976", "4.01", "Mb/s", "4.4", "Mb/s", "2.00", "s", "48", "1", "-"}, strings.Fields(lines[1]))
	require.Equal(t, []string{"250", "50", "-"}, strings.Fields(lines[2])[10:])
}

func TestProgressLine(t *testing.T) {
	require.Equal(t, "h264 1080p25 10M             ○ choppy    43 of 450 dropped, all cores 41 %", Style{}.Line("h264 1080p25 10M", 28, attempt(verdict.Choppy, 43)))
	failed := logbook.Attempt{Verdict: verdict.Failed, Reasons: []string{"it refused"}}
	require.Equal(t, "h264 1080p25 10M             × failed    it refused", Style{}.Line("h264 1080p25 10M", 28, failed))
}
