package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"vividstrain/core/capacity"
	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/report/model"
)

func (a *app) capacityCommand() *cli.Command {
	return command(&cli.Command{
		Name: "capacity", Usage: "say how many streams of which mix fit a device, from what its loads cost", ArgsUsage: "[LOAD...]",
		Description: "From the smooth attempts of a device's runs it is fitted what pixels, bits and streams cost of its cores,\n" +
			"decoder, encoder and memory. Without a LOAD the price list alone is printed. One load unit is " + capacity.Unit + ".",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "device", Usage: "of the device with `TEXT` in its name", DefaultText: "that of the newest run"},
			&cli.StringSliceFlag{Name: "in", Usage: "only from `RUN`: a run, a set, a run document or a folder of them", DefaultText: "the whole logbook"},
			&cli.StringFlag{Name: "reserve", Usage: "leave `SHARE` of each resource free", Value: "20%", Sources: a.settings.sources("reserve")},
			&cli.IntFlag{Name: "cores", Usage: "estimate a box with `N` cores instead"},
			&cli.FloatFlag{Name: "faster", Usage: "estimate a box whose cores are `N` times as fast", Value: 1},
		},
		Action: a.capacity,
	}, "vividstrain capacity --device skerry", `vividstrain capacity "h264 1080p25 8M" --device breakwater`, `vividstrain capacity "h264 1080p25 8M x2" "h264 720p25 4M" --device breakwater --reserve 30% --cores 8`)
}

func (a *app) capacity(_ context.Context, c *cli.Command) error {
	share, err := strconv.ParseFloat(strings.TrimSuffix(c.String("reserve"), "%"), 64)
	if err != nil || !(share >= 0 && share < 100) {
		return usagef("--reserve is a share like 20%%, not %q", c.String("reserve"))
	}
	scale := capacity.Scale{Cores: c.Int("cores"), Faster: c.Float("faster")}
	if scale.Cores < 0 || scale.Cores > 4096 || !(scale.Faster > 0 && scale.Faster <= 1000) {
		return usagef("--cores and --faster are above 0 and not beyond any computer")
	}
	var mix []load.Load
	for _, line := range c.Args().Slice() {
		l, err := load.Parse(line)
		if err != nil {
			return usage(err)
		}
		mix = append(mix, l)
	}
	docs, err := a.measuredDocuments(c)
	if err != nil {
		return err
	}
	docs = ofOneDevice(docs, c.String("device"))
	if len(docs) == 0 {
		return usagef("no run with attempts is of such a device; vividstrain runs lists them")
	}
	m, err := capacity.Fit(docs)
	if err != nil {
		return fmt.Errorf("%s: %w", docs[0].Device.Name, err)
	}
	style, out := a.style(c), ""
	if len(mix) > 0 {
		answer, err := m.Fits(mix, share/100, scale)
		if err != nil {
			return err
		}
		out += style.Answer(model.Clean(model.Capacity(m, mix, answer, share/100, scale))) + "\n"
	}
	out += "What streams cost on " + model.Printable(m.Device) + ":\n" + style.Draw(model.PriceList(m)) + "\nFitted to:\n" + style.Draw(model.Fitted(m))
	return a.print(out)
}

// ofOneDevice returns the documents of one device: that with a text in its name, else that of the
// newest run. It must be the same way of playing too, since another player has other costs.
func ofOneDevice(docs []*logbook.Document, text string) (list []*logbook.Document) {
	var wanted *logbook.Document
	for _, d := range docs { // oldest first
		if len(d.Rungs) > 0 && strings.Contains(strings.ToLower(d.Device.Name), strings.ToLower(text)) {
			wanted = d
		}
	}
	for _, d := range docs {
		if wanted != nil && len(d.Rungs) > 0 && d.Device.Name == wanted.Device.Name && d.Device.Identity == wanted.Device.Identity && d.Route.Kind == wanted.Route.Kind {
			list = append(list, d)
		}
	}
	return list
}
