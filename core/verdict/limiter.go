package verdict

import (
	"fmt"
	"strings"

	"vividstrain/core/sense"
	"vividstrain/core/tally"
)

// Limiter is what ran out first.
type Limiter string

// The limiters.
const (
	CPU       Limiter = "cpu"
	Core      Limiter = "core" // one thread
	GPUDecode Limiter = "gpu-decode"
	GPUEncode Limiter = "gpu-encode"
	GPURender Limiter = "gpu-render"
	Memory    Limiter = "memory"
	Disk      Limiter = "disk"
	Network   Limiter = "network"
	Heat      Limiter = "heat"
	Power     Limiter = "power"
	Viewer    Limiter = "viewer"  // our own measuring side
	Refused   Limiter = "refused" // the device gave up while it was idle
	Unknown   Limiter = "unknown"
)

// Window is what the limiter is found from: the readings of a steady window, and those of the
// run before it.
type Window struct {
	Use sense.Use
	// Buffer and Frames are the account of the window, nil where not known.
	Buffer *tally.Buffer
	Frames *tally.Frames
	Clock  float64 // highest mean clock of any window of the run so far, in percent; 0: not known
}

// rule checks for one limiter.
type rule struct {
	limiter Limiter
	// check returns the evidence as a phrase if the rule applies, else "".
	check func(w Window) (evidence string)
	// free returns the share that is still free, in percent.
	free func(use sense.Use) (pct float64, known bool)
}

// rules are checked in this order; the first that applies names the limiter. If our own side is
// late, nothing is known about the device. Heat comes before the other parts of the device,
// because a throttled device also looks busy. The processor's rules come before those of disk
// and link, which a busy program may well fill along the way.
var rules = []rule{
	{Viewer, viewerRanOut, viewerFree},
	{Heat, heatRanOut, freeOf(sense.CPU)},
	{Power, powerRanOut, freeOf(sense.CPU)},
	{Memory, memoryRanOut, memoryFree},
	{GPUDecode, engineRanOut(sense.BlockUse, "the decoder block"), freeOf(sense.BlockUse)},
	{GPUEncode, engineRanOut(sense.EncodeUse, "the encoder block"), freeOf(sense.EncodeUse)},
	{GPURender, renderRanOut, renderFree},
	{CPU, cpuRanOut, cpuFree},
	{Core, coreRanOut, freeOf(sense.ThreadMax)},
	{Disk, diskRanOut, freeOf(sense.DiskBusy)},
	{Network, linkRanOut, freeOf(sense.NetLink)},
}

// FindLimiter returns what ran out in a window, with the evidence as a phrase. It returns
// Unknown rather than a guess.
func FindLimiter(w Window) (Limiter, string) {
	for _, r := range rules {
		if evidence := r.check(w); evidence != "" {
			return r.limiter, evidence
		}
	}
	return Unknown, "nothing that was measured reached its limit" + w.excluded()
}

// excluded says what was not the reason, where the account shows it: a player that has
// enough in hand does not wait for the network.
func (w Window) excluded() string {
	if w.Buffer == nil || w.Frames == nil || w.Frames.Told == nil || w.Buffer.MinLeadS < 1 {
		return ""
	}
	return fmt.Sprintf("; at least %.1f s were fetched ahead, so that it was decoding or showing, not the network", w.Buffer.MinLeadS)
}

// Headroom returns the share of the limiter, in percent, that is free in a window; false where
// it is not known.
func Headroom(l Limiter, use sense.Use) (pct float64, known bool) {
	for _, r := range rules {
		if r.limiter == l {
			return r.free(use)
		}
	}
	return 0, false
}

// viewerRanOut: viewers constantly wake up late, or take all that they may use of this computer.
func viewerRanOut(w Window) string {
	cpu, cores, lag := w.Use[sense.ViewerCPU], w.Use[sense.ViewerCores], w.Use[sense.ViewerLag]
	unread := ""
	if u := w.Use[sense.ViewerUnread]; u.Mean >= 64<<10 {
		unread = fmt.Sprintf(", and %.0f kB that had arrived were not taken yet", u.Mean/1e3)
	}
	switch {
	case cores.Mean > 0 && cpu.Mean >= 90*cores.Mean:
		return fmt.Sprintf("our own viewers take %.0f %% of a core of the %.0f %% that this computer has", cpu.Mean, 100*cores.Mean) + unread
	case lag.Mean >= 50:
		return fmt.Sprintf("our own viewers woke up too late, by %.0f ms on average", lag.Mean) + unread
	}
	return ""
}

// viewerFree returns what the viewers leave free of this computer.
func viewerFree(use sense.Use) (float64, bool) {
	cpu, known := use[sense.ViewerCPU]
	cores := use[sense.ViewerCores]
	if !known || cores.Mean <= 0 {
		return 0, false
	}
	return max(0, 100-cpu.P95/cores.Mean), true
}

