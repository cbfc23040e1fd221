package linux

import (
	"os"

	"vividstrain/core/sense"
)

// Under returns the sources for a Linux system whose kernel files are below the given roots.
func Under(r Roots, g *Group) []sense.Source {
	return []sense.Source{newCPU(r), newMemory(r, os.Getpagesize()), newProcesses(r, g, os.Getpagesize()), newLimits(r, g), newPressure(r), newClocks(r), newHeat(r), newPower(r), newGPU(r, g), newDisk(r), newNetwork(r)}
}

// HostUnder returns the sources that measure what other programs take of such a system.
func HostUnder(r Roots, g *Group) []sense.Source {
	return []sense.Source{newCPU(r), newProcesses(r, g, os.Getpagesize())}
}
