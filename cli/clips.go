package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/clip"
	"vividstrain/core/media/registry"
	"vividstrain/core/media/scene"
	"vividstrain/report/model"
)

func (a *app) clipsCommand() *cli.Command {
	return command(&cli.Command{
		Name:     "clips",
		Usage:    "make clips of a known format, list them, check them",
		Commands: []*cli.Command{a.clipsBuildCommand(), a.clipsListCommand(), a.clipsVerifyCommand(), a.clipsPruneCommand()},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return unknownCommand(c)
			}
			return cli.ShowSubcommandHelp(c)
		},
	}, makeClips, "vividstrain clips verify clips")
}

func (a *app) clipsBuildCommand() *cli.Command {
	return command(&cli.Command{
		Name: "build", Usage: "make a clip for every rung of a ladder, or for each load line given",
		ArgsUsage: "[LOAD...]",
		Description: "A clip that is there already is kept. Each is written under a temporary name and renamed\n" +
			"when it is whole. Its bitrate is within 3 % of the load line's (5 % for mjpeg). The same order\n" +
			"gives the same bytes; the folder's manifest, " + clip.ManifestName + ", has their checksums.",
		Flags: []cli.Flag{
			a.ladderFlag(),
			&cli.StringFlag{Name: "out", Aliases: []string{"o"}, Usage: "write the clips into `DIR`", Value: defaultClips(), DefaultText: clipsDefault, Sources: a.settings.sources("clips")},
			&cli.FloatFlag{Name: "seconds", Aliases: []string{"n"}, Usage: "make each clip `N` seconds long; 8 s and more are one piece of at least 4 s again and again", Value: 5},
			&cli.StringFlag{Name: "scene", Usage: "draw `SCENE`: " + strings.Join(scene.Names(), ", "), Value: scene.Names()[0]},
			&cli.Uint32Flag{Name: "seed", Usage: "seed of the random parts of the scene"},
			&cli.StringFlag{Name: "container", Usage: "write `TYPE`: mp4, mkv or ts", Value: "mp4"},
			&cli.StringFlag{Name: "effort", Usage: "code `fast`, or good: smaller at the same quality, but slower", Value: "fast"},
			&cli.IntFlag{Name: "key-every", Usage: "a key frame every `N` frames, 1 for key frames only", DefaultText: "one second"},
			&cli.IntFlag{Name: "b-frames", Usage: "`N` B frames between two others, 0 to 7; of 3 or more the middle one is a reference", DefaultText: "0, or 1 with --effort good"},
			&cli.IntFlag{Name: "references", Usage: "P frames refer to `N` frames, 1 to 4", DefaultText: "1, or 3 with --effort good"},
			&cli.IntFlag{Name: "slices", Usage: "code each picture in `N` slices", Value: 1},
			&cli.BoolFlag{Name: "cavlc", Usage: "code with CAVLC instead of CABAC"},
		},
		Action: a.buildClips,
	}, makeClips,
		"vividstrain clips build \"h264 720p30 10bit hdr 4M\" --scene kelp --container mkv --out clips",
		"vividstrain clips build \"h264 1080i25 10M\" --b-frames 2 --seconds 4")
}

// coding returns how groups of pictures are coded according to the flags.
func coding(c *cli.Command) (o clip.Coding, err error) {
	o = clip.Coding{KeyEvery: c.Int("key-every"), BFrames: c.Int("b-frames"), References: c.Int("references"),
		Slices: c.Int("slices"), CAVLC: c.Bool("cavlc")}
	if o.Preset, err = effort(c); err != nil {
		return o, err
	}
	if o.Preset == media.Good && o.KeyEvery != 1 && !c.IsSet("b-frames") {
		o.BFrames = 1
	}
	for _, f := range []struct {
		name        string
		value       int
		least, most int
	}{{"key-every", o.KeyEvery, 1, 3600}, {"b-frames", o.BFrames, 0, 7}, {"references", o.References, 1, 4}, {"slices", o.Slices, 1, 64}} {
		if c.IsSet(f.name) && (f.value < f.least || f.value > f.most) {
			return o, usagef("--%s is %d to %d, not %d", f.name, f.least, f.most, f.value)
		}
	}
	return o, nil
}

