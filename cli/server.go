package cli

import (
	"context"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/load"
	"vividstrain/core/route"
	"vividstrain/core/route/server"
)

// routeWords are the ways that loads may take.
const routeWords = "engine, server or standin"

// serverFlags are those of the route to a media server.
func (a *app) serverFlags() []cli.Flag {
	s := a.settings
	return []cli.Flag{
		&cli.StringFlag{Name: "route", Usage: "put the load on by `WAY`: " + routeWords, DefaultText: "server with --url or --list, standin with --device, else engine"},
		&cli.StringFlag{Name: "url", Usage: "films are at `URL`; {clip}, {goal}, {codec}, {width}, {height}, {rate}, {depth} and {kbps} are filled in from the load", Sources: s.sources("url")},
		&cli.StringFlag{Name: "list", Usage: "`FILE` in YAML lists loads and where they are"},
		&cli.StringFlag{Name: "login", Usage: "sign in as `NAME:PASSWORD`; better as VIVIDSTRAIN_LOGIN", Sources: s.sources("login")},
		&cli.StringFlag{Name: "bearer", Usage: "send `TOKEN` to the server; better as VIVIDSTRAIN_BEARER", Sources: s.sources("bearer")},
		&cli.StringFlag{Name: "trust", Usage: "trust the certificates in `FILE`, too", Sources: s.sources("trust")},
		&cli.IntFlag{Name: "jumps", Usage: "jump `N` times behind the steady part: to the middle, then anywhere", Sources: s.sources("jumps")},
		&cli.StringFlag{Name: "look", Usage: "decode `SHARE` of the segments and look for damage", Value: "5%", Sources: s.sources("look")},
		&cli.DurationFlag{Name: "rest", Usage: "wait at most `TIME` between attempts until the device is quiet again", DefaultText: "30s with a server, else 0s", Sources: s.sources("rest")},
		&cli.DurationFlag{Name: "patience", Usage: "give a server up that sends nothing for `TIME`", Value: 20 * time.Second, Sources: s.sources("patience")},
	}
}

// rest is how long to wait between attempts for the device to be quiet.
func rest(c *cli.Command, r route.Route) time.Duration {
	if _, isServer := r.(*server.Server); isServer && !c.IsSet("rest") {
		return 30 * time.Second
	}
	return c.Duration("rest")
}

// serverRoute is the way to a media server.
func (a *app) serverRoute(c *cli.Command) (*server.Server, error) {
	share, err := strconv.ParseFloat(strings.TrimSuffix(c.String("look"), "%"), 64)
	if err != nil {
		return nil, usagef("--look is a share like 5%%, not %q", c.String("look"))
	}
	o := server.Options{URL: c.String("url"), Login: c.String("login"), Token: c.String("bearer"), Trust: c.String("trust"),
		Jumps: c.Int("jumps"), Look: share / 100, Seed: c.Uint64("seed"), Ahead: c.Duration("ahead"), Patience: c.Duration("patience")}
	if path := c.String("list"); path != "" {
		if o.List, err = server.ReadList(path); err != nil {
			return nil, usage(err)
		}
	}
	if o.URL == "" && o.List == nil {
		return nil, usagef("where is the server? give --url or --list")
	}
	r, err := server.New(o)
	if err != nil {
		return nil, usage(err)
	}
	return r, nil
}

// routeWord is the way that the flags choose.
func routeWord(c *cli.Command) (string, error) {
	word := c.String("route")
	byServer, byDevice := c.String("url") != "" || c.String("list") != "", c.String("device") != ""
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
	case byDevice && word != "standin":
		return "", usagef("--device is for the route standin, not %s", word)
	case word == "standin" && !byDevice:
		return "", usagef("which device? give --device; vividstrain devices lists them")
	case byServer && word != "server" && (c.IsSet("url") || c.IsSet("list")):
		return "", usagef("--url and --list are for the route server, not %s", word)
	}
	return word, nil
}

// offered is the ladder of what a server offers, or of the loads in its list,
// where no loads are given.
func offered(ctx context.Context, c *cli.Command, r *server.Server) (*load.Ladder, error) {
	if c.String("list") != "" {
		ladder, err := load.Arrange("list", r.Listed())
		return ladder, usage(err)
	}
	loads, err := r.Offers(ctx)
	if err != nil {
		return nil, err
	}
	return &load.Ladder{Name: "offered", Columns: []load.Column{{Name: "variants", Rungs: loads}}}, nil
}