// warm is the temperature, in degrees, below which a lower clock than with other loads is the
// processor's choice: with many busy cores it runs slower than with one.
const warm = 65

// slowedDown returns how far the clock is below that of the start, in percent of it: the start
// of the window or, on a warm device, of the run.
func slowedDown(w Window) (pct float64, known bool) {
	clock, known := w.Use[sense.Clock]
	start := clock.First
	if w.Use[sense.Temperature].Max >= warm {
		start = max(start, w.Clock)
	}
	if !known || start <= 0 {
		return 0, false
	}
	return 100 * (1 - clock.Mean/start), true
}

// hot returns the temperature, and whether it is at its highest.
func hot(w Window) (temperature sense.Stat, stands bool) {
	temperature, known := w.Use[sense.Temperature]
	return temperature, known && temperature.Max-temperature.Mean <= 2
}

// heatRanOut: the clock is down by a tenth from its start while the temperature is within 2
// degrees of its highest; or the processor reports that it was throttled.
func heatRanOut(w Window) string {
	temperature, stands := hot(w)
	down, known := slowedDown(w)
	switch throttled := w.Use[sense.Throttles]; {
	case throttled.Mean >= 0.5 && known && down >= 5:
		return fmt.Sprintf("throttled for heat %.0f times a second, the clock %.0f %% below its start at %.0f degrees", throttled.Mean, down, temperature.Max)
	case known && stands && down >= 10:
		return fmt.Sprintf("the clock %.0f %% below its start while the temperature is %.0f degrees", down, temperature.Max)
	}
	return ""
}

// powerRanOut: the clock is down by a tenth while the power, not the temperature, is at its
// highest.
func powerRanOut(w Window) string {
	power, measured := w.Use[sense.Power]
	_, stands := hot(w)
	down, known := slowedDown(w)
	if !known || !measured || stands || down < 10 || power.Mean < 0.97*power.Max {
		return ""
	}
	return fmt.Sprintf("the clock %.0f %% below its start while the power is %.0f W", down, power.Max)
}

// memoryRanOut: the device swaps, or less than a twentieth of its memory or of the player's
// limit is free. Memory that is merely full, while nothing waits for it and the cores are busy,
// is not what ran out.
func memoryRanOut(w Window) string {
	if swap := w.Use[sense.SwapRate]; swap.Mean > 1<<20 {
		return fmt.Sprintf("%.0f MB/s swapped in and out", swap.Mean/1e6)
	}
	if waits, known := w.Use[sense.PressureMemory]; known && waits.Mean < 0.5 && cpuRanOut(w) != "" {
		return ""
	}
	if limit, charged := w.Use[sense.GroupMemLimit], w.Use[sense.GroupCharged]; limit.Max > 0 && charged.Max > 0.95*limit.Max {
		return fmt.Sprintf("%.0f MB in use of the %.0f MB that the player is held to", charged.Max/1e6, limit.Max/1e6)
	}
	if free, known := memoryFree(w.Use); known && free < 5 {
		return fmt.Sprintf("%.1f %% of the memory free", free)
	}
	return ""
}

// MemoryWasLow describes how full the memory was in the last readings of a program that died, if
// that may be the reason, else "". The last half second before is not in the readings, and a
// player can take much in that time.
func MemoryWasLow(use sense.Use) string {
	if limit, charged := use[sense.GroupMemLimit], use[sense.GroupCharged]; limit.Max > 0 && charged.Max > 0.8*limit.Max {
		return fmt.Sprintf("%.0f MB were in use of the %.0f MB that the player is held to", charged.Max/1e6, limit.Max/1e6)
	}
	if free, known := memoryFree(use); known && free < 15 {
		return fmt.Sprintf("%.1f %% of the memory was free", free)
	}
	return ""
}

// memoryFree returns the smallest share of memory that was free: of the device's, or of the
// player's limit if that is tighter.
func memoryFree(use sense.Use) (float64, bool) {
	free, known := use[sense.MemFree]
	total := use[sense.MemTotal]
	if !known || total.Max == 0 {
		return 0, false
	}
	pct := 100 * free.Min / total.Max
	if limit := use[sense.GroupMemLimit]; limit.Max > 0 {
		pct = min(pct, max(0, 100-100*use[sense.GroupCharged].Max/limit.Max))
	}
	return pct, true
}

// engineRanOut: a unit of the graphics processor is 90 % busy.
func engineRanOut(quantity, name string) func(Window) string {
	return func(w Window) string {
		if label, busy, known := w.Use.Highest(quantity); known && busy.Mean >= 90 {
			return strings.TrimSpace(fmt.Sprintf("%s %s", name, label)) + fmt.Sprintf(" at %.0f %%", busy.Mean)
		}
		return ""
	}
}

