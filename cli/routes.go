package cli

import (
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/route"
	"vividstrain/core/route/engine"
	"vividstrain/core/route/simulated"
	"vividstrain/core/tally"
)

// routeFlags are the flags that one route or another does not use, with those that do.
var routeFlags = map[string][]string{
	"device": {"standin"}, "refresh": {"engine", "standin"}, "late": {"engine", "standin"}, "threads": {"engine"}, "queue": {"engine"},
	"clips": {"engine"}, "ahead": {"engine", "server"}, "seed": {"standin", "server"}, "url": {"server"}, "list": {"server"},
	"login": {"server"}, "bearer": {"server"}, "ca": {"server"}, "jumps": {"server"}, "look": {"server"}, "patience": {"server"},
	"spread": {"engine", "server"}, "sensors": {"engine", "server"}, "token": {"engine", "server"},
}

// typed lists the flags that were typed, by their full names: not those that come from the
// environment or from settings.
func (a *app) typed(c *cli.Command) (names []string) {
	known := map[string]string{}
	for _, command := range []*cli.Command{c, c.Root()} {
		for _, f := range command.Flags {
			for _, name := range f.Names() {
				known[name] = f.Names()[0]
			}
		}
	}
	for _, arg := range a.args {
		if arg == "--" {
			break
		}
		name, _, _ := strings.Cut(strings.TrimLeft(arg, "-"), "=")
		if full, is := known[name]; is && strings.HasPrefix(arg, "-") && !slices.Contains(names, full) {
			names = append(names, full)
		}
	}
	return names
}

// route is the way that the flags choose: to this computer, a media server, or
// the simulated device that is named. Flags that it does not use are refused.
func (a *app) route(c *cli.Command) (route.Route, error) {
	word, err := a.routeWord(c)
	if err != nil {
		return nil, err
	}
	for _, name := range a.typed(c) {
		if users, some := routeFlags[name]; some && !slices.Contains(users, word) {
			return nil, usagef("--%s does nothing on the route %s; it is for %s", name, word, strings.Join(users, " and "))
		}
	}
	switch word {
	case "server":
		return a.serverRoute(c)
	case "standin":
		return openSimulated(simulated.Options{Refresh: c.Float("refresh"), Late: tally.Late(c.String("late")), Seed: c.Uint64("seed"), Profile: c.String("device")})
	}
	o := engine.Default()
	o.Refresh, o.Late, o.Clips = c.Float("refresh"), tally.Late(c.String("late")), c.String("clips")
	o.Threads, o.Queue, o.Ahead = c.Int("threads"), c.Int("queue"), c.Duration("ahead")
	r, err := engine.New(o)
	if err != nil {
		return nil, usage(err)
	}
	return r, nil
}

// openSimulated is the way to a simulated device, which is switched on now.
func openSimulated(o simulated.Options) (route.Route, error) {
	profile, err := profileNamed(o.Profile)
	if err != nil {
		return nil, err
	}
	o.Start = time.Now()
	r, err := simulated.New(profile, o)
	if err != nil {
		return nil, usage(err)
	}
	return r, nil
}

// routeWord is the way that the flags choose.
func (a *app) routeWord(c *cli.Command) (string, error) {
	word := c.String("route")
	typed := a.typed(c)
	byServer, byDevice := c.String("url") != "" || c.String("list") != "", c.String("device") != ""
	if byDevice && !slices.Contains(typed, "url") && !slices.Contains(typed, "list") {
		byServer = false // an address in the settings is not meant for it
	}
	switch {
	case word == "" && byServer:
		word = "server"
	case word == "" && byDevice:
		word = "standin"
	case word == "":
		word = "engine"
	}
	switch {
	case word != "engine" && word != "server" && word != "standin":
		return "", usagef("--route is %s, not %q", routeWords, word)
	case word == "standin" && !byDevice:
		return "", usagef("which device? give --device; vividstrain devices lists them")
	}
	return word, nil
}
