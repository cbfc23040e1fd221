package program

import (
	"cmp"
	"strconv"

	"vividstrain/core/route"
)

// Descriptor is the route for the registry. It has no default folder of clips: the caller
// supplies it. Commands are only typed: settings in a folder must not run anything.
var Descriptor = route.Descriptor{
	Word: "program",
	Options: []route.Option{
		{Name: "start", Usage: "start the player by `COMMAND` for each rung, with {file} or {url}, and {width}, {height}, {seconds}", Default: "", Typed: true},
		{Name: "shell", Usage: "have the shell run --start and --stop", Default: false, Typed: true},
		{Name: "stop", Usage: "run `COMMAND` after each rung, to end a player on another machine", Default: "", Typed: true},
		{Name: "count", Usage: "count frames by `WAY`: marks of the pictures on the screen, lines that the player writes, or none", Default: "", DefaultText: "lines with --lines, marks with --eye, else none"},
		{Name: "lines", Usage: "read the player's lines by `PATTERN`, or by the one with that name in vividstrain.yaml: (?P<shown>), (?P<dropped>), (?P<shown_rate>), (?P<position_s>), (?P<lead_s>)", Default: "", Named: "patterns"},
		{Name: "eye", Usage: "watch the screen through `EYE`: x11, x11:TITLE for the window of that title, capture:/dev/video0 for a capture card, or later where a recording of it will follow", Default: ""},
		{Name: "jump", Usage: "jump after the steady part by `COMMAND` with {position_s}, or by a key and the seconds that it jumps, like key:Right+10", Default: "", Typed: true},
		route.Jumps, route.Listen,
		route.Clips,
	},
	Uses:    []string{"sensors"},
	Implied: []string{"start"},
}

func init() { Descriptor.Open, Descriptor.Restore = openRoute, restoreRoute }

func openRoute(v route.Values) (route.Route, error) {
	return open(Options{Start: v.String("start"), Shell: v.Bool("shell"), Stop: v.String("stop"), Count: v.String("count"), Lines: v.String("lines"), Eye: v.String("eye"),
		Listen: v.String("listen"), Clips: v.String("clips"), Jump: v.String("jump"), Jumps: v.Int("jumps")})
}

func open(o Options) (route.Route, error) {
	p, err := New(o)
	if err != nil {
		return nil, err
	}
	return p, nil
}

// restoreRoute opens the route of an earlier run.
func restoreRoute(r route.Record, v route.Values) (route.Route, error) {
	m := r.Options
	jumps := 0
	if m["jumps"] != "" {
		var err error
		if jumps, err = strconv.Atoi(m["jumps"]); err != nil {
			return nil, err
		}
	}
	return open(Options{Start: m["start"], Shell: m["shell"] != "", Stop: m["stop"], Count: m["count"], Lines: m["lines"], Eye: m["eye"], Listen: m["listen"],
		Clips: cmp.Or(m["clips"], v.String("clips")), Jump: m["jump"], Jumps: jumps})
}
