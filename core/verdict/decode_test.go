package verdict

import (
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/sense"
)

func TestInferDecode(t *testing.T) {
	const rate = 1920 * 1080 * 30
	for name, c := range map[string]struct {
		use, idle sense.Use
		want      string
	}{
		"a block that moves":              {sense.Use{sense.GroupCPU: steady(200), sense.BlockUse: steady(30)}, sense.Use{sense.BlockUse: steady(2)}, "hardware"},
		"a block that another one uses":   {sense.Use{sense.GroupCPU: steady(60), sense.BlockUse: steady(31)}, sense.Use{sense.BlockUse: steady(30)}, "software"},
		"a core and no block":             {sense.Use{sense.GroupCPU: steady(60)}, nil, "software"},
		"hardly any core":                 {sense.Use{sense.GroupCPU: steady(1)}, nil, "hardware"},
		"between":                         {sense.Use{sense.GroupCPU: steady(3)}, nil, "unknown"},
		"the whole device":                {sense.Use{sense.CPU: steady(50), sense.CPUCore + ":0": steady(50), sense.CPUCore + ":1": steady(50)}, sense.Use{sense.CPU: steady(5)}, "software"},
		"cores that two sources read":     {sense.Use{sense.CPU: steady(6), sense.CPUCore + ":0": steady(6), sense.CPUCore + ":0@box": steady(6)}, sense.Use{sense.CPU: steady(4.5)}, "hardware"},
		"the whole device, hardly more":   {sense.Use{sense.CPU: steady(6), sense.CPUCore + ":0": steady(6)}, sense.Use{sense.CPU: steady(5)}, "hardware"},
		"nothing known":                   {sense.Use{}, nil, "unknown"},
		"the device without its idleness": {sense.Use{sense.CPU: steady(50), sense.CPUCore + ":0": steady(50)}, nil, "unknown"},
	} {
		t.Run(name, func(t *testing.T) {
			hardware, known, evidence := InferDecode(c.use, c.idle, rate)
			got := "unknown"
			if known {
				got = map[bool]string{true: "hardware", false: "software"}[hardware]
			}
			require.Equal(t, c.want, got, evidence)
			require.NotEmpty(t, evidence)
		})
	}
	_, known, _ := InferDecode(sense.Use{sense.GroupCPU: steady(60)}, nil, 0)
	require.False(t, known)
}

// How many streams fit follows from what they took over the idle device.
func TestFindRoom(t *testing.T) {
	memory := func(use sense.Use, used float64) sense.Use {
		use[sense.MemUsed], use[sense.MemFree], use[sense.MemTotal] = steady(used), steady(4e9-used), steady(4e9)
		return use
	}
	idle := memory(sense.Use{sense.CPU: steady(2)}, 1e9)
	room, known := FindRoom(memory(sense.Use{sense.CPU: steady(22)}, 1.2e9), idle, 1)
	require.True(t, known)
	require.Equal(t, CPU, room.Limiter)
	require.Equal(t, 4, room.Streams, "2 % idle and 4 times 20 % are within 90 %")
	require.InDelta(t, 20, room.Cost, 1e-9)
	room, _ = FindRoom(memory(sense.Use{sense.CPU: steady(12)}, 3e9), idle, 2)
	require.Equal(t, Memory, room.Limiter)
	require.Equal(t, 2, room.Streams)
	require.Contains(t, room.Evidence, "a stream takes 1000 MB; 800 MB are left")
	_, known = FindRoom(idle, idle, 1)
	require.False(t, known, "what takes nothing tells nothing")
	_, known = FindRoom(sense.Use{}, idle, 1)
	require.False(t, known)
}

