package verdict

import (
	"fmt"
	"math"

	"vividstrain/core/sense"
)

// Room is how many streams of a load a device can play.
type Room struct {
	Limiter  Limiter `json:"limiter"`  // what runs out first if streams are added
	Streams  int     `json:"streams"`  // how many fit, including those that were played
	Cost     float64 `json:"cost"`     // of one stream, in the unit of the quantity
	Quantity string  `json:"quantity"` // that runs out
	Free     float64 `json:"free"`     // free while the streams were played
	Evidence string  `json:"evidence"`
}

// supply is a resource of which each stream takes a share.
type supply struct {
	limiter  Limiter
	quantity string
	// took returns what the streams took of it, and free what may still be used, both in the
	// unit of the quantity.
	took func(use, idle sense.Use) (float64, bool)
	free func(use sense.Use) float64
	say  func(v float64, use sense.Use) string
}

// supplies are the resources that may run out. A tenth of the percentages and a twentieth of the
// memory is not usable, as in the limiter's rules.
var supplies = []supply{
	{CPU, sense.CPU, coresTaken, coresFree, func(v float64, use sense.Use) string {
		if inCores(use) {
			return share(v) + " of a core"
		}
		return share(v) + " of all cores"
	}},
	{Memory, sense.GroupMem, memoryTaken, memoryLeft, func(v float64, _ sense.Use) string { return fmt.Sprintf("%.0f MB", v/1e6) }},
	engineSupply(GPUDecode, sense.BlockUse), engineSupply(GPUEncode, sense.EncodeUse), engineSupply(GPURender, sense.RenderUse),
	engineSupply(Network, sense.NetLink), engineSupply(Disk, sense.DiskBusy),
}

// share returns a percentage in words; small ones have a decimal, so that what a stream takes is never 0 %.
func share(v float64) string {
	if v < 1 {
		return fmt.Sprintf("%.1f %%", v)
	}
	return fmt.Sprintf("%.0f %%", v)
}

// engineSupply returns the supply of a part of the device whose use is a percentage.
func engineSupply(l Limiter, quantity string) supply {
	return supply{l, quantity,
		func(use, idle sense.Use) (float64, bool) {
			_, now, known := use.Highest(quantity)
			_, before, knew := idle.Highest(quantity)
			return now.Mean - before.Mean, known && knew
		},
		func(use sense.Use) float64 {
			_, now, _ := use.Highest(quantity)
			return 90 - now.Mean
		},
		func(v float64, _ sense.Use) string { return fmt.Sprintf("%.1f %%", v) }}
}

// inCores reports whether the player's use can be compared with the available cores: their
// number is known, or the player has a limit.
func inCores(use sense.Use) bool {
	_, known := use[sense.GroupCPU]
	return known && (use.Cores() > 0 || use[sense.GroupCPULimit].Mean > 0)
}

// coresTaken returns what the player took in percent of one core; where that is not known, how
// much busier the whole device was than when idle, in percent of all cores.
func coresTaken(use, idle sense.Use) (float64, bool) {
	if inCores(use) {
		return use[sense.GroupCPU].Mean, true
	}
	now, known := use[sense.CPU]
	before, knew := idle[sense.CPU]
	return now.Mean - before.Mean, known && knew
}

// coresFree returns what is left of the cores, or of the player's limit, in the unit of
// coresTaken.
func coresFree(use sense.Use) float64 {
	free := 90 - use[sense.CPU].Mean
	if !inCores(use) {
		return free
	}
	left := math.Inf(1)
	if limit := use[sense.GroupCPULimit]; limit.Mean > 0 {
		left = 0.9*limit.Mean - use[sense.GroupCPU].Mean
	}
	if n := use.Cores(); n > 0 {
		left = min(left, float64(n)*free)
	}
	return left
}

// memoryTaken returns by how much the memory of the player, or else of the whole device, grew
// over that when idle.
func memoryTaken(use, idle sense.Use) (float64, bool) {
	for _, quantity := range []string{sense.GroupMem, sense.MemUsed} {
		now, known := use[quantity]
		before, knew := idle[quantity]
		if known && knew {
			return now.Max - before.Mean, true
		}
	}
	return 0, false
}

// memoryLeft returns what is left of the memory, or of the player's limit.
func memoryLeft(use sense.Use) float64 {
	left := use[sense.MemFree].Min - 0.05*use[sense.MemTotal].Max
	if limit := use[sense.GroupMemLimit]; limit.Max > 0 {
		left = min(left, 0.95*limit.Max-use[sense.GroupCharged].Max)
	}
	return left
}

// FindRoom computes, from what a number of streams took over the idle device, how many fit and
// what runs out then. It is false where no reading shows it, and where the device was not idle
// when it should have been.
func FindRoom(use, idle sense.Use, streams int) (best Room, known bool) {
	if streams < 1 || notIdle(nil, idle).What != "" {
		return best, false
	}
	for _, s := range supplies {
		took, ok := s.took(use, idle)
		free := max(0, s.free(use))
		cost := took / float64(streams)
		if !ok || cost <= 0.005*(free+took) { // too little to tell apart from the device's own activity
			continue
		}
		r := Room{Limiter: s.limiter, Streams: streams + int(math.Floor(free/cost)), Cost: cost, Quantity: s.quantity, Free: free}
		if !known || r.Streams < best.Streams {
			r.Evidence = fmt.Sprintf("a stream takes %s; %s are left", s.say(cost, use), s.say(free, use))
			best, known = r, true
		}
	}
	return best, known
}
