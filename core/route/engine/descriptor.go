package engine

import (
	"vividstrain/core/route"
	"vividstrain/core/tally"
)

// Descriptor is the route for the registry. It has no default folder of clips: the caller
// supplies it.
var Descriptor = route.Descriptor{
	Word: "engine",
	Options: []route.Option{
		route.Refresh, route.Late, route.Ahead,
		{Name: "threads", Usage: "decode each stream on `N` threads", Default: 0, DefaultText: "one for each core"},
		{Name: "queue", Usage: "decode `N` pictures ahead", Default: 8},
		route.Screen, route.Fit, route.Jumps,
		route.Clips,
	},
	Uses: []string{"spread", "stagger", "sensors", "token"},
}

func init() { Descriptor.Open, Descriptor.Restore = openRoute, restoreRoute }

func openRoute(v route.Values) (route.Route, error) {
	o := Default()
	o.Refresh, o.Late, o.Clips = v.Float("refresh"), tally.Late(v.String("late")), v.String("clips")
	o.Threads, o.Queue, o.Ahead = v.Int("threads"), v.Int("queue"), v.Duration("ahead")
	if v.IsSet("screen") {
		o.Screen, o.Fit = v.String("screen"), v.String("fit")
	}
	o.refreshSet, o.Jumps = v.IsSet("refresh"), v.Int("jumps")
	r, err := New(o)
	if err != nil {
		return nil, err
	}
	return r, nil
}

func restoreRoute(r route.Record, v route.Values) (route.Route, error) {
	o, err := FromOptions(r.Options)
	if err != nil {
		return nil, err
	}
	if o.Clips == "" {
		o.Clips = v.String("clips")
	}
	return New(o)
}