// The player's own use counts, not that of others beside it; what it is held to
// counts for the whole device; and a device that was busy when it should have been
// idle tells nothing.
func TestRoomIsThatOfThePlayer(t *testing.T) {
	idle := sense.Use{sense.CPU: steady(2), sense.CPUCore + ":0": steady(2), sense.CPUCore + ":1": steady(2), sense.GroupMem: steady(20e6),
		sense.MemUsed: steady(1e9), sense.MemFree: steady(3e9), sense.MemTotal: steady(4e9)}
	use := sense.Use{sense.CPU: steady(40), sense.CPUCore + ":0": steady(40), sense.CPUCore + ":0@box": steady(40), sense.CPUCore + ":1": steady(40),
		sense.GroupCPU: steady(10), sense.GroupMem: steady(49e6), sense.MemUsed: steady(1.14e9), sense.MemFree: steady(2.86e9), sense.MemTotal: steady(4e9)}
	room, known := FindRoom(use, idle, 1)
	require.True(t, known)
	require.Equal(t, CPU, room.Limiter)
	require.Equal(t, 11, room.Streams, "100 % of a core are left, and a stream takes 10 %")
	require.Equal(t, "a stream takes 10 % of a core; 100 % of a core are left", room.Evidence)
	room, _ = FindRoom(use, idle, 14)
	require.Equal(t, "a stream takes 0.7 % of a core; 100 % of a core are left", room.Evidence)
	use[sense.GroupMemLimit], use[sense.GroupCharged] = steady(100e6), steady(49e6)
	room, _ = FindRoom(use, idle, 1)
	require.Equal(t, Memory, room.Limiter)
	require.Equal(t, 2, room.Streams, "29 MB each, and 46 MB are left of what it is held to")
	idle[sense.CPU] = steady(30)
	_, known = FindRoom(use, idle, 1)
	require.False(t, known)
}

// Each warning is shown to be given and not to be given.
func TestWarnings(t *testing.T) {
	for name, c := range map[string]struct {
		facts map[string]string
		idle  sense.Use
		want  string
	}{
		"fit":                       {map[string]string{"governor": "schedutil", "supply": "mains", "clock_cap_pct": "100"}, sense.Use{sense.CPU: steady(3), sense.Temperature: steady(45)}, ""},
		"busy":                      {nil, sense.Use{sense.CPU: steady(30), sense.OtherCPU + ":backup 7": steady(90)}, `its cores are at 30 %, "backup 7" takes 90 % of a core`},
		"one busy process":          {nil, sense.Use{sense.CPU: steady(2), sense.OtherCPU + ":index 7": steady(40)}, "not idle enough"},
		"saving":                    {map[string]string{"governor": "powersave"}, nil, "governor is powersave"},
		"a driver that chooses":     {map[string]string{"governor": "powersave", "clock_preference": "balance_performance"}, nil, ""},
		"a driver that is to save":  {map[string]string{"governor": "powersave", "clock_preference": "power"}, nil, "save power"},
		"low power profile":         {map[string]string{"power_profile": "low-power"}, nil, "low-power"},
		"capped":                    {map[string]string{"clock_cap_pct": "60"}, nil, "pass 60 %"},
		"battery":                   {map[string]string{"supply": "battery"}, nil, "battery"},
		"warm":                      {nil, sense.Use{sense.Temperature: steady(80)}, "already at 80 degrees"},
		"slowed down while at rest": {nil, sense.Use{sense.Throttles: steady(1)}, "throttled for its heat"},
	} {
		t.Run(name, func(t *testing.T) {
			list := Warnings(c.facts, c.idle)
			if c.want == "" {
				require.Empty(t, list)
				return
			}
			require.Len(t, list, 1)
			require.Contains(t, list[0].What, c.want)
			require.NotEmpty(t, list[0].Remedy)
		})
	}
}

func TestDrift(t *testing.T) {
	before := sense.Use{sense.CPU: steady(2), sense.Temperature: steady(40), sense.MemUsed: steady(1e9), sense.MemTotal: steady(4e9)}
	require.Empty(t, Drift(before, before))
	require.Empty(t, Drift(sense.Use{}, before), "what was not read before is no drift")
	after := sense.Use{sense.CPU: steady(15), sense.Temperature: steady(62), sense.MemUsed: steady(2e9), sense.MemTotal: steady(4e9)}
	list := Drift(before, after)
	require.Len(t, list, 3)
	require.Contains(t, list[1].What, "22 degrees warmer")
}
