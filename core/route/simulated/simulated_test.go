package simulated

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/route"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
)

// plain is a device without noise or start-up, with one core that takes 20 ms
// for a 100x100 frame of h264.
func plain() *Profile {
	return &Profile{
		Name: "Plain", Cores: 1, Threads: 1, Queue: 4,
		Decode: map[string]Cost{"h264": {NSPerPixel: 2000}},
		Memory: Memory{Total: 1e9, Used: 1e8, PerStream: 1e8},
		Heat:   Heat{RoomC: 20, DegreesPerWatt: 1, TimeConstantS: 10, ThrottleC: 90, MinClock: 0.5},
		Power:  Power{IdleW: 1, CoreW: 4},
	}
}

func switchOn(t *testing.T, p *Profile) *Device {
	require.NoError(t, p.check())
	d, err := New(p, Options{Refresh: 100, Late: tally.Drop, Start: time.Unix(0, 0)})
	require.NoError(t, err)
	return d
}

// play plays a load for 21 s, one of which is settling, and returns the result
// and what the sensors read in the last 20.
func play(t *testing.T, d *Device, line string) (route.Result, sense.Use) {
	l, err := load.Parse(line)
	require.NoError(t, err)
	var samples []sense.Sample
	from := d.clock.Now()
	s := sense.Start(t.Context(), d.clock, 250*time.Millisecond, d.Sources(), func(s sense.Sample) {
		s.Readings = append([]sense.Reading(nil), s.Readings...)
		samples = append(samples, s)
	})
	defer s.Stop()
	r, err := d.Play(t.Context(), route.Plan{Loads: []load.Load{l}, Hold: 21 * time.Second, Settle: time.Second}, func(route.Live) {})
	require.NoError(t, err)
	return r, sense.Summarise(samples, from.Add(1250*time.Millisecond), from.Add(time.Hour))
}

func TestFramesQueueForTheCore(t *testing.T) {
	for line, dropped := range map[string]int{
		"h264 100x100p25 1M":    0,   // half of the core
		"h264 100x100p48 1M":    0,   // 96 %
		"h264 100x100p62.5 1M":  250, // 125 %: 50 of 62.5 frames a second are decoded
		"h264 100x100p100 1M":   1000,
		"h264 100x100p25 1M x2": 0,
	} {
		r, use := play(t, switchOn(t, plain()), line)
		sum := 0
		for _, s := range r.Streams {
			sum += s.Steady().Dropped
		}
		require.InDelta(t, dropped, sum, 3, line)
		if dropped > 0 {
			require.InDelta(t, 100, use[sense.CPU].Mean, 1)
		}
	}
	_, use := play(t, switchOn(t, plain()), "h264 100x100p25 1M")
	require.InDelta(t, 50, use[sense.CPU].Mean, 1)
	require.InDelta(t, 50, use[sense.ThreadMax].Mean, 1)
}

func TestOneThreadLeavesCoresIdle(t *testing.T) {
	p := plain()
	p.Cores = 4
	_, use := play(t, switchOn(t, p), "h264 100x100p100 1M")
	require.InDelta(t, 25, use[sense.CPU].Mean, 1)
	require.InDelta(t, 100, use[sense.ThreadMax].Mean, 1)
}

func TestBlockTakesWhatItCan(t *testing.T) {
	p := plain()
	p.Blocks = []Block{{Name: "video", Streams: 2, Takes: []Takes{{"hevc", 10, 200, 200}}, Cost: Cost{NSPerPixel: 500}}}
	r, use := play(t, switchOn(t, p), "hevc 100x100p100 10bit 1M")
	require.Equal(t, route.Hardware, r.Decode)
	require.InDelta(t, 50, use[sense.BlockUse].Mean, 1)
	require.Less(t, use[sense.CPU].Mean, 1.0)
	for _, line := range []string{"hevc 400x100p25 10bit 1M", "hevc 100x100p25 12bit 1M", "hevc 100x100p25 10bit 1M x3", "av1 100x100p25 1M"} {
		r, _ = play(t, switchOn(t, p), line)
		require.True(t, r.Refused, line)
		require.Contains(t, r.Failure, "refused")
	}
}

