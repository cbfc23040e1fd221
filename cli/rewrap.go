package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"vividstrain/core/media/registry"
	"vividstrain/core/partial"
)

func (a *app) rewrapCommand() *cli.Command {
	return command(&cli.Command{
		Name:      "rewrap",
		Usage:     "copy a video file into another container, as it is coded",
		ArgsUsage: "FILE OUT",
		Description: "The end of OUT's name says which container: .mp4, .mkv or .ts. The pictures stay the same, bit\n" +
			"by bit: for finding out whether a device minds the container.",
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "fragmented", Usage: "write an MP4 file in fragments, as streaming does"}, forceFlag()},
		Action: a.rewrap,
	}, makeClips, "vividstrain rewrap clips/h264-720p25-4M-2s.mp4 harbour.mkv", "vividstrain rewrap --fragmented harbour.mkv pieces.mp4")
}

func (a *app) rewrap(ctx context.Context, c *cli.Command) (err error) {
	if c.Args().Len() != 2 {
		return usagef("which file, and to where? for example: vividstrain rewrap film.mkv film.mp4")
	}
	from, to := c.Args().Get(0), c.Args().Get(1)
	container, err := registry.ContainerFor(to)
	if err != nil {
		return usage(err)
	}
	fragmented := c.Bool("fragmented")
	if fragmented && container.CreateFragmented == nil {
		return usagef("--fragmented goes with .mp4 files")
	}
	f, err := registry.Open(from)
	if err != nil {
		return usage(err)
	}
	defer f.Close()
	if err := mayWrite(from, to, c.Bool("force")); err != nil {
		return err
	}
	out, err := partial.Create(to)
	if err != nil {
		return err
	}
	defer out.Abort()
	left, err := registry.Rewrap(ctx, f, container, out.File, fragmented)
	if err != nil {
		return wrongFile(fmt.Errorf("%s: %w", from, err))
	}
	if err := out.Commit(); err != nil {
		return err
	}
	if len(left) > 0 {
		fmt.Fprintf(a.err, "left out: audio in %s, which cannot be taken from %s to %s\n", strings.Join(left, ", "), f.Container, container.Name)
	}
	return a.print(to + "\n")
}
