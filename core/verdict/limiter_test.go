package verdict

import (
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/sense"
)

func steady(v float64) sense.Stat {
	return sense.Stat{Mean: v, P95: v, Max: v, Min: v, First: v, Last: v, N: 10}
}

// Each rule is shown to fire on its own situation, and not to fire on one that
// is like it.
func TestFindLimiter(t *testing.T) {
	falling := sense.Stat{Mean: 70, P95: 99, Max: 100, Min: 60, First: 100, Last: 60, N: 10}
	for name, c := range map[string]struct {
		use      sense.Use
		clock    float64
		want     Limiter
		evidence string
		free     float64
	}{
		"idle":        {sense.Use{sense.CPU: steady(10), sense.ThreadMax: steady(20)}, 0, Unknown, "nothing that was measured", 0},
		"no readings": {sense.Use{}, 0, Unknown, "nothing that was measured", 0},

		"all cores":        {sense.Use{sense.CPU: steady(91), sense.ThreadMax: steady(99)}, 0, CPU, "all cores at 91 %", 9},
		"nearly all cores": {sense.Use{sense.CPU: steady(89), sense.ThreadMax: steady(90)}, 0, Unknown, "", 0},
		"another program": {sense.Use{sense.CPU: steady(97), sense.CPUCore + ":0": steady(97), sense.CPUCore + ":1": steady(97), sense.GroupCPU: steady(90),
			sense.OtherCPU + ":backup 77": steady(100)}, 0, CPU, `45 % by the player, 100 % of a core by "backup 77"`, 3},
		"the host": {sense.Use{sense.CPU: steady(97), sense.CPUSteal: steady(15)}, 0, CPU, "15 % taken by the host", 3},
		"held to a core and a half": {sense.Use{sense.CPU: steady(40), sense.GroupCPU: steady(149), sense.GroupCPULimit: steady(150), sense.ThreadMax: steady(99)}, 0, CPU,
			"149 % of a core of the 150 %", 100.0 / 150},
		"held, but not near it": {sense.Use{sense.CPU: steady(40), sense.GroupCPU: steady(100), sense.GroupCPULimit: steady(150)}, 0, Unknown, "", 0},

		"one thread":        {sense.Use{sense.CPU: steady(20), sense.ThreadMax: steady(99), sense.ThreadUse + ":decode 7": steady(99)}, 0, Core, "one thread (decode 7) at 99 % of a core while all cores together are at 20 %", 1},
		"nearly one thread": {sense.Use{sense.CPU: steady(50), sense.ThreadMax: steady(94)}, 0, Unknown, "", 0},

		"little memory":            {sense.Use{sense.CPU: steady(50), sense.MemFree: steady(40), sense.MemTotal: steady(1000)}, 0, Memory, "4.0 % of the memory free", 4},
		"enough memory":            {sense.Use{sense.MemFree: steady(51), sense.MemTotal: steady(1000)}, 0, Unknown, "", 0},
		"swapping":                 {sense.Use{sense.SwapRate: steady(9e6), sense.MemFree: steady(200), sense.MemTotal: steady(1000)}, 0, Memory, "9 MB/s", 20},
		"swapped long ago":         {sense.Use{sense.SwapUsed: steady(9e9), sense.SwapRate: steady(0), sense.MemFree: steady(200), sense.MemTotal: steady(1000)}, 0, Unknown, "", 0},
		"held to 100 MB":           {sense.Use{sense.MemFree: steady(9e9), sense.MemTotal: steady(1e10), sense.GroupMemLimit: steady(1e8), sense.GroupCharged: steady(9.9e7)}, 0, Memory, "99 MB in use of the 100 MB", 1},
		"full, but not waited for": {sense.Use{sense.CPU: steady(97), sense.MemFree: steady(30), sense.MemTotal: steady(1000), sense.PressureMemory: steady(0)}, 0, CPU, "all cores at 97 %", 3},
		"full, and waited for":     {sense.Use{sense.CPU: steady(97), sense.MemFree: steady(30), sense.MemTotal: steady(1000), sense.PressureMemory: steady(12)}, 0, Memory, "3.0 % of the memory free", 3},
		"far under its limit":      {sense.Use{sense.MemFree: steady(9e9), sense.MemTotal: steady(1e10), sense.GroupMemLimit: steady(1e8), sense.GroupCharged: steady(5e7)}, 0, Unknown, "", 0},

		"decoder block":          {sense.Use{sense.CPU: steady(20), sense.BlockUse: steady(97)}, 0, GPUDecode, "decoder block at 97 %", 3},
		"half a decoder block":   {sense.Use{sense.CPU: steady(20), sense.BlockUse: steady(50)}, 0, Unknown, "", 0},
		"encoder block":          {sense.Use{sense.EncodeUse: steady(95), sense.BlockUse: steady(40)}, 0, GPUEncode, "encoder block", 5},
		"half an encoder block":  {sense.Use{sense.EncodeUse: steady(55)}, 0, Unknown, "", 0},
		"render engine":          {sense.Use{sense.RenderUse: steady(99), sense.BlockUse: steady(40)}, 0, GPURender, "render engine", 1},
		"busy as a whole":        {sense.Use{sense.GPU + ":card0": steady(99)}, 0, GPURender, "card0 at 99 %", 1},
		"busy with what is free": {sense.Use{sense.GPU + ":card0": steady(99), sense.BlockUse: steady(40), sense.RenderUse: steady(50)}, 0, Unknown, "", 0},

		"disk":      {sense.Use{sense.CPU: steady(30), sense.DiskBusy + ":sda": steady(99), sense.DiskBusy + ":sdb": steady(1), sense.DiskWait + ":sda": steady(40)}, 0, Disk, "disk sda busy for 99 % of the time, a request takes 40 ms", 1},
		"slow disk": {sense.Use{sense.CPU: steady(10), sense.DiskBusy + ":sda": steady(3), sense.PressureIO: steady(80)}, 0, Disk, "waited for in 80 %", 97},
		"idle disk": {sense.Use{sense.DiskBusy + ":sda": steady(60)}, 0, Unknown, "", 0},
		"link":      {sense.Use{sense.NetLink + ":eth0": steady(96)}, 0, Network, "link eth0 at 96 %", 4},
		"half link": {sense.Use{sense.NetLink + ":eth0": steady(50), sense.NetReceive + ":eth0": steady(5e8)}, 0, Unknown, "", 0},

		"slowed down in it":     {sense.Use{sense.CPU: steady(99), sense.Clock: falling, sense.Temperature: steady(95)}, 0, Heat, "clock 30 % below its start while the temperature is 95", 1},
		"slowed down before it": {sense.Use{sense.CPU: steady(99), sense.Clock: steady(70), sense.Temperature: steady(95)}, 100, Heat, "30 %", 1},
		"counted by itself":     {sense.Use{sense.CPU: steady(99), sense.Clock: {Mean: 94, Max: 100, First: 100}, sense.Temperature: {Mean: 80, Max: 99}, sense.Throttles: steady(20)}, 0, Heat, "20 times a second", 1},
		"always this slow":      {sense.Use{sense.CPU: steady(99), sense.Clock: steady(70), sense.Temperature: steady(60)}, 70, CPU, "all cores", 1},
		"slow while it warms":   {sense.Use{sense.CPU: steady(99), sense.Clock: falling, sense.Temperature: {Mean: 60, Max: 80}}, 0, CPU, "all cores", 1},
		"slower with all cores": {sense.Use{sense.CPU: steady(99), sense.Clock: steady(80), sense.Temperature: steady(55)}, 100, CPU, "all cores", 1},
		"hot but fast":          {sense.Use{sense.CPU: steady(99), sense.Clock: steady(98), sense.Temperature: steady(99)}, 100, CPU, "all cores", 1},

		"held to its power":    {sense.Use{sense.CPU: steady(99), sense.Clock: steady(70), sense.Temperature: {Mean: 66, Max: 70}, sense.Power: steady(15)}, 100, Power, "power is 15 W", 1},
		"power comes and goes": {sense.Use{sense.CPU: steady(99), sense.Clock: steady(70), sense.Temperature: {Mean: 66, Max: 70}, sense.Power: {Mean: 10, Max: 15}}, 100, CPU, "all cores", 1},
	} {
		t.Run(name, func(t *testing.T) {
			got, evidence := FindLimiter(Window{Use: c.use, Clock: c.clock})
			require.Equal(t, c.want, got, evidence)
			require.Contains(t, evidence, c.evidence)
			free, known := Headroom(got, c.use)
			require.Equal(t, got != Unknown, known)
			require.InDelta(t, c.free, free, 0.01)
		})
	}
}

