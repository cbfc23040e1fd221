package verdict_test

import (
	"fmt"

	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// A stream of which 9 of 900 frames were dropped, and one whose frames could not be counted.
func ExampleCriteria_Judge() {
	delay := 0.4
	t := tally.Tally{StartDelayS: &delay, Windows: []tally.Window{
		{Kind: tally.Steady, FromS: 2, ToS: 32, Frames: &tally.Frames{Due: 900, Shown: 891, Dropped: 9, Speed: 1}},
	}}
	fmt.Println(verdict.Default().Judge(t))
	t.Windows[0].Frames = nil
	fmt.Println(verdict.Default().Judge(t))
	// Output:
	// marginal [9 of 900 frames dropped (1 %, allowed 0.2 %)]
	// smooth [it played to its end frames were not counted]
}
