package server

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/route"
	"vividstrain/core/route/link"
)

// Descriptor is the route for the registry.
var Descriptor = route.Descriptor{
	Word: "server",
	Options: []route.Option{
		{Name: "url", Usage: "films are at `URL`; {clip}, {goal}, {codec}, {width}, {height}, {rate}, {depth} and {kbps} are filled in from the load", Default: ""},
		{Name: "list", Usage: "`FILE` in YAML lists loads and where they are", Default: "", Typed: true},
		{Name: "login", Usage: "sign in as `NAME:PASSWORD`; better in the environment, as VIVIDSTRAIN_LOGIN", Default: "", Secret: true},
		{Name: "bearer", Usage: "send `TOKEN` to the server; better in the environment, as VIVIDSTRAIN_BEARER", Default: "", Secret: true},
		{Name: "ca", Usage: "trust the certificates in `FILE`, too", Default: ""},
		route.Jumps,
		{Name: "verify", Old: "look", Usage: "decode `SHARE` of the segments and look for damage", Default: "5%"},
		{Name: "timeout", Old: "patience", Usage: "give up a server that sends nothing for `TIME`", Default: 20 * time.Second},
		route.Link, route.Delay, route.Loss,
		route.Ahead, route.Seed,
	},
	Uses:    []string{"spread", "stagger", "sensors", "token"},
	Implied: []string{"url", "list"},
}

func init() { Descriptor.Open, Descriptor.Restore = openRoute, restoreRoute }

func openRoute(v route.Values) (route.Route, error) {
	share, err := strconv.ParseFloat(strings.TrimSuffix(v.String("verify"), "%"), 64)
	if err != nil {
		return nil, fmt.Errorf("--verify is a share like 5%%, not %q", v.String("verify"))
	}
	o := Options{URL: v.String("url"), Login: v.String("login"), Token: v.String("bearer"), CA: v.String("ca"),
		Jumps: v.Int("jumps"), Verify: share / 100, Seed: v.Uint64("seed"), Ahead: v.Duration("ahead"), Timeout: v.Duration("timeout")}
	if o.Link, err = link.Open(v); err != nil {
		return nil, err
	}
	if path := v.String("list"); path != "" {
		if o.List, err = ReadList(path); err != nil {
			return nil, err
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
	if o.URL == "" && o.List == nil {
		return nil, errors.New("where is the server? give --url or --list")
	}
	return open(o)
}

func open(o Options) (route.Route, error) {
	s, err := New(o)
	if err != nil {
		return nil, err
	}
	return s, nil
}

// restoreRoute opens the route of an earlier run. Secrets must be given again.
func restoreRoute(r route.Record, v route.Values) (route.Route, error) {
	o, err := FromOptions(r.Options)
	switch {
	case errors.Is(err, ErrIncomplete) && !r.Typed("url"):
		return nil, &route.GiveAgainError{Err: fmt.Errorf("%w; give --url again", err)}
	case errors.Is(err, ErrIncomplete):
		o.URL = v.String("url")
	case err != nil:
		return nil, err
	}
	o.Login, o.Token = v.String("login"), v.String("bearer")
	if how := r.Options["signed_in"]; how != "" && o.Login == "" && o.Token == "" {
		return nil, &route.GiveAgainError{Err: fmt.Errorf("it used credentials; give --%s again, or VIVIDSTRAIN_%s in the environment", how, strings.ToUpper(how))}
	}
	if o.ListFile != "" {
		if o.List, err = ReadList(o.ListFile); err != nil {
			return nil, &route.GiveAgainError{Err: err}
		}
	}
	s, err := New(o)
	if err != nil {
		return nil, err
	}
	if r.Ladder == offered { // the addresses of variants come from the server
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		if _, err := s.Offers(ctx); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// offered is the name of a ladder of what a server offers.
const offered = "offered"

// Offered returns the ladder of the list, or of the variants that a playlist offers.
func (s *Server) Offered(ctx context.Context) (*load.Ladder, error) {
	if s.options.List != nil {
		return load.Arrange("list", s.Listed())
	}
	loads, err := s.Offers(ctx)
	if err != nil {
		return nil, err
	}
	return &load.Ladder{Name: offered, Columns: []load.Column{{Name: "variants", Rungs: loads}}}, nil
}