func TestMemoryWasLow(t *testing.T) {
	held := sense.Use{sense.MemFree: steady(9e9), sense.MemTotal: steady(1e10), sense.GroupMemLimit: steady(1e8), sense.GroupCharged: steady(8.5e7)}
	require.Contains(t, MemoryWasLow(held), "85 MB were in use of the 100 MB")
	require.Contains(t, MemoryWasLow(sense.Use{sense.MemFree: steady(1e9), sense.MemTotal: steady(1e10)}), "10.0 %")
	require.Empty(t, MemoryWasLow(sense.Use{sense.MemFree: steady(9e9), sense.MemTotal: steady(1e10)}))
	require.Empty(t, MemoryWasLow(sense.Use{}))
}

// Others make an attempt void from the shares on that the design names.
func TestDisturbed(t *testing.T) {
	for name, c := range map[string]struct {
		use   sense.Use
		cause VoidCause
		why   string
	}{
		"alone":              {sense.Use{sense.OthersCPU: steady(3), sense.CPUSteal: steady(1)}, "", ""},
		"just under":         {sense.Use{sense.OthersCPU: steady(15), sense.CPUSteal: steady(10)}, "", ""},
		"the host":           {sense.Use{sense.OthersCPU: steady(3), sense.CPUSteal: steady(49)}, VoidHost, "host of this virtual machine took 49 %"},
		"another program":    {sense.Use{sense.OthersCPU: steady(46), sense.OtherCPU + ":backup 77": steady(90)}, VoidOthers, `other programs took 46 % of the cores, "backup 77" 90 % of one`},
		"many small ones":    {sense.Use{sense.OthersCPU: steady(30)}, VoidOthers, "other programs took 30 % of the cores"},
		"on our own side":    {sense.Use{sense.ViewerOthers: steady(60)}, VoidOthers, "60 %"},
		"of our own machine": {sense.Use{sense.ViewerSteal: steady(20)}, VoidHost, "20 %"},
		"nothing known":      {sense.Use{}, "", ""},
	} {
		cause, why := Disturbed(c.use)
		require.Equal(t, c.cause, cause, name)
		require.Contains(t, why, c.why, name)
	}
}

func TestTightest(t *testing.T) {
	l, free, known := Tightest(sense.Use{sense.CPU: steady(40), sense.BlockUse: steady(85), sense.ViewerCPU: steady(99), sense.ViewerCores: steady(1)})
	require.True(t, known)
	require.Equal(t, GPUDecode, l)
	require.InDelta(t, 15, free, 1e-9)
	_, _, known = Tightest(sense.Use{})
	require.False(t, known)
}
