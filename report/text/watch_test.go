package text

import (
	"strings"
	"testing"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/stretchr/testify/require"

	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/report/model"
)

// busyBox is what a box with many readings shows.
func busyBox() *Watched {
	trace := &sense.Trace{Length: 240}
	samples := map[sense.Identity]sense.Sample{
		{Name: "cpu"}: {Readings: []sense.Reading{{Quantity: sense.CPU, Value: 93}, {Quantity: sense.CPUCore, Label: "0", Value: 99}, {Quantity: sense.CPUCore, Label: "1", Value: 80}}},
		{Name: "rest"}: {Rank: 1, Readings: []sense.Reading{{Quantity: sense.MemUsed, Value: 3e9}, {Quantity: sense.MemTotal, Value: 4e9}, {Quantity: sense.GroupCPU, Value: 150},
			{Quantity: sense.ThreadMax, Value: 70}, {Quantity: sense.ThreadUse, Label: "decode 77", Value: 70}, {Quantity: sense.BlockUse, Value: 40}, {Quantity: sense.Temperature, Value: 61.5},
			{Quantity: sense.Power, Value: 7.25}, {Quantity: sense.DiskBusy, Label: "sda", Value: 20}, {Quantity: sense.DiskBusy, Label: "sdb", Value: 30},
			{Quantity: sense.NetReceive, Label: "eth0", Value: 2.5e6}, {Quantity: sense.OtherCPU, Label: "backup 9", Value: 80}, {Quantity: sense.OtherCPU, Label: "index 8", Value: 110}}},
		{Name: "nas"}: {Rank: 2, Readings: []sense.Reading{{Quantity: sense.CPU, Value: 5}}},
	}
	for _, s := range samples {
		trace.Add(s)
	}
	return &Watched{Title: "this computer", Time: "15:04:05", Latest: samples, Trace: trace, Foot: "q ends",
		Absent: []sense.Absence{{Quantity: sense.Fan, Why: "there is none", Remedy: "none"}}, Gaps: []sense.Gap{{Source: sense.Identity{Name: "plug"}, Reason: "the broker is away"}}}
}

// The view fits into every window from 40x8 on, with the lines that matter most.
func TestWatchFits(t *testing.T) {
	for _, size := range [][2]int{{80, 24}, {126, 40}, {40, 8}, {200, 60}, {80, 10}} {
		drawn := Style{Color: true}.Watch(busyBox(), size[0], size[1])
		lines := strings.Split(drawn, "\n")
		require.LessOrEqual(t, len(lines), size[1], size)
		for _, l := range lines {
			require.LessOrEqual(t, text.RuneWidthWithoutEscSequences(l), size[0], "%v: %s", size, l)
		}
		require.Contains(t, drawn, "this computer")
		require.Contains(t, drawn, "q ends")
	}
	small := Style{}.Watch(busyBox(), 80, 12)
	require.Contains(t, small, "all cores")
	require.Contains(t, small, "make the window taller")
	narrow := Style{}.Watch(busyBox(), 40, 30)
	require.Regexp(t, `(?m)^all cores +[━─]{14} ▲ +93 %$`, narrow, "a narrow window keeps the numbers")
	require.Contains(t, narrow, "Others: 110 % index 8")
	full := Style{}.Watch(busyBox(), 100, 40)
	require.Contains(t, full, "▲      93 %", "what is near its end has a shape, not a colour alone; the first source counts")
	require.Contains(t, full, "busiest      99 % core 0")
	require.Contains(t, full, "decode 77")
	require.Contains(t, full, "30 %", "the busier disk")
	require.Contains(t, full, "Others: 110 % index 8, 80 % backup 9")
	require.Contains(t, full, "◐ plug: the broker is away")
	require.Contains(t, full, "not read (vividstrain sensors says why): fan_rpm")
	require.NotContains(t, full, "\x1b")
	require.Equal(t, "15:04:05  cpu_pct 93%  group_cpu_pct 150%  thread_max_pct 70%  mem_used_bytes 3.0GB  gpu_decode_pct 40%  temp_c 61.5°C  power_w 7.25W  disk_busy_pct:sdb 30%  net_rx_bps:eth0 2.5Mb/s",
		busyBox().Plain())
}

func TestRemarksAndGapsAreDrawn(t *testing.T) {
	d := logbook.NewWatch(time.Unix(1e9, 0), "test")
	to := 7.5
	d.Gaps = []logbook.Gap{{Source: "plug", FromS: 2, ToS: &to, Reason: "the broker is away"}, {Source: "nas", FromS: 3, Reason: "it does not answer"}}
	d.Remarks = []logbook.Remark{{AtS: 4.25, Kind: logbook.Picture, Text: "green bars", Load: "h264 720p25 5M"}}
	d.Baseline.Readings = []logbook.Reading{{Quantity: sense.CPU, Value: 10}, {Quantity: sense.CPU, Value: 30}}
	drawn := Style{}.Run(model.NewRun(d, d.Baseline.Readings, false, model.Choice{}))
	require.Regexp(t, `cpu_pct +20 % +10 % +30 % +2`, drawn)
	require.Regexp(t, `4\.2 s +h264 720p25 5M +▧ picture fault +green bars`, drawn)
	require.Regexp(t, `plug +2\.0 s +7\.5 s +the broker is away`, drawn)
	require.Regexp(t, `nas +3\.0 s +the end +it does not answer`, drawn)
}

func TestSensorsTable(t *testing.T) {
	w := busyBox()
	drawn := Style{}.Sensors(w.Latest, []sense.Cost{{Source: sense.Identity{Name: "rest"}, Samples: 4, CPU: 400 * time.Microsecond}, {Source: sense.Identity{Name: "cpu"}, Samples: 1, CPU: 80 * time.Microsecond}}, w.Absent, w.Gaps)
	require.Regexp(t, `cpu +cpu_core_pct:0 +99 +% +80 µs`, drawn)
	require.Regexp(t, `rest +disk_busy_pct:sda +20 +% +100 µs`, drawn)
	require.Contains(t, drawn, "× fan_rpm: there is none. To read it: none.")
	require.Contains(t, drawn, "◐ plug")
	require.Contains(t, Style{Color: true}.Sensors(nil, nil, w.Absent, nil), "× \x1b[1mfan_rpm\x1b[0m: there is none.")
}
