package verdict

import (
	"fmt"
	"math"

	"vividstrain/core/sense"
)

// Room is how many streams of a load a device has room for.
type Room struct {
	Limiter  Limiter `json:"limiter"`  // what runs out first if streams are added
	Streams  int     `json:"streams"`  // that fit, those that were played included
	Cost     float64 `json:"cost"`     // of a stream, in the unit of the quantity
	Quantity string  `json:"quantity"` // that runs out
	Free     float64 `json:"free"`     // of it when the streams were played
	Evidence string  `json:"evidence"`
}

// supply is something of which each stream takes a share.
type supply struct {
	limiter  Limiter
	quantity string
	unit     string
	scale    float64
	used     func(use sense.Use) (mean float64, known bool)
	all      func(use sense.Use) float64
}

// supplies are what may run out. A tenth of the percentages and a twentieth of
// the memory is not to be had, as in the limiter's rules.
var supplies = []supply{
	{CPU, sense.CPU, "%", 1, meanOf(sense.CPU), func(sense.Use) float64 { return 90 }},
	{Memory, sense.MemUsed, "MB", 1e-6, maxOf(sense.MemUsed), func(u sense.Use) float64 { return 0.95 * u[sense.MemTotal].Max }},
	{GPUDecode, sense.BlockUse, "%", 1, meanOf(sense.BlockUse), func(sense.Use) float64 { return 90 }},
	{GPUEncode, sense.EncodeUse, "%", 1, meanOf(sense.EncodeUse), func(sense.Use) float64 { return 90 }},
	{GPURender, sense.RenderUse, "%", 1, meanOf(sense.RenderUse), func(sense.Use) float64 { return 90 }},
	{Network, sense.NetLink, "%", 1, meanOf(sense.NetLink), func(sense.Use) float64 { return 90 }},
	{Disk, sense.DiskBusy, "%", 1, meanOf(sense.DiskBusy), func(sense.Use) float64 { return 90 }},
}

func meanOf(quantity string) func(sense.Use) (float64, bool) {
	return func(use sense.Use) (float64, bool) {
		_, s, known := use.Highest(quantity)
		return s.Mean, known
	}
}

func maxOf(quantity string) func(sense.Use) (float64, bool) {
	return func(use sense.Use) (float64, bool) {
		s, known := use[quantity]
		return s.Max, known
	}
}

// FindRoom works out, from what a number of streams took over the idle device,
// how many fit and what runs out then. It is false where no reading tells.
func FindRoom(use, idle sense.Use, streams int) (best Room, known bool) {
	for _, s := range supplies {
		used, ok := s.used(use)
		before, ok2 := s.used(idle)
		all := s.all(use)
		if !ok || !ok2 || streams < 1 || all <= 0 {
			continue
		}
		cost := (used - before) / float64(streams)
		if cost <= 0.005*all {
			continue // too little to be told from the device's own doings
		}
		free := max(0, all-used)
		r := Room{Limiter: s.limiter, Streams: streams + int(math.Floor(free/cost)), Cost: cost, Quantity: s.quantity, Free: free}
		if !known || r.Streams < best.Streams {
			r.Evidence = fmt.Sprintf("a stream takes %.3g %s of %.3g %s that are left", s.scale*cost, s.unit, s.scale*free, s.unit)
			best, known = r, true
		}
	}
	return best, known
}

// Warnings are sentences on what makes a device unfit to be tested: what its
// settings are, and what it did while it should have been idle.
func Warnings(facts map[string]string, idle sense.Use) (list []string) {
	for _, rule := range []func(map[string]string, sense.Use) string{notIdle, savesPower, capped, onBattery, warmAlready, throttledAlready} {
		if w := rule(facts, idle); w != "" {
			list = append(list, w)
		}
	}
	return list
}

func notIdle(_ map[string]string, idle sense.Use) string {
	label, other, known := idle.Highest(sense.OtherCPU)
	cpu := idle[sense.CPU]
	if cpu.Mean < 10 && other.Mean < 25 {
		return ""
	}
	text := fmt.Sprintf("the device is not idle enough to test: its cores are at %.0f %%", cpu.Mean)
	if known {
		text += fmt.Sprintf(", %q takes %.0f %% of a core", label, other.Mean)
	}
	return text
}

// savesPower: a governor that keeps clocks low, or a driver that was told to
// save. Drivers that choose clocks themselves call their usual governor
// powersave, too.
func savesPower(facts map[string]string, _ sense.Use) string {
	switch {
	case facts["clock_preference"] == "power":
		return "the processor is told to save power rather than to be fast (energy preference power)"
	case facts["power_profile"] == "low-power":
		return "the power profile is low-power"
	case facts["clock_preference"] == "" && (facts["governor"] == "powersave" || facts["governor"] == "conservative"):
		return fmt.Sprintf("the clock's governor is %s, which keeps it low", facts["governor"])
	}
	return ""
}

func capped(facts map[string]string, _ sense.Use) string {
	if share := facts["clock_cap_pct"]; share != "" && share != "100" {
		return fmt.Sprintf("the clock is not allowed to pass %s %% of its highest", share)
	}
	return ""
}

func onBattery(facts map[string]string, _ sense.Use) string {
	if facts["supply"] == "battery" {
		return "the device runs on its battery, which may slow it down"
	}
	return ""
}

func warmAlready(_ map[string]string, idle sense.Use) string {
	if t := idle[sense.Temperature]; t.Mean >= 75 {
		return fmt.Sprintf("the device is already at %.0f degrees while idle; let it cool down", t.Mean)
	}
	return ""
}

func throttledAlready(_ map[string]string, idle sense.Use) string {
	if t := idle[sense.Throttles]; t.Mean > 0 {
		return "the processor is slowed down for its heat while it is idle"
	}
	return ""
}

// Drift are sentences on how the idle device differs after a run from before.
func Drift(before, after sense.Use) (list []string) {
	if a, b := before[sense.CPU], after[sense.CPU]; a.N > 0 && b.N > 0 && b.Mean-a.Mean > 10 {
		list = append(list, fmt.Sprintf("idle, the cores are at %.0f %% after the run and were at %.0f %% before it", b.Mean, a.Mean))
	}
	if a, b := before[sense.Temperature], after[sense.Temperature]; a.N > 0 && b.N > 0 && b.Mean-a.Mean > 10 {
		list = append(list, fmt.Sprintf("the device is %.0f degrees warmer after the run than before it (%.0f)", b.Mean-a.Mean, b.Mean))
	}
	if a, b := before[sense.MemUsed], after[sense.MemUsed]; b.N > 0 && a.Mean > 0 && b.Mean-a.Mean > 0.1*before[sense.MemTotal].Mean {
		list = append(list, fmt.Sprintf("%.0f MB more memory are in use after the run than before it", (b.Mean-a.Mean)/1e6))
	}
	return list
}
