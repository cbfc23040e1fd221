package cli

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/recount"
	"vividstrain/core/run"
	"vividstrain/core/run/kinds"
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
			"slower than the screen. With --into the recording shows attempts of a run, of --eye later\n" +
			"above all: each gets its account, and is judged anew.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "clip", Usage: "the clip that was shown is `FILE`", DefaultText: "its rate and length are found in the recording"},
			&cli.FloatFlag{Name: "refresh", Usage: "the screen was refreshed at `HZ`", Value: 60, Sources: s.sources("refresh")},
			&cli.StringFlag{Name: "into", Usage: "judge the attempts of `RUN` that the recording shows, and the run, anew"},
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
	if c.IsSet("into") {
		return a.recountInto(ctx, c, refresh)
	}
	p := a.newProgress()
	report, err := recount.File(ctx, c.Args().First(), recount.Options{Clip: c.String("clip"), Refresh: refresh, Settle: c.Duration("settle"),
		Progress: readingMarks(p)})
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

// readingMarks shows how far a recording was read.
func readingMarks(p *progress) func(done, total time.Duration) {
	return func(done, total time.Duration) {
		p.set("reading the marks", int(done/time.Millisecond), int(max(done, total)/time.Millisecond), "")
	}
}

// recountInto judges a run anew by a recording.
func (a *app) recountInto(ctx context.Context, c *cli.Command, refresh float64) error {
	if c.IsSet("clip") || c.IsSet("settle") {
		return usagef("--into takes clips and times from the run; leave --clip and --settle out")
	}
	book, doc, err := a.existingRun(c, c.String("into"))
	if err != nil {
		return err
	}
	defer book.Close()
	attempts := run.PlayedOf(doc)
	if len(attempts) == 0 {
		return usagef("run %s has no attempt whose clip carries marks; \"vividstrain show %s\" says what was played", doc.ID, doc.ID)
	}
	var shown []recount.Shown
	for _, p := range attempts {
		hold := cmp.Or(p.HoldS, doc.Plan.HoldS)
		shown = append(shown, recount.Shown{Started: p.Started, Ended: p.Ended, Marks: *p.Marks, Rate: doc.Rungs[p.Rung].Load.Rate,
			Hold: run.Duration(hold), Settle: run.Duration(doc.Plan.SettleS)})
	}
	p := a.newProgress()
	accounts, err := recount.Match(ctx, c.Args().First(), recount.Options{Refresh: refresh, Progress: readingMarks(p)}, shown)
	p.close()
	if err != nil {
		return cmp.Or(ctx.Err(), usage(err))
	}
	found := 0
	for i, t := range accounts {
		if attempts[i].Account = t; t != nil {
			found++
		}
	}
	if found == 0 {
		return usagef("%s shows none of the %s of run %s whole: is it the recording of that run?", c.Args().First(), model.Plural(len(attempts), "attempt"), doc.ID)
	}
	if err := run.Rejudge(book, doc, kinds.All, filepath.Base(c.Args().First()), attempts); err != nil {
		return err
	}
	readings, err := book.Readings(doc)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%d of %s are in the recording, and were judged anew.\n", found, model.Plural(len(attempts), "attempt"))
	return a.printRun(c, doc, readings, false)
}
