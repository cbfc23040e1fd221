package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"

	"github.com/urfave/cli/v3"

	"vividstrain/core/load"
	"vividstrain/core/media/build"
	"vividstrain/core/media/formats"
)

func (a *app) clipsCommand() *cli.Command {
	return command(&cli.Command{
		Name:  "clips",
		Usage: "make clips of known format",
		Commands: []*cli.Command{command(&cli.Command{
			Name: "build", Usage: "make a clip for every rung of a ladder, or for each load line given",
			ArgsUsage: "[LOAD...]",
			Description: "A clip that is there already is kept. Each is written under a temporary name and renamed\n" +
				"when it is whole. Its bitrate is within 5 % of the load line's.",
			Flags: []cli.Flag{
				a.ladderFlag(),
				&cli.StringFlag{Name: "out", Aliases: []string{"o"}, Usage: "write the clips into `DIR`", Value: "clips"},
				&cli.FloatFlag{Name: "seconds", Aliases: []string{"n"}, Usage: "make each clip `N` seconds long", Value: 5},
			},
			Action: a.buildClips,
		}, "vividstrain clips build --ladder quick --out clips --seconds 2", "vividstrain clips build \"mjpeg 720p30 25M\" --out clips")},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usagef("unknown command %q; vividstrain clips --help lists the commands", c.Args().First())
			}
			return cli.ShowSubcommandHelp(c)
		},
	}, "vividstrain clips build --ladder quick --out clips --seconds 2")
}

func (a *app) buildClips(ctx context.Context, c *cli.Command) error {
	l, err := ladder(c, "starter")
	if err != nil {
		return err
	}
	var orders []build.Order
	for _, column := range l.Columns {
		for _, rung := range column.Rungs {
			if err := formats.Carries(rung.Format); err != nil {
				return usagef("load line %q: %w", rung, err)
			}
			orders = append(orders, build.Order{Format: rung.Format, Seconds: c.Float("seconds"), Threads: runtime.NumCPU()})
		}
	}
	if s := c.Float("seconds"); s <= 0 || s > build.MaxSeconds {
		return usagef("a clip lasts more than 0 and at most %d seconds, not %g", build.MaxSeconds, s)
	}
	progress := a.newProgress()
	defer progress.close()
	var refused error
	for _, o := range orders {
		path, err := a.buildClip(ctx, progress, c.String("out"), o)
		var rate *build.RateError
		if errors.As(err, &rate) { // the other rungs can be made all the same
			refused = errors.Join(refused, err)
			progress.line("not made: " + err.Error())
			continue
		}
		if err != nil {
			return err
		}
		progress.stop()
		info, err := os.Stat(path)
		if err != nil {
			return err
		}
		length := float64(o.Frames()) / o.Format.Rate.Hz()
		if err := a.print(fmt.Sprintf("%s  %.1f MB, %.2f Mb/s\n", path, float64(info.Size())/1e6, float64(info.Size())*8/length/1e6)); err != nil {
			return err
		}
	}
	return refused
}

// buildClip makes one clip with a progress bar.
func (a *app) buildClip(ctx context.Context, p *progress, dir string, o build.Order) (string, error) {
	name := load.Load{Format: o.Format, Streams: 1}.String()
	o.Progress = func(done, total int) { p.set("making "+name, done, total, fmt.Sprintf("frame %d of %d", done, total)) }
	return build.Clip(ctx, filepath.Clean(dir), o)
}
