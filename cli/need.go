package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"vividstrain/core/logbook"
	"vividstrain/core/need"
	"vividstrain/report/model"
)

func (a *app) needCommand() *cli.Command {
	return command(&cli.Command{
		Name: "need", Usage: "check which devices of the logbook meet a need", ArgsUsage: "FILE",
		Description: "FILE states what a device must do, in YAML:\n" +
			"  name: cabins\n" +
			"  loads: [h264 1080p25 10M x2, h264 720p25 5M -> 480p 1M]  # each smoothly; xN at once\n" +
			"  noise_db: 30       # at most, while it does that; so power_w and temp_c\n" +
			"  price: 250         # at most, in the unit of your facts\n" +
			"  headroom_pct: 20   # at least, of all cores and of the busiest one\n" +
			"Ends with status 0 if a device meets it, else 3.",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "in", Usage: "only from `RUN`: a run, a set, a run document or a folder of them", DefaultText: "the whole logbook"},
			jsonFlag(),
		},
		Action: a.need,
	}, "vividstrain need cabins.yaml", "vividstrain need cabins.yaml --in reviews")
}

func (a *app) need(_ context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usagef("which need? Give its YAML file; \"vividstrain need --help\" shows one")
	}
	file := c.Args().First()
	data, err := readFile(file, maxSettings)
	if err != nil {
		return usage(err)
	}
	wanted, err := need.Parse(data)
	if err != nil {
		return usagef("%s: %w", file, err)
	}
	docs, err := a.measuredDocuments(c)
	if err != nil {
		return err
	}
	list := wanted.Check(docs)
	if c.Bool("json") {
		if err := a.printJSON(list); err != nil {
			return err
		}
	} else {
		style := a.style(c)
		out := style.Draw(model.Clean(model.Needs(list)))
		for _, line := range model.NeedSentences(list) {
			out += "\n" + style.Wrap(model.Printable(line))
		}
		if err := a.print(strings.TrimLeft(out, "\n") + "\n"); err != nil {
			return err
		}
	}
	if !slices.ContainsFunc(list, func(v need.Verdict) bool { return v.State == need.Met }) {
		return errNeed
	}
	return nil
}

// measuredDocuments returns the documents of the runs that --in names, or of all runs of the
// logbook, oldest first.
func (a *app) measuredDocuments(c *cli.Command) (docs []*logbook.Document, err error) {
	names := c.StringSlice("in")
	if len(names) == 0 {
		book, err := a.existingBook(c)
		if err != nil {
			return nil, err
		}
		defer book.Close()
		entries, err := book.Runs(logbook.Filter{})
		if err != nil {
			return nil, err
		}
		for _, e := range slices.Backward(entries) {
			d, err := book.Load(e.ID)
			if err != nil {
				return nil, fmt.Errorf("run %s: %w", e.ID, err)
			}
			docs = append(docs, d)
		}
		return docs, nil
	}
	runs, err := a.gather(c, names, false)
	if err != nil {
		return nil, err
	}
	for _, m := range runs {
		docs = append(docs, m.Docs...)
	}
	return docs, nil
}