// renderRanOut: the render engine, or the whole graphics processor where its engines are not
// told apart.
func renderRanOut(w Window) string {
	if evidence := engineRanOut(sense.RenderUse, "the render engine")(w); evidence != "" {
		return evidence
	}
	if _, apart := w.Use[sense.BlockUse]; apart {
		return ""
	}
	return engineRanOut(sense.GPU, "the graphics processor")(w)
}

// renderFree returns what the render engine leaves free, or the whole graphics processor.
func renderFree(use sense.Use) (float64, bool) {
	if free, known := freeOf(sense.RenderUse)(use); known {
		return free, true
	}
	return freeOf(sense.GPU)(use)
}

// cpuRanOut: all cores are 90 % busy, or the player uses 90 % of its limit.
func cpuRanOut(w Window) string {
	if limit, group := w.Use[sense.GroupCPULimit], w.Use[sense.GroupCPU]; limit.Mean > 0 && group.Mean >= 0.9*limit.Mean {
		return fmt.Sprintf("the player takes %.0f %% of a core of the %.0f %% that it is held to", group.Mean, limit.Mean)
	}
	if cpu := w.Use[sense.CPU]; cpu.Mean >= 90 {
		return fmt.Sprintf("all cores at %.0f %%", cpu.Mean) + spenders(w.Use)
	}
	return ""
}

// cpuFree returns what is free of the cores, or of the player's limit.
func cpuFree(use sense.Use) (float64, bool) {
	free, known := freeOf(sense.CPU)(use)
	if limit := use[sense.GroupCPULimit]; limit.Mean > 0 {
		free = min(free, max(0, 100-100*use[sense.GroupCPU].P95/limit.Mean))
	}
	return free, known
}

// spenders names who used the cores besides the player, if that is much.
func spenders(use sense.Use) (text string) {
	cores := use.Cores()
	group, known := use[sense.GroupCPU]
	if known && cores > 0 {
		text = fmt.Sprintf(", %.0f %% by the player", group.Mean/float64(cores))
	}
	if label, other, known := use.Highest(sense.OtherCPU); known && other.Mean >= 20 {
		text += fmt.Sprintf(", %.0f %% of a core by %q", other.Mean, label)
	}
	if steal := use[sense.CPUSteal]; steal.Mean >= 10 {
		text += fmt.Sprintf(", %.0f %% taken by the host of this virtual machine", steal.Mean)
	}
	return text
}

// coreRanOut: one thread takes 95 % of a core while other cores have time.
func coreRanOut(w Window) string {
	thread := w.Use[sense.ThreadMax]
	if thread.Mean < 95 {
		return ""
	}
	name := "one thread"
	if label, _, known := w.Use.Highest(sense.ThreadUse); known {
		name += fmt.Sprintf(" (%s)", label)
	}
	return fmt.Sprintf("%s at %.0f %% of a core while all cores together are at %.0f %%", name, thread.Mean, w.Use[sense.CPU].Mean)
}

// diskRanOut: a disk has a request under way for 90 % of the time, or tasks wait for a disk half
// of the time, since disks may be limited to a rate, too.
func diskRanOut(w Window) string {
	label, busy, known := w.Use.Highest(sense.DiskBusy)
	if waits := w.Use[sense.PressureIO]; waits.Mean >= 50 && busy.Mean < 90 {
		return fmt.Sprintf("a disk was waited for in %.0f %% of the time", waits.Mean)
	}
	if !known || busy.Mean < 90 {
		return ""
	}
	return fmt.Sprintf("disk %s busy for %.0f %% of the time, a request takes %.0f ms", label, busy.Mean, w.Use[sense.DiskWait+":"+label].Mean)
}

// linkRanOut: a link carries 90 % of its speed in one direction.
func linkRanOut(w Window) string {
	label, busy, known := w.Use.Highest(sense.NetLink)
	if !known || busy.Mean < 90 {
		return ""
	}
	return fmt.Sprintf("link %s at %.0f %% of its speed", label, busy.Mean)
}

// freeOf returns a function for what the 95th percentile of a quantity in percent leaves free,
// of its busiest part.
func freeOf(quantity string) func(sense.Use) (float64, bool) {
	return func(use sense.Use) (float64, bool) {
		_, s, known := use.Highest(quantity)
		return max(0, 100-s.P95), known
	}
}

// Tightest returns the part of a device that has the least left in a window, our own side aside;
// false where nothing is known.
func Tightest(use sense.Use) (l Limiter, freePct float64, known bool) {
	for _, r := range rules {
		if r.limiter == Viewer || r.limiter == Heat || r.limiter == Power {
			continue
		}
		if free, ok := r.free(use); ok && (!known || free < freePct) {
			l, freePct, known = r.limiter, free, true
		}
	}
	return l, freePct, known
}
