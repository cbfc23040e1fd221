// Package local chooses the sensors that fit the system this program runs on.
package local

import (
	"vividstrain/core/sense"
	"vividstrain/core/sense/linux"
)

// thisComputer is where the kernel shows itself.
var thisComputer = linux.Roots{Proc: "/proc", Sys: "/sys"}

// Local returns the sources that read this computer, with the processes of g as
// the watched ones.
func Local(g *linux.Group) []sense.Source { return linux.Under(thisComputer, g) }

// Host returns the sources that tell what others take of this computer.
func Host(g *linux.Group) []sense.Source {
	return linux.HostUnder(thisComputer, g)
}
