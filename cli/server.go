package cli

import (
	"context"
	"path/filepath"
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
		&cli.StringFlag{Name: "login", Usage: "sign in as `NAME:PASSWORD`; better in the environment, as VIVIDSTRAIN_LOGIN", Sources: s.sources("login")},
		&cli.StringFlag{Name: "bearer", Usage: "send `TOKEN` to the server; better in the environment, as VIVIDSTRAIN_BEARER", Sources: s.sources("bearer")},
		&cli.StringFlag{Name: "ca", Usage: "trust the certificates in `FILE`, too", Sources: s.sources("ca")},
		&cli.IntFlag{Name: "jumps", Usage: "jump `N` times after the steady part: to the middle, then anywhere", Sources: s.sources("jumps")},
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
	o := server.Options{URL: c.String("url"), Login: c.String("login"), Token: c.String("bearer"), CA: c.String("ca"),
		Jumps: c.Int("jumps"), Look: share / 100, Seed: c.Uint64("seed"), Ahead: c.Duration("ahead"), Patience: c.Duration("patience")}
	if path := c.String("list"); path != "" {
		if o.List, err = server.ReadList(path); err != nil {
			return nil, usage(err)
		}
		if o.ListFile, err = filepath.Abs(path); err != nil {
			return nil, err
		}
	}
	if o.CA != "" {
		if o.CA, err = filepath.Abs(o.CA); err != nil {
			return nil, err
		}
	}
	if err := a.settings.mayHaveCredentials(c); err != nil {
		return nil, err
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

// offeredLadder is the name of a ladder of what a server offers.
const offeredLadder = "offered"

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
	return &load.Ladder{Name: offeredLadder, Columns: []load.Column{{Name: "variants", Rungs: loads}}}, nil
}
