package cli

import (
	"context"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/recount"
	"vividstrain/report/model"
)

func (a *app) recountCommand() *cli.Command {
	s := a.settings
	return command(&cli.Command{
		Name:      "recount",
		Usage:     "count the frames that a recording of a screen shows",
		ArgsUsage: "RECORDING",
		Description: "Reads the marks of our clips in a recording from a capture card or a camera, and says which\n" +
			"frames were shown, dropped and held, whatever played them. The whole picture must show. The\n" +
			"recording may be larger or smaller, moved, seen at an angle, noisy, blurred, dim, faster or\n" +
			"slower than the screen.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "clip", Usage: "the clip that was shown is `FILE`", DefaultText: "its rate and length are found in the recording"},
			&cli.FloatFlag{Name: "refresh", Usage: "the screen was refreshed at `HZ`", Value: 60, Sources: s.sources("refresh")},
			&secondsFlag{Name: "settle", Usage: "do not count the first `TIME` of what it shows", Value: 0, DefaultText: "0s"},
			jsonFlag(),
		},
		Action: a.recount,
	}, makeClips, "vividstrain recount clips/h264-240p25-500k-2s.mp4")
}

func (a *app) recount(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return usagef("which recording? for example: vividstrain recount lounge.mp4")
	}
	refresh := c.Float("refresh")
	if !(refresh >= 1 && refresh <= 1000) {
		return usagef("--refresh is 1 to 1000 Hz, not %g", refresh)
	}
	p := a.newProgress()
	report, err := recount.File(ctx, c.Args().First(), recount.Options{Clip: c.String("clip"), Refresh: refresh, Settle: c.Duration("settle"),
		Progress: func(done, total time.Duration) {
			p.set("reading the marks", int(done/time.Millisecond), int(max(done, total)/time.Millisecond), "")
		}})
	p.close()
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return usage(err)
	}
	if c.Bool("json") {
		return a.printJSON(report)
	}
	return a.print(a.style(c).Answer(model.Recount(report)))
}