// effort returns the preset according to the flags.
func effort(c *cli.Command) (media.Preset, error) {
	preset, known := media.ParsePreset(c.String("effort"))
	if !known {
		return 0, usagef("--effort is %s, not %q", strings.Join(media.PresetNames(), " or "), c.String("effort"))
	}
	return preset, nil
}

// clipOrders returns the clips that the command line asks for.
func clipOrders(c *cli.Command) (orders []clip.Order, err error) {
	l, err := ladder(c, "starter")
	if err != nil {
		return nil, err
	}
	o := clip.Order{Seconds: c.Float("seconds"), Scene: c.String("scene"), Seed: c.Uint32("seed"), Container: c.String("container"),
		Threads: runtime.NumCPU()}
	if o.Coding, err = coding(c); err != nil {
		return nil, err
	}
	if s := o.Seconds; s <= 0 || s > clip.MaxSeconds {
		return nil, usagef("a clip lasts more than 0 and at most %d seconds, not %g", clip.MaxSeconds, s)
	}
	if !slices.Contains(scene.Names(), o.Scene) {
		return nil, usagef("there is no scene %q; there are %s", o.Scene, strings.Join(scene.Names(), ", "))
	}
	if !slices.Contains([]string{"mp4", "mkv", "ts"}, o.Container) {
		return nil, usagef("--container is mp4, mkv or ts, not %q", o.Container)
	}
	for _, column := range l.Columns {
		for _, rung := range column.Rungs {
			if err := registry.CanEncode(rung.Format); err != nil {
				return nil, usagef("load line %q: %w", rung, err)
			}
			o.Format = rung.Format
			if _, err := registry.GroupEncoder(rung.Codec); err != nil && (o.Coding != clip.Coding{Slices: 1} || o.Container == "ts") {
				return nil, usagef("load line %q: how it is coded can be chosen where pictures refer to each other: %w", rung, err)
			}
			orders = append(orders, o)
		}
	}
	return orders, nil
}

func (a *app) buildClips(ctx context.Context, c *cli.Command) error {
	orders, err := clipOrders(c)
	if err != nil {
		return err
	}
	progress := a.newProgress()
	defer progress.close()
	var refused error
	left := newEstimate(c.String("out"), orders)
	for i, o := range orders {
		path, err := a.buildClip(ctx, progress, c.String("out"), o, fmt.Sprintf("clip %d of %d", i+1, len(orders)), left)
		var rate *clip.RateError
		if errors.As(err, &rate) { // the other rungs can still be made
			refused = errors.Join(refused, err)
			progress.line("not made: " + err.Error())
			continue
		}
		if err != nil {
			return err
		}
		progress.stop()
		m, err := clip.ReadManifest(c.String("out"))
		if err != nil {
			return err
		}
		if e := m.Find(filepath.Base(path)); e != nil {
			line := fmt.Sprintf("%s  %.1f MB, video %.2f Mb/s, file %.2f Mb/s", path, float64(e.Bytes)/1e6, float64(e.VideoBps)/1e6, float64(e.BitrateBps)/1e6)
			if e.Piece > 0 {
				line += fmt.Sprintf(", %d times a piece of %.3g s", e.Frames/e.Piece, e.Seconds*float64(e.Piece)/float64(e.Frames))
			}
			if err := a.print(line + "\n"); err != nil {
				return err
			}
		}
	}
	return refused
}

// buildClip makes one clip with a progress bar.
func (a *app) buildClip(ctx context.Context, p *progress, dir string, o clip.Order, which string, left *estimate) (string, error) {
	name := load.Load{Format: o.Format, Streams: 1}.String()
	kept := clip.Kept(dir, o)
	o.Progress = func(done, total int) {
		if !kept {
			p.set(which+", "+name, done, total, fmt.Sprintf("frame %d of %d%s", done, total, left.frame(o.Format)))
		}
	}
	return clip.Clip(ctx, filepath.Clean(dir), o)
}

// estimate predicts how long making clips still takes, from the time per picture sample so far.
type estimate struct {
	began       time.Time
	done, total float64 // samples
}

