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
	idle := sense.Use{sense.CPU: steady(2), sense.MemUsed: steady(1e9), sense.MemTotal: steady(4e9)}
	room, known := FindRoom(sense.Use{sense.CPU: steady(22), sense.MemUsed: steady(1.2e9), sense.MemTotal: steady(4e9)}, idle, 1)
	require.True(t, known)
	require.Equal(t, CPU, room.Limiter)
	require.Equal(t, 4, room.Streams, "2 % idle and 4 times 20 % are within 90 %")
	require.InDelta(t, 20, room.Cost, 1e-9)
	room, _ = FindRoom(sense.Use{sense.CPU: steady(12), sense.MemUsed: steady(3e9), sense.MemTotal: steady(4e9)}, idle, 2)
	require.Equal(t, Memory, room.Limiter)
	require.Equal(t, 2, room.Streams)
	require.Contains(t, room.Evidence, "1e+03 MB of 800 MB")
	_, known = FindRoom(idle, idle, 1)
	require.False(t, known, "what takes nothing tells nothing")
	_, known = FindRoom(sense.Use{}, idle, 1)
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
		"slowed down while at rest": {nil, sense.Use{sense.Throttles: steady(1)}, "slowed down for its heat"},
	} {
		t.Run(name, func(t *testing.T) {
			list := Warnings(c.facts, c.idle)
			if c.want == "" {
				require.Empty(t, list)
				return
			}
			require.Len(t, list, 1)
			require.Contains(t, list[0], c.want)
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
	require.Contains(t, list[1], "22 degrees warmer")
}
