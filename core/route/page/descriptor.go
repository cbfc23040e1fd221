package page

import (
	"errors"
	"fmt"
	"strconv"
	"time"

	"vividstrain/core/route"
	"vividstrain/core/route/link"
)

// Descriptor is the route for the registry. It has no default folder of clips: the caller
// supplies it.
var Descriptor = route.Descriptor{
	Word: "page",
	Options: []route.Option{
		route.Listen,
		{Name: "devices", Usage: "measure `N` devices at the same time", Default: 1},
		{Name: "open", Usage: "open the page in this computer's own browser", Default: false, Typed: true},
		{Name: "browser", Usage: "the browser that --open starts: `COMMAND`, with {url} or the address after it", Default: "", DefaultText: "one that is found", Typed: true},
		route.Screen, route.Fit,
		{Name: "no-marks", Usage: "do not read the marks of the pictures", Default: false},
		{Name: "tls", Usage: "serve the page over https, for what browsers withhold otherwise", Default: false},
		{Name: "certificate", Usage: "the certificate of --tls in `FILE`", Default: "", DefaultText: "one is made"},
		{Name: "key", Usage: "its key in `FILE`", Default: ""},
		route.Clips,
		route.Jumps, route.Link, route.Delay, route.Loss,
	},
	Uses: []string{"spread", "stagger", "sensors", "token"},
}

func init() { Descriptor.Open, Descriptor.Restore = openRoute, restoreRoute }

func openRoute(v route.Values) (route.Route, error) {
	l, err := link.Open(v)
	if err != nil {
		return nil, err
	}
	return open(Options{Listen: v.String("listen"), Clips: v.String("clips"), Devices: v.Int("devices"), Open: v.Bool("open"), Browser: v.String("browser"), Screen: v.String("screen"), Fit: v.String("fit"),
		Jumps: v.Int("jumps"), Marks: !v.Bool("no-marks"), TLS: v.Bool("tls"), Certificate: v.String("certificate"), Key: v.String("key"), Link: l})
}

func open(o Options) (route.Route, error) {
	p, err := New(o)
	if err != nil {
		return nil, err
	}
	return p, nil
}

// restoreRoute opens the route of an earlier run; the device comes to a new address.
func restoreRoute(r route.Record, v route.Values) (route.Route, error) {
	m := r.Options
	o := Options{Listen: m["listen"], Clips: m["clips"], Open: m["open"] != "", Browser: m["browser"], Screen: m["screen"], Fit: m["fit"], Marks: m["no_marks"] == "", TLS: m["tls"] != "",
		Certificate: m["certificate"], Key: m["key"]}
	if o.Clips == "" {
		o.Clips = v.String("clips")
	}
	var err, linkErr error
	o.Jumps, err = strconv.Atoi(m["jumps"])
	o.Link, linkErr = link.Parse(m["link"])
	if text, has := m["devices"]; has && err == nil {
		o.Devices, err = strconv.Atoi(text)
	}
	if text, has := m["delay_s"]; has && linkErr == nil {
		var s float64
		s, linkErr = strconv.ParseFloat(text, 64)
		o.Link.Delay = time.Duration(s * float64(time.Second))
	}
	if text, has := m["loss"]; has && linkErr == nil {
		o.Link.Loss, linkErr = strconv.ParseFloat(text, 64)
	}
	if err := errors.Join(err, linkErr); err != nil {
		return nil, fmt.Errorf("the record of the route is damaged: %w", err)
	}
	return open(o)
}
