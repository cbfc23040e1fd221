package verdict

import (
	"fmt"

	"vividstrain/core/search"
	"vividstrain/core/sense"
)

// VoidCause is why an attempt says nothing about the device.
type VoidCause string

// The causes.
const (
	VoidClip    VoidCause = "clip"    // its clip could not be made, is broken, or was changed
	VoidCodec   VoidCause = "codec"   // the load cannot be put on the device in this way
	VoidAddress VoidCause = "address" // the server does not know the film, or the viewer
	VoidShort   VoidCause = "short"   // too few frames or segments to judge
	VoidOthers  VoidCause = "others"  // other programs took the computer
	VoidHost    VoidCause = "host"    // the host of the virtual machine took it
	VoidStopped VoidCause = "stopped" // the user stopped the run in it
	VoidAway    VoidCause = "away"    // the device was not there, or its page was hidden or paused
	VoidKilled  VoidCause = "killed"  // the program was killed during it
	VoidLater   VoidCause = "later"   // a recording will show what it showed
)

// Void returns what the cause means for the search; without a cause the attempt counts.
func (c VoidCause) Void() search.Void {
	switch c {
	case "":
		return search.Counts
	case VoidOthers, VoidHost, VoidAway:
		return search.Repeatable
	case VoidStopped, VoidKilled:
		return search.Interrupted
	}
	return search.Permanent
}

// Trial returns what an attempt at a rung with this verdict means for the search.
func (g Grade) Trial(rung int, cause VoidCause) search.Trial {
	return search.Trial{Rung: rung, Smooth: g == Smooth, Choppy: g == Choppy, Void: cause.Void()}
}

// Shares of the cores, in percent, above which others make an attempt that was not smooth void.
const (
	maxHost   = 10
	maxOthers = 15
)

// Disturbed reports whether others took so much of the computer that an attempt that was not
// smooth says nothing about it; why is a phrase that names them.
func Disturbed(use sense.Use) (cause VoidCause, why string) {
	for _, quantity := range []string{sense.CPUSteal, sense.ViewerSteal} {
		if host := use[quantity]; host.Mean > maxHost {
			return VoidHost, fmt.Sprintf("the host of this virtual machine took %.0f %% of the cores", host.Mean)
		}
	}
	for _, quantity := range [][2]string{{sense.OthersCPU, sense.OtherCPU}, {sense.ViewerOthers, sense.ViewerOther}} {
		others := use[quantity[0]]
		if others.Mean <= maxOthers {
			continue
		}
		why = fmt.Sprintf("other programs took %.0f %% of the cores", others.Mean)
		if label, top, known := use.Highest(quantity[1]); known && label != "" {
			why += fmt.Sprintf(", %q %.0f %% of one", label, top.Mean)
		}
		return VoidOthers, why
	}
	return "", ""
}
