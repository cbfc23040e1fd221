package sense

import "os"

// Local returns the sources that read this computer, with the processes of g as
// the watched ones.
func Local(g *Group) []Source { return Under(Roots{"/proc", "/sys"}, g) }

// Under returns the sources that read a Linux system whose kernel shows itself
// below other roots.
func Under(r Roots, g *Group) []Source {
	return []Source{newCPU(r), newMemory(r, os.Getpagesize()), newProcesses(r, g, os.Getpagesize()), newLimits(r, g), newPressure(r), newClocks(r), newHeat(r), newPower(r), newGPU(r, g), newDisk(r), newNetwork(r)}
}

// Host returns the sources that tell what others take of this computer.
func Host(g *Group) []Source {
	r := Roots{"/proc", "/sys"}
	return []Source{newCPU(r), newProcesses(r, g, os.Getpagesize())}
}