func newEstimate(dir string, orders []clip.Order) *estimate {
	e := &estimate{began: time.Now()}
	for _, o := range orders {
		if piece, _ := o.Piece(); !clip.Kept(dir, o) && !clip.Kept(dir, piece) {
			e.total += float64(piece.Frames()) * float64(o.Format.Width) * float64(o.Format.Height)
		}
	}
	return e
}

// frame counts a frame and returns how much time is left.
func (e *estimate) frame(f media.Format) string {
	e.done += float64(f.Width) * float64(f.Height)
	passed := time.Since(e.began)
	if passed < 2*time.Second {
		return ""
	}
	left := time.Duration(float64(passed) * max(0, e.total/e.done-1))
	return fmt.Sprintf(", %s left", left.Round(time.Second))
}

func (a *app) clipsListCommand() *cli.Command {
	return command(&cli.Command{
		Name: "list", Usage: "list the clips of a folder", ArgsUsage: "[FOLDER]",
		Flags: []cli.Flag{jsonFlag()},
		Action: func(_ context.Context, c *cli.Command) error {
			dir, m, err := clipsFolder(c)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return a.printJSON(m)
			}
			return a.print(a.style(c).Clips(dir, m))
		},
	}, "vividstrain clips list", "vividstrain clips list clips")
}

func (a *app) clipsPruneCommand() *cli.Command {
	return command(&cli.Command{
		Name: "prune", Usage: "delete the clips of a folder", ArgsUsage: "[FOLDER]",
		Description: "Deletes what the folder's manifest lists, and nothing else.",
		Action: func(_ context.Context, c *cli.Command) error {
			dir, _, err := clipsFolder(c)
			if err != nil {
				return err
			}
			n, bytes, err := clip.Prune(dir)
			if err != nil {
				return err
			}
			return a.print(fmt.Sprintf("Deleted %s of %s in %s.\n", model.Plural(n, "clip"), model.Bytes(float64(bytes)), dir))
		},
	}, "vividstrain clips prune")
}

// clipsDefault names the default folder of clips in the help.
const clipsDefault = "clips in your cache folder"

// clipsFolder returns the folder on the command line and its manifest, which is not empty.
func clipsFolder(c *cli.Command) (dir string, m *clip.Manifest, err error) {
	if c.Args().Len() > 1 {
		return "", nil, usagef("one folder at a time, for example: vividstrain clips %s clips", c.Name)
	}
	if dir = c.Args().First(); dir == "" {
		dir = defaultClips()
	}
	if m, err = clip.ReadManifest(dir); err != nil {
		return "", nil, usage(err)
	}
	if len(m.Clips) == 0 {
		return "", nil, usagef("%s has no manifest (%s); clips build --out %s makes clips with one", dir, clip.ManifestName, dir)
	}
	return dir, m, nil
}

func (a *app) clipsVerifyCommand() *cli.Command {
	return command(&cli.Command{
		Name: "verify", Usage: "check the clips of a folder against its manifest", ArgsUsage: "[FOLDER]",
		Description: "Compares sizes and checksums, decodes every clip, and reads the number that each frame carries.",
		Flags:       []cli.Flag{jsonFlag()},
		Action:      a.verifyClips,
	}, "vividstrain clips verify clips")
}

func (a *app) verifyClips(ctx context.Context, c *cli.Command) error {
	dir, m, err := clipsFolder(c)
	if err != nil {
		return err
	}
	progress := a.newProgress()
	defer progress.close()
	wrong := 0
	found := map[string]error{}
	for i := range m.Clips {
		e := &m.Clips[i]
		err := e.Verify(ctx, dir, runtime.NumCPU(), func(done, total int) {
			progress.set("checking "+e.File, done, total, fmt.Sprintf("frame %d of %d", done, total))
		})
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if found[e.File] = err; err != nil {
			wrong++
		}
	}
	progress.stop()
	show := func() error { return a.print(a.style(c).Verified(m, found)) }
	if c.Bool("json") {
		show = func() error { return a.printJSON(model.VerifiedJSON(m, found)) }
	}
	if err := show(); err != nil {
		return err
	}
	if wrong > 0 {
		return fmt.Errorf("%d of %d clips in %s are not as they were made; delete them, and clips build makes them again", wrong, len(m.Clips), dir)
	}
	return nil
}
