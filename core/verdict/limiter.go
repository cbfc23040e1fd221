package verdict

import (
	"fmt"

	"vividstrain/core/sense"
)

// Limiter is what ran out first.
type Limiter string

// The limiters.
const (
	CPU       Limiter = "cpu"
	Core      Limiter = "core" // one thread
	GPUDecode Limiter = "gpu-decode"
	Memory    Limiter = "memory"
	Heat      Limiter = "heat"
	Refused   Limiter = "refused" // the device gave up while it was idle
	Unknown   Limiter = "unknown"
)

// rule looks for one thing that ran out.
type rule struct {
	limiter Limiter
	check   func(use sense.Use) (evidence string, fires bool)
	// free is the share of it that is still free, in percent.
	free func(use sense.Use) (pct float64, known bool)
}

// rules are asked in this order; the first that fires names the limiter.
var rules = []rule{
	{Heat, heatRanOut, clockFree},
	{Memory, memoryRanOut, memoryFree},
	{GPUDecode, blockRanOut, freeOf(sense.BlockUse)},
	{CPU, cpuRanOut, freeOf(sense.CPU)},
	{Core, coreRanOut, freeOf(sense.ThreadMax)},
}

// FindLimiter names what ran out in a window, with the evidence in a phrase. It
// answers Unknown rather than guess.
func FindLimiter(use sense.Use) (Limiter, string) {
	for _, r := range rules {
		if evidence, fires := r.check(use); fires {
			return r.limiter, evidence
		}
	}
	return Unknown, "nothing that was measured ran out"
}

// Headroom is the share of the limiter, in percent, that is free in a window;
// false where it is not known.
func Headroom(l Limiter, use sense.Use) (pct float64, known bool) {
	for _, r := range rules {
		if r.limiter == l {
			return r.free(use)
		}
	}
	return 0, false
}

func cpuRanOut(use sense.Use) (string, bool) {
	cpu, known := use[sense.CPU]
	return fmt.Sprintf("all cores at %.0f %%", cpu.Mean), known && cpu.Mean >= 90
}

func coreRanOut(use sense.Use) (string, bool) {
	thread, known := use[sense.ThreadMax]
	return fmt.Sprintf("one thread at %.0f %% of a core while all cores together are at %.0f %%",
		thread.Mean, use[sense.CPU].Mean), known && thread.Mean >= 95
}

func memoryRanOut(use sense.Use) (string, bool) {
	if swap, known := use[sense.SwapRate]; known && swap.Mean > 1<<20 {
		return fmt.Sprintf("%.0f MB/s swapped in and out", swap.Mean/1e6), true
	}
	free, known := memoryFree(use)
	return fmt.Sprintf("%.1f %% of the memory free", free), known && free < 5
}

func memoryFree(use sense.Use) (float64, bool) {
	free, known := use[sense.MemFree]
	total := use[sense.MemTotal]
	if !known || total.Max == 0 {
		return 0, false
	}
	return 100 * free.Min / total.Max, true
}

func blockRanOut(use sense.Use) (string, bool) {
	block, known := use[sense.BlockUse]
	return fmt.Sprintf("the decoder block at %.0f %%", block.Mean), known && block.Mean >= 90
}

// heatRanOut: the clock is down although there is work, and the temperature
// stands at its highest.
func heatRanOut(use sense.Use) (string, bool) {
	clock, known := use[sense.Clock]
	temperature, warm := use[sense.Temperature]
	fires := known && warm && clock.Mean <= 90 && temperature.Max-temperature.Mean <= 2
	return fmt.Sprintf("the clock down to %.0f %% at %.0f degrees", clock.Mean, temperature.Max), fires
}

func clockFree(use sense.Use) (float64, bool) {
	cpu, known := use[sense.CPU]
	return 100 - cpu.P95, known
}

// freeOf is what the 95th percentile of a quantity in percent leaves free.
func freeOf(quantity string) func(sense.Use) (float64, bool) {
	return func(use sense.Use) (float64, bool) {
		s, known := use[quantity]
		return max(0, 100-s.P95), known
	}
}
