package verdict

import (
	"fmt"

	"vividstrain/core/sense"
)

// What a pixel costs a core, in nanoseconds. Software decoders of the usual codecs take more
// than softwareFrom on every processor that is sold; a player that only passes data to a decoder
// block takes far less than hardwareUnder.
const (
	softwareFrom  = 1.0
	hardwareUnder = 0.25
)

// InferDecode infers whether a device decoded in hardware: a decoder block that moves, or much
// less processor time than any software decoder needs for this number of pixels per second. It
// returns unknown rather than a guess.
func InferDecode(use, idle sense.Use, pixelRate float64) (hardware, known bool, evidence string) {
	for _, quantity := range []string{sense.GroupDecode, sense.BlockUse} {
		_, block, known := use.Highest(quantity)
		_, before, _ := idle.Highest(quantity)
		if known && block.Mean-before.Mean >= 3 {
			return true, true, fmt.Sprintf("the decoder block is at %.0f %% and was at %.0f %% while idle", block.Mean, before.Mean)
		}
	}
	cost, told := corePerPixel(use, idle, pixelRate)
	switch {
	case !told:
		return false, false, "the player's CPU time is not known"
	case cost >= softwareFrom:
		return false, true, fmt.Sprintf("a pixel takes %.2g ns of a core", cost)
	case cost < hardwareUnder:
		return true, true, fmt.Sprintf("a pixel takes %.2g ns of a core, far less than in software", cost)
	}
	return false, false, fmt.Sprintf("a pixel takes %.2g ns of a core, which does not tell", cost)
}

// corePerPixel returns the processor time per pixel in nanoseconds: of the watched processes, or
// else of the whole device above its idle load.
func corePerPixel(use, idle sense.Use, pixelRate float64) (ns float64, known bool) {
	if pixelRate <= 0 {
		return 0, false
	}
	if group, known := use[sense.GroupCPU]; known {
		return group.Mean / 100 / pixelRate * 1e9, true
	}
	cores := float64(use.Cores())
	cpu, read := use[sense.CPU]
	before, idled := idle[sense.CPU]
	if !read || !idled || cores == 0 {
		return 0, false
	}
	return max(0, cpu.Mean-before.Mean) / 100 * cores / pixelRate * 1e9, true
}