func TestMemoryRunsOut(t *testing.T) {
	p := plain()
	p.Cores = 16
	r, _ := play(t, switchOn(t, p), "h264 100x100p10 1M x10")
	require.Contains(t, r.Failure, "out of memory at stream 10 of 10")
	require.False(t, r.Refused)
	d := switchOn(t, p)
	r, use := play(t, d, "h264 100x100p10 1M x8")
	require.Empty(t, r.Failure)
	require.InDelta(t, 1e8, use[sense.MemFree].Min, 1)
	require.Equal(t, p.Memory.Used, d.memory, "it is given back")
}

func TestHeatSlowsTheClockDown(t *testing.T) {
	p := plain()
	p.Heat = Heat{RoomC: 20, DegreesPerWatt: 20, TimeConstantS: 3, ThrottleC: 80, MinClock: 0.5}
	d := switchOn(t, p)
	require.InDelta(t, 40, d.tempC, 0.1, "idle: 20 + 20 x 1 W")
	r, use := play(t, d, "h264 100x100p48 1M") // would draw 4.8 W and reach 116 degrees
	require.Less(t, use[sense.Clock].Mean, 90.0)
	require.InDelta(t, 80, use[sense.Temperature].Max, 4)
	require.Positive(t, r.Streams[0].Steady().Dropped)
	require.NoError(t, d.clock.Sleep(t.Context(), time.Minute))
	require.InDelta(t, 40, d.tempC, 0.5, "it cools down")
	require.InDelta(t, 1, d.speed, 1e-9)
}

func TestStartUpIsKeptApart(t *testing.T) {
	p := plain()
	p.Startup = Startup{Seconds: 0.9, Cores: 1}
	r, _ := play(t, switchOn(t, p), "h264 100x100p25 1M")
	require.InDelta(t, 0.98, *r.Streams[0].StartDelayS, 0.01)
	require.Zero(t, r.Streams[0].Steady().Dropped)
}

func TestSameSeedSameResult(t *testing.T) {
	p := plain()
	p.Noise = 10
	first, _ := play(t, switchOn(t, p), "h264 100x100p49 1M")
	second, _ := play(t, switchOn(t, p), "h264 100x100p49 1M")
	require.Equal(t, first, second)
}

func TestProfilesRoundTrip(t *testing.T) {
	profiles, err := BuiltIn()
	require.NoError(t, err)
	require.Len(t, profiles, 4)
	for _, p := range profiles {
		text, err := p.YAML()
		require.NoError(t, err)
		again, err := ParseProfile(text)
		require.NoError(t, err, string(text))
		require.Equal(t, p.Slug(), again.Slug())
		require.Equal(t, p.Blocks, again.Blocks)
	}
	_, err = Named("Skerry S4")
	require.NoError(t, err)
	_, err = Named("skerry-s9")
	require.ErrorContains(t, err, "breakwater-n2")
}

func TestBadProfiles(t *testing.T) {
	good, err := plain().YAML()
	require.NoError(t, err)
	_, err = ParseProfile(good)
	require.NoError(t, err)
	for change, want := range map[string]string{
		"cores: 0\n": "already defined", "colour: red\n": "unknown key colour",
	} {
		_, err := ParseProfile(append([]byte(change), good...))
		require.ErrorContains(t, err, want)
	}
	p := plain()
	p.Noise = 900
	require.ErrorContains(t, p.check(), "noise_pct must be 0 to 30")
	p = plain()
	p.Decode["smoke"] = Cost{}
	require.ErrorContains(t, p.check(), "unknown codec")
}

func FuzzParseProfile(f *testing.F) {
	text, err := plain().YAML()
	require.NoError(f, err)
	f.Add(text)
	f.Fuzz(func(t *testing.T, text []byte) {
		if p, err := ParseProfile(text); err == nil {
			require.NoError(t, p.check())
		} else {
			require.NotContains(t, err.Error(), "\n")
		}
	})
}
