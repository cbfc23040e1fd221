package cli

import (
	"context"
	"errors"
	"fmt"
	"runtime"

	"github.com/urfave/cli/v3"

	"vividstrain/core/media/inspect"
)

func (a *app) inspectCommand() *cli.Command {
	return command(&cli.Command{
		Name:      "inspect",
		Usage:     "describe video files",
		ArgsUsage: "FILE...",
		Flags: []cli.Flag{
			jsonFlag(),
			&cli.BoolFlag{Name: "checksums", Usage: "print the MD5 of every decoded picture in display order, one a line"},
		},
		Action: a.inspect,
	}, makeClips, "vividstrain inspect clips/*.mp4", "vividstrain inspect --checksums clips/h264-240p25-500k-2s.mp4")
}

func (a *app) inspect(ctx context.Context, c *cli.Command) error {
	files := c.Args().Slice()
	if len(files) == 0 {
		return usagef("which file? for example: vividstrain inspect film.mp4")
	}
	if c.Bool("checksums") {
		if c.Bool("json") {
			return usagef("--checksums prints lines of text; it does not go with --json")
		}
		return a.checksums(ctx, files)
	}
	reports := []inspect.Report{}
	var failed error
	for _, path := range files {
		r, err := inspect.File(ctx, path)
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			failed = errors.Join(failed, usage(err))
			continue
		}
		reports = append(reports, r)
	}
	switch {
	case c.Bool("json"):
		if err := a.printJSON(reports); err != nil {
			return err
		}
	case len(reports) > 0:
		if err := a.print(a.style(c).Inspect(reports)); err != nil {
			return err
		}
	}
	return failed
}

func (a *app) checksums(ctx context.Context, files []string) error {
	for _, path := range files {
		err := inspect.Checksums(ctx, path, runtime.NumCPU(), func(md5 string) error {
			_, err := fmt.Fprintln(a.out, md5)
			return err
		})
		if err != nil {
			return usage(err)
		}
	}
	return nil
}
