package simulated

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"time"

	"vividstrain/core/route"
	"vividstrain/core/tally"
)

// Descriptor is the route for the registry.
var Descriptor = route.Descriptor{
	Word: "simulated", Old: []string{"standin"},
	Options: []route.Option{
		{Name: "device", Alias: "d", Usage: "put the load on the simulated device `NAME`, or on the one in a YAML file", Default: "", Typed: true},
		route.Refresh, route.Late, route.Seed,
	},
	Uses:    []string{"stagger"},
	Implied: []string{"device"},
}

func init() { Descriptor.Open, Descriptor.Restore = openRoute, restoreRoute }

func openRoute(v route.Values) (route.Route, error) {
	if v.String("device") == "" {
		return nil, errors.New("which device? give --device; vividstrain devices lists them")
	}
	return SwitchOn(Options{Refresh: v.Float("refresh"), Late: tally.Late(v.String("late")), Seed: v.Uint64("seed"), Profile: v.String("device")})
}

func restoreRoute(r route.Record, _ route.Values) (route.Route, error) {
	o, err := FromOptions(r.Options)
	if err != nil {
		return nil, err
	}
	o.Profile = cmp.Or(o.Profile, r.Device)
	return SwitchOn(o)
}

// SwitchOn returns a route to the device of o.Profile, just switched on.
func SwitchOn(o Options) (route.Route, error) {
	profile, err := Find(o.Profile)
	if err != nil {
		return nil, err
	}
	o.Start = time.Now()
	d, err := New(profile, o)
	if err != nil {
		return nil, err
	}
	return d, nil
}

// maxProfile is the largest size of a profile's file, in bytes.
const maxProfile = 1 << 20

// Find returns the profile in a file, or the built-in one of that name.
func Find(name string) (*Profile, error) {
	info, err := os.Stat(name)
	if err != nil || info.IsDir() {
		p, err := Named(name)
		if err != nil {
			return nil, fmt.Errorf("%w; and there is no file of that name", err)
		}
		return p, nil
	}
	if info.Size() > maxProfile || !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s: a profile is an ordinary file of at most %d bytes", name, maxProfile)
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	p, err := ParseProfile(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return p, nil
}
