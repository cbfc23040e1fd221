package simulated_test

import (
	"context"
	"fmt"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/route"
	"vividstrain/core/route/simulated"
	"vividstrain/core/tally"
)

// A simulated device plays half a minute in a blink, the same way every time.
func Example() {
	profile, err := simulated.Named("skerry-s1")
	if err != nil {
		fmt.Println(err)
		return
	}
	device, err := simulated.New(profile, simulated.Options{Refresh: 60, Late: tally.Drop, Seed: 1, Start: time.Unix(0, 0)})
	if err != nil {
		fmt.Println(err)
		return
	}
	l, err := load.Parse("h264 2160p50 80M")
	if err != nil {
		fmt.Println(err)
		return
	}
	result, err := device.Play(context.Background(), route.Plan{Loads: []load.Load{l}, Hold: 32 * time.Second, Settle: 2 * time.Second}, func(route.Live) {})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, w := range result.Streams[0].Windows {
		if w.Kind == tally.Steady {
			fmt.Println("due", w.Frames.Due, "shown", w.Frames.Shown, "dropped", w.Frames.Dropped)
		}
	}
	// Output:
	// due 1500 shown 141 dropped 1359
}
